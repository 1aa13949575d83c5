//! The reach check on a host that the test made itself: from where it looks,
//! why what it sees differs, and how it is told. Needs root.

#![allow(clippy::unwrap_used)]

mod common;

use std::io::{BufRead, BufReader};
use std::os::fd::AsFd;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use common::{ARCHIVE, Lab, PARTNER, PING, PLATES, STRANGER};
use nix::sys::signal::{Signal, kill};
use nix::unistd::Pid;
use serde_json::Value;
use tipstaff_bpf::asm::{Assembler, R0};
use tipstaff_bpf::sys::{self, Attach, Order, ProgramKind};
use tipstaff_host::{interfaces, lab};
use tipstaff_testing::ip;
use tipstaff_testing::patience::stretched;

fn report(lab: &Lab, arguments: &[&str]) -> Value {
    let mut all = vec!["reach", "--json"];
    all.extend(arguments);
    let output = lab.tipstaff(&all);
    serde_json::from_slice(&output.stdout)
        .unwrap_or_else(|_| panic!("{arguments:?}: {}", String::from_utf8_lossy(&output.stderr)))
}

/// The cell of a port, for the vantage with this address; `here` for the host.
fn cell<'r>(report: &'r Value, port: &str, from: &str) -> &'r Value {
    let vantages = report["vantages"].as_array().unwrap();
    let is = |v: &Value| v["source"] == from || (from == "here" && v["from"] == "here");
    let column = vantages.iter().position(is).unwrap_or_else(|| panic!("{from}: {vantages:?}"));
    let rows = report["rows"].as_array().unwrap();
    let row = rows.iter().find(|row| row["subject"] == port && row["at"].is_null()).unwrap();
    &row["cells"][column]
}

fn seen<'r>(report: &'r Value, port: &str, from: &str) -> &'r str {
    cell(report, port, from)["observed"]["outcome"].as_str().unwrap()
}

fn reason<'r>(report: &'r Value, port: &str, from: &str) -> &'r str {
    cell(report, port, from)["why"]["reason"].as_str().unwrap_or_default()
}

/// What a program says no to, or yes, in front of the gate.
fn decides(name: &'static str, verdict: i32) -> impl FnOnce() -> std::os::fd::OwnedFd + Send {
    move || {
        let mut a = Assembler::default();
        a.mov(R0, verdict);
        a.exit();
        let code = a.finish().unwrap();
        let program = sys::program_load(ProgramKind::SchedCls, name, &code).unwrap();
        let lan = interfaces::list().unwrap().into_iter().find(|i| i.name == "lan0").unwrap();
        sys::link_interface(program.as_fd(), lan.index, Attach::TcxIngress, Order::First).unwrap()
    }
}

