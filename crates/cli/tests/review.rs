//! `review` as its users meet it: what it finds, what it fixes, and its log
//! for other tools.

#![allow(clippy::unwrap_used)]

use std::path::Path;
use std::process::{Command, Output};

const HEAD: &str = r#"version = 1
[standing]
inbound = "deny"
outbound = "deny"
transit = "deny"
[addresses]
partner = "203.0.113.0/24"
house = ["198.51.100.0/24", "2001:db8:51::/48"]
kitchen = "192.0.2.0/28"
[services]
plates = "tcp/7410"
clock = "udp/7460"
"#;

const RULES: &str = r#"
[[groups]]
name = "winter"
[[rules]]
name = "plates"
note = "n"
action = "allow"
traffic = "plates"
source = "partner"
[[rules]]
name = "plates-twice"
note = "n"
action = "allow"
traffic = "plates"
source = "203.0.113.0/24"
[[rules]]
name = "denied-anyway"
note = "n"
action = "deny"
traffic = "tcp/7450"
[[rules]]
name = "last-year"
note = "n"
action = "allow"
traffic = "tcp/7451"
until = 2020-01-01T00:00:00Z
[[rules]]
name = "late-desks"
note = "n"
action = "refuse"
traffic = ["tcp/7470", "tcp/7471"]
source = "203.0.113.0/25"
[[rules]]
name = "guests"
note = "n"
action = "allow"
traffic = ["tcp/7470"]
source = "203.0.113.64-203.0.113.200"
[[rules]]
name = "web"
note = "n"
action = "allow"
traffic = "tcp/442"
source = "house"
[[rules]]
name = "plates-back"
note = "n"
action = "allow"
direction = "outbound"
traffic = "plates"
destination = "partner"
[[rules]]
name = "nobody-else"
note = "n"
action = "deny"
traffic = "any"
[[rules]]
name = "too-late"
note = "n"
action = "allow"
traffic = "tcp/7480"
source = "house"
"#;

fn review(folder: &Path, arguments: &[&str]) -> Output {
    Command::new(assert_cmd::cargo::cargo_bin!("tipstaff"))
        .args(["review", "--elsewhere"])
        .args(arguments)
        .current_dir(folder)
        .env("NO_COLOR", "1")
        .env("TIPSTAFF_ORDERS", "orders.toml")
        .output()
        .unwrap()
}

fn json(output: &Output) -> serde_json::Value {
    serde_json::from_slice(&output.stdout)
        .unwrap_or_else(|_| panic!("{}", String::from_utf8_lossy(&output.stderr)))
}

fn found(folder: &Path, arguments: &[&str]) -> Vec<String> {
    let findings = json(&review(folder, &[&["--json"], arguments].concat()));
    findings["findings"]
        .as_array()
        .unwrap()
        .iter()
        .map(|f| {
            format!("{} {} {}", f["code"].as_str().unwrap(), f["rule"], f["line"]).replace('"', "")
        })
        .collect()
}

fn folder(text: &str) -> tempfile::TempDir {
    let folder = tempfile::tempdir().unwrap();
    std::fs::write(folder.path().join("orders.toml"), text).unwrap();
    folder
}

#[test]
fn rules_that_cross_and_names_that_nobody_uses_are_found_at_their_lines() {
    let folder = folder(&format!("{HEAD}{RULES}"));
    assert_eq!(
        found(folder.path(), &[]),
        [
            "one-family plates 16",
            "duplicate plates-twice 22",
            "redundant denied-anyway 28",
            "expired last-year 33",
            "one-family guests 45",
            "partly-contradicted guests 45",
            "outbound-half plates-back 57",
            "after-catch-all too-late 69",
            "unused-name null 9",
            "unused-name null 12",
            "unused-name null 15",
        ]
    );
}

#[test]
fn the_safe_ones_are_mended_and_nothing_else_changes() {
    let text = format!("{HEAD}{RULES}");
    let folder = folder(&text);
    let before = review(folder.path(), &[]);
    let output = review(folder.path(), &["--fix"]);
    let told = String::from_utf8_lossy(&output.stdout).into_owned();
    assert!(told.contains("rules taken out"), "{told}");
    for gone in ["plates-twice (duplicate)", "denied-anyway (redundant)", "last-year (expired)"] {
        assert!(told.contains(gone), "{gone}: {told}");
    }
    let after = std::fs::read_to_string(folder.path().join("orders.toml")).unwrap();
    assert!(!after.contains("plates-twice") && after.contains("name = \"plates\""));
    assert!(after.contains("name = \"too-late\"") && after.contains("name = \"guests\""));
    // Nothing gets another answer.
    std::fs::write(folder.path().join("before.toml"), &text).unwrap();
    let compared = Command::new(assert_cmd::cargo::cargo_bin!("tipstaff"))
        .args(["compare", "before.toml", "orders.toml"])
        .current_dir(folder.path())
        .output()
        .unwrap();
    assert_eq!(compared.status.code(), Some(0), "{}", String::from_utf8_lossy(&compared.stdout));
    // A second time there is nothing left to fix.
    let again = review(folder.path(), &["--fix", "--json"]);
    assert_eq!(json(&again)["fixed"], serde_json::json!([]));
    assert_eq!(std::fs::read_to_string(folder.path().join("orders.toml")).unwrap(), after);
    assert_eq!((before.status.code(), again.status.code()), (Some(1), Some(1)));
}

