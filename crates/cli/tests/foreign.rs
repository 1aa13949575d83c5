//! Text of others never reaches a terminal as it is: every command is walked,
//! in colour on a terminal, plain into a pipe and as JSON, with names of
//! programs, files, interfaces, hosts and rules that would move the cursor, end
//! the line or turn its direction.

#![allow(clippy::unwrap_used)]

mod common;
#[path = "common/hidden.rs"]
mod hidden;
#[path = "common/shapes.rs"]
mod shapes;
#[path = "common/wrong.rs"]
mod wrong;

use std::cell::RefCell;
use std::collections::BTreeSet;
use std::fs;
use std::net::{TcpListener, UdpSocket};
use std::os::fd::AsFd;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};

use common::{HEAD, Lab, PARTNER, on_terminal, read_all};
use hidden::{ODD, check, strings_of};
use shapes::Shapes;
use tipstaff_host::lab;
use tipstaff_testing::patience::in_time;

/// As an interface can be called: 15 bytes, no blanks.
const ODD_LINK: &str = "e\u{1b}[95m\u{202e}\u{7f}";
/// As TOML writes it.
const ODD_TOML: &str = r"x\u001b[2J\u009b31m\u0007\nok\u202e\u2066\ufeff";

struct Walk {
    lab: Lab,
    walked: BTreeSet<String>,
    orders: PathBuf,
    shapes: Shapes,
}

impl Walk {
    fn command(&self, arguments: &[&str]) -> Command {
        let mut command = self.lab.command(arguments);
        command.env("TIPSTAFF_ORDERS", &self.orders).current_dir(self.lab.path());
        command
    }

    /// Runs a command in each way that people see it.
    fn run(&mut self, arguments: &[&str]) {
        let first = arguments.iter().find(|a| !a.starts_with('-')).unwrap();
        self.walked.insert((*first).to_owned());
        let mut plain = self.command(arguments);
        let plain = self.lab.archive.run(move || plain.output().unwrap()).unwrap();
        // What only another program reads stays as it is.
        let documents = ["draft", "history", "group", "import", "--markdown"];
        if !documents.iter().any(|d| arguments.contains(d)) {
            check(arguments, &String::from_utf8(plain.stdout).unwrap());
        }
        check(arguments, &String::from_utf8(plain.stderr).unwrap());
        let mut command = self.command(arguments);
        command.env_remove("NO_COLOR").env("TERM", "xterm-256color");
        let shown = on_terminal(&mut command);
        let child = self.lab.archive.run(move || {
            let child = command.spawn().unwrap();
            drop(command);
            child
        });
        let shown = read_all(shown);
        child.unwrap().wait().unwrap();
        check(arguments, &shown);
        let mut json = self.command(&[arguments, &["--json"]].concat());
        let json = self.lab.archive.run(move || json.output().unwrap()).unwrap();
        // Arguments that cannot go together are told before anything is written.
        let refused = json.status.code() == Some(2) && json.stdout.is_empty();
        let json = String::from_utf8(json.stdout).unwrap();
        check(arguments, &json);
        // Schemas, SARIF and access lists are of other forms; these two have none in JSON.
        let others = ["schema", "--sarif", "manual", "completions"];
        let other = first == &"export" || others.iter().any(|other| arguments.contains(other));
        if !refused && !other {
            self.shapes.check(arguments, &json);
        }
    }
}

/// Listens until it is killed: this very file, under another name.
#[test]
#[ignore = "run by another test as a program of its own"]
fn a_program_that_listens() {
    let _tcp = TcpListener::bind("[::]:7410").unwrap();
    let _udp = UdpSocket::bind("[::]:7411").unwrap();
    std::thread::park();
}

struct Ended(Child);