#[test]
fn groups_strangers_and_the_fewest_sources_are_vantages() {
    let Some(lab) = Lab::new() else { return };
    let _listeners = [lab.listen("::", 7410), lab.listen(ARCHIVE[0], 7440)];
    let rules_text = format!(
        "{PLATES}{PING}[[rules]]\nname = \"dome\"\naction = \"allow\"\ntraffic = \"tcp/7440\"\n\
         source = \"partner\"\ndestination = \"{}\"\n[[rules]]\nname = \"mail\"\naction = \"deny\"\n\
         direction = \"outbound\"\ntraffic = \"smtp\"\n",
        ARCHIVE[0]
    );
    lab.orders(&rules_text);
    lab.done(&["post"]);
    let groups = report(&lab, &["--as", "partner", "--as", "stranger"]);
    let told: Vec<&str> = groups["vantages"]
        .as_array()
        .unwrap()
        .iter()
        .filter_map(|v| v["stands_for"].as_str())
        .collect();
    assert_eq!(told, ["partner", "partner", "stranger", "stranger"]);
    for vantage in &groups["vantages"].as_array().unwrap()[1..] {
        let source = vantage["source"].as_str().unwrap();
        let let_in = vantage["stands_for"] == "partner";
        let plates = if let_in { "answers" } else { "silent" };
        assert_eq!(seen(&groups, "tcp/7410", source), plates, "{source}");
    }
    let all = report(&lab, &["--from-orders"]);
    let rules = all["rules"].as_array().unwrap();
    // Each in both families, but the one about an IPv4 address.
    assert_eq!(rules.len(), 7, "{rules:?}");
    assert!(rules.iter().all(|rule| rule["holds"] == true), "{rules:?}");
    assert!(all["vantages"].as_array().unwrap().len() <= 3, "{}", all["vantages"]);
    lab.done(&["reach", "--from-orders"]);

    // A program that hears one family makes its rule true in that one only.
    lab.orders(&rules_text.replace("7410", "7411"));
    lab.done(&["post"]);
    let _four = lab.listen("0.0.0.0", 7411);
    let output = lab.tipstaff(&["reach", "--from-orders", "--json"]);
    assert_eq!(output.status.code(), Some(1));
    let half: serde_json::Value = serde_json::from_slice(&output.stdout).unwrap();
    let plates: Vec<&serde_json::Value> = half["rules"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|rule| rule["rule"] == "rule 1 (plates)")
        .map(|rule| &rule["holds"])
        .collect();
    assert_eq!(plates, [true, false]);

    let unknown = lab.tipstaff(&["reach", "--as", "observatory"]);
    assert_eq!(unknown.status.code(), Some(2));
    let text = String::from_utf8_lossy(&unknown.stderr).into_owned();
    assert!(
        text.contains("neither an address nor an address group")
            && text.contains("partner, stranger"),
        "{text}"
    );
    lab.done(&["withdraw", "--yes"]);
}

#[test]
fn another_way_in_is_judged_as_that_interface() {
    let Some(lab) = Lab::new() else { return };
    let end = lab.world.as_fd().try_clone_to_owned().unwrap();
    lab.archive
        .run(move || {
            lab::cable("lan1", "w1", end.as_fd()).unwrap();
            lab::up("lan1").unwrap();
            lab::address("lan1", ip("198.51.100.129"), 25).unwrap();
            for name in ["all", "lan1"] {
                std::fs::write(format!("/proc/sys/net/ipv4/conf/{name}/rp_filter"), "0").unwrap();
            }
        })
        .unwrap();
    lab.world.run(|| lab::up("w1").unwrap()).unwrap();
    let _plates = lab.listen("0.0.0.0", 7410);
    let inside = "[[rules]]\nname = \"inside\"\naction = \"refuse\"\ntraffic = \"tcp/7410\"\ninterface = \"lan1\"\n";
    lab.orders(&format!("{inside}{PLATES}"));
    lab.done(&["post"]);
    let usual = report(&lab, &["--as", PARTNER[0]]);
    assert_eq!(seen(&usual, "tcp/7410", PARTNER[0]), "answers");
    let other = report(&lab, &["--as", PARTNER[0], "--via", "lan1"]);
    assert_eq!(seen(&other, "tcp/7410", PARTNER[0]), "refuses");
    assert_eq!(cell(&other, "tcp/7410", PARTNER[0])["expected_by"], "rule 1 (inside)");
    // Where the kernel checks the way back, it drops what the gate lets in.
    lab.orders(PLATES);
    lab.done(&["post"]);
    lab.archive
        .run(|| std::fs::write("/proc/sys/net/ipv4/conf/lan1/rp_filter", "1").unwrap())
        .unwrap();
    let astray = report(&lab, &["--as", PARTNER[0], "--via", "lan1"]);
    assert_eq!(seen(&astray, "tcp/7410", PARTNER[0]), "silent");
    assert_eq!(reason(&astray, "tcp/7410", PARTNER[0]), "not-the-way-back");
    let nowhere = lab.tipstaff(&["reach", "--via", "lan7"]);
    assert_eq!(nowhere.status.code(), Some(2));
    assert!(String::from_utf8_lossy(&nowhere.stderr).contains("It has lo, lan0, lan1"));
    lab.done(&["withdraw", "--yes"]);
}

