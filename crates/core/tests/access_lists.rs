//! Rules that go out as access lists of RFC 8519, and come in again, decide as before.

#![allow(clippy::unwrap_used)]

use proptest::prelude::*;
use tipstaff_core::analysis::access_lists::{AccessLists, export, import};
use tipstaff_core::arbitrary;
use tipstaff_core::brief::Brief;
use tipstaff_core::decision::decide;
use tipstaff_core::moment::Moment;
use tipstaff_core::orders::{Rule, read};
use tipstaff_core::packet::{
    Direction, InterfaceIndex, PacketContext, ProgramIndex, parse_ethernet,
};

/// Whether the model has leaves for all that a rule says.
fn fits(rule: &Rule) -> bool {
    let names = &rule.interface.written;
    rule.is_active()
        && rule.program.is_any()
        && rule.at_most.is_none()
        && rule.until.is_none()
        && rule.interface.except.is_empty()
        && !names.iter().any(|name| name.contains('*'))
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(300))]
    #[test]
    fn what_goes_out_and_comes_in_decides_as_before(
        mut brief in arbitrary::brief(6),
        frames in proptest::collection::vec(arbitrary::frame([2, 0, 0, 0, 0, 1]), 40),
        direction in prop::sample::select(Direction::ALL.to_vec()),
        interface in prop_oneof![1u32..4, Just(9)].prop_map(InterfaceIndex),
    ) {
        brief.rules.retain(|rule| fits(rule));
        let exported = export(&brief);
        let are_large = exported.unfit.iter().all(|what| what.contains("it would take more than"));
        prop_assert!(are_large, "{:?}", exported.unfit);
        // Orders of many thousand rules take their time to read.
        if exported.entries > 1_000 || !exported.unfit.is_empty() {
            return Ok(());
        }
        // Through the text, as it is written and read.
        let text = serde_json::to_string(&exported.lists).unwrap();
        let lists: AccessLists = serde_json::from_str(&text).unwrap();
        let imported = import(&lists);
        let orders = read(&imported.text)
            .map_err(|faults| TestCaseError::fail(format!("{faults:?}\n{}", imported.text)))?;
        // Pieces of ICMP are what orders have no words for: those are told.
        if !imported.unfit.is_empty() {
            prop_assert!(text.contains("icmp"), "{:?}", imported.unfit);
            return Ok(());
        }
        let mut other = Brief::unplaced(&orders);
        (other.own, other.interfaces) = (brief.own.clone(), brief.interfaces.clone());
        (other.foundations, other.memory) = (brief.foundations, brief.memory);
        for frame in frames {
            let packet = PacketContext {
                interface,
                direction,
                program: ProgramIndex::OTHER,
                is_reply: false,
                now: Moment(1_800_000_000),
                packet: parse_ethernet(&frame),
            };
            let (before, after) = (decide(&brief, &packet), decide(&other, &packet));
            prop_assert_eq!(before.verdict, after.verdict, "{:?}\n{}", packet, imported.text);
        }
    }
}
