//! `replay` on captures in all their forms, and against the kernel on the same traffic.

#![allow(clippy::unwrap_used)]

mod common;
#[path = "common/running.rs"]
mod running;
#[path = "common/shapes.rs"]
mod shapes;

use std::fs::{self, File};
use std::io::Write;
use std::net::UdpSocket;
use std::path::{Path, PathBuf};
use std::process::{Command, Output, Stdio};

use common::{ARCHIVE, Lab, PARTNER, STRANGER};
use nix::sys::signal::{Signal, kill};
use nix::unistd::Pid;
use running::Running;
use serde_json::Value;
use tipstaff_core::packet::{Packet, Payload, parse_ethernet};
use tipstaff_testing::capture::{MICRO, NANO, checksum, night, packet, pcap, tcp, udp};
use tipstaff_testing::clients::ping;
use tipstaff_testing::patience::in_time;
use tipstaff_testing::{ip, skipped};

const ORDERS: &str = "version = 1\n[standing]\ninbound = \"deny\"\noutbound = \"allow\"\ntransit = \"deny\"\n\
    [[rules]]\nname = \"plates\"\naction = \"allow\"\ntraffic = \"tcp/7410\"\nsource = \"203.0.113.0/24\"\n\
    [[rules]]\nname = \"sky\"\naction = \"allow\"\ntraffic = \"udp/7420\"\n";

const HOST: [u8; 4] = [198, 51, 100, 20];
const FRIEND: [u8; 4] = [203, 0, 113, 9];
const OTHER: [u8; 4] = [192, 0, 2, 66];

/// A handshake that is let in, one that would be cut, and two that ask in vain.
fn story() -> Vec<Vec<u8>> {
    let handshake = |from: [u8; 4], port: u16| {
        [
            tcp(from, HOST, (port, 7410), 2),
            tcp(HOST, from, (7410, port), 0x12),
            tcp(from, HOST, (port, 7410), 0x10),
        ]
    };
    let mut all = handshake(FRIEND, 4_000).to_vec();
    all.extend(handshake(OTHER, 4_001));
    all.extend([
        tcp(OTHER, HOST, (4_002, 22), 2),
        udp(OTHER, HOST, (9, 7420)),
        udp(OTHER, HOST, (9, 161)),
    ]);
    all
}

fn run(folder: &Path, arguments: &[&str], input: Option<&Path>) -> Output {
    let mut command = Command::new(assert_cmd::cargo::cargo_bin!("tipstaff"));
    command.args(["replay", "--own", "198.51.100.20"]).args(arguments).env("NO_COLOR", "1");
    command.args(["--orders", folder.join("orders.toml").to_str().unwrap()]);
    if let Some(input) = input {
        command.stdin(Stdio::from(File::open(input).unwrap()));
    }
    command.output().unwrap()
}

fn told(folder: &Path, arguments: &[&str]) -> Value {
    let output = run(folder, &[arguments, &["--json"]].concat(), None);
    let text = String::from_utf8(output.stdout).unwrap();
    assert!(!text.is_empty(), "{}", String::from_utf8_lossy(&output.stderr));
    shapes::Shapes::default().check(&["replay"], &text);
    serde_json::from_str(&text).unwrap()
}

fn count(report: &Value, by: &str) -> u64 {
    let rows = report["rows"].as_array().unwrap();
    rows.iter().find(|row| row["by"] == by).map_or(0, |row| row["packets"].as_u64().unwrap())
}

fn folder() -> tempfile::TempDir {
    let folder = tempfile::tempdir().unwrap();
    fs::write(folder.path().join("orders.toml"), ORDERS).unwrap();
    folder
}

fn written(folder: &Path, name: &str, bytes: &[u8]) -> PathBuf {
    let path = folder.join(name);
    fs::write(&path, bytes).unwrap();
    path
}