#[test]
fn each_reason_is_told_apart() {
    let Some(lab) = Lab::new() else { return };
    let shell = "[[rules]]\nname = \"shell\"\naction = \"allow\"\ntraffic = \"ssh\"\nsource = \"partner\"\nat_most = \"1 per hour per source, burst 1\"\n";
    let others = "[[rules]]\nname = \"others\"\naction = \"allow\"\ntraffic = [\"tcp/7440\", \"tcp/7450\"]\n";
    let _listeners = [lab.listen("::", 7410), lab.listen("::", 22)];
    let full = lab
        .archive
        .run(|| {
            let socket =
                socket2::Socket::new(socket2::Domain::IPV4, socket2::Type::STREAM, None).unwrap();
            socket.bind(&"0.0.0.0:7440".parse::<std::net::SocketAddr>().unwrap().into()).unwrap();
            socket.listen(0).unwrap();
            socket
        })
        .unwrap();
    let curt = lab.listen("0.0.0.0", 7450);
    std::thread::spawn(move || curt.incoming().for_each(drop));
    lab.orders(&format!("{PLATES}{shell}{others}"));
    lab.done(&["post"]);

    // Its rate is used up by somebody real; the knocks themselves take nothing.
    assert_eq!(lab.knock(PARTNER[0], ARCHIVE[0], 22), "answers");
    let clients: Vec<_> = (0..3).map(|_| lab.connect(PARTNER[0], ARCHIVE[0], 7440)).collect();
    let one = report(&lab, &["--as", PARTNER[0], "--as", PARTNER[1]]);
    assert_eq!(seen(&one, "tcp/22", PARTNER[0]), "silent");
    assert_eq!(reason(&one, "tcp/22", PARTNER[0]), "beyond-rate");
    assert_eq!(seen(&one, "tcp/22", PARTNER[1]), "answers");
    assert_eq!(reason(&one, "tcp/7440", PARTNER[0]), "queue-full", "{one:#}");
    // No more is put into that queue from here either.
    let here = cell(&one, "tcp/7440", "here");
    assert!(here["observed"]["evidence"].as_str().unwrap().contains("not probed"), "{here}");
    let remark = &cell(&one, "tcp/7450", "here")["observed"]["remark"];
    assert!(remark.as_str().unwrap().contains("its own refusal"), "{one:#}");
    let text = String::from_utf8(lab.tipstaff(&["reach"]).stdout).unwrap();
    assert!(text.contains("* tcp/7450: the program accepts and closes at once"), "{text}");
    drop((clients, full));

    // Other programs at the interface, in front of the gate.
    let stopping = lab.archive.run(decides("sieve", 2)).unwrap();
    let stopped = report(&lab, &["--as", PARTNER[0]]);
    assert_eq!(reason(&stopped, "tcp/7410", PARTNER[0]), "stopped-by-another");
    let why = &cell(&stopped, "tcp/7410", PARTNER[0])["why"];
    assert_eq!(why["programs"][0], "sieve");
    drop(stopping);
    let passing = lab.archive.run(decides("opener", 0)).unwrap();
    let passed = report(&lab, &["--as", STRANGER[0]]);
    assert_eq!(seen(&passed, "tcp/7410", STRANGER[0]), "answers");
    assert_eq!(reason(&passed, "tcp/7410", STRANGER[0]), "passed-by-another");
    drop(passing);

    // The orders on disk are others than those in force.
    let path = lab.path().join("later.toml");
    std::fs::write(&path, format!("{}{PING}", common::HEAD)).unwrap();
    let drifted = report(&lab, &["--orders", path.to_str().unwrap(), "--as", PARTNER[0]]);
    assert_eq!(seen(&drifted, "tcp/7410", PARTNER[0]), "answers");
    assert_eq!(reason(&drifted, "tcp/7410", PARTNER[0]), "other-orders");
    let next = cell(&drifted, "tcp/7410", PARTNER[0])["next"].as_str().unwrap();
    assert!(next.contains("tipstaff compare in-force"), "{next}");
    lab.done(&["withdraw", "--yes"]);
}

