//! Commands that change orders beside `rule` and `group`, what is taken back again, how people
//! write, and what a shell completes.

#![allow(clippy::unwrap_used)]

use std::fs;
use std::os::unix::fs::PermissionsExt;

#[path = "common/desk.rs"]
mod desk;
#[path = "common/shapes.rs"]
mod shapes;

use desk::Desk;
use tipstaff_testing::executable;

const ORDERS: &str = include_str!("../demo/orders.toml");

#[test]
fn standing_answers_names_postures_and_areas_are_changed_and_told() {
    let desk = Desk::new(ORDERS);
    let feed = "198.51.100.0/24,NL,NL-NH,,\n203.0.113.0/24,DE,,,\n2001:db8:51::/48,NL,,,\n";
    fs::write(desk.path().join("feed.csv"), feed).unwrap();
    let said = [
        desk.text(&["standing", "inbound", "refuse"]),
        desk.text(&["standing"]),
        desk.text(&["standing", "outbound", "deny", "--check"]),
        desk.text(&["names", "add", "addresses", "partner", "192.0.2.0/24"]),
        desk.text(&["names", "set", "services", "domes", "7441,udp:7441"]),
        desk.text(&["names", "remove", "addresses", "partner", "192.0.2.0/24"]),
        desk.text(&["names", "remove", "addresses", "partner"]),
        desk.text(&["names", "rename", "services", "plates", "plate-archive"]),
        desk.text(&["postures", "add", "night", "note=Nobody is here", "inbound=deny"]),
        desk.text(&["postures"]),
        desk.text(&["areas"]),
        desk.text(&["areas", "feed", "feed.csv"]),
        desk.text(&["areas"]),
        desk.text(&["areas", "nl"]),
        desk.text(&["areas", "FR"]),
        desk.text(&["names", "add", "addresses", "house", "area:XX"]),
    ];
    insta::assert_snapshot!(said.join("\n---\n"));
    let text = fs::read_to_string(desk.path().join("orders.toml")).unwrap();
    assert!(text.contains("traffic = \"plate-archive\"") && text.contains("# What happens to"));
}

#[test]
fn edits_are_taken_back_as_long_as_nobody_else_changed_the_file() {
    let desk = Desk::new(ORDERS);
    let file = desk.path().join("orders.toml");
    let text = || fs::read_to_string(&file).unwrap();
    assert!(desk.text(&["undo"]).contains("no edit of orders.toml is kept"));
    desk.text(&["rule", "pause", "1", "weather-for-partners"]);
    let paused = text();
    desk.text(&["standing", "inbound", "allow"]);
    desk.text(&["rule", "remove", "ping-inside", "--yes"]);
    let kept = desk.json(&["undo", "--list"]);
    let commands: Vec<&str> =
        kept["edits"].as_array().unwrap().iter().map(|e| e["command"].as_str().unwrap()).collect();
    assert_eq!(commands.len(), 3);
    assert!(commands[0].ends_with("rule remove ping-inside --yes"), "{commands:?}");
    assert!(desk.text(&["undo", "4"]).contains("only 3 edits can be taken back"));
    assert!(desk.text(&["undo", "2"]).contains("standing inbound allow"));
    assert_eq!(text(), paused);
    // Somebody had the file in an editor.
    fs::write(&file, format!("{paused}# by hand\n")).unwrap();
    let refused = desk.text(&["undo"]);
    assert!(refused.contains("changed otherwise") && refused.ends_with("(exit code 2)"));
    fs::write(&file, &paused).unwrap();
    desk.text(&["undo"]);
    assert_eq!(text(), ORDERS);
    // Who may not read the orders may not read how they were.
    let beside = desk.path().join(".orders.toml.edits");
    assert_eq!(fs::metadata(&beside).unwrap().permissions().mode() & 0o777, 0o600);
    // So many are kept.
    for n in 0..25 {
        desk.text(&["rule", "set", "ping-inside", &format!("note=look {n}")]);
    }
    assert_eq!(desk.json(&["undo", "--list"])["edits"].as_array().unwrap().len(), 20);
    // A file that is no such list holds none, and keeps nobody from editing.
    fs::write(&beside, "torn").unwrap();
    desk.text(&["rule", "set", "ping-inside", "note=once more"]);
    assert_eq!(desk.json(&["undo", "--list"])["edits"].as_array().unwrap().len(), 1);
}

