//! What the gate costs real traffic: `cargo bench -p tipstaff --bench traffic`.
//! Over a cable between two namespaces of its own, on and off by turns, so that
//! what else the machine does meets both. Needs root.

#![allow(clippy::unwrap_used, missing_docs)]

use std::io::{Read, Write};
use std::net::{IpAddr, SocketAddr, TcpListener, TcpStream};
use std::os::fd::{AsFd, AsRawFd};
use std::path::{Path, PathBuf};
use std::process::Command;
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, Instant};

use nix::sys::socket::{AddressFamily, MsgFlags, SockFlag, SockProtocol, SockType, bind, socket};
use tipstaff_core::analysis::reach::Subject;
use tipstaff_core::brief::Brief;
use tipstaff_core::names::traffic::Transport;
use tipstaff_core::orders::read;
use tipstaff_gate::kernel::{KernelGate, check_support};
use tipstaff_gate::{Gate, Posting, Record};
use tipstaff_host::interfaces;
use tipstaff_host::lab::{self, Mounts, Space};
use tipstaff_knock::frames::{self, FIRST_PORT, Knock};

const ARCHIVE: &str = "198.51.100.20";
const SINK: u16 = 7410;
const DOOR: u16 = 7411;
const TURN: Duration = Duration::from_millis(700);
const TURNS: usize = 9;
/// What a connection takes changes with the machine from one moment to the next by more
/// than the gate costs: many short turns tell more than few long ones.
const SHORT_TURN: Duration = Duration::from_millis(70);
const SHORT_TURNS: usize = 99;
/// By then the kernel has freed what a post or a withdrawal leaves behind, which is
/// no part of what a packet costs.
const SETTLED: Duration = Duration::from_millis(100);

fn main() {
    if std::env::args().any(|a| a == "--test") {
        return;
    }
    if let Err(why) = check_support() {
        println!("SKIPPED: {why}");
        return;
    }
    let world = Space::new(Mounts::Shared).unwrap();
    let archive = Arc::new(Space::new(Mounts::Own).unwrap());
    let end = world.as_fd().try_clone_to_owned().unwrap();
    let folder = tempfile::tempdir().unwrap();
    let run_dir = folder.path().join("run");
    archive
        .run(move || {
            lab::cable("lan0", "w0", end.as_fd()).unwrap();
            lab::up("lan0").unwrap();
            lab::address("lan0", ARCHIVE.parse().unwrap(), 24).unwrap();
            listen();
        })
        .unwrap();
    world
        .run(|| {
            lab::up("w0").unwrap();
            lab::address("w0", "198.51.100.1".parse().unwrap(), 24).unwrap();
        })
        .unwrap();
    println!("{:<58} {:>16}  bar", "what", "measured");
    // One part by its name, or all.
    let wanted = |part: &str| {
        let mut named = std::env::args().skip(1).filter(|arg| !arg.starts_with('-')).peekable();
        named.peek().is_none() || named.any(|arg| arg == part)
    };
    for rules in [10, 1_000, 10_000].into_iter().filter(|_| wanted("throughput")) {
        let by = by_turns((&archive, &run_dir), (rules, TURNS), || world.run(throughput).unwrap());
        let what = format!("throughput of one connection, {rules} rules, on / off");
        println!("{what:<58} {:>16.2}  ≥ 0.97", by.ratio);
    }
    if wanted("connections") {
        let by = by_turns((&archive, &run_dir), (1_000, SHORT_TURNS), || {
            world.run(connections).unwrap()
        });
        let what = format!("new connections, 1,000 rules, on / off ({:.0}/s off)", by.off);
        println!("{what:<58} {:>16.2}  ≥ 0.95", by.ratio);
    }
    if wanted("logged") {
        logged(&archive, &world, &run_dir);
    }
    if wanted("flood") {
        flood(&archive, &world, &run_dir);
    }
    if wanted("swaps") {
        swaps(&archive, &world, run_dir);
    }
}

