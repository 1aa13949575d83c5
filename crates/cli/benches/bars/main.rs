//! The bars of docs/architecture.md, measured: `cargo bench -p tipstaff`.
//! Every figure that needs the kernel is taken in namespaces of its own and
//! needs root; without it the line says so.

#![allow(clippy::unwrap_used, missing_docs)]

mod kernel;
mod seen;
mod steps;
mod yardstick;

use std::hint::black_box;
use std::net::IpAddr;
use std::os::fd::AsFd;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use tipstaff_core::analysis::compare::Comparison;
use tipstaff_core::analysis::reach::{Subject, first_packet};
use tipstaff_core::analysis::review::{ReviewContext, review};
use tipstaff_core::brief::Brief;
use tipstaff_core::decision::{Decision, decide};
use tipstaff_core::moment::Moment;
use tipstaff_core::names::traffic::Transport;
use tipstaff_core::orders::edit::{Edit, Which, edit};
use tipstaff_core::orders::{Attachments, Documents, read, read_all};
use tipstaff_core::packet::InterfaceIndex;
use tipstaff_core::tables::Tables;
use tipstaff_gate::kernel::{KernelGate, check_support};
use tipstaff_gate::{Gate, Posting, Record};
use tipstaff_host::interfaces;
use tipstaff_host::lab::{self, Mounts, Space};

use kernel::{verdicts, witness};
use yardstick::{line, median, slower, yardstick};

const HEAD: &str =
    "version = 1\n[standing]\ninbound = \"deny\"\noutbound = \"allow\"\ntransit = \"deny\"\n";

fn main() {
    // `cargo test` runs benches too, with this argument: then there is nothing to measure.
    if std::env::args().any(|a| a == "--test") {
        return;
    }
    let (memory, calls) = yardstick();
    let slower = slower();
    println!(
        "yardstick: {memory:.1} million steps/s in memory, {calls:.2} million system calls/s; \
         here things take {slower:.2} times as long as where the bars were set\n"
    );
    println!("{:<62} {:>16}  {:<14} judged by the yardstick", "what", "measured", "bar");
    start();
    user_space();
    large();
    seen::log();
    seen::replay();
    match check_support() {
        Ok(()) => in_the_kernel(),
        Err(why) => println!("SKIPPED: everything in the kernel: {why}"),
    }
}

/// Whole processes on the demo's orders, spawn to exit.
fn start() {
    let orders = concat!(env!("CARGO_MANIFEST_DIR"), "/demo/orders.toml");
    for arguments in [
        &["rules"][..],
        &["ask", "ssh", "--source", "203.0.113.9"],
        &["post", "--check"],
        &["state"],
        &["survey"],
    ] {
        let run = || {
            let begin = Instant::now();
            let mut command = Command::new(env!("CARGO_BIN_EXE_tipstaff"));
            command.args(arguments).args([
                "--orders",
                orders,
                "--run-dir",
                "/nonexistent/tipstaff",
            ]);
            command.stdout(Stdio::null()).stderr(Stdio::null()).status().unwrap();
            begin.elapsed()
        };
        run();
        let took = median((0..41).map(|_| run()).collect());
        line(
            &format!("start to end of `{}`", arguments.join(" ")),
            format!("{took:.1?}"),
            "≤ 10 ms",
        );
    }
}

/// `rules` rules, each about one port and one network.
fn orders(rules: usize) -> String {
    let mut text = HEAD.to_owned();
    for n in 0..rules {
        let (a, b) = (n / 256 % 256, n % 256);
        text += &format!(
            "[[rules]]\nname = \"rule-{n}\"\naction = \"{}\"\ntraffic = \"tcp/{}\"\nsource = [\"10.{a}.{b}.0/24\", \"2001:db8:{n:x}::/48\"]\n",
            if n % 3 == 0 { "deny" } else { "allow" },
            1 + n % 60_000,
        );
    }
    text
}