#[test]
fn what_another_host_or_interface_needs_stays() {
    let hosts = r#"
[[hosts]]
name = "archive"
[[hosts]]
name = "mast"
[[rules]]
name = "plates"
note = "n"
action = "allow"
traffic = "plates"
source = "partner"
hosts = "archive"
[[rules]]
name = "plates-everywhere"
note = "n"
action = "allow"
traffic = "plates"
source = "partner"
[[rules]]
name = "never-by-the-mast"
note = "n"
action = "deny"
traffic = "tcp/7480"
[[rules]]
name = "dome"
note = "n"
action = "allow"
traffic = "tcp/7480"
interface = "mast0"
"#;
    let folder = folder(&format!("{HEAD}{hosts}"));
    let output = review(folder.path(), &["--fix", "--host", "archive", "--json"]);
    // On the archive the second rule is the same as the first; on the mast it is the only one.
    assert_eq!(json(&output)["fixed"], serde_json::json!([]), "{}", json(&output));
    let text = std::fs::read_to_string(folder.path().join("orders.toml")).unwrap();
    assert_eq!(text, format!("{HEAD}{hosts}"));
}

#[test]
fn an_independent_validator_finds_the_log_as_the_standard_says() {
    let schema: serde_json::Value =
        serde_json::from_str(include_str!("schemas/sarif-2.1.0.json")).unwrap();
    let validator = jsonschema::validator_for(&schema).unwrap();
    let folder = folder(&format!("{HEAD}{RULES}"));
    let output = review(folder.path(), &["--sarif"]);
    assert_eq!(output.status.code(), Some(1));
    let log = json(&output);
    if let Err(fault) = validator.validate(&log) {
        panic!("{}: {fault}", fault.instance_path());
    }
    let results = log["runs"][0]["results"].as_array().unwrap();
    assert!(results.len() > 8, "{log:#}");
    let place = &results[1]["locations"][0]["physicalLocation"];
    assert_eq!(place["artifactLocation"]["uri"], "orders.toml");
    assert!(place["region"]["startLine"].as_u64().unwrap() > 12);
    for result in results {
        let index = usize::try_from(result["ruleIndex"].as_u64().unwrap()).unwrap();
        let rule = &log["runs"][0]["tool"]["driver"]["rules"][index];
        assert_eq!(rule["id"], result["ruleId"]);
    }
    // What is found is known again when lines come before it.
    let prints = |log: &serde_json::Value| {
        let all = log["runs"][0]["results"].as_array().unwrap().iter();
        let print = |found: &serde_json::Value| found["partialFingerprints"].clone();
        let mut all: Vec<_> = all.map(|found| print(found).to_string()).collect();
        all.sort_unstable();
        all
    };
    let (text, file) = (format!("{HEAD}{RULES}"), folder.path().join("orders.toml"));
    let visitors = "[[rules]]\nname = \"visitors\"\nnote = \"n\"\naction = \"deny\"\ntraffic = \"tcp/9\"\nsource = \"192.0.2.7\"\n";
    let (head, rest) = text.split_at(text.find("[[rules]]").unwrap());
    std::fs::write(&file, format!("{head}{visitors}{rest}")).unwrap();
    let (before, after) = (prints(&log), prints(&json(&review(folder.path(), &["--sarif"]))));
    assert!(before.windows(2).all(|pair| pair[0] != pair[1]), "{before:#?}");
    let kept = before.iter().filter(|print| after.contains(print)).count();
    assert_eq!(kept, before.len(), "{before:#?} {after:#?}");
    // The validator does find faults.
    let mut wrong = log.clone();
    wrong["runs"][0]["results"][0]["level"] = "loud".into();
    assert!(validator.validate(&wrong).is_err());
}

/// Each rule about a part of what the next one is about, and the opposite of it.
#[test]
fn a_review_that_gave_up_says_so_wherever_it_is_read() {
    let folder = tempfile::tempdir().unwrap();
    let mut orders = "version = 1\n[standing]\ninbound = \"deny\"\noutbound = \"allow\"\n\
                      transit = \"deny\"\n"
        .to_owned();
    for n in 1..1_200 {
        let action = ["allow", "deny"][n % 2];
        orders += &format!(
            "[[rules]]\nname = \"r{n}\"\nnote = \"n\"\naction = \"{action}\"\ntraffic = \"tcp/7410\"\n\
             source = \"10.0.0.0-10.0.{}.{}\"\nfamily = \"ipv4\"\n",
            n / 256,
            n % 256
        );
    }
    std::fs::write(folder.path().join("orders.toml"), orders).unwrap();
    let told = |options: &[&str]| {
        let all = [&["--fail-on", "error"], options].concat();
        let output = review(folder.path(), &all);
        assert_eq!(output.status.code(), Some(1), "{options:?}");
        String::from_utf8(output.stdout).unwrap()
    };
    assert!(told(&[]).contains("not everything was checked: the list is too complex"));
    let report: serde_json::Value = serde_json::from_str(&told(&["--json"])).unwrap();
    assert_eq!(report["gave_up"], true);
    let log: serde_json::Value = serde_json::from_str(&told(&["--sarif"])).unwrap();
    let said = &log["runs"][0]["invocations"][0]["toolExecutionNotifications"][0];
    assert_eq!(said["level"], "warning");
    assert!(said["message"]["text"].as_str().unwrap().contains("too complex"), "{said}");
}
