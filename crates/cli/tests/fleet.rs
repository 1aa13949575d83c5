//! Many hosts over real sshd: a network of seven namespaces. What is not well on its own is
//! in `fleet_faults`.

#![allow(clippy::unwrap_used)]

#[path = "common/fleet.rs"]
mod fleet;

use std::fs;
use std::time::{Duration, Instant};

use fleet::{DOME, HOSTS, Observatory};
use serde_json::Value;

/// The phase of each host, by its name.
fn phase<'r>(report: &'r Value, host: &str) -> &'r Value {
    let hosts = report["hosts"].as_array().unwrap();
    hosts.iter().find(|one| one["host"] == host).unwrap_or_else(|| panic!("{report:#}"))
}

fn has_phase(report: &Value, host: &str, wanted: &str) {
    assert_eq!(phase(report, host)["phase"], wanted, "{host}: {report:#}");
}

/// A rule that lets in pings, everywhere.
const PING: &str = "[[rules]]\nname = \"ping-1\"\naction = \"allow\"\ntraffic = \"icmp/echo\"\nsource \
                    = \"observatory\"\n";

#[test]
fn orders_are_rolled_out_in_waves_and_stay_where_they_were_checked() {
    let Some(all) = Observatory::new() else { return };
    let _domes = [all.host("dome-1").listen(7410), all.host("dome-2").listen(7410)];
    let orders = all.orders(DOME);
    let (code, before) = all.json(&["fleet", "state"]);
    assert_eq!(code, 1, "{before:#}");
    assert_eq!((&before["not_well"], &before["hosts"][0]["state"]), (&6.into(), &"down".into()));
    // Only a look: what would change where, the same told once.
    let (code, told) = all.told(&["fleet", "post", "--check"]);
    assert_eq!(code, 0, "{told}");
    assert!(told.contains("\n2 hosts: dome-1, dome-2\n"), "{told}");
    assert!(told.contains("\n4 hosts: archive, mast, desk-3, lantern\n"), "{told}");
    assert!(told.contains("checked; nothing was changed\n  wave 1: dome-1\n"), "{told}");

    let begin = Instant::now();
    let (code, told) = all.told(&["fleet", "post", "--yes", "--waves", "1,50%,100%"]);
    eprintln!("six hosts, three waves, checks within and from outside: {:?}", begin.elapsed());
    assert_eq!(code, 0, "{told}");
    assert!(told.contains("wave 2 of 3: archive, mast\n  checked and confirmed"), "{told}");
    let (code, state) = all.json(&["fleet", "state"]);
    assert_eq!(code, 0, "{state:#}");
    for (host, row) in HOSTS.iter().zip(state["hosts"].as_array().unwrap()) {
        assert_eq!(row["host"], *host);
        assert_eq!((&row["state"], &row["posted_as"]), (&"up".into(), &(*host).into()));
        assert_eq!((&row["is_this_list"], &row["revision"]), (&true.into(), &1.into()));
        assert_eq!(row["last_check"]["is_of_these"], true);
        // What is in force is the host's own file, too.
        let own = all.host(host).folder.join("etc/tipstaff/orders.toml");
        assert_eq!(fs::read(own).unwrap(), fs::read(&orders).unwrap());
    }
    // The same again changes nothing.
    let (code, again) = all.json(&["fleet", "post", "--yes"]);
    assert_eq!((code, &again["changed"]), (0, &false.into()), "{again:#}");
    HOSTS.iter().for_each(|host| has_phase(&again, host, "already"));

    // Another rule for the telescopes: the others are not touched in what they answer.
    all.orders(&DOME.replace("7410", "7412"));
    let (code, seen) = all.json(&["fleet", "state", "#telescope", "mast"]);
    assert_eq!(code, 1);
    assert_eq!(phase(&seen, "dome-2")["is_this_list"], false);
    assert_eq!(phase(&seen, "mast")["how"], "well", "{seen:#}");
}