/// 10,000 rules on 200 ports, whose ranges of sources overlap.
fn crossing() -> String {
    let mut text = HEAD.to_owned();
    for n in 0..10_000u32 {
        let from = 0x0a00_0000 + (n / 200) * 700 + n % 7 * 90;
        let range = [from, from + 1_000].map(std::net::Ipv4Addr::from);
        text += &format!(
            "[[rules]]\nname = \"rule-{n}\"\nnote = \"n\"\naction = \"{}\"\ntraffic = \"tcp/{}\"\nsource = \"{}-{}\"\nfamily = \"ipv4\"\n",
            if n % 3 == 0 { "deny" } else { "allow" },
            1_000 + n % 200,
            range[0],
            range[1],
        );
    }
    text
}

/// A source and a port that rule `n` matches for.
fn meeting(n: usize) -> (Subject, IpAddr) {
    let source = format!("10.{}.{}.7", n / 256 % 256, n % 256).parse().unwrap();
    (Subject::Port(Transport::Tcp, (1 + n % 60_000) as u16), source)
}

fn user_space() {
    let own: IpAddr = "198.51.100.20".parse().unwrap();
    let text = orders(1_000);
    let begin = Instant::now();
    let brief = Brief::unplaced(&read(&text).unwrap());
    let tables = Tables::build(&brief).unwrap();
    line("1,000 rules: read, checked, tables built", format!("{:.1?}", begin.elapsed()), "");
    let packets: Vec<_> = (0..1_000)
        .map(|n| {
            let (subject, source) = meeting(n * 7 % 1_000);
            first_packet(subject, source, own, InterfaceIndex(2))
        })
        .collect();
    let time = |rounds: u32, verdict: &dyn Fn(usize) -> Decision| {
        let begin = Instant::now();
        for n in (0..rounds).flat_map(|_| 0..packets.len()) {
            black_box(verdict(n));
        }
        begin.elapsed() / (rounds * packets.len() as u32)
    };
    let fast = time(500, &|n| tables.decide(&packets[n]));
    let slow = time(5, &|n| decide(&brief, &packets[n]));
    let rate = 1e-6 / fast.as_secs_f64();
    line(
        "verdicts in user space, one core, 1,000 rules",
        format!("{rate:.1} million/s"),
        "≥ 6 million/s",
    );
    let ratio = slow.as_secs_f64() / fast.as_secs_f64();
    line("reference / tables, 1,000 rules", format!("{ratio:.0}"), "");
}

/// Kilobytes that `post --check` of these orders took at most.
fn checked_in_memory(text: &str) -> i64 {
    use nix::sys::resource::{UsageWho, getrusage};
    let folder = tempfile::tempdir().unwrap();
    let file = folder.path().join("orders.toml");
    std::fs::write(&file, text).unwrap();
    let mut command = Command::new(env!("CARGO_BIN_EXE_tipstaff"));
    let output = command.args(["post", "--check", "--orders"]).arg(&file).output().unwrap();
    assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stderr));
    // The greatest of all children so far; the others were small.
    getrusage(UsageWho::RUSAGE_CHILDREN).unwrap().max_rss()
}

/// 10,000 rules and a group of 100,000 prefixes: reading, building, editing.
/// The rule about a long list.
const MANY: &str =
    "[[rules]]\nname = \"many\"\naction = \"deny\"\ntraffic = \"any\"\nsource = \"many\"\n";

/// 10,000 rules, and one about a group of 100,000 prefixes.
fn large_text() -> String {
    let prefixes: Vec<String> = (0..100_000u32)
        .map(|n| format!("\"10.{}.{}.{}/32\"", n >> 15 & 255, n >> 7 & 255, (n & 127) * 2))
        .collect();
    let group = format!("[addresses]\nmany = [{}]\n", prefixes.join(", "));
    orders(10_000).replacen("[[rules]]", &format!("{group}{MANY}[[rules]]"), 1)
}

