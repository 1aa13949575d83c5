//! Sets of integers as sorted, disjoint, non-touching closed ranges.
//!
//! One type serves every dimension of a rule: IPv4 addresses (`u32`), IPv6
//! addresses (`u128`) and traffic keys (`u32`).

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// An unsigned integer that a [`RangeSet`] can hold.
pub trait Point: Copy + Ord + std::fmt::Debug + std::hash::Hash {
    /// The smallest value.
    const LEAST: Self;
    /// The largest value.
    const GREATEST: Self;
    /// The next value; `None` behind the largest.
    fn next(self) -> Option<Self>;
    /// The value before; `None` before the smallest.
    fn previous(self) -> Option<Self>;
}

macro_rules! point {
    ($($t:ty),*) => {$(
        impl Point for $t {
            const LEAST: Self = <$t>::MIN;
            const GREATEST: Self = <$t>::MAX;
            fn next(self) -> Option<Self> { self.checked_add(1) }
            fn previous(self) -> Option<Self> { self.checked_sub(1) }
        }
    )*};
}
point!(u32, u128);

/// A set of points. Invariant: ranges are sorted, closed, disjoint and never
/// touch, so two equal sets have equal representations.
#[derive(Clone, Debug, PartialEq, Eq, Hash, JsonSchema, Serialize, Deserialize)]
pub struct RangeSet<T>(Vec<(T, T)>);

impl<T: Point> RangeSet<T> {
    /// The empty set.
    pub fn empty() -> Self {
        Self(Vec::new())
    }

    /// The set of every point.
    pub fn full() -> Self {
        Self(vec![(T::LEAST, T::GREATEST)])
    }

    /// The union of closed ranges in any order; a range with first > last is empty.
    pub fn from_ranges(ranges: impl IntoIterator<Item = (T, T)>) -> Self {
        let mut sorted: Vec<(T, T)> = ranges.into_iter().filter(|(a, b)| a <= b).collect();
        sorted.sort_unstable();
        let mut merged: Vec<(T, T)> = Vec::with_capacity(sorted.len());
        for (first, last) in sorted {
            match merged.last_mut() {
                Some(open) if open.1.next().is_none_or(|after| first <= after) => {
                    open.1 = open.1.max(last);
                }
                _ => merged.push((first, last)),
            }
        }
        Self(merged)
    }

    /// The ranges, sorted, closed, disjoint, never touching.
    pub fn ranges(&self) -> &[(T, T)] {
        &self.0
    }

    /// Whether the set holds nothing.
    pub fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// Whether the set holds everything.
    pub fn is_full(&self) -> bool {
        self.0 == [(T::LEAST, T::GREATEST)]
    }

    /// Whether the set holds `point`.
    pub fn contains(&self, point: T) -> bool {
        let after = self.0.partition_point(|(first, _)| *first <= point);
        after > 0 && point <= self.0[after - 1].1
    }

    /// The smallest point of the set that is not below `point`.
    pub fn first_from(&self, point: T) -> Option<T> {
        let at = self.0.partition_point(|(_, last)| *last < point);
        self.0.get(at).map(|(first, _)| point.max(*first))
    }

    /// Everything that is in one of the two sets.
    #[must_use]
    pub fn union(&self, other: &Self) -> Self {
        Self::from_ranges(self.0.iter().chain(&other.0).copied())
    }

    /// Everything that is not in this set.
    #[must_use]
    pub fn complement(&self) -> Self {
        let mut gaps = Vec::with_capacity(self.0.len() + 1);
        let mut from = Some(T::LEAST);
        for (first, last) in &self.0 {
            if let (Some(from), Some(before)) = (from, first.previous())
                && from <= before
            {
                gaps.push((from, before));
            }
            from = last.next();
        }
        if let Some(from) = from {
            gaps.push((from, T::GREATEST));
        }
        Self(gaps)
    }

    /// Everything that is in both sets.
    #[must_use]
    pub fn intersection(&self, other: &Self) -> Self {
        let (mut a, mut b) = (self.0.iter().peekable(), other.0.iter().peekable());
        let mut shared = Vec::new();
        while let (Some(&&(af, al)), Some(&&(bf, bl))) = (a.peek(), b.peek()) {
            let (first, last) = (af.max(bf), al.min(bl));
            if first <= last {
                shared.push((first, last));
            }
            if al < bl {
                a.next();
            } else {
                b.next();
            }
        }
        Self(shared)
    }

    /// Whether the two have a point in common. Quick where one of them is short.
    pub fn meets(&self, other: &Self) -> bool {
        let (short, long) =
            if self.0.len() <= other.0.len() { (self, other) } else { (other, self) };
        short.0.iter().any(|(first, last)| long.first_from(*first).is_some_and(|at| at <= *last))
    }

    /// Whether every point of this set is in the other.
    pub fn is_within(&self, other: &Self) -> bool {
        self.0.iter().all(|(first, last)| {
            // Ranges never touch: what is within the other is within one of its ranges.
            let after = other.0.partition_point(|(begin, _)| begin <= first);
            after > 0 && *last <= other.0[after - 1].1
        })
    }

    /// Everything that is in this set but not in the other.
    #[must_use]
    pub fn difference(&self, other: &Self) -> Self {
        self.intersection(&other.complement())
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn set() -> impl Strategy<Value = RangeSet<u32>> {
        let near_ends = prop_oneof![0u32..40, (u32::MAX - 20)..=u32::MAX];
        proptest::collection::vec((near_ends, 0u32..12), 0..8).prop_map(|v| {
            RangeSet::from_ranges(v.into_iter().map(|(a, n)| (a, a.saturating_add(n))))
        })
    }

    #[test]
    fn touching_ranges_become_one() {
        let s = RangeSet::from_ranges([(5u32, 9), (0, 4), (12, 11)]);
        assert_eq!(s.ranges(), [(0, 9)]);
        assert_eq!(RangeSet::from_ranges([(0u32, u32::MAX), (7, 8)]), RangeSet::full());
    }

    proptest! {
        #[test]
        fn what_is_asked_is_what_the_sets_say(a in set(), b in set(), c in set()) {
            prop_assert_eq!(a.meets(&b), !a.intersection(&b).is_empty());
            for (part, whole) in [(&a, &b), (&a.intersection(&b), &c), (&a.intersection(&b), &a)] {
                prop_assert_eq!(part.is_within(whole), part.difference(whole).is_empty());
            }
        }

        #[test]
        fn set_operations_agree_with_membership(a in set(), b in set(), p in prop_oneof![0u32..60, (u32::MAX - 30)..=u32::MAX]) {
            prop_assert_eq!(a.union(&b).contains(p), a.contains(p) || b.contains(p));
            prop_assert_eq!(a.intersection(&b).contains(p), a.contains(p) && b.contains(p));
            prop_assert_eq!(a.difference(&b).contains(p), a.contains(p) && !b.contains(p));
            prop_assert_eq!(a.complement().contains(p), !a.contains(p));
            let above = a.intersection(&RangeSet::from_ranges([(p, u32::MAX)]));
            prop_assert_eq!(a.first_from(p), above.ranges().first().map(|(first, _)| *first));
            prop_assert_eq!(a.complement().complement(), a);
        }
    }
}
