//! Decisions that are logged, and watched by several at once. Needs root for the kernel's
//! part.

#![allow(clippy::unwrap_used)]

mod common;
#[path = "common/running.rs"]
mod running;
#[path = "common/shapes.rs"]
mod shapes;

use std::fs;
use std::os::unix::fs::PermissionsExt;
use std::os::unix::net::UnixStream;
use std::os::unix::process::CommandExt;
use std::process::Command;

use common::{ARCHIVE, Lab, PARTNER, PLATES, STRANGER};
use running::Running;
use serde_json::Value;
use shapes::Shapes;
use tipstaff_testing::patience::in_time;

fn lines(text: &str) -> Vec<Value> {
    text.lines().map(|line| serde_json::from_str(line).unwrap()).collect()
}

#[test]
fn keep_writes_the_log_and_any_number_watch() {
    let Some(lab) = Lab::new() else { return };
    lab.orders(&format!("[log]\nlevel = \"rules\"\n{PLATES}"));
    let _listener = lab.listen("::", 7410);
    lab.done(&["post"]);
    // Nobody writes yet: the first one reads, the second one is shown what it reads.
    let watches = [0, 1].map(|_| Running::of(&lab, &["watch", "--json"]));
    let seen = |port: u16| {
        watches.iter().all(|w| w.said().contains(&format!("\"traffic\":\"tcp/{port}\"")))
    };
    let knocks_until_seen = |port: u16| {
        let knocked = in_time(|| {
            lab.knock(STRANGER[0], ARCHIVE[0], port);
            seen(port)
        });
        assert!(knocked, "{port}: {} ---- {}", watches[0].said(), watches[1].said());
    };
    knocks_until_seen(7001);
    assert!(lab.tipstaff(&["log"]).stdout.is_empty() && !lab.path().join("log").exists());

    // `keep` takes over from whoever reads, and both go on watching.
    let mut keep = Running::of(&lab, &["keep"]);
    let logged = in_time(|| {
        lab.knock(STRANGER[0], ARCHIVE[0], 7002);
        lab.done(&["log", "--json"]).contains("tcp/7002")
    });
    assert!(logged, "{}", keep.said());
    knocks_until_seen(7003);
    assert_eq!(lab.knock(PARTNER[0], ARCHIVE[0], 7410), "answers");
    assert!(in_time(|| lab.done(&["log", "--rule", "plates"]).contains("rule 1 (plates)")));

    // What is asked for comes back, in each form.
    let found = lines(&lab.done(&["log", "--json", "--verdict", "allow", "--source", "partner"]));
    assert_eq!(found.len(), 1, "{found:?}");
    assert_eq!((&found[0]["rule"], &found[0]["position"]), (&"plates".into(), &1.into()));
    let listens = std::env::current_exe().unwrap();
    assert_eq!(found[0]["program"], listens.to_str().unwrap());
    let text = lab.done(&["log", "--since", "1h", "--traffic", "7003", "--count", "1"]);
    assert!(text.contains("  deny    inbound on lan0  tcp/7003  192.0.2.66:"), "{text}");
    assert_eq!(text.lines().count(), 1, "{text}");
    assert_eq!(lab.done(&["log", "--until", "1h"]), "");
    let csv = lab.done(&["log", "--csv", "--rule", "1"]);
    assert!(csv.starts_with("time,verdict,direction,") && csv.lines().count() == 2, "{csv}");
    let top: Value =
        serde_json::from_str(&lab.done(&["log", "--top", "sources", "--json"])).unwrap();
    assert_eq!(top["rows"][0]["name"], STRANGER[0], "{top}");
    assert!(top["rows"][0]["turned_away"].as_u64() >= Some(2), "{top}");
    assert_eq!(
        (&top["rows"][1]["name"], &top["rows"][1]["allowed"]),
        (&PARTNER[0].into(), &1.into())
    );
    let hours = lab.done(&["log", "--by", "hour"]);
    assert!(hours.contains("turned away") && hours.contains("hour (UTC)"), "{hours}");
    for (wrong, word) in [
        (["--since", "yesterday"], "Write how long ago"),
        (["--source", "partners"], "or one of partner"),
    ] {
        let output = lab.tipstaff(&[&["log"][..], &wrong].concat());
        let error = String::from_utf8_lossy(&output.stderr);
        assert!(output.status.code() == Some(2) && error.contains(word), "{wrong:?}: {error}");
    }
    let follows = Running::of(&lab, &["log", "--follow", "--traffic", "7004"]);
    assert!(in_time(|| {
        lab.knock(STRANGER[0], ARCHIVE[0], 7004);
        follows.said().contains("tcp/7004")
    }));
    drop(follows);

    // The review tells who asked for what nobody is let in to.
    let _denied = lab.listen("::", 7003);
    let review = lab.tipstaff(&["review", "--json"]).stdout;
    let review = String::from_utf8(review).unwrap();
    let asked = "no rule lets anyone in; 192.0.2.66 asked on 1 of 1 logged days";
    assert!(review.contains(asked), "{review}");

    // One that does not read holds up nobody, and a line that was cut is told.
    let _lazy = UnixStream::connect(lab.path().join("run/decisions")).unwrap();
    let file = lab.path().join("log/decisions.jsonl");
    let before = fs::read_to_string(&file).unwrap();
    knocks_until_seen(7005);
    fs::write(&file, format!("{before}{}", &before[..40])).unwrap();
    let output = lab.tipstaff(&["log"]);
    let error = String::from_utf8_lossy(&output.stderr);
    assert!(error.contains("1 line could not be read"), "{error}");

    // It ends: one of the others reads, and nobody is held up.
    keep.end();
    knocks_until_seen(7006);
    drop(watches);
    lab.done(&["withdraw"]);
}

