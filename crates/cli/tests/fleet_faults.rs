//! What can go wrong between an administrator and many hosts, over real sshd: each is told
//! in clear words, by host, and nothing is half done.

#![allow(clippy::unwrap_used)]

#[path = "common/fleet.rs"]
mod fleet;

use std::fs;
use std::os::unix::process::ExitStatusExt;
use std::process::Stdio;
use std::thread;
use std::time::Duration;

use fleet::{HOSTS, Observatory};
use serde_json::Value;
use tipstaff_testing::patience::in_time;

const PING: &str = "[[rules]]\nname = \"ping-1\"\naction = \"allow\"\ntraffic = \"icmp/echo\"\nsource \
                    = \"observatory\"\n";

fn row<'r>(report: &'r Value, host: &str) -> &'r Value {
    let hosts = report["hosts"].as_array().unwrap();
    hosts.iter().find(|one| one["host"] == host).unwrap_or_else(|| panic!("{report:#}"))
}

/// What `state` says is wrong with a host.
fn trouble(report: &Value, host: &str) -> String {
    row(report, host)["troubles"][0].as_str().unwrap_or_default().to_owned()
}

/// Runs another command in place of tipstaff when that host is asked.
fn answers_with(all: &Observatory, host: &str, script: &str) {
    let place = all.host(host).folder.join("authorized");
    let text = fs::read_to_string(&place).unwrap();
    let key = text.split_once("restrict ").unwrap().1;
    let path = all.host(host).folder.join("stand-in");
    tipstaff_testing::executable::written(&path, &format!("#!/bin/sh\n{script}\n"));
    fs::write(&place, format!("command=\"{}\",restrict {key}", path.display())).unwrap();
}

#[test]
fn each_fault_is_told_by_host() {
    let Some(mut all) = Observatory::new() else { return };
    all.orders("");
    // Nobody listens; another key; an unknown key; a key that is not let in; an old version;
    // something else; a connection that ends in the answer.
    all.host_mut("dome-1").stop();
    let known = all.admin.folder.join("known");
    let keys = fs::read_to_string(&known).unwrap();
    let key_of = |name: &str| {
        let line = keys.lines().find(|line| line.starts_with(&format!("{name} "))).unwrap();
        line.split_once(' ').unwrap().1.to_owned()
    };
    let swapped = keys.replace(&key_of("archive"), &key_of("mast"));
    let without: Vec<&str> = swapped.lines().filter(|line| !line.starts_with("mast ")).collect();
    fs::write(&known, without.join("\n") + "\n").unwrap();
    fs::write(all.host("desk-3").folder.join("authorized"), "").unwrap();
    let old = "echo \"error: unrecognized subcommand 'serve-fleet'\" >&2; exit 2";
    answers_with(&all, "lantern", old);
    answers_with(&all, "dome-2", "cat > /dev/null; echo Welcome to dome-2");
    let (code, state) = all.json(&["fleet", "state"]);
    assert_eq!((code, &state["unknown"]), (3, &6.into()), "{state:#}");
    for (host, says, help) in [
        ("dome-1", "cannot be reached: connect to host 198.51.100.20 port 22: Connection", "Try"),
        ("archive", "its host key has changed; nothing was sent", "ssh-keygen -R archive"),
        ("mast", "its host key is not known here; nothing was sent", "accept it once"),
        ("desk-3", "login refused, or a password would be needed: ", "Add your key"),
        ("lantern", "tipstaff is too old there", "same version"),
        ("dome-2", "unexpected output, not from tipstaff: `Welcome to dome-2`", "See what"),
    ] {
        let told = trouble(&state, host);
        assert!(told.starts_with(says), "{host}: {told}");
        let helps = row(&state, host)["help"].as_str().unwrap();
        assert!(helps.contains(help), "{host}: {helps}");
    }
    // Nobody is asked to take orders while some cannot: only who is merely away is left out.
    let (code, post) = all.json(&["fleet", "post", "--yes"]);
    assert_eq!(code, 1, "{post:#}");
    assert_eq!(row(&post, "dome-1")["phase"], "away");
    assert_eq!(row(&post, "archive")["phase"], "refused");
    let begun = r#"echo '{"schema":"tipstaff.fleet-answer/1","version":"0.1.0","host":"d'"#;
    answers_with(&all, "dome-2", &format!("cat > /dev/null; {begun}"));
    answers_with(&all, "lantern", "exec sleep 100");
    let (_, state) = all.json(&["fleet", "state", "dome-2"]);
    let cut = "the connection was cut in the middle of the answer";
    assert_eq!(trouble(&state, "dome-2"), cut);
    let (_, state) = all.json(&["fleet", "state", "lantern", "--patience", "2s"]);
    assert_eq!(trouble(&state, "lantern"), "no answer within 2 s");
    // Clocks, and a version beside this one.
    let answer = r#"{"schema":"tipstaff.fleet-answer/1","version":"0.0.9","host":"dome-2","clock":1764000000,"file":null,"ran":[{"exit_code":10,"output":"{\"schema\":\"tipstaff.state/1\",\"state\":\"down\",\"orders\":null,\"host\":null,\"posture\":null,\"revision\":null,\"list\":null,\"seconds_left\":null,\"drift\":[],\"edited\":null,\"restart\":null,\"last_check\":null}","errors":""}],"refused":null}"#;
    fs::write(all.host("dome-2").folder.join("answer"), answer).unwrap();
    let say = format!("cat > /dev/null; cat {}/answer", all.host("dome-2").folder.display());
    answers_with(&all, "dome-2", &say);
    let (code, state) = all.json(&["fleet", "state", "dome-2"]);
    assert_eq!((code, &row(&state, "dome-2")["state"]), (1, &"down".into()), "{state:#}");
    let notes = row(&state, "dome-2")["notes"].to_string();
    assert!(notes.contains("behind") && notes.contains("tipstaff 0.0.9 there"), "{notes}");
    // What is not in the orders.
    let (code, told) = all.told(&["fleet", "state", "#desks"]);
    assert_eq!(code, 2, "{told}");
    assert!(told.contains("`#desks` selects no host of the orders"), "{told}");
    assert!(told.contains("#telescope"), "{told}");
}

