//! What the orders mean a port to do, where to look from, and what a report says of it:
//! each by examples that one changed condition would tell otherwise.

#![allow(clippy::unwrap_used)]

use std::collections::BTreeSet;
use std::net::IpAddr;

use tipstaff_core::analysis::reach::{
    Arrival, Cell, CellContext, Crossing, How, Met, Observed, Outcome, Plan, Report, Row, SEVERAL,
    Shown, Subject, Vantage, Wanted, Why, Word, cell, changes, expected, plan, subjects,
    tables_of_many, typical,
};
use tipstaff_core::brief::Brief;
use tipstaff_core::host::listener::{Listener, Program};
use tipstaff_core::moment::Moment;
use tipstaff_core::names::address::{AddressRange, AddressSet};
use tipstaff_core::names::traffic::Transport;
use tipstaff_core::orders::{Attachments, Documents, OrdersHash, Origin, read};
use tipstaff_core::packet::{Direction, InterfaceIndex, ProgramIndex};

use Outcome::{Answers, Refuses, Silent, Unknown};

const OWN: &str = "198.51.100.20";
const FRIEND: &str = "198.51.100.23";
const LAN: InterfaceIndex = InterfaceIndex(2);

fn ip(text: &str) -> IpAddr {
    text.parse().unwrap()
}

fn tcp(port: u16) -> Subject {
    Subject::Port(Transport::Tcp, port)
}

/// A list whose machine has two interfaces.
fn brief(inbound: &str, rules: &[&str]) -> Brief {
    let rules: String = rules
        .iter()
        .zip(1..)
        .map(|(keys, n)| format!("[[rules]]\nname = \"rule-{n}\"\n{}\n", keys.replace("; ", "\n")))
        .collect();
    let text = format!(
        "version = 1\n[standing]\ninbound = \"{inbound}\"\noutbound = \"deny\"\n\
         transit = \"deny\"\n{rules}"
    );
    let mut brief = Brief::unplaced(&read(&text).unwrap_or_else(|f| panic!("{f}\n{text}")));
    brief.interfaces = vec![(LAN, "lan0".into()), (InterfaceIndex(3), "wan0".into())];
    brief
}

fn listener(transport: Transport, port: u16, address: &str, path: Option<&str>) -> Listener {
    let mut listener = Listener::of_root(transport, port, ip(address));
    let name = |path: &str| path.rsplit('/').next().unwrap().to_owned();
    let program = |path: &str| Program { pid: 7, name: name(path), path: Some(path.to_owned()) };
    listener.owner.programs.extend(path.map(program));
    listener
}

fn at() -> Arrival {
    Arrival { target: ip(OWN), interface: LAN }
}

fn outside(source: &str) -> Vantage {
    Vantage::outside(ip(source))
}

#[test]
fn what_is_looked_at_is_named_or_heard() {
    let of = |rules: &[&str], listeners: &[Listener]| -> BTreeSet<String> {
        let found = subjects(&brief("deny", rules), listeners);
        found.iter().map(ToString::to_string).collect()
    };
    let words = |text: &str| -> BTreeSet<String> { text.split(' ').map(str::to_owned).collect() };
    let all = "action = \"allow\"; traffic = \"tcp/*\"";
    let range = "action = \"allow\"; traffic = \"tcp/7400-7410\"";
    let telnet = "action = \"deny\"; traffic = \"tcp/23\"";
    // A whole protocol names no port.
    assert_eq!(of(&[all], &[]), words("udp/23"));
    // The sample is what nobody listens on and no rule names.
    assert_eq!(of(&[], &[]), words("tcp/23 udp/23"));
    assert_eq!(of(&[telnet], &[]), words("tcp/23 tcp/445 udp/23"));
    let heard = [listener(Transport::Tcp, 23, "0.0.0.0", None)];
    assert_eq!(of(&[], &heard), words("tcp/23 tcp/445 udp/23"));
    // Of a range its first port, unless one of them is heard, by that transport.
    assert_eq!(of(&[range], &[]), words("tcp/23 tcp/7400 udp/23"));
    let camera = [listener(Transport::Udp, 7405, "0.0.0.0", None)];
    assert_eq!(of(&[range], &camera), words("tcp/23 tcp/7400 udp/23 udp/7405"));
    let dome = [listener(Transport::Tcp, 7405, "0.0.0.0", None)];
    assert_eq!(of(&[range], &dome), words("tcp/23 tcp/7405 udp/23"));
}

