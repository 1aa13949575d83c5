//! Random worlds: orders, listeners and sources of both families, TCP and UDP;
//! lists of neighbours, exceptions, rules of other directions, programs by their
//! path and by a link, several sockets on a port, programs that reset, full queues.
//! What the reach check says of each port and source is what an ordinary client of
//! that source meets. 50 worlds; more by
//! `TIPSTAFF_WORLDS=1000 TIPSTAFF_SEED=7 cargo test -p tipstaff --test truth`.
//! Needs root.

#![allow(clippy::unwrap_used)]

mod ground;

use std::net::{SocketAddr, TcpListener, UdpSocket};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use ground::{ARCHIVE, Lab, PARTNER, STRANGER, ip, ping};
use socket2::{Domain, Protocol, Socket, Type};
use tipstaff_core::names::traffic::Transport;
use tipstaff_knock::Reply;
use tipstaff_knock::sockets::{Door, knock};

const PORTS: [u16; 4] = [7401, 7402, 7403, 7404];
const SOURCES: [[&str; 2]; 2] = [PARTNER, STRANGER];

/// Numbers that are the same each time (Marsaglia's xorshift).
struct Dice(u64);

impl Dice {
    fn roll(&mut self, sides: usize) -> usize {
        self.0 ^= self.0 << 13;
        self.0 ^= self.0 >> 7;
        self.0 ^= self.0 << 17;
        (self.0 >> 11) as usize % sides
    }

    fn pick<'p, T: ?Sized>(&mut self, all: &[&'p T]) -> &'p T {
        all[self.roll(all.len())]
    }
}

/// The programs that rules name: who listens in these worlds, a link to it,
/// and one that is not there.
fn programs(lab: &Lab) -> [String; 3] {
    let own = std::env::current_exe().unwrap();
    let link = lab.path().join("listener");
    if !link.exists() {
        std::os::unix::fs::symlink(&own, &link).unwrap();
    }
    [own, link, lab.path().join("elsewhere")].map(|path| path.display().to_string())
}

fn orders(dice: &mut Dice, programs: &[String; 3]) -> String {
    let answers = ["deny", "deny", "refuse", "allow"];
    let outbound = dice.pick(&["allow", "allow", "deny"]);
    let mut text = format!(
        "version = 1\n[standing]\ninbound = \"{}\"\noutbound = \"{outbound}\"\ntransit = \"deny\"\n\
         [addresses]\npartner = [\"203.0.113.0/24\", \"2001:db8:113::/48\"]\n",
        dice.pick(&answers)
    );
    for nth in 0..dice.roll(7) {
        let action = dice.pick(&["allow", "allow", "deny", "refuse"]);
        let port = PORTS[dice.roll(PORTS.len())];
        let traffic = match dice.roll(10) {
            0 => format!("\"udp/{port}\""),
            1 => format!("[\"tcp/{port}\", \"udp/{port}\"]"),
            2 => "[\"tcp/7402-7404\", \"icmp/echo\"]".to_owned(),
            3 => "\"any\"".to_owned(),
            4 => "[\"tcp/7401\", \"tcp/7402\"]".to_owned(),
            5 => "[\"tcp/7401\", \"udp/7403\", \"tcp/7404\"]".to_owned(),
            6 => format!("\"any\"\ntraffic_except = [\"tcp/{port}\", \"icmp/echo\"]"),
            7 => format!("\"tcp/7401-7404\"\ntraffic_except = \"tcp/{port}\""),
            _ => format!("\"tcp/{port}\""),
        };
        text.push_str(&format!(
            "[[rules]]\nname = \"rule-{nth}\"\naction = \"{action}\"\ntraffic = {traffic}\n"
        ));
        if !traffic.contains("any") && !traffic.contains("icmp") && dice.roll(4) == 0 {
            let program = &programs[dice.roll(3)];
            text.push_str(&format!("program = \"{program}\"\n"));
        }
        let source = dice.pick(&[
            "",
            "",
            "source = \"partner\"\n",
            "source = [\"203.0.113.8-203.0.113.9\", \"2001:db8:66::66\"]\n",
            "source = \"192.0.2.66\"\n",
            "source = \"2001:db8::/33\"\n",
        ]);
        let further = [
            "",
            "",
            "interface = \"lan0\"\n",
            "interface = \"lan9\"\n",
            "family = \"ipv6\"\n",
            "destination = \"198.51.100.20\"\n",
        ];
        // One family only goes with no other one.
        let both = source.is_empty() || source.contains("partner") || source.contains('[');
        text.push_str(source);
        text.push_str(dice.pick(&further[..if both { 6 } else { 4 }]));
    }
    // What other directions say must change nothing here.
    for direction in ["outbound", "transit"] {
        if dice.roll(4) == 0 {
            text.push_str(&format!(
                "[[rules]]\nname = \"{direction}\"\naction = \"allow\"\ndirection = \"{direction}\"\n\
                 traffic = \"any\"\ntraffic_except = \"tcp/25\"\n"
            ));
        }
    }
    text
}

