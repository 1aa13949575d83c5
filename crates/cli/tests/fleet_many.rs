//! A thousand hosts, played by a stand-in for ssh(1) that answers from files, late and
//! wrongly: time, memory, and a report that can still be read.

#![allow(clippy::unwrap_used)]

#[path = "common/crowd.rs"]
mod crowd;

use std::fs;
use std::path::Path;
use std::process::{Command, Output};
use std::time::{Duration, Instant};

use crowd::Crowd;
use serde_json::Value;

const MANY: usize = 1_000;

/// The kernel has no part in it.
fn takes_hours() -> bool {
    let takes = tipstaff_testing::patience::is_emulated();
    if takes {
        let why = "on an emulated processor their several thousand processes take hours";
        tipstaff_testing::skipped("a fleet of a thousand hosts was", &why);
    }
    takes
}

fn text(output: &Output) -> String {
    String::from_utf8(output.stdout.clone()).unwrap()
}

/// Runs a command and says how long it took and how much memory it had at most, in MiB.
fn measured(mut command: Command, log: &Path) -> (Output, Duration, u64) {
    let begin = Instant::now();
    command.stdout(fs::File::create(log).unwrap()).stderr(std::process::Stdio::inherit());
    let child = command.spawn().unwrap();
    let status = Path::new("/proc").join(child.id().to_string()).join("status");
    let mut most = 0;
    let mut child = child;
    let end = loop {
        let now = fs::read_to_string(&status).unwrap_or_default();
        let line = now.lines().find_map(|line| line.strip_prefix("VmHWM:"));
        let kib = line.and_then(|line| line.split_whitespace().next()?.parse::<u64>().ok());
        most = most.max(kib.unwrap_or_default() / 1024);
        if let Some(status) = child.try_wait().unwrap() {
            break status;
        }
        std::thread::sleep(Duration::from_millis(5));
    };
    let output = Output { status: end, stdout: fs::read(log).unwrap(), stderr: Vec::new() };
    (output, begin.elapsed(), most)
}

#[test]
fn the_state_of_a_thousand_hosts_is_read_in_seconds() {
    if takes_hours() {
        return;
    }
    let names: Vec<String> = (0..MANY)
        .map(|n| match n % 100 {
            7 => format!("off-{n}"),
            9 => format!("key-{n}"),
            _ => format!("mast-{n}"),
        })
        .collect();
    let crowd = Crowd::new(&names);
    for name in &names {
        fs::write(crowd.folder.path().join(format!("{name}.new")), "").unwrap();
    }
    let mut command = crowd.command(&["fleet", "state", "--parallel", "64"]);
    command.env("DELAY", "0.1");
    let (output, time, memory) = measured(command, &crowd.folder.path().join("out"));
    eprintln!("1,000 hosts that answer in 100 ms, 64 at once: {time:?}, {memory} MiB");
    let told = text(&output);
    assert_eq!(output.status.code(), Some(3), "{told}");
    assert!(told.contains("1000 hosts: 980 as ordered, 20 unknown"), "{told}");
    // Who cannot be asked for the same reason is told once.
    let after: Vec<&str> = told.lines().skip_while(|line| !line.contains("off-7, ")).collect();
    assert!(told.contains("off-7, off-107, off-207") && after.len() < 12, "{after:#?}");
    assert!(memory <= 100, "{memory} MiB");
}

#[test]
fn a_thousand_hosts_get_new_orders_in_waves() {
    if takes_hours() {
        return;
    }
    let mut names: Vec<String> = (0..MANY).map(|n| format!("mast-{n}")).collect();
    names[500] = "off-500".into();
    let crowd = Crowd::new(&names);
    let words = ["fleet", "post", "--yes", "--checkers", "0", "--parallel", "64"];
    let (output, time, memory) = measured(crowd.command(&words), &crowd.folder.path().join("out"));
    eprintln!("1,000 hosts posted, checked and confirmed in three waves: {time:?}, {memory} MiB");
    let told = text(&output);
    assert_eq!(output.status.code(), Some(3), "{told}");
    assert!(told.contains("\n999 hosts: mast-0, mast-1"), "{told}");
    assert!(told.contains("\nwave 1 of 3: mast-0\n"), "{told}");
    // A wave of any size is through before the trials in it expire.
    assert_eq!(crowd.most_on_trial(), 64);
    assert!(told.contains("\nwave 3 of 3, hosts 65–128 of 899: mast-164, mast-165"), "{told}");
    assert!(told.contains("999 of 1000 hosts have these orders"), "{told}");
    assert!(told.lines().count() < 100, "{told}");
    assert!(names.iter().filter(|name| crowd.has_new(name)).count() == 999);
}

#[test]
fn one_that_differs_stops_the_others() {
    let mut names: Vec<String> = (0..60).map(|n| format!("mast-{n}")).collect();
    names[4] = "bad-4".into();
    let crowd = Crowd::new(&names);
    let words = ["fleet", "post", "--yes", "--checkers", "0", "--json"];
    let output = crowd.command(&words).output().unwrap();
    let report: Value = serde_json::from_slice(&output.stdout).unwrap();
    assert_eq!(output.status.code(), Some(1), "{report:#}");
    let of = |nth: usize| report["hosts"][nth]["phase"].as_str().unwrap().to_owned();
    assert_eq!([of(0), of(1), of(4), of(6)], ["confirmed", "back", "back", "waiting"]);
    let why = report["hosts"][4]["why"].as_str().unwrap();
    assert!(why.starts_with("tcp/23: denied by the orders, but the gate is not loaded"), "{why}");
    assert_eq!(names.iter().filter(|name| crowd.has_new(name)).count(), 1);
    // What is written down is what --resume goes on with.
    let resumed =
        crowd.command(&["fleet", "post", "--resume", "--json", "--yes"]).output().unwrap();
    let report: Value = serde_json::from_slice(&resumed.stdout).unwrap();
    assert_eq!(report["hosts"].as_array().unwrap().len(), 59);
}
