//! Why a cell differs: every combination of what was meant, what was seen and what the
//! gate in force says has a reason, and none that contradicts what is known.

#![allow(clippy::unwrap_used)]

use std::fmt::Write as _;
use std::net::IpAddr;

use tipstaff_core::analysis::reach::{
    Arrival, Cell, CellContext, How, Observed, Outcome, Said, Subject, Vantage, Why, cell,
};
use tipstaff_core::brief::{Brief, RuleIndex};
use tipstaff_core::decision::{Decision, Speaker};
use tipstaff_core::host::listener::Listener;
use tipstaff_core::names::traffic::Transport;
use tipstaff_core::orders::{Action, read};
use tipstaff_core::packet::{Direction, InterfaceIndex};

use Outcome::{Answers, Refuses, Silent};

const ORDERS: &str = r#"version = 1
[standing]
inbound = "deny"
outbound = "allow"
transit = "deny"
[[rules]]
name = "dome"
action = "allow"
traffic = ["tcp/7410", "icmp/echo"]
source = "198.51.100.0/24"
[[rules]]
name = "visitors"
action = "refuse"
traffic = "tcp/7410"
source = "203.0.113.0/24"
[[rules]]
name = "guests"
action = "allow"
traffic = "tcp/*"
source = "192.0.2.128/25"
"#;
const DOME: Subject = Subject::Port(Transport::Tcp, 7410);
/// From here it is meant to answer, to refuse, to be silent, and to do what is there.
const SOURCES: [(&str, &str); 4] = [
    ("answers", "198.51.100.23"),
    ("refuses", "203.0.113.9"),
    ("silent", "192.0.2.66"),
    ("what is there", "192.0.2.200"),
];

fn listener(address: &str) -> Listener {
    Listener::of_root(Transport::Tcp, 7410, address.parse().unwrap())
}

/// What the gate may say: nothing, as it is not loaded, or one of these.
fn words() -> Vec<(&'static str, Option<Said>)> {
    let said = |verdict, speaker, by: &str| {
        Some(Said { decision: Decision { verdict, speaker }, by: by.to_owned() })
    };
    let standing = Speaker::Standing(Direction::Inbound);
    let rate = Speaker::Beyond(RuleIndex(0));
    vec![
        ("no gate", None),
        ("allow", said(Action::Allow, Speaker::Rule(RuleIndex(0)), "rule 1 (dome)")),
        ("deny", said(Action::Deny, standing, "the standing answer inbound")),
        ("refuse", said(Action::Refuse, Speaker::Rule(RuleIndex(1)), "rule 2 (visitors)")),
        ("beyond, deny", said(Action::Deny, rate, "the rate of rule 1 (dome)")),
        ("beyond, refuse", said(Action::Refuse, rate, "the rate of rule 1 (dome)")),
    ]
}

fn judged(subject: Subject, vantage: &Vantage, seen: Outcome, around: &CellContext<'_>) -> Cell {
    let target: IpAddr = "198.51.100.20".parse().unwrap();
    let at = Arrival { target, interface: InterfaceIndex(2) };
    let seen =
        Observed { outcome: seen, how: How::Wire, target: Some(target), ..Observed::unknown("") };
    cell(subject, vantage, at, seen, around)
}

fn outside(source: &str) -> Vantage {
    Vantage::outside(source.parse().unwrap())
}

/// A reason may say only what is known.
fn assert_true(why: &Why, cell: &Cell, around: &CellContext<'_>) {
    let said = around.gate.map(|said| said.decision);
    let verdict = said.map(|decision| decision.verdict);
    let beyond = matches!(said.map(|d| d.speaker), Some(Speaker::Beyond(_)));
    let seen = cell.observed.outcome;
    let told = format!("{why:?} of {cell:?}, gate {said:?}, other {}", around.other_orders);
    let holds = match why {
        Why::OtherOrders { .. } => said.is_some() && around.other_orders,
        Why::DecidesOtherwise { .. } => said.is_some() && !around.other_orders,
        Why::DeniedByGate { .. } => verdict == Some(Action::Deny) && seen == Silent,
        Why::RefusedByGate { .. } => verdict == Some(Action::Refuse) && seen != Answers,
        Why::BeyondRate { .. } => beyond && seen != Answers,
        Why::NotInForce => said.is_none() && cell.expected != Answers,
        Why::PassedByAnother { .. } => {
            matches!(verdict, Some(Action::Deny | Action::Refuse)) && seen != Silent
        }
        Why::StoppedByAnother { .. } => around.came_in == Some(false) && seen == Silent,
        Why::RefusalLost => cell.expected == Refuses && seen == Silent,
        Why::Started => cell.expected == Refuses && seen == Answers,
        Why::NotTheWayBack => around.not_the_way_back && seen == Silent,
        Why::NotFromHere => around.listeners.is_none(),
        _ => cell.expected == Answers && around.listeners.is_some(),
    };
    assert!(holds, "{told}");
}

