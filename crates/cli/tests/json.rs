//! Outputs for scripts: those that `foreign.rs`, which walks most commands, does not
//! meet; and what is read back of an earlier or a later version.

#![allow(clippy::unwrap_used)]

mod common;
#[path = "common/shapes.rs"]
mod shapes;

use std::cell::RefCell;
use std::fs;
use std::io::{BufRead, BufReader};
use std::os::fd::AsFd;
use std::path::PathBuf;
use std::process::{Child, ChildStdout, Stdio};

use common::{ARCHIVE, Lab, PARTNER};
use serde_json::Value;
use shapes::{Shapes, schema};
use tipstaff_host::lab;

const RULES: &str = r#"[[hosts]]
name = "archive"
addresses = ["198.51.100.20"]
[[hosts]]
name = "mast"
addresses = ["198.51.100.40"]
[[postures]]
name = "in-the-house"
interface = "lan7"
[[postures]]
name = "open-house"
standing = { outbound = "deny" }
[[groups]]
name = "dome"
[[rules]]
name = "plates"
action = "allow"
traffic = "tcp/7410"
source = "partner"
hosts = "archive"
group = "dome"
[[rules]]
name = "no-lamps"
action = "deny"
traffic = "tcp/7411"
log = true
"#;

/// A command that writes a line now and then, ended with the test.
struct Lines(Child, std::io::Lines<BufReader<ChildStdout>>);

impl Lines {
    fn of(lab: &Lab, arguments: &[&str]) -> Self {
        let mut command = lab.command(arguments);
        command.stdout(Stdio::piped());
        let mut child = lab.archive.run(move || command.spawn().unwrap()).unwrap();
        let lines = BufReader::new(child.stdout.take().unwrap()).lines();
        Self(child, lines)
    }

    fn next(&mut self) -> String {
        self.1.next().unwrap().unwrap()
    }
}