#[test]
fn killed_at_any_moment_each_host_has_the_old_orders_or_the_new() {
    let Some(all) = Observatory::new() else { return };
    all.orders("");
    assert_eq!(all.told(&["fleet", "post", "--yes", "--waves", "100%"]).0, 0);
    let force = |name: &str| all.host(name).state()["orders"]["hash"].as_str().unwrap().to_owned();
    let old = force("mast");
    let new = {
        all.orders(PING);
        let (_, state) = all.json(&["fleet", "state"]);
        state["orders"]["hash"].as_str().unwrap().to_owned()
    };
    for milliseconds in [1_500, 4_000, 7_000] {
        let mut command =
            all.command(&["fleet", "post", "--yes", "--waves", "2,4,6", "--trial", "8s"]);
        command.stdout(Stdio::null()).stderr(Stdio::null());
        let mut child = all.admin.space.run(move || command.spawn().unwrap()).unwrap();
        thread::sleep(Duration::from_millis(milliseconds));
        let _ = child.kill();
        assert_eq!(child.wait().unwrap().signal(), Some(9));
        // When the trials are over nothing is between.
        let settled = |name: &str| {
            let state = all.host(name).state();
            state["seconds_left"].is_null()
        };
        // A post that had begun there goes on without whoever asked for it.
        let begin = std::time::Instant::now();
        let mut looks = 0;
        while looks < 3 {
            looks = if HOSTS.iter().all(|name| settled(name)) { looks + 1 } else { 0 };
            assert!(begin.elapsed() < Duration::from_secs(180), "a trial does not end");
            thread::sleep(Duration::from_millis(500));
        }
        for name in HOSTS {
            let now = force(name);
            assert!(now == old || now == new, "{name}: {now}");
        }
    }
    // Whoever goes on learns how it stands, and the rest follows.
    let (code, told) = all.told(&["fleet", "post", "--yes", "--waves", "100%"]);
    assert_eq!(code, 0, "{told}");
    assert!(HOSTS.iter().all(|name| force(name) == new));
}

