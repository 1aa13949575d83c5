//! What is looked at: the log, the tally, and a flood of decisions.

use std::fmt::Write as _;
use std::net::UdpSocket;
use std::path::Path;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use serde_json::Value;
use tipstaff_host::lab::Space;
use tipstaff_testing::capture::{MICRO, pcap, tcp};

use crate::yardstick::{line, median};

fn tipstaff(folder: &Path, arguments: &[&str]) -> Command {
    let mut command = Command::new(env!("CARGO_BIN_EXE_tipstaff"));
    command
        .args(arguments)
        .env("TIPSTAFF_ORDERS", folder.join("orders.toml"))
        .env("TIPSTAFF_RUN", folder.join("seen"))
        .env("TIPSTAFF_LOG", folder.join("log"))
        .env("TIPSTAFF_HISTORY", folder.join("history"));
    command
}

fn took(command: &mut Command) -> Duration {
    let begin = Instant::now();
    let output = command.output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    begin.elapsed()
}

/// A log of a million decisions.
pub fn log() {
    const LINES: u32 = 1_000_000;
    let folder = tempfile::tempdir().unwrap();
    std::fs::create_dir(folder.path().join("log")).unwrap();
    let mut text = String::new();
    for n in 0..LINES {
        let (port, host) = ([22, 23, 80, 443][n as usize % 4], n % 250);
        let (hour, minute, second) = (n / 3_600 % 24, n / 60 % 60, n % 60);
        writeln!(text, "{{\"schema\":\"tipstaff.log/1\",\"time\":\"2026-11-28T{hour:02}:{minute:02}:{second:02}.{n:06}Z\",\"direction\":\"inbound\",\"interface\":\"lan0\",\"traffic\":\"tcp/{port}\",\"source\":\"203.0.113.{host}:40000\",\"destination\":\"198.51.100.20:{port}\",\"program\":null,\"verdict\":\"deny\",\"by\":\"the standing answer inbound\",\"rule\":null,\"position\":null,\"kind\":\"standing\",\"which\":\"inbound\"}}").unwrap();
    }
    std::fs::write(folder.path().join("log/decisions.jsonl"), text).unwrap();
    for arguments in [&["log", "--top", "sources"][..], &["log", "--source", "203.0.113.7"]] {
        let runs = (0..5).map(|_| took(&mut tipstaff(folder.path(), arguments)));
        let what = format!("`{}` over 1,000,000 decisions", arguments.join(" "));
        line(&what, format!("{:.2?}", median(runs.collect())), "≤ 1 s");
    }
}

/// A capture of two million small packets.
pub fn replay() {
    const TIMES: usize = 125;
    let host = [198, 51, 100, 20];
    let mut packets = Vec::new();
    for n in 0..2_000u16 {
        let (from, port) = ([203, 0, 113, (n % 250) as u8], 40_000 + n);
        packets.push(tcp(from, host, (port, 7410), 2));
        packets.push(tcp(host, from, (7410, port), 0x12));
        packets.extend((0..6).map(|_| tcp(from, host, (port, 7410), 0x10)));
    }
    let once = pcap(1, MICRO, false, &packets);
    let (head, body) = once.split_at(24);
    let folder = tempfile::tempdir().unwrap();
    let path = folder.path().join("many.pcap");
    std::fs::write(&path, [head, &body.repeat(TIMES)].concat()).unwrap();
    std::fs::write(folder.path().join("orders.toml"), include_str!("../../demo/orders.toml"))
        .unwrap();
    let arguments = ["replay", path.to_str().unwrap(), "--own", "198.51.100.20"];
    let runs = (0..3).map(|_| took(&mut tipstaff(folder.path(), &arguments)));
    let million = (packets.len() * TIMES) as f64 / median(runs.collect()).as_secs_f64() / 1e6;
    line("`replay` of small packets", format!("{million:.1} million/s"), "≥ 5 million/s");
}

/// Whole commands where 10,000 rules are in force. Called in the archive.
pub fn tally(folder: &Path, orders: &str) {
    std::fs::write(folder.join("orders.toml"), orders).unwrap();
    took(&mut tipstaff(folder, &["post"]));
    let runs = (0..15).map(|_| took(&mut tipstaff(folder, &["tally"])));
    line("`tally` with 10,000 rules", format!("{:.0?}", median(runs.collect())), "≤ 50 ms");
    took(&mut tipstaff(folder, &["withdraw"]));
}

/// Every decision of a flood is logged and watched, or counted as missing.
pub fn flood(archive: &Space, world: &Space, folder: &Path) {
    const PACKETS: u64 = 300_000;
    let orders = "version = 1\n[log]\nlevel = \"rules\"\n[standing]\ninbound = \"deny\"\noutbound = \"allow\"\ntransit = \"deny\"\n[[rules]]\nname = \"flood\"\naction = \"allow\"\ntraffic = \"udp/9\"\n";
    std::fs::write(folder.join("orders.toml"), orders).unwrap();
    let mut post = tipstaff(folder, &["post"]);
    archive.run(move || took(&mut post)).unwrap();
    let start = |arguments: &[&str], to: Stdio| -> Child {
        let mut command = tipstaff(folder, arguments);
        command.stdout(to);
        archive.run(move || command.spawn().unwrap()).unwrap()
    };
    let mut keep = start(&["keep"], Stdio::null());
    while !folder.join("seen/decisions").exists() {
        std::thread::sleep(Duration::from_millis(20));
    }
    let seen = folder.join("watched");
    let mut watch = start(&["watch", "--json"], std::fs::File::create(&seen).unwrap().into());
    std::thread::sleep(Duration::from_millis(500));
    let begin = Instant::now();
    world
        .run(|| {
            let socket = UdpSocket::bind(("198.51.100.1", 0)).unwrap();
            for _ in 0..PACKETS {
                let _ = socket.send_to(b"?", ("198.51.100.20", 9));
            }
        })
        .unwrap();
    let rate = PACKETS as f64 / begin.elapsed().as_secs_f64();
    std::thread::sleep(Duration::from_secs(4));
    // One more, so that what was not written is told.
    world
        .run(|| {
            UdpSocket::bind(("198.51.100.1", 0))
                .unwrap()
                .send_to(b"?", ("198.51.100.20", 9))
                .unwrap()
        })
        .unwrap();
    std::thread::sleep(Duration::from_secs(2));
    for child in [&mut watch, &mut keep] {
        child.kill().unwrap();
        child.wait().unwrap();
    }
    let mut told = Vec::new();
    for path in [folder.join("log/decisions.jsonl"), seen] {
        let (mut decisions, mut missing) = (0u64, 0u64);
        for text in std::fs::read_to_string(path).unwrap().lines() {
            let value: Value = serde_json::from_str(text).unwrap();
            let gap =
                ["lost", "not_sampled", "not_written"].map(|key| value[key].as_u64().unwrap_or(0));
            missing += gap.iter().sum::<u64>();
            decisions += u64::from(value["traffic"] == "udp/9");
        }
        told.push(format!("{decisions} + {missing} missing = {}", decisions + missing));
    }
    let what = format!("{} decisions at {:.0}/s: in the log", PACKETS + 1, rate);
    line(&what, told[0].clone(), "all or counted");
    line("  seen by `watch`", told[1].clone(), "all or counted");
    let mut withdraw = tipstaff(folder, &["withdraw"]);
    archive.run(move || took(&mut withdraw)).unwrap();
}
