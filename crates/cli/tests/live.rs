//! The whole line on the real kernel: two network namespaces of the test's
//! own, listeners in one, ordinary clients in the other, the built program
//! between them. Needs root; elsewhere it says loudly that it was skipped.

#![allow(clippy::unwrap_used)]

mod common;

use std::fs;
use std::io::{Read, Write};
use std::net::{IpAddr, TcpListener, TcpStream, UdpSocket};
use std::os::fd::AsFd;
use std::process::Command;
use std::time::Duration;

use common::{ARCHIVE, HEAD, Lab, PARTNER, PING, PLATES, STRANGER};
use tipstaff_host::lab::{self, Mounts, Space};
use tipstaff_testing::patience::{PATIENCE, is_emulated};
use tipstaff_testing::{assert_told_well, clients::ping, ip};

#[test]
fn orders_hold_for_ordinary_clients_of_both_families() {
    let Some(lab) = Lab::new() else { return };
    let _listeners = [lab.listen("::", 7410), lab.listen("::", 7440)];
    lab.orders(PLATES);
    assert_eq!(lab.knock(STRANGER[0], ARCHIVE[0], 7410), "answers");
    lab.done(&["post"]);
    for family in 0..2 {
        let (own, partner, stranger) = (ARCHIVE[family], PARTNER[family], STRANGER[family]);
        assert_eq!(lab.knock(partner, own, 7410), "answers");
        assert_eq!(lab.knock(stranger, own, 7410), "silent");
        assert_eq!(lab.knock(partner, own, 7440), "silent", "a port without a rule");
        assert_eq!(lab.knock(partner, own, 7499), "silent", "a closed port");
        assert!(!ping(&lab.world, partner, own), "ping is denied");
    }
    // A conversation that was let in goes on, whatever is posted later.
    let mut connection = lab.connect(PARTNER[0], ARCHIVE[0], 7410).unwrap();
    let accepted = accepted_of(&_listeners[0], &connection);
    lab.orders(PING);
    // This test itself holds that conversation.
    lab.done(&["post", "--even-if-i-am-cut-off"]);
    connection.write_all(b"plate 4711").unwrap();
    let mut heard = [0; 10];
    (&accepted).read_exact(&mut heard).unwrap();
    (&accepted).write_all(&heard).unwrap();
    connection.read_exact(&mut heard).unwrap();
    assert_eq!(&heard, b"plate 4711");
    for family in 0..2 {
        assert_eq!(lab.knock(PARTNER[family], ARCHIVE[family], 7410), "silent");
        assert!(ping(&lab.world, PARTNER[family], ARCHIVE[family]), "ping is allowed now");
        assert!(!ping(&lab.world, STRANGER[family], ARCHIVE[family]));
    }
    let rules: serde_json::Value =
        serde_json::from_str(&lab.done(&["rules", "--in-force", "--json"])).unwrap();
    assert_eq!(rules["rules"][0]["tally"]["packets"], 2);

    lab.done(&["withdraw"]);
    assert!(!lab.path().join("run").exists(), "withdraw left something behind");
    assert_eq!(lab.knock(STRANGER[1], ARCHIVE[1], 7440), "answers");
}