#[test]
fn a_capture_says_the_same_in_all_its_forms() {
    let folder = folder();
    let folder = folder.path();
    let story = story();
    let plain = written(folder, "plain.pcap", &pcap(1, MICRO, false, &story));
    let mut gz = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    gz.write_all(&fs::read(&plain).unwrap()).unwrap();
    let mut forms = vec![plain.clone(), written(folder, "gz.pcap", &gz.finish().unwrap())];
    for (link, magic, big) in [
        (1, MICRO, true),
        (1, NANO, false),
        (101, MICRO, false),
        (113, NANO, true),
        (276, MICRO, false),
    ] {
        let name = format!("{link}-{magic:x}-{big}.pcap");
        forms.push(written(folder, &name, &pcap(link, magic, big, &story)));
    }
    let again = folder.join("again.pcapng");
    let first = told(folder, &[plain.to_str().unwrap(), "--write", again.to_str().unwrap()]);
    forms.push(again);
    assert_eq!(first["packets"], 9);
    assert_eq!(count(&first, "rule 1 (plates)"), 1, "{first}");
    assert_eq!(count(&first, "rule 2 (sky)"), 1);
    // Two that ask in vain, and of the one that is cut what it asks and what follows.
    assert_eq!(count(&first, "the standing answer inbound"), 4);
    let cut = first["cut"].as_array().unwrap();
    assert_eq!((cut.len(), &cut[0]["source"]), (1, &"192.0.2.66:4001".into()), "{first}");
    let vain: Vec<_> =
        first["turned_away"].as_array().unwrap().iter().map(|t| &t["traffic"]).collect();
    assert_eq!(vain, ["tcp/22", "udp/161"]);
    for form in &forms {
        let report = told(folder, &[form.to_str().unwrap()]);
        let key = |report: &Value| {
            (
                report["rows"]
                    .as_array()
                    .unwrap()
                    .iter()
                    .map(|r| (r["by"].clone(), r["packets"].clone()))
                    .collect::<Vec<_>>(),
                report["cut"].as_array().unwrap().len(),
                report["first"].as_str().unwrap()[..19].to_owned(),
            )
        };
        assert_eq!(key(&report), key(&first), "{}", form.display());
    }
    let piped = run(folder, &["-", "--json"], Some(&forms[1]));
    let piped: Value = serde_json::from_slice(&piped.stdout).unwrap();
    assert_eq!(piped["packets"], 9);
    let text = String::from_utf8(run(folder, &[plain.to_str().unwrap()], None).stdout).unwrap();
    assert!(
        text.contains("1 conversation would be cut") && text.contains("192.0.2.66:4001"),
        "{text}"
    );
}

#[test]
fn what_was_decided_is_written_with_its_reason() {
    let folder = folder();
    let folder = folder.path();
    let plain = written(folder, "plain.pcap", &pcap(1, MICRO, false, &story()));
    let out = folder.join("denied.pcapng");
    let arguments =
        [plain.to_str().unwrap(), "--write", out.to_str().unwrap(), "--verdict", "deny"];
    assert_eq!(told(folder, &arguments)["packets"], 9);
    let bytes = fs::read(&out).unwrap();
    let comment = "tipstaff: deny, inbound by the standing answer inbound";
    assert_eq!(String::from_utf8_lossy(&bytes).matches(comment).count(), 4);
    assert_eq!(told(folder, &[out.to_str().unwrap()])["packets"], 4);
    // And by a reader that is not ours.
    match Command::new("tcpdump").args(["-nn", "-r"]).arg(&out).output() {
        Ok(read) if read.status.success() => {
            let text = String::from_utf8_lossy(&read.stdout).into_owned();
            assert_eq!(text.lines().count(), 4, "{text}");
            assert!(text.contains("192.0.2.66.4002 > 198.51.100.20.22"), "{text}");
        }
        found => skipped("a capture read by tcpdump was", &format!("{found:?}")),
    }
    // Nothing is left where it cannot be written.
    let nowhere = run(folder, &[plain.to_str().unwrap(), "--write", "/proc/none/x"], None);
    assert_ne!(nowhere.status.code(), Some(0));
}

#[test]
fn other_orders_say_which_conversations_differ() {
    let folder = folder();
    let folder = folder.path();
    let plain = written(folder, "plain.pcap", &pcap(1, MICRO, false, &story()));
    let other = ORDERS.replace("203.0.113.0/24", "192.0.2.0/24");
    let other = written(folder, "other.toml", other.as_bytes());
    let report = told(folder, &[plain.to_str().unwrap(), "--compare", other.to_str().unwrap()]);
    let differ = report["differ"].as_array().unwrap();
    let sources: Vec<_> = differ.iter().map(|told| told["source"].as_str().unwrap()).collect();
    assert_eq!(sources, ["203.0.113.9:4000", "192.0.2.66:4001"], "{report}");
    assert_eq!(differ[0]["other"]["by"], "the standing answer inbound");
    assert_eq!(differ[1]["other"]["stopped"], 0);
}

