//! Rates, refusals, records and new interfaces, as ordinary clients meet them
//! on the real kernel.

#![allow(clippy::unwrap_used)]

mod common;

use std::net::{SocketAddr, UdpSocket};
use std::os::fd::AsFd;
use std::{fs, io};

use common::{ARCHIVE, Lab, PARTNER, STRANGER};
use tipstaff_bpf::sys::test_net::set_transmit_checksum;
use tipstaff_host::lab;
use tipstaff_testing::patience::{stretched, within_a_second};
use tipstaff_testing::{clients::ping, clients::told, executable, ip};

#[test]
fn a_rate_lets_in_its_burst_and_no_more_and_outlives_a_swap() {
    let Some(lab) = Lab::new() else { return };
    let _listener = lab.listen("::", 7410);
    let rule = |rate: &str, over: &str| {
        format!(
            "[[rules]]\nname = \"plates\"\naction = \"allow\"\ntraffic = \"tcp/7410\"\nat_most = \"{rate}\"\nover = \"{over}\"\n"
        )
    };
    lab.orders(&rule("3 per hour per source", "deny"));
    lab.done(&["post"]);
    let knocks = |from: &str, to: &str, n: usize| {
        (0..n).map(|_| lab.knock(from, to, 7410)).collect::<Vec<_>>()
    };
    for family in 0..2 {
        let met = knocks(PARTNER[family], ARCHIVE[family], 4);
        assert_eq!(met, ["answers", "answers", "answers", "silent"]);
        assert_eq!(knocks(STRANGER[family], ARCHIVE[family], 1), ["answers"], "its own rate");
    }
    let tally = lab.done(&["tally", "plates", "--sources"]);
    assert!(tally.contains("203.0.113.9 ") && tally.contains("2001:db8:113::/64"), "{tally}");
    let json: serde_json::Value =
        serde_json::from_str(&lab.done(&["tally", "plates", "--sources", "--json"])).unwrap();
    let sources = json["sources"].as_array().unwrap();
    let partner = sources.iter().find(|s| s["source"] == PARTNER[0]).unwrap();
    assert_eq!((&partner["room"], sources.len()), (&0.into(), 4));
    assert!(json["rows"][0]["beyond"].as_u64() >= Some(2));

    // Other orders, the same rule: nobody begins anew, and now it says no.
    lab.orders(&rule("3 per hour per source", "refuse"));
    lab.done(&["post"]);
    assert_eq!(knocks(PARTNER[0], ARCHIVE[0], 1), ["refuses"]);
    assert_eq!(knocks(STRANGER[1], ARCHIVE[1], 3), ["answers", "answers", "refuses"]);
    let asked = lab.done(&["ask", "tcp/7410", "--source", PARTNER[0], "--in-force"]);
    assert!(asked.contains("let in by rule 1 (plates)"), "a question takes nothing: {asked}");
    lab.done(&["withdraw"]);
}

/// Checksums by the sender or left to its card, on either side.
#[test]
fn a_refusal_says_no_at_once_whoever_computes_the_checksums() {
    let Some(lab) = Lab::new() else { return };
    lab.orders(
        "[[rules]]\nname = \"no\"\naction = \"refuse\"\ntraffic = [\"tcp/*\", \"udp/*\", \"icmp/echo\"]\n",
    );
    lab.done(&["post"]);
    for (inside, outside) in [(true, true), (true, false), (false, true), (false, false)] {
        lab.archive.run(move || set_transmit_checksum("lan0", inside).unwrap()).unwrap();
        lab.world.run(move || set_transmit_checksum("w0", outside).unwrap()).unwrap();
        for family in 0..2 {
            let (own, partner) = (ARCHIVE[family], PARTNER[family]);
            let cards = format!("{own}, inside {inside}, outside {outside}");
            assert_eq!(lab.knock(partner, own, 7410), "refuses", "{cards}");
            let met = told(&lab.world, ip(partner), SocketAddr::new(ip(own), 123));
            // What Linux makes of "administratively prohibited", by family.
            let said = [io::ErrorKind::HostUnreachable, io::ErrorKind::PermissionDenied][family];
            assert_eq!(met, said, "{cards}");
        }
    }
    let asked = lab.done(&["ask", "ssh", "--source", PARTNER[0], "--in-force"]);
    assert!(asked.contains("refused by rule 1 (no)"), "{asked}");
    let reach = lab.tipstaff(&["reach", "--as", PARTNER[0], "--as", PARTNER[1], "--json"]);
    assert_eq!(reach.status.code(), Some(0), "{}", String::from_utf8_lossy(&reach.stdout));
    lab.done(&["withdraw"]);
}