#[test]
fn answers_to_what_the_host_sends_come_back_and_nothing_else() {
    let Some(lab) = Lab::new() else { return };
    lab.orders("");
    lab.done(&["post"]);
    for family in 0..2 {
        let (own, partner, stranger) =
            (ip(ARCHIVE[family]), ip(PARTNER[family]), ip(STRANGER[family]));
        assert!(ping(&lab.archive, ARCHIVE[family], PARTNER[family]), "own pings are answered");
        let inside = lab.archive.run(move || UdpSocket::bind((own, 5000)).unwrap()).unwrap();
        let bind = move |address: IpAddr| UdpSocket::bind((address, 123)).unwrap();
        let friend = lab.world.run(move || bind(partner)).unwrap();
        let other = lab.world.run(move || bind(stranger)).unwrap();
        for socket in [&inside, &friend, &other] {
            socket.set_read_timeout(Some(PATIENCE)).unwrap();
        }
        let mut buffer = [0; 16];
        friend.send_to(b"unasked", (own, 5000)).unwrap();
        assert!(inside.recv_from(&mut buffer).is_err(), "nobody asked for it");
        inside.send_to(b"what time is it", (partner, 123)).unwrap();
        let (_, asker) = friend.recv_from(&mut buffer).unwrap();
        other.send_to(b"a lie", (own, 5000)).unwrap();
        friend.send_to(b"late", asker).unwrap();
        let (length, from) = inside.recv_from(&mut buffer).unwrap();
        assert_eq!((&buffer[..length], from.ip()), (&b"late"[..], partner));
        assert!(inside.recv_from(&mut buffer).is_err(), "the stranger's lie came in");
    }
    lab.done(&["withdraw"]);
}

#[test]
fn the_witness_sees_what_clients_see_and_says_why_it_differs() {
    let Some(lab) = Lab::new() else { return };
    let _listeners =
        [lab.listen("::", 7410), lab.listen("127.0.0.1", 7430), lab.listen("::", 7440)];
    let allow = "[[rules]]\nname = \"weather\"\naction = \"allow\"\ntraffic = [\"tcp/7430\", \"ssh\"]\nsource = \"partner\"\n";
    lab.orders(&format!("{PLATES}{allow}{PING}"));
    lab.done(&["post"]);
    let mut arguments = vec!["reach", "--json"];
    for source in [PARTNER, STRANGER].as_flattened() {
        arguments.extend(["--as", source]);
    }
    let output = lab.tipstaff(&arguments);
    assert_eq!(output.status.code(), Some(1), "{}", String::from_utf8_lossy(&output.stderr));
    let report: serde_json::Value = serde_json::from_slice(&output.stdout).unwrap();
    let mut compared = 0;
    for row in report["rows"].as_array().unwrap() {
        let subject = row["subject"].as_str().unwrap();
        let cells = row["cells"].as_array().unwrap();
        for (cell, vantage) in cells.iter().zip(report["vantages"].as_array().unwrap()) {
            let Some(source) = vantage["source"].as_str() else { continue };
            if subject.starts_with("udp/") {
                assert_eq!(cell["observed"]["how"], "gate");
                continue;
            }
            let target = cell["observed"]["target"].as_str().unwrap();
            let truth = match subject.strip_prefix("tcp/") {
                Some(port) => lab.knock(source, target, port.parse().unwrap()),
                None if ping(&lab.world, source, target) => "answers",
                None => "silent",
            };
            assert_eq!(cell["observed"]["outcome"], truth, "{subject} {source}");
            assert_eq!(cell["observed"]["how"], "wire");
            compared += 1;
        }
    }
    assert_eq!(compared, 6 * 4);
    let text = String::from_utf8(lab.tipstaff(&["reach", "--as", PARTNER[0]]).stdout).unwrap();
    assert!(text.contains("tcp/7430   listens on loopback only\n             should answer by rule 2 (weather), but refuses as 203.0.113.9"), "{text}");
    assert!(text.contains("nothing listens on it"), "{text}");
    // Half open: the program saw none of the witness's knocks but those of the clients above.
    let own = lab.tipstaff(&["reach", "--as", ARCHIVE[0]]);
    assert_eq!(own.status.code(), Some(2));
    assert!(String::from_utf8_lossy(&own.stderr).contains("an address of this host itself"));
    lab.done(&["withdraw"]);
}