#[test]
fn all_ports_make_few_lines_and_ctrl_c_shows_what_is_known() {
    let Some(lab) = Lab::new() else { return };
    let _listeners = [lab.listen("::", 7410), lab.listen("::", 40_000)];
    lab.orders(PLATES);
    lab.done(&["post"]);
    let whole = report(&lab, &["--all-ports", "--as", PARTNER[0]]);
    assert_eq!((&whole["differences"], &whole["complete"]), (&0.into(), &true.into()));
    let rows = whole["rows"].as_array().unwrap();
    let words = |row: &Value| format!("{}-{}", row["subject"].as_str().unwrap(), row["last"]);
    let tcp: Vec<String> =
        rows.iter().map(words).filter(|words| words.starts_with("tcp")).collect();
    assert_eq!(
        tcp,
        ["tcp/1-7409", "tcp/7410-null", "tcp/7411-39999", "tcp/40000-null", "tcp/40001-65535"]
    );
    assert_eq!(seen(&whole, "tcp/40000", PARTNER[0]), "silent");

    let mut command = lab.command(&["reach", "--json", "--all-ports", "--pace", "500"]);
    command.args(["--as", PARTNER[0]]).stdout(Stdio::piped());
    let begin = Instant::now();
    let child = lab.archive.run(move || command.spawn().unwrap()).unwrap();
    std::thread::sleep(stretched(Duration::from_secs(2)));
    kill(Pid::from_raw(i32::try_from(child.id()).unwrap()), Signal::SIGINT).unwrap();
    let output = child.wait_with_output().unwrap();
    let took = begin.elapsed();
    assert!(took < stretched(Duration::from_secs(60)), "{took:?}");
    assert_eq!(output.status.code(), Some(1));
    let partly: Value = serde_json::from_slice(&output.stdout).unwrap();
    assert_eq!(partly["complete"], false);
    // At that pace, whatever else it knows.
    let unknown = partly["unknown"].as_u64().unwrap();
    assert!(unknown + 500 * (took.as_secs() + 1) > 65_000, "{unknown} after {took:?}");
    assert_eq!(seen(&partly, "tcp/1", PARTNER[0]), "silent");
    assert_eq!(seen(&partly, "tcp/40000", PARTNER[0]), "unknown");
    lab.done(&["withdraw", "--yes"]);
}

#[test]
fn a_listener_that_ends_meanwhile_is_told_as_such() {
    let Some(lab) = Lab::new() else { return };
    let plates = lab.listen("0.0.0.0", 7410);
    lab.orders(PLATES);
    lab.done(&["post"]);
    let mut command = lab.command(&["-v", "reach", "--json", "--pace", "8", "--as", PARTNER[0]]);
    command.stdout(Stdio::piped()).stderr(Stdio::piped());
    let mut child = lab.archive.run(move || command.spawn().unwrap()).unwrap();
    // As soon as it knows what listens.
    let mut steps = BufReader::new(child.stderr.take().unwrap()).lines().map(Result::unwrap);
    assert!(steps.any(|step| step.contains("reading the sockets")));
    drop(plates);
    let output = child.wait_with_output().unwrap();
    let report: Value = serde_json::from_slice(&output.stdout).unwrap();
    assert_eq!(seen(&report, "tcp/7410", PARTNER[0]), "refuses");
    assert_eq!(reason(&report, "tcp/7410", PARTNER[0]), "stopped", "{report:#}");
    lab.done(&["withdraw", "--yes"]);
}

