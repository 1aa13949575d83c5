//! Programs in the kernel's gate: who listens, who sends, what outlives an
//! upgrade, and what a denied program is told.
//!
//! The programs are copies of this test under other names, which do what
//! `TIPSTAFF_TEST_PART` says.

#![allow(clippy::unwrap_used)]

mod ground;

use std::io::{BufRead, BufReader, ErrorKind, Read, Write};
use std::net::{IpAddr, SocketAddr, TcpListener, TcpStream, UdpSocket};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::Duration;

use ground::{inside, knock, orders, post};
use tipstaff_core::orders::Action;
use tipstaff_core::packet::InterfaceIndex;
use tipstaff_gate::kernel::KernelGate;
use tipstaff_gate::{Gate, GateError};
use tipstaff_host::interfaces;

const PART: &str = "TIPSTAFF_TEST_PART";

/// Not a test of its own: what the copies do.
#[test]
fn a_part() {
    let Ok(part) = std::env::var(PART) else { return };
    let words: Vec<&str> = part.split(' ').collect();
    let mut held: Vec<Box<dyn std::any::Any>> = Vec::new();
    let said = match words.as_slice() {
        ["listen", at] => {
            held.push(Box::new(TcpListener::bind(at).unwrap()));
            held.push(Box::new(UdpSocket::bind(at).unwrap()));
            "ready".to_owned()
        }
        ["connect", to] => told(tried(to.parse().unwrap())),
        ["send", to] => told(sent(to.parse().unwrap())),
        _ => panic!("{part}"),
    };
    println!("\nsaid {said}");
    std::io::stdout().flush().unwrap();
    std::io::stdin().read_to_end(&mut Vec::new()).unwrap();
}

fn tried(to: SocketAddr) -> std::io::Result<()> {
    TcpStream::connect_timeout(&to, Duration::from_millis(300)).map(drop)
}

fn sent(to: SocketAddr) -> std::io::Result<()> {
    let from = if to.is_ipv4() { "0.0.0.0:0" } else { "[::]:0" };
    UdpSocket::bind(from)?.send_to(b"?", to).map(drop)
}

fn told(result: std::io::Result<()>) -> String {
    match result {
        Ok(()) => "ok".into(),
        // Nobody is at the other end of the cable: it went out, which is the question here.
        Err(e) if matches!(e.kind(), ErrorKind::TimedOut | ErrorKind::WouldBlock) => "out".into(),
        Err(e) if e.kind() == ErrorKind::HostUnreachable => "out".into(),
        Err(e) => format!("{:?}", e.kind()),
    }
}

/// A program that plays a part until it is dropped.
struct Player {
    child: Child,
    /// Held open: whatever else it prints must not fail.
    _out: Box<dyn Iterator<Item = String>>,
    said: String,
}

impl Player {
    fn new(program: &Path, part: &str) -> Self {
        let mut child = Command::new(program)
            .args(["a_part", "--exact", "--nocapture"])
            .env(PART, part)
            .stdin(Stdio::piped())
            .stdout(Stdio::piped())
            .spawn()
            .unwrap();
        let lines = BufReader::new(child.stdout.take().unwrap()).lines().map_while(Result::ok);
        let mut said = lines.filter_map(|line| line.strip_prefix("said ").map(str::to_owned));
        let first = said.next().unwrap_or_else(|| panic!("{part} was not played"));
        Self { child, _out: Box::new(said), said: first }
    }
}

impl Drop for Player {
    fn drop(&mut self) {
        drop(self.child.stdin.take());
        self.child.wait().unwrap();
    }
}

fn say(program: &Path, part: &str) -> String {
    Player::new(program, part).said.clone()
}

/// Copies of this test: `plated`, another name of the same file, and another file.
struct Programs {
    folder: tempfile::TempDir,
    plated: PathBuf,
    linked: PathBuf,
    other: PathBuf,
}

impl Programs {
    fn new() -> Self {
        let folder = tempfile::tempdir().unwrap();
        let at = |name: &str| folder.path().join(name);
        let (plated, linked, other) = (at("plated"), at("plated-linked"), at("skycam"));
        std::fs::copy(std::env::current_exe().unwrap(), &plated).unwrap();
        std::fs::copy(&plated, &other).unwrap();
        std::fs::hard_link(&plated, &linked).unwrap();
        Self { folder, plated, linked, other }
    }

    /// Another file takes the place of `plated`, as an upgrade does it.
    fn upgrade(&self) {
        let new = self.folder.path().join("plated.new");
        std::fs::copy(&self.other, &new).unwrap();
        std::fs::rename(&new, &self.plated).unwrap();
    }
}