fn large() {
    let text = large_text();
    let begin = Instant::now();
    let brief = Brief::unplaced(&read(&text).unwrap());
    line(
        "10,000 rules and 100,000 prefixes: read and checked",
        format!("{:.1?}", begin.elapsed()),
        "≤ 0.5 s",
    );
    let begin = Instant::now();
    let tables = Tables::build(&brief).unwrap();
    let megabytes = tables.bytes().len() >> 20;
    line(
        &format!("the same: tables built ({megabytes} MiB)"),
        format!("{:.1?}", begin.elapsed()),
        "≤ 0.5 s",
    );
    line(
        "the same: `post --check`, most memory",
        format!("{} MB", checked_in_memory(&text) * 1024 / 1_000_000),
        "≤ 100 MB",
    );
    let million: String = (0..1_000_000u32)
        .map(|n| format!("{}\n", std::net::Ipv4Addr::from(0x0a00_0000 + n * 5)))
        .collect();
    let lists = Some([("many.txt".to_owned(), Ok(million))].into());
    let attachments = Attachments { lists, ..Attachments::default() };
    let text = format!(
        "{HEAD}{}",
        MANY.replace("\"many\"\n", "\"file:many.txt\"\n").replacen(
            "\"file:many.txt\"",
            "\"many\"",
            1
        )
    );
    let begin = Instant::now();
    let orders_with_list = read_all(Documents { text: &text, attachments: &attachments }).unwrap();
    assert_eq!(orders_with_list.rules.len(), 1);
    line(
        "a file of 1,000,000 addresses: read and checked",
        format!("{:.1?}", begin.elapsed()),
        "≤ 1 s",
    );
    let text = orders(10_000);
    // A few rules differ; and every rule does.
    let old = Brief::unplaced(&read(&orders(1_000)).unwrap());
    let few = orders(1_000).replace("tcp/500\"", "tcp/501\"").replace("10.2.7.0/24", "10.2.0.0/16");
    let all = orders(1_000).replace("tcp/", "udp/");
    for (what, text) in [("a few rules", few), ("every rule", all)] {
        let new = Brief::unplaced(&read(&text).unwrap());
        let begin = Instant::now();
        let comparison = Comparison::between(&old, &new);
        let (took, pieces) = (begin.elapsed(), comparison.changes.len());
        assert!(pieces > 0 && !comparison.cut_off);
        let what = format!("what a change of {what} of 1,000 means ({pieces} pieces)");
        line(&what, format!("{took:.1?}"), "≤ 1 s");
    }
    let begin = Instant::now();
    black_box(read(&text).unwrap());
    line("10,000 rules alone: read and checked", format!("{:.1?}", begin.elapsed()), "");
    for (what, text) in
        [("about different things", &text), ("on 200 ports that cross", &crossing())]
    {
        let brief = Brief::unplaced(&read(text).unwrap());
        let begin = Instant::now();
        let found = review(&brief, &ReviewContext { now: Moment(1), ..ReviewContext::default() });
        let took = begin.elapsed();
        let told = if found.gave_up { "; not all known" } else { "" };
        let what =
            format!("review of 10,000 rules {what} ({} findings{told})", found.findings.len());
        line(&what, format!("{took:.2?}"), "≤ 2 s");
    }
    let begin = Instant::now();
    let paused = edit(&text, &Edit::Pause(Which::Position(5_000))).unwrap();
    assert_eq!(paused.position, 5_000);
    line("one edit of 10,000 rules", format!("{:.1?}", begin.elapsed()), "≤ 0.2 s");
}

fn post(gate: &mut KernelGate, rules: usize) -> Duration {
    post_text(gate, orders(rules))
}

fn post_text(gate: &mut KernelGate, text: String) -> Duration {
    let all = interfaces::list().unwrap();
    let begin = Instant::now();
    let brief = Brief::unplaced(&read(&text).unwrap());
    let record = Record::from_text(text);
    gate.post(&Posting { brief: &brief, record }, &all).unwrap();
    begin.elapsed()
}

