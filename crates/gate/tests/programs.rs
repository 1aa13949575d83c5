//! Programs in the kernel's gate: who listens, who sends, what outlives an
//! upgrade, and what a denied program is told.
//!
//! The programs are copies of this test under other names, which do what
//! `TIPSTAFF_TEST_PART` says.

#![allow(clippy::unwrap_used)]

use std::io::{BufRead, BufReader, ErrorKind, Read, Write};
use std::net::{IpAddr, SocketAddr, TcpListener, TcpStream, UdpSocket};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::Duration;

use socket2::{Domain, Protocol, Socket, Type};
use tipstaff_core::brief::Brief;
use tipstaff_core::orders::{Action, read};
use tipstaff_core::packet::InterfaceIndex;
use tipstaff_gate::kernel::KernelGate;
use tipstaff_gate::{Gate, Posting};
use tipstaff_testing::executable;
use tipstaff_testing::scene::{ALLOW, inside, knock, orders, post, record};

const PART: &str = "TIPSTAFF_TEST_PART";
const TO_PLAY: [&str; 3] = ["a_part", "--exact", "--nocapture"];

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
        ["listen-mptcp", at] => {
            let at: SocketAddr = at.parse().unwrap();
            let socket = multipath(at).unwrap();
            socket.bind(&at.into()).unwrap();
            socket.listen(1).unwrap();
            held.push(Box::new(socket));
            "ready".to_owned()
        }
        ["connect", to] => told(tried(to.parse().unwrap())),
        ["connect-mptcp", to] => {
            let to: SocketAddr = to.parse().unwrap();
            let patience = Duration::from_millis(300);
            told(multipath(to).and_then(|s| s.connect_timeout(&to.into(), patience)))
        }
        ["send", to] => told(sent(to.parse().unwrap())),
        _ => panic!("{part}"),
    };
    println!("\nsaid {said}");
    std::io::stdout().flush().unwrap();
    std::io::stdin().read_to_end(&mut Vec::new()).unwrap();
}

