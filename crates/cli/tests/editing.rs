//! The built program edits, lists and reviews orders, as an ordinary account.

#![allow(clippy::unwrap_used)]

#[path = "common/desk.rs"]
mod desk;

use std::fs;

use desk::Desk;
use tipstaff_testing::patience::is_emulated;

const ORDERS: &str = include_str!("../demo/orders.toml");

#[test]
fn rules_are_edited_in_place_and_the_change_is_told() {
    use std::os::unix::fs::PermissionsExt;
    let deny = "\n[[rules]]\nname = \"nothing-else\"\naction = \"deny\"\ntraffic = \"any\"\n";
    let desk = Desk::new(&format!("{ORDERS}{deny}"));
    let file = desk.path().join("orders.toml");
    fs::set_permissions(&file, fs::Permissions::from_mode(0o640)).unwrap();
    insta::assert_snapshot!(desk.text(&[
        "rule",
        "add",
        "allow",
        "ntp",
        "tcp/4460",
        "--note",
        "Time",
        "--source",
        "partner,192.0.2.66"
    ]));
    insta::assert_snapshot!(desk.text(&["rule", "move", "open-day", "--first"]));
    insta::assert_snapshot!(desk.text(&[
        "rule",
        "set",
        "weather-for-partners",
        "source=partner",
        "note="
    ]));
    let removed = desk.json(&["rule", "remove", "4", "--yes"]);
    assert_eq!(
        (&removed["name"], &removed["removed"]),
        (&"weather-for-partners".into(), &true.into())
    );
    for arguments in [
        &["swap-action", "ping-inside"][..],
        &["pause", "ping-inside"],
        &["copy", "ping-inside", "--last"],
    ] {
        assert!(desk.run(&[&["rule"], arguments].concat()).status.success(), "{arguments:?}");
    }
    let text = fs::read_to_string(&file).unwrap();
    assert!(text.contains("# What happens to traffic that no rule matches."), "comments stay");
    assert!(text.ends_with("name = \"ping-inside-2\"\naction = \"deny\"\ntraffic = \"icmp/echo\"\nsource = \"observatory\"\nenabled = false\n"), "{text}");
    assert_eq!(fs::metadata(&file).unwrap().permissions().mode() & 0o777, 0o640);
    assert_eq!(desk.json(&["rules"])["rules"][0]["name"], "open-day");
}

#[test]
fn an_edit_that_cannot_be_leaves_the_file_as_it_was() {
    let desk = Desk::new(ORDERS);
    let untouched = |text: String| {
        assert_eq!(fs::read_to_string(desk.path().join("orders.toml")).unwrap(), ORDERS, "{text}");
        assert!(text.ends_with("(exit code 2)"), "{text}");
        text
    };
    insta::assert_snapshot!(untouched(desk.text(&["rule", "add", "alow", "shs"])));
    insta::assert_snapshot!(untouched(desk.text(&["rule", "pause", "opn-day"])));
    insta::assert_snapshot!(untouched(desk.text(&["rule", "remove", "open-day"])));
    untouched(desk.text(&["rule", "move", "open-day"]));
    untouched(desk.text(&["rule", "set", "open-day", "colour=green"]));
    // What is so already is no failure.
    for already in [
        &["rule", "move", "open-day", "--last"][..],
        &["rule", "pause", "open-day"],
        &["rule", "set", "open-day", "action=allow"],
        &["standing", "inbound", "deny"],
        &["names", "add", "addresses", "partner", "203.0.113.0/24"],
    ] {
        let text = desk.text(already);
        assert!(text.starts_with("Nothing to do: ") && text.ends_with("(exit code 0)"), "{text}");
        assert_eq!(desk.json(already)["changed"], false, "{already:?}");
    }
    assert_eq!(fs::read_to_string(desk.path().join("orders.toml")).unwrap(), ORDERS);
}

