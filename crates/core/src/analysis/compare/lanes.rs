//! The rules of a list that can match in one direction and family, with their
//! conditions as sets of numbers.

use super::conditions::{Widened, conditions};
use crate::brief::{Brief, RuleIndex};
use crate::names::address::Family;
use crate::names::range_set::RangeSet;
use crate::packet::{Direction, InterfaceIndex};

pub(crate) use super::{AXES, Values};

struct Step {
    index: RuleIndex,
    conditions: [Values; AXES],
    free_from: usize,
}

/// The rules of one direction and family.
pub(crate) struct Lane {
    steps: Vec<Step>,
    whole: [RangeSet<u128>; AXES],
}

/// All lanes of a list that have rules.
pub(crate) fn lanes(brief: &Brief) -> Vec<(Direction, Lane)> {
    let families = Family::BOTH.into_iter();
    let all = Direction::ALL.into_iter().flat_map(|d| families.clone().map(move |f| (d, f)));
    let lane = |(direction, family)| (direction, Lane::new(brief, direction, family));
    all.map(lane).filter(|(_, lane)| lane.len() > 0).collect()
}

/// All values of each axis, for a family.
pub(super) fn whole(family: Family, interfaces: &[u32], programs: usize) -> [RangeSet<u128>; AXES] {
    fn full(last: u128) -> RangeSet<u128> {
        RangeSet::from_ranges([(0, last)])
    }
    let addresses = full(if family == Family::V4 { u32::MAX.into() } else { u128::MAX });
    let known = interfaces.iter().map(|index| (u128::from(*index), u128::from(*index)));
    // Without any there is one that nobody knows.
    let known = known.chain(interfaces.is_empty().then_some((0, 0)));
    [
        full(0x00ff_ffff),
        addresses.clone(),
        addresses,
        RangeSet::from_ranges(known),
        // Others, the named ones, and whoever cannot be identified.
        full(programs as u128 + 1),
    ]
}

impl Lane {
    fn new(brief: &Brief, direction: Direction, family: Family) -> Self {
        let mut widened = Widened::default();
        let interfaces: Vec<u32> = brief
            .interfaces
            .iter()
            .map(|(index, _)| *index)
            .filter(|index| *index != InterfaceIndex::LOOPBACK)
            .map(|index| index.0)
            .collect();
        Self {
            steps: brief
                .indexed()
                .filter(|(_, rule)| rule.is_active_for(direction, family))
                .map(|(index, rule)| {
                    let conditions = conditions(brief, rule, family, &brief.programs, &mut widened);
                    let free_from =
                        conditions.iter().rposition(Option::is_some).map_or(0, |at| at + 1);
                    Step { index, conditions, free_from }
                })
                .collect(),
            whole: whole(family, &interfaces, brief.programs.len()),
        }
    }

    /// How many rules it has.
    pub(crate) fn len(&self) -> usize {
        self.steps.len()
    }

    /// The place of a rule in the list.
    pub(crate) fn index(&self, step: usize) -> RuleIndex {
        self.steps[step].index
    }

    /// What a rule means in an axis.
    pub(crate) fn condition(&self, step: usize, axis: usize) -> &Values {
        &self.steps[step].conditions[axis]
    }

    /// All values of an axis.
    pub(crate) fn whole(&self, axis: usize) -> &RangeSet<u128> {
        &self.whole[axis]
    }

    /// Up to the second rule that matches everything that is left: behind the
    /// first none matches, and the second is what the first would be missed for.
    pub(crate) fn two_deep(&self, axis: usize, mut steps: Vec<usize>) -> Vec<usize> {
        let mut found = steps
            .iter()
            .enumerate()
            .filter(|(_, step)| self.steps[**step].free_from <= axis)
            .skip(1);
        if let Some((at, _)) = found.next() {
            steps.truncate(at + 1);
        }
        steps
    }
}
