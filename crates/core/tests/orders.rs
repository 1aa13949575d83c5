//! Reading orders: what sound text means, and every fault of an unsound one.

#![allow(clippy::unwrap_used)]

use tipstaff_core::brief::Brief;
use tipstaff_core::names::traffic::Transport;
use tipstaff_core::orders::{Action, read};
use tipstaff_core::packet::ProgramIndex;

const HEAD: &str =
    "version = 1\n[standing]\ninbound = \"deny\"\noutbound = \"allow\"\ntransit = \"deny\"\n";

#[test]
fn sound_orders_mean_what_they_say() {
    let text = format!(
        r#"{HEAD}
[addresses]
observatory = ["198.51.100.0/24", "2001:db8:51::/48"]
friends = ["observatory", "203.0.113.9"]
[services]
dome-control = "tcp/7410"
ssh = "tcp/2222"
[[rules]]
name = "shell"
note = "Desks and the archive"
action = "allow"
direction = "inbound"
traffic = ["ssh", "dome-control"]
source = "friends"
[[rules]]
name = "everything-else"
action = "deny"
traffic = "any"
enabled = false
"#
    );
    let orders = read(&text).unwrap();
    assert_eq!(orders.standing.inbound, Action::Deny);
    let [shell, rest] = orders.rules.as_slice() else { panic!("two rules") };
    assert_eq!(shell.traffic.written, ["ssh", "dome-control"]);
    let keys = shell.traffic.keys.as_ref().unwrap();
    // The orders' own ssh overrides the catalogue's.
    assert!(
        keys.contains(Transport::Tcp.key(2222))
            && keys.contains(Transport::Tcp.key(7410))
            && !keys.contains(Transport::Tcp.key(22))
    );
    let sources = shell.source.addresses.as_ref().unwrap();
    for friend in ["198.51.100.255", "2001:db8:51:ffff::1", "203.0.113.9"] {
        assert!(sources.contains(friend.parse().unwrap()), "{friend}");
    }
    assert!(!sources.contains("203.0.113.10".parse().unwrap()));
    assert_eq!((rest.traffic.keys.as_ref(), rest.is_active(), rest.line), (None, false, 20));
}

/// Faults as `line:column: key: message. help`, one a line.
fn faults(text: &str) -> String {
    read(text).expect_err("corrupt").to_string()
}

#[test]
fn every_fault_of_a_text_is_told_at_once() {
    let text = format!(
        r#"{HEAD}
[addresses]
observatory = ["198.51.100.0/24", "198.51.100.9-2001:db8:51::1", "198.51.100.7/24"]
dome = ["mast"]
mast = ["dome"]
empty = []
"2nd" = "192.0.2.1"
[services]
dome-control = ["tcp/74100", "ssh"]
[[rules]]
name = "shell"
action = "alow"
traffic = ["shs", "tpc/22", "udp/9-5"]
source = ["observatroy", "203.0.113.300"]
[[rules]]
name = "shell"
action = "allow"
traffic = []
colour = "green"
trafic = "ssh"
[[rules]]
[[rules]]
name = "7"
enabled = "yes"
direction = "outward"
at_most = "6 per minute"
[[rules]]
name = "refused"
action = "reject"
traffic = "any"
note = 5
"#
    );
    insta::assert_snapshot!(faults(&text));
}

