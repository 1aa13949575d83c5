//! Which conditions hold together, on one axis.

use std::collections::{BTreeMap, HashSet};
use std::sync::Arc;

use crate::analysis::compare::lanes::Values;
use crate::names::boundaries::{Boundaries, Members};
use crate::names::range_set::RangeSet;

/// Sets with more ranges than this are asked where they lie; the others are walked.
const LONG: usize = 64;

/// A long set, and the conditions that are about it.
struct Long<'v> {
    set: &'v RangeSet<u128>,
    about: Vec<usize>,
}

/// Which conditions some value within `whole` meets, each such list once, and what
/// was looked at for them.
pub(super) fn rows(conditions: &[&Values], whole: &RangeSet<u128>) -> (Vec<Vec<usize>>, usize) {
    let mut everywhere = Vec::new();
    let mut boundaries = Boundaries::new();
    let mut longs: BTreeMap<*const RangeSet<u128>, Long<'_>> = BTreeMap::new();
    for (at, condition) in conditions.iter().enumerate() {
        match condition {
            None => everywhere.push(at),
            Some(set) if set.ranges().len() > LONG => {
                let long = longs.entry(Arc::as_ptr(set));
                long.or_insert_with(|| Long { set, about: Vec::new() }).about.push(at);
            }
            Some(set) => boundaries.add(at as u32, set.ranges().iter().copied()),
        }
    }
    let longs: Vec<Long<'_>> = longs.into_values().collect();
    let mut seen = Seen { rows: Vec::new(), known: HashSet::new(), work: conditions.len() };
    // Those that hold somewhere, beside those that hold everywhere.
    let mut row = Members::default();
    for piece in boundaries.pieces() {
        piece.toggled().for_each(|at| row.toggle(at as usize));
        for (first, last) in whole.ranges() {
            let (first, last) = (piece.first.max(*first), piece.last.min(*last));
            if first <= last {
                seen.between(&row, &longs, first, last);
            }
        }
    }
    let work = seen.work + seen.rows.len() * everywhere.len();
    (
        seen.rows
            .into_iter()
            .map(|Members(mut held)| {
                held.extend(&everywhere);
                held.sort_unstable();
                held
            })
            .collect(),
        work,
    )
}

struct Seen {
    rows: Vec<Members>,
    known: HashSet<Members>,
    work: usize,
}

impl Seen {
    fn note(&mut self, row: &Members) {
        self.work += 1 + row.0.len();
        if !self.known.contains(row) {
            self.known.insert(row.clone());
            self.rows.push(row.clone());
        }
    }

    /// The rows of the values from `first` to `last`, between which no short set
    /// begins or ends.
    fn between(&mut self, row: &Members, longs: &[Long<'_>], first: u128, last: u128) {
        self.work += 1 + row.0.len() + 8 * longs.len();
        if longs.is_empty() {
            return self.note(row);
        }
        let mut row = row.clone();
        // Those that hold for a part of the values only.
        let mut parts: Vec<(&Long<'_>, &[(u128, u128)])> = Vec::new();
        for long in longs {
            let ranges = long.set.ranges();
            let begin = ranges.partition_point(|(_, end)| *end < first);
            let end = ranges.partition_point(|(begin, _)| *begin <= last);
            match &ranges[begin..end] {
                [] => {}
                [(a, b)] if *a <= first && last <= *b => {
                    long.about.iter().for_each(|at| row.toggle(*at));
                }
                part => parts.push((long, part)),
            }
        }
        match parts.as_slice() {
            [] => self.note(&row),
            // Outside of it, and inside.
            [(long, _)] => {
                self.note(&row);
                long.about.iter().for_each(|at| row.toggle(*at));
                self.note(&row);
            }
            several => self.walk(&mut row, several, first, last),
        }
    }

    /// Several long sets lie within: they are walked.
    fn walk(
        &mut self,
        row: &mut Members,
        parts: &[(&Long<'_>, &[(u128, u128)])],
        first: u128,
        last: u128,
    ) {
        let mut boundaries = Boundaries::new();
        for (nth, (_, ranges)) in parts.iter().enumerate() {
            boundaries.add(nth as u32, ranges.iter().map(|(a, b)| (first.max(*a), last.min(*b))));
        }
        self.work += 8 * boundaries.count();
        for piece in boundaries.pieces().take_while(|piece| piece.first <= last) {
            for nth in piece.toggled() {
                parts[nth as usize].0.about.iter().for_each(|at| row.toggle(*at));
            }
            if piece.last >= first {
                self.note(row);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// Sets of few ranges and of many, two of them the same.
    fn sets() -> impl Strategy<Value = Vec<Values>> {
        let set = prop_oneof![
            proptest::collection::vec((0u128..600, 0u128..200), 0..4),
            proptest::collection::vec((0u128..600, 0u128..2), 90..160),
        ];
        let set = set.prop_map(|ranges| {
            let ranges = ranges.into_iter().map(|(first, more)| (first, first + more));
            Some(Arc::new(RangeSet::from_ranges(ranges)))
        });
        let set = prop_oneof![8 => set, 1 => Just(None)];
        proptest::collection::vec(set, 1..6).prop_map(|mut sets| {
            sets.push(sets[0].clone());
            sets
        })
    }

    proptest! {
        #[test]
        fn rows_are_those_of_some_value(sets in sets(), cut in 1u128..700) {
            let whole = RangeSet::from_ranges([(0, cut), (cut + 3, 900)]);
            let conditions: Vec<&Values> = sets.iter().collect();
            let (rows, _) = rows(&conditions, &whole);
            let holds = |value: u128| {
                let held = |at: &usize| sets[*at].as_ref().is_none_or(|set| set.contains(value));
                (0..sets.len()).filter(held).collect::<Vec<_>>()
            };
            let expected: HashSet<Vec<usize>> =
                (0..=900).filter(|value| whole.contains(*value)).map(holds).collect();
            let found: Vec<Vec<usize>> = rows;
            prop_assert_eq!(found.len(), expected.len());
            prop_assert_eq!(found.into_iter().collect::<HashSet<_>>(), expected);
        }
    }
}