fn in_the_kernel() {
    let world = Space::new(Mounts::Shared).unwrap();
    let archive = Space::new(Mounts::Own).unwrap();
    let end = world.as_fd().try_clone_to_owned().unwrap();
    let folder = tempfile::tempdir().unwrap();
    let run_dir = folder.path().join("run");
    archive.run(move || lab::cable("lan0", "w0", end.as_fd()).unwrap()).unwrap();
    world
        .run(|| {
            lab::up("w0").unwrap();
            lab::address("w0", "198.51.100.1".parse().unwrap(), 24).unwrap();
        })
        .unwrap();
    archive
        .run(move || {
            lab::up("lan0").unwrap();
            lab::address("lan0", "198.51.100.20".parse().unwrap(), 24).unwrap();
            lab::default_route("198.51.100.1".parse().unwrap()).unwrap();
            switching(run_dir.parent().unwrap());
            let mut gate = KernelGate::new(&run_dir).unwrap();
            verdicts(&mut gate);
            let took = median((0..3).map(|_| post_text(&mut gate, large_text())).collect());
            let what = "post of 10,000 rules and 100,000 prefixes, text to in force";
            line(what, format!("{took:.1?}"), "≤ 0.5 s");
            post(&mut gate, 0);
            witness(false);
            gate.withdraw().unwrap();
            witness(true);
            from_orders(run_dir.parent().unwrap());
            seen::tally(run_dir.parent().unwrap(), &orders(10_000));
        })
        .unwrap();
    seen::flood(&archive, &world, folder.path());
}

/// A whole command that shows every rule of the demo's orders: two sources, of
/// which nobody is there for the visitors.
fn from_orders(folder: &std::path::Path) {
    let orders = folder.join("orders.toml");
    std::fs::write(&orders, include_str!("../../demo/orders.toml")).unwrap();
    let run = |arguments: &[&str]| {
        Command::new(env!("CARGO_BIN_EXE_tipstaff"))
            .args(arguments)
            .env("TIPSTAFF_ORDERS", &orders)
            .env("TIPSTAFF_RUN", folder.join("shown"))
            .env("TIPSTAFF_HISTORY", folder.join("history"))
            .output()
            .unwrap()
    };
    assert!(run(&["post"]).status.success());
    let begin = Instant::now();
    let output = run(&["reach", "--from-orders", "--json"]);
    let took = begin.elapsed();
    let report: serde_json::Value = serde_json::from_slice(&output.stdout).unwrap();
    assert_eq!(report["rules"].as_array().unwrap().len(), 7);
    line("reach --from-orders on the demo's orders", format!("{took:.2?}"), "≤ 2 s");
    assert!(run(&["withdraw", "--yes"]).status.success());
}

/// Whole commands, on the demo's orders and a posture: to switch it, and what a
/// restart takes.
fn switching(folder: &std::path::Path) {
    let orders = folder.join("orders.toml");
    let posture = "\n[[postures]]\nname = \"open-house\"\n";
    std::fs::write(&orders, format!("{}{posture}", include_str!("../../demo/orders.toml")))
        .unwrap();
    let run = |arguments: &[&str]| {
        let begin = Instant::now();
        let output = Command::new(env!("CARGO_BIN_EXE_tipstaff"))
            .args(arguments)
            .env("TIPSTAFF_ORDERS", &orders)
            .env("TIPSTAFF_RUN", folder.join("switching"))
            .env("TIPSTAFF_HISTORY", folder.join("history"))
            .output()
            .unwrap();
        assert!(output.status.success(), "{arguments:?}: {output:?}");
        begin.elapsed()
    };
    run(&["post"]);
    let turns = (0..15).map(|n| run(&["posture", ["open-house", "none"][n % 2]]));
    let took = median(turns.collect());
    line("start to end of `posture open-house`, demo's orders", format!("{took:.0?}"), "≤ 100 ms");
    let starts = (0..9).map(|_| {
        run(&["withdraw"]);
        run(&["boot"])
    });
    let took = median(starts.collect());
    line("start to end of `boot`, demo's orders", format!("{took:.0?}"), "≤ 200 ms");
    run(&["withdraw"]);
}

const REPEAT: u32 = 200_000;
