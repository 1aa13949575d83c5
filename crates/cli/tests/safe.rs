//! Turning orders on safely: trials that the kernel ends by itself, the
//! history of posts, orders that others could have written.

#![allow(clippy::unwrap_used)]

mod common;

use std::fs;
use std::net::TcpStream;
use std::os::fd::AsFd;
use std::os::unix::fs::PermissionsExt;
use std::process::Stdio;
use std::time::Duration;

use common::{ARCHIVE, HEAD, Lab, PARTNER, PLATES, STRANGER};
use serde_json::Value;
use tipstaff_bpf::asm::{Assembler, R0};
use tipstaff_bpf::sys::{self, Attach, Order, ProgramKind};
use tipstaff_host::lab::xdp;
use tipstaff_testing::patience::{in_time, stretched};

#[test]
fn an_unconfirmed_trial_ends_by_itself_whoever_is_killed() {
    let Some(lab) = Lab::new() else { return };
    let _listener = lab.listen("::", 7410);
    lab.orders("");
    lab.done(&["post", "--reason", "nobody comes in"]);
    let knock = || lab.knock(PARTNER[0], ARCHIVE[0], 7410);
    assert_eq!(knock(), "silent");
    lab.orders(PLATES);
    // On a terminal it would ask; killed while it waits, it cannot answer.
    let [short, long] = [1, 2].map(|n| stretched(Duration::from_secs(n)).as_secs());
    let [time, longer] = [short, long].map(|seconds| format!("{seconds}s"));
    let told = lab.done(&["post", "--trial", &time, "--reason", "plates for the partner"]);
    let back = format!("rolls back in {short} s");
    assert!(told.contains("in force, on trial") && told.contains(&back), "{told}");
    assert_eq!(knock(), "answers");
    let state = lab.json(&["state"]);
    assert!(state["seconds_left"].is_u64(), "{state}");
    // A knock alone may be silent because the machine is slow.
    let is_over = || lab.json(&["state"])["seconds_left"].is_null();
    assert!(in_time(|| is_over() && knock() == "silent"), "the kernel did not go back");
    // A late confirm says so, and changes nothing.
    let late = lab.tipstaff(&["confirm"]);
    assert_eq!(late.status.code(), Some(2));
    assert!(String::from_utf8_lossy(&late.stderr).contains("the trial ended before"));
    let state = lab.tipstaff(&["state"]);
    assert_eq!(state.status.code(), Some(11));
    assert!(String::from_utf8_lossy(&state.stdout).contains("was not confirmed in time"));

    // Confirmed it stays.
    lab.done(&["post", "--trial", &longer, "--reason", "again"]);
    let second = lab.tipstaff(&["post"]);
    assert_eq!(second.status.code(), Some(2), "a second one has to wait");
    lab.done(&["confirm"]);
    assert_eq!(lab.json(&["state"])["seconds_left"], Value::Null);
    assert_eq!(knock(), "answers");

    let history = lab.json(&["history"]);
    let seen: Vec<_> = history["revisions"]
        .as_array()
        .unwrap()
        .iter()
        .map(|r| (r["number"].as_u64().unwrap(), r["kept"].as_bool().unwrap(), &r["reason"]))
        .collect();
    assert_eq!(
        seen,
        [
            (3, true, &"again".into()),
            (2, false, &"plates for the partner".into()),
            (1, true, &"nobody comes in".into()),
        ]
    );
    // Back to the first.
    assert!(!lab.done(&["history", "show", "1"]).contains("7410"));
    lab.done(&["post", "--revision", "1"]);
    assert_eq!(knock(), "silent");
    // Out of force for a time, and back.
    lab.done(&["withdraw", "--until", &time]);
    assert_eq!(knock(), "answers");
    assert_eq!(lab.tipstaff(&["state"]).status.code(), Some(10));
    assert!(in_time(|| knock() == "silent"), "the orders did not come back");
    // What was meant to stay last is never forgotten.
    assert_eq!(
        lab.json(&["history", "prune", "--keep", "0"])["revisions"],
        serde_json::json!([1, 2, 3])
    );
    assert_eq!(lab.json(&["history"])["revisions"].as_array().unwrap().len(), 1);
    lab.done(&["withdraw"]);
}