#[test]
fn every_combination_has_its_reason() {
    let brief = Brief::unplaced(&read(ORDERS).unwrap());
    let bound = [listener("0.0.0.0")];
    let mut table = String::new();
    for (meant, source) in SOURCES {
        // Of what listens everywhere nothing is meant that it does not do.
        let listeners: &[Listener] = if meant == "what is there" { &[] } else { &bound };
        for seen in [Answers, Refuses, Silent] {
            for (word, said) in words() {
                for other_orders in [false, true] {
                    if said.is_none() && other_orders {
                        continue;
                    }
                    let plain = CellContext::plain(&brief, Some(listeners));
                    let gate = said.as_ref();
                    let around = CellContext { gate, other_orders, ..plain };
                    let cell = judged(DOME, &outside(source), seen, &around);
                    let Some(why) = &cell.why else {
                        continue;
                    };
                    assert_true(why, &cell, &around);
                    let other = if other_orders { " by other orders" } else { "" };
                    let asked = format!("{word}{other}");
                    writeln!(table, "{meant:13} · {seen:7} · {asked:30} · {why}").unwrap();
                }
            }
        }
    }
    insta::assert_snapshot!(table);
}

/// What is said and what to do next, in a line.
fn told(subject: Subject, vantage: &Vantage, seen: Outcome, around: &CellContext<'_>) -> String {
    let cell = judged(subject, vantage, seen, around);
    let (Some(why), Some(next)) = (&cell.why, &cell.next) else { return String::new() };
    assert_true(why, &cell, around);
    format!("{why} → {next}")
}

#[test]
fn what_else_is_known_explains_more() {
    let brief = Brief::unplaced(&read(ORDERS).unwrap());
    let bound = [listener("0.0.0.0")];
    let plain = CellContext::plain(&brief, Some(&bound));
    let words = words();
    let allowed = CellContext { gate: words[1].1.as_ref(), ..plain };
    let friend = outside("198.51.100.23");
    let sieve = ["sieve".to_owned()];
    let stopped = CellContext { came_in: Some(false), others: &sieve, ..allowed };
    let astray = CellContext { not_the_way_back: true, ..allowed };
    let port = |around: &CellContext<'_>| told(DOME, &friend, Silent, around);
    assert_eq!(
        port(&stopped),
        "the program sieve at the interface stopped it, not the gate → tipstaff state names the \
         programs at each interface"
    );
    assert!(port(&CellContext { not_the_way_back: true, ..stopped }).contains("sieve"));
    assert!(port(&astray).contains("uses another interface → check the routes"));
    assert!(port(&CellContext { came_in: Some(true), ..allowed }).contains("nothing stopped it"));
    assert!(port(&allowed).ends_with("check the program; the gate is not the cause"));
    // The same of a refusal that is due, as nothing listens.
    let nobody: &[Listener] = &[];
    let guest = outside("192.0.2.200");
    for around in [stopped, astray] {
        let alone = CellContext { listeners: Some(nobody), ..around };
        let said = told(DOME, &guest, Silent, &alone);
        assert_eq!(said, port(&around), "{said}");
    }
    // Echo requests are nobody's but the kernel's.
    assert!(told(Subject::Echo, &friend, Silent, &allowed).contains("echo_ignore_all"));
    // Somebody else's listeners and gate are not known here.
    let far = CellContext { listeners: None, ..plain };
    for (vantage, seen) in
        [(&friend, Silent), (&friend, Refuses), (&outside("192.0.2.66"), Answers)]
    {
        assert!(told(DOME, vantage, seen, &far).contains("no more can be seen from another"));
    }
}