/// Keys that are sound one by one, and make no sense together.
#[test]
fn what_contradicts_itself_is_named() {
    let rule = |name: &str, rest: &str| format!("[[rules]]\nname = \"{name}\"\n{rest}");
    let allow = "action = \"allow\"\ntraffic = \"ssh\"\n";
    let text = [
        format!("{HEAD}[[hosts]]\nname = \"dome-1\"\ntags = [\"dome\"]\n"),
        rule("ports-of-icmp", "action = \"allow\"\ntraffic = \"icmp/22\"\n"),
        rule(
            "program-on-transit",
            &format!("{allow}direction = \"transit\"\nprogram = \"/usr/bin/domed\"\n"),
        ),
        rule(
            "program-of-echo",
            "action = \"allow\"\ntraffic = \"icmp/echo\"\nprogram = \"/usr/bin/domed\"\n",
        ),
        rule("relative-program", &format!("{allow}program = [\"domed\", \"/usr/../bin/domed\"]\n")),
        rule("one-family", &format!("{allow}family = \"ipv6\"\nsource = \"198.51.100.0/24\"\n")),
        rule(
            "rate-on-deny",
            "action = \"deny\"\ntraffic = \"ssh\"\nat_most = \"6 per minute in all\"\n",
        ),
        rule("over-nothing", &format!("{allow}over = \"refuse\"\n")),
        rule("nobody", &format!("{allow}hosts = \"#dom\"\n")),
        rule("odd-over", &format!("{allow}at_most = \"6 per minute in all\"\nover = \"allow\"\n")),
        rule("nothing-left", &format!("{allow}traffic_except = \"tcp/*\"\n")),
    ];
    insta::assert_snapshot!(faults(&text.concat()));
}

#[test]
fn every_key_is_read() {
    let text = format!(
        "{HEAD}[[hosts]]\nname = \"lantern\"\n[[groups]]\nname = \"way-out\"\n[[postures]]\nname = \"open-house\"\n\
         [[rules]]\nname = \"out\"\nnote = \"why\"\naction = \"allow\"\ndirection = \"outbound\"\n\
         traffic = \"tcp/*\"\ntraffic_except = \"tcp/25\"\nsource = \"198.51.100.0/24\"\n\
         source_except = \"198.51.100.9\"\ndestination = \"any\"\ndestination_except = \"192.0.2.0/24\"\n\
         interface = \"tun*\"\ninterface_except = \"tun9\"\nprogram = \"/usr/sbin/plated\"\n\
         family = \"ipv4\"\nat_most = \"6 per minute per source, burst 3\"\nover = \"refuse\"\nlog = true\n\
         until = 2031-01-01T00:00:00Z\ngroup = \"way-out\"\nhosts = \"lantern\"\npostures = \"open-house\"\n\
         [[rules]]\nname = \"all-but-one\"\naction = \"refuse\"\ntraffic = \"any\"\nprogram_except = \"/usr/bin/domed\"\nenabled = false\n"
    );
    let orders = read(&text).unwrap();
    let (rule, other) = (&orders.rules[0], &orders.rules[1]);
    assert_eq!(
        rule.further_words(),
        "outbound, to any but 192.0.2.0/24, on tun* but tun9, program /usr/sbin/plated, IPv4 only, \
         until 2031-01-01T00:00:00Z, at most 6 per minute per source, burst 3, then refuse, logged"
    );
    assert!(rule.limit().is_some() && other.limit().is_none());
    let brief = Brief::unplaced(&orders);
    let holds = |rule, path| brief.program_holds(rule, brief.program_index(path));
    assert!(holds(other, "/bin/other") && !holds(other, "/usr/bin/domed"));
    assert!(!holds(rule, "/bin/other") && holds(rule, "/usr/sbin/plated"));
    // Whoever cannot be identified is kept out by program, and never let in by one.
    assert!(brief.program_holds(other, ProgramIndex::UNKNOWN));
    assert!(!brief.program_holds(rule, ProgramIndex::UNKNOWN));
}

#[test]
fn two_paths_of_one_file_are_one_program() {
    let rule = |name: &str, path: &str| {
        format!(
            "[[rules]]\nname = \"{name}\"\naction = \"allow\"\ntraffic = \"ssh\"\nprogram = \"{path}\"\n"
        )
    };
    let (link, file) = ("/usr/bin/python3", "/usr/bin/python3.11");
    let text = format!("{HEAD}{}{}", rule("by-its-link", link), rule("by-its-file", file));
    let apart = Brief::unplaced(&read(&text).unwrap());
    assert_ne!(apart.program_index(link), apart.program_index(file));
    let one = apart.with_executables([(link.to_owned(), file.to_owned())].into());
    assert_eq!(one.programs, [file]);
    assert_eq!(one.program_index(link), one.program_index(file));
    assert!(one.rules().all(|rule| one.program_holds(rule, one.program_index(link))));
}

#[test]
fn what_is_missing_is_named() {
    insta::assert_snapshot!(faults("[standing]\ninbound = \"deny\"\n"));
    insta::assert_snapshot!(faults("version = 2\nrules = 3\n[postures]\n"));
}