#[test]
fn state_tells_up_drift_and_down() {
    let Some(lab) = Lab::new() else { return };
    let path = lab.orders(PLATES);
    assert_eq!(lab.tipstaff(&["state"]).status.code(), Some(10));
    lab.done(&["post"]);
    let up = lab.done(&["state"]);
    assert!(up.contains("up since") && up.contains("lan0"), "{up}");
    // A comment changes nothing; a rule does.
    fs::write(&path, format!("{HEAD}# a comment\n{PLATES}")).unwrap();
    assert_eq!(lab.tipstaff(&["state"]).status.code(), Some(0));
    lab.orders(&format!("{PLATES}{PING}"));
    let drift = lab.tipstaff(&["state", "--json"]);
    assert_eq!(drift.status.code(), Some(12), "edited, which is no drift");
    assert!(String::from_utf8_lossy(&drift.stdout).contains("is not what is in force"));
    // Wrong orders never touch what is in force.
    fs::write(&path, "version = 1\n[[rules]]\n").unwrap();
    assert_eq!(lab.tipstaff(&["post"]).status.code(), Some(2));
    assert_eq!(lab.tipstaff(&["state"]).status.code(), Some(12));
    assert!(lab.done(&["rules", "--in-force"]).contains("plates"));
    // An interface that came after the post has only the second line.
    lab.orders(PLATES);
    let end = lab.world.as_fd().try_clone_to_owned().unwrap();
    lab.archive.run(move || lab::cable("guest0", "w1", end.as_fd()).unwrap()).unwrap();
    let drift = String::from_utf8(lab.tipstaff(&["state"]).stdout).unwrap();
    assert!(drift.contains("the second line guards it"), "{drift}");
    lab.done(&["post"]);
    assert_eq!(lab.tipstaff(&["state"]).status.code(), Some(0));
    lab.done(&["withdraw"]);
    assert_eq!(lab.tipstaff(&["state"]).status.code(), Some(10));
}

#[test]
fn a_namespace_can_be_named() {
    let Some(lab) = Lab::new() else { return };
    lab.orders(PLATES);
    let _listener = lab.listen("198.51.100.20", 7410);
    // Where a guest of this machine would be: others reach that address another way.
    lab.archive
        .run(|| {
            lab::bridge("br0").unwrap();
            lab::up("br0").unwrap();
            lab::address("br0", ip("192.0.2.129"), 25).unwrap();
        })
        .unwrap();
    let guests = lab.listen("192.0.2.129", 7420);
    lab.archive.name("ts-archive").unwrap();
    let survey = lab.done(&["survey", "--namespace", "ts-archive"]);
    assert!(survey.contains("198.51.100.20 only, of lan0 (veth)"), "{survey}");
    assert!(survey.contains("192.0.2.129 only, of br0 (bridge)") && survey.contains("partner"));
    drop(guests);
    // From outside, by path.
    let thread = lab.archive.run(nix::unistd::gettid).unwrap();
    let path = format!("/proc/{}/task/{thread}/ns/net", std::process::id());
    let mut command = Command::new(assert_cmd::cargo::cargo_bin!("tipstaff"));
    command.args(["survey", "--json", "--namespace", &path]);
    command.arg("--orders").arg(lab.path().join("orders.toml"));
    let output = command
        .env("TIPSTAFF_RUN", lab.path().join("run"))
        .env("TIPSTAFF_HISTORY", lab.path().join("history"))
        .output()
        .unwrap();
    let json: serde_json::Value = serde_json::from_slice(&output.stdout).unwrap();
    assert_eq!(json["listeners"].as_array().unwrap().len(), 1);
    assert_eq!(json["listeners"][0]["lets_in"], "partner");
    assert_eq!(json["listeners"][0]["interface"], "lan0");
}