#[test]
fn who_was_away_comes_later_and_a_failure_stops_the_rest() {
    let Some(mut all) = Observatory::new() else { return };
    all.orders("");
    assert_eq!(all.told(&["fleet", "post", "--yes", "--waves", "100%"]).0, 0);
    all.host_mut("archive").stop();
    all.orders(PING);
    let (code, away) = all.json(&["fleet", "post", "--yes", "--waves", "1,100%"]);
    assert_eq!(code, 3, "{away:#}");
    has_phase(&away, "archive", "away");
    let why = phase(&away, "archive")["why"].as_str().unwrap();
    assert!(why.contains("Connection refused"), "{why}");
    ["dome-1", "mast", "dome-2"].iter().for_each(|host| has_phase(&away, host, "confirmed"));
    let (code, state) = all.json(&["fleet", "state"]);
    assert_eq!((code, &state["unknown"]), (3, &1.into()), "{state:#}");
    all.host_mut("archive").start();
    let (code, rest) = all.json(&["fleet", "post", "--resume", "--yes"]);
    assert_eq!((code, rest["hosts"].as_array().unwrap().len()), (0, 1), "{rest:#}");
    has_phase(&rest, "archive", "confirmed");
    assert_eq!(all.told(&["fleet", "post", "--resume", "--yes"]).0, 2);

    // A full disk there: the post is refused, the wave goes back, no further one begins.
    let fill = "dd if=/dev/zero of=/var/lib/full bs=1k count=9000 2>/dev/null; true";
    let mut filled = std::process::Command::new("sh");
    filled.args(["-c", fill]);
    all.host("mast").space.run(move || filled.status().unwrap()).unwrap();
    all.orders(&PING.replace("ping-1", "ping-2"));
    let (code, full) = all.json(&["fleet", "post", "--yes", "--waves", "1,3,100%"]);
    assert_eq!(code, 1, "{full:#}");
    has_phase(&full, "dome-1", "confirmed");
    has_phase(&full, "mast", "refused");
    has_phase(&full, "archive", "back");
    has_phase(&full, "dome-2", "waiting");
    let why = phase(&full, "archive")["why"].as_str().unwrap();
    assert_eq!(why, "stopped because of mast");
    let force = |name: &str| all.host(name).state()["orders"]["hash"].clone();
    assert_ne!(force("dome-1"), force("archive"));
    assert_eq!(force("archive"), force("mast"));
    // All or nothing: who had them in an earlier wave has what it had before.
    all.orders(&PING.replace("ping-1", "ping-3"));
    let before = force("dome-1");
    let told = ["fleet", "post", "--yes", "--waves", "1,3,100%", "--all-or-nothing"];
    let (code, none) = all.json(&told);
    assert_eq!(code, 1, "{none:#}");
    has_phase(&none, "dome-1", "back");
    assert_eq!(force("dome-1"), before);
    let own = all.host("dome-1").folder.join("etc/tipstaff/orders.toml");
    assert!(fs::read_to_string(own).unwrap().contains("ping-2"));
}

#[test]
fn a_host_that_cuts_the_administrator_off_goes_back_by_itself() {
    let Some(all) = Observatory::new() else { return };
    all.orders("");
    let three = ["fleet", "post", "archive", "mast", "desk-3", "--yes"];
    assert_eq!(all.told(&three).0, 0);
    let before = all.host("mast").state()["orders"]["hash"].clone();
    // The shell of mast is for somebody else now.
    let cut = "[[rules]]\nname = \"no-shell\"\naction = \"deny\"\ntraffic = \"ssh\"\nsource = \
               \"198.51.100.5\"\nhosts = [\"mast\"]\n";
    let head = fleet::HEAD.replacen("[[rules]]", &format!("{cut}[[rules]]"), 1);
    fs::write(all.path().join("orders.toml"), &head).unwrap();
    // It is seen before anything is in force, by the very connection that brings the orders.
    let (code, seen) = all.json(&three);
    assert_eq!(code, 1, "{seen:#}");
    has_phase(&seen, "archive", "confirmed");
    has_phase(&seen, "mast", "refused");
    let why = phase(&seen, "mast")["why"].as_str().unwrap();
    assert!(why.contains("could not connect again"), "{why}");
    assert_eq!(all.host("mast").state()["orders"]["hash"], before);
    // Who wants to see it all the same sees the host go back.
    let begin = Instant::now();
    let all_the_same = ["--even-if-i-am-cut-off", "--trial", "24s", "--waves", "100%"];
    let (code, seen) = all.json(&[&three[..], &all_the_same].concat());
    assert_eq!(code, 1, "{seen:#}");
    has_phase(&seen, "archive", "already");
    has_phase(&seen, "mast", "back");
    has_phase(&seen, "desk-3", "back");
    let why = phase(&seen, "mast")["why"].as_str().unwrap();
    assert!(why.starts_with("no new ssh connection"), "{why}");
    assert!(begin.elapsed() < Duration::from_secs(300));
    assert_eq!(all.host("mast").state()["orders"]["hash"], before);
}