/// What it costs to log every connection, with `keep` writing them down.
fn logged(archive: &Arc<Space>, world: &Space, run_dir: &Path) {
    let level = |level: &'static str| {
        let dir = run_dir.to_owned();
        move || {
            let (dir, further) = (dir.clone(), format!("[log]\nlevel = \"{level}\"\n"));
            archive.run(move || post(&dir, 1_000, &further)).unwrap();
        }
    };
    level("off")();
    let folder = run_dir.parent().unwrap();
    let mut keep = Command::new(env!("CARGO_BIN_EXE_tipstaff"));
    keep.arg("keep").env("TIPSTAFF_RUN", run_dir).env("TIPSTAFF_LOG", folder.join("log"));
    keep.env("TIPSTAFF_HISTORY", folder.join("history"));
    let mut keep = archive.run(move || keep.spawn().unwrap()).unwrap();
    let measure = || world.run(connections).unwrap();
    let by = one_and_other(SHORT_TURNS, level("all"), level("off"), measure);
    let what = format!("new connections, logged / not ({:.0}/s not)", by.off);
    println!("{what:<58} {:>16.2}  ≥ 0.95", by.ratio);
    keep.kill().unwrap();
    keep.wait().unwrap();
    let dir = run_dir.to_owned();
    archive.run(move || KernelGate::new(&dir).unwrap().withdraw().unwrap()).unwrap();
}

/// What a denied SYN costs this machine, sender included: a bounded flood over
/// the cable to a closed port, with the gate and without, where the kernel
/// answers each by a reset.
fn flood(archive: &Arc<Space>, world: &Space, run_dir: &Path) {
    const PACKETS: u32 = 100_000;
    let mac = archive.run(|| {
        let all = interfaces::list().unwrap();
        all.into_iter().find(|i| i.name == "lan0").unwrap().hardware.unwrap()
    });
    let mac = mac.unwrap();
    let send = move || {
        let link = nix::ifaddrs::getifaddrs().unwrap().find_map(|entry| {
            let link = entry.address?.as_link_addr().copied()?;
            (entry.interface_name == "w0").then_some(link)
        });
        let all = SockProtocol::EthAll;
        let socket = socket(AddressFamily::Packet, SockType::Raw, SockFlag::empty(), all).unwrap();
        bind(socket.as_raw_fd(), &link.unwrap()).unwrap();
        let target = ARCHIVE.parse().unwrap();
        let frames: Vec<Vec<u8>> = (0..200u8)
            .map(|n| {
                let knock = Knock {
                    source: IpAddr::from([198, 51, 100, 30 + n]),
                    target,
                    from: FIRST_PORT,
                    tag: 1,
                };
                frames::first(Subject::Port(Transport::Tcp, 9_999), knock, mac)
            })
            .collect();
        let begin = Instant::now();
        for n in 0..PACKETS as usize {
            let sent =
                nix::sys::socket::send(socket.as_raw_fd(), &frames[n % 200], MsgFlags::empty());
            sent.unwrap();
        }
        begin.elapsed().as_secs_f64() * 1e9 / f64::from(PACKETS)
    };
    let By { on, off, ratio } =
        by_turns((archive, run_dir), (1_000, TURNS), || world.run(send).unwrap());
    let what = format!("a flood of denied SYNs, on / off ({on:.0} ns a packet, {off:.0} off)");
    println!("{what:<58} {ratio:>16.2}");
}

/// A sink that reads everything, and a door that closes at once.
fn listen() {
    let bind = |port: u16| TcpListener::bind((ARCHIVE, port)).unwrap();
    let (sink, door) = (bind(SINK), bind(DOOR));
    std::thread::spawn(move || {
        for stream in sink.incoming().flatten() {
            std::thread::spawn(move || drain(stream));
        }
    });
    std::thread::spawn(move || for _ in door.incoming().flatten() {});
}

fn drain(mut stream: TcpStream) {
    let mut buffer = vec![0; 1 << 20];
    while stream.read(&mut buffer).is_ok_and(|n| n > 0) {}
}

/// Medians: with the gate, without, and of the ratio of each turn with it to the
/// turns without it around it.
struct By {
    on: f64,
    off: f64,
    ratio: f64,
}

/// Measures with the gate on and off by turns.
fn by_turns(
    (archive, run_dir): (&Arc<Space>, &Path),
    (rules, turns): (usize, usize),
    measure: impl Fn() -> f64,
) -> By {
    let turn_on = || {
        let dir = run_dir.to_owned();
        archive.run(move || post(&dir, rules, "")).unwrap();
    };
    let turn_off = || {
        let dir = run_dir.to_owned();
        archive.run(move || KernelGate::new(&dir).unwrap().withdraw().unwrap()).unwrap();
    };
    one_and_other(turns, turn_on, turn_off, measure)
}

