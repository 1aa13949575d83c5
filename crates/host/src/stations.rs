//! Hosts of a demonstration or a test: each a network namespace with a host name, /etc,
//! /run and /var of its own, and a real sshd, on one switch. All of it is gone with the
//! process, but for the folder that it was made in.

use std::net::IpAddr;
use std::os::fd::AsFd;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::{fs, io};

use nix::mount::{MsFlags, mount};
use nix::sched::{CloneFlags, unshare};
use nix::sys::signal::{Signal, kill};

use crate::lab::{self, Mounts, Space};

/// What must be there.
const PROGRAMS: [&str; 3] = ["/usr/sbin/sshd", "/usr/bin/ssh", "/usr/bin/ssh-keygen"];
/// The name of a station's one interface.
pub const INTERFACE: &str = "lan0";

/// The first program that stations need and this machine has not.
pub fn missing() -> Option<&'static str> {
    PROGRAMS.into_iter().find(|program| !Path::new(program).exists())
}

/// A switch that stations are plugged into.
///
/// # Errors
/// What the system says.
pub fn switch() -> io::Result<Space> {
    let switch = Space::new(Mounts::Shared)?;
    switch.run(|| lab::bridge("br0").and_then(|()| lab::up("br0")))??;
    Ok(switch)
}

/// Makes a key pair at `path`, and returns its public half, a line.
///
/// # Errors
/// What ssh-keygen(1) says.
pub fn key(path: &Path) -> io::Result<String> {
    done(Command::new(PROGRAMS[2]).args(["-q", "-t", "ed25519", "-N", "", "-f"]).arg(path))?;
    fs::read_to_string(path.with_extension("pub"))
}

fn done(command: &mut Command) -> io::Result<()> {
    let output = command.stdin(Stdio::null()).output()?;
    match output.status.success() {
        true => Ok(()),
        false => Err(io::Error::other(String::from_utf8_lossy(&output.stderr).trim().to_owned())),
    }
}

/// One host.
pub struct Station {
    /// What it calls itself.
    pub name: String,
    /// Its address.
    pub address: IpAddr,
    /// Where it lives.
    pub space: Space,
    /// Its own files; `etc` is its /etc.
    pub folder: PathBuf,
    sshd: Option<Child>,
}

impl Drop for Station {
    fn drop(&mut self) {
        self.stop();
        // A session that waits for the other end would outlive its host.
        for process in self.space.processes() {
            let _ = kill(process, Signal::SIGKILL);
        }
    }
}

impl Station {
    /// Makes a host with files of its own below a folder, plugged into the switch.
    ///
    /// # Errors
    /// What the system says.
    pub fn new(switch: &Space, name: &str, address: IpAddr, below: &Path) -> io::Result<Self> {
        let (folder, space) = (below.join(name), Space::new(Mounts::Own)?);
        let etc = folder.join("etc");
        fs::create_dir_all(&folder)?;
        done(Command::new("cp").arg("-a").arg("/etc").arg(&etc))?;
        // Orders of the machine itself are nobody's here.
        if etc.join("tipstaff").exists() {
            fs::remove_dir_all(etc.join("tipstaff"))?;
        }
        let own = name.to_owned();
        space.run(move || {
            unshare(CloneFlags::CLONE_NEWUTS)?;
            nix::unistd::sethostname(own)?;
            mount(Some(&etc), "/etc", None::<&str>, MsFlags::MS_BIND, None::<&str>)?;
            for place in ["/run", "/var/lib", "/var/log"] {
                let (from, kind) = (Some("ts-lab"), Some("tmpfs"));
                mount(from, place, kind, MsFlags::empty(), Some("mode=0755,size=8m"))?;
            }
            fs::create_dir_all("/run/sshd")
        })??;
        plug(switch, &space, &format!("p-{name}"), address)?;
        Ok(Self { name: name.to_owned(), address, space, folder, sshd: None })
    }

    /// Gives it a host key and an sshd that runs this command for whoever has the key, and
    /// nothing else. Returns the public half of the host key.
    ///
    /// # Errors
    /// What the system says.
    pub fn let_in(&mut self, forced: &str, public: &str) -> io::Result<String> {
        let host = key(&self.folder.join("host"))?;
        fs::write(
            self.folder.join("authorized"),
            format!("command=\"{forced}\",restrict {public}"),
        )?;
        let (at, address) = (self.folder.display(), self.address);
        let config = format!(
            "ListenAddress {address}\nHostKey {at}/host\nAuthorizedKeysFile {at}/authorized\n\
             PidFile none\nUsePAM no\nStrictModes no\nPasswordAuthentication no\n\
             KbdInteractiveAuthentication no\nPermitRootLogin forced-commands-only\nUseDNS no\n\
             MaxStartups 100\n"
        );
        fs::write(self.folder.join("sshd_config"), config)?;
        self.start()?;
        Ok(host)
    }

    /// Starts its sshd.
    ///
    /// # Errors
    /// What the system says.
    pub fn start(&mut self) -> io::Result<()> {
        let (config, log) = (self.folder.join("sshd_config"), self.folder.join("sshd.log"));
        let child = self.space.run(move || {
            let mut command = Command::new(PROGRAMS[0]);
            command.arg("-D").arg("-E").arg(log).arg("-f").arg(config);
            command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
            command.spawn()
        })??;
        self.sshd = Some(child);
        Ok(())
    }

    /// Its sshd dies; connections that are there go on.
    pub fn stop(&mut self) {
        if let Some(mut sshd) = self.sshd.take() {
            let _ = sshd.kill();
            let _ = sshd.wait();
        }
    }

    /// Whether somebody takes connections for ssh there.
    pub fn answers(&self) -> bool {
        let to = std::net::SocketAddr::new(self.address, 22);
        let connect = move || std::net::TcpStream::connect(to).is_ok();
        self.space.run(connect).unwrap_or_default()
    }

    /// Says whom its ssh finds under which name, and by which key they are known:
    /// `others` has the name for ssh, the address and the public host key of each.
    ///
    /// # Errors
    /// What the system says.
    pub fn knows(&self, key: &Path, others: &[(&str, IpAddr, String)]) -> io::Result<PathBuf> {
        let known = self.folder.join("known");
        let keys: Vec<String> =
            others.iter().map(|(name, _, key)| format!("{name} {key}")).collect();
        fs::write(&known, keys.concat())?;
        let hosts: Vec<String> = others
            .iter()
            .map(|(name, at, _)| format!("Host {name}\n HostName {at}\n HostKeyAlias {name}\n"))
            .collect();
        let common = format!(
            "Host *\n User root\n IdentityFile {}\n IdentitiesOnly yes\n UserKnownHostsFile {}\n \
             GlobalKnownHostsFile none\n StrictHostKeyChecking yes\n",
            key.display(),
            known.display()
        );
        let folder = self.folder.join("etc/ssh");
        fs::create_dir_all(&folder)?;
        fs::write(folder.join("ssh_config"), hosts.concat() + &common)?;
        Ok(known)
    }
}

/// Puts a cable between the switch and a host.
fn plug(switch: &Space, host: &Space, port: &str, address: IpAddr) -> io::Result<()> {
    let (end, port) = (host.as_fd().try_clone_to_owned()?, port.to_owned());
    switch.run(move || {
        lab::cable(&port, INTERFACE, end.as_fd())?;
        lab::enslave(&port, Some("br0"))?;
        lab::up(&port)
    })??;
    host.run(move || lab::up(INTERFACE).and_then(|()| lab::address(INTERFACE, address, 24)))?
}