/// Ended in the middle, an edit has its note and not its text, or an undo its text and still the
/// note: neither is in the way of what was done before.
#[test]
fn an_edit_that_was_cut_off_is_in_nobodys_way() {
    let desk = Desk::new(&format!("include = [\"more.toml\"]\n{ORDERS}"));
    let part = "[addresses]\nhouse = \"198.51.100.0/24\"\n[[rules]]\nname = \"inside\"\n\
        action = \"allow\"\ntraffic = \"tcp/9\"\nsource = \"house\"\n";
    let files = ["orders.toml", "more.toml"].map(|name| desk.path().join(name));
    fs::write(&files[1], part).unwrap();
    desk.text(&["rule", "pause", "weather-for-partners"]);
    let read = || files.each_ref().map(|file| fs::read_to_string(file).unwrap());
    let paused = read();
    // Of two files that one edit changes.
    desk.text(&["rule", "set", "plates-for-partners", "source+=house"]);
    desk.text(&["names", "rename", "addresses", "house", "desks"]);
    let renamed = read();
    assert!(renamed[0].contains("desks") && renamed[1].contains("desks"));
    let edits = desk.path().join(".orders.toml.edits");
    let noted = fs::read(&edits).unwrap();
    let count = || desk.json(&["undo", "--list"])["edits"].as_array().unwrap().len();
    assert_eq!(count(), 3);
    // After one of the two files.
    desk.text(&["undo"]);
    let before = read();
    fs::write(&edits, &noted).unwrap();
    fs::write(&files[0], &renamed[0]).unwrap();
    let told = desk.text(&["undo"]);
    assert!(told.contains("names rename") && read() == before, "{told}");
    // Before either of them, and after both of an undo.
    fs::write(&edits, &noted).unwrap();
    assert_eq!(count(), 2);
    let told = desk.text(&["undo"]);
    assert!(told.contains("source+=house") && read() == paused, "{told}");
}

#[test]
fn a_rule_is_written_in_an_editor_and_nothing_of_it_is_lost() {
    let desk = Desk::new(ORDERS);
    let editor = desk.path().join("an editor");
    let edits = |script: &str| {
        executable::written(&editor, &format!("#!/bin/sh\n{script}\n"));
        let quoted = format!("'{}' ", editor.display());
        desk.text_with(&["rule", "edit", "shell-for-staff"], &[("VISUAL", ""), ("EDITOR", &quoted)])
    };
    let told = edits("sed -i 's/ssh/tcp\\/7422/' \"$1\"");
    assert!(told.contains("tcp/7422"), "{told}");
    assert_eq!(edits("true"), "Nothing to do: shell-for-staff was left as it is.\n(exit code 0)");
    let refused = edits("sed -i 's/allow/alow/' \"$1\"");
    let path = refused.split("what was written is in ").nth(1).unwrap().lines().next().unwrap();
    assert!(fs::read_to_string(path).unwrap().contains("alow"), "{refused}");
    fs::remove_file(path).unwrap();
    let failed = edits("exit 3");
    let path = failed.split("the text is in ").nth(1).unwrap().lines().next().unwrap();
    fs::remove_file(path).unwrap();
    assert!(failed.contains("exit status: 3") && failed.ends_with("(exit code 2)"), "{failed}");
}

#[test]
fn several_rules_at_once_and_a_time_from_now() {
    let desk = Desk::new(ORDERS);
    let json = desk.json(&["rule", "pause", "1", "open-day", "weather-for-partners"]);
    shapes::Shapes::default().check(&["rule", "pause"], &json.to_string());
    assert_eq!(json["edits"].as_array().unwrap().len(), 2);
    assert_eq!(json["already"][0], "open-day is paused already");
    let moved = desk.json(&["rule", "move", "open-day", "ping-inside", "--position", "2"]);
    let positions: Vec<u64> = moved["edits"]
        .as_array()
        .unwrap()
        .iter()
        .map(|edit| edit["position"].as_u64().unwrap())
        .collect();
    assert_eq!(positions, [2, 3]);
    let added = desk.json(&["rule", "add", "allow", "7430", "--until", "2h", "--position", "1"]);
    assert_eq!((&added["position"], &added["traffic"][0]), (&1.into(), &"tcp/7430".into()));
    let rules = desk.json(&["rules"]);
    let until: jiff::Timestamp = rules["rules"][0]["until"].as_str().unwrap().parse().unwrap();
    let left = until.duration_since(jiff::Timestamp::now()).as_mins();
    assert!((115..=120).contains(&left), "{left} minutes");
    let later = desk.json(&["rule", "set", "open-day", "until=3d"]);
    assert!(later["told"][0].as_str().unwrap().contains("`until` is now 20"), "{later}");
    let removed = desk.text(&["rule", "set", "open-day", "until="]);
    assert!(removed.contains("`until` is removed"), "{removed}");
    let widened = desk.text(&["rule", "set", "shell-for-staff", "source-=night-staff"]);
    assert!(widened.contains("that would leave no source"), "{widened}");
    let found = desk.json(&["rules", "--text", "PARTNER", "--action", "allow"]);
    assert_eq!(found["rules"].as_array().unwrap().len(), 2);
}

