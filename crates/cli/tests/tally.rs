//! What rules counted: since when, since a mark, a second, for other programs. Needs root
//! for the kernel's part.

#![allow(clippy::unwrap_used)]

mod common;
#[path = "common/running.rs"]
mod running;

use std::fs;
use std::io::{BufRead, BufReader};
use std::process::{Command, Stdio};

use common::{ARCHIVE, HEAD, Lab, PARTNER, PLATES, STRANGER};
use running::Running;
use serde_json::Value;
use tipstaff_testing::patience::{in_time, is_emulated};
use tipstaff_testing::skipped;

fn json(lab: &Lab, arguments: &[&str]) -> Value {
    serde_json::from_str(&lab.done(arguments)).unwrap()
}

fn packets(report: &Value, by: &str) -> u64 {
    let rows = report["rows"].as_array().unwrap();
    let row = rows.iter().find(|row| row["by"] == by);
    row.map_or(0, |row| row["packets"].as_u64().unwrap())
}

const RULE: &str = "rule 1 (plates)";
const STANDING: &str = "the standing answer inbound";
const SPARE: &str =
    "[[rules]]\nname = \"spare\"\naction = \"allow\"\ntraffic = \"tcp/8\"\nenabled = false\n";
const ODD: &str = "[[rules]]\nname = \"odd\"\naction = \"allow\"\ntraffic = \"tcp/9\"\nsource = \"192.0.2.0/24\"\nat_most = \"2 per minute per source\"\n";

#[test]
fn counts_are_told_since_when_since_a_mark_a_second_and_to_other_programs() {
    let Some(lab) = Lab::new() else { return };
    let orders = lab.orders(&format!("{PLATES}{ODD}{SPARE}"));
    let _listener = lab.listen("::", 7410);
    // Nothing in force is a metric, and a mark that was never set an error that helps.
    assert!(lab.done(&["tally", "--openmetrics"]).contains("\ntipstaff_in_force 0\n# EOF"));
    lab.done(&["post"]);
    // A rule is no file that metrics could go to.
    let output = lab.tipstaff(&["tally", "--openmetrics", "plates"]);
    assert_eq!((output.status.code(), lab.path().join("plates").exists()), (Some(2), false));
    let nowhere = lab.tipstaff(&["tally", "--openmetrics=/proc/none/metrics"]);
    let error = String::from_utf8_lossy(&nowhere.stderr);
    assert!(!nowhere.status.success() && error.contains("/proc/none/metrics"), "{error}");
    let output = lab.tipstaff(&["tally", "--since-mark"]);
    let error = String::from_utf8_lossy(&output.stderr);
    assert!(!output.status.success() && error.contains("tipstaff tally --mark"), "{error}");

    let knock = |from: &str, times: u64| {
        for _ in 0..times {
            lab.knock(from, ARCHIVE[0], 7410);
        }
    };
    let counts = |arguments: &[&str], rule: u64, standing: u64| {
        assert!(
            in_time(|| {
                let report = json(&lab, arguments);
                packets(&report, RULE) == rule && packets(&report, STANDING) == standing
            }),
            "{arguments:?}: {rule}, {standing}: {}",
            lab.done(arguments)
        );
    };
    knock(PARTNER[0], 3);
    knock(STRANGER[0], 1);
    counts(&["tally", "--json"], 3, 1);
    let text = lab.done(&["tally"]);
    assert!(text.contains("counted since 2"), "{text}");
    assert!(text.contains("nothing has matched rule 2 (odd) since 2"), "{text}");
    // What is paused matches nothing, and nobody wonders.
    assert!(!text.contains("spare"), "{text}");

    let report = json(&lab, &["tally", "--json"]);
    let connections = |by: &str| {
        let rows = report["rows"].as_array().unwrap();
        rows.iter().find(|row| row["by"] == by).unwrap()["connections"].clone()
    };
    assert_eq!((connections(RULE), connections(STANDING)), (3.into(), 0.into()), "{report}");

    // From the mark on; the whole is still there. The same orders again change neither.
    assert!(lab.done(&["tally", "--mark"]).contains("marked at 2"));
    knock(PARTNER[0], 2);
    counts(&["tally", "--since-mark", "--json"], 2, 0);
    counts(&["tally", "--json"], 5, 1);
    lab.done(&["post"]);
    counts(&["tally", "--since-mark", "--json"], 2, 0);
    assert!(lab.done(&["tally", "--since-mark"]).contains("counted since the mark of 2"));

    // A second look: what came in between, and nothing else.
    let rates = json(&lab, &["tally", "--every", "1s", "--times", "1", "--json"]);
    let rows = rates["rows"].as_array().unwrap();
    assert!(rows.iter().all(|row| row["by"] != RULE && row["by"] != STANDING), "{rates}");
    assert!(rates["seconds"].as_f64().unwrap() >= 1.0, "{rates}");

    // Most first; as a table for other programs.
    let csv = lab.done(&["tally", "--csv", "--sort", "packets"]);
    let lines: Vec<&str> = csv.lines().collect();
    assert_eq!(lines[0], "by,packets,bytes,connections,beyond,since");
    assert!(lines.iter().any(|line| line.starts_with(&format!("{STANDING},1,"))), "{csv}");
    let of = |line: &&str| line.split(',').nth(1).unwrap().parse::<u64>().unwrap();
    let counts_of: Vec<u64> = lines[1..].iter().map(of).collect();
    assert!(counts_of.is_sorted_by(|a, b| a >= b), "{csv}");

    // A rule that means something else begins anew, and a file that was edited is named.
    let other = PLATES.replace("7410", "7411");
    fs::write(&orders, format!("{HEAD}{other}{ODD}")).unwrap();
    let text = lab.done(&["tally"]);
    assert!(text.contains("differs from them; counted is what is in force"), "{text}");
    assert_eq!(json(&lab, &["tally", "--json"])["file_differs"], true);
    lab.done(&["post"]);
    let report = json(&lab, &["tally", "--all", "--json"]);
    assert_eq!((packets(&report, RULE), &report["file_differs"]), (0, &Value::Bool(false)));
    counts(&["tally", "--since-mark", "--json"], 0, 0);
    lab.done(&["withdraw"]);
}