/// The one who waits for the answer is killed: nobody is needed for the end.
#[test]
fn a_trial_survives_nobody() {
    let Some(lab) = Lab::new() else { return };
    let _listener = lab.listen("::", 7410);
    lab.orders("");
    lab.done(&["post"]);
    lab.orders(PLATES);
    let mut command = lab.command(&["post", "--trial", "1s"]);
    command.stdin(Stdio::piped()).stdout(Stdio::null()).stderr(Stdio::null());
    let mut child = lab.archive.run(move || command.spawn().unwrap()).unwrap();
    let knock = || lab.knock(PARTNER[1], ARCHIVE[1], 7410);
    assert!(in_time(|| knock() == "answers"));
    let _ = child.kill();
    child.wait().unwrap();
    assert!(in_time(|| knock() == "silent"));
    lab.done(&["withdraw"]);
}

#[test]
fn orders_that_others_can_write_and_a_history_that_cannot_be_written_stop_the_post() {
    let Some(lab) = Lab::new() else { return };
    let path = lab.orders(PLATES);
    fs::set_permissions(&path, fs::Permissions::from_mode(0o666)).unwrap();
    let refused = |arguments: &[&str]| {
        let output = lab.tipstaff(arguments);
        assert!(!output.status.success());
        assert_eq!(lab.tipstaff(&["state"]).status.code(), Some(10), "nothing is in force");
        String::from_utf8(output.stderr).unwrap()
    };
    let told = refused(&["post"]);
    assert!(
        told.contains("can be changed by accounts other") && told.contains("chmod go-w"),
        "{told}"
    );
    fs::set_permissions(&path, fs::Permissions::from_mode(0o644)).unwrap();
    // A file stands where the folder should be.
    fs::write(lab.path().join("history"), "").unwrap();
    let told = refused(&["post"]);
    assert!(told.contains("history") && told.contains("cannot be written"), "{told}");
    fs::remove_file(lab.path().join("history")).unwrap();
    // A post that fails is not part of the history.
    fs::write(&path, format!("{HEAD}[[rules]]\n")).unwrap();
    refused(&["post"]);
    assert_eq!(lab.json(&["history"])["revisions"], serde_json::json!([]));
    lab.orders(PLATES);
    lab.done(&["post"]);
    assert_eq!(lab.json(&["history"])["revisions"].as_array().unwrap().len(), 1);
    lab.done(&["withdraw"]);
}

#[test]
fn a_post_says_what_it_changes_and_who_would_not_come_in_again() {
    let Some(lab) = Lab::new() else { return };
    let _listener = lab.listen("::", 7410);
    lab.orders(PLATES);
    let first = lab.done(&["post"]);
    assert!(first.contains("what changes, compared with no gate"), "{first}");
    assert!(first.contains("- denied: any but"), "{first}");
    let streams: Vec<TcpStream> =
        (0..2).map(|f| lab.connect(PARTNER[f], ARCHIVE[f], 7410).unwrap()).collect();
    let narrow = PLATES.replace("source = \"partner\"", "source = \"203.0.113.9\"");
    lab.orders(&narrow);
    let second = lab.done(&["post"]);
    assert!(second.contains("- denied: tcp/7410 from"), "{second}");
    assert!(second.contains("1 open connection would no longer be let in"), "{second}");
    assert!(second.contains("by the standing answer inbound"), "{second}");
    // The same, asked for.
    let compared = lab.tipstaff(&["compare", "1", "2", "--json"]);
    assert_eq!(compared.status.code(), Some(1));
    let compared: Value = serde_json::from_slice(&compared.stdout).unwrap();
    assert_eq!(compared["changes"].as_array().unwrap().len(), 2);
    assert_eq!(compared["changes"][1]["sources"][0], "2001:db8:113::/48");
    assert_eq!(lab.tipstaff(&["compare"]).status.code(), Some(0), "the file is in force");
    assert_eq!(lab.tipstaff(&["compare", "7"]).status.code(), Some(2));

    // They stay until somebody ends them.
    let alive = |stream: &TcpStream| {
        stream.set_read_timeout(Some(Duration::from_millis(50))).unwrap();
        stream.peek(&mut [0]).is_err_and(|e| e.kind() == std::io::ErrorKind::WouldBlock)
    };
    assert!(streams.iter().all(alive));
    let shown = lab.done(&["cut", "--dry-run"]);
    assert!(shown.contains("1 connection that") && shown.contains("2001:db8:113::9"), "{shown}");
    assert!(lab.done(&["cut", "--yes", "--peer", "203.0.113.9"]).contains("0 connections"));
    assert!(streams.iter().all(alive));
    assert!(lab.done(&["cut", "--yes"]).contains("1 connection ended"));
    assert!(alive(&streams[0]) && !alive(&streams[1]));
    // In a trial nothing is cut: what is cut does not come back.
    lab.orders("");
    lab.done(&["post", "--trial", "1m"]);
    assert_eq!(lab.tipstaff(&["cut", "--yes"]).status.code(), Some(2));
    assert!(alive(&streams[0]));
    lab.done(&["confirm"]);
    assert!(lab.done(&["post", "--cut"]).contains("ended: 203.0.113.9"));
    assert!(!alive(&streams[0]));
    lab.done(&["withdraw"]);
}