impl Drop for Lines {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

/// What a command writes, held against its schema, which must be the one of that name.
fn run_one(lab: &Lab, shapes: &mut Shapes, arguments: &[&str], name: &str) -> Value {
    let output = lab.tipstaff(&[arguments, &["--json"]].concat());
    let text = String::from_utf8(output.stdout).unwrap();
    shapes.check(arguments, &text);
    let value: Value = serde_json::from_str(&text).unwrap();
    assert_eq!(value["schema"], format!("tipstaff.{name}/1"), "{arguments:?}: {text}");
    value
}

#[test]
fn outputs_are_as_their_schemas_say() {
    let Some(lab) = Lab::new() else { return };
    lab.orders(RULES);
    let mut shapes = Shapes::default();
    let mut run = |arguments: &[&str], name: &str| run_one(&lab, &mut shapes, arguments, name);
    run(&["brief", "archive", "--diff", "mast"], "brief-difference");
    run(&["group", "pause", "dome"], "group-edit");
    run(&["group", "resume", "dome"], "group-edit");
    run(&["post", "--host", "archive", "--trial", "20 s"], "post");
    let kept = run(&["confirm"], "confirm");
    assert_eq!(kept["revision"], 1);
    // Times are RFC 3339, and what nobody knows is null.
    let state = run(&["state"], "state");
    let since = state["orders"]["since"].as_str().unwrap();
    assert!(since.ends_with('Z') && since.len() == 20, "{since}");
    assert_eq!(state["seconds_left"], Value::Null);

    let watch = RefCell::new(Lines::of(&lab, &["watch", "--json", "--count", "1"]));
    assert!(tipstaff_testing::patience::in_time(|| {
        lab.knock(PARTNER[0], ARCHIVE[0], 7411);
        watch.borrow_mut().0.try_wait().unwrap().is_some()
    }));
    shapes.check(&["watch"], &watch.borrow_mut().next());

    // An interface appears, and makes this the place that a posture is for.
    let mut keep = Lines::of(&lab, &["keep", "--json"]);
    let end = lab.world.as_fd().try_clone_to_owned().unwrap();
    lab.archive
        .run(move || {
            lab::cable("lan7", "w7", end.as_fd()).unwrap();
            lab::up("lan7").unwrap();
        })
        .unwrap();
    let mut met = Vec::new();
    while !(met.contains(&"tipstaff.keep/1".to_owned())
        && met.contains(&"tipstaff.keep-posture/1".to_owned()))
    {
        let line = keep.next();
        shapes.check(&["keep"], &line);
        let value: Value = serde_json::from_str(&line).unwrap();
        met.push(value["schema"].as_str().unwrap().to_owned());
    }
    drop(keep);
    let mut run = |arguments: &[&str], name: &str| run_one(&lab, &mut shapes, arguments, name);
    let taken = run(&["posture", "open-house"], "posture");
    assert_eq!(taken["posture"], "open-house");
    run(&["posture"], "postures");
    let across = ["reach", "--host", "archive", "--outbound", "203.0.113.9:7410"];
    let out = run(&across, "reach-across");
    assert_eq!(out["crossings"][0]["direction"], "outbound");
    let pruned = run(&["history", "prune", "--keep", "1"], "history-prune");
    assert_eq!(pruned["revisions"], serde_json::json!([1, 2]));
}

#[test]
fn a_schema_says_no() {
    let validator = jsonschema::validator_for(&schema("error")).unwrap();
    let good = serde_json::json!({
        "schema": "tipstaff.error/1", "error": "x", "help": null, "exit_code": 2, "faults": [],
        "log": null,
    });
    assert!(validator.is_valid(&good));
    for (key, wrong) in
        [("schema", "tipstaff.error/2".into()), ("error", Value::Null), ("exit_code", "2".into())]
    {
        let mut value = good.clone();
        value[key] = wrong;
        assert!(!validator.is_valid(&value), "{value}");
        value.as_object_mut().unwrap().remove(key);
        assert!(!validator.is_valid(&value), "{value}");
    }
}

#[test]
fn every_output_is_in_the_document() {
    let documents = include_str!("../../../docs/json.md");
    for name in shapes::names() {
        let lists = |name: &str| documents.contains(&format!("`{name}`"));
        assert!(lists(&name), "docs/json.md does not tell of {name}");
    }
}

#[test]
fn what_a_later_version_wrote_is_refused_in_clear_words() {
    let Some(lab) = Lab::new() else { return };
    lab.orders(RULES);
    let told = |arguments: &[&str]| {
        let output = lab.tipstaff(arguments);
        (output.status.code(), String::from_utf8(output.stderr).unwrap())
    };
    let report = lab.path().join("report.json");
    let found = lab.tipstaff(&["reach", "--host", "archive", "--json"]).stdout;
    let found = String::from_utf8(found).unwrap();
    let merge = ["reach", "merge", report.to_str().unwrap()];
    for (schema, why) in [
        ("tipstaff.reach/2", "it was written by a later version of Tipstaff (tipstaff.reach/2)"),
        ("tipstaff.rules/1", "it is tipstaff.rules/1"),
    ] {
        fs::write(&report, found.replace("tipstaff.reach/1", schema)).unwrap();
        let (code, words) = told(&merge);
        assert!(code == Some(2) && words.contains(why), "{words}");
    }
    let mut unnamed: Value = serde_json::from_str(&found).unwrap();
    unnamed.as_object_mut().unwrap().remove("schema");
    fs::write(&report, unnamed.to_string()).unwrap();
    let (code, words) = told(&merge);
    assert!(code == Some(2) && words.contains("names no schema"), "{words}");

    // The check that was kept before: an earlier version's is no use, which is told.
    let kept = lab.path().join("history/reach-archive.json");
    fs::write(&kept, unnamed.to_string()).unwrap();
    let shown = lab.tipstaff(&["reach", "--changes", "--host", "archive"]).stdout;
    let shown = String::from_utf8(shown).unwrap();
    assert!(shown.contains("was saved by an earlier version of Tipstaff"), "{shown}");

    // The history: what is of an earlier version is read, what is of a later one is not.
    lab.done(&["post", "--host", "archive"]);
    let revisions = fs::read_dir(lab.path().join("history/revisions")).unwrap();
    let is_one = |path: &PathBuf| path.extension().is_some_and(|e| e == "json");
    let revision = revisions.map(|entry| entry.unwrap().path()).find(is_one).unwrap();
    let text = fs::read_to_string(&revision).unwrap();
    let mine = "\"schema\":\"tipstaff.kept-revision/1\"";
    let spaced = mine.replace(':', ": ");
    let found = if text.contains(mine) { mine } else { spaced.as_str() };
    fs::write(&revision, text.replace(found, "\"schema\": null")).unwrap();
    lab.done(&["history", "show", "1"]);
    fs::write(&revision, text.replace(found, "\"schema\": \"tipstaff.kept-revision/2\"")).unwrap();
    let (code, words) = told(&["history", "show", "1"]);
    assert!(code != Some(0) && words.contains("a later version of Tipstaff"), "{words}");
}