/// Reads OpenMetrics by a parser that is not ours, and says what it found.
const PARSER: &str = r#"
import json, sys
from prometheus_client.openmetrics.parser import text_string_to_metric_families
found = []
for family in text_string_to_metric_families(open(sys.argv[1]).read()):
    for sample in family.samples:
        found.append([family.type, sample.name, sample.labels, sample.value])
print(json.dumps(found))
"#;

#[test]
fn metrics_are_read_by_a_parser_that_is_not_ours() {
    let Some(lab) = Lab::new() else { return };
    let known = Command::new("python3").args(["-c", "import prometheus_client"]).output();
    if !known.is_ok_and(|output| output.status.success()) {
        skipped("metrics by an independent parser were", &"this machine has no prometheus-client");
        return;
    }
    lab.orders(&format!("{PLATES}{ODD}"));
    let _listener = lab.listen("::", 7410);
    lab.done(&["post"]);
    lab.knock(PARTNER[0], ARCHIVE[0], 7410);
    lab.tipstaff(&["reach"]);
    let file = lab.path().join("tipstaff.prom");
    let found = |what: &dyn Fn(&str, &Value) -> bool| {
        lab.done(&["tally", &format!("--openmetrics={}", file.display())]);
        let output = Command::new("python3").args(["-c", PARSER]).arg(&file).output().unwrap();
        let error = String::from_utf8_lossy(&output.stderr);
        assert!(output.status.success(), "{error}\n{}", fs::read_to_string(&file).unwrap());
        let all: Vec<(String, String, Value, f64)> =
            serde_json::from_slice(&output.stdout).unwrap();
        let sample = all.into_iter().find(|(_, name, labels, _)| what(name, labels));
        sample.map(|(kind, _, _, value)| (kind, value))
    };
    let plates = |wanted: &'static str| {
        move |name: &str, labels: &Value| {
            name == wanted && labels["kind"] == "rule" && labels["name"] == "plates"
        }
    };
    let counter = |value| Some(("counter".to_owned(), value));
    assert!(in_time(|| found(&plates("tipstaff_packets_total")) == counter(1.0)));
    assert!(found(&plates("tipstaff_bytes_total")).unwrap().1 >= 60.0);
    let created = found(&plates("tipstaff_packets_created")).unwrap().1;
    let posted = found(&|name, _| name == "tipstaff_posted_timestamp_seconds").unwrap().1;
    assert!((created - posted).abs() <= 2.0, "{created} {posted}");
    let beyond = |name: &str, labels: &Value| {
        name == "tipstaff_beyond_rate_packets_total" && labels["name"] == "odd"
    };
    assert_eq!(found(&beyond), counter(0.0));
    let up = found(&|name, _| name == "tipstaff_in_force");
    assert_eq!(up, Some(("gauge".to_owned(), 1.0)));
    let info = |name: &str, labels: &Value| {
        name == "tipstaff_orders_info" && labels["hash"].as_str().is_some_and(|h| h.len() >= 8)
    };
    assert_eq!(found(&info).unwrap().0, "info");
    assert!(found(&|name, _| name == "tipstaff_reach_differences").is_some());
    lab.done(&["withdraw"]);
}