/// What a program does with who connects.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Manner {
    /// The kernel accepts for it, as long as there is room.
    Waits,
    /// It accepts and resets.
    Resets,
    /// It accepts nothing, and its queue is full.
    IsFull,
}

/// A socket: where, whether it hears IPv6 alone, and how it treats connections.
type Wanted = (Transport, SocketAddr, bool, Manner);

/// Where something listens on each port.
fn listeners(dice: &mut Dice) -> Vec<Wanted> {
    let mut all = Vec::new();
    for port in PORTS {
        for transport in [Transport::Tcp, Transport::Udp] {
            let address = match dice.roll(8) {
                0 => "0.0.0.0",
                1 | 2 => "::",
                3 => ARCHIVE[0],
                4 => ARCHIVE[1],
                5 => dice.pick(&["127.0.0.1", "::1"]),
                _ => continue,
            };
            let only_six = address.contains(':') && dice.roll(3) == 0;
            let manner = match (transport, dice.roll(6)) {
                (Transport::Tcp, 0) => Manner::Resets,
                (Transport::Tcp, 1) => Manner::IsFull,
                _ => Manner::Waits,
            };
            all.push((transport, SocketAddr::new(ip(address), port), only_six, manner));
            // A second one, for one address, beside that for all.
            if address == "0.0.0.0" && dice.roll(2) == 0 {
                let to = SocketAddr::new(ip(ARCHIVE[0]), port);
                all.push((transport, to, false, Manner::Waits));
            }
        }
    }
    all
}

/// Programs that accept, and answer datagrams, until they are dropped.
struct Programs {
    stop: Arc<AtomicBool>,
    _tcp: Vec<TcpListener>,
    _fill: Vec<Socket>,
    udp: Option<std::thread::JoinHandle<()>>,
}

impl Programs {
    fn start(lab: &Lab, wanted: Vec<Wanted>) -> Self {
        let (tcp, udp, resetting, fill) = lab
            .archive
            .run(move || {
                let (mut tcp, mut udp) = (Vec::<TcpListener>::new(), Vec::<UdpSocket>::new());
                let (mut resetting, mut fill) = (Vec::<Socket>::new(), Vec::new());
                for (transport, to, only_six, manner) in wanted {
                    let (kind, protocol) = match transport {
                        Transport::Tcp => (Type::STREAM, Protocol::TCP),
                        Transport::Udp => (Type::DGRAM, Protocol::UDP),
                    };
                    let domain = Domain::for_address(to);
                    let socket = Socket::new(domain, kind, Some(protocol)).unwrap();
                    socket.set_reuse_address(transport == Transport::Tcp).unwrap();
                    socket.set_reuse_port(true).unwrap();
                    if to.is_ipv6() {
                        socket.set_only_v6(only_six).unwrap();
                    }
                    socket.bind(&to.into()).unwrap();
                    if transport == Transport::Tcp {
                        socket.listen(if manner == Manner::IsFull { 0 } else { 64 }).unwrap();
                        match manner {
                            Manner::Waits => tcp.push(socket.into()),
                            Manner::Resets => {
                                socket.set_nonblocking(true).unwrap();
                                resetting.push(socket);
                            }
                            Manner::IsFull => {
                                fill.extend(filled(to));
                                tcp.push(socket.into());
                            }
                        }
                    } else {
                        socket.set_nonblocking(true).unwrap();
                        udp.push(socket.into());
                    }
                }
                (tcp, udp, resetting, fill)
            })
            .unwrap();
        let stop = Arc::new(AtomicBool::new(false));
        let stopped = Arc::clone(&stop);
        let answer = move || {
            while !stopped.load(Ordering::Relaxed) {
                for socket in &resetting {
                    while let Ok((stream, _)) = socket.accept() {
                        stream.set_linger(Some(Duration::ZERO)).unwrap();
                    }
                }
                for socket in &udp {
                    while let Ok((_, sender)) = socket.recv_from(&mut [0; 16]) {
                        let _ = socket.send_to(b"ready", sender);
                    }
                }
                std::thread::sleep(Duration::from_micros(300));
            }
        };
        Self { stop, _tcp: tcp, _fill: fill, udp: Some(std::thread::spawn(answer)) }
    }
}