#[test]
fn what_began_or_ended_during_the_check_is_told_as_that() {
    let brief = Brief::unplaced(&read(ORDERS).unwrap());
    let nobody: &[Listener] = &[];
    let bound = [listener("0.0.0.0")];
    let plain = CellContext::plain(&brief, Some(nobody));
    let other = Subject::Port(Transport::Tcp, 7499);
    let guest = outside("192.0.2.200");
    let began = "nothing listened when the check began; something does now → tipstaff reach again";
    for gate in [words()[0].1.as_ref(), words()[1].1.as_ref()] {
        let around = CellContext { started: &[other], gate, ..plain };
        assert_eq!(told(other, &guest, Answers, &around), began);
    }
    assert_eq!(told(other, &Vantage::Here, Answers, &plain), began);
    assert!(told(other, &Vantage::Here, Silent, &plain).contains("the refusal did not come back"));
    // Else somebody behind this host answers.
    assert_eq!(told(other, &guest, Answers, &CellContext { started: &[DOME], ..plain }), "");
    let ended = CellContext { stopped: &[DOME], ..CellContext::plain(&brief, Some(&bound)) };
    let said = |vantage: &Vantage, seen, gate: Option<&Said>| {
        told(DOME, vantage, seen, &CellContext { gate, ..ended })
    };
    let friend = outside("198.51.100.23");
    assert!(said(&friend, Refuses, None).contains("it listened when the check began"));
    assert!(said(&Vantage::Here, Refuses, None).contains("it listened when the check began"));
    // What is certain comes first: the gate's own refusal, and whoever is let in wrongly.
    let refused = &words()[3].1;
    assert!(said(&friend, Refuses, refused.as_ref()).contains("the gate refused it"));
    assert!(said(&outside("192.0.2.66"), Answers, None).contains("the gate is not loaded"));
}

/// Of a difference either the service is to blame or what is in force.
#[test]
fn the_service_is_to_blame_for_what_it_does_not_do() {
    let cell = |why: Why, expected, outcome| Cell {
        expected,
        expected_by: String::new(),
        observed: Observed { outcome, ..Observed::unknown("") },
        why: Some(why),
        next: None,
        accepted: None,
    };
    let by = String::new;
    let blames = |why: Why| cell(why, Answers, Refuses).is_of_the_service();
    for why in [
        Why::NothingListens { instead: None },
        Why::LoopbackOnly,
        Why::OtherAddress { address: "198.51.100.21".parse().unwrap() },
        Why::OtherDevice { device: "lan9".into() },
        Why::QueueFull,
        Why::Stopped,
        Why::Started,
        Why::NoAnswer,
        // A refusal is the host's own, from wherever it is seen.
        Why::NotFromHere,
    ] {
        assert!(blames(why.clone()), "{why:?}");
    }
    for why in [
        Why::DeniedByGate { by: by() },
        Why::RefusedByGate { by: by() },
        Why::BeyondRate { by: by() },
        Why::OtherOrders { by: by() },
        Why::DecidesOtherwise { by: by() },
        Why::NotInForce,
        Why::StoppedByAnother { programs: vec![] },
        Why::PassedByAnother { programs: vec![] },
        Why::NotTheWayBack,
        Why::RefusalLost,
    ] {
        assert!(!blames(why.clone()), "{why:?}");
    }
    // From another machine nobody can tell whose silence it is.
    assert!(!cell(Why::NotFromHere, Answers, Silent).is_of_the_service());
    assert!(!cell(Why::NotFromHere, Silent, Refuses).is_of_the_service());
    assert!(!Cell { why: None, ..cell(Why::NoAnswer, Answers, Refuses) }.is_of_the_service());
}

#[test]
fn words_of_a_report_read_back() {
    for text in ["tcp/7410", "udp/7420", "icmp/echo"] {
        assert_eq!(Subject::try_from(text.to_owned()).unwrap().to_string(), text);
    }
    for text in ["tcp", "sctp/1", "udp/x", "tcp/70000"] {
        assert!(Subject::try_from(text.to_owned()).is_err(), "{text}");
    }
    let words = [How::Wire, How::Gate, How::Orders].map(|how| how.to_string());
    assert_eq!(words, ["wire", "gate", "orders"]);
}