impl Drop for Ended {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

fn listening(lab: &Lab, folder: &Path) -> Ended {
    let program = folder.join(ODD);
    tipstaff_testing::executable::copied(std::env::current_exe().unwrap(), &program);
    let mut command = Command::new(&program);
    command.args(["a_program_that_listens", "--exact", "--ignored"]);
    command.stdout(Stdio::null()).stderr(Stdio::null());
    let child = Ended(lab.archive.run(move || command.spawn().unwrap()).unwrap());
    let there = || {
        let survey = lab.tipstaff(&["survey", "--json"]);
        let survey = String::from_utf8(survey.stdout).unwrap();
        survey.contains("7410") && survey.contains("7411")
    };
    assert!(in_time(there));
    child
}

const RULES: &str = r#"
[[hosts]]
name = "archive"
addresses = ["198.51.100.20"]
[[groups]]
name = "dome"
note = """Two
	lines"""
[[postures]]
name = "open-house"
note = """Two
lines"""
[[rules]]
name = "plates"
note = """Two
lines"""
action = "allow"
traffic = "tcp/7410"
source = "partner"
log = true
group = "dome"
at_most = "6 per minute per source, burst 3"
[[rules]]
name = "plates-again"
action = "deny"
traffic = "tcp/7411"
log = true
"#;

#[test]
fn nothing_hidden_is_ever_shown() {
    let Some(lab) = Lab::new() else { return };
    let end = lab.world.as_fd().try_clone_to_owned().unwrap();
    lab.archive
        .run(move || {
            lab::cable(ODD_LINK, "w8", end.as_fd()).unwrap();
            lab::up(ODD_LINK).unwrap();
            lab::address(ODD_LINK, tipstaff_testing::ip("192.0.2.130"), 25).unwrap();
        })
        .unwrap();
    let folder = lab.path().join(ODD);
    fs::create_dir_all(folder.join("groups")).unwrap();
    lab.orders("");
    let _program = listening(&lab, &folder);
    // A rule in a file with an odd name, odd comments, an odd list.
    fs::write(folder.join("groups").join(format!("{ODD}.toml")), "# \u{202e}\n").unwrap();
    fs::write(folder.join("list.txt"), "192.0.2.0/26 # \u{1b}[2J\n").unwrap();
    fs::write(folder.join("feed.csv"), format!("192.0.2.0/26,{ODD},\n")).unwrap();
    let orders = folder.join("orders.toml");
    let good = format!(
        "include = [\"groups/*.toml\"]\n# turned \u{202e}\n{HEAD}odd = \"file:list.txt\"\n\
         [areas]\nfeed = \"feed.csv\"\n{RULES}"
    );
    fs::write(&orders, &good).unwrap();
    let mut walk = Walk { lab, walked: BTreeSet::new(), orders, shapes: Shapes::default() };
    let why = format!("why\u{1b}[2J{ODD}");
    walk.run(&["post", "--check", "--host", "archive"]);
    walk.run(&["post", "--host", "archive", "--reason", &why]);
    let report = walk.lab.path().join("report.json");
    let mut reach = walk.command(&["reach", "--host", "archive", "--json"]);
    let found = walk.lab.archive.run(move || reach.output().unwrap()).unwrap().stdout;
    // A report of another machine, with whatever names it likes at any place.
    let found: serde_json::Value = serde_json::from_slice(&found).unwrap();
    let found = merged_with_odd_names(&mut walk, &report, found);
    assert_eq!(found["host"], ODD);
    fs::write(&report, found.to_string()).unwrap();
    let report = report.to_str().unwrap().to_owned();
    let odd = [format!("note={ODD}"), format!("n{ODD}")];
    for arguments in commands(&report, &odd) {
        // Most would not know as which host.
        walk.run(&[&arguments[..], &["--host", "archive"]].concat());
    }
    // A capture of an interface with an odd name: a header, and no packet.
    let capture = walk.lab.path().join("seen.pcap");
    let words = [0xa1b2_c3d4u32, 4 << 16 | 2, 0, 0, 65_535, 1];
    fs::write(&capture, words.map(u32::to_le_bytes).concat()).unwrap();
    let capture = capture.to_str().unwrap();
    walk.run(&["replay", capture, "--host", "archive", "--interface", ODD]);
    // Access lists of another machine, with whatever names they like.
    let lists = walk.lab.path().join("lists.json");
    let text = "{'ietf-access-control-list:acls':{'acl':[{'name':'ODD','aces':{'ace':[\
        {'name':'ODD','matches':{'ODD':1},'actions':{'forwarding':'ODD'}}]}}]}}";
    fs::write(&lists, text.replace("ODD", ODD_TOML).replace('\'', "\"")).unwrap();
    walk.run(&["import", lists.to_str().unwrap()]);
    let page = walk.lab.path().join("page.html");
    let page = page.to_str().unwrap();
    for arguments in [
        &["reach", "--changes", "--host", "archive", "--html", page][..],
        &["reach", "--changes=report.json", "--host", "archive", "--html", page],
    ] {
        walk.run(arguments);
        check(arguments, &fs::read_to_string(page).unwrap());
        fs::remove_file(page).unwrap();
    }
    watched(&mut walk);
    kept(&mut walk);
    let remove = ["install-boot", "--remove", "--root", ODD];
    for arguments in [&["boot"][..], &["withdraw"], &["install-boot", "--root", ODD], &remove] {
        walk.run(arguments);
    }
    wrong(&mut walk, &good);
    // Each output has been seen, or `json.rs` or another test has it.
    let elsewhere = [
        "brief-difference",
        "confirm",
        // foreign_fleet.rs has all of these.
        "fleet-answer",
        "fleet-decision",
        "fleet-log-counts",
        "fleet-post",
        "fleet-reach",
        "fleet-run",
        "fleet-state",
        "fleet-tally",
        "group-edit",
        "history-prune",
        "keep",
        "keep-posture",
        "log-gap",
        "posture",
        "reach-across",
        "rehearse-end",
        "rule-edits",
        "watch",
    ];
    walk.shapes.all_were_seen_but(&elsewhere);
    walk.walked.insert("fleet".into());
    nothing_was_left_out(&walk);
}

/// What is run while odd orders are in force.
fn commands<'a>(report: &'a str, odd: &'a [String; 2]) -> Vec<Vec<&'a str>> {
    let all: [&[&'a str]; 61] = [
        &["survey"],
        &["draft"],
        &["schema"],
        &["rules", "--all"],
        &["export"],
        &["import", ODD],
        &["rules", "plates"],
        &["rules", "--in-force", "--sort", "hits"],
        &["hosts"],
        &["brief", "archive"],
        &["names", "--all"],
        &["names", "192.0.2.1"],
        &["rule", "set", "plates", "note=more"],
        &["rule", "set", "plates", &odd[0]],
        &["rule", "add", "allow", "ssh", "--name", &odd[1]],
        &["rule", "pause", ODD],
        &["group", "export", "dome"],
        &["group", "export", ODD],
        &["group", "import", report],
        &["standing"],
        &["standing", "inbound", "deny"],
        &["names", "add", "addresses", "house", ODD],
        &["names", "remove", "services", ODD],
        &["postures"],
        &["postures", "add", "night", "note=two", &odd[0]],
        &["areas"],
        &["areas", ODD],
        &["ask", "ssh"],
        &["ask", "7410,7411", "--source", "partner"],
        &["rule", "copy", "plates-again", "--last"],
        &["rule", "edit", ODD],
        &["undo", "--list"],
        &["undo"],
        &["state", "--check"],
        &["manual", "--to", ODD],
        &["completions", "bash"],
        &["schema", ODD],
        &["review", "--elsewhere"],
        &["review"],
        &["review", "--sarif"],
        &["ask", "tcp/7410", "--source", PARTNER[0]],
        &["ask", ODD],
        &["ask", "tcp/7410", "--source", PARTNER[0], "--in-force"],
        &["posture"],
        &["posture", ODD],
        &["compare", "in-force"],
        &["cut", "--yes"],
        &["confirm"],
        &["history"],
        &["history", "show", "1"],
        &["state"],
        &["tally", "--all"],
        &["tally", "--mark"],
        &["tally", "--since-mark", "--sort", "bytes"],
        &["tally", "--every", "1s", "--times", "1"],
        &["tally", "plates", "--sources"],
        &["reach"],
        &["reach", "--why", "tcp/7410"],
        &["reach", "--markdown"],
        &["reach", "merge", report, report],
        &["demo"],
    ];
    all.into_iter().map(<[_]>::to_vec).collect()
}

/// The report with an odd name wherever it can have one.
fn merged_with_odd_names(
    walk: &mut Walk,
    report: &Path,
    mut found: serde_json::Value,
) -> serde_json::Value {
    let mut places = Vec::new();
    strings_of(&found, "", &mut places);
    for place in &places {
        let mut odd = found.clone();
        *odd.pointer_mut(place).unwrap() = ODD.into();
        fs::write(report, odd.to_string()).unwrap();
        let mut merge = walk.command(&["reach", "merge", "report.json", "report.json"]);
        let merged = walk.lab.archive.run(move || merge.output().unwrap()).unwrap();
        if merged.status.code() != Some(2) {
            found = odd;
        }
        check(&["reach", "merge", place], &String::from_utf8(merged.stdout).unwrap());
        check(&["reach", "merge", place], &String::from_utf8(merged.stderr).unwrap());
    }
    found
}

/// Nothing that the program can do was left out.
fn nothing_was_left_out(walk: &Walk) {
    let help = walk.lab.tipstaff(&["--help"]).stdout;
    let help = String::from_utf8(help).unwrap();
    // Of the lines of the list a command's name begins in the third column.
    let lines = help.lines().take_while(|line| !line.starts_with("Options"));
    let names = lines.filter_map(|line| line.strip_prefix("  ")?.split(' ').next());
    let names: Vec<&str> = names.filter(|name| !name.is_empty()).collect();
    assert!(names.len() > 30, "{names:?}");
    for name in names {
        assert!(walk.walked.contains(name), "{name}");
    }
}

/// Runs it in the archive; the terminal that it writes to ends with it.
fn started(walk: &Walk, mut command: Command) -> Child {
    // The closure owns the command, and with it this end of the terminal.
    walk.lab.archive.run(move || command.spawn().unwrap()).unwrap()
}

/// Orders that are rehearsed while `keep` runs, and what is drafted from that.
fn rehearsed(walk: &mut Walk) {
    // What is in force lets in, these would not.
    let before = fs::read_to_string(&walk.orders).unwrap();
    let rule = "name = \"plates-again\"\naction = \"deny\"\ntraffic = \"tcp/7410\"";
    fs::write(&walk.orders, format!("{HEAD}[[rules]]\n{rule}\n")).unwrap();
    walk.run(&["post", "--rehearse"]);
    assert!(in_time(|| {
        walk.lab.knock(PARTNER[0], common::ARCHIVE[0], 7410);
        let log = walk.lab.tipstaff(&["log", "--rehearsed"]).stdout;
        String::from_utf8_lossy(&log).contains("plates-again")
    }));
    for arguments in [
        &["rehearse", "report"][..],
        &["draft", "--from-log"],
        &["draft", "--from-rehearsal"],
        &["state"],
        &["rehearse", "end"],
    ] {
        walk.run(arguments);
    }
    fs::write(&walk.orders, before).unwrap();
}

/// Decisions with the program that asked.
fn watched(walk: &mut Walk) {
    walk.walked.insert("watch".into());
    let mut command = walk.command(&["watch", "--count", "1", "--plain"]);
    command.env_remove("NO_COLOR").env("TERM", "xterm-256color");
    let shown = on_terminal(&mut command);
    let child = RefCell::new(started(walk, command));
    assert!(in_time(|| {
        walk.lab.knock(PARTNER[0], common::ARCHIVE[0], 7411);
        child.borrow_mut().try_wait().unwrap().is_some()
    }));
    let shown = read_all(shown);
    assert!(shown.contains("plates-again"), "{shown}");
    check(&["watch"], &shown);
}

/// The service tells of an interface with an odd name.
fn kept(walk: &mut Walk) {
    walk.walked.insert("keep".into());
    let mut command = walk.command(&["keep"]);
    let shown = on_terminal(&mut command);
    let mut child = started(walk, command);
    let end = walk.lab.world.as_fd().try_clone_to_owned().unwrap();
    let name = format!("k{ODD_LINK}");
    let link = name.clone();
    walk.lab.archive.run(move || lab::cable(&link, "w9", end.as_fd()).unwrap()).unwrap();
    let guarded = || {
        let state = walk.lab.tipstaff(&["state", "--json"]).stdout;
        let state: serde_json::Value = serde_json::from_slice(&state).unwrap();
        state["guarded"].as_array().unwrap().iter().any(|n| *n == *name)
    };
    assert!(in_time(guarded));
    // What it logs has the program's name, and the rule's.
    assert!(in_time(|| {
        walk.lab.knock(PARTNER[0], common::ARCHIVE[0], 7411);
        let log = walk.lab.tipstaff(&["log"]).stdout;
        String::from_utf8_lossy(&log).contains("plates-again")
    }));
    let log = fs::read_to_string(walk.lab.path().join("log/decisions.jsonl")).unwrap();
    check(&["log"], &log);
    for arguments in [
        &["log"][..],
        &["learn", "--host", "archive"],
        &["log", "--csv"],
        &["log", "--top", "programs"],
        &["log", "--by", "hour"],
    ] {
        walk.run(arguments);
    }
    rehearsed(walk);
    child.kill().unwrap();
    child.wait().unwrap();
    check(&["keep"], &read_all(shown));
}

/// Orders that are wrong, with odd words at every place.
fn wrong(walk: &mut Walk, good: &str) {
    for text in wrong::texts(ODD_TOML) {
        fs::write(&walk.orders, &text).unwrap();
        for arguments in [&["rules"][..], &["post", "--check"]] {
            let mut command = walk.command(arguments);
            let plain = walk.lab.archive.run(move || command.output().unwrap()).unwrap();
            assert_eq!(plain.status.code(), Some(2), "{text}");
        }
        walk.run(&["review"]);
    }
    // A list that is wrong in an odd line.
    fs::write(walk.orders.with_file_name("list.txt"), format!("{}\n", ODD.replace('\n', " ")))
        .unwrap();
    fs::write(&walk.orders, good).unwrap();
    walk.run(&["rules"]);
    fs::write(&walk.orders, HEAD.replace("version = 1", "version = 1 # \u{ff}")).unwrap();
    walk.run(&["hosts"]);
}