#[test]
fn what_this_host_sees_of_itself_is_not_said_of_everybody() {
    let Some(lab) = Lab::new() else { return };
    let _plates = lab.listen("::", 7410);
    lab.orders(PLATES);
    let itself = "every port behaves as ordered, seen from this host only";
    let down = lab.done(&["reach"]);
    assert!(down.contains(itself), "{down}");
    assert!(down.contains("the gate is not loaded, so nothing is denied to anyone"), "{down}");
    lab.done(&["post"]);
    let up = lab.done(&["reach"]);
    assert!(up.contains(itself), "{up}");
    assert!(up.contains("tipstaff reach --from-orders also probes"), "{up}");
    assert!(lab.done(&["reach", "--markdown"]).contains("as ordered, seen from this host only"));
    let all = lab.done(&["reach", "--as", PARTNER[0]]);
    assert!(
        all.contains("every port behaves as ordered\n") && !all.contains("this host only"),
        "{all}"
    );
}

#[test]
fn what_opened_and_closed_since_the_last_check_is_told() {
    let Some(lab) = Lab::new() else { return };
    lab.orders(PLATES);
    lab.done(&["post"]);
    let plates = lab.listen("0.0.0.0", 7410);
    let first = lab.tipstaff(&["reach", "--changes"]);
    let text = String::from_utf8_lossy(&first.stdout).into_owned();
    assert!(text.contains("no earlier check"), "{text}");
    let same = lab.done(&["reach", "--changes"]);
    assert!(same.starts_with("nothing has opened or closed since"), "{same}");
    assert_eq!(same.lines().count(), 1, "{same}");
    assert_eq!(lab.done(&["reach", "--changes", "--quiet"]), "");
    let file = lab.path().join("before.json");
    std::fs::write(&file, lab.tipstaff(&["reach", "--json"]).stdout).unwrap();

    drop(plates);
    let _dome = lab.listen("0.0.0.0", 7440);
    let output = lab.tipstaff(&["reach", "--changes"]);
    assert_eq!(output.status.code(), Some(1));
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    assert!(text.contains("  opened   tcp/7440 here: not looked at, now answers"), "{text}");
    assert!(text.contains("  closed   tcp/7410 here: answers, now refuses"), "{text}");
    // The last check is another one by now; a given report is not.
    let named = format!("--changes={}", file.display());
    let json = report(&lab, &[&named]);
    assert_eq!(json["changes"]["opened"][0]["subject"], "tcp/7440");
    std::fs::write(&file, "{}").unwrap();
    let output = lab.tipstaff(&["reach", &named]);
    assert_eq!(output.status.code(), Some(2));
    assert!(String::from_utf8_lossy(&output.stderr).contains("is not a reach report"));
    lab.done(&["withdraw", "--yes"]);
}

#[test]
fn one_port_in_all_detail_and_the_report_as_markdown_and_as_a_page() {
    let Some(lab) = Lab::new() else { return };
    let _weather = lab.listen("127.0.0.1", 7410);
    lab.orders(PLATES);
    lab.done(&["post"]);
    let output = lab.tipstaff(&["reach", "--why", "7410", "--as", PARTNER[0]]);
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    for line in [
        "listens on 127.0.0.1, 0 of 128 wait to be accepted",
        "  as 203.0.113.9\n    meant   answers, by rule 1 (plates)\n",
        "    seen    refuses, by the wire on 198.51.100.20: a reset in ",
        "    gate    lets it in, by rule 1 (plates)\n    why     listens on loopback only\n    next    make the program",
    ] {
        assert!(text.contains(line), "{line}\n{text}");
    }
    let page = lab.path().join("page.html");
    let arguments = ["reach", "--as", PARTNER[0], "--markdown", "--html", page.to_str().unwrap()];
    let markdown = String::from_utf8(lab.tipstaff(&arguments).stdout).unwrap();
    assert!(markdown.starts_with("# Reach of "), "{markdown}");
    assert!(markdown.contains("| ≠ refuses (wire) |"), "{markdown}");
    let page = std::fs::read_to_string(page).unwrap();
    assert!(page.contains("listens on loopback only") && page.ends_with("</html>\n"));
    // A page that cannot be written is an error; what was found is told all the same.
    let nowhere = lab.path().join("nowhere/page.html");
    let lost = lab.tipstaff(&["reach", "--html", nowhere.to_str().unwrap()]);
    assert_eq!(lost.status.code(), Some(5));
    assert!(String::from_utf8_lossy(&lost.stdout).contains("reach of "));
    let wrong = lab.tipstaff(&["reach", "--why", "tcp/70000"]);
    assert_eq!(wrong.status.code(), Some(2));
    lab.done(&["withdraw", "--yes"]);
}

