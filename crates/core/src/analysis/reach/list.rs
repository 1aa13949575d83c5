//! The list that cells are judged by, asked for the rules about one port.

use crate::brief::{Brief, RuleIndex};
use crate::decision::{Decision, decide_with, first_mismatch};
use crate::names::traffic::TrafficKey;
use crate::orders::Rule;
use crate::packet::{Direction, PacketContext};
use crate::tables::Tables;

/// A list, and where there are many rules the tables of it: thousands of ports
/// times thousands of rules would take long.
#[derive(Clone, Copy)]
pub(super) struct List<'b> {
    pub(super) brief: &'b Brief,
    pub(super) tables: Option<&'b Tables<'b>>,
}

/// From so many rules on their tables are built: that takes longer than walking
/// a shorter list.
const MANY: usize = 256;

/// The tables of a list where they are worth it, for [`super::CellContext`].
pub fn tables_of_many(brief: &Brief) -> Option<Tables<'_>> {
    (brief.rules.len() >= MANY).then(|| Tables::build(brief).ok())?
}

impl<'b> List<'b> {
    /// The rules of a direction that are about a kind of traffic, in their order.
    pub(super) fn about(
        self,
        direction: Direction,
        key: TrafficKey,
    ) -> impl Iterator<Item = (RuleIndex, &'b Rule)> {
        let brief = self.brief;
        let found = self.tables.map(|tables| tables.about(direction, key));
        let all = found.is_none().then(|| brief.indexed().map(|(index, _)| index));
        found
            .into_iter()
            .flatten()
            .chain(all.into_iter().flatten())
            .filter_map(move |index| Some((index, brief.rule(index)?)))
            .filter(move |(_, rule)| rule.is_active_in(direction) && rule.is_about(key))
    }

    /// As [`crate::decision::decide`].
    pub(super) fn decide(self, facts: &PacketContext) -> Decision {
        decide_with(self.brief, facts, |question| {
            self.about(question.direction, question.key)
                .find(|(_, rule)| first_mismatch(self.brief, rule, question).is_none())
                .map(|(index, _)| index)
        })
    }
}