#[test]
fn a_question_about_many_packets_or_sources_is_answered_in_lines() {
    let desk = Desk::new(ORDERS);
    let said = [
        desk.text(&["ask", "ssh"]),
        desk.text(&["ask", "https,7410"]),
        desk.text(&["ask", "ping"]),
        desk.text(&["ask", "udp/7419-7424", "--source", "198.51.100.7"]),
        desk.text(&["ask", "dns", "--source", "203.0.113.9"]),
        desk.text(&["ask", "wireguard"]),
        desk.text(&["ask", "ssh", "--source", "partnr"]),
    ];
    let said = said.join("\n---\n");
    // Which own address is asked about hangs on the machine.
    let own = without_own_addresses(&said);
    insta::assert_snapshot!(own);
    let group = desk.json(&["ask", "sky-stream", "--source", "partner", "--source", "stranger"]);
    let answers = group["answers"].as_array().unwrap();
    assert_eq!(answers.len(), 4);
    assert!(answers.iter().all(|a| a["traffic"] == "udp/7420-7423" && a["verdict"] == "deny"));
    let kinds = desk.json(&["ask", "ssh"]);
    assert_eq!(kinds["kinds"][1]["named"], "night-staff");
    assert_eq!(kinds["kinds"].as_array().unwrap().len(), 3);
}

/// Without the column of this host's own addresses.
fn without_own_addresses(text: &str) -> String {
    let own = ["198.51.100.20", "2001:db8:51::20"];
    let lines = text.lines().map(|line| {
        let words = line.split("  ").filter(|word| {
            let word = word.trim();
            let is_address = word.parse::<std::net::IpAddr>().is_ok();
            !is_address || word == "198.51.100.7" || word == "203.0.113.9" || own.contains(&word)
        });
        let words: Vec<&str> = words.map(str::trim).filter(|word| !word.is_empty()).collect();
        words.iter().filter(|w| !own.contains(w)).copied().collect::<Vec<_>>().join(" · ")
    });
    lines.collect::<Vec<_>>().join("\n")
}

#[test]
fn every_command_has_a_manual_page_that_reads_without_a_warning() {
    let desk = Desk::new(ORDERS);
    assert!(desk.text(&["manual", "--to", "man"]).contains(" pages in man"));
    let mut names: Vec<_> =
        fs::read_dir(desk.path().join("man")).unwrap().map(|entry| entry.unwrap().path()).collect();
    names.sort();
    assert!(names.len() > 50, "{}", names.len());
    let add = fs::read_to_string(desk.path().join("man/tipstaff-rule-add.8")).unwrap();
    for section in ["NAME", "SYNOPSIS", "OPTIONS", "EXAMPLES", "EXIT STATUS", "FILES"] {
        let headed = [format!(".SH {section}"), format!(".SH \"{section}\"")];
        assert!(headed.iter().any(|h| add.contains(h.as_str())), "{section}: {add}");
    }
    // The same program writes the same pages.
    desk.text(&["manual", "--to", "again"]);
    let again = fs::read_to_string(desk.path().join("again/tipstaff-rule-add.8")).unwrap();
    assert_eq!(add, again);
    let groff = std::process::Command::new("groff").arg("--version").output();
    if !groff.is_ok_and(|output| output.status.success()) {
        return tipstaff_testing::skipped("manual pages were", &"there is no groff here");
    }
    for path in names {
        let read = std::process::Command::new("groff")
            .args(["-Kutf8", "-man", "-Tutf8", "-ww", "-z"])
            .arg(&path)
            .output()
            .unwrap();
        let told = String::from_utf8_lossy(&read.stderr).into_owned();
        assert!(read.status.success() && told.is_empty(), "{}: {told}", path.display());
    }
}