#[test]
fn another_machine_checks_a_host_of_the_orders_and_both_reports_make_one_table() {
    let Some(lab) = Lab::new() else { return };
    let _plates = lab.listen("::", 7410);
    let hosts = format!(
        "[[hosts]]\nname = \"archive\"\naddresses = [\"{}\", \"{}\"]\n[[hosts]]\nname = \"desk-3\"\n\
         addresses = [\"{}\"]\n",
        ARCHIVE[0], ARCHIVE[1], "198.51.100.1"
    );
    let inside = "[[rules]]\nname = \"inside\"\naction = \"allow\"\ntraffic = [\"tcp/7410\", \"icmp/echo\"]\nsource = \"198.51.100.0/24\"\n";
    let dome = "[[rules]]\nname = \"dome\"\naction = \"refuse\"\ntraffic = \"tcp/7440\"\n";
    lab.orders(&format!("{hosts}{inside}{dome}"));
    lab.done(&["post", "--host", "archive"]);
    let near = lab.tipstaff(&["reach", "--json", "--host", "archive"]);
    let from_desk = |lab: &Lab, arguments: &[&str]| {
        let mut command: Command = lab.command(&["reach", "--host", "desk-3"]);
        command.args(arguments);
        lab.world.run(move || command.output().unwrap()).unwrap()
    };
    let far = from_desk(&lab, &["--target", "archive", "--json"]);
    let report: Value = serde_json::from_slice(&far.stdout)
        .unwrap_or_else(|_| panic!("{}", String::from_utf8_lossy(&far.stderr)));
    assert_eq!(report["vantages"][0]["name"], "desk-3");
    assert_eq!(seen(&report, "tcp/7410", "198.51.100.1"), "answers");
    assert_eq!(seen(&report, "tcp/7440", "198.51.100.1"), "refuses");
    assert_eq!(seen(&report, "tcp/7410", "2001:db8:51::1"), "silent");
    assert_eq!(seen(&report, "icmp/echo", "198.51.100.1"), "answers");
    assert_eq!(seen(&report, "icmp/echo", "2001:db8:51::1"), "silent");
    // That nothing comes back of a datagram proves nothing from here.
    assert_eq!(seen(&report, "udp/23", "198.51.100.1"), "unknown");
    assert_eq!(far.status.code(), Some(0), "{report:#}");

    let files = [lab.path().join("near.json"), lab.path().join("far.json")];
    std::fs::write(&files[0], near.stdout).unwrap();
    std::fs::write(&files[1], far.stdout).unwrap();
    let names: Vec<&str> = files.iter().map(|f| f.to_str().unwrap()).collect();
    let text = lab.done(&["reach", "merge", names[0], names[1]]);
    assert!(text.contains("from desk-3") && text.contains("(198.51.100.1)"), "{text}");
    assert!(text.contains(" here "), "{text}");

    for (target, code, words) in [
        ("lantern", 2, "is not a host in the orders; nothing else is probed"),
        ("203.0.113.9", 2, "is not a host in the orders"),
        ("desk-3", 2, "is this host's own"),
    ] {
        let output = from_desk(&lab, &["--target", target]);
        let text = String::from_utf8_lossy(&output.stderr).into_owned();
        assert_eq!(output.status.code(), Some(code), "{text}");
        assert!(text.contains(words), "{text}");
    }
    lab.done(&["withdraw", "--yes", "--host", "archive"]);
}