#[test]
fn a_rule_by_program_means_who_listens() {
    let brief = brief(
        "deny",
        &["action = \"allow\"; traffic = \"tcp/7410\"; program = \"/usr/sbin/plated\""],
    );
    let meant = |path: Option<&str>| {
        let listeners = [listener(Transport::Tcp, 7410, "0.0.0.0", path)];
        expected(&brief, Some(&listeners), tcp(7410), &outside(FRIEND), at())
    };
    assert_eq!(meant(Some("/usr/sbin/plated")), (Answers, "rule 1 (rule-1)".into()));
    assert_eq!(meant(Some("/usr/sbin/domed")).0, Silent);
    assert_eq!(meant(None).0, Silent);
    // The same in what it may send.
    let out = "action = \"allow\"; traffic = \"tcp/443\"; direction = \"outbound\"; \
               program = \"/usr/sbin/plated\"";
    let brief = self::brief("deny", &[out]);
    let judged = |program: ProgramIndex| {
        let wanted = Wanted {
            direction: Direction::Outbound,
            subject: tcp(443),
            source: ip("0.0.0.0"),
            destination: ip("203.0.113.9"),
            comes_in: None,
            leaves: None,
            program,
        };
        Crossing::judge(&brief, &wanted, Met::NotTried, &Word::NoGate, false)
    };
    let plated = judged(brief.program_index("/usr/sbin/plated"));
    assert_eq!(plated.expected_by, "rule 1 (rule-1)");
    assert_eq!(judged(ProgramIndex::OTHER).expected_by, "the standing answer outbound");
    // Which own address it would be is not known; one that is known is told.
    assert_eq!(serde_json::to_value(&plated).unwrap()["source"], serde_json::Value::Null);
    let known = Crossing { source: ip(OWN), ..plated };
    assert_eq!(serde_json::to_value(&known).unwrap()["source"], OWN);
}

#[test]
fn here_a_port_answers_where_a_rule_means_it_or_somebody_listens() {
    let rules = [
        "action = \"deny\"; traffic = \"tcp/7499\"",
        "action = \"allow\"; traffic = \"tcp/7410\"; accepted = \"not-reached: spare\"",
    ];
    let brief = brief("deny", &rules);
    let bound = [listener(Transport::Tcp, 7499, "0.0.0.0", None)];
    let here = |subject| expected(&brief, Some(&bound), subject, &Vantage::Here, at());
    assert_eq!(here(tcp(7410)), (Answers, "rule 2 (rule-2)".into()));
    assert_eq!(here(tcp(7499)), (Answers, "its own listener".into()));
    assert_eq!(here(tcp(7498)), (Refuses, "nobody".into()));
    assert_eq!(here(Subject::Echo), (Answers, "the kernel itself".into()));
    // A published port is somebody else's: this host's own loopback refuses it.
    let seen = |vantage: &Vantage, outcome, published: &[Subject]| {
        let observed = Observed { outcome, how: How::Wire, ..Observed::unknown("") };
        let around = CellContext { published, ..CellContext::plain(&brief, Some(&bound)) };
        cell(tcp(7410), vantage, at(), observed, &around)
    };
    let refused = seen(&Vantage::Here, Refuses, &[]);
    assert_eq!(refused.accepted.as_deref(), Some("spare"));
    let published = seen(&Vantage::Here, Refuses, &[tcp(7410)]);
    assert_eq!((published.expected, published.accepted), (Refuses, None));
    assert!(!seen(&Vantage::Here, Answers, &[tcp(7410)]).differs());
    assert_eq!(seen(&outside(FRIEND), Refuses, &[tcp(7410)]).expected, Answers);
}

#[test]
fn only_a_rule_before_the_one_that_decides_can_decide_elsewhere() {
    let desk = Vantage::Machine { name: "desk-3".into(), source: ip(FRIEND) };
    let meant = |rules: &[&str]| expected(&brief("deny", rules), None, tcp(7410), &desk, at());
    let plain = "action = \"allow\"; traffic = \"tcp/7410\"";
    let other = "action = \"deny\"; traffic = \"tcp/7410\"; interface = \"wan0\"";
    assert_eq!(meant(&[plain, other]).0, Answers);
    let (outcome, by) = meant(&[other, plain]);
    assert_eq!(
        (outcome, &*by),
        (Unknown, "rule 1 (rule-1) depends on interfaces or programs there")
    );
    // A whole protocol means no port, though another item of another transport names it.
    let mixed = brief("deny", &["action = \"allow\"; traffic = [\"udp/7410\", \"tcp/*\"]"]);
    assert_eq!(expected(&mixed, Some(&[]), tcp(7410), &outside(FRIEND), at()).0, Refuses);
}