/// As bash asks: the words, and which of them is completed.
fn completed(desk: &Desk, words: &[&str]) -> Vec<String> {
    let index = (words.len() - 1).to_string();
    let asks = [
        ("TIPSTAFF_COMPLETE", "bash"),
        ("_CLAP_COMPLETE_INDEX", index.as_str()),
        ("_CLAP_IFS", "\n"),
        ("_CLAP_COMPLETE_COMP_TYPE", "9"),
        ("_CLAP_COMPLETE_SPACE", "true"),
    ];
    let told = desk.run_with(&[&["--"], words].concat(), &asks);
    let told = [told.stdout, told.stderr].concat();
    String::from_utf8(told).unwrap().lines().map(str::to_owned).collect()
}

#[test]
fn a_shell_completes_names_of_the_orders() {
    let desk = Desk::new(ORDERS);
    let offers = |words: &[&str], wanted: &str| {
        let found = completed(&desk, words);
        assert!(found.iter().any(|one| one.trim() == wanted), "{words:?}: {found:?}");
    };
    offers(&["tipstaff", "rule", "pause", "sh"], "shell-for-staff");
    offers(&["tipstaff", "rule", "add", "allow", "ssh", "--source", "par"], "partner");
    offers(&["tipstaff", "rule", "add", "allow", "ssh", "--before", "vis"], "visitors-network");
    offers(&["tipstaff", "ask", "pl"], "plates");
    offers(&["tipstaff", "ask", "ssh", "--source", "str"], "stranger");
    offers(&["tipstaff", "posture", "sea"], "sealed");
    offers(&["tipstaff", "watch", "--interface", "l"], "lo");
    offers(&["tipstaff", "sur"], "survey");
    // A file that has a fault completes nothing, and says nothing in between.
    fs::write(desk.path().join("orders.toml"), "version = ").unwrap();
    let none = completed(&desk, &["tipstaff", "rule", "pause", "sh"]);
    assert!(none.iter().all(|line| !line.contains("error")), "{none:?}");
    for shell in ["bash", "zsh", "fish"] {
        let script = desk.text(&["completions", shell]);
        assert!(script.contains("TIPSTAFF_COMPLETE"), "{script}");
        let checked = std::process::Command::new(shell).arg("--version").output();
        if checked.is_ok_and(|output| output.status.success()) {
            let script = script.rsplit_once("(exit code").unwrap().0.to_owned();
            fs::write(desk.path().join("script"), script).unwrap();
            let read = std::process::Command::new(shell)
                .arg("-n")
                .arg(desk.path().join("script"))
                .output()
                .unwrap();
            assert!(read.status.success(), "{}", String::from_utf8_lossy(&read.stderr));
        }
    }
}

#[test]
fn a_monitor_gets_one_line_and_the_codes_of_plugins() {
    let desk = Desk::new(ORDERS);
    let output = desk.run(&["state", "--check"]);
    let line = String::from_utf8(output.stdout).unwrap();
    match output.status.code() {
        Some(2) => assert_eq!(line, "CRITICAL: nothing is in force, everything passes\n"),
        // Nobody but root can see what is in force.
        Some(3) => assert!(line.starts_with("UNKNOWN: "), "{line}"),
        other => panic!("{other:?}: {line}"),
    }
}