#[test]
fn decisions_are_recorded_and_watched() {
    let Some(lab) = Lab::new() else { return };
    let _listener = lab.listen("::", 7410);
    lab.orders(
        "[[rules]]\nname = \"plates\"\naction = \"allow\"\ntraffic = \"tcp/7410\"\nsource = \"partner\"\nlog = true\n",
    );
    lab.done(&["post"]);
    for family in 0..2 {
        assert_eq!(lab.knock(PARTNER[family], ARCHIVE[family], 7410), "answers");
        assert!(!ping(&lab.world, STRANGER[family], ARCHIVE[family]));
    }
    let text = lab.done(&["watch", "--json", "--count", "4"]);
    let lines: Vec<serde_json::Value> =
        text.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    let cells = |line: &serde_json::Value| {
        let cell = |key: &str| line[key].as_str().unwrap().to_owned();
        [
            cell("verdict"),
            cell("traffic"),
            cell("source"),
            cell("destination"),
            cell("by"),
            cell("interface"),
        ]
    };
    assert!(lines.iter().all(|line| line["earlier"] == true), "{text}");
    let (rule, standing) = ("rule 1 (plates)", "the standing answer inbound");
    for (family, own) in ARCHIVE.iter().enumerate() {
        let [verdict, traffic, source, destination, by, interface] = cells(&lines[2 * family]);
        assert_eq!([verdict, traffic, by, interface], ["allow", "tcp/7410", rule, "lan0"]);
        assert!(source.contains(PARTNER[family]) && destination.contains(own), "{text}");
        // No rule names a program, so the gate has not looked for it; who listens is known.
        let listens = std::env::current_exe().unwrap();
        assert_eq!(lines[2 * family]["program"], listens.to_str().unwrap(), "{text}");
        let [verdict, traffic, source, destination, by, _] = cells(&lines[2 * family + 1]);
        assert_eq!([&*verdict, &*traffic, &*by], ["deny", "icmp/echo", standing]);
        assert_eq!([&*source, &*destination], [STRANGER[family], own]);
    }
    // Of each list that is given, one must fit.
    for family in 0..2 {
        assert_eq!(lab.knock(PARTNER[family], ARCHIVE[family], 7410), "answers");
        assert_eq!(lab.knock(STRANGER[family], ARCHIVE[family], 7411), "silent");
    }
    let arguments = [
        &["watch", "--json", "--count", "1"][..],
        &["--source", "192.0.2.0/24", "--source", "partner", "--verdict", "deny"],
        &["--traffic", "tcp/7411", "--interface", "lan*", "--direction", "inbound"],
    ];
    let line: serde_json::Value = serde_json::from_str(&lab.done(&arguments.concat())).unwrap();
    assert_eq!([&line["traffic"], &line["verdict"]], ["tcp/7411", "deny"], "{line}");
    assert!(line["source"].as_str().unwrap().starts_with(STRANGER[0]), "{line}");
    assert_eq!(lab.knock(STRANGER[0], ARCHIVE[0], 7412), "silent");
    assert_eq!(lab.knock(PARTNER[1], ARCHIVE[1], 7410), "answers");
    let name = std::env::current_exe().unwrap();
    let name = name.file_name().unwrap().to_str().unwrap();
    let arguments = ["watch", "--json", "--count", "1", "--rule", "plates", "--program", name];
    let line: serde_json::Value = serde_json::from_str(&lab.done(&arguments)).unwrap();
    assert!(line["by"] == rule && line["source"].as_str().unwrap().contains(PARTNER[1]), "{line}");
    // What cannot be meant is said at once.
    for (wrong, word) in [
        (["--source", "partners"], "or one of partner"),
        (["--rule", "plate"], "tipstaff rules --in-force"),
        (["--traffic", "sshh"], "Write a port such as 22"),
    ] {
        let output = lab.tipstaff(&[&["watch"][..], &wrong].concat());
        let error = String::from_utf8_lossy(&output.stderr);
        assert!(output.status.code() == Some(2) && error.contains(word), "{wrong:?}: {error}");
    }
    // A flood of denied knocks is sampled, and what is left out is counted.
    let target = ip(ARCHIVE[0]);
    lab.world
        .run(move || {
            let socket = UdpSocket::bind((ip(STRANGER[0]), 0)).unwrap();
            for _ in 0..1_000 {
                socket.send_to(b"?", (target, 9)).unwrap();
            }
        })
        .unwrap();
    let text = lab.done(&["watch", "--count", "90"]);
    assert!(text.contains("  deny    inbound on lan0  udp/9") && text.contains(standing), "{text}");
    let tally: serde_json::Value = serde_json::from_str(&lab.done(&["tally", "--json"])).unwrap();
    let rows = tally["rows"].as_array().unwrap();
    let denied = rows.iter().find(|row| row["by"] == standing).unwrap();
    assert!(denied["packets"].as_u64() >= Some(1_002), "{denied}");
    let left_out = tally["unrecorded"]["left_out"].as_u64().unwrap();
    assert!((500..1_000).contains(&left_out), "{tally}");
    lab.done(&["withdraw"]);
}