#[test]
fn many_rules_have_tables() {
    let one = "action = \"allow\"; traffic = \"tcp/7410\"";
    assert!(tables_of_many(&brief("deny", &vec![one; 255])).is_none());
    assert!(tables_of_many(&brief("deny", &vec![one; 256])).is_some());
}

/// Where it listens instead, and who.
#[test]
fn what_listens_elsewhere_is_told() {
    let why = |rules: &[&str], vantage: &Vantage, listeners: &[Listener], outcome| {
        let brief = brief("deny", rules);
        let observed = Observed { outcome, how: How::Wire, ..Observed::unknown("") };
        let around = CellContext::plain(&brief, Some(listeners));
        cell(tcp(7410), vantage, at(), observed, &around).why
    };
    let plain = "action = \"allow\"; traffic = \"tcp/7410\"";
    let friend = outside(FRIEND);
    let on = |device: &str| Listener {
        device: Some(device.into()),
        ..listener(Transport::Tcp, 7410, "0.0.0.0", None)
    };
    let other = |device: &str| Some(Why::OtherDevice { device: device.into() });
    assert_eq!(why(&[plain], &friend, &[on("lan0")], Silent), Some(Why::NoAnswer));
    assert_eq!(why(&[plain], &friend, &[on("wan0")], Refuses), other("wan0"));
    assert_eq!(why(&[plain], &Vantage::Here, &[on("lan0")], Refuses), Some(Why::NoAnswer));
    let both = [listener(Transport::Tcp, 7410, "198.51.100.21", None), on("wan0")];
    assert_eq!(why(&[plain], &friend, &both, Refuses), other("wan0"));
    let address = Some(Why::OtherAddress { address: ip("198.51.100.21") });
    assert_eq!(why(&[plain], &friend, &both[..1], Refuses), address);
    let queue = |waiting| Listener {
        queue: Some((waiting, 128)),
        ..listener(Transport::Tcp, 7410, "0.0.0.0", None)
    };
    assert_eq!(why(&[plain], &friend, &[queue(128)], Silent), Some(Why::NoAnswer));
    assert_eq!(why(&[plain], &friend, &[queue(129)], Silent), Some(Why::QueueFull));
    // Who was meant: a slip away, of that transport, and nobody whom a rule lets in there.
    let instead =
        |rules: &[&str], listeners: &[Listener]| match why(rules, &friend, listeners, Refuses) {
            Some(Why::NothingListens { instead }) => instead,
            why => panic!("{why:?}"),
        };
    let domed = |transport, port| listener(transport, port, "0.0.0.0", Some("/usr/sbin/domed"));
    let slip = [domed(Transport::Tcp, 7401)];
    assert_eq!(instead(&[plain], &slip).as_deref(), Some("domed on tcp/7401"));
    assert_eq!(instead(&[plain], &[domed(Transport::Udp, 7401)]), None);
    assert_eq!(instead(&[plain], &[domed(Transport::Tcp, 9999)]), None);
    let own = "action = \"allow\"; traffic = \"tcp/7401\"";
    assert_eq!(instead(&[plain, own], &slip), None);
    let denied = "action = \"deny\"; traffic = \"tcp/7401\"";
    assert_eq!(instead(&[plain, denied], &slip).as_deref(), Some("domed on tcp/7401"));
    // Or whoever the rule names, wherever that listens.
    let by_program = |action: &str, traffic: &str| {
        format!("action = \"{action}\"; traffic = \"{traffic}\"; program = \"/usr/sbin/domed\"")
    };
    let far = [domed(Transport::Tcp, 9999)];
    let named = by_program("allow", "tcp/7410");
    assert_eq!(instead(&[&named, plain], &far).as_deref(), Some("domed on tcp/9999"));
    for (action, traffic) in [("deny", "tcp/7410"), ("allow", "any"), ("allow", "tcp/7411")] {
        assert_eq!(
            instead(&[&by_program(action, traffic), plain], &far),
            None,
            "{action} {traffic}"
        );
    }
}

fn planned(rules: &[&str], listeners: &[Listener], known: &[&str]) -> Plan {
    let known: Vec<IpAddr> = known.iter().map(|text| ip(text)).collect();
    let own = [ip(OWN), ip("198.51.100.21"), ip("2001:db8:51::20")];
    let mut way = |source: IpAddr| {
        let target = if source.is_ipv4() { own[0] } else { own[2] };
        Some(Arrival { target, interface: LAN })
    };
    plan(&brief("deny", rules), listeners, &mut way, &own, &known)
}

