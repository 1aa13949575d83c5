use super::super::Said;
use super::*;
use crate::decision::Decision;
use crate::orders::read;

const ORDERS: &str = r#"version = 1
[standing]
inbound = "deny"
outbound = "allow"
transit = "deny"
[[rules]]
name = "dome"
action = "allow"
traffic = ["tcp/7410", "udp/7420-7423", "icmp/echo"]
source = "198.51.100.0/24"
"#;
const OWN: &str = "198.51.100.20";

fn listener(port: u16, address: &str) -> Listener {
    Listener::of_root(Transport::Tcp, port, address.parse().unwrap())
}

fn seen(outcome: Outcome) -> Observed {
    let target = Some(OWN.parse().unwrap());
    Observed { outcome, how: How::Wire, target, ..Observed::unknown("") }
}

#[test]
fn subjects_are_listeners_named_ports_and_a_sample() {
    let brief = Brief::unplaced(&read(ORDERS).unwrap());
    let names = |listeners: &[Listener]| -> Vec<String> {
        subjects(&brief, listeners).iter().map(ToString::to_string).collect()
    };
    let all = ["tcp/22", "tcp/23", "tcp/7410", "udp/23", "udp/7420", "icmp/echo"];
    assert_eq!(names(&[listener(22, "::")]), all);
    // A range is not accused of its unused ports.
    let mut camera = listener(7422, "::");
    camera.transport = Transport::Udp;
    assert_eq!(names(&[camera]), ["tcp/23", "tcp/7410", "udp/23", "udp/7422", "icmp/echo"]);
}