#[test]
fn of_many_edits_at_once_none_is_lost() {
    let desk = Desk::new(ORDERS);
    let told: Vec<String> = std::thread::scope(|scope| {
        let desk = &desk;
        let edit = |n| {
            scope.spawn(move || desk.text(&["rule", "add", "allow", &format!("tcp/{}", 9000 + n)]))
        };
        let edits: Vec<_> = (0..12).map(edit).collect();
        edits.into_iter().map(|edit| edit.join().unwrap()).collect()
    });
    // Who waits in vain says so: an emulated processor has not done all of them in that time.
    let (done, others): (Vec<String>, Vec<String>) =
        told.into_iter().partition(|told| told.ends_with("(exit code 0)"));
    assert!(others.is_empty() || is_emulated(), "{others:#?}");
    assert!(others.iter().all(|told| told.contains("has been locked by")), "{others:#?}");
    let rules = desk.json(&["rules"])["rules"].as_array().unwrap().len();
    assert_eq!(rules, 7 + done.len());
    assert!(!done.is_empty());
}

#[test]
fn rules_can_be_filtered_sorted_and_shown_whole() {
    let desk = Desk::new(ORDERS);
    let names = |arguments: &[&str]| {
        let json = desk.json(&[&["rules"], arguments].concat());
        let rules = json["rules"].as_array().unwrap().iter();
        rules.map(|r| r["name"].as_str().unwrap().to_owned()).collect::<Vec<_>>()
    };
    assert_eq!(names(&["--traffic", "22"]), ["visitors-network", "shell-for-staff"]);
    assert_eq!(names(&["--traffic", "22", "--source", "203.0.113.45"]), ["shell-for-staff"]);
    assert_eq!(names(&["--paused"]), ["open-day"]);
    assert_eq!(
        names(&["--traffic", "plates", "--sort", "name"]),
        ["open-day", "plates-for-partners"]
    );
    insta::assert_snapshot!(desk.text(&["rules", "shell-for-staff"]));
    assert_eq!(desk.json(&["rules", "2"])["traffic_means"][0], "udp/7420-7423");
    assert!(desk.text(&["rules", "--traffic", "shs"]).ends_with("(exit code 2)"));
    assert!(desk.text(&["rules", "99"]).contains("no rule at position 99"));
}

#[test]
fn names_tell_what_they_hold_and_who_uses_them() {
    let desk = Desk::new(ORDERS);
    insta::assert_snapshot!(desk.text(&["names"]));
    insta::assert_snapshot!(desk.text(&["names", "7410"]));
    let called = |what: &str| {
        let json = desk.json(&["names", what]);
        let rows = json["names"].as_array().unwrap().iter();
        rows.map(|r| r["name"].as_str().unwrap().to_owned()).collect::<Vec<_>>()
    };
    assert_eq!(called("203.0.113.41"), ["night-staff", "partner"]);
    assert_eq!(called("udp/53"), ["domain"]);
    assert_eq!(called("ssh"), ["ssh"]);
    assert!(desk.text(&["names", "9999"]).contains("9999 is not named"));
}

#[test]
fn a_draft_reads_without_a_fault_and_overwrites_nothing() {
    let listener = std::net::TcpListener::bind("0.0.0.0:0").unwrap();
    let port = listener.local_addr().unwrap().port();
    let desk = Desk::new(ORDERS);
    assert!(desk.run(&["draft", "--to", "first.toml"]).status.success());
    let json = desk.json(&["rules", "--orders", "first.toml", "--traffic", &port.to_string()]);
    let rule = &json["rules"][0];
    assert_eq!((&rule["enabled"], &rule["action"]), (&false.into(), &"allow".into()));
    assert!(rule["note"].as_str().unwrap().ends_with("who needs it, and from where?"));
    let again = desk.text(&["draft", "--to", "orders.toml"]);
    assert!(again.contains("already exists") && again.ends_with("(exit code 2)"), "{again}");
    assert_eq!(fs::read_to_string(desk.path().join("orders.toml")).unwrap(), ORDERS);
}

/// Orders for three hosts, with a paused group and a rule for a tag.
const HOUSE: &str = r##"version = 1
[standing]
inbound = "deny"
outbound = "allow"
transit = "deny"

[[hosts]]
name = "archive"
tags = ["server"]
addresses = ["198.51.100.20", "2001:db8:51::20"]

[[hosts]]
name = "mast"
tags = ["server", "sensors"]
addresses = "198.51.100.30"

[[hosts]]
name = "lantern"
standing = { transit = "allow" }

[[groups]]
name = "servers"
hosts = "#server"
note = "What every server answers"

[[groups]]
name = "open-day"
hosts = "*"
enabled = false

[[rules]]
name = "shell"
action = "allow"
traffic = "ssh"
source = "198.51.100.0/24"
group = "servers"