#[test]
fn whoever_is_there_shows_a_rule_where_somebody_listens() {
    let one = "action = \"allow\"; traffic = [\"tcp/7400-7410\", \"udp/7400-7410\"]; \
               source = [\"203.0.113.0/28\", \"203.0.113.128/28\"]";
    let shown = |plan: &Plan| {
        let of_one = plan.shown.iter().find(|(rule, _)| rule.is_some()).unwrap();
        (of_one.1.source.to_string(), of_one.1.subject.to_string())
    };
    let quiet = planned(&[one], &[], &[]);
    assert_eq!(shown(&quiet).1, "tcp/7400");
    let camera = [listener(Transport::Udp, 7405, "0.0.0.0", None)];
    assert_eq!(shown(&planned(&[one], &camera, &[])).1, "udp/7405");
    // One that takes no packets there shows no more than another port.
    let elsewhere = [listener(Transport::Udp, 7405, "127.0.0.1", None)];
    assert_eq!(shown(&planned(&[one], &elsewhere, &[])).1, "tcp/7400");
    let other = [listener(Transport::Udp, 9, "0.0.0.0", None)];
    assert_eq!(shown(&planned(&[one], &other, &[])).1, "tcp/7400");
    // Somebody who is there, of whichever of its ranges, and no second one in its place.
    assert_eq!(shown(&planned(&[one], &[], &["203.0.113.130"])).0, "203.0.113.130");
    assert_eq!(shown(&planned(&[one], &[], &["203.0.113.3"])).0, "203.0.113.3");
    assert_eq!(shown(&quiet).0, "203.0.113.135");
    let two = planned(&[one], &[], &["203.0.113.130", "203.0.113.3"]);
    assert_eq!(shown(&two).0, "203.0.113.130");
    assert_eq!(
        two.sources.iter().filter(|source| source.to_string().starts_with("203.0.113.")).count(),
        1
    );
    assert_eq!(shown(&two).0, shown(&planned(&[one], &[], &["203.0.113.3", "203.0.113.130"])).0);
}

#[test]
fn each_rule_that_cannot_be_shown_says_why() {
    let why = |rule: &str| {
        let plan = planned(&[rule], &[], &[]);
        plan.not_shown.first().map(|(_, why)| *why)
    };
    assert_eq!(why("action = \"allow\"; traffic = \"tcp/7410\""), None);
    assert_eq!(
        why("action = \"allow\"; traffic = \"protocol/47\""),
        Some("its traffic cannot be probed")
    );
    let program = "action = \"allow\"; traffic = \"tcp/7410\"; program = \"/usr/sbin/plated\"";
    assert_eq!(why(program), Some("no program that it names listens there"));
    let heard = [listener(Transport::Tcp, 7410, "0.0.0.0", Some("/usr/sbin/plated"))];
    assert!(planned(&[program], &heard, &[]).not_shown.is_empty());
    let interface = "action = \"allow\"; traffic = \"tcp/7410\"; interface = \"wan0\"";
    assert!(why(interface).unwrap().starts_with("it names an interface"));
    let loopback = "action = \"allow\"; traffic = \"tcp/7410\"; source = \"127.0.0.0/8\"";
    assert!(why(loopback).unwrap().starts_with("rules above it already match"));
    // An own address that only a rule names is looked at.
    let own = "action = \"allow\"; traffic = \"tcp/7410\"; destination = \"198.51.100.21\"";
    assert_eq!(why(own), None);
    let six = "action = \"allow\"; traffic = \"tcp/7410\"; destination = \"2001:db8:51::20\"";
    assert_eq!(why(six), None);
    // Port 0 stands for those behind it.
    let plan = planned(&["action = \"allow\"; traffic = \"tcp/*\""], &[], &[]);
    assert!(plan.shown.iter().all(|(_, knock)| knock.subject != tcp(0)), "{plan:?}");
    assert!(plan.shown.iter().any(|(rule, knock)| rule.is_some() && knock.subject == tcp(1)));
    // More rules than bits of a word are told apart.
    let many: Vec<String> = (0..130)
        .map(|n| format!("action = \"allow\"; traffic = \"tcp/{}\"", 1000 + n * 2))
        .collect();
    let many: Vec<&str> = many.iter().map(String::as_str).collect();
    assert!(planned(&many, &[], &[]).not_shown.is_empty());
    // Two programs on ports that the same rules are about are both looked at.
    let both = [
        listener(Transport::Tcp, 7410, "0.0.0.0", Some("/usr/sbin/plated")),
        listener(Transport::Tcp, 7411, "0.0.0.0", Some("/usr/sbin/domed")),
    ];
    let range = |program: &str| {
        format!("action = \"allow\"; traffic = \"tcp/7400-7420\"; program = \"{program}\"")
    };
    let plan = planned(&[&range("/usr/sbin/plated"), &range("/usr/sbin/domed")], &both, &[]);
    assert!(plan.not_shown.is_empty(), "{plan:?}");
}