#[test]
fn text_that_is_no_toml_is_a_fault_with_a_place() {
    insta::assert_snapshot!(faults(&format!(
        "{HEAD}[[rules]]\nname = shell\naction = \"allow\"\naction = \"deny\"\n"
    )));
}

#[test]
fn no_text_makes_the_reader_panic() {
    use proptest::prelude::*;
    let words = prop::sample::select(vec![
        "[standing]",
        "[[rules]]",
        "[addresses]",
        "version",
        "name",
        "traffic",
        "source",
        "=",
        "\n",
        "\"ssh\"",
        "[",
        "]",
        "1",
        "true",
        "\"198.51.100.0/24\"",
        "{",
        "}",
        ",",
        "\"",
        "é",
        ".",
        "inbound",
        "\"deny\"",
    ]);
    proptest!(ProptestConfig::with_cases(2000), |(words in prop::collection::vec(words, 0..40))| {
        let text = words.join(" ");
        if let Err(faults) = read(&text) {
            prop_assert!(!faults.0.is_empty());
            for fault in faults.0 {
                prop_assert!(fault.span.start <= text.len() && !fault.help.is_empty());
            }
        }
    });
}

#[test]
fn every_condition_reads_and_exceptions_are_taken_out() {
    let text = format!(
        r#"{HEAD}
[addresses]
observatory = ["198.51.100.0/24", "2001:db8:51::/48"]
[[rules]]
name = "visitors"
action = "allow"
traffic = ["tcp/7410-7420"]
traffic_except = "tcp/7415"
source_except = "observatory"
destination = "198.51.100.20"
interface = ["lan*", "tun0"]
interface_except = "lan9"
family = "ipv4"
"#
    );
    let orders = read(&text).unwrap();
    let rule = &orders.rules[0];
    let keys = rule.traffic.keys.as_ref().unwrap();
    assert!(keys.contains(Transport::Tcp.key(7410)) && !keys.contains(Transport::Tcp.key(7415)));
    let sources = rule.source.addresses.as_ref().unwrap();
    assert!(sources.contains("203.0.113.9".parse().unwrap()));
    assert!(!sources.contains("198.51.100.9".parse().unwrap()));
    let meant: Vec<&str> =
        ["lan0", "lan9", "tun0", "tun1"].into_iter().filter(|n| rule.interface.holds(n)).collect();
    assert_eq!(meant, ["lan0", "tun0"]);
}

#[test]
fn conditions_that_contradict_each_other_are_named() {
    let rule = |name: &str, rest: &str| {
        format!("[[rules]]\nname = \"{name}\"\naction = \"allow\"\ntraffic = \"ssh\"\n{rest}\n")
    };
    let text = [
        HEAD,
        &rule("a", "family = \"ipv6\"\nsource = \"198.51.100.9\""),
        &rule("b", "source = \"198.51.100.9\"\nsource_except = \"198.51.100.0/24\""),
        &rule("c", "traffic_except = \"tcp/*\""),
        &rule("d", "interface = \"lan 0\""),
        &rule("e", "family = \"inet\""),
        &rule("f", "destination_except = []"),
    ]
    .concat();
    insta::assert_snapshot!(faults(&text));
}

#[test]
fn hosts_groups_and_selectors_that_do_not_fit_are_named() {
    let text = format!(
        r##"{HEAD}
[[hosts]]
name = "mast"
tags = ["sensors"]
addresses = "198.51.100.300"
[[hosts]]
name = "mast"
[[hosts]]
tags = "desk"
[[hosts]]
name = "#odd"
standing = {{ inbound = "alow", sideways = "deny" }}
[[groups]]
name = "servers"
hosts = ["#sensor", "archive"]
[[rules]]
name = "shell"
action = "allow"
traffic = "ssh"
group = "server"
hosts = []
"##
    );
    insta::assert_snapshot!(faults(&text));
}