#[test]
fn a_program_that_a_rule_names_is_known_when_it_has_ended() {
    let Some(lab) = Lab::new() else { return };
    let plated = lab.path().join("plated");
    executable::copied("/bin/bash", &plated);
    let path = plated.to_str().unwrap();
    lab.orders(&format!(
        "[[rules]]\nname = \"plates\"\ndirection = \"outbound\"\naction = \"allow\"\n\
         traffic = \"tcp/7410\"\nprogram = \"{path}\"\nlog = true\n"
    ));
    lab.done(&["post"]);
    let mut ends = std::process::Command::new(&plated);
    ends.args(["-c", &format!(": >/dev/tcp/{}/7410", PARTNER[0])]);
    lab.archive.run(move || ends.output().unwrap()).unwrap();
    let line = lab.done(&["watch", "--json", "--count", "1", "--rule", "plates"]);
    let line: serde_json::Value = serde_json::from_str(&line).unwrap();
    assert_eq!(line["program"], path, "{line}");
    lab.done(&["withdraw"]);
}

/// It is named when its socket is made: of its process and its file nothing need be left, and
/// no rule tells of it.
#[test]
fn a_program_that_no_rule_names_is_known_when_it_has_ended_and_is_gone() {
    let Some(lab) = Lab::new() else { return };
    let folder = lab.path().join("a folder/of its own");
    fs::create_dir_all(&folder).unwrap();
    let (shelld, before) = (folder.join("shelld"), folder.join("before"));
    executable::copied("/bin/bash", &shelld);
    executable::copied("/bin/bash", &before);
    // A socket that is older than the gate: named when the gate takes note of it.
    let script = format!("exec 5<>/dev/udp/{}/7412; echo; read -r; echo >&5", PARTNER[0]);
    let mut older = std::process::Command::new(&before);
    older.args(["-c", &script]).stdin(std::process::Stdio::piped());
    older.stdout(std::process::Stdio::piped());
    let mut older = Keeper(lab.archive.run(move || older.spawn().unwrap()).unwrap());
    std::io::Read::read_exact(older.0.stdout.as_mut().unwrap(), &mut [0]).unwrap();
    lab.orders(
        "[[rules]]\nname = \"plates\"\ndirection = \"outbound\"\naction = \"deny\"\n\
         traffic = [\"udp/7411\", \"udp/7412\"]\nlog = true\n",
    );
    lab.done(&["post"]);
    let mut ends = std::process::Command::new(&shelld);
    ends.args(["-c", &format!("echo > /dev/udp/{}/7411", PARTNER[0])]);
    lab.archive.run(move || ends.output().unwrap()).unwrap();
    std::io::Write::write_all(older.0.stdin.as_mut().unwrap(), b"\n").unwrap();
    older.0.wait().unwrap();
    fs::remove_file(&shelld).unwrap();
    fs::remove_file(&before).unwrap();
    let lines = lab.done(&["watch", "--json", "--count", "2", "--rule", "plates"]);
    let told: Vec<serde_json::Value> =
        lines.lines().map(|line| serde_json::from_str(line).unwrap()).collect();
    let programs: Vec<&str> = told.iter().map(|line| line["program"].as_str().unwrap()).collect();
    assert_eq!(programs, [shelld.to_str().unwrap(), before.to_str().unwrap()]);
    lab.done(&["withdraw"]);
}

/// Ended with its test, whatever becomes of it.
struct Keeper(std::process::Child);