/// Whoever may not read the records is told so, whether somebody serves them or not.
#[test]
fn who_is_not_root_is_told_so() {
    let Some(lab) = Lab::new() else { return };
    lab.orders(PLATES);
    lab.done(&["post"]);
    fs::set_permissions(lab.path(), fs::Permissions::from_mode(0o755)).unwrap();
    let program = lab.path().join("tipstaff");
    tipstaff_testing::executable::copied(assert_cmd::cargo::cargo_bin!("tipstaff"), &program);
    let refused = |arguments: &[&str]| {
        let mut command = Command::new(&program);
        command.args(arguments).arg("--run-dir").arg(lab.path().join("run")).current_dir("/");
        command.arg("--log-dir").arg(lab.path().join("log")).uid(65_534).gid(65_534);
        let output = lab.archive.run(move || command.output().unwrap()).unwrap();
        let told = [output.stdout, output.stderr].concat();
        let told = String::from_utf8_lossy(&told).into_owned();
        let right = output.status.code() == Some(3) && told.contains("root");
        assert!(right, "{arguments:?}: {:?} {told}", output.status);
    };
    refused(&["watch"]);
    refused(&["keep"]);
    let keep = Running::of(&lab, &["keep"]);
    assert!(in_time(|| lab.path().join("log").exists() || {
        lab.knock(STRANGER[0], ARCHIVE[0], 7001);
        false
    }));
    refused(&["watch", "--json"]);
    refused(&["log"]);
    drop(keep);
    lab.done(&["withdraw"]);
}

