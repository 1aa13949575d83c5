//! Two network namespaces of a test's own: the archive, and the world with a
//! partner and a stranger in it. Needs root; elsewhere it says loudly that it
//! was skipped.

// Not every test that has this module uses all of it.
#![allow(dead_code)]

use std::fs;
use std::io::{self, Read, Write};
use std::net::{IpAddr, SocketAddr, TcpListener, TcpStream, UdpSocket};
use std::os::fd::AsFd;
use std::path::{Path, PathBuf};
use std::process::{Command, Output};
use std::sync::Arc;
use std::time::Duration;

use socket2::{Domain, Protocol, Socket, Type};
use tipstaff_gate::kernel::check_support;
use tipstaff_host::lab::{self, Mounts, Space};

pub const HEAD: &str = r#"version = 1
[standing]
inbound = "deny"
outbound = "allow"
transit = "deny"
[addresses]
partner = ["203.0.113.0/24", "2001:db8:113::/48"]
"#;
pub const PLATES: &str = r#"[[rules]]
name = "plates"
action = "allow"
traffic = "tcp/7410"
source = "partner"
"#;
pub const PING: &str = r#"[[rules]]
name = "ping"
action = "allow"
traffic = "icmp/echo"
source = "partner"
"#;
pub const ARCHIVE: [&str; 2] = ["198.51.100.20", "2001:db8:51::20"];
pub const PARTNER: [&str; 2] = ["203.0.113.9", "2001:db8:113::9"];
pub const STRANGER: [&str; 2] = ["192.0.2.66", "2001:db8:66::66"];
/// Over a cable between two namespaces an answer takes well under a millisecond.
pub const PATIENCE: Duration = Duration::from_millis(250);

/// A host and the world, with a cable between them.
pub struct Lab {
    pub archive: Arc<Space>,
    pub world: Space,
    folder: tempfile::TempDir,
}

pub fn ip(text: &str) -> IpAddr {
    text.parse().unwrap()
}

impl Lab {
    pub fn new() -> Option<Self> {
        if let Err(why) = check_support() {
            // Not eprintln: the test runner would keep that to itself.
            let line = format!("SKIPPED: the real kernel was not tested: {why}\n");
            io::stderr().write_all(line.as_bytes()).unwrap();
            return None;
        }
        let archive = Space::new(Mounts::Own).unwrap();
        let world = Space::new(Mounts::Shared).unwrap();
        let end = world.as_fd().try_clone_to_owned().unwrap();
        archive.run(move || lab::cable("lan0", "w0", end.as_fd()).unwrap()).unwrap();
        world
            .run(|| {
                lab::up("w0").unwrap();
                lab::address("w0", ip("198.51.100.1"), 24).unwrap();
                lab::address("w0", ip("2001:db8:51::1"), 64).unwrap();
                for (six, address) in [PARTNER, STRANGER].as_flattened().iter().enumerate() {
                    let prefix = if six % 2 == 0 { 32 } else { 128 };
                    lab::address("lo", ip(address), prefix).unwrap();
                }
            })
            .unwrap();
        archive
            .run(|| {
                lab::up("lan0").unwrap();
                lab::address("lan0", ip(ARCHIVE[0]), 24).unwrap();
                lab::address("lan0", ip(ARCHIVE[1]), 64).unwrap();
                lab::default_route(ip("198.51.100.1")).unwrap();
                lab::default_route(ip("2001:db8:51::1")).unwrap();
            })
            .unwrap();
        // A cable that has just been put in carries nothing before the kernel has looked
        // after its link, which takes up to a second on a busy machine: a lost SYN would come
        // again too late for a client of these tests.
        let carries = |family: usize| ping(&world, PARTNER[family], ARCHIVE[family]);
        assert!(in_time(|| carries(0) && carries(1)), "the cable carries nothing");
        Some(Self { archive: Arc::new(archive), world, folder: tempfile::tempdir().unwrap() })
    }

    pub fn path(&self) -> &Path {
        self.folder.path()
    }

    pub fn orders(&self, rules: &str) -> PathBuf {
        let path = self.path().join("orders.toml");
        fs::write(&path, format!("{HEAD}{rules}")).unwrap();
        path
    }

    /// The program, to be run in the archive.
    pub fn command(&self, arguments: &[&str]) -> Command {
        let mut command = Command::new(assert_cmd::cargo::cargo_bin!("tipstaff"));
        command
            .args(arguments)
            .env("NO_COLOR", "1")
            .env("TIPSTAFF_RUN", self.path().join("run"))
            .env("TIPSTAFF_HISTORY", self.path().join("history"));
        command.env("TIPSTAFF_ORDERS", self.path().join("orders.toml"));
        command
    }

    /// Runs the program in the archive.
    pub fn tipstaff(&self, arguments: &[&str]) -> Output {
        let mut command = self.command(arguments);
        self.archive.run(move || command.output().unwrap()).unwrap()
    }

