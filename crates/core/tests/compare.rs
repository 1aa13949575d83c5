//! What a change means: exact, against the reference, and in readable lines.

#![allow(clippy::unwrap_used)]

use proptest::prelude::*;
use tipstaff_core::analysis::compare::{Comparison, Kind, MOST_PIECES};
use tipstaff_core::arbitrary;
use tipstaff_core::brief::{Brief, RuleIndex, Setting};
use tipstaff_core::decision::{RuleQuery, first_mismatch};
use tipstaff_core::host::interface::Interface;
use tipstaff_core::moment::Moment;
use tipstaff_core::orders::{Action, Rule, read};
use tipstaff_core::packet::{
    Direction, InterfaceIndex, Packet, PacketContext, ProgramIndex, parse_ethernet,
};

const NOW: Moment = Moment(2_000_000_000);

fn first(brief: &Brief, question: &RuleQuery) -> Option<RuleIndex> {
    let matches = |(_, rule): &(RuleIndex, &Rule)| first_mismatch(brief, rule, question).is_none();
    brief.indexed().find(matches).map(|(index, _)| index)
}

fn says(brief: &Brief, question: &RuleQuery) -> (Action, Option<String>) {
    let rule = first(brief, question).and_then(|index| brief.rule(index));
    let standing = brief.standing.of(question.direction);
    let limit = rule
        .and_then(|rule| rule.limit())
        .map(|l| format!("{} {} {:?} {:?}", l.increment, l.tolerance, l.sharing, l.over));
    (rule.map_or(standing, |rule| rule.action), limit)
}

/// Two lists of their own, or one and what a few edits made of it.
fn pairs() -> impl Strategy<Value = (Brief, Brief)> {
    let edited = (arbitrary::brief(25), any::<[prop::sample::Index; 3]>(), 0..4usize).prop_map(
        |(brief, at, what)| {
            let mut other = brief.clone();
            let length = other.rules.len();
            if length > 1 {
                let [one, two, three] = at.map(|at| at.index(length));
                match what {
                    0 => drop(other.rules.remove(one)),
                    1 => other.rules.swap(one, two),
                    2 => other.rules[one] = brief.rules[two].clone(),
                    _ => {
                        let moved = other.rules.remove(one);
                        other.rules.insert(three.min(length - 1), moved);
                    }
                }
            }
            (brief, other)
        },
    );
    prop_oneof![(arbitrary::brief(8), arbitrary::brief(8)), edited]
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 120, ..ProptestConfig::default() })]

    #[test]
    fn a_packet_is_in_a_change_exactly_when_its_answer_changes(
        (mut before, mut after) in pairs(),
        frames in proptest::collection::vec(arbitrary::frame([2; 6]), 60),
        seed in any::<u32>(),
    ) {
        before.expire(NOW);
        after.expire(NOW);
        let comparison = Comparison::between(&before, &after);
        prop_assert!(!comparison.cut_off);
        // Every piece can be told.
        let told = comparison.lines();
        prop_assert!(told.iter().all(|line| !line.text.is_empty() && !line.text.starts_with(" ")), "{told:?}");
        for (n, frame) in frames.iter().enumerate() {
            let Packet::Ip(packet) = parse_ethernet(frame) else { continue };
            let seed = seed as usize + n;
            let facts = PacketContext {
                interface: InterfaceIndex([2, 3, 9][seed % 3]),
                direction: Direction::ALL[seed / 3 % 3],
                program: ProgramIndex::OTHER,
                is_reply: false,
                now: NOW,
                packet: Packet::Ip(packet),
            };
            let Some(asked) = RuleQuery::from_packet(&facts, &packet) else { continue };
            // A program that one of the lists may name, and the other count otherwise.
            // Or whoever cannot be identified.
            let path = arbitrary::PROGRAMS.get(seed / 9 % 5).copied();
            let nobody = if seed / 9 % 5 == 4 { ProgramIndex::UNKNOWN } else { ProgramIndex::OTHER };
            let asked = RuleQuery { program: nobody, ..asked };
            let of = |brief: &Brief| {
                RuleQuery { program: path.map_or(nobody, |p| brief.program_index(p)), ..asked }
            };
            let (old, new) = (of(&before), of(&after));
            let (was, is) = (says(&before, &old), says(&after, &new));
            let met = comparison.met_by(&asked, path);
            prop_assert_eq!(met.is_some(), was != is && (was.0 != is.0 || is.0 == Action::Allow),
                "{:?} {:?} {:?} {:#?}", asked, was, is, met);
            if let Some(change) = met {
                prop_assert_eq!((change.before.action, change.after.action), (was.0, is.0));
                let name = |brief: &Brief, q: &RuleQuery| {
                    first(brief, q).and_then(|i| brief.rule(i)).map(|r| r.name.clone())
                };
                prop_assert_eq!(&change.before.rule, &name(&before, &old));
                prop_assert_eq!(&change.after.rule, &name(&after, &new));
            }
        }
    }

    #[test]
    fn nothing_changes_between_a_list_and_itself(mut brief in arbitrary::brief(60)) {
        brief.expire(NOW);
        prop_assert!(Comparison::between(&brief, &brief).is_empty());
    }
}