[[rules]]
name = "weather"
action = "allow"
traffic = "tcp/7430"
hosts = ["#sensors", "lantern"]

[[rules]]
name = "tour"
action = "allow"
traffic = "http"
group = "open-day"

[[rules]]
name = "ping"
action = "allow"
traffic = "icmp/echo"
"##;

#[test]
fn one_file_is_the_brief_of_each_host() {
    let desk = Desk::new(HOUSE);
    insta::assert_snapshot!(desk.text(&["hosts"]));
    insta::assert_snapshot!(desk.text(&["brief", "mast"]));
    insta::assert_snapshot!(desk.text(&["brief", "archive", "--diff", "lantern"]));
    insta::assert_snapshot!(desk.text(&["rules", "--host", "lantern"]));
    let verdict = |host: &str, what: &str| {
        let json = desk.json(&["ask", what, "--source", "198.51.100.23", "--host", host]);
        json["verdict"].as_str().unwrap().to_owned()
    };
    assert_eq!([verdict("mast", "ssh"), verdict("lantern", "ssh")], ["allow", "deny"]);
    assert_eq!([verdict("archive", "tcp/7430"), verdict("mast", "tcp/7430")], ["deny", "allow"]);
    assert_eq!(verdict("archive", "http"), "deny", "its group is paused");
    assert_eq!(
        desk.json(&["rules", "--host", "mast", "--group", "servers"])["rules"]
            .as_array()
            .unwrap()
            .len(),
        1
    );
}

#[test]
fn a_machine_that_no_host_is_gets_a_question() {
    let desk = Desk::new(HOUSE);
    let text = desk.text(&["rules"]);
    assert!(text.contains("which is not a host in the orders"), "{text}");
    assert!(text.contains("Specify --host with one of archive, mast, lantern."), "{text}");
    assert!(text.ends_with("(exit code 2)"));
    assert!(
        desk.text(&["post", "--check", "--host", "archive.example"])
            .contains("this machine is archive")
    );
}

#[test]
fn a_group_is_paused_exported_and_imported() {
    let desk = Desk::new(HOUSE);
    let file = desk.path().join("orders.toml");
    assert!(desk.run(&["group", "resume", "open-day"]).status.success());
    assert!(!fs::read_to_string(&file).unwrap().contains("enabled"));
    assert!(desk.run(&["group", "pause", "open-day"]).status.success());
    assert_eq!(
        desk.text(&["group", "pause", "open-day"]),
        "Nothing to do: the group open-day is paused already.\n(exit code 0)"
    );
    let fragment = desk.run(&["group", "export", "open-day"]).stdout;
    insta::assert_snapshot!(String::from_utf8(fragment.clone()).unwrap());
    fs::write(desk.path().join("day.toml"), fragment).unwrap();
    let collision = desk.text(&["group", "import", "day.toml"]);
    assert!(
        collision
            .contains("a group `open-day` already exists here; a rule `tour` already exists here"),
        "{collision}"
    );
    let other = Desk::new(ORDERS);
    let file = desk.path().join("day.toml");
    assert!(other.run(&["group", "import", file.to_str().unwrap()]).status.success());
    assert_eq!(
        other.json(&["rules", "--group", "open-day"])["rules"][0]["silence"],
        "group-paused"
    );
}

#[test]
fn a_list_in_a_file_beside_the_orders_counts() {
    let rule = "\n[[rules]]\nname = \"unwanted\"\naction = \"deny\"\ntraffic = \"any\"\nsource = \
                \"file:unwanted.txt\"\n";
    let desk = Desk::new(&ORDERS.replacen("\n[[rules]]", &format!("{rule}\n[[rules]]"), 1));
    let gone = desk.text(&["post", "--check"]);
    assert!(
        gone.contains("unwanted.txt cannot be read") && gone.ends_with("(exit code 2)"),
        "{gone}"
    );
    fs::write(desk.path().join("unwanted.txt"), "203.0.113.8/29 # knocks all night\n").unwrap();
    let by = |source: &str| desk.json(&["ask", "plates", "--source", source])["by"].clone();
    assert_eq!(
        [by("203.0.113.9"), by("203.0.113.20")],
        ["rule 1 (unwanted)", "rule 2 (plates-for-partners)"]
    );
    // Editing does not need the file, and keeps the word.
    fs::remove_file(desk.path().join("unwanted.txt")).unwrap();
    assert!(desk.run(&["rule", "move", "unwanted", "--last"]).status.success());
}

