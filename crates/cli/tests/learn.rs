//! Questions about what was turned away, at a terminal and by arguments.

#![allow(clippy::unwrap_used)]

mod common;
#[path = "common/desk.rs"]
mod desk;
#[path = "common/shapes.rs"]
mod shapes;
#[path = "common/terminal.rs"]
mod terminal;

use std::fs;
use std::path::Path;
use std::process::Command;

use desk::Desk;
use serde_json::Value;
use shapes::Shapes;
use terminal::Seen;

const ORDERS: &str = "# Of the archive.\nversion = 1\n[standing]\ninbound = \"deny\"\noutbound = \"deny\"\n\
    transit = \"deny\"\n[[rules]]\nname = \"ntp\"\naction = \"deny\"\ntraffic = \"tcp/23\"\n";

/// A night of the log: who asked for what, and what listens there.
fn desk() -> Desk {
    let desk = Desk::new(ORDERS);
    let time = jiff::Timestamp::now() - jiff::SignedDuration::from_hours(3);
    let line = |traffic: &str, source: &str, program: Option<&str>, direction: &str, to: &str| {
        let program = program.map_or("null".into(), |path| format!("\"{path}\""));
        format!(
            "{{\"schema\":\"tipstaff.log/1\",\"time\":\"{time:.6}\",\"direction\":\"{direction}\",\
             \"interface\":\"lan0\",\"traffic\":\"{traffic}\",\"source\":\"{source}\",\
             \"destination\":\"{to}\",\"program\":{program},\"verdict\":\"deny\",\
             \"rehearsed\":false,\"by\":\"the standing answer {direction}\",\"rule\":null,\
             \"position\":null,\"kind\":\"standing\",\"which\":\"{direction}\"}}\n"
        )
    };
    let (own, plates) = ("198.51.100.20:7410", Some("/usr/sbin/plated"));
    let mut log = String::new();
    for n in 0..6 {
        let source = format!("203.0.113.{}:40{n}", 9 + n % 2);
        log += &line("tcp/7410", &source, plates, "inbound", own);
    }
    log += &line("tcp/23", "192.0.2.66:1", Some("/usr/sbin/telnetd"), "inbound", own);
    log += &line("tcp/3389", "192.0.2.66:2", None, "inbound", own);
    for _ in 0..3 {
        let clock = Some("/usr/sbin/clockd");
        log += &line("udp/123", "198.51.100.20:9", clock, "outbound", "192.0.2.123:123");
    }
    fs::create_dir(desk.path().join("log")).unwrap();
    fs::write(desk.path().join("log/decisions.jsonl"), log).unwrap();
    desk
}

fn learn(desk: &Desk, arguments: &[&str]) -> std::process::Output {
    desk.run(&[&["learn", "--log-dir", "log"], arguments].concat())
}

fn told(desk: &Desk, arguments: &[&str]) -> Value {
    let output = learn(desk, &[arguments, &["--json"]].concat());
    let text = String::from_utf8(output.stdout).unwrap();
    assert!(!text.is_empty(), "{}", String::from_utf8_lossy(&output.stderr));
    Shapes::default().check(&["learn"], &text);
    serde_json::from_str(&text).unwrap()
}

fn names(report: &Value) -> Vec<&str> {
    let all = report["questions"].as_array().unwrap();
    all.iter().map(|question| question["name"].as_str().unwrap()).collect()
}

fn orders(desk: &Desk) -> String {
    fs::read_to_string(desk.path().join("orders.toml")).unwrap()
}

#[test]
fn without_a_terminal_answers_are_arguments() {
    let desk = desk();
    // A rule speaks of telnet, and nobody listens for the desktop.
    let report = told(&desk, &[]);
    assert_eq!(names(&report), ["plated-tcp-7410", "ntp"], "{report}");
    assert_eq!(report["questions"][0]["choices"][1]["meaning"], "allow from 203.0.113.0/24");
    assert_eq!((&report["written"], orders(&desk).as_str()), (&false.into(), ORDERS));
    assert!(names(&told(&desk, &["--every-source"])).contains(&"port-tcp-3389"));
    let shown = learn(&desk, &[]).stdout;
    let shown = String::from_utf8(shown).unwrap();
    assert!(
        shown.contains("--answer plated-tcp-7410=network   allow from 203.0.113.0/24"),
        "{shown}"
    );

    for (wrong, help) in [
        ("plates=here", "There are plated-tcp-7410, ntp."),
        ("ntp=network", "It can by here, everyone, program, deny."),
        ("ntp=always", "none of here, network"),
    ] {
        let output = learn(&desk, &["--answer", wrong]);
        let error = String::from_utf8_lossy(&output.stderr);
        assert!(output.status.code() == Some(2) && error.contains(help), "{wrong}: {error}");
    }
    let answers = ["--answer", "plated-tcp-7410=network", "--answer", "ntp=program"];
    let checked = told(&desk, &[&answers[..], &["--check"]].concat());
    assert_eq!((&checked["written"], orders(&desk).as_str()), (&false.into(), ORDERS));
    assert_eq!(checked["changes"].as_array().unwrap().len(), 2, "{checked}");
    let until = report["until"].as_str().unwrap();
    let done = told(&desk, &[&answers[..], &["--until", until]].concat());
    assert_eq!((&done["written"], &done["changes"]), (&true.into(), &checked["changes"]));
    let text = orders(&desk);
    assert!(text.starts_with("# Of the archive.\n"), "{text}");
    assert!(text.contains("source = \"203.0.113.0/24\"") && text.contains("/usr/sbin/clockd"));
    // A rule of the orders is called so already.
    assert!(text.contains("name = \"ntp-2\""), "{text}");
    assert!(text.contains("note = \"asked for 6 times by 2 addresses, "), "{text}");
    assert_eq!(names(&told(&desk, &[])), [""; 0], "what is answered is not asked again");
}