fn rule(direction: &str, traffic: &str, program: &Path) -> String {
    format!(
        "[[rules]]\nname = \"plates\"\naction = \"allow\"\ndirection = \"{direction}\"\n\
         traffic = [\"{traffic}\"]\nprogram = \"{}\"\n",
        program.display()
    )
}

fn exact(text: &str) -> String {
    text.replacen("version = 1\n", "version = 1\nprogram_exact = true\n", 1)
}

/// Knocks at a port, of TCP and UDP, in both families.
fn knocks(mac: [u8; 6], port: u16) -> Vec<(&'static str, Vec<u8>)> {
    let mut tcp = knock(mac);
    tcp[36..38].copy_from_slice(&port.to_be_bytes());
    let mut udp = tcp.clone();
    udp[23] = 17;
    udp[38..42].copy_from_slice(&[0, 20, 0, 0]);
    let six = |four: &[u8]| {
        let mut frame = four[..12].to_vec();
        frame.extend([0x86, 0xdd, 0x60, 0, 0, 0, 0, 20, four[23], 64]);
        for last in [9u8, 0x20] {
            frame.extend([0x20, 1, 0xd, 0xb8, 0, 0x51, 0, 0, 0, 0, 0, 0, 0, 0, 0, last]);
        }
        frame.extend(&four[34..54]);
        frame
    };
    let (tcp_six, udp_six) = (six(&tcp), six(&udp));
    vec![("tcp", tcp), ("udp", udp), ("tcp, IPv6", tcp_six), ("udp, IPv6", udp_six)]
}

#[test]
fn inbound_it_is_who_listens() {
    inside(|run_dir, all| {
        let cable = all.iter().find(|i| i.name == "ts-a").unwrap();
        let (index, mac) = (InterfaceIndex(cable.index), cable.hardware.unwrap());
        let programs = Programs::new();
        let mut gate = KernelGate::new(&run_dir).unwrap();
        // Open before anything was posted: labelled by the post.
        let before = Player::new(&programs.plated, "listen [::]:7410");
        let text = orders(&rule("inbound", "tcp/7410-7419\", \"udp/7410-7419", &programs.plated));
        post(&mut gate, &text, &all).unwrap();
        let players = [
            Player::new(&programs.plated, "listen [::]:7411"),
            Player::new(&programs.linked, "listen [::]:7412"),
            Player::new(&programs.other, "listen [::]:7413"),
        ];
        let said = |gate: &KernelGate, port: u16, wanted: Action| {
            for (what, frame) in knocks(mac, port) {
                assert_eq!(gate.ask(index, &frame).unwrap().verdict, wanted, "{port}, {what}");
            }
        };
        said(&gate, 7410, Action::Allow);
        said(&gate, 7411, Action::Allow);
        // The same file under another name, another program, and nobody.
        said(&gate, 7412, Action::Deny);
        said(&gate, 7413, Action::Deny);
        said(&gate, 7414, Action::Deny);

        // The very file: whatever it is called.
        post(&mut gate, &exact(&text), &all).unwrap();
        for (port, wanted) in [(7410, Action::Allow), (7411, Action::Allow), (7412, Action::Allow)]
        {
            said(&gate, port, wanted);
        }
        said(&gate, 7413, Action::Deny);

        // After an upgrade the path still means old and new, the file only the old one.
        programs.upgrade();
        let upgraded = Player::new(&programs.plated, "listen [::]:7415");
        said(&gate, 7415, Action::Deny);
        said(&gate, 7411, Action::Allow);
        post(&mut gate, &exact(&text), &all).unwrap();
        said(&gate, 7415, Action::Allow);
        said(&gate, 7411, Action::Deny);
        post(&mut gate, &text, &all).unwrap();
        said(&gate, 7415, Action::Allow);
        said(&gate, 7411, Action::Allow);
        drop((before, players, upgraded));
        gate.withdraw().unwrap();
        assert!(!run_dir.exists());
    });
}

