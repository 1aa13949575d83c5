//! Orders that are rehearsed: on an open machine and beside others, with what is told of it.
//! Needs root.

#![allow(clippy::unwrap_used)]

mod common;
#[path = "common/running.rs"]
mod running;
#[path = "common/shapes.rs"]
mod shapes;

use common::{ARCHIVE, Lab, PARTNER, PLATES, STRANGER};
use running::Running;
use serde_json::Value;
use shapes::Shapes;
use tipstaff_testing::patience::in_time;

/// The requests of the report, as commands.
fn commands(lab: &Lab) -> Vec<String> {
    let report = lab.json(&["rehearse", "report"]);
    let requests = report["requests"].as_array().unwrap();
    requests.iter().map(|request| request["command"].as_str().unwrap().to_owned()).collect()
}

#[test]
fn over_an_open_machine_it_tells_whom_orders_would_turn_away() {
    let Some(lab) = Lab::new() else { return };
    // Records are what it is for, whatever the log of these orders would be.
    lab.orders(&format!("[log]\nlevel = \"off\"\n{PLATES}"));
    let output = lab.tipstaff(&["rehearse", "report"]);
    let error = String::from_utf8_lossy(&output.stderr);
    assert!(
        error.contains("nothing is being rehearsed") && error.contains("--rehearse"),
        "{error}"
    );
    let begun = lab.tipstaff(&["post", "--rehearse", "--for", "2d"]);
    let (text, error) =
        (String::from_utf8_lossy(&begun.stdout), String::from_utf8_lossy(&begun.stderr));
    assert!(begun.status.success(), "{error}");
    assert!(text.contains("rehearsed: they decide and count, and stop nothing"), "{text}");
    assert!(text.contains("for 48 h; `tipstaff rehearse report` tells more"), "{text}");
    assert!(error.contains("nobody writes down who would be denied"), "{error}");

    let _keep = Running::of(&lab, &["keep"]);
    let watch = Running::of(&lab, &["watch"]);
    let _listener = lab.listen("::", 7411);
    let _plates = lab.listen("::", 7410);
    assert_eq!(lab.knock(PARTNER[0], ARCHIVE[0], 7410), "answers");
    assert!(in_time(|| {
        assert_eq!(lab.knock(STRANGER[1], ARCHIVE[1], 7411), "answers", "nothing is stopped");
        lab.done(&["log", "--rehearsed"]).contains("tcp/7411")
    }));
    let log = lab.done(&["log", "--rehearsed"]);
    assert!(log.contains("would deny  inbound on lan0  tcp/7411  [2001:db8:66::66]:"), "{log}");
    assert_eq!(lab.done(&["log"]), "", "nobody was turned away");
    watch.says("would deny  inbound");

    let wanted = "tipstaff rule add allow tcp/7411 --source 2001:db8:66::66";
    assert_eq!(commands(&lab), [wanted]);
    let report = lab.done(&["rehearse", "report"]);
    assert!(report.contains(wanted) && report.contains("the standing answer inbound"), "{report}");
    let report = lab.json(&["rehearse", "report"]);
    assert!(report["allowed"].as_u64() > Some(0), "{report}");
    let state = lab.json(&["state"]);
    assert_eq!((&state["state"], &state["rehearsal"]["over"]), (&"down".into(), &false.into()));
    let state = lab.tipstaff(&["state"]);
    let state = String::from_utf8_lossy(&state.stdout);
    assert!(state.contains("down: everything passes; orders are rehearsed"), "{state}");
    assert!(lab.done(&["rules"]).contains("rehearsed, and stopping nothing"));

    // Drafted from it, orders let in what a program takes; from the log, nothing was denied.
    let drafted = lab.done(&["draft", "--from-rehearsal"]);
    assert!(drafted.contains("traffic = \"tcp/7411\"\nsource = \"2001:db8:66::66\""), "{drafted}");
    assert!(!lab.done(&["draft", "--from-log"]).contains("7411"));

    // What the report says lets it in; a post ends the rehearsal.
    let words: Vec<&str> = wanted.split(' ').skip(1).collect();
    lab.done(&words);
    lab.done(&["post", "--rehearse"]);
    assert_eq!(lab.knock(STRANGER[1], ARCHIVE[1], 7411), "answers");
    assert_eq!(lab.json(&["rehearse", "report"])["denied"], Value::Array(Vec::new()));
    lab.done(&["post"]);
    assert_eq!(lab.json(&["state"])["rehearsal"], Value::Null);
    assert_eq!(lab.knock(STRANGER[1], ARCHIVE[1], 7411), "answers");
    assert_eq!(lab.knock(STRANGER[0], ARCHIVE[0], 7411), "silent");
}

#[test]
fn beside_orders_in_force_it_tells_what_others_would_change() {
    let Some(lab) = Lab::new() else { return };
    lab.orders(&format!(
        "{PLATES}[[rules]]\nname = \"shell\"\naction = \"allow\"\ntraffic = \"ssh\"\n"
    ));
    lab.done(&["post"]);
    let _keep = Running::of(&lab, &["keep"]);
    let _shell = lab.listen("::", 22);
    lab.orders("[[rules]]\nname = \"no-shell\"\naction = \"refuse\"\ntraffic = \"ssh\"\n");
    lab.done(&["post", "--rehearse"]);
    let mut shapes = Shapes::default();
    assert!(in_time(|| {
        assert_eq!(lab.knock(PARTNER[0], ARCHIVE[0], 22), "answers");
        assert_eq!(lab.knock(STRANGER[0], ARCHIVE[0], 7411), "silent");
        !commands(&lab).is_empty()
    }));
    // What was stopped anyway is not told again; a rule that denies is stood before.
    assert_eq!(
        commands(&lab),
        ["tipstaff rule add allow tcp/22 --source 203.0.113.9 --before no-shell"]
    );
    let report = lab.json(&["rehearse", "report"]);
    assert_eq!(report["denied"][0]["by"], "rule 1 (no-shell)", "{report}");
    let log = lab.done(&["log"]);
    assert!(log.contains("tcp/7411") && !log.contains("tcp/22"), "{log}");
    shapes.check(&["log", "--json"], &lab.done(&["log", "--rehearsed", "--json"]));
    shapes.check(&["rehearse"], &lab.done(&["rehearse", "report", "--json"]));
    let reach = lab.tipstaff(&["reach", "--as", PARTNER[0]]);
    let reach = String::from_utf8_lossy(&reach.stdout);
    assert!(reach.contains("rehearsed, and stopping nothing"), "{reach}");
    let state = lab.tipstaff(&["state"]);
    assert!(String::from_utf8_lossy(&state.stdout).contains("rehearsal orders"));
    shapes.check(&["rehearse"], &lab.done(&["rehearse", "end", "--json"]));
    assert_eq!(lab.tipstaff(&["rehearse", "end"]).status.code(), Some(2));
    assert_eq!(lab.knock(PARTNER[0], ARCHIVE[0], 22), "answers");
}

#[test]
fn whether_the_same_is_in_force_is_told() {
    let Some(lab) = Lab::new() else { return };
    lab.orders(PLATES);
    assert_eq!(lab.json(&["post", "--rehearse"])["changed"], true);
    lab.done(&["post"]);
    assert_eq!(lab.json(&["post", "--rehearse"])["changed"], false);
}