#[test]
fn a_quiet_post_says_what_needs_attention_and_nothing_else() {
    let Some(lab) = Lab::new() else { return };
    let text = |bytes: Vec<u8>| String::from_utf8(bytes).unwrap();
    lab.orders(PLATES);
    let posted = lab.tipstaff(&["post", "-q"]);
    assert_eq!(
        (posted.status.code(), text(posted.stdout), text(posted.stderr)),
        (Some(0), String::new(), String::new())
    );
    let nowhere = "[[rules]]\nname = \"mast\"\naction = \"allow\"\ntraffic = \"tcp/7430\"\ninterface = \"mast0\"\n";
    lab.orders(&format!("{PLATES}{nowhere}"));
    let posted = lab.tipstaff(&["post", "-q"]);
    assert_eq!(text(posted.stdout), "");
    assert!(text(posted.stderr).contains("note on mast: no interface is named mast0"));
    // Who posts on trial hears what to confirm.
    assert!(
        text(lab.tipstaff(&["post", "-q", "--trial", "1m"]).stdout).contains("tipstaff confirm")
    );
    assert_eq!(lab.done(&["confirm", "-q"]), "");
    let steps = text(lab.tipstaff(&["withdraw", "-v"]).stderr);
    assert!(steps.contains("ms  gate: unpin") && !steps.contains("posting"), "{steps}");
}

#[test]
fn the_demo_plays_on_the_real_kernel() {
    let Some(lab) = Lab::new() else { return };
    let text = lab.done(&["demo", "--kernel"]);
    assert_told_well(&text);
    let last = text.rsplit("reach of archive").next().unwrap();
    assert!(last.contains("7 differences") && last.contains("answers (wire)"), "{text}");
}

/// The other end of a connection; earlier ones are passed over.
fn accepted_of(listener: &TcpListener, connection: &TcpStream) -> TcpStream {
    loop {
        let (stream, peer) = listener.accept().unwrap();
        if peer.port() == connection.local_addr().unwrap().port() {
            for end in [&stream, connection] {
                end.set_read_timeout(Some(PATIENCE)).unwrap();
            }
            return stream;
        }
    }
}

/// A guest behind the archive, which forwards for it.
fn guest_of(lab: &Lab) -> Space {
    let guest = Space::new(Mounts::Shared).unwrap();
    let end = guest.as_fd().try_clone_to_owned().unwrap();
    lab.archive
        .run(move || {
            lab::cable("guest0", "g0", end.as_fd()).unwrap();
            lab::up("guest0").unwrap();
            lab::address("guest0", ip("192.0.2.129"), 25).unwrap();
            lab::address("guest0", ip("2001:db8:9::1"), 64).unwrap();
            fs::write("/proc/sys/net/ipv4/ip_forward", "1").unwrap();
            fs::write("/proc/sys/net/ipv6/conf/all/forwarding", "1").unwrap();
        })
        .unwrap();
    guest
        .run(|| {
            lab::up("g0").unwrap();
            lab::address("g0", ip(GUEST[0]), 25).unwrap();
            lab::address("g0", ip(GUEST[1]), 64).unwrap();
            lab::default_route(ip("192.0.2.129")).unwrap();
            lab::default_route(ip("2001:db8:9::1")).unwrap();
        })
        .unwrap();
    let routes = || {
        lab::default_route(ip(ARCHIVE[0])).unwrap();
        lab::default_route(ip(ARCHIVE[1])).unwrap();
    };
    lab.world.run(routes).unwrap();
    guest
}

const GUEST: [&str; 2] = ["192.0.2.130", "2001:db8:9::130"];

