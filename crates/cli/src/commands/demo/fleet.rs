//! `demo --fleet`: six hosts with real sshd and an administrator's machine, in namespaces;
//! orders are rolled out, one change cuts the administrator off, and every host checks
//! every other.

use std::io::{self, Write};
use std::net::IpAddr;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};
use std::{fs, thread};

use tipstaff_core::orders::{Orders, read};
use tipstaff_gate::kernel::check_support;
use tipstaff_host::stations::{self, Station};

use super::own_folder;
use crate::ending::Ending;
use crate::failure::{Failure, system};
use crate::terminal::Terminal;

const ORDERS: &str = include_str!("../../../demo/fleet.toml");
/// The administrator's machine.
const OFFICE: &str = "198.51.100.5";
/// The rule that somebody writes in a hurry.
const HURRY: &str = "[[rules]]\nname = \"not-from-the-office\"\naction = \"deny\"\ntraffic = \
                     \"ssh\"\nsource = \"198.51.100.5\"\nhosts = [\"mast\"]\n\n";

/// A step: what is said before, and the commands.
const FIRST: [(&str, &[&str]); 4] = [
    ("Nothing is in force anywhere.", &["fleet", "state"]),
    ("What would these orders change, and where?", &["fleet", "post", "--check"]),
    (
        "In three waves: on trial, over a new connection, checked within and by another host, \
         and only then confirmed.",
        &["fleet", "post", "--yes", "--waves", "1,50%,100%", "--reason", "first orders"],
    ),
    ("How are they?", &["fleet", "state"]),
];
const SECOND: [(&str, &[&str]); 4] = [
    (
        "Somebody writes a rule in a hurry: mast would no longer let the office in. The very \
         connection that brings the orders shows it; the wave is rolled back.",
        &["fleet", "post", "--yes", "--waves", "1,100%"],
    ),
    ("Every host checks every other.", &["fleet", "reach"]),
    ("What the rules have counted, on all hosts together.", &["fleet", "tally"]),
    ("Any other command, and what each host says.", &["fleet", "run", "#telescope", "--", "tally"]),
];

pub fn tell(terminal: &Terminal) -> Result<Ending, Failure> {
    check_support()?;
    if let Some(program) = stations::missing() {
        return Err(Failure::Argument {
            message: format!("this part of the demo needs OpenSSH, and there is no {program}"),
            help: "Install openssh-server and openssh-client; or play `tipstaff demo`.".into(),
        });
    }
    let orders = read(ORDERS).map_err(|faults| {
        Failure::wrong("fleet.toml".as_ref(), ORDERS.into(), Default::default(), faults)
    })?;
    let folder = own_folder()?;
    let stage = Stage::set(&orders, folder.path()).map_err(system("setting the stage"))?;
    terminal.heading("The observatory: six hosts with real sshd, and the office, on one switch");
    let file = folder.path().join("orders.toml");
    let write = |text: &str| fs::write(&file, text).map_err(system("writing the orders"));
    write(ORDERS)?;
    stage.play(&FIRST, terminal)?;
    write(&ORDERS.replacen("[[rules]]\n", &format!("{HURRY}[[rules]]\n"), 1))?;
    stage.play(&SECOND[..1], terminal)?;
    write(ORDERS)?;
    stage.play(&SECOND[1..], terminal)?;
    terminal.heading("The end: all of it is gone with this process");
    Ok(Ending::Fine)
}

struct Stage {
    office: Station,
    _hosts: Vec<Station>,
    programs: Vec<Child>,
    _switch: tipstaff_host::lab::Space,
    folder: std::path::PathBuf,
}

impl Drop for Stage {
    fn drop(&mut self) {
        for program in &mut self.programs {
            let _ = program.kill();
            let _ = program.wait();
        }
    }
}

/// How long an sshd may take to start.
const STARTS: Duration = Duration::from_secs(10);

impl Stage {
    fn set(orders: &Orders, folder: &std::path::Path) -> io::Result<Self> {
        let own = std::env::current_exe()?;
        let switch = stations::switch()?;
        let key = folder.join("key");
        let public = stations::key(&key)?;
        let parse = |text: &str| text.parse::<IpAddr>().map_err(io::Error::other);
        let office = Station::new(&switch, "office", parse(OFFICE)?, folder)?;
        let (mut hosts, mut known, mut programs) = (Vec::new(), Vec::new(), Vec::new());
        for host in &orders.hosts {
            let address = parse(host.addresses.first().map_or("", String::as_str))?;
            let mut station = Station::new(&switch, &host.name, address, folder)?;
            let forced = format!("{} serve-fleet", own.display());
            known.push((host.ssh_name(), address, station.let_in(&forced, &public)?));
            if host.tags.iter().any(|tag| tag == "telescope") {
                let mut command = Command::new(&own);
                command.args(["play", "tcp/0.0.0.0:7410"]).stdin(Stdio::piped());
                programs.push(station.space.run(move || command.spawn())??);
            }
            hosts.push(station);
        }
        office.knows(&key, &known)?;
        let begin = Instant::now();
        while !hosts.iter().all(Station::answers) {
            if begin.elapsed() > STARTS {
                return Err(io::Error::other("an sshd does not start"));
            }
            thread::sleep(Duration::from_millis(50));
        }
        let folder = folder.to_owned();
        Ok(Self { office, _hosts: hosts, programs, _switch: switch, folder })
    }

    /// Runs commands at the office, as if somebody typed them.
    fn play(&self, steps: &[(&str, &[&str])], terminal: &Terminal) -> Result<(), Failure> {
        for (says, words) in steps {
            terminal.line(format!("\n\n{says}"));
            terminal.line(format!("$ tipstaff {}", shell_words::join(*words)));
            let _ = io::stdout().flush();
            let own = std::env::current_exe().map_err(system("finding this program"))?;
            let mut command = Command::new(own);
            command.args(*words).stdin(Stdio::null());
            command.env("TIPSTAFF_ORDERS", self.folder.join("orders.toml"));
            let ended = self.office.space.run(move || command.status());
            ended.and_then(|ended| ended).map_err(system("running a command of the demo"))?;
        }
        Ok(())
    }
}
