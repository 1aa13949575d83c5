//! Two network namespaces of a test's own: the archive, and the world with a
//! partner and a stranger in it. Needs root; elsewhere it says loudly that it
//! was skipped.

// Not every test that has this module uses all of it.
#![allow(dead_code)]

use std::fs;
use std::io::{self, Read};
use std::net::{SocketAddr, TcpListener, TcpStream};
use std::os::fd::OwnedFd;
use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};
use std::sync::Arc;

use tipstaff_host::lab::{self, Space};
use tipstaff_testing::clients::{self, ping};
use tipstaff_testing::pair::Pair;
use tipstaff_testing::patience::in_time;
use tipstaff_testing::{can_test, ip};

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
pub use tipstaff_testing::pair::HOST as ARCHIVE;
pub const PARTNER: [&str; 2] = ["203.0.113.9", "2001:db8:113::9"];
pub const STRANGER: [&str; 2] = ["192.0.2.66", "2001:db8:66::66"];

/// A host and the world, with a cable between them.
pub struct Lab {
    pub archive: Arc<Space>,
    pub world: Space,
    folder: tempfile::TempDir,
}

impl Lab {
    pub fn new() -> Option<Self> {
        if !can_test("the real kernel was") {
            return None;
        }
        let Pair { host: archive, world } = Pair::new();
        world
            .run(|| {
                for (six, address) in [PARTNER, STRANGER].as_flattened().iter().enumerate() {
                    let prefix = if six % 2 == 0 { 32 } else { 128 };
                    lab::address("lo", ip(address), prefix).unwrap();
                }
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
            .env("TIPSTAFF_HISTORY", self.path().join("history"))
            .env("TIPSTAFF_LOG", self.path().join("log"));
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

    /// What a command tells scripts, however it ends.
    pub fn json(&self, arguments: &[&str]) -> serde_json::Value {
        let output = self.tipstaff(&[arguments, &["--json"]].concat());
        serde_json::from_slice(&output.stdout).unwrap()
    }

    /// What a client of that address meets.
    pub fn connect(&self, from: &str, to: &str, port: u16) -> Result<TcpStream, io::ErrorKind> {
        let to = SocketAddr::new(ip(to), port);
        clients::connect(&self.world, ip(from), to).map_err(|e| e.kind())
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

/// The descriptor that a command writes to, and what then can be read.
pub fn on_terminal(command: &mut Command) -> OwnedFd {
    let pair = nix::pty::openpty(None, None).unwrap();
    command.stdin(Stdio::null());
    command.stdout(Stdio::from(pair.slave.try_clone().unwrap()));
    command.stderr(Stdio::from(pair.slave));
    pair.master
}

pub fn read_all(from: OwnedFd) -> String {
    let mut bytes = Vec::new();
    // When the last writer has gone, a terminal ends with an error.
    let _ = fs::File::from(from).read_to_end(&mut bytes);
    String::from_utf8(bytes).unwrap()
}