#[test]
fn neighbours_are_meant_each_and_of_a_range_what_listens() {
    let expected = |traffic: &str, port: u16, listeners: &[Listener]| {
        let brief = Brief::unplaced(&read(&ORDERS.replace("\"tcp/7410\"", traffic)).unwrap());
        let vantage = Vantage::outside("198.51.100.23".parse().unwrap());
        let at = Arrival { target: OWN.parse().unwrap(), interface: InterfaceIndex(2) };
        let subject = Subject::Port(Transport::Tcp, port);
        assert!(subjects(&brief, listeners).contains(&subject) || port == 7412, "{traffic}");
        super::expected(&brief, Some(listeners), subject, &vantage, at).0
    };
    use Outcome::{Answers, Refuses};
    let loopback = [listener(7410, "127.0.0.1"), listener(7411, "0.0.0.0")];
    for port in [7410, 7411] {
        assert_eq!(expected(r#""tcp/7410", "tcp/7411""#, port, &loopback), Answers);
        assert_eq!(expected(r#""tcp/7410-7411""#, port, &loopback), Answers);
    }
    assert_eq!(expected(r#""tcp/7410-7412""#, 7412, &loopback), Refuses);
    assert_eq!(expected(r#""tcp/*""#, 7410, &loopback), Refuses);
    assert_eq!(expected(r#""tcp/7410-7412""#, 7410, &[]), Answers);
    assert_eq!(expected(r#""tcp/7410-7412""#, 7412, &[]), Refuses);
}

const DOME: Subject = Subject::Port(Transport::Tcp, 7410);

fn described(source: &str, outcome: Outcome, around: &CellContext<'_>) -> String {
    let vantage = Vantage::outside(source.parse().unwrap());
    let at = Arrival { target: OWN.parse().unwrap(), interface: InterfaceIndex(2) };
    let cell = cell(DOME, &vantage, at, seen(outcome), around);
    assert_eq!(cell.why.is_some(), cell.next.is_some());
    cell.why.map(|w| w.to_string()).unwrap_or_default()
}

#[test]
fn what_listens_elsewhere_or_nowhere_is_told_apart() {
    let brief = Brief::unplaced(&read(ORDERS).unwrap());
    let refused = |listeners: &[Listener]| {
        described("198.51.100.23", Outcome::Refuses, &CellContext::plain(&brief, Some(listeners)))
    };
    assert_eq!(refused(&[]), "nothing listens on it");
    let mut slip = listener(7401, "0.0.0.0");
    let path = Some("/usr/sbin/domed".to_owned());
    slip.owner.programs =
        vec![crate::host::listener::Program { pid: 7, name: "domed".into(), path }];
    assert_eq!(refused(&[slip]), "nothing listens on it; domed on tcp/7401 does");
    assert_eq!(refused(&[listener(7410, "127.0.0.1")]), "listens on loopback only");
    assert_eq!(refused(&[listener(7410, "198.51.100.21")]), "listens on 198.51.100.21 only");
    let mut device = listener(7410, "0.0.0.0");
    device.device = Some("lan9".into());
    assert_eq!(refused(&[device]), "listens on the interface lan9 only");
}

#[test]
fn what_a_rule_accepts_is_no_difference() {
    let accepting = |code: &str| {
        let accepted = format!("accepted = [\"{code}: spare ports\"]\nsource =");
        Brief::unplaced(&read(&ORDERS.replace("source =", &accepted)).unwrap())
    };
    let seen_by = |brief: &Brief, source: &str, listeners: &[Listener], outcome| {
        let around = CellContext::plain(brief, Some(listeners));
        let vantage = Vantage::outside(source.parse().unwrap());
        let at = Arrival { target: OWN.parse().unwrap(), interface: InterfaceIndex(2) };
        cell(DOME, &vantage, at, seen(outcome), &around)
    };
    let (friend, stranger) = ("198.51.100.23", "192.0.2.66");
    let inside = [listener(7410, "127.0.0.1")];
    let all = accepting("not-reached");
    let refused = seen_by(&all, friend, &inside, Outcome::Refuses);
    assert!(!refused.differs() && refused.next.is_none(), "{refused:?}");
    assert_eq!(refused.accepted.as_deref(), Some("spare ports"));
    // Only that it does not answer is accepted, not that strangers are.
    assert!(seen_by(&all, stranger, &inside, Outcome::Answers).differs());
    let nobody = accepting("nothing-listens");
    assert!(!seen_by(&nobody, friend, &[], Outcome::Refuses).differs());
    assert!(seen_by(&nobody, friend, &inside, Outcome::Refuses).differs());
}

#[test]
fn what_is_let_in_and_bound_elsewhere_is_told_though_nothing_differs() {
    let open = ORDERS.replace("inbound = \"deny\"", "inbound = \"allow\"");
    let brief = Brief::unplaced(&read(&open.replace("tcp/7410", "tcp/7411-7419")).unwrap());
    let vantage = Vantage::outside("192.0.2.66".parse().unwrap());
    let why = |outcome, listeners: &[Listener]| {
        let around = CellContext::plain(&brief, Some(listeners));
        let at = Arrival { target: OWN.parse().unwrap(), interface: InterfaceIndex(2) };
        let cell = cell(DOME, &vantage, at, seen(outcome), &around);
        assert!(!cell.differs());
        cell.why
    };
    let inside = listener(7410, "127.0.0.1");
    assert_eq!(
        why(Outcome::Refuses, std::slice::from_ref(&inside)),
        Some(super::super::Why::LoopbackOnly)
    );
    assert_eq!(why(Outcome::Refuses, &[]), None);
    assert_eq!(why(Outcome::Answers, &[inside, listener(7410, OWN)]), None);
}

#[test]
fn every_difference_has_its_reason() {
    const FRIEND: &str = "198.51.100.23";
    const STRANGER: &str = "192.0.2.66";
    use Outcome::{Answers, Refuses, Silent, Unknown};
    let brief = Brief::unplaced(&read(ORDERS).unwrap());
    let said = |verdict, speaker, by: &str| Said {
        decision: Decision { verdict, speaker },
        by: by.to_owned(),
    };
    let standing = Speaker::Standing(Direction::Inbound);
    let denied = said(Action::Deny, standing, "the standing answer inbound");
    let beyond = Speaker::Beyond(RuleIndex(0));
    let used_up = said(Action::Deny, beyond, "the rate of rule 1 (dome)");
    let allowed = said(Action::Allow, Speaker::Rule(RuleIndex(0)), "rule 1 (dome)");
    let everywhere = [listener(7410, "0.0.0.0")];
    let plain = CellContext::plain(&brief, Some(&everywhere));
    let cases: [(&str, Outcome, CellContext<'_>, &str); 11] = [
        (FRIEND, Answers, plain, ""),
        (STRANGER, Silent, plain, ""),
        (STRANGER, Unknown, plain, ""),
        (
            FRIEND,
            Silent,
            CellContext { gate: Some(&denied), ..plain },
            "the gate denied it by the standing answer inbound",
        ),
        (
            FRIEND,
            Silent,
            CellContext { gate: Some(&denied), other_orders: true, ..plain },
            "other orders are in force, in which the standing answer inbound decides",
        ),
        (
            FRIEND,
            Silent,
            CellContext { gate: Some(&used_up), ..plain },
            "this source has exceeded the rate of rule 1 (dome)",
        ),
        (
            FRIEND,
            Silent,
            CellContext {
                gate: Some(&allowed),
                came_in: Some(false),
                others: &["sieve".to_owned()],
                ..plain
            },
            "the program sieve at the interface stopped it, not the gate",
        ),
        (
            STRANGER,
            Answers,
            CellContext { gate: Some(&denied), ..plain },
            "another program at the interface let it in before the gate",
        ),
        (STRANGER, Answers, plain, "denied by the orders, but the gate is not loaded"),
        (STRANGER, Refuses, plain, "denied by the orders, but the gate is not loaded"),
        (
            FRIEND,
            Refuses,
            CellContext { stopped: &[DOME], ..plain },
            "it listened when the check began, and no longer does",
        ),
    ];
    for (source, outcome, around, expected) in cases {
        assert_eq!(described(source, outcome, &around), expected);
    }
    let mut full = listener(7410, "0.0.0.0");
    full.queue = Some((129, 128));
    let full = [full];
    let full = CellContext::plain(&brief, Some(&full));
    assert_eq!(described(FRIEND, Silent, &full), "the program's accept queue is full");
    let astray = CellContext { not_the_way_back: true, ..full };
    assert!(described(FRIEND, Silent, &astray).contains("uses another interface"));
    let far = CellContext { listeners: None, ..plain };
    assert!(described(FRIEND, Refuses, &far).contains("from another machine"));
}

#[test]
fn of_another_machine_only_what_the_orders_say_is_expected() {
    let by_interface = ORDERS.replace(
        "[[rules]]",
        "[[rules]]\nname = \"inside\"\naction = \"deny\"\ntraffic = \"tcp/7410\"\ninterface \
         = \"lan1\"\n[[rules]]",
    );
    let machine =
        Vantage::Machine { name: "desk-3".into(), source: "198.51.100.23".parse().unwrap() };
    let at = Arrival { target: OWN.parse().unwrap(), interface: InterfaceIndex(0) };
    let expected =
        |text: &str| expected(&Brief::unplaced(&read(text).unwrap()), None, DOME, &machine, at).0;
    assert_eq!(expected(ORDERS), Outcome::Answers);
    assert_eq!(expected(&by_interface), Outcome::Unknown);
    let open = ORDERS.replace("inbound = \"deny\"", "inbound = \"allow\"");
    assert_eq!(expected(&open.replace("tcp/7410", "tcp/7411")), Outcome::Unknown);
}

#[test]
fn a_published_port_is_open_and_named_as_such() {
    let open = ORDERS.replace(r#"inbound = "deny""#, r#"inbound = "allow""#);
    let vantage = Vantage::outside("192.0.2.9".parse().unwrap());
    let at = Arrival { target: OWN.parse().unwrap(), interface: InterfaceIndex(2) };
    let cell = |orders: &str, listeners: &[Listener], outcome| {
        let brief = Brief::unplaced(&read(orders).unwrap());
        cell(DOME, &vantage, at, seen(outcome), &CellContext::plain(&brief, Some(listeners)))
    };
    for bound in [vec![], vec![listener(7410, "127.0.0.1")]] {
        let published = cell(&open, &bound, Outcome::Answers);
        assert!(!published.differs(), "{published:?}");
        assert!(published.why.is_none());
        assert!(published.observed.remark.unwrap().starts_with("published: no program"));
    }
    let denied = cell(ORDERS, &[], Outcome::Answers);
    assert_eq!(denied.why, Some(Why::NotInForce));
    assert!(denied.observed.remark.is_some(), "who answers is to be known there too");
    let own = cell(&open, &[listener(7410, "0.0.0.0")], Outcome::Answers);
    assert_eq!(own.observed.remark, None);
    assert!(cell(&open, &[], Outcome::Refuses).observed.remark.is_none());
}
