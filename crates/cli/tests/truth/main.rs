//! Random worlds: orders, listeners and sources of both families, TCP and UDP;
//! lists of neighbours, exceptions, rules of other directions, programs by their
//! path and by a link, several sockets on a port, programs that reset, full queues,
//! MPTCP. From the middle on the host's interface is a bridge; one world in eight
//! is a busy machine; and now and then the sources are the orders' own, the host
//! is looked at from another machine, and others are reached from it, by mapped
//! addresses too.
//!
//! What the reach check says of each port and source is what an ordinary client of
//! that source meets. 50 worlds; more by
//! `TIPSTAFF_WORLDS=1000 TIPSTAFF_SEED=7 cargo test -p tipstaff --test truth`.
//! Needs root.

#![allow(clippy::unwrap_used)]

#[path = "../common/mod.rs"]
mod common;
mod programs;
mod worlds;

use std::collections::BTreeSet;
use std::io::ErrorKind;
use std::net::{IpAddr, Ipv6Addr, SocketAddr, TcpListener};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use common::{ARCHIVE, Lab, PARTNER, STRANGER};
use programs::{MPTCP, Programs};
use serde_json::Value;
use socket2::{Domain, Protocol, Socket, Type};
use tipstaff_core::names::traffic::Transport;
use tipstaff_host::lab;
use tipstaff_knock::Reply;
use tipstaff_knock::sockets::{Door, knock};
use tipstaff_testing::{clients::ping, ip, patience::PATIENCE};
use worlds::{Dice, PORTS, SOURCES};

/// Another machine beside the host, with the same orders.
const DESK: [&str; 2] = ["198.51.100.1", "2001:db8:51::1"];
/// What somebody of the world listens on.
const OUTSIDE: [u16; 2] = [7401, 7402];

/// What an ordinary client meets.
fn met(reply: Reply) -> &'static str {
    match reply {
        Reply::Accepted(_) | Reply::Data(_) | Reply::Closed(_) => "answers",
        Reply::Reset(_) | Reply::Icmp { .. } => "refuses",
        Reply::Nothing(_) | Reply::Mute => "silent",
        other => panic!("{other:?}"),
    }
}

/// How often what was looked at.
#[derive(Debug, Default)]
struct Seen {
    cells: usize,
    outward: usize,
    unknown_while_busy: usize,
    from_orders: usize,
    from_the_desk: usize,
    multipath: usize,
}

#[test]
fn every_cell_of_random_worlds_is_what_clients_meet() {
    let Some(lab) = Lab::new() else { return };
    let set = |name: &str, otherwise: u64| {
        std::env::var(name).map_or(otherwise, |text| text.parse().unwrap())
    };
    let (worlds, seed) = (set("TIPSTAFF_WORLDS", 50) as usize, set("TIPSTAFF_SEED", 0));
    eprintln!("TIPSTAFF_WORLDS={worlds} TIPSTAFF_SEED={seed}");
    let programs = worlds::programs(&lab);
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
    let outside = lab
        .world
        .run(|| {
            OUTSIDE.map(|port| {
                let listener = TcpListener::bind((Ipv6Addr::UNSPECIFIED, port)).unwrap();
                listener.set_nonblocking(true).unwrap();
                listener
            })
        })
        .unwrap();
    let (mut seen, begin) = (Seen::default(), std::time::Instant::now());
    let mut known: BTreeSet<IpAddr> = SOURCES.as_flattened().iter().map(|text| ip(text)).collect();
    for world in 0..worlds {
        let mut dice = Dice(0x9e37_79b9_7f4a_7c15 ^ (world as u64 + 1) ^ seed << 32);
        for _ in 0..9 {
            dice.roll(2);
        }
        if world == worlds / 2 {
            behind_a_bridge(&lab);
        }
        let near = if world < worlds / 2 { "lan0" } else { "br0" };
        let text = worlds::orders(&mut dice, &programs, near);
        std::fs::write(lab.path().join("orders.toml"), &text).unwrap();
        let wanted = worlds::listeners(&mut dice);
        let told = format!("TIPSTAFF_SEED={seed}, world {world}, {wanted:?}\n{text}");
        let _programs = Programs::start(&lab, wanted);
        lab.done(&["post", "--host", "archive"]);
        let busy = (dice.roll(8) == 0).then(Busy::start);
        let is_busy = busy.is_some();
        let ports: Vec<String> =
            PORTS.iter().flat_map(|p| [format!("tcp/{p}"), format!("udp/{p}")]).collect();
        let ports = format!("{},icmp/echo", ports.join(","));
        let mut arguments = vec!["reach", "--host", "archive", "--json", "--ports", &ports];
        for source in SOURCES.as_flattened() {
            arguments.extend(["--as", source]);
        }
        let from_orders = dice.roll(6) == 0;
        if from_orders {
            arguments.push("--from-orders");
        }
        let report = read(lab.tipstaff(&arguments), &told);
        let outward = outward(&lab, &told);
        drop(busy);
        let unknown = unknown(&report);
        match is_busy {
            // What load makes uncertain is unknown, and never wrong.
            true => seen.unknown_while_busy += unknown.len(),
            false => assert!(unknown.is_empty(), "{unknown:?}\n{told}"),
        }
        assert!(report["complete"] == true, "{told}");
        if from_orders {
            seen.from_orders += come_to_be(&lab, &report, &mut known);
        }
        seen.cells += compare(&lab, &report, &told, &mut seen.multipath, world);
        seen.outward += compare_outward(&lab, &outward, &told, is_busy);
        if dice.roll(8) == 0 {
            seen.from_the_desk += from_the_desk(&lab, &told);
        }
        for listener in &outside {
            while listener.accept().is_ok() {}
        }
        // What the gate remembers of one world's datagrams must not let another's in.
        lab.done(&["withdraw", "--yes"]);
    }
    println!("{worlds} worlds, {seen:?}, {:.0?}", begin.elapsed());
    assert!(seen.cells >= worlds * 8 * 4 && seen.outward >= worlds * 8, "{seen:?}");
}

