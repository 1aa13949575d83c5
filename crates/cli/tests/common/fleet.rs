//! An observatory of six hosts and an administrator's machine, each with a network
//! namespace, a host name, /etc, /run and /var of its own and a real sshd, on one switch.
//! Needs root and OpenSSH's server; elsewhere it says loudly that it was skipped.

// Not every test that has this module uses all of it.
#![allow(dead_code)]

use std::fs;
use std::net::TcpListener;
use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};

use tipstaff_host::lab::Space;
use tipstaff_host::stations::{self, Station};
use tipstaff_testing::patience::in_time;
use tipstaff_testing::{can_test, ip, skipped};

pub const HOSTS: [&str; 6] = ["dome-1", "archive", "mast", "desk-3", "lantern", "dome-2"];
pub const ADMIN: &str = "198.51.100.5";

/// Orders that let the administrator in, each host with its address.
pub const HEAD: &str = r#"version = 1
[standing]
inbound = "deny"
outbound = "allow"
transit = "deny"
[addresses]
observatory = ["198.51.100.0/24"]
[[hosts]]
name = "dome-1"
tags = ["telescope"]
addresses = ["198.51.100.20"]
[[hosts]]
name = "archive"
addresses = ["198.51.100.21"]
[[hosts]]
name = "mast"
tags = ["sensors"]
addresses = ["198.51.100.22"]
[[hosts]]
name = "desk-3"
addresses = ["198.51.100.23"]
[[hosts]]
name = "lantern"
ssh = "way-out"
addresses = ["198.51.100.24"]
[[hosts]]
name = "dome-2"
tags = ["telescope"]
addresses = ["198.51.100.25"]
[[rules]]
name = "shell"
action = "allow"
traffic = "ssh"
source = "observatory"
"#;

/// A rule for the telescopes alone.
pub const DOME: &str = r##"[[rules]]
name = "dome"
action = "allow"
traffic = "tcp/7410"
source = "observatory"
hosts = ["#telescope"]
"##;

/// The program; another build where it is to be measured.
pub fn program() -> PathBuf {
    let built = assert_cmd::cargo::cargo_bin!("tipstaff").to_path_buf();
    std::env::var_os("TIPSTAFF_PROGRAM").map_or(built, Into::into)
}

/// One host.
pub struct Machine(Station);

impl std::ops::Deref for Machine {
    type Target = Station;

    fn deref(&self) -> &Station {
        &self.0
    }
}

pub struct Observatory {
    pub hosts: Vec<Machine>,
    /// The administrator's machine.
    pub admin: Station,
    _switch: Space,
    folder: tempfile::TempDir,
}

/// Whether it can be made here; a loud line where not.
fn can_be_made() -> bool {
    let what = "a fleet over real sshd was";
    if !can_test(what) {
        return false;
    }
    if let Some(program) = stations::missing() {
        skipped(what, &format!("there is no {program}"));
        return false;
    }
    true
}

impl Machine {
    /// Starts its sshd.
    pub fn start(&mut self) {
        self.0.start().unwrap();
    }

    /// Its sshd dies; connections that are there go on.
    pub fn stop(&mut self) {
        self.0.stop();
    }

    /// Runs the program on it.
    pub fn tipstaff(&self, words: &[&str]) -> Output {
        let mut command = Command::new(program());
        command.args(words).env("NO_COLOR", "1").stdin(Stdio::null());
        self.space.run(move || command.output().unwrap()).unwrap()
    }

    pub fn listen(&self, port: u16) -> TcpListener {
        self.space.run(move || TcpListener::bind(("0.0.0.0", port)).unwrap()).unwrap()
    }

    /// The orders in force, by their name in `state`.
    pub fn state(&self) -> serde_json::Value {
        serde_json::from_slice(&self.tipstaff(&["state", "--json"]).stdout).unwrap()
    }
}

impl Observatory {
    pub fn new() -> Option<Self> {
        if !can_be_made() {
            return None;
        }
        let folder = tempfile::tempdir().unwrap();
        let below = folder.path();
        let key = below.join("admin");
        let public = stations::key(&key).unwrap();
        let switch = stations::switch().unwrap();
        let admin = Station::new(&switch, "office", ip(ADMIN), below).unwrap();
        let forced = format!("{} serve-fleet", program().display());
        let (mut hosts, mut known) = (Vec::new(), Vec::new());
        for (nth, name) in HOSTS.into_iter().enumerate() {
            let address = ip(&format!("198.51.100.{}", 20 + nth));
            let mut machine = Station::new(&switch, name, address, below).unwrap();
            let host = machine.let_in(&forced, &public).unwrap();
            known.push((if name == "lantern" { "way-out" } else { name }, address, host));
            hosts.push(Machine(machine));
        }
        admin.knows(&key, &known).unwrap();
        assert!(hosts.iter().all(|host| in_time(|| host.answers())), "an sshd does not start");
        Some(Self { hosts, admin, _switch: switch, folder })
    }

    pub fn path(&self) -> &Path {
        self.folder.path()
    }

    pub fn orders(&self, rules: &str) -> PathBuf {
        let path = self.path().join("orders.toml");
        fs::write(&path, format!("{HEAD}{rules}")).unwrap();
        path
    }

    pub fn host(&self, name: &str) -> &Machine {
        self.hosts.iter().find(|host| host.name == name).unwrap()
    }

    pub fn host_mut(&mut self, name: &str) -> &mut Machine {
        self.hosts.iter_mut().find(|host| host.name == name).unwrap()
    }

    pub fn command(&self, words: &[&str]) -> Command {
        let mut command = Command::new(program());
        command.args(words).env("NO_COLOR", "1").stdin(Stdio::null());
        command.env("TIPSTAFF_ORDERS", self.path().join("orders.toml"));
        command
    }

    /// Runs the program on the administrator's machine.
    pub fn tipstaff(&self, words: &[&str]) -> Output {
        let mut command = self.command(words);
        self.admin.space.run(move || command.output().unwrap()).unwrap()
    }

    /// The same, with its exit code and what it says.
    pub fn told(&self, words: &[&str]) -> (i32, String) {
        let output = self.tipstaff(words);
        let text = String::from_utf8_lossy(&output.stdout).into_owned();
        let errors = String::from_utf8_lossy(&output.stderr);
        (output.status.code().unwrap(), text + &errors)
    }

    pub fn json(&self, words: &[&str]) -> (i32, serde_json::Value) {
        let output = self.tipstaff(&[&["--json"], words].concat());
        let text = String::from_utf8_lossy(&output.stdout).into_owned();
        let value = serde_json::from_str(&text)
            .unwrap_or_else(|e| panic!("{e}: {text}{}", String::from_utf8_lossy(&output.stderr)));
        (output.status.code().unwrap(), value)
    }
}