#[test]
fn a_source_is_an_address_that_packets_can_have() {
    let of = |text: &str| {
        let range = AddressRange::parse(text).unwrap();
        typical(&AddressSet::from_ranges(&[range]), &[], &[]).first().map(ToString::to_string)
    };
    for nobody in [
        "0.0.0.0",
        "0.1.2.3",
        "127.0.0.1",
        "224.0.0.1",
        "240.0.0.1",
        "255.255.255.255",
        "::",
        "::1",
        "ff02::1",
        "fe80::1",
    ] {
        assert_eq!(of(nobody), None, "{nobody}");
    }
    for (range, member) in [
        ("198.51.100.1", "198.51.100.1"),
        ("203.0.113.0/24", "203.0.113.127"),
        ("203.0.113.0/25", "203.0.113.63"),
        ("2001:db8:51::/48", "2001:db8:51::9"),
        ("2001:db8:51::-2001:db8:51::4", "2001:db8:51::4"),
    ] {
        assert_eq!(of(range).as_deref(), Some(member), "{range}");
    }
    let small = AddressSet::from_ranges(&[AddressRange::parse("2001:db8:51::/124").unwrap()]);
    assert_eq!(typical(&small, &[ip("2001:db8:51::9")], &[]), [ip("2001:db8:51::7")]);
    let two = AddressSet::from_ranges(
        &["203.0.113.0/25", "198.51.100.0/25"].map(|text| AddressRange::parse(text).unwrap()),
    );
    let known = [ip("203.0.113.9")];
    assert_eq!(typical(&two, &[], &known), [ip("198.51.100.63"), ip("203.0.113.9")]);
}

fn row(port: u16, last: Option<u16>, outcome: Outcome) -> Row {
    let cell = Cell {
        expected: Silent,
        expected_by: "the standing answer inbound".into(),
        observed: Observed { outcome, how: How::Wire, ..Observed::unknown("") },
        why: None,
        next: None,
        accepted: None,
    };
    Row {
        subject: tcp(port),
        last,
        at: None,
        programs: vec![],
        heard: false,
        cells: vec![Some(cell)],
    }
}

fn report(rows: Vec<Row>) -> Report {
    let hash = OrdersHash::digest(Documents { text: "", attachments: &Attachments::default() });
    let checked = tipstaff_core::analysis::reach::Checked {
        host: "archive".into(),
        orders: Origin::File { path: "orders.toml".into(), hash },
        gate: "up".into(),
        at: Moment(0),
    };
    Report::new(checked, vec![outside("192.0.2.66")], rows)
}

#[test]
fn a_report_counts_what_is_unknown_and_what_does_not_hold() {
    let fine = report(vec![row(22, None, Silent)]);
    let doubt = report(vec![row(22, None, Silent), row(23, Some(25), Unknown)]);
    assert_eq!((fine.unknown, doubt.unknown), (0, 3));
    let shown =
        |holds| Shown { rule: "rule 1 (rule-1)".into(), by: None, outcome: None, holds, why: None };
    let with = |holds| Report { rules: vec![shown(holds)], ..fine.clone() };
    assert!(with(Some(true)).is_fine() && with(None).is_fine() && !with(Some(false)).is_fine());
    // Too few in a row stay rows of their own.
    let mut few = report((40..43).map(|port| row(port, None, Silent)).collect());
    few.gather(SEVERAL);
    assert_eq!(few.rows.len(), 3);
    assert!(few.rows.iter().all(|row| row.last.is_none()));
}

#[test]
fn a_few_ports_that_change_are_told_one_by_one() {
    let all = |ports: std::ops::Range<u16>, outcome| {
        report(ports.map(|p| row(p, None, outcome)).collect())
    };
    let found = |to| changes(&all(40..to, Silent), &all(40..to, Refuses));
    let told = |to| found(to).others.iter().map(|change| change.describe()).collect::<Vec<_>>();
    assert_eq!(told(43), ["tcp/40", "tcp/41", "tcp/42"]);
    assert_eq!(told(44), ["tcp/40-43"]);
    // Each kind of change is one.
    assert!(!found(43).is_empty());
    assert!(!changes(&all(40..41, Silent), &all(40..41, Answers)).is_empty());
    assert!(!changes(&all(40..41, Answers), &all(40..41, Silent)).is_empty());
    assert!(changes(&all(40..41, Silent), &all(40..41, Silent)).is_empty());
}