fn read(output: std::process::Output, told: &str) -> Value {
    serde_json::from_slice(&output.stdout)
        .unwrap_or_else(|_| panic!("{told}{}", String::from_utf8_lossy(&output.stderr)))
}

/// The host's interface becomes a port of a bridge, which has its addresses.
fn behind_a_bridge(lab: &Lab) {
    lab.archive
        .run(|| {
            // IPv6 addresses go with the link, the others do not.
            lab::down("lan0").unwrap();
            lab::without_address("lan0", ip(ARCHIVE[0]), 24).unwrap();
            lab::bridge("br0").unwrap();
            lab::up("br0").unwrap();
            lab::enslave("lan0", Some("br0")).unwrap();
            lab::up("lan0").unwrap();
            lab::address("br0", ip(ARCHIVE[0]), 24).unwrap();
            lab::address("br0", ip(ARCHIVE[1]), 64).unwrap();
            lab::default_route(ip(DESK[0])).unwrap();
            lab::default_route(ip(DESK[1])).unwrap();
        })
        .unwrap();
    let carries = |family: usize| ping(&lab.world, PARTNER[family], ARCHIVE[family]);
    assert!(
        tipstaff_testing::patience::in_time(|| carries(0) && carries(1)),
        "the bridge carries nothing"
    );
}

/// More to do than there are processors.
struct Busy {
    stop: Arc<AtomicBool>,
    threads: Vec<std::thread::JoinHandle<()>>,
}

impl Busy {
    fn start() -> Self {
        let stop = Arc::new(AtomicBool::new(false));
        let work = |_| {
            let stop = Arc::clone(&stop);
            std::thread::spawn(move || while !stop.load(Ordering::Relaxed) {})
        };
        let threads = (0..4).map(work).collect();
        Self { stop, threads }
    }
}

impl Drop for Busy {
    fn drop(&mut self) {
        self.stop.store(true, Ordering::Relaxed);
        self.threads.drain(..).for_each(|thread| thread.join().unwrap());
    }
}

/// The sources that the orders chose are somebody of the world from now on, but
/// for those on the host's own link. How many cells they have.
fn come_to_be(lab: &Lab, report: &Value, known: &mut BTreeSet<IpAddr>) -> usize {
    let mut cells = 0;
    for vantage in report["vantages"].as_array().unwrap() {
        let Some(source) = vantage["source"].as_str().map(ip) else { continue };
        if SOURCES.as_flattened().iter().any(|text| ip(text) == source) {
            continue;
        }
        cells += report["rows"].as_array().unwrap().len();
        if known.insert(source) {
            let prefix = if source.is_ipv4() { 32 } else { 128 };
            lab.world.run(move || lab::address("lo", source, prefix)).unwrap().unwrap();
        }
    }
    cells
}