/// The hooks of contrib/, with a program in the place of ours that notes what it was asked.
#[test]
fn a_hook_takes_up_the_posture_of_a_place_and_leaves_sealed_alone() {
    let desk = Desk::new(ORDERS);
    let noted = desk.path().join("noted");
    let places = desk.path().join("places");
    fs::write(&places, "# where we are\nGuest Wi-Fi road\nobservatory house\n").unwrap();
    let hooks = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("contrib/hooks");
    let asked = |hook: &str, arguments: &[&str], variables: &[(&str, &str)], sealed: bool| {
        let _ = fs::remove_file(&noted);
        let told = format!(
            "#!/bin/sh\nif [ \"$2\" = --json ]; then\n  printf '{{ \"postures\": [ {{\\n \"name\": \
             \"sealed\", \"note\": \"x\",\\n \"holds\": {sealed} }} ] }}'\nelse\n  \
             echo \"$@\" > '{}'\nfi\n",
            noted.display()
        );
        executable::written(desk.path().join("tipstaff"), &told);
        let path = format!("{}:{}", desk.path().display(), std::env::var("PATH").unwrap());
        let ended = std::process::Command::new("sh")
            .arg(hooks.join(hook))
            .args(arguments)
            .env("PATH", path)
            .env("TIPSTAFF_PLACES", &places)
            .envs(variables.iter().copied())
            .status()
            .unwrap();
        assert!(ended.success(), "{hook} {arguments:?}");
        fs::read_to_string(&noted).unwrap_or_default()
    };
    let manager = |name, event, sealed| {
        asked("networkmanager-posture", &["lan0", event], &[("CONNECTION_ID", name)], sealed)
    };
    let taken = "posture road --reason the place is Guest Wi-Fi\n";
    assert_eq!(manager("Guest Wi-Fi", "up", false), taken);
    for (name, event, sealed) in
        [("Guest Wi-Fi", "down", false), ("Guest", "up", false), ("Guest Wi-Fi", "up", true)]
    {
        assert_eq!(manager(name, event, sealed), "", "{name} {event} {sealed}");
    }
    let daemon = asked("networkd-posture", &[], &[("IFACE", "observatory")], false);
    assert_eq!(daemon, "posture house --reason the place is observatory\n");
    // The scripts of the packages are read by a shell, too.
    let scripts = ["build", "deb/postinst", "deb/prerm", "deb/postrm"];
    let packaging = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../packaging");
    for script in scripts {
        let read =
            std::process::Command::new("bash").arg("-n").arg(packaging.join(script)).status();
        assert!(read.unwrap().success(), "{script}");
    }
}

#[test]
fn what_people_read_is_ascii_where_the_locale_says_so_and_what_programs_read_stays() {
    let grouped = ORDERS.replace(
        "note = \"Desks and the night shift\"",
        "note = \"W\u{e4}rme – and night\"\ngroup = \"staff\"",
    );
    let desk = Desk::new(&format!("{grouped}\n[[groups]]\nname = \"staff\"\n"));
    let rules = ["rules", "--notes"];
    let latin = [("LANG", "de_DE.ISO-8859-1")];
    let text = desk.text_with(&rules, &latin);
    assert!(text.is_ascii() && text.contains("W\\u{e4}rme - and night"), "{text}");
    assert!(desk.text_with(&rules, &[("LANG", "C.UTF-8")]).contains("W\u{e4}rme – and night"));
    assert!(
        desk.text_with(&rules, &[("LANG", "C"), ("LC_ALL", "en_GB.utf8")]).contains("W\u{e4}rme")
    );
    // A fragment is taken in again, and JSON has an encoding of its own.
    let fragment = desk.text_with(&["group", "export", "staff"], &latin);
    assert!(fragment.contains("W\u{e4}rme – and night"), "{fragment}");
    let json = desk.text_with(&["rules", "--json"], &latin);
    assert!(json.contains("W\u{e4}rme – and night"), "{json}");
}

#[test]
fn rules_go_out_as_access_lists_and_come_in_again() {
    let desk = Desk::new(ORDERS);
    let told = desk.text(&["export", "--to", "lists.json"]);
    assert_eq!(desk.run(&["export"]).status.code(), Some(0));
    assert!(told.contains("wrote lists.json: "), "{told}");
    assert!(told.contains("(open-day) is not active: left out"), "{told}");
    assert!(
        desk.text(&["import", "lists.json", "--to", "again.toml"]).contains("wrote again.toml")
    );
    let again = ["post", "--check", "--orders", "again.toml"];
    assert!(desk.run(&again).status.success(), "{}", desk.text(&again));
    // What is there is not written over; what is none is told.
    let there = desk.run(&["import", "lists.json", "--to", "again.toml"]);
    assert_eq!(there.status.code(), Some(2));
    fs::write(desk.path().join("cut.json"), "{\"ietf-access-control-list:acls\": {").unwrap();
    assert!(desk.text(&["import", "cut.json"]).contains("no access lists of RFC 8519"));
    assert!(desk.text(&["import", "nowhere.json"]).contains("nowhere.json"));
    let report = desk.json(&["import", "lists.json"]);
    assert_eq!(report["left_out"], serde_json::json!([]));
    assert!(report["text"].as_str().unwrap().contains("plates-for-partners"));
}