#[test]
fn a_host_that_dies_in_the_middle_stops_the_rest_and_goes_back_alone() {
    let Some(mut all) = Observatory::new() else { return };
    // Without an address others cannot knock on it, which is told and stops nothing.
    let head = fleet::HEAD.replace("addresses = [\"198.51.100.24\"]\n", "");
    let orders = all.path().join("orders.toml");
    fs::write(&orders, &head).unwrap();
    let (code, told) = all.told(&["fleet", "post", "--yes", "--waves", "100%"]);
    assert_eq!(code, 0, "{told}");
    let note = "lantern: note: not checked from outside: the orders give it no address";
    assert!(told.contains(note), "{told}");
    let (code, reach) = all.json(&["fleet", "reach", "--from", "mast", "--to", "lantern"]);
    assert_eq!((code, &reach["unknown"]), (3, &1.into()), "{reach:#}");
    let why = reach["pairs"][0][0]["why"].as_str().unwrap();
    assert!(why.contains("the orders give no single address for lantern"), "{why}");

    let before = all.host("mast").state()["orders"]["hash"].clone();
    fs::write(&orders, format!("{head}{PING}")).unwrap();
    // A host that takes its time: its trial begins long after it was asked for.
    let slow = format!("sleep 6; exec {} serve-fleet", fleet::program().display());
    answers_with(&all, "mast", &slow);
    let words = ["fleet", "post", "--yes", "--waves", "2,100%", "--trial", "20s", "--json"];
    let mut command = all.command(&[&words[..], &["archive", "mast", "desk-3"]].concat());
    command.stdout(Stdio::piped()).stderr(Stdio::piped());
    let child = all.admin.space.run(move || command.spawn().unwrap()).unwrap();
    // As soon as they are on trial there, nobody comes to it any more.
    assert!(in_time(|| !all.host("mast").state()["seconds_left"].is_null()));
    all.host_mut("mast").stop();
    let output = child.wait_with_output().unwrap();
    let report: Value = serde_json::from_slice(&output.stdout).unwrap();
    assert_eq!(output.status.code(), Some(1), "{report:#}");
    let phase = |host: &str| row(&report, host)["phase"].as_str().unwrap().to_owned();
    assert_eq!([phase("archive"), phase("mast"), phase("desk-3")], ["back", "lapses", "waiting"]);
    let why = row(&report, "mast")["why"].as_str().unwrap();
    assert!(why.contains("Connection refused"), "{why}");
    // Its kernel went back although nobody could tell it to.
    let state = all.host("mast").state();
    assert_eq!((&state["orders"]["hash"], state["seconds_left"].is_null()), (&before, true));
    all.host_mut("mast").start();
    assert!(in_time(|| all.host("mast").answers()));
    let (code, told) = all.told(&["fleet", "post", "--resume", "--yes"]);
    assert_eq!(code, 0, "{told}");
}

#[test]
fn two_administrators_an_edited_file_and_a_slow_link() {
    let Some(all) = Observatory::new() else { return };
    all.orders("");
    let three = ["fleet", "post", "archive", "mast", "desk-3", "--yes", "--waves", "100%"];
    assert_eq!(all.told(&three).0, 0);
    // Somebody has a trial running on mast.
    let (text, place) = (fs::read_to_string(all.orders(PING)).unwrap(), "/etc/tipstaff/trial.toml");
    let write = move || fs::write(place, text).unwrap();
    all.host("mast").space.run(write).unwrap();
    let tried = all.host("mast").tipstaff(&["post", "--trial", "60s", "--orders", place]);
    assert!(tried.status.success(), "{tried:?}");
    all.orders(&PING.replace("ping-1", "ping-2"));
    let (code, seen) = all.json(&three);
    assert_eq!(code, 1, "{seen:#}");
    let why = row(&seen, "mast")["why"].as_str().unwrap();
    assert_eq!(
        why,
        "a trial or a posture for a time is active there: someone else may be working on it"
    );
    // A confirmation is for the orders that were checked, and for no others.
    let hash = all.host("archive").state()["orders"]["hash"].as_str().unwrap().to_owned();
    let other = all.host("mast").tipstaff(&["confirm", "--expect", &hash]);
    assert_eq!(other.status.code(), Some(2), "{other:?}");
    let back = all.host("mast").tipstaff(&["confirm", "--revert"]);
    assert!(back.status.success(), "{back:?}");
    // Somebody has edited the file on desk-3 and posted nothing: it is not lost.
    let own = all.host("desk-3").folder.join("etc/tipstaff/orders.toml");
    let edited = fs::read_to_string(&own).unwrap() + "# to be thought about\n";
    fs::write(&own, &edited).unwrap();
    let (code, seen) = all.json(&three);
    assert_eq!(code, 1, "{seen:#}");
    let why = row(&seen, "desk-3")["why"].as_str().unwrap();
    assert!(why.starts_with("its own orders file was edited and not posted"), "{why}");
    assert_eq!(fs::read_to_string(&own).unwrap(), edited);
    // A link that is slow to come up, and another administrator at the same time.
    let ssh = all.path().join("office/etc/ssh/ssh_config");
    let text = fs::read_to_string(&ssh).unwrap();
    let relay =
        "ProxyCommand bash -c 'sleep 1; exec 3<>/dev/tcp/%h/%p; cat <&3 & cat >&3; kill $!'";
    let slow = text.replace("Host archive\n", &format!("Host archive\n {relay}\n"));
    fs::write(&ssh, slow).unwrap();
    let others = all.path().join("others.toml");
    fs::write(&others, format!("{}{}", fleet::HEAD, PING.replace("ping-1", "ping-3"))).unwrap();
    let at_once = [&three[..], &["--replace-edited"]].concat();
    let (mine, mut theirs) = (all.command(&at_once), all.command(&at_once));
    theirs.env("TIPSTAFF_ORDERS", &others);
    let ends: Vec<_> = [mine, theirs]
        .map(|mut command| {
            command.stdout(Stdio::piped()).stderr(Stdio::piped());
            all.admin.space.run(move || command.spawn().unwrap()).unwrap()
        })
        .map(|child| child.wait_with_output().unwrap())
        .into_iter()
        .collect();
    let well = ends.iter().filter(|end| end.status.success()).count();
    // Each may have come first somewhere: then both go back. Whoever won, nothing is on trial
    // any more, and all three have the same.
    let hashes: Vec<Value> = ["archive", "mast", "desk-3"]
        .iter()
        .map(|name| all.host(name).state())
        .inspect(|state| assert!(state["seconds_left"].is_null(), "{state:#}"))
        .map(|state| state["orders"]["hash"].clone())
        .collect();
    assert!(well == 2 || hashes.windows(2).all(|pair| pair[0] == pair[1]), "{hashes:?} {ends:#?}");
}