/// What nobody could find out.
fn unknown(report: &Value) -> Vec<String> {
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
fn compare(lab: &Lab, report: &Value, told: &str, multipath: &mut usize, world: usize) -> usize {
    let vantages = report["vantages"].as_array().unwrap();
    let mut seen = Vec::new();
    // An echo request that nobody answers takes long: one source a world will do.
    let pinged = SOURCES.as_flattened()[world % 4];
    for row in report["rows"].as_array().unwrap() {
        for (cell, vantage) in row["cells"].as_array().unwrap().iter().zip(vantages) {
            if let Some(source) = vantage["source"].as_str() {
                let Some(target) = cell["observed"]["target"].as_str() else { continue };
                let subject = row["subject"].as_str().unwrap().to_owned();
                if subject == "icmp/echo" && source != pinged {
                    continue;
                }
                // A source that the orders chose may have looked at a part only.
                if cell.is_null() || cell["observed"]["outcome"] == "unknown" {
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
        // A client that uses MPTCP meets the same.
        if let Some(port) = subject.strip_prefix("tcp/")
            && truth == "answers"
            && *multipath % 5 < 2
        {
            let to = SocketAddr::new(ip(target), port.parse().unwrap());
            let from = ip(source);
            let met = lab.world.run(move || connected(MPTCP, Some(from), to)).unwrap();
            assert!(met.is_ok(), "by MPTCP, {subject} as {source}: {met:?}\n{told}");
        }
        *multipath += 1;
    }
    seen.len()
}

/// What a connection of a client meets.
fn connected(protocol: i32, from: Option<IpAddr>, to: SocketAddr) -> Result<(), ErrorKind> {
    let connect = || {
        let domain = Domain::for_address(to);
        let socket = Socket::new(domain, Type::STREAM, Some(Protocol::from(protocol)))?;
        socket.set_linger(Some(Duration::ZERO))?;
        if let Some(from) = from {
            socket.bind(&SocketAddr::new(from, 0).into())?;
        }
        socket.connect_timeout(&to.into(), 4 * PATIENCE)
    };
    match connect().map_err(|e: std::io::Error| e.kind()) {
        // A program that resets may do so before the connection is whole here: it accepted.
        Err(ErrorKind::ConnectionReset) => Ok(()),
        met => met,
    }
}

/// What this host can reach of the world.
fn outward(lab: &Lab, told: &str) -> Value {
    let ways = [PARTNER, STRANGER];
    let ways = ways.as_flattened().iter().flat_map(|to| OUTSIDE.map(|port| (ip(to), port)));
    let named: Vec<String> =
        ways.map(|(to, port)| format!("--outbound={}", SocketAddr::new(to, port))).collect();
    let mut arguments = vec!["reach", "--host", "archive", "--json"];
    arguments.extend(named.iter().map(String::as_str));
    read(lab.tipstaff(&arguments), told)
}

/// Connects as an ordinary program of the host, by IPv4 addresses and by their
/// mapped ones.
fn compare_outward(lab: &Lab, report: &Value, told: &str, busy: bool) -> usize {
    let mut seen = 0;
    for crossing in report["crossings"].as_array().unwrap() {
        let to = ip(crossing["destination"].as_str().unwrap());
        let port = crossing["subject"].as_str().unwrap().strip_prefix("tcp/").unwrap();
        let port: u16 = port.parse().unwrap();
        let mut ways = vec![to];
        if let IpAddr::V4(four) = to {
            ways.push(four.to_ipv6_mapped().into());
        }
        assert_eq!(crossing["why"], Value::Null, "{crossing:#}\n{told}");
        for way in ways {
            let to = SocketAddr::new(way, port);
            let tcp = Protocol::TCP.into();
            let met = lab.archive.run(move || connected(tcp, None, to)).unwrap();
            let is_it = match crossing["observed"].as_str().unwrap() {
                "passes" => met.is_ok(),
                "kept" => {
                    matches!(met, Err(ErrorKind::PermissionDenied | ErrorKind::ConnectionRefused))
                }
                "refused" => met == Err(ErrorKind::ConnectionRefused),
                _ => busy,
            };
            assert!(is_it, "{way}: {met:?}, {crossing:#}\n{told}");
            seen += 1;
        }
    }
    seen
}

/// The host as another machine sees it, which has the same orders.
fn from_the_desk(lab: &Lab, told: &str) -> usize {
    let arguments = ["reach", "--target", "archive", "--host", "desk-3", "--json"];
    let mut command = lab.command(&arguments);
    let report = read(lab.world.run(move || command.output().unwrap()).unwrap(), told);
    let vantages = report["vantages"].as_array().unwrap();
    let mut seen = 0;
    for row in report["rows"].as_array().unwrap() {
        let Some(port) = row["subject"].as_str().unwrap().strip_prefix("tcp/") else { continue };
        let port: u16 = port.parse().unwrap();
        for (cell, vantage) in row["cells"].as_array().unwrap().iter().zip(vantages) {
            let from = ip(vantage["source"].as_str().unwrap());
            let Some(target) = cell["observed"]["target"].as_str() else { continue };
            let to = SocketAddr::new(ip(target), port);
            let tcp = Protocol::TCP.into();
            let met = lab.world.run(move || connected(tcp, Some(from), to)).unwrap();
            let met = match met {
                Ok(()) => "answers",
                Err(ErrorKind::ConnectionRefused) => "refuses",
                Err(ErrorKind::TimedOut) => "silent",
                Err(other) => panic!("{other:?}"),
            };
            assert_eq!(cell["observed"]["outcome"], met, "{to} from {from}: {cell:#}\n{told}");
            seen += 1;
        }
    }
    seen
}