#[test]
fn a_damaged_capture_is_read_as_far_as_it_goes() {
    let folder = folder();
    let folder = folder.path();
    let whole = pcap(1, MICRO, false, &story());
    for end in [24, 30, 41, 60, whole.len() / 2, whole.len() - 1] {
        let path = written(folder, "cut.pcap", &whole[..end]);
        let output = run(folder, &[path.to_str().unwrap(), "--json"], None);
        let report: Value = serde_json::from_slice(&output.stdout).unwrap();
        let damaged = end != 24;
        assert_eq!(output.status.code(), Some(i32::from(damaged)), "{end}: {report}");
        assert_eq!(report["damaged"].is_object(), damaged, "{end}: {report}");
        if let Some(offset) = report["damaged"]["offset"].as_u64() {
            assert!(offset <= end as u64 && offset >= 24, "{report}");
        }
    }
    let other = written(folder, "zigbee.pcap", &pcap(195, MICRO, false, &story()));
    let report = told(folder, &[other.to_str().unwrap()]);
    assert!(report["notes"][0].as_str().unwrap().contains("link type 195"), "{report}");
    let no = written(folder, "no.pcap", b"GIF89a, not a capture at all, whatever its name says");
    let output = run(folder, &[no.to_str().unwrap()], None);
    let error = String::from_utf8_lossy(&output.stderr);
    assert!(
        output.status.code() == Some(2) && error.contains("neither pcap nor pcapng"),
        "{error}"
    );
    let output = run(folder, &["/nonexistent/x.pcap"], None);
    let error = String::from_utf8_lossy(&output.stderr);
    assert!(!output.status.success() && error.contains("/nonexistent/x.pcap"), "{error}");
}

/// What all hosts of a link are sent comes in, whatever the address; an echo has no port; and
/// a file may be two captures, one behind the other.
#[test]
fn the_link_layer_and_the_sections_are_read() {
    let folder = folder();
    let folder = folder.path();
    let all_hosts = udp(OTHER, [198, 51, 100, 255], (9, 7420));
    let mut frames = pcap(1, MICRO, false, std::slice::from_ref(&all_hosts));
    frames[40..46].fill(0xff);
    let mut cooked = pcap(113, MICRO, false, std::slice::from_ref(&all_hosts));
    cooked[41] = 1;
    let mut cooked_two = pcap(276, MICRO, false, &[all_hosts]);
    cooked_two[50] = 1;
    for (n, bytes) in [frames, cooked, cooked_two].into_iter().enumerate() {
        let path = written(folder, &format!("{n}.pcap"), &bytes);
        let report = told(folder, &[path.to_str().unwrap()]);
        assert_eq!(count(&report, "rule 2 (sky)"), 1, "{n}: {report}");
    }
    let mut echo = vec![8, 0, 0, 0, 0x12, 0x34, 0, 1];
    let sum = checksum(&echo);
    echo[2..4].copy_from_slice(&sum);
    let path =
        written(folder, "echo.pcap", &pcap(1, MICRO, false, &[packet(OTHER, HOST, 1, &echo)]));
    let report = told(folder, &[path.to_str().unwrap()]);
    assert_eq!(report["turned_away"][0]["source"], "192.0.2.66", "{report}");
    // Each section has interfaces of its own, which the written file tells apart.
    let orders = format!("{ORDERS}interface = \"lan1\"\n");
    fs::write(folder.join("orders.toml"), orders).unwrap();
    let sky = written(folder, "sky.pcap", &pcap(1, MICRO, false, &[udp(OTHER, HOST, (9, 7420))]));
    let sections = ["lan0", "lan1"].map(|name| {
        let section = folder.join(format!("{name}.pcapng"));
        let arguments = [sky.to_str().unwrap(), "--interface", name, "--write"];
        told(folder, &[&arguments[..], &[section.to_str().unwrap()]].concat());
        fs::read(&section).unwrap()
    });
    let both = written(folder, "both.pcapng", &sections.concat());
    let again = folder.join("again.pcapng");
    let report = told(folder, &[both.to_str().unwrap(), "--write", again.to_str().unwrap()]);
    assert_eq!(count(&report, "rule 2 (sky)"), 1, "{report}");
    let again = told(folder, &[again.to_str().unwrap()]);
    assert_eq!(again["rows"], report["rows"]);
}