fn lines(before: &str, after: &str) -> String {
    let lan = Interface::named(2, "lan0");
    let brief = |rules: &str| {
        let (standing, rules) = rules.split_once('|').unwrap_or(("deny", rules));
        let text = format!(
            "version = 1\n[standing]\ninbound = \"{standing}\"\noutbound = \"allow\"\ntransit = \"deny\"\n\
             [addresses]\npartner = [\"203.0.113.0/24\", \"2001:db8:113::/48\"]\n{rules}"
        );
        let orders = read(&text).unwrap();
        Brief::on(
            &orders,
            &Setting { interfaces: std::slice::from_ref(&lan), ..Setting::default() },
        )
    };
    let comparison = Comparison::between(&brief(before), &brief(after));
    let line = |line: tipstaff_core::analysis::compare::Line| {
        let how = line.kind.describe(line.direction);
        format!("{how}: {} · by {}, before by {}", line.text, line.by, line.before)
    };
    comparison.lines().into_iter().map(line).collect::<Vec<_>>().join("\n")
}

fn rule(name: &str, action: &str, rest: &str) -> String {
    format!("[[rules]]\nname = \"{name}\"\naction = \"{action}\"\n{rest}\n")
}

#[test]
fn changes_read_as_one_would_tell_them() {
    let plates =
        rule("plates", "allow", "traffic = [\"tcp/7410\", \"tcp/7411\"]\nsource = \"partner\"");
    let shell = rule("shell", "allow", "traffic = \"ssh\"");
    let no = rule("no", "refuse", "traffic = \"any\"\nsource = \"203.0.113.66\"");
    let slow = rule("shell", "allow", "traffic = \"ssh\"\nat_most = \"6 per minute per source\"");
    let own = rule("plates", "allow", "traffic = \"tcp/7410\"\nprogram = \"/usr/sbin/plated\"");
    let told = [
        lines("", &plates),
        lines(&plates, ""),
        lines(&format!("{shell}{plates}"), &format!("{no}{shell}{plates}")),
        lines(&shell, &slow),
        lines(&shell, &format!("allow|{shell}")),
        lines("", &own),
        lines(&format!("{shell}{plates}"), &format!("{plates}{shell}")),
    ];
    insta::assert_snapshot!(told.join("\n\n"));
}

#[test]
fn a_foundation_that_is_switched_is_told() {
    let text =
        "version = 1\n[standing]\ninbound = \"deny\"\noutbound = \"allow\"\ntransit = \"deny\"\n";
    let on = Brief::unplaced(&read(text).unwrap());
    let off = format!("{text}[foundations]\naddress_assignment = false\n");
    let off = Brief::unplaced(&read(&off).unwrap());
    let comparison = Comparison::between(&on, &off);
    assert_eq!((comparison.address_assignment, comparison.is_empty()), (Some(false), false));
    assert_eq!(Comparison::between(&off, &on).address_assignment, Some(true));
    assert!(Comparison::between(&off, &off).is_empty());
}

/// As [`lines`], and as JSON, of a machine with two interfaces; rules and nothing else.
fn told_of(before: &[&str], after: &[&str]) -> String {
    let all = [Interface::named(2, "lan0"), Interface::named(3, "wan0")];
    let brief = |rules: &[&str]| {
        let rules: String = rules
            .iter()
            .zip(1..)
            .map(|(keys, n)| format!("[[rules]]\nname = \"r{n}\"\n{}\n", keys.replace("; ", "\n")))
            .collect();
        let text = format!(
            "version = 1\n[standing]\ninbound = \"deny\"\noutbound = \"allow\"\ntransit = \"deny\"\n{rules}"
        );
        Brief::on(&read(&text).unwrap(), &Setting { interfaces: &all, ..Setting::default() })
    };
    let comparison = Comparison::between(&brief(before), &brief(after));
    let lines = comparison.lines().into_iter().map(|line| {
        let how = line.kind.describe(line.direction);
        format!("{how}: {} · by {}, before by {}", line.text, line.by, line.before)
    });
    let alone = comparison.changes.iter().map(|change| {
        let json = serde_json::to_value(change).unwrap();
        assert_eq!(json["traffic"], serde_json::json!(change.traffic()));
        format!("    {} = {json}", change.describe())
    });
    lines.chain(alone).collect::<Vec<_>>().join("\n")
}

