//! A `boot` that does not come to its end – killed, too slow, failed – as its unit goes on
//! (`ExecStopPost=`).

#![allow(clippy::unwrap_used)]

mod common;

use std::fs;
use std::process::Stdio;
use std::time::Instant;

use common::{ARCHIVE, HEAD, Lab, PARTNER, PLATES, STRANGER};

/// So many parts of its time after its start a `boot` is killed.
const KILLS: u32 = 8;

/// What the unit runs behind a `boot` that ended so: exit code, and what it says.
fn after(lab: &Lab, result: &str, status: &str) -> (Option<i32>, String) {
    let mut command = lab.command(&["boot", "--after-failure"]);
    command.env("SERVICE_RESULT", result).env("EXIT_STATUS", status);
    let output = lab.archive.run(move || command.output().unwrap()).unwrap();
    let told = String::from_utf8([output.stdout, output.stderr].concat()).unwrap();
    (output.status.code(), told)
}

fn post(lab: &Lab, on_failure: &str, rules: &str) {
    let text = format!("{HEAD}[boot]\non_failure = \"{on_failure}\"\n{rules}");
    fs::write(lab.path().join("orders.toml"), text).unwrap();
    lab.done(&["post"]);
}

#[test]
fn a_boot_that_is_cut_short_opens_nothing() {
    let Some(lab) = Lab::new() else { return };
    let _listener = lab.listen("::", 7410);
    let knock = || lab.knock(PARTNER[0], ARCHIVE[0], 7410);
    // As who has not said where the orders are.
    let state = || {
        let mut command = lab.command(&["state"]);
        command.env_remove("TIPSTAFF_ORDERS");
        let output = lab.archive.run(move || command.output().unwrap()).unwrap();
        (output.status.code(), String::from_utf8(output.stdout).unwrap())
    };
    // For a machine without orders nothing is sealed.
    assert_eq!(after(&lab, "timeout", "TERM"), (Some(0), String::new()));
    assert_eq!(knock(), "answers");

    post(&lab, "closed", PLATES);
    // What is in force stays; so does the lack of it where the unit was only stopped.
    assert_eq!(after(&lab, "timeout", "TERM"), (Some(0), String::new()));
    assert_eq!(knock(), "answers");
    lab.done(&["withdraw"]);
    assert_eq!(after(&lab, "success", "0"), (Some(0), String::new()));
    assert_eq!(state().0, Some(10));

    for (result, status, why) in [
        ("timeout", "TERM", "`boot` took longer than its unit allows"),
        ("signal", "KILL", "`boot` was killed: KILL"),
        ("oom-kill", "KILL", "`boot` was killed: out of memory"),
        ("exit-code", "101", "`boot` ended with exit code 101"),
    ] {
        let (code, told) = after(&lab, result, status);
        assert!(code == Some(1) && told.contains(why), "{code:?} {told}");
        assert!(told.contains("revision 1 ") && told.contains("instead: sealed"), "{told}");
        assert_eq!(knock(), "silent");
        let (code, told) = state();
        assert!(code == Some(11) && told.contains(why), "{code:?} {told}");
        // No file has what holds now, so none was edited.
        assert!(told.contains(", built in, ") && !told.contains("\n  edited"), "{told}");
        assert_eq!(lab.json(&["state"])["orders"]["path"], serde_json::Value::Null);
        lab.done(&["withdraw"]);
    }

    // The revision that `boot` did not survive is not tried again.
    fs::write(lab.path().join("history/revisions/000001.json"), "[".repeat(1 << 20)).unwrap();
    assert_eq!(after(&lab, "core-dump", "ABRT").0, Some(1));
    assert_eq!(knock(), "silent");
    lab.done(&["withdraw"]);

    // Two that are sound: the earlier one holds, by its own rules.
    post(&lab, "last-good", PLATES);
    post(&lab, "last-good", "");
    lab.done(&["withdraw"]);
    let (code, told) = after(&lab, "timeout", "TERM");
    assert!(code == Some(1) && told.contains("instead: revision 2"), "{told}");
    assert_eq!(knock(), "answers");
    lab.done(&["withdraw"]);

    // Open on purpose, and it was told: nothing more to do.
    post(&lab, "open", "");
    lab.done(&["withdraw"]);
    let (code, told) = after(&lab, "signal", "KILL");
    assert!(code == Some(1) && told.contains("instead: nothing"), "{told}");
    assert_eq!(after(&lab, "exit-code", "1"), (Some(0), String::new()));
    assert_eq!(knock(), "answers");
}

#[test]
fn a_boot_that_is_killed_at_any_moment_leaves_the_orders_or_what_they_say_instead() {
    let Some(lab) = Lab::new() else { return };
    let _listener = lab.listen("::", 7410);
    post(&lab, "closed", PLATES);
    lab.done(&["withdraw"]);
    let begin = Instant::now();
    lab.done(&["boot"]);
    let whole = begin.elapsed();
    let mut ends = Vec::new();
    for part in 0..=KILLS {
        lab.done(&["withdraw"]);
        let mut command = lab.command(&["boot"]);
        command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
        let mut boot = lab.archive.run(move || command.spawn().unwrap()).unwrap();
        std::thread::sleep(whole * part / KILLS);
        boot.kill().unwrap();
        boot.wait().unwrap();
        let (code, told) = after(&lab, "signal", "KILL");
        let met = match code {
            Some(0) => ["answers", "silent"],
            _ => ["silent", "silent"],
        };
        let knocks = [PARTNER, STRANGER].map(|from| lab.knock(from[0], ARCHIVE[0], 7410));
        assert_eq!(knocks, met, "{part} of {KILLS}: {code:?} {told}");
        ends.push(code);
    }
    // Killed at once it is sealed: or nothing was tried.
    assert_eq!(ends.first(), Some(&Some(1)), "{ends:?}");
}