#[test]
fn orders_that_would_cut_off_their_own_writer_are_not_posted() {
    let Some(lab) = Lab::new() else { return };
    let _listener = lab.listen("::", 7410);
    let _shell = lab.connect(PARTNER[0], ARCHIVE[0], 7410).unwrap();
    let post = |rules: &str, more: &[&str]| {
        lab.orders(rules);
        let mut command = lab.command(&[&["post"], more].concat());
        command.env("SSH_CONNECTION", format!("{} 50022 {} 7410", PARTNER[0], ARCHIVE[0]));
        let output = lab.archive.run(move || command.output().unwrap()).unwrap();
        (output.status.code(), String::from_utf8(output.stderr).unwrap())
    };
    let (code, told) = post("", &[]);
    assert_eq!(code, Some(2), "{told}");
    let help = "tipstaff rule add allow tcp/7410 --source 203.0.113.9 --first";
    assert!(told.contains("your own shell") && told.contains(help), "{told}");
    assert_eq!(lab.tipstaff(&["state"]).status.code(), Some(10), "nothing is in force");
    // A namespace that is named is no other one.
    lab.archive.name("archive").unwrap();
    let (code, told) = post("", &["--namespace", "archive"]);
    assert!(code == Some(2) && told.contains("your own shell"), "{told}");
    assert_eq!(post(PLATES, &[]).0, Some(0));
    assert_eq!(post("", &["--even-if-i-am-cut-off"]).0, Some(0));
    lab.done(&["withdraw"]);
}

/// What another version put up holds: nobody says that everything passes, a post
/// takes its place, and a withdrawal takes it away.
#[test]
fn the_gate_of_another_version_is_told_replaced_and_withdrawn() {
    let Some(lab) = Lab::new() else { return };
    lab.orders(PLATES);
    let _listener = lab.listen("::", 7410);
    let knock = || [PARTNER[0], STRANGER[0]].map(|from| lab.knock(from, ARCHIVE[0], 7410));
    let made_old = || {
        let (bpf, archive) = (lab.path().join("run/bpf"), &lab.archive);
        let rename = move || {
            let mut all = std::fs::read_dir(&bpf).unwrap().flatten().map(|entry| entry.path());
            let own = all.find(|path| path.join("switch").exists()).unwrap();
            let name = own.file_name().unwrap().to_str().unwrap();
            let old = format!("ns2-{}", name.split_once('-').unwrap().1);
            std::fs::rename(&own, bpf.join(old)).unwrap();
        };
        archive.run(rename).unwrap();
    };
    lab.done(&["post"]);
    for end in ["post", "withdraw"] {
        made_old();
        assert_eq!(knock(), ["answers", "silent"]);
        let state = lab.tipstaff(&["state"]);
        let told = String::from_utf8_lossy(&state.stdout).into_owned();
        assert_eq!(state.status.code(), Some(11), "{told}");
        assert!(told.contains("by another version") && !told.contains("everything passes"));
        for arguments in [&["reach"][..], &["survey"], &["rules", "--in-force"]] {
            let output = lab.tipstaff(arguments);
            let error = String::from_utf8_lossy(&output.stderr).into_owned();
            assert!(error.contains("another version"), "{arguments:?}: {error}");
        }
        match end {
            "post" => {
                lab.done(&["post"]);
                assert_eq!(lab.tipstaff(&["state"]).status.code(), Some(0));
                assert_eq!(knock(), ["answers", "silent"]);
            }
            _ => {
                lab.done(&["withdraw", "--yes"]);
                assert_eq!(knock(), ["answers", "answers"]);
                assert!(!lab.path().join("run/bpf").exists());
            }
        }
    }
}