#[test]
fn what_passes_through_obeys_rules_and_a_standing_answer_of_its_own() {
    let Some(lab) = Lab::new() else { return };
    let guest = guest_of(&lab);
    let listener = guest.run(|| TcpListener::bind("[::]:7410").unwrap()).unwrap();
    let _own = lab.listen("::", 7410);
    lab.orders(PLATES);
    // The way is new: neighbours have to find each other first, on both cables.
    for family in 0..2 {
        let mut tries = 0..20;
        let met = || lab.knock(PARTNER[family], GUEST[family], 7410) == "answers";
        assert!(tries.any(|_| met()), "without a gate nobody is kept out");
    }
    lab.done(&["post"]);
    for family in 0..2 {
        // The rule is about what comes to this host, not about what goes through it.
        assert_eq!(lab.knock(PARTNER[family], GUEST[family], 7410), "silent");
        assert_eq!(lab.knock(PARTNER[family], ARCHIVE[family], 7410), "answers");
    }
    let through = format!("{PLATES}direction = \"transit\"\ninterface = \"lan0\"\n");
    lab.orders(&through.replace("\"plates\"", "\"plates-of-the-guest\""));
    lab.done(&["post"]);
    for family in 0..2 {
        // The guest's answers come back without a rule of their own; nobody else gets in.
        let mut connection = lab.connect(PARTNER[family], GUEST[family], 7410).unwrap();
        let mut accepted = accepted_of(&listener, &connection);
        connection.write_all(b"plate").unwrap();
        let mut heard = [0; 5];
        accepted.read_exact(&mut heard).unwrap();
        accepted.write_all(&heard).unwrap();
        connection.read_exact(&mut heard).unwrap();
        assert_eq!(lab.knock(STRANGER[family], GUEST[family], 7410), "silent");
        assert_eq!(lab.knock(PARTNER[family], ARCHIVE[family], 7410), "silent");
        assert!(!ping(&lab.world, PARTNER[family], GUEST[family]));
        // The guest itself may not begin anything.
        assert!(!ping(&guest, GUEST[family], PARTNER[family]));
        // What was let in goes on when nothing is let in any more.
        lab.orders("");
        lab.done(&["post"]);
        connection.write_all(b"again").unwrap();
        accepted.read_exact(&mut heard).unwrap();
        assert_eq!(&heard, b"again");
        lab.orders(&through);
        lab.done(&["post"]);
    }
    // A guest that may: its datagrams are answered, and unasked ones are not let in.
    lab.orders("[[rules]]\nname = \"guest\"\naction = \"allow\"\ndirection = \"transit\"\ntraffic = \"any\"\ninterface = \"guest0\"\n");
    lab.done(&["post"]);
    for family in 0..2 {
        assert!(ping(&guest, GUEST[family], PARTNER[family]));
        let (own, partner) = (ip(GUEST[family]), ip(PARTNER[family]));
        let inside = guest.run(move || UdpSocket::bind((own, 5000)).unwrap()).unwrap();
        let friend = lab.world.run(move || UdpSocket::bind((partner, 123)).unwrap()).unwrap();
        for socket in [&inside, &friend] {
            socket.set_read_timeout(Some(PATIENCE)).unwrap();
        }
        let mut buffer = [0; 16];
        friend.send_to(b"unasked", (own, 5000)).unwrap();
        assert!(inside.recv_from(&mut buffer).is_err(), "nobody asked for it");
        inside.send_to(b"what time is it", (partner, 123)).unwrap();
        let (_, asker) = friend.recv_from(&mut buffer).unwrap();
        friend.send_to(b"late", asker).unwrap();
        assert_eq!(inside.recv_from(&mut buffer).unwrap().0, 4);
    }
    let open = fs::read_to_string(lab.orders("")).unwrap();
    let open = open.replace("transit = \"deny\"", "transit = \"allow\"");
    fs::write(lab.path().join("orders.toml"), &open).unwrap();
    lab.done(&["post"]);
    assert_eq!(lab.knock(STRANGER[0], GUEST[0], 7410), "answers");
    // Refused on behalf of the guest.
    let refuse = open.replace("transit = \"allow\"", "transit = \"refuse\"");
    fs::write(lab.path().join("orders.toml"), refuse).unwrap();
    lab.done(&["post"]);
    assert_eq!(lab.knock(STRANGER[0], GUEST[0], 7410), "refuses");
    assert_eq!(lab.knock(STRANGER[1], GUEST[1], 7410), "refuses");
    lab.done(&["withdraw"]);
}