    pub fn done(&self, arguments: &[&str]) -> String {
        let output = self.tipstaff(arguments);
        let error = String::from_utf8_lossy(&output.stderr);
        assert!(output.status.success(), "{arguments:?}: {error}");
        String::from_utf8(output.stdout).unwrap()
    }

    /// What a client of that address meets.
    pub fn connect(&self, from: &str, to: &str, port: u16) -> Result<TcpStream, io::ErrorKind> {
        let (from, to) = (SocketAddr::new(ip(from), 0), SocketAddr::new(ip(to), port));
        let connect = move || {
            let socket = Socket::new(Domain::for_address(to), Type::STREAM, Some(Protocol::TCP))?;
            socket.bind(&from.into())?;
            socket.connect_timeout(&to.into(), PATIENCE)?;
            Ok(TcpStream::from(socket))
        };
        self.world.run(connect).unwrap().map_err(|e: io::Error| e.kind())
    }

    pub fn knock(&self, from: &str, to: &str, port: u16) -> &'static str {
        match self.connect(from, to, port) {
            Ok(_) => "answers",
            Err(io::ErrorKind::ConnectionRefused) => "refuses",
            Err(io::ErrorKind::TimedOut) => "silent",
            Err(other) => panic!("{other}"),
        }
    }

    pub fn listen(&self, address: &str, port: u16) -> TcpListener {
        let address = SocketAddr::new(ip(address), port);
        self.archive.run(move || TcpListener::bind(address).unwrap()).unwrap()
    }
}

/// Whether an echo request from one address to another is answered.
pub fn ping(space: &Space, from: &str, to: &str) -> bool {
    let (from, to) = (SocketAddr::new(ip(from), 0), SocketAddr::new(ip(to), 0));
    space
        .run(move || {
            let (protocol, request, reply) = match to.is_ipv4() {
                true => (Protocol::ICMPV4, 8, 0),
                false => (Protocol::ICMPV6, 128, 129),
            };
            let socket = Socket::new(Domain::for_address(to), Type::RAW, Some(protocol)).unwrap();
            socket.bind(&from.into()).unwrap();
            socket.set_read_timeout(Some(PATIENCE)).unwrap();
            // The kernel fills in ICMPv6's checksum; ICMP's of this very message is known.
            let mut message = [request, 0, 0, 0, 0x12, 0x34, 0, 1];
            if to.is_ipv4() {
                message[2..4].copy_from_slice(&0xe5ca_u16.to_be_bytes());
            }
            // What is denied on its way out is told to the sender.
            if socket.send_to(&message, &to.into()).is_err() {
                return false;
            }
            let mut socket = socket;
            let mut answer = [0; 256];
            while let Ok(length) = socket.read(&mut answer) {
                let begin = if to.is_ipv4() { 20 } else { 0 };
                let mine = length > begin + 5 && answer[begin + 4..begin + 6] == [0x12, 0x34];
                if mine && answer[begin] == reply {
                    return true;
                }
            }
            false
        })
        .unwrap()
}

/// What a datagram's sender is told by an ICMP error.
pub fn told(space: &Space, from: IpAddr, to: SocketAddr) -> io::ErrorKind {
    let met = space.run(move || {
        let socket = UdpSocket::bind((from, 0)).unwrap();
        socket.set_read_timeout(Some(PATIENCE)).unwrap();
        socket.connect(to).unwrap();
        socket.send(b"?").unwrap();
        socket.recv(&mut [0; 8]).unwrap_err().kind()
    });
    met.unwrap()
}

/// Waits until something is as it should be; some seconds at most.
pub fn in_time(met: impl Fn() -> bool) -> bool {
    let begin = std::time::Instant::now();
    while begin.elapsed() < Duration::from_secs(12) {
        if met() {
            return true;
        }
        std::thread::sleep(Duration::from_millis(20));
    }
    false
}

/// A clock that stands still while the machine is not ours: what other virtual
/// machines took of it, and waiting for its disk, is no time of ours.
pub struct OwnTime {
    begin: std::time::Instant,
    lost: Duration,
}

impl OwnTime {
    pub fn begin() -> Self {
        Self { begin: std::time::Instant::now(), lost: lost() }
    }

    pub fn elapsed(&self) -> Duration {
        self.begin.elapsed().saturating_sub(lost().saturating_sub(self.lost))
    }
}

/// iowait and steal of all processors (proc_stat(5)), in hundredths of a second.
fn lost() -> Duration {
    let text = fs::read_to_string("/proc/stat").unwrap_or_default();
    let fields = text.lines().next().unwrap_or_default().split_whitespace().skip(1);
    let ticks: Vec<u64> = fields.filter_map(|field| field.parse().ok()).collect();
    let of = |at: usize| ticks.get(at).copied().unwrap_or(0);
    Duration::from_millis(10 * (of(4) + of(7)))
}
