//! Laws of the decision: the tables say what the reference says.

#![allow(clippy::unwrap_used)]

use proptest::prelude::*;
use tipstaff_core::arbitrary::{brief, frame};
use tipstaff_core::decide::{Speaker, decide};
use tipstaff_core::moment::Moment;
use tipstaff_core::orders::Action;
use tipstaff_core::packet::{Direction, Facts, InterfaceIndex, parse_ethernet};
use tipstaff_core::tables::Tables;

/// Between the moments at which random rules end.
const NOW: u32 = 1_800_000_000;

fn facts(frame: &[u8], belongs: bool, direction: Direction, interface: u32) -> Facts {
    let interface = InterfaceIndex(interface);
    let now = Moment(NOW);
    Facts { interface, direction, belongs, now, packet: parse_ethernet(frame) }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(600))]

    #[test]
    fn tables_say_what_the_reference_says(
        brief in brief(150),
        frames in proptest::collection::vec(frame([2, 0, 0, 0, 0, 1]), 40),
        belongs in any::<bool>(),
        transit in prop::bool::weighted(0.1),
        interface in prop_oneof![1u32..4, Just(9)],
        now in prop::sample::select(vec![0, 1, 2, NOW, u32::MAX - 1, u32::MAX]).prop_map(Moment),
    ) {
        let tables = Tables::build(&brief).unwrap();
        let direction = if transit { Direction::Transit } else { Direction::Inbound };
        for frame in frames {
            let mut facts = facts(&frame, belongs, direction, interface);
            facts.now = now;
            prop_assert_eq!(tables.decide(&brief, &facts), decide(&brief, &facts));
        }
    }

    #[test]
    fn a_paused_rule_never_speaks_and_a_first_match_hides_the_rest(
        mut brief in brief(30),
        frame in frame([2, 0, 0, 0, 0, 1]),
    ) {
        let facts = facts(&frame, false, Direction::Inbound, 2);
        let before = decide(&brief, &facts);
        if let Speaker::Rule(index) = before.speaker {
            prop_assert!(brief.rules[index.0 as usize].speaks());
            // Whatever stands behind the speaker changes nothing.
            brief.rules.truncate(index.position());
            prop_assert_eq!(decide(&brief, &facts), before);
            brief.rules[index.0 as usize].silence = Some(tipstaff_core::orders::Silence::Paused);
            prop_assert_ne!(decide(&brief, &facts).speaker, before.speaker);
        }
    }

    #[test]
    fn nothing_passes_an_empty_list_under_a_standing_deny_but_foundations(
        mut brief in brief(0),
        frame in frame([2, 0, 0, 0, 0, 1]),
    ) {
        brief.standing.inbound = Action::Deny;
        let decision = decide(&brief, &facts(&frame, false, Direction::Inbound, 2));
        if decision.verdict == Action::Allow {
            prop_assert!(matches!(decision.speaker, Speaker::Foundation(_) | Speaker::Nobody));
        }
    }
}

/// Random frames reach every kind of speaker; otherwise the laws above would say little.
#[test]
fn the_random_frames_reach_every_speaker() {
    use proptest::strategy::{Strategy, ValueTree};
    use proptest::test_runner::TestRunner;
    let mut runner = TestRunner::deterministic();
    let mut seen = std::collections::BTreeSet::new();
    for n in 0..4000 {
        let brief = brief(20).new_tree(&mut runner).unwrap().current();
        let frame = frame([2, 0, 0, 0, 0, 1]).new_tree(&mut runner).unwrap().current();
        let facts = facts(&frame, n % 4 == 0, Direction::Inbound, 1 + u32::from(n % 50 != 0));
        let text = format!("{:?}", decide(&brief, &facts).speaker);
        seen.insert(text.trim_end_matches(|c: char| c == ')' || c.is_ascii_digit()).to_owned());
    }
    // Eight foundations, not IP, a rule, the standing answer.
    assert_eq!(seen.len(), 11, "{seen:?}");
}