#[test]
fn a_rule_ends_at_its_moment_and_stays_visible() {
    let desk = Desk::new(ORDERS);
    let add = |name: &str, until: &str| {
        let arguments =
            ["rule", "add", "allow", "tcp/7450", "--name", name, "--until", until, "--last"];
        desk.text(&arguments)
    };
    add("over", "2020-01-01T00:00:00Z");
    let by = || desk.json(&["ask", "tcp/7450", "--source", "203.0.113.9"])["by"].clone();
    assert_eq!(by(), "the standing answer inbound");
    let text = desk.text(&["ask", "tcp/7450", "--source", "203.0.113.9"]);
    assert!(text.contains("it expired at 2020-01-01T00:00:00Z"), "{text}");
    let rules = desk.text(&["rules"]);
    assert!(
        rules.contains("allow (expired)") && rules.contains("until 2020-01-01T00:00:00Z"),
        "{rules}"
    );
    add("to-come", "2100-01-01T00:00:00+01:00");
    assert_eq!(by(), "rule 9 (to-come)");
    let wrong = add("wrong", "tomorrow");
    assert!(
        wrong.contains("`tomorrow` is not a valid timestamp") && wrong.ends_with("(exit code 2)"),
        "{wrong}"
    );
}

#[test]
fn a_posture_brings_its_own_answers_and_rules() {
    let house = format!(
        "{HOUSE}{}",
        r#"
[[postures]]
name = "open-house"
note = "Visitors in the dome"
standing = { inbound = "allow" }
network = "198.51.100.0/24"

[[rules]]
name = "guests-keep-out"
action = "deny"
traffic = "ssh"
postures = "open-house"
"#
    );
    let desk = Desk::new(&house);
    let by = |posture: &[&str], what: &str| {
        let arguments =
            [&["ask", what, "--source", "203.0.113.9", "--host", "archive"], posture].concat();
        desk.json(&arguments)["by"].as_str().unwrap().to_owned()
    };
    let open = ["--posture", "open-house"];
    assert_eq!(by(&[], "ssh"), "the standing answer inbound");
    assert_eq!(by(&open, "ssh"), "rule 5 (guests-keep-out)");
    let json = desk.json(&["rules", "--host", "archive", "--posture", "open-house"]);
    assert_eq!(json["standing"][0]["action"], "allow");
    assert_eq!(desk.json(&["rules", "--host", "archive"])["rules"][4]["silence"], "other-posture");
    let brief = |arguments: &[&str]| {
        desk.json(&[&["brief", "mast"], arguments].concat())["rules"].as_array().unwrap().len()
    };
    assert_eq!((brief(&[]), brief(&open)), (3, 4));
    let text = desk.text(&["post", "--check", "--host", "archive", "--posture", "open-hose"]);
    assert!(text.contains("They define open-house;") && text.ends_with("(exit code 2)"), "{text}");
    let unknown =
        Desk::new(&house.replace("postures = \"open-house\"", "postures = \"open-huose\""));
    assert!(unknown.text(&["hosts"]).contains("Did you mean `open-house`?"));
}

#[test]
fn included_files_are_read_edited_and_blamed() {
    let desk = Desk::new(&ORDERS.replacen(
        "version = 1\n",
        "version = 1\ninclude = [\"groups/*.toml\"]\n",
        1,
    ));
    let missing = desk.text(&["post", "--check"]);
    assert!(missing.contains("no directory groups"), "{missing}");
    let groups = desk.path().join("groups");
    fs::create_dir(&groups).unwrap();
    let ntp =
        "[[rules]]\nname = \"time\"\naction = \"allow\"\ntraffic = \"ntp\"\nsource = \"partner\"\n";
    fs::write(groups.join("b.toml"), ntp).unwrap();
    fs::write(groups.join("a.toml"), "# Nothing yet.\n").unwrap();
    fs::write(groups.join("notes.txt"), "not orders").unwrap();
    insta::assert_snapshot!(desk.text(&["rules", "time"]).replace(char::is_numeric, "0"));
    let paused = desk.text(&["rule", "pause", "1"]);
    assert!(paused.contains("changed in") && paused.contains("groups/b.toml"), "{paused}");
    assert_eq!(
        fs::read_to_string(groups.join("b.toml")).unwrap(),
        format!("{ntp}enabled = false\n")
    );
    fs::write(
        groups.join("a.toml"),
        "[[rules]]\nname = \"time\"\naction = \"deny\"\ntraffic = \"ntpp\"\n",
    )
    .unwrap();
    insta::assert_snapshot!(desk.text(&["post", "--check"]));
    // A link that leads out is not followed.
    fs::remove_file(groups.join("a.toml")).unwrap();
    let outside = tempfile::NamedTempFile::new().unwrap();
    std::os::unix::fs::symlink(outside.path(), groups.join("a.toml")).unwrap();
    let text = desk.text(&["post", "--check"]);
    assert!(text.contains("groups/a.toml: it is a symbolic link that points outside"), "{text}");
}