/// The panic button on a machine without orders: what holds then is read back from the history
/// like everything else, although no file had it.
#[test]
fn what_no_file_has_is_in_the_history() {
    let Some(lab) = Lab::new() else { return };
    lab.done(&["posture", "sealed"]);
    let history = lab.json(&["history"]);
    assert_eq!(history["revisions"][0]["path"], Value::Null, "{history}");
    assert!(lab.done(&["history", "show", "1"]).contains("inbound = \"deny\""));
    assert_eq!(lab.tipstaff(&["compare", "1"]).status.code(), Some(2), "there is no file");
    lab.done(&["withdraw"]);
    lab.done(&["post", "--revision", "1"]);
    let state = lab.json(&["state"]);
    let of = [&state["state"], &state["orders"]["path"], &state["edited"]];
    assert_eq!(of, [&"up".into(), &Value::Null, &Value::Null], "{state}");
    // What a file had is that file's, whichever is the one of today.
    let other = lab.path().join("before.toml");
    fs::write(&other, format!("{HEAD}{PLATES}")).unwrap();
    lab.done(&["post", "--orders", other.to_str().unwrap()]);
    lab.orders("");
    lab.done(&["post"]);
    lab.done(&["post", "--revision", "3"]);
    assert_eq!(lab.json(&["state"])["orders"]["path"], other.to_str().unwrap());
    lab.done(&["withdraw"]);
}

/// A packet that somebody else's program takes away is no fault of the orders: `state` names it.
#[test]
fn who_else_decides_is_told_and_is_no_drift() {
    let Some(lab) = Lab::new() else { return };
    lab.orders(PLATES);
    lab.done(&["post"]);
    assert!(!lab.done(&["state"]).contains("XDP"));
    let mut a = Assembler::default();
    // XDP_PASS.
    a.mov(R0, 2);
    a.exit();
    let program = sys::program_load(ProgramKind::Xdp, "ts_balance", &a.finish().unwrap()).unwrap();
    lab.archive.run(move || xdp("lan0", program.as_fd()).unwrap()).unwrap();
    let told = lab.done(&["state"]);
    let line = told.lines().find(|line| line.contains("ts_balance")).unwrap();
    assert!(line.starts_with("  others   XDP program "), "{told}");
    let ends = "(ts_balance) on lan0 sees inbound packets before the gate";
    assert!(line.ends_with(ends), "{told}");
    let state = lab.json(&["state"]);
    let others = state["others"].as_array().unwrap();
    let other = others.iter().find(|other| other["name"] == "ts_balance").unwrap();
    let of = ["hook", "interface", "direction", "order"].map(|key| other[key].as_str().unwrap());
    assert_eq!(of, ["xdp", "lan0", "inbound", "before"]);
    assert_eq!(state["state"], "up");
    lab.done(&["withdraw"]);
}

/// A slow check attaches its programs for minutes: nobody is to be called for that.
#[test]
fn a_running_reach_check_is_told_and_is_no_drift() {
    let Some(lab) = Lab::new() else { return };
    lab.orders(PLATES);
    lab.done(&["post"]);
    let mut slow = lab.command(&["reach", "--as", PARTNER[0], "--all-ports", "--pace", "20"]);
    slow.stdout(Stdio::null()).stderr(Stdio::null());
    let mut slow = lab.archive.run(move || slow.spawn().unwrap()).unwrap();
    let look = || lab.json(&["state"]);
    let marks = |state: &Value| {
        let others = state["others"].as_array().unwrap();
        others.iter().any(|other| other["name"] == "ts_mark" && other["order"] == "before")
    };
    assert!(in_time(|| marks(&look())), "the check has not begun");
    let seen = look();
    assert!(marks(&seen), "{seen}");
    assert_eq!((&seen["state"], &seen["reach_is_running"]), (&"up".into(), &true.into()));
    assert_eq!(seen["drift"], Value::Array(Vec::new()));
    assert!(lab.done(&["state"]).contains("a reach check is running"));
    // Killed, it takes everything with it.
    slow.kill().unwrap();
    slow.wait().unwrap();
    assert!(in_time(|| look()["reach_is_running"] == false && !marks(&look())));
    // What only bears the name is somebody else's.
    let mut a = Assembler::default();
    a.mov(R0, -1);
    a.exit();
    let code = a.finish().unwrap();
    let program = sys::program_load(ProgramKind::SchedCls, "ts_mark", &code).unwrap();
    let lan0 = lab.archive.run(|| nix::net::if_::if_nametoindex("lan0").unwrap()).unwrap();
    let link = lab.archive.run(move || {
        sys::link_interface(program.as_fd(), lan0, Attach::TcxIngress, Order::First).unwrap()
    });
    let state = lab.tipstaff(&["state"]);
    assert_eq!(state.status.code(), Some(11));
    drop(link);
    lab.done(&["withdraw"]);
    assert!(!lab.path().join("run").exists());
}