#[test]
fn whatever_a_rule_says_is_told_in_words_and_in_json() {
    let told = [
        "action = \"deny\"; direction = \"outbound\"; traffic = \"tcp/25\"; destination = \"203.0.113.0/24\"",
        "action = \"refuse\"; direction = \"outbound\"; traffic = \"tcp/25\"",
        "action = \"allow\"; direction = \"transit\"; traffic = \"tcp/7410\"; interface = \"lan0\"",
        "action = \"allow\"; traffic = \"tcp/7410\"; interface = \"wan0\"; family = \"ipv4\"",
        "action = \"allow\"; traffic = \"tcp/7410\"; destination = [\"198.51.100.20\", \"2001:db8:51::20\"]",
        "action = \"allow\"; traffic = \"tcp/7410\"; source_except = [\"203.0.113.9\", \"2001:db8:113::9\"]",
        "action = \"allow\"; traffic = \"tcp/7410\"; source_except = \"203.0.113.9\"; family = \"ipv4\"",
        "action = \"allow\"; traffic = \"tcp/7410\"; source = \"128.0.0.0/1\"",
        "action = \"allow\"; traffic = \"tcp/7410\"; \
         source = [\"192.0.2.1\", \"192.0.2.3\", \"192.0.2.5\", \"192.0.2.7\"]",
        "action = \"allow\"; traffic = \"tcp/7410\"; \
         source = [\"192.0.2.1\", \"192.0.2.3\", \"192.0.2.5\", \"192.0.2.7\", \"192.0.2.9\"]",
        "action = \"allow\"; traffic = [\"icmp/echo\", \"protocol/47\"]",
        "action = \"allow\"; traffic = \"icmp/*\"",
        "action = \"allow\"; traffic = \"icmp/*\"; traffic_except = \"icmp/echo\"",
        "action = \"allow\"; traffic = \"any\"; traffic_except = \"icmp/echo\"",
        "action = \"allow\"; traffic = \"protocol/1\"; traffic_except = \"icmp/echo\"",
        "action = \"allow\"; traffic = \"any\"; traffic_except = [\"tcp/*\", \"udp/*\"]",
        "action = \"allow\"; traffic = [\"tcp/*\", \"udp/7420-7423\"]",
        "action = \"allow\"; traffic = [\"protocol/47\", \"protocol/48\", \"protocol/50\", \"udp/*\"]",
        "action = \"allow\"; traffic = [\"tcp/1\", \"tcp/3\", \"tcp/5\", \"tcp/7\", \"tcp/9\"]",
        "action = \"allow\"; traffic = \"any\"; program = [\"/usr/sbin/plated\", \"/usr/sbin/domed\"]",
        "action = \"allow\"; traffic = \"tcp/7410\"; program_except = \"/usr/sbin/plated\"",
        "action = \"deny\"; direction = \"outbound\"; traffic = \"tcp/25\"; program = \"/usr/sbin/plated\"",
    ]
    .map(|rule| format!("{rule}\n{}", told_of(&[], &[rule])));
    insta::assert_snapshot!(told.join("\n\n"));
    // The schema of a change is that of what is written.
    let schema =
        serde_json::to_value(schemars::schema_for!(tipstaff_core::analysis::compare::Change))
            .unwrap();
    assert_eq!(schema["title"], "Change");
    assert!(schema["properties"]["sources"].is_object(), "{schema}");
}

/// A rule for each of so many ports, which lets it in, and then instead one for each of so
/// many sources, which denies: each port of each source is a change of its own.
fn crossed(ports: usize, sources: usize) -> Comparison {
    let brief = |rules: String| {
        let standing = "inbound = \"deny\"\noutbound = \"allow\"\ntransit = \"deny\"";
        let text = format!("version = 1\n[standing]\n{standing}\n{rules}");
        Brief::unplaced(&read(&text).unwrap())
    };
    let let_in = |n| rule(&format!("in-{n}"), "allow", &format!("traffic = \"tcp/{n}\""));
    let out = "traffic = \"any\"\nsource = \"198.51.100.";
    let denied = |n| rule(&format!("no-{n}"), "deny", &format!("{out}{n}\""));
    let before = brief((1..=ports).map(let_in).collect());
    Comparison::between(&before, &brief((1..=sources).map(denied).collect()))
}

#[test]
fn where_there_is_too_much_to_name_that_is_told_and_what_is_named_is_so() {
    let (ports, sources) = (140, 141);
    let whole = crossed(ports, sources);
    assert!(!whole.cut_off);
    // Who has no rule is denied each port, too, in either family.
    assert_eq!(whole.changes.len(), ports * sources + 2 * ports);
    let part = crossed(200, 201);
    assert!(part.cut_off && !part.is_empty());
    assert!((MOST_PIECES..2 * MOST_PIECES).contains(&part.changes.len()));
    for change in &part.changes {
        assert_eq!(change.kind, Kind::Denied);
        assert_eq!((change.before.action, change.after.action), (Action::Allow, Action::Deny));
        assert!(change.before.position <= Some(200) && change.after.position <= Some(201));
    }
}