/// Who may not read the log is told so, and who only looks needs to write nothing.
#[test]
fn who_may_not_read_or_write_is_told() {
    let desk = desk();
    let missing = desk.run(&["learn", "--log-dir", "elsewhere"]);
    let error = String::from_utf8_lossy(&missing.stderr);
    assert!(error.contains("there is no log at elsewhere"), "{error}");
    // A folder that is a file stands for one that cannot be read.
    fs::write(desk.path().join("odd"), "").unwrap();
    for command in [&["learn"][..], &["draft", "--from-log"]] {
        let odd = desk.run(&[command, &["--log-dir", "odd"]].concat());
        assert!(!odd.status.success(), "{command:?}");
    }
    let cut = desk.path().join("cut.pcap");
    let night = Path::new(env!("CARGO_MANIFEST_DIR")).join("demo/night.pcap");
    fs::write(&cut, &fs::read(night).unwrap()[..4_000]).unwrap();
    let own = ["draft", "--from-capture", "cut.pcap", "--own", "198.51.100.20"];
    let error = String::from_utf8_lossy(&desk.run(&own).stderr).into_owned();
    assert!(error.contains("read up to byte"), "{error}");
    let odd = desk.run(&["draft", "--since", "1d"]);
    assert_eq!(odd.status.code(), Some(2));
}

/// A key each; nothing is written before the end, and not where it is not agreed to.
#[test]
fn at_a_terminal_a_key_answers() {
    let desk = desk();
    let seen = |more: &[&str]| {
        let mut command = Command::new(assert_cmd::cargo::cargo_bin!("tipstaff"));
        command.args(["learn", "--log-dir", "log"]).args(more).current_dir(desk.path());
        command.env("TIPSTAFF_ORDERS", "orders.toml").env("NO_COLOR", "1");
        Seen::started(command, (40, 120), |mut command| command.spawn().unwrap())
    };
    let mut first = seen(&[]);
    first.shows("2 requests that no rule covers");
    first.shows("1 of 2: tcp/7410 inbound, asked for 6 times by 2 addresses");
    first.shows("p  allow from everyone, for /usr/sbin/plated only");
    first.press("x");
    first.press("n");
    first.shows("2 of 2: udp/123 outbound");
    first.shows("sent by /usr/sbin/clockd");
    // Back, and another answer.
    first.press("b");
    first.press("d");
    first.press("l");
    first.shows("what that changes");
    first.shows("[y/N]");
    assert_eq!(orders(&desk), ORDERS);
    first.press("n\n");
    first.has_ended_in_lines();
    assert_eq!(orders(&desk), ORDERS);

    let mut second = seen(&[]);
    second.shows("1 of 2");
    second.shows("l  leave it");
    // Ctrl-C ends the questions, not what was answered; also while the next one is on its way.
    second.holds_output(true);
    second.press("n");
    second.waits_to_write();
    second.press("\u{3}");
    second.holds_output(false);
    second.shows("+ let in: tcp/7410 from 203.0.113.0/24");
    second.shows("[y/N]");
    second.press("y\n");
    second.shows("Saved.");
    second.has_ended_in_lines();
    assert!(orders(&desk).contains("plated-tcp-7410"), "{}", orders(&desk));

    // Where nothing is answered, and with --check, nobody is asked whether to write it.
    let mut left = seen(&[]);
    left.shows("1 of 1");
    left.press("l");
    left.shows("nothing was written");
    left.has_ended_in_lines();
    let mut checked = seen(&["--check"]);
    checked.shows("1 of 1");
    checked.press("e");
    checked.shows("nothing was written");
    checked.has_ended_in_lines();

    // Cut off in the middle, nothing is written.
    let before = orders(&desk);
    let mut third = seen(&[]);
    third.shows("1 of 1");
    third.hang_up();
    assert!(third.is_over());
    assert_eq!(orders(&desk), before);
}
