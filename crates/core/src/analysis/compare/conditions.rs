//! The conditions of a rule as sets of numbers, one an axis.

use std::collections::HashMap;
use std::sync::Arc;

use super::{AXES, DESTINATION, INTERFACE, PROGRAM, SOURCE, TRAFFIC, Values};
use crate::brief::Brief;
use crate::names::address::{AddressSet, Family};
use crate::names::range_set::{Point, RangeSet};
use crate::orders::Rule;
use crate::packet::ProgramIndex;

fn wide<T: Copy + Into<u128> + Point>(spans: &RangeSet<T>) -> Arc<RangeSet<u128>> {
    let ranges = spans.ranges().iter().map(|(a, b)| ((*a).into(), (*b).into()));
    Arc::new(RangeSet::from_ranges(ranges))
}

/// The sets of addresses that rules share, each widened once.
#[derive(Default)]
pub(super) struct Widened(HashMap<(*const AddressSet, Family), Arc<RangeSet<u128>>>);

impl Widened {
    fn spans(&mut self, set: &Option<Arc<AddressSet>>, family: Family) -> Values {
        let set = set.as_ref()?;
        // The lists outlive the walk: no other set comes to stand at its place.
        let known = self.0.entry((Arc::as_ptr(set), family)).or_insert_with(|| match family {
            Family::V4 => wide(&set.v4),
            Family::V6 => wide(&set.v6),
        });
        Some(known.clone())
    }
}

/// The sets that a rule's conditions are; `None`: everything.
pub(super) fn conditions(
    brief: &Brief,
    rule: &Rule,
    family: Family,
    programs: &[String],
    widened: &mut Widened,
) -> [Values; AXES] {
    let mut axes: [Values; AXES] = Default::default();
    axes[TRAFFIC] = rule.traffic.keys.as_ref().map(wide);
    axes[SOURCE] = widened.spans(&rule.source.addresses, family);
    axes[DESTINATION] = widened.spans(&rule.destination.addresses, family);
    axes[INTERFACE] = brief.interfaces_of(&rule.interface).as_ref().map(wide);
    axes[PROGRAM] = (!rule.program.is_any()).then(|| {
        let meant = (0..=programs.len() + 1).filter(|number| match number.checked_sub(1) {
            // Whoever cannot be identified comes after all that have names.
            Some(at) if at == programs.len() => brief.program_holds(rule, ProgramIndex::UNKNOWN),
            at => brief.condition_holds(&rule.program, at.map(|at| programs[at].as_str())),
        });
        Arc::new(RangeSet::from_ranges(meant.map(|number| (number as u128, number as u128))))
    });
    axes
}