impl Drop for Keeper {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

#[test]
fn an_interface_that_appears_is_kept_and_patterns_follow() {
    let Some(lab) = Lab::new() else { return };
    let _listener = lab.listen("::", 7410);
    // The very file of a program too: it will be upgraded.
    let plated = lab.path().join("plated");
    fs::write(&plated, "").unwrap();
    let text = format!(
        "[[rules]]\nname = \"tunnel\"\naction = \"allow\"\ntraffic = \"tcp/7410\"\ninterface = \"tun*\"\n\
         [[rules]]\nname = \"plates\"\naction = \"allow\"\ntraffic = \"tcp/7411\"\nprogram = \"{}\"\n",
        plated.display()
    );
    let path = lab.orders(&text);
    let exact = fs::read_to_string(&path).unwrap().replacen(
        "version = 1",
        "version = 1\nprogram_exact = true",
        1,
    );
    fs::write(&path, exact).unwrap();
    lab.done(&["post"]);
    let notified = lab.path().join("notified");
    let manager = std::os::unix::net::UnixDatagram::bind(&notified).unwrap();
    manager.set_read_timeout(Some(stretched(std::time::Duration::from_secs(5)))).unwrap();
    let mut command = std::process::Command::new(assert_cmd::cargo::cargo_bin!("tipstaff"));
    command
        .args(["keep", "--json"])
        .env("TIPSTAFF_RUN", lab.path().join("run"))
        .env("TIPSTAFF_HISTORY", lab.path().join("history"))
        .env("TIPSTAFF_LOG", lab.path().join("log"));
    command.env("NOTIFY_SOCKET", &notified).stdout(std::process::Stdio::piped());
    let mut keeper = Keeper(lab.archive.run(move || command.spawn().unwrap()).unwrap());
    let told = || {
        let mut buffer = [0; 64];
        let length = manager.recv(&mut buffer).unwrap();
        String::from_utf8(buffer[..length].to_vec()).unwrap()
    };
    assert_eq!(told(), "READY=1\nSTATUS=guarding 2 interfaces");
    let plug = |name: &'static str, other: &'static str, own: &'static str, far: &'static str| {
        let end = lab.world.as_fd().try_clone_to_owned().unwrap();
        lab.archive
            .run(move || {
                lab::cable(name, other, end.as_fd()).unwrap();
                lab::up(name).unwrap();
                lab::address(name, ip(own), 24).unwrap();
            })
            .unwrap();
        lab.world
            .run(move || {
                lab::up(other).unwrap();
                lab::address(other, ip(far), 24).unwrap();
            })
            .unwrap();
    };
    for (name, other, own, far, met) in [
        ("guest0", "w1", "192.0.2.10", "192.0.2.1", "silent"),
        ("tun0", "w2", "203.0.113.130", "203.0.113.129", "answers"),
    ] {
        plug(name, other, own, far);
        assert!(
            within_a_second(|| lab.tipstaff(&["state"]).status.code() == Some(0)),
            "{name}: {}",
            String::from_utf8_lossy(&lab.tipstaff(&["state"]).stdout)
        );
        assert!(within_a_second(|| lab.knock(far, own, 7410) == met), "{name}");
    }
    let state = lab.done(&["state"]);
    assert!(state.contains("guest0") && state.contains("tun0"), "{state}");
    fs::write(lab.path().join("plated.new"), "").unwrap();
    fs::rename(lab.path().join("plated.new"), &plated).unwrap();
    // It looks by itself every few seconds, and whenever anything happens.
    plug("guest1", "w3", "192.0.2.200", "192.0.2.201");
    assert!(within_a_second(|| lab.tipstaff(&["state"]).status.code() == Some(0)));
    // Told to stop it stops, and opens nothing.
    let pid = nix::unistd::Pid::from_raw(keeper.0.id() as i32);
    nix::sys::signal::kill(pid, nix::sys::signal::Signal::SIGTERM).unwrap();
    // A sign of life at each look, until then.
    let last = std::iter::repeat_with(told).inspect(|told| {
        assert!(told == "STOPPING=1" || told.starts_with("WATCHDOG=1\nSTATUS=guarding "), "{told}");
    });
    assert!(last.take(1_000).any(|told| told == "STOPPING=1"));
    assert!(keeper.0.wait().unwrap().success());
    assert_eq!(lab.knock("192.0.2.1", "192.0.2.10", 7410), "silent");
    let mut said = String::new();
    io::Read::read_to_string(&mut keeper.0.stdout.take().unwrap(), &mut said).unwrap();
    assert!(said.contains("\"guarded\":[\"guest0\"") && said.contains("\"tun0\""), "{said}");
    assert!(said.contains("\"upgraded\":true"), "{said}");
    lab.done(&["withdraw"]);
}