#[test]
fn a_log_that_cannot_be_written_stops_nothing_else() {
    let Some(lab) = Lab::new() else { return };
    lab.orders(&format!("[log]\nviewers = \"no-such-group\"\n{PLATES}"));
    lab.done(&["post"]);
    // A file stands where the folder should be.
    fs::write(lab.path().join("log"), "").unwrap();
    let keep = Running::of(&lab, &["keep"]);
    keep.says("no-such-group");
    let watch = Running::of(&lab, &["watch"]);
    assert!(in_time(|| {
        lab.knock(STRANGER[0], ARCHIVE[0], 7001);
        watch.said().contains("tcp/7001") && keep.said().contains("log/decisions.jsonl")
    }));
    // Once it can be written again, what is missing is in it.
    fs::remove_file(lab.path().join("log")).unwrap();
    assert!(in_time(|| {
        lab.knock(STRANGER[0], ARCHIVE[0], 7002);
        lab.done(&["log"]).contains("tcp/7002")
    }));
    let output = lab.tipstaff(&["log"]);
    let error = String::from_utf8_lossy(&output.stderr);
    assert!(error.contains("not in the log"), "{error}");
    let text = fs::read_to_string(lab.path().join("log/decisions.jsonl")).unwrap();
    assert!(text.contains("tipstaff.log-gap/1"), "{text}");
    Shapes::default().check(&["log"], &text);
    lab.done(&["withdraw"]);
}

/// SIGHUP: the log's file may have been moved away, and everything else is looked at anew.
#[test]
fn a_hang_up_lets_keep_read_anew() {
    let Some(lab) = Lab::new() else { return };
    lab.orders(PLATES);
    lab.done(&["post"]);
    let keep = Running::of(&lab, &["keep"]);
    keep.says("guarding new interfaces");
    let file = lab.path().join("log/decisions.jsonl");
    let logged = |port: u16| {
        in_time(|| {
            lab.knock(STRANGER[0], ARCHIVE[0], port);
            fs::read_to_string(&file).is_ok_and(|text| text.contains(&format!("tcp/{port}")))
        })
    };
    assert!(logged(7_101), "{}", keep.said());
    let moved = lab.path().join("moved.jsonl");
    fs::rename(&file, &moved).unwrap();
    let process = nix::unistd::Pid::from_raw(keep.child.id() as i32);
    nix::sys::signal::kill(process, nix::sys::signal::Signal::SIGHUP).unwrap();
    assert!(logged(7_102), "{}", keep.said());
    assert!(fs::read_to_string(&moved).unwrap().contains("tcp/7101"));
}

/// Who may watch sees nothing of the gate itself, which must not matter on a quiet host.
#[test]
fn a_member_of_the_group_watches_where_nothing_happens() {
    let Some(lab) = Lab::new() else { return };
    let nobody = nix::unistd::Gid::from_raw(65_534);
    let group = nix::unistd::Group::from_gid(nobody).unwrap().unwrap().name;
    lab.orders(&format!("[log]\nviewers = \"{group}\"\n{PLATES}"));
    let program = lab.path().join("tipstaff");
    tipstaff_testing::executable::copied(assert_cmd::cargo::cargo_bin!("tipstaff"), &program);
    for path in [lab.path(), &program] {
        fs::set_permissions(path, fs::Permissions::from_mode(0o755)).unwrap();
    }
    lab.done(&["post"]);
    let _keep = Running::of(&lab, &["keep"]);
    let socket = lab.path().join("run/decisions");
    let open = || fs::metadata(&socket).is_ok_and(|found| found.permissions().mode() & 0o20 != 0);
    assert!(in_time(open), "the group is not let in");
    let mut command = Command::new(&program);
    command.args(["watch", "--json", "--run-dir"]).arg(lab.path().join("run")).current_dir("/");
    command.uid(65_534).gid(65_534);
    let mut watch = Running::command(&lab, command);
    // Longer than the second after which it looks whether anything is in force.
    std::thread::sleep(std::time::Duration::from_millis(2_500));
    assert_eq!(watch.child.try_wait().unwrap(), None, "{}", watch.said());
    assert!(in_time(|| {
        lab.knock(STRANGER[0], ARCHIVE[0], 7001);
        watch.said().contains("tcp/7001")
    }));
    lab.done(&["withdraw"]);
}