/// Orders that are drafted from a capture cut none of what was answered there, let in nobody
/// else, and are short.
#[test]
fn a_draft_from_a_capture_lets_in_who_was_answered() {
    let folder = folder();
    let folder = folder.path();
    let capture = Path::new(env!("CARGO_MANIFEST_DIR")).join("demo/night.pcap");
    let capture = capture.to_str().unwrap();
    let orders = folder.join("orders.toml");
    fs::remove_file(&orders).unwrap();
    let mut draft = Command::new(assert_cmd::cargo::cargo_bin!("tipstaff"));
    draft.args(["draft", "--from-capture", capture, "--own", "198.51.100.20", "--to"]).arg(&orders);
    let drafted = draft.output().unwrap();
    assert!(drafted.status.success(), "{}", String::from_utf8_lossy(&drafted.stderr));
    let text = fs::read_to_string(&orders).unwrap();
    let rules = text.matches("[[rules]]").count();
    assert!((3..=5).contains(&rules), "{text}");
    assert!(text.contains("asked for 8 times, 2026-11-18"), "{text}");
    assert!(text.contains("# Left out, because nothing here answered or listened:"), "{text}");
    assert!(text.contains("from 192.0.2.66"), "{text}");
    let report = told(folder, &[capture]);
    assert_eq!(report["cut"], Value::Array(Vec::new()), "{text}");
    assert_eq!(report["turned_away"].as_array().unwrap().len(), 40, "{report}");
}

/// The capture that the demo plays. `TIPSTAFF_UPDATE=1` writes it anew.
#[test]
fn the_capture_of_the_demo_is_what_its_helper_makes() {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("demo/night.pcap");
    if std::env::var_os("TIPSTAFF_UPDATE").is_some() {
        fs::write(&path, night()).unwrap();
    }
    assert!(fs::read(&path).unwrap() == night(), "made anew by TIPSTAFF_UPDATE=1");
}

/// The same traffic, decided by the kernel while tcpdump captures it, and by a replay.
/// Who sent each packet of a capture, what for, and what was said of it there, but for what
/// foundations decided, which the log leaves out.
fn said_of_each(capture: &[u8]) -> Vec<String> {
    let mut said = Vec::new();
    let mut at = 0;
    let word = |at: usize| u32::from_le_bytes(capture[at..at + 4].try_into().unwrap()) as usize;
    while at < capture.len() {
        // An enhanced packet block: its length, that of the packet, and a comment behind it.
        if word(at) == 6 {
            let length = word(at + 20);
            let data = &capture[at + 28..at + 28 + length];
            let options = at + 28 + length.next_multiple_of(4);
            let comment = (word(options) >> 16) & 0xffff;
            let comment = &capture[options + 4..options + 4 + comment];
            let comment = String::from_utf8_lossy(comment);
            if let (Packet::Ip(ip), false) =
                (parse_ethernet(data), comment.contains("by foundation"))
            {
                let source = match ip.payload {
                    Payload::Tcp { from, .. } | Payload::Udp { from, .. } => {
                        std::net::SocketAddr::new(ip.source, from).to_string()
                    }
                    _ => ip.source.to_string(),
                };
                said.push(format!("{source} {} {comment}", ip.key().unwrap()));
            }
        }
        at += word(at + 4);
    }
    said.sort_unstable();
    said
}