#[test]
fn rates_follow_other_orders_and_end_with_their_reader() {
    let Some(lab) = Lab::new() else { return };
    lab.orders(&format!("{PLATES}{ODD}"));
    let _listener = lab.listen("::", 7410);
    lab.done(&["post"]);
    let watching = |times: &[&str]| {
        let mut command = lab.command(&[&["tally", "--every", "1s", "--json"][..], times].concat());
        command.stdout(Stdio::piped());
        lab.archive.run(move || command.spawn().unwrap()).unwrap()
    };
    // A rule more in front: places mean other rules from now on.
    let times = if is_emulated() { "60" } else { "6" };
    let mut child = watching(&["--times", times]);
    let mut lines = BufReader::new(child.stdout.take().unwrap()).lines();
    let first = lines.next().unwrap().unwrap();
    assert!(first.contains("tipstaff.tally-rates/1"), "{first}");
    let front = ODD.replace("\"odd\"", "\"front\"");
    lab.orders(&format!("{front}{PLATES}{ODD}"));
    lab.done(&["post"]);
    for _ in 0..3 {
        lab.knock(PARTNER[0], ARCHIVE[0], 7410);
    }
    let looks: Vec<Value> =
        lines.map(|line| serde_json::from_str(&line.unwrap()).unwrap()).collect();
    let by: Vec<&str> = looks
        .iter()
        .flat_map(|look| look["rows"].as_array().unwrap())
        .filter(|row| row["kind"] == "rule")
        .map(|row| row["by"].as_str().unwrap())
        .collect();
    assert!(!by.is_empty() && by.iter().all(|by| *by == "rule 2 (plates)"), "{by:?}");
    assert!(child.wait().unwrap().success());

    let mut child = watching(&[]);
    let mut reader = BufReader::new(child.stdout.take().unwrap());
    reader.read_line(&mut String::new()).unwrap();
    drop(reader);
    let ended = std::cell::RefCell::new(child);
    let met = in_time(|| ended.borrow_mut().try_wait().unwrap().is_some());
    let _ = ended.borrow_mut().kill();
    assert!(met, "nobody reads, and it goes on");
    lab.done(&["withdraw"]);
}

/// Whom a rate turned away how often, the log knows.
#[test]
fn whom_a_rate_turned_away_is_told() {
    let Some(lab) = Lab::new() else { return };
    lab.orders(&ODD.replace("tcp/9", "tcp/7410"));
    let _listener = lab.listen("::", 7410);
    lab.done(&["post"]);
    let _keep = Running::of(&lab, &["keep"]);
    let told = || json(&lab, &["tally", "odd", "--sources", "--json"])["turned_away"].clone();
    assert_eq!(told(), Value::Array(Vec::new()));
    assert!(in_time(|| {
        lab.knock(STRANGER[0], ARCHIVE[0], 7410);
        told()[0]["times"].as_u64() >= Some(2)
    }));
    assert_eq!(told()[0]["source"], STRANGER[0]);
    let text = lab.done(&["tally", "odd", "--sources"]);
    assert!(text.contains("turned away by it") && text.contains(STRANGER[0]), "{text}");
}
