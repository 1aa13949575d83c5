use super::*;
use crate::decision::{Decision, Speaker};
use crate::names::traffic::Transport;
use crate::orders::read;

const ORDERS: &str = r#"version = 1
[standing]
inbound = "deny"
outbound = "deny"
transit = "deny"
[[rules]]
name = "web"
direction = "outbound"
action = "allow"
traffic = "tcp/443"
[[rules]]
name = "mail"
direction = "outbound"
action = "refuse"
traffic = "tcp/25"
[[rules]]
name = "through"
direction = "transit"
action = "allow"
traffic = "tcp/7410"
interface = "lan0"
"#;

fn wanted(direction: Direction, port: u16) -> Wanted {
    let lan = (InterfaceIndex(2), "lan0".to_owned());
    let wan = (InterfaceIndex(3), "wan0".to_owned());
    Wanted {
        direction,
        subject: Subject::Port(Transport::Tcp, port),
        source: [198, 51, 100, 20].into(),
        destination: [203, 0, 113, 9].into(),
        comes_in: (direction == Direction::Transit).then_some(lan),
        leaves: Some(wan),
        program: ProgramIndex::OTHER,
    }
}

fn brief() -> Brief {
    let mut brief = Brief::unplaced(&read(ORDERS).unwrap());
    brief.interfaces = vec![(InterfaceIndex(2), "lan0".into()), (InterfaceIndex(3), "wan0".into())];
    brief
}

fn says(verdict: Action) -> Word {
    let speaker = Speaker::Standing(Direction::Outbound);
    Word::Said(Said { decision: Decision { verdict, speaker }, by: "rule 9 (night)".into() })
}

#[test]
fn orders_of_the_direction_say_what_is_expected() {
    let brief = brief();
    let expected = |direction, port| {
        let wanted = wanted(direction, port);
        let one = Crossing::judge(&brief, &wanted, Met::NotTried, &Word::NoGate, false);
        (one.expected, one.expected_by)
    };
    assert_eq!(expected(Direction::Outbound, 443), (Passage::Passes, "rule 1 (web)".into()));
    assert_eq!(expected(Direction::Outbound, 25), (Passage::Refused, "rule 2 (mail)".into()));
    let standing = "the standing answer outbound".to_owned();
    assert_eq!(expected(Direction::Outbound, 7410), (Passage::Kept, standing));
    assert_eq!(expected(Direction::Transit, 7410), (Passage::Passes, "rule 3 (through)".into()));
}

#[test]
fn a_refusal_is_whose_the_gate_says_it_is() {
    let brief = brief();
    let refusal = || Met::Refusal("a reset in 0.3 ms".into());
    let seen = |met, word: &Word| {
        let one = Crossing::judge(&brief, &wanted(Direction::Outbound, 443), met, word, true);
        (one.observed, one.how, one.differs())
    };
    assert_eq!(seen(refusal(), &says(Action::Allow)), (Passage::Passes, How::Wire, false));
    assert_eq!(seen(refusal(), &says(Action::Deny)), (Passage::Kept, How::Gate, true));
    assert_eq!(seen(refusal(), &says(Action::Refuse)), (Passage::Refused, How::Gate, true));
    assert_eq!(seen(refusal(), &Word::NoGate), (Passage::Passes, How::Wire, false));
    assert_eq!(seen(refusal(), &Word::NotVisible), (Passage::Unknown, How::Wire, false));
    let nothing = Met::Nothing("nothing in 300 ms".into());
    assert_eq!(seen(nothing.clone(), &says(Action::Allow)).0, Passage::Passes);
    assert_eq!(seen(nothing, &Word::NotVisible).0, Passage::Unknown);
    let forbidden = Met::Forbidden("operation not permitted".into());
    assert_eq!(seen(forbidden, &Word::NotVisible), (Passage::Kept, How::Wire, true));
}

#[test]
fn what_differs_has_a_reason_and_a_next_step() {
    let brief = brief();
    let told = |met: Met, word: &Word, other: bool| {
        let one = Crossing::judge(&brief, &wanted(Direction::Outbound, 443), met, word, other);
        one.why.zip(one.next).unwrap()
    };
    let kept = || Met::Forbidden("operation not permitted".into());
    assert!(told(kept(), &says(Action::Deny), true).0.contains("other orders"));
    assert!(told(kept(), &says(Action::Deny), false).0.contains("decides otherwise"));
    assert!(told(kept(), &says(Action::Allow), false).0.contains("does not leave this host"));
    assert!(told(kept(), &Word::NoGate, false).0.contains("no gate is loaded"));
    assert_eq!(told(kept(), &Word::NotVisible, false).1, "run it as root");
    let one = wanted(Direction::Outbound, 7410);
    let out = || Met::OtherEnd("accepted in 1 ms".into());
    let why = |word: &Word| Crossing::judge(&brief, &one, out(), word, false).why.unwrap();
    assert_eq!(why(&Word::NoGate), "nothing is in force");
    assert!(why(&says(Action::Deny)).contains("bypasses the gate"));
}

/// Every combination of what is meant, met and said, as it is told.
#[test]
fn every_combination_is_told() {
    use std::fmt::Write as _;
    let brief = brief();
    let words: [fn(String) -> Met; 7] = [
        Met::OtherEnd,
        Met::CameOut,
        Met::Forbidden,
        Met::Refusal,
        Met::Nothing,
        Met::DoesNotForward,
        Met::NotSent,
    ];
    let mets = || words.iter().map(|met| met("as met".into())).chain([Met::NotTried]);
    let gates = [
        says(Action::Allow),
        says(Action::Deny),
        says(Action::Refuse),
        Word::NoGate,
        Word::NotVisible,
    ];
    let mut table = String::new();
    for port in [443, 25, 7410] {
        for (met, word) in mets().flat_map(|met| gates.iter().map(move |w| (met.clone(), w))) {
            let mut lines = Vec::new();
            for (direction, other) in [
                (Direction::Outbound, false),
                (Direction::Outbound, true),
                (Direction::Transit, false),
            ] {
                let one =
                    Crossing::judge(&brief, &wanted(direction, port), met.clone(), word, other);
                assert_eq!(one.why.is_some(), one.differs(), "{one:?}");
                let why = one.why.as_deref().unwrap_or_default();
                let passes = one.observed == Passage::Passes;
                assert!(passes || !why.contains("bypasses"), "{one:?}");
                assert!(!passes || !why.contains("stop"), "{one:?}");
                let line = format!(
                    "{} ({:?}, {}; gate {}); {} → {}",
                    one.observed,
                    one.how,
                    one.evidence,
                    one.gate.unwrap_or_default(),
                    one.why.unwrap_or_default(),
                    one.next.unwrap_or_default(),
                );
                if !lines.contains(&line) {
                    lines.push(line);
                }
            }
            let expected = wanted(Direction::Outbound, port);
            let expected = Passage::from(decide(&brief, &expected.facts()).verdict);
            let met = format!("{met:?}");
            let met = met.split('(').next().unwrap();
            let said = match word {
                Word::Said(said) => format!("{:?}", said.decision.verdict),
                other => format!("{other:?}"),
            };
            writeln!(table, "meant {expected}, met {met}, the gate: {said}").unwrap();
            lines.iter().for_each(|line| writeln!(table, "    {line}").unwrap());
        }
    }
    insta::assert_snapshot!(table);
}