#[test]
fn the_kernel_and_a_replay_agree_on_the_same_traffic() {
    if Command::new("tcpdump").arg("--version").output().is_err() {
        skipped("a replay against the kernel was", &"there is no tcpdump");
        return;
    }
    let Some(lab) = Lab::new() else { return };
    lab.orders(
        "[log]\nlevel = \"all\"\n\
         [[rules]]\nname = \"plates\"\naction = \"allow\"\ntraffic = \"tcp/7410\"\nsource = \"partner\"\n\
         [[rules]]\nname = \"few\"\naction = \"allow\"\ntraffic = \"tcp/7411\"\nat_most = \"2 per hour per source\"\nover = \"refuse\"\n\
         [[rules]]\nname = \"sky\"\naction = \"allow\"\ntraffic = \"udp/7420\"\n\
         [[rules]]\nname = \"ping\"\naction = \"allow\"\ntraffic = \"icmp/echo\"\nsource = \"partner\"\n",
    );
    let _listeners = [lab.listen("::", 7410), lab.listen("::", 7411)];
    let capture = lab.path().join("seen.pcap");
    let mut tcpdump = Command::new("tcpdump");
    tcpdump.args(["-i", "lan0", "-U", "-Z", "root", "-w"]).arg(&capture).stderr(Stdio::null());
    lab.done(&["post"]);
    let mut tcpdump = lab.archive.run(move || tcpdump.spawn().unwrap()).unwrap();
    let _keep = Running::of(&lab, &["keep"]);
    assert!(in_time(|| lab.path().join("run/decisions").exists()
        && fs::metadata(&capture).is_ok_and(|m| m.len() >= 24)));
    for family in 0..2 {
        lab.knock(PARTNER[family], ARCHIVE[family], 7410);
        lab.knock(STRANGER[family], ARCHIVE[family], 7410);
        for _ in 0..4 {
            lab.knock(STRANGER[family], ARCHIVE[family], 7411);
        }
        ping(&lab.world, PARTNER[family], ARCHIVE[family]);
        ping(&lab.world, STRANGER[family], ARCHIVE[family]);
        let target = ip(ARCHIVE[family]);
        lab.world
            .run(move || {
                let socket = UdpSocket::bind((ip(STRANGER[family]), 0)).unwrap();
                for port in [7420, 7420, 7421] {
                    socket.send_to(b"?", (target, port)).unwrap();
                }
            })
            .unwrap();
    }
    let tally = |by: &str| {
        let report: Value = serde_json::from_str(&lab.done(&["tally", "--all", "--json"])).unwrap();
        let rows = report["rows"].as_array().unwrap().clone();
        let row = rows.into_iter().find(|row| row["by"] == by).unwrap();
        (row["packets"].as_u64().unwrap(), row["beyond"].as_u64().unwrap())
    };
    let replayed = |by: &str| {
        let capture = capture.to_str().unwrap();
        let output = lab.tipstaff(&["replay", capture, "--interface", "lan0", "--json"]);
        let report: Value = serde_json::from_slice(&output.stdout).unwrap();
        (count(&report, by), count(&report, &format!("the rate of {by}")))
    };
    for by in [
        "rule 1 (plates)",
        "rule 2 (few)",
        "rule 3 (sky)",
        "rule 4 (ping)",
        "the standing answer inbound",
    ] {
        // What tcpdump has seen it writes in its own time.
        let agree = in_time(|| tally(by) == replayed(by));
        assert!(agree, "{by}: kernel {:?}, replay {:?}", tally(by), replayed(by));
        assert!(tally(by).0 > 0, "{by}");
    }
    assert!(tally("rule 2 (few)").1 > 0);
    // And each packet by itself, as the log has what the kernel said of it.
    let written = lab.path().join("said.pcapng");
    let (from, to) = (capture.to_str().unwrap(), written.to_str().unwrap());
    lab.done(&["replay", from, "--interface", "lan0", "--write", to]);
    let replayed = said_of_each(&fs::read(&written).unwrap());
    let logged = || {
        let lines = lab.done(&["log", "--json"]);
        let lines = lines.lines().map(|line| serde_json::from_str::<Value>(line).unwrap());
        let mut said: Vec<String> = lines
            .map(|line| {
                let text = |key: &str| line[key].as_str().unwrap().to_owned();
                let [source, traffic, verdict, direction, by] =
                    ["source", "traffic", "verdict", "direction", "by"].map(text);
                format!("{source} {traffic} tipstaff: {verdict}, {direction} by {by}")
            })
            .filter(|said| !said.contains("by foundation"))
            .collect();
        said.sort_unstable();
        said
    };
    assert!(in_time(|| logged() == replayed), "{:#?}\n{replayed:#?}", logged());
    assert!(replayed.len() > 20, "{replayed:#?}");
    kill(Pid::from_raw(tcpdump.id() as i32), Signal::SIGTERM).unwrap();
    tcpdump.wait().unwrap();
    lab.done(&["withdraw"]);
}