#[test]
fn an_unknown_rule_gets_the_name_that_was_meant() {
    let text = Desk::new(ORDERS).text(&["rule", "pause", "open-dya"]);
    assert!(
        text.contains("no rule `open-dya`") && text.contains("Did you mean `open-day`?"),
        "{text}"
    );
}

#[test]
fn the_review_finds_what_was_planted_and_says_so_by_its_exit_code() {
    let twice = "[[rules]]\nname = \"plates-again\"\nnote = \"n\"\naction = \"deny\"\ntraffic = \
                 \"plates\"\nsource = \"partner\"\n";
    let desk = Desk::new(&format!("{ORDERS}\n{twice}"));
    let text = desk.text(&["review", "--elsewhere"]);
    assert!(text.contains("never-matches") && text.contains("rule 8 (plates-again)"), "{text}");
    assert!(
        text.contains("rule 1 (plates-for-partners) above it already matches all of its traffic"),
        "{text}"
    );
    let json = desk.json(&["review", "--elsewhere"]);
    let codes: Vec<_> =
        json["findings"].as_array().unwrap().iter().map(|f| f["code"].as_str().unwrap()).collect();
    assert_eq!(codes.iter().filter(|code| **code == "never-matches").count(), 1, "{codes:?}");
    let code = |arguments: &[&str]| {
        let text = desk.text(&[&["review", "--elsewhere"], arguments].concat());
        text.lines().last().unwrap_or_default().to_owned()
    };
    assert_eq!(code(&["--fail-on", "error"]), "(exit code 1)");
    let clean = Desk::new(ORDERS);
    let text = clean.text(&["review", "--elsewhere", "--fail-on", "error"]);
    assert!(!text.contains("error "), "{text}");
    // With what listens here: nothing does on the plates' port.
    assert!(
        clean.text(&["review"]).contains("nothing listens on tcp/7410"),
        "{}",
        clean.text(&["review"])
    );
}

/// However a port is written, the file gets the one form, and it is said.
#[test]
fn ports_are_read_in_every_spelling_and_written_in_one() {
    let desk = Desk::new(ORDERS);
    let told = desk.text(&["rule", "add", "allow", "80,443", "53/UDP", "--name", "web"]);
    assert!(told.contains("read as tcp/80, tcp/443, udp/53"), "{told}");
    let file = || fs::read_to_string(desk.path().join("orders.toml")).unwrap();
    assert!(file().contains(r#"traffic = ["tcp/80", "tcp/443", "udp/53"]"#), "{}", file());
    // A number behind a protocol is of that protocol.
    let told = desk.text(&["rule", "set", "web", "traffic=udp/53,5353"]);
    assert!(told.contains("`traffic` is now udp/53, udp/5353"), "{told}");
    assert!(file().contains(r#"traffic = ["udp/53", "udp/5353"]"#), "{}", file());
    let said =
        |traffic: &str| desk.json(&["ask", traffic, "--source", "203.0.113.9"])["traffic"].clone();
    for traffic in ["7410", "7410/tcp", "tcp:7410", "TCP/7410"] {
        assert_eq!(said(traffic), "tcp/7410", "{traffic}");
    }
    // In orders too; what is written there stays as it is.
    let written = Desk::new(&ORDERS.replace("\"tcp/7410\"", "\"7410/tcp\""));
    assert_eq!(written.json(&["names", "plates"])["names"][0]["holds"][0], "tcp/7410");
}