#[test]
fn outbound_it_is_who_sends_and_who_may_not_is_told_at_once() {
    inside(|run_dir, all| {
        let programs = Programs::new();
        let mut gate = KernelGate::new(&run_dir).unwrap();
        let closed = orders("").replace("outbound = \"allow\"", "outbound = \"deny\"");
        let listener = TcpListener::bind("[::]:7420").unwrap();
        let far: [IpAddr; 2] = ["198.51.100.1".parse().unwrap(), "2001:db8:51::1".parse().unwrap()];
        let text = format!("{closed}{}", rule("outbound", "any", &programs.plated));
        post(&mut gate, &text, &all).unwrap();
        for address in far {
            let to = SocketAddr::new(address, 7410);
            assert_eq!(say(&programs.plated, &format!("connect {to}")), "out");
            assert_eq!(say(&programs.other, &format!("connect {to}")), "PermissionDenied");
            assert_eq!(say(&programs.other, &format!("send {to}")), "PermissionDenied");
            assert_eq!(say(&programs.plated, &format!("send {to}")), "ok");
        }
        // IPv4 by a socket of IPv6.
        let mapped = "connect [::ffff:198.51.100.1]:7410";
        assert_eq!(say(&programs.other, mapped), "PermissionDenied");
        assert_eq!(say(&programs.plated, mapped), "out");
        // What stays on this host is nobody's business.
        for to in ["127.0.0.1:7420", "[::1]:7420", "198.51.100.20:7420", "[2001:db8:51::20]:7420"] {
            assert_eq!(say(&programs.other, &format!("connect {to}")), "ok", "{to}");
        }
        // Counted once each.
        let standing =
            tipstaff_core::decide::Speaker::Standing(tipstaff_core::packet::Direction::Outbound);
        let tallies = gate.tallies().unwrap();
        let counted = tallies.iter().find(|(speaker, _)| *speaker == standing).unwrap().1.packets;
        assert_eq!(counted, 5);
        let events = gate.events().unwrap().drain();
        let of_the_other = events.iter().filter(|e| e.program.is_some()).count();
        assert_eq!((events.len(), of_the_other), (5, 5), "{events:?}");

        // Refused, it is told so.
        let refusing = text.replace("outbound = \"deny\"", "outbound = \"refuse\"");
        post(&mut gate, &refusing, &all).unwrap();
        let connect = format!("connect {}", SocketAddr::new(far[0], 7410));
        assert_eq!(say(&programs.other, &connect), "ConnectionRefused");
        // Where the route matters, the packet is decided; its program is told at once all the same.
        let routed = text.replace("program =", "interface = \"ts-none\"\nprogram =");
        post(&mut gate, &routed, &all).unwrap();
        assert_eq!(say(&programs.plated, "send 198.51.100.1:7410"), "PermissionDenied");
        gate.withdraw().unwrap();
        assert_eq!(say(&programs.other, "send 198.51.100.1:7410"), "ok");
        drop(listener);
    });
}

#[test]
fn two_names_of_one_file_are_told() {
    inside(|run_dir, all| {
        let programs = Programs::new();
        let mut gate = KernelGate::new(&run_dir).unwrap();
        let second = rule("inbound", "tcp/7411", &programs.linked).replace("plates", "others");
        let text = orders(&format!("{}{second}", rule("inbound", "tcp/7410", &programs.plated)));
        post(&mut gate, &text, &all).unwrap();
        let error = post(&mut gate, &exact(&text), &all).unwrap_err();
        assert!(matches!(error, GateError::CannotEnforce(_)), "{error}");
        let told = error.to_string();
        assert!(told.contains("rule 2 (others)") && told.contains("same file"), "{told}");
        assert_eq!(gate.in_force().unwrap().unwrap().record.orders, text);
        gate.withdraw().unwrap();
    });
}

/// An interface that appears behind a post is guarded from its first packet.
#[test]
fn a_new_interface_is_guarded_by_the_second_line() {
    inside(|run_dir, all| {
        let mut gate = KernelGate::new(&run_dir).unwrap();
        let closed = orders("").replace("outbound = \"allow\"", "outbound = \"deny\"");
        // As if the cable had come later.
        let before: Vec<_> = all.iter().filter(|i| i.name != "ts-a").cloned().collect();
        post(&mut gate, &closed, &before).unwrap();
        let refused = |to: &str| sent(to.parse().unwrap()).map_err(|e| e.kind());
        assert_eq!(refused("198.51.100.1:7410"), Err(ErrorKind::PermissionDenied));
        assert_eq!(refused("[2001:db8:51::1]:7410"), Err(ErrorKind::PermissionDenied));
        post(&mut gate, &closed, &interfaces::list().unwrap()).unwrap();
        assert_eq!(refused("198.51.100.1:7410"), Err(ErrorKind::PermissionDenied));
        gate.withdraw().unwrap();
        assert_eq!(refused("198.51.100.1:7410"), Ok(()));
    });
}