/// Connections that fill a queue with room for none: the kernel lets one more in
/// than there is room (`sk_acceptq_is_full` of include/net/sock.h).
fn filled(to: SocketAddr) -> Vec<Socket> {
    let to = match to.ip() {
        all if all.is_unspecified() && all.is_ipv4() => SocketAddr::new(ip("127.0.0.1"), to.port()),
        all if all.is_unspecified() => SocketAddr::new(ip("::1"), to.port()),
        _ => to,
    };
    let one = |_| {
        let socket =
            Socket::new(Domain::for_address(to), Type::STREAM, Some(Protocol::TCP)).unwrap();
        socket.set_linger(Some(Duration::ZERO)).unwrap();
        socket.connect_timeout(&to.into(), Duration::from_millis(300)).ok()?;
        Some(socket)
    };
    (0..1).filter_map(one).collect()
}

impl Drop for Programs {
    fn drop(&mut self) {
        self.stop.store(true, Ordering::Relaxed);
        if let Some(thread) = self.udp.take() {
            thread.join().unwrap();
        }
    }
}

/// What an ordinary client meets.
fn met(reply: Reply) -> &'static str {
    match reply {
        Reply::Accepted(_) | Reply::Data(_) | Reply::Closed(_) => "answers",
        Reply::Reset(_) | Reply::Icmp { .. } => "refuses",
        Reply::Nothing(_) | Reply::Mute => "silent",
        other => panic!("{other:?}"),
    }
}

#[test]
fn every_cell_of_random_worlds_is_what_clients_meet() {
    let Some(lab) = Lab::new() else { return };
    let set = |name: &str, otherwise: u64| {
        std::env::var(name).map_or(otherwise, |text| text.parse().unwrap())
    };
    let (worlds, seed) = (set("TIPSTAFF_WORLDS", 50) as usize, set("TIPSTAFF_SEED", 0));
    eprintln!("TIPSTAFF_WORLDS={worlds} TIPSTAFF_SEED={seed}");
    let programs = programs(&lab);
    lab.archive
        .run(|| {
            // A closed UDP port is to say so each time; by itself the kernel does it seldom.
            std::fs::write("/proc/sys/net/ipv4/icmp_ratelimit", "0").unwrap();
            std::fs::write("/proc/sys/net/ipv6/icmp/ratelimit", "0").unwrap();
            for name in ["icmp_msgs_per_sec", "icmp_msgs_burst"] {
                let _ = std::fs::write(format!("/proc/sys/net/ipv4/{name}"), "1000000");
            }
        })
        .unwrap();
    let (mut cells, begin) = (0, std::time::Instant::now());
    for world in 0..worlds {
        let mut dice = Dice(0x9e37_79b9_7f4a_7c15 ^ (world as u64 + 1) ^ seed << 32);
        for _ in 0..9 {
            dice.roll(2);
        }
        let text = orders(&mut dice, &programs);
        std::fs::write(lab.path().join("orders.toml"), &text).unwrap();
        let wanted = listeners(&mut dice);
        let told = format!("TIPSTAFF_SEED={seed}, world {world}, {wanted:?}\n{text}");
        let _programs = Programs::start(&lab, wanted);
        lab.done(&["post"]);
        let ports: Vec<String> =
            PORTS.iter().flat_map(|p| [format!("tcp/{p}"), format!("udp/{p}")]).collect();
        let ports = format!("{},icmp/echo", ports.join(","));
        let mut arguments = vec!["reach", "--json", "--ports", &ports];
        for source in SOURCES.as_flattened() {
            arguments.extend(["--as", source]);
        }
        let output = lab.tipstaff(&arguments);
        let report: serde_json::Value = serde_json::from_slice(&output.stdout)
            .unwrap_or_else(|_| panic!("{told}{}", String::from_utf8_lossy(&output.stderr)));
        let unknown = unknown(&report);
        assert!(unknown.is_empty() && report["complete"] == true, "{unknown:?}\n{told}");
        cells += compare(&lab, &report, &told, world);
        // What the gate remembers of one world's datagrams must not let another's in.
        lab.done(&["withdraw", "--yes"]);
    }
    println!("{worlds} worlds, {cells} cells, {:.0?}", begin.elapsed());
    assert!(cells >= worlds * 8 * 4, "{cells} cells");
}