#[test]
fn an_account_that_is_not_root_needs_one_line_of_sudoers() {
    let Some(all) = Observatory::new() else { return };
    if !std::path::Path::new("/usr/bin/sudo").exists() {
        return tipstaff_testing::skipped(
            "sudo on a fleet's host was",
            &"there is no /usr/bin/sudo",
        );
    }
    all.orders("");
    let machine = all.host("mast");
    let etc = machine.folder.join("etc");
    let add = |name: &str, line: &str| {
        let path = etc.join(name);
        let text = fs::read_to_string(&path).unwrap_or_default();
        fs::write(path, text + line).unwrap();
    };
    add("passwd", "keeper:x:4242:4242::/nonexistent:/bin/sh\n");
    add("group", "keeper:x:4242:\n");
    add("shadow", "keeper:*:19000:0:99999:7:::\n");
    let config = machine.folder.join("sshd_config");
    let text = fs::read_to_string(&config).unwrap();
    let ssh = all.path().join("office/etc/ssh/ssh_config");
    let client = fs::read_to_string(&ssh).unwrap();
    fs::write(&ssh, client.replace("Host mast\n", "Host mast\n User keeper\n")).unwrap();
    drop(text);
    // The test's own folder is closed to other accounts.
    for open in [all.path(), machine.folder.as_path()] {
        fs::set_permissions(open, std::os::unix::fs::PermissionsExt::from_mode(0o755)).unwrap();
    }
    let authorized = machine.folder.join("authorized");
    fs::set_permissions(&authorized, std::os::unix::fs::PermissionsExt::from_mode(0o644)).unwrap();
    let own = fleet::program().display().to_string();
    let (_, before) = all.json(&["fleet", "state", "mast"]);
    let told = trouble(&before, "mast");
    let closed = told.contains("not from tipstaff") && told.contains("Permission denied");
    if closed || told.contains("not installed") {
        // Another account may not even come to the program that is tested here.
        return tipstaff_testing::skipped("sudo on a fleet's host was", &told);
    }
    assert_eq!(told, "sudo requires a password there", "{before:#}");
    add("sudoers", &format!("keeper ALL=(root) NOPASSWD: {own} serve-fleet\n"));
    let (_, after) = all.json(&["fleet", "state", "mast"]);
    assert_eq!(row(&after, "mast")["state"], "down", "{after:#}");
    let (code, posted) = all.json(&["fleet", "post", "mast", "--yes"]);
    assert_eq!((code, &row(&posted, "mast")["phase"]), (0, &"confirmed".into()), "{posted:#}");
}