#[test]
fn every_key_of_a_rule_that_is_wrong_is_told() {
    let wrong = [
        ("name", "12"),
        ("note", "7"),
        ("action", "\"alow\""),
        ("direction", "\"inwards\""),
        ("traffic", "\"tpc/22\""),
        ("traffic_except", "\"tcp/0\""),
        ("source", "\"198.51.100.0/33\""),
        ("source_except", "\"nobody\""),
        ("destination", "\"198.51.100\""),
        ("destination_except", "true"),
        ("interface", "\"a/b\""),
        ("interface_except", "\"an-interface-too-long\""),
        ("program", "\"plated\""),
        ("program_except", "\"sbin/plated\""),
        ("family", "\"ipv5\""),
        ("at_most", "\"often\""),
        ("over", "\"drop\""),
        ("log", "\"yes\""),
        ("accepted", "\"because\""),
        ("until", "\"tomorrow\""),
        ("enabled", "1"),
        ("group", "\"nowhere\""),
        ("hosts", "\"#nobody\""),
        ("postures", "\"asleep\""),
    ];
    let rule: String = wrong.iter().map(|(key, value)| format!("{key} = {value}\n")).collect();
    let text = format!(
        "version = 1\n[standing]\ninbound = \"deny\"\noutbound = \"allow\"\ntransit = \"deny\"\n[[rules]]\n{rule}"
    );
    let faults = read(&text).unwrap_err();
    for (key, _) in wrong {
        let told = faults.0.iter().filter(|f| f.key.rsplit('.').next() == Some(key)).count();
        assert_eq!(told, 1, "{key}: {faults:#?}");
    }
    assert_eq!(faults.0.len(), wrong.len(), "{faults:#?}");
    // The list of keys is that of the reader.
    let schema = tipstaff_core::orders::schema().to_string();
    let keys = wrong.iter().filter(|(key, _)| schema.contains(&format!("\"{key}\""))).count();
    assert_eq!(keys, wrong.len());
}

/// A set of programs means its paths: in each direction of a condition, over files, and to
/// what is counted; what is wrong with one is told where it stands.
#[test]
fn a_set_of_programs_is_its_paths() {
    let head =
        "version = 1\n[standing]\ninbound = \"deny\"\noutbound = \"allow\"\ntransit = \"deny\"\n";
    let set = "[programs]\nsky = [\"/usr/bin/skycam\", \"/usr/bin/starcam\"]\n";
    let rule = |program: &str| {
        format!(
            "[[rules]]\nname = \"sky\"\naction = \"allow\"\ntraffic = \"tcp/1\"\n\
             direction = \"outbound\"\nprogram = {program}\nprogram_except = \"/usr/bin/x\"\n"
        )
    };
    let named = read(&format!("{head}{set}{}", rule("[\"sky\", \"/usr/bin/dome\"]"))).unwrap();
    let paths = ["/usr/bin/skycam", "/usr/bin/starcam", "/usr/bin/dome"];
    let plain = read(&format!("{head}{}", rule(&format!("{paths:?}")))).unwrap();
    let program = &named.rules[0].program;
    assert_eq!(
        (&program.written[0][..], &program.files[..]),
        ("sky", &paths.map(String::from)[..])
    );
    assert_eq!(program.describe(), "sky, /usr/bin/dome but /usr/bin/x");
    let briefs = [&named, &plain].map(Brief::unplaced);
    assert_eq!(briefs[0].meanings(), briefs[1].meanings());
    assert_eq!(briefs[0].programs, briefs[1].programs);
    assert_eq!(named.names[0].name, "sky");

    let faults = |text: &str| {
        let told = read(text).unwrap_err();
        told.0.iter().map(|f| (f.key.clone(), f.help.clone())).collect::<Vec<_>>()
    };
    let wrong = faults(&format!("{head}{set}{}", rule("\"sky-\"")));
    assert_eq!(wrong, [("rules[1] (sky).program".into(), "Did you mean `sky`?".into())]);
    let wrong = faults(&format!("{head}[programs]\nsky = [\"skycam\", \"/usr//x\"]\n"));
    assert_eq!(wrong.len(), 2);
    assert_eq!(wrong[0].0, "programs.sky");
    // Nothing would be any program.
    assert_eq!(faults(&format!("{head}[programs]\nsky = []\n"))[0].0, "programs.sky");
}
