//! The hosts of the demo: `archive` with its programs, and the world around
//! it, in network namespaces that are gone with the process.

use std::net::IpAddr;
use std::os::fd::{AsFd, OwnedFd};
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};
use std::{fs, io};

use tipstaff_host::lab::{self, Mounts, Space};
use tipstaff_host::snapshot::Snapshot;

use super::bridge::Bridge;

/// The archive's programs and what they listen on.
const PROGRAMS: [(&str, &[&str]); 4] = [
    ("plated", &["tcp/[::]:7410"]),
    ("skycam", &["udp/[::]:7420"]),
    ("mastd", &["tcp/127.0.0.1:7430"]),
    ("domed", &["tcp/0.0.0.0:7440"]),
];
/// So many sockets that is.
const LISTENERS: usize = 4;
/// Addresses of the archive.
const ARCHIVE: [(&str, u8); 2] = [("198.51.100.20", 24), ("2001:db8:51::20", 64)];
/// Addresses around it on the same link: the router `lantern` and `desk-3`.
const NEIGHBOURS: [(&str, u8); 4] =
    [("198.51.100.1", 24), ("198.51.100.23", 24), ("2001:db8:51::1", 64), ("2001:db8:51::23", 64)];
/// Addresses behind the router: the partner institute and a stranger.
const OUTSIDE: [(&str, u8); 3] =
    [("203.0.113.9", 32), ("192.0.2.66", 32), ("2001:db8:113::9", 128)];

pub struct Stage {
    /// The archive's namespace.
    pub archive: Space,
    /// Everybody else's.
    pub world: Space,
    /// The wire between them, with the user-space gate on it; absent when the
    /// kernel's gate is used.
    pub bridge: Option<Bridge>,
    /// Ends its programs when it goes.
    _programs: Vec<Child>,
}

fn ip(text: &str) -> io::Result<IpAddr> {
    text.parse().map_err(io::Error::other)
}

fn addresses(name: &'static str, list: &'static [(&str, u8)]) -> io::Result<()> {
    list.iter().try_for_each(|(address, prefix)| lab::address(name, ip(address)?, *prefix))
}

fn handle(space: &Space) -> io::Result<OwnedFd> {
    space.as_fd().try_clone_to_owned()
}

impl Stage {
    /// Sets the stage. With `bridged` a user-space gate stands in the wire.
    pub fn set(folder: &Path, bridged: bool) -> io::Result<Self> {
        let mounts = if bridged { Mounts::Shared } else { Mounts::Own };
        let archive = Space::new(mounts)?;
        let world = Space::new(Mounts::Shared)?;
        let bridge = if bridged {
            let middle = Space::new(Mounts::Shared)?;
            plug(&archive, "lan0", &middle, "inner")?;
            plug(&world, "w0", &middle, "outer")?;
            Some(Bridge::between(middle, "inner", "outer")?)
        } else {
            archive.own_run_folder()?;
            plug(&archive, "lan0", &world, "w0")?;
            None
        };
        world.run(|| {
            // Up first: addresses given before would wait for duplicate detection.
            lab::up("w0")?;
            addresses("w0", &NEIGHBOURS)?;
            addresses("lo", &OUTSIDE)
        })??;
        archive.run(|| {
            lab::up("lan0")?;
            addresses("lan0", &ARCHIVE)?;
            lab::default_route(ip("198.51.100.1")?)?;
            lab::default_route(ip("2001:db8:51::1")?)
        })??;
        let _programs = start_programs(&archive, folder)?;
        Ok(Self { archive, world, bridge, _programs })
    }

    /// The archive as it is now.
    pub fn snapshot(&self) -> io::Result<Snapshot> {
        let mut snapshot = self.archive.run(Snapshot::live)??;
        snapshot.host = "archive".into();
        Ok(snapshot)
    }
}

fn plug(here: &Space, name: &'static str, there: &Space, other: &'static str) -> io::Result<()> {
    let end = handle(there)?;
    here.run(move || lab::cable(name, other, end.as_fd()))?
}

/// Starts copies of this program under the names of the observatory's.
fn start_programs(archive: &Space, folder: &Path) -> io::Result<Vec<Child>> {
    let own = std::env::current_exe()?;
    let mut children = Vec::new();
    for (name, listeners) in PROGRAMS {
        let program = folder.join(name);
        // A copy where a second name for the same file is not possible.
        fs::hard_link(&own, &program).or_else(|_| fs::copy(&own, &program).map(drop))?;
        let mut command = Command::new(program);
        command.arg("play").args(listeners);
        command.stdin(Stdio::piped()).stdout(Stdio::null()).stderr(Stdio::null());
        children.push(archive.run(move || command.spawn())??);
    }
    let begin = Instant::now();
    while archive.run(Snapshot::live)??.listeners.len() < LISTENERS {
        if begin.elapsed() > Duration::from_secs(5) {
            return Err(io::Error::other("the demo's programs did not start"));
        }
        std::thread::sleep(Duration::from_millis(5));
    }
    Ok(children)
}

impl Drop for Stage {
    fn drop(&mut self) {
        for program in &mut self._programs {
            drop(program.stdin.take());
            let _ = program.wait();
        }
    }
}