/// Measures two things by turns.
fn one_and_other(
    turns: usize,
    turn_on: impl Fn(),
    turn_off: impl Fn(),
    measure: impl Fn() -> f64,
) -> By {
    let (mut on, mut off, mut ratios) = (Vec::new(), Vec::new(), Vec::new());
    for turn in 0..turns {
        turn_on();
        std::thread::sleep(SETTLED);
        on.push(measure());
        turn_off();
        std::thread::sleep(SETTLED);
        off.push(measure());
        // Beside its neighbours: what the machine does meanwhile changes within seconds.
        let around = (off[turn.saturating_sub(1)] + off[turn]) / 2.0;
        ratios.push(on[turn] / around);
    }
    let median = |mut all: Vec<f64>| {
        all.sort_by(f64::total_cmp);
        all[all.len() / 2]
    };
    By { on: median(on), off: median(off), ratio: median(ratios) }
}

fn post(run_dir: &Path, rules: usize, further: &str) {
    let mut text = format!(
        "version = 1\n{further}[standing]\ninbound = \"deny\"\noutbound = \"allow\"\ntransit = \"deny\"\n"
    );
    for n in 0..rules - 1 {
        let (a, b) = (n / 256 % 256, n % 256);
        text += &format!(
            "[[rules]]\nname = \"rule-{n}\"\naction = \"allow\"\ntraffic = \"tcp/{}\"\nsource = \"10.{a}.{b}.0/24\"\n",
            1 + n % 7_000
        );
    }
    text += "[[rules]]\nname = \"world\"\naction = \"allow\"\ntraffic = \"tcp/7410-7411\"\nsource = \"198.51.100.1\"\n";
    let brief = Brief::unplaced(&read(&text).unwrap());
    let record = Record::from_text(text);
    let all = interfaces::list().unwrap();
    KernelGate::new(run_dir).unwrap().post(&Posting { brief: &brief, record }, &all).unwrap();
}

/// Bytes a second of one connection.
fn throughput() -> f64 {
    let mut stream = TcpStream::connect((ARCHIVE, SINK)).unwrap();
    let block = vec![7; 1 << 18];
    let (begin, mut sent) = (Instant::now(), 0usize);
    while begin.elapsed() < TURN {
        stream.write_all(&block).unwrap();
        sent += block.len();
    }
    sent as f64 / begin.elapsed().as_secs_f64()
}

/// Connections a second, one after the other. Reset at the end, so that ports do not run out.
fn connections() -> f64 {
    let address: SocketAddr = format!("{ARCHIVE}:{DOOR}").parse().unwrap();
    let (begin, mut made) = (Instant::now(), 0u32);
    while begin.elapsed() < SHORT_TURN {
        let socket =
            socket2::Socket::new(socket2::Domain::IPV4, socket2::Type::STREAM, None).unwrap();
        socket.set_linger(Some(Duration::ZERO)).unwrap();
        socket.connect(&address.into()).unwrap();
        // Until the door closes: it never has a queue then.
        let _ = TcpStream::from(socket).read(&mut [0]);
        made += 1;
    }
    f64::from(made) / begin.elapsed().as_secs_f64()
}

/// Orders are swapped under a connection that goes on talking.
fn swaps(archive: &Arc<Space>, world: &Space, run_dir: PathBuf) {
    const SWAPS: usize = 10_000;
    let dir = run_dir.clone();
    archive.run(move || post(&dir, 10, "")).unwrap();
    let stop = Arc::new(AtomicBool::new(false));
    let stopped = Arc::clone(&stop);
    let (archive, begin) = (Arc::clone(archive), Instant::now());
    let swapping = std::thread::spawn(move || {
        archive
            .run(move || {
                for n in 0..SWAPS {
                    post(&run_dir, 10 + n % 2, "");
                }
                KernelGate::new(&run_dir).unwrap().withdraw().unwrap();
            })
            .unwrap();
        stopped.store(true, Ordering::Relaxed);
    });
    let sent = world
        .run(move || {
            let mut stream = TcpStream::connect((ARCHIVE, SINK)).unwrap();
            let (block, mut sent) = (vec![7; 1 << 16], 0u64);
            while !stop.load(Ordering::Relaxed) {
                stream.write_all(&block).unwrap();
                sent += 1;
            }
            sent
        })
        .unwrap();
    swapping.join().unwrap();
    let took = begin.elapsed();
    println!(
        "{:<58} {:>16}  none lost",
        format!("{SWAPS} swaps under one connection ({took:.1?})"),
        format!("{} MiB sent", sent >> 4)
    );
}