/// A socket of Multipath TCP (RFC 8684): `IPPROTO_MPTCP` of `linux/in.h`.
fn multipath(family: SocketAddr) -> std::io::Result<Socket> {
    Socket::new(Domain::for_address(family), Type::STREAM, Some(Protocol::from(262)))
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
        Self::started(Command::new(program).args(TO_PLAY), part)
    }

    fn started(command: &mut Command, part: &str) -> Self {
        let mut child =
            command.env(PART, part).stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().unwrap();
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
        executable::copied(std::env::current_exe().unwrap(), &plated);
        executable::copied(&plated, &other);
        std::fs::hard_link(&plated, &linked).unwrap();
        Self { folder, plated, linked, other }
    }

    /// Another file takes the place of `plated`, as an upgrade does it.
    fn upgrade(&self) {
        let new = self.folder.path().join("plated.new");
        executable::copied(&self.other, &new);
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

/// What no rule needs stands in nobody's way; what a later one needs is there,
/// for what was opened meanwhile, too.
#[test]
fn sockets_are_labelled_and_connecting_is_decided_only_where_rules_need_it() {
    inside(|run_dir, all| {
        let cable = all.iter().find(|i| i.name == "ts-a").unwrap();
        let (index, mac) = (InterfaceIndex(cable.index), cable.hardware.unwrap());
        let programs = Programs::new();
        let mut gate = KernelGate::new(&run_dir).unwrap();
        let plated = orders(&rule("inbound", "tcp/7410-7419\", \"udp/7410-7419", &programs.plated));
        let guarded = plated.replacen("outbound = \"allow\"", "outbound = \"deny\"", 1);
        assert_ne!(plated, guarded);
        let attached = || -> Vec<&str> {
            let folder = std::fs::read_dir(run_dir.join("bpf")).unwrap().flatten();
            let folder = folder.map(|entry| entry.path()).find(|p| p.join("switch").exists());
            let has = |pin: &&str| folder.as_ref().is_some_and(|folder| folder.join(pin).exists());
            ["label", "connect4", "connect6", "inner-in"].into_iter().filter(has).collect()
        };
        let mut players = Vec::new();
        for (turn, port) in [7410, 7412, 7414].into_iter().enumerate() {
            post(&mut gate, &orders(ALLOW), &all).unwrap();
            assert_eq!(attached(), ["inner-in"], "turn {turn}");
            players.push(Player::new(&programs.plated, &format!("listen [::]:{port}")));
            players.push(Player::new(&programs.other, &format!("listen [::]:{}", port + 1)));
            post(&mut gate, &plated, &all).unwrap();
            assert_eq!(attached(), ["label", "inner-in"], "turn {turn}");
            for nth in 7410..port + 2 {
                let wanted = [Action::Allow, Action::Deny][usize::from(nth % 2)];
                for (what, frame) in knocks(mac, nth) {
                    assert_eq!(gate.ask(index, &frame).unwrap().verdict, wanted, "{nth}, {what}");
                }
            }
            // A trial goes back to what it found, so nothing is taken away.
            let brief = Brief::unplaced(&read(&guarded).unwrap());
            let posting = Posting { brief: &brief, record: record(&guarded) };
            gate.try_out(&posting, &all, Duration::from_secs(3_600)).unwrap();
            assert_eq!(attached(), ["label", "connect4", "connect6", "inner-in"]);
            gate.revert().unwrap();
        }
        drop(players);
        gate.withdraw().unwrap();
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
            tipstaff_core::decision::Speaker::Standing(tipstaff_core::packet::Direction::Outbound);
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

/// Whether by a link, or by another name in its folder where files are meant:
/// two names of one file are one program, for both rules.
#[test]
fn two_names_of_one_file_are_one_program() {
    inside(|run_dir, all| {
        let cable = all.iter().find(|i| i.name == "ts-a").unwrap();
        let (index, mac) = (InterfaceIndex(cable.index), cable.hardware.unwrap());
        let programs = Programs::new();
        let link = programs.folder.path().join("plated-by-link");
        std::os::unix::fs::symlink(&programs.plated, &link).unwrap();
        let mut gate = KernelGate::new(&run_dir).unwrap();
        let listens = Player::new(&programs.plated, "listen [::]:7410");
        let also = Player::new(&programs.plated, "listen [::]:7411");
        let said =
            |gate: &KernelGate, port| gate.ask(index, &knocks(mac, port)[0].1).unwrap().verdict;
        for (other, exactly) in [(&link, false), (&programs.linked, true)] {
            let second = rule("inbound", "tcp/7411", other).replace("plates", "others");
            let text =
                orders(&format!("{}{second}", rule("inbound", "tcp/7410", &programs.plated)));
            let text = if exactly { exact(&text) } else { text };
            post(&mut gate, &text, &all).unwrap();
            for port in [7410, 7411] {
                assert_eq!(said(&gate, port), Action::Allow, "{port} {}", other.display());
            }
        }
        drop((listens, also));
        gate.withdraw().unwrap();
    });
}

/// Whatever becomes of a path, the orders are put in force: what cannot be
/// followed means the path as written, and its neighbours are as before.
#[test]
fn a_path_that_leads_nowhere_stops_no_post() {
    inside(|run_dir, all| {
        let cable = all.iter().find(|i| i.name == "ts-a").unwrap();
        let (index, mac) = (InterfaceIndex(cable.index), cable.hardware.unwrap());
        let programs = Programs::new();
        let folder = programs.folder.path();
        let circle = folder.join("circle");
        std::os::unix::fs::symlink(&circle, &circle).unwrap();
        let deep = (0..20).fold(folder.to_owned(), |path, n| path.join(format!("d{n}")));
        std::fs::create_dir_all(&deep).unwrap();
        let deep = deep.join("plated");
        executable::copied(&programs.plated, &deep);
        let mut gate = KernelGate::new(&run_dir).unwrap();
        let listens = Player::new(&deep, "listen [::]:7410");
        let said = |gate: &KernelGate| gate.ask(index, &knocks(mac, 7410)[0].1).unwrap().verdict;
        for path in [&circle, &folder.join("not-there-yet"), &deep] {
            // It lets nobody in, whoever that is ...
            let allow = rule("inbound", "tcp/7410", path);
            post(&mut gate, &orders(&allow), &all).unwrap();
            assert_eq!(said(&gate), Action::Deny, "{}", path.display());
        }
        // ... and a program that nobody can identify is kept out by any deny by program.
        let deny = rule("inbound", "tcp/7410", &programs.plated).replace("allow", "deny");
        let open = orders(&deny).replace("inbound = \"deny\"", "inbound = \"allow\"");
        post(&mut gate, &open, &all).unwrap();
        assert_eq!(said(&gate), Action::Deny);
        drop(listens);
        let listens = Player::new(&programs.other, "listen [::]:7410");
        assert_eq!(said(&gate), Action::Allow);
        drop(listens);
        gate.withdraw().unwrap();
    });
}

/// The kernel makes the TCP sockets of an MPTCP socket; they are the program's.
#[test]
fn multipath_tcp_belongs_to_its_program() {
    if let Err(e) = multipath("127.0.0.1:0".parse().unwrap()) {
        std::io::stderr()
            .write_all(format!("SKIPPED: MPTCP was not tested: {e}\n").as_bytes())
            .unwrap();
        return;
    }
    tipstaff_testing::scene::inside_with_wire(|scene| {
        let programs = Programs::new();
        let mut gate = KernelGate::new(&scene.run_dir).unwrap();
        // Inbound: who listens.
        let text = orders(&rule("inbound", "tcp/7410-7411", &programs.plated));
        post(&mut gate, &text, &scene.interfaces()).unwrap();
        let listens =
            |program: &Path, port: u16| Player::new(program, &format!("listen-mptcp [::]:{port}"));
        let players = [listens(&programs.plated, 7410), listens(&programs.other, 7411)];
        let answered = |own: IpAddr, stranger: IpAddr, port: u16| {
            scene.wire.seen();
            let syn = tipstaff_testing::wire::tcp((stranger, 40_000), (own, port), 0x02, (1, 0));
            scene.wire.send(&scene.to_us(stranger, own, 6, &syn));
            std::thread::sleep(Duration::from_millis(10));
            let flags = |frame: &Vec<u8>| match frame[12..14] {
                [8, 0] if frame[23] == 6 => Some(frame[47]),
                [0x86, 0xdd] if frame[20] == 6 => Some(frame[67]),
                _ => None,
            };
            scene.wire.seen().iter().filter_map(flags).any(|flags| flags & 0x12 == 0x12)
        };
        for (own, stranger) in
            tipstaff_testing::scene::OWN.into_iter().zip(tipstaff_testing::scene::STRANGER)
        {
            assert!(answered(own, stranger, 7410), "{own}");
            assert!(!answered(own, stranger, 7411), "{own}");
        }
        drop(players);
        // Outbound: who connects. A rule about no interface is decided at connect, one about
        // an interface at the packet.
        for at in ["", "interface = \"ts-a\"\n"] {
            let closed = orders("").replace("outbound = \"allow\"", "outbound = \"deny\"");
            let text = format!("{closed}{}{at}", rule("outbound", "any", &programs.plated));
            post(&mut gate, &text, &scene.interfaces()).unwrap();
            for stranger in tipstaff_testing::scene::STRANGER {
                let to = SocketAddr::new(stranger, 7420);
                scene.wire.seen();
                let part = format!("connect-mptcp {to}");
                assert_ne!(say(&programs.other, &part), "ok");
                let sent = || {
                    let frames = scene.wire.seen();
                    let tcp = |f: &&Vec<u8>| match f[12..14] {
                        [8, 0] => f[23] == 6,
                        [0x86, 0xdd] => f[20] == 6,
                        _ => false,
                    };
                    frames.iter().filter(tcp).count()
                };
                assert_eq!(sent(), 0, "{to} {at}");
                assert_eq!(say(&programs.plated, &part), "out", "{to} {at}");
                assert!(sent() > 0, "{to} {at}");
            }
        }
        gate.withdraw().unwrap();
    });
}

/// A file system that any account can mount may get the device number that the
/// one of a named program had, and the same names in it.
#[test]
fn a_file_system_of_an_account_of_its_own_holds_no_program_that_is_known() {
    inside(|run_dir, all| {
        let cable = all.iter().find(|i| i.name == "ts-a").unwrap();
        let (index, mac) = (InterfaceIndex(cable.index), cable.hardware.unwrap());
        let programs = Programs::new();
        let point = programs.folder.path().join("mounted");
        std::fs::create_dir(&point).unwrap();
        let plated = point.join("plated");
        let mount = || {
            let no_flags = nix::mount::MsFlags::empty();
            nix::mount::mount(Some("ts"), &point, Some("tmpfs"), no_flags, None::<&str>).unwrap();
            executable::copied(&programs.plated, &plated);
        };
        mount();
        let mut gate = KernelGate::new(&run_dir).unwrap();
        post(&mut gate, &orders(&rule("inbound", "tcp/7410", &plated)), &all).unwrap();
        let said = |gate: &KernelGate| gate.ask(index, &knocks(mac, 7410)[0].1).unwrap().verdict;
        let player = Player::new(&plated, "listen [::]:7410");
        assert_eq!(said(&gate), Action::Allow);
        drop(player);
        nix::mount::umount(&point).unwrap();
        // Whoever may make a user namespace may mount a tmpfs; the first free number is its device.
        let script =
            "mount -t tmpfs ts \"$1\" && cp \"$2\" \"$1/plated\" && shift 2 && exec \"$@\"";
        let mut command = Command::new("unshare");
        command.args(["-U", "-r", "-m", "sh", "-c", script, "sh"]);
        command.args([&point, &programs.plated, &plated]).args(TO_PLAY);
        let impostor = Player::started(&mut command, "listen [::]:7410");
        assert_eq!(said(&gate), Action::Deny);
        // Nor is it taken for one when its socket is older than the gate.
        gate.withdraw().unwrap();
        mount();
        post(&mut gate, &orders(&rule("inbound", "tcp/7410", &plated)), &all).unwrap();
        assert_eq!(said(&gate), Action::Deny);
        drop(impostor);
        gate.withdraw().unwrap();
        nix::mount::umount(&point).unwrap();
    });
}