#[test]
fn counts_logs_and_checks_of_all_hosts_come_together() {
    let Some(all) = Observatory::new() else { return };
    let _domes = [all.host("dome-1").listen(7410), all.host("dome-2").listen(7410)];
    all.orders(DOME);
    assert_eq!(all.told(&["fleet", "post", "--yes", "--waves", "100%"]).0, 0);

    let (code, reach) = all.json(&["fleet", "reach"]);
    assert_eq!((code, &reach["differ"], &reach["unknown"]), (0, &0.into(), &0.into()), "{reach:#}");
    assert_eq!(reach["pairs"].as_array().unwrap().len(), 6);
    assert_eq!(reach["pairs"][2][2]["found"], "itself");
    assert_eq!(reach["pairs"][2][0]["found"], "as-ordered");
    // dome-1 stops listening, and something listens on archive that nobody may come to.
    drop(_domes);
    let page = all.path().join("reach.html");
    let words = ["fleet", "reach", "--to", "#telescope", "--html", page.to_str().unwrap()];
    let (code, told) = all.told(&words);
    assert_eq!(code, 1, "{told}");
    assert!(told.contains("10 pairs of hosts, 10 not as ordered"), "{told}");
    // The host itself says why.
    assert!(told.contains("reach of dome-1\n  tcp/7410   nothing listens on it\n"), "{told}");
    let page = fs::read_to_string(page).unwrap();
    assert!(page.contains("<section id=\"dome-2\">") && page.contains("≠ 1 differ"), "{page}");
    let (code, changed) = all.json(&["fleet", "reach", "--from", "mast", "--changes"]);
    assert_eq!(code, 0, "{changed:#}");

    let (code, tally) = all.json(&["fleet", "tally"]);
    assert_eq!((code, tally["hosts"].as_array().unwrap().len()), (0, 6), "{tally:#}");
    let rows = tally["rows"].as_array().unwrap();
    let shell = rows.iter().find(|row| row["by"] == "rule shell").unwrap();
    assert_eq!(shell["hosts"].as_array().unwrap().len(), 6);
    let sum = shell["hosts"].as_array().unwrap().iter().map(|one| one["packets"].as_u64().unwrap());
    assert_eq!(shell["packets"], sum.sum::<u64>());
    assert!(shell["connections"].as_u64().unwrap() >= 6);
    let (code, told) = all.told(&["fleet", "tally", "--by-host", "mast"]);
    assert!(code == 0 && told.contains("rule shell"), "{told}");

    // Nobody writes a log there: it is said, by host, and no count is made up.
    let (code, told) = all.told(&["fleet", "log", "--since", "1h", "--top", "sources"]);
    assert_eq!(code, 3, "{told}");
    assert!(told.contains("not included: dome-1, archive, mast"), "{told}");
    for (nth, name) in ["dome-1", "mast"].iter().enumerate() {
        let line = format!(
            r#"{{"schema":"tipstaff.log/1","time":"2026-11-30T0{nth}:00:00.000000Z","direction":"inbound","interface":"lan0","traffic":"tcp/23","source":"192.0.2.66:4242","destination":"198.51.100.20:23","program":null,"verdict":"deny","rehearsed":false,"by":"the standing answer inbound","rule":null,"position":null,"kind":"standing","which":"inbound"}}"#
        );
        let write = move || {
            fs::create_dir_all("/var/log/tipstaff").unwrap();
            fs::write("/var/log/tipstaff/decisions.jsonl", format!("{line}\n")).unwrap();
        };
        all.host(name).space.run(write).unwrap();
    }
    let (code, logged) = all.told(&["fleet", "log", "mast", "dome-1"]);
    let lines: Vec<&str> = logged.lines().collect();
    assert_eq!((code, lines.len()), (0, 2), "{logged}");
    // By time, whoever is asked first.
    assert!(lines[0].starts_with("dome-1  ") && lines[1].starts_with("mast    "), "{logged}");
    let (code, top) = all.json(&["fleet", "log", "mast", "dome-1", "--top", "sources"]);
    assert_eq!((code, &top["rows"][0]["turned_away"]), (0, &2.into()), "{top:#}");
    assert_eq!(top["rows"][0]["hosts"], serde_json::json!(["dome-1", "mast"]));

    // Any command, by host; the same answers together. What names files is refused there.
    let (code, told) = all.told(&["fleet", "run", "#telescope", "--", "postures"]);
    assert!(code == 0 && told.contains("dome-1, dome-2\n"), "{told}");
    let (code, told) = all.told(&["fleet", "run", "mast", "--", "draft", "--to", "/etc/x"]);
    assert_eq!(code, 3, "{told}");
    assert!(told.contains("not allowed remotely: it reads or writes a file"), "{told}");
    let (code, ran) = all.json(&["fleet", "run", "mast", "--", "confirm"]);
    assert_eq!((code, &ran["hosts"][0]["exit_code"]), (1, &2.into()), "{ran:#}");
}