/// What nobody could find out.
fn unknown(report: &serde_json::Value) -> Vec<String> {
    let mut all = Vec::new();
    for row in report["rows"].as_array().unwrap() {
        let cells = row["cells"].as_array().unwrap().iter();
        for (cell, vantage) in cells.zip(report["vantages"].as_array().unwrap()) {
            if cell["observed"]["outcome"] == "unknown" {
                all.push(format!("{} {vantage}: {}", row["subject"], cell["observed"]));
            }
        }
    }
    all
}

/// Knocks as an ordinary client wherever the report has a cell.
fn compare(lab: &Lab, report: &serde_json::Value, told: &str, world: usize) -> usize {
    let vantages = report["vantages"].as_array().unwrap();
    let mut seen = Vec::new();
    // An echo request that nobody answers takes long: one source a world will do.
    let pinged = SOURCES.as_flattened()[world % 4];
    for row in report["rows"].as_array().unwrap() {
        for (cell, vantage) in row["cells"].as_array().unwrap().iter().zip(vantages) {
            if let Some(source) = vantage["source"].as_str() {
                let target = cell["observed"]["target"].as_str().unwrap();
                let subject = row["subject"].as_str().unwrap().to_owned();
                if subject == "icmp/echo" && source != pinged {
                    continue;
                }
                seen.push((subject, source.to_owned(), target.to_owned(), cell.clone()));
            }
        }
    }
    let door = |subject: &str, source: &str, target: &str| {
        let (transport, port) = subject.split_once('/').unwrap();
        let transport = match transport {
            "tcp" => Transport::Tcp,
            "udp" => Transport::Udp,
            _ => return None,
        };
        let to = SocketAddr::new(ip(target), port.parse().unwrap());
        Some(Door { transport, to, from: Some(ip(source)), local: false })
    };
    let doors: Vec<Door> = seen.iter().filter_map(|(s, from, to, _)| door(s, from, to)).collect();
    let patience = Duration::from_millis(120);
    let mut replies =
        lab.world.run(move || knock(&doors, patience, &mut |_| true)).unwrap().into_iter();
    for (subject, source, target, cell) in &seen {
        let truth = match door(subject, source, target) {
            Some(door) => match met(replies.next().unwrap()) {
                // A client that hears nothing tries again, and waits longer: on a busy
                // machine an answer may be late.
                "silent" if cell["observed"]["outcome"] != "silent" => {
                    let again = move || knock(&[door], 16 * patience, &mut |_| true);
                    met(lab.world.run(again).unwrap()[0])
                }
                truth => truth,
            },
            None if ping(&lab.world, source, target) => "answers",
            // That an echo request was refused, a program hears by other means.
            None if cell["observed"]["outcome"] == "refuses" => "refuses",
            None => "silent",
        };
        assert_eq!(cell["observed"]["outcome"], truth, "{subject} as {source}: {cell:#}\n{told}");
    }
    seen.len()
}