#[test]
fn of_posts_at_once_each_waits_for_the_one_before() {
    let Some(lab) = Lab::new() else { return };
    // The last one waits for ten seconds at most.
    let many = if is_emulated() { 2 } else { 8 };
    let folders: Vec<std::path::PathBuf> = (0..many)
        .map(|n| {
            let path = lab.path().join(format!("orders-{n}.toml"));
            let rule = PLATES.replace("\"plates\"", &format!("\"plates-{n}\""));
            fs::write(&path, format!("{HEAD}{rule}")).unwrap();
            path
        })
        .collect();
    let run = lab.path().join("run");
    let posts = lab.archive.run(move || {
        let post = |orders: &std::path::PathBuf| {
            let mut command = Command::new(assert_cmd::cargo::cargo_bin!("tipstaff"));
            command
                .arg("post")
                .env("TIPSTAFF_RUN", &run)
                .env("TIPSTAFF_HISTORY", run.with_extension("history"))
                .env("TIPSTAFF_ORDERS", orders);
            command.stdout(std::process::Stdio::null()).spawn().unwrap()
        };
        let started: Vec<_> = folders.iter().map(post).collect();
        started.into_iter().map(|mut child| child.wait().unwrap().success()).collect::<Vec<_>>()
    });
    assert_eq!(posts.unwrap(), vec![true; many]);
    let rules: serde_json::Value =
        serde_json::from_str(&lab.done(&["rules", "--in-force", "--json"])).unwrap();
    let rules = rules["rules"].as_array().unwrap();
    assert!(rules.len() == 1 && rules[0]["name"].as_str().unwrap().starts_with("plates-"));
    lab.done(&["withdraw"]);
    assert!(!lab.path().join("run").exists(), "something was left behind");
}

#[test]
fn kill_minus_nine_leaves_the_old_orders_or_the_new() {
    let Some(lab) = Lab::new() else { return };
    lab.orders(PLATES);
    lab.done(&["post"]);
    for n in 0..24u64 {
        let rules = if n % 2 == 0 { format!("{PLATES}{PING}") } else { PLATES.to_owned() };
        lab.orders(&rules);
        let mut command = Command::new(assert_cmd::cargo::cargo_bin!("tipstaff"));
        command
            .arg("post")
            .env("TIPSTAFF_RUN", lab.path().join("run"))
            .env("TIPSTAFF_HISTORY", lab.path().join("history"));
        command.env("TIPSTAFF_ORDERS", lab.path().join("orders.toml"));
        command.stdout(std::process::Stdio::null());
        // Later and later in the life of the command; the last ones finish first.
        let killed = lab.archive.run(move || {
            let mut child = command.spawn().unwrap();
            std::thread::sleep(Duration::from_micros(400 * n));
            let _ = child.kill();
            !child.wait().unwrap().success()
        });
        let rules: serde_json::Value =
            serde_json::from_str(&lab.done(&["rules", "--in-force", "--json"])).unwrap();
        let count = rules["rules"].as_array().unwrap().len();
        assert!(count == 1 || count == 2);
        if !killed.unwrap() {
            assert_eq!(count, if n % 2 == 0 { 2 } else { 1 });
        }
    }
    lab.done(&["withdraw"]);
    assert!(!lab.path().join("run").exists(), "something was left behind");
}

#[test]
fn a_count_belongs_to_what_a_rule_decides() {
    let Some(lab) = Lab::new() else { return };
    let _plates = lab.listen("::", 7410);
    lab.orders(PLATES);
    lab.done(&["post"]);
    assert_eq!(lab.knock(PARTNER[0], ARCHIVE[0], 7410), "answers");
    let rules =
        || -> serde_json::Value { serde_json::from_str(&lab.done(&["rules", "--json"])).unwrap() };
    let count = |rules: &serde_json::Value| rules["rules"][0]["tally"]["packets"].as_u64();
    let now = rules();
    assert!(count(&now) == Some(1) && now["counted_by"].is_null(), "{now}");
    // Another note decides nothing; another port does.
    lab.orders(&PLATES.replace("action", "note = \"every morning\"\naction"));
    let noted = rules();
    assert!(count(&noted) == Some(1) && noted["counted_by"].is_object(), "{noted}");
    lab.orders(&PLATES.replace("7410", "7411"));
    assert_eq!(count(&rules()), None);
    assert!(lab.done(&["rules"]).contains("changed since then have no count"));
    lab.done(&["withdraw"]);
}
