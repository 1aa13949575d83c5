//! One sweep over many sets: between two neighbouring boundaries each set holds
//! everything or nothing.

use super::range_set::Point;

/// Where sets begin and end.
#[derive(Clone, Debug, Default)]
pub struct Boundaries<T>(Vec<(T, u32)>);

/// The points between two boundaries.
#[derive(Clone, Copy, Debug)]
pub struct Piece<'b, T> {
    /// Its first point.
    pub first: T,
    /// Its last one.
    pub last: T,
    toggled: &'b [(T, u32)],
}

impl<T> Piece<'_, T> {
    /// The sets that begin or end with it: each of them holds the piece if it did not
    /// hold the one before.
    pub fn toggled(&self) -> impl Iterator<Item = u32> {
        self.toggled.iter().map(|(_, set)| *set)
    }
}

impl<T: Point> Boundaries<T> {
    /// No set yet.
    pub fn new() -> Self {
        Self(Vec::new())
    }

    /// Adds a set by its ranges, which do not touch, under a number of its own.
    pub fn add(&mut self, set: u32, ranges: impl IntoIterator<Item = (T, T)>) {
        for (first, last) in ranges {
            self.0.push((first, set));
            self.0.extend(last.next().map(|behind| (behind, set)));
        }
    }

    /// How many boundaries there are.
    pub fn count(&self) -> usize {
        self.0.len()
    }

    /// From the smallest point to the largest, the pieces in their order.
    pub fn pieces(&mut self) -> impl Iterator<Item = Piece<'_, T>> {
        self.0.sort_unstable();
        let (mut left, mut from) = (self.0.as_slice(), Some(T::LEAST));
        std::iter::from_fn(move || {
            let first = from?;
            let here = left.iter().position(|(at, _)| *at != first).unwrap_or(left.len());
            let (toggled, behind) = left.split_at(here);
            left = behind;
            from = behind.first().map(|(at, _)| *at);
            let last = from.and_then(Point::previous).unwrap_or(T::GREATEST);
            Some(Piece { first, last, toggled })
        })
    }
}

/// The sets that hold a piece, sorted.
#[derive(Clone, Debug, Default, PartialEq, Eq, Hash)]
pub struct Members(pub Vec<usize>);

impl Members {
    /// Adds one that is not there; takes away one that is.
    pub fn toggle(&mut self, set: usize) {
        match self.0.binary_search(&set) {
            Ok(place) => _ = self.0.remove(place),
            Err(place) => self.0.insert(place, set),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::names::range_set::RangeSet;
    use proptest::prelude::*;

    proptest! {
        /// The pieces lie side by side from end to end, and hold what the sets say.
        #[test]
        fn pieces_hold_what_the_sets_hold(
            sets in proptest::collection::vec(
                proptest::collection::vec((any::<u32>(), 0u32..9), 0..4), 0..5),
            ends: bool,
        ) {
            let mut sets: Vec<RangeSet<u32>> = sets.into_iter().map(|ranges| {
                RangeSet::from_ranges(ranges.into_iter().map(|(a, n)| (a % 40, a % 40 + n)))
            }).collect();
            if ends {
                sets.push(RangeSet::from_ranges([(0, 3), (u32::MAX - 2, u32::MAX)]));
            }
            let mut boundaries = Boundaries::new();
            for (number, set) in sets.iter().enumerate() {
                boundaries.add(number as u32, set.ranges().iter().copied());
            }
            let (mut members, mut expected) = (Members::default(), Some(0));
            for piece in boundaries.pieces() {
                prop_assert_eq!(expected, Some(piece.first));
                piece.toggled().for_each(|set| members.toggle(set as usize));
                for point in [piece.first, piece.last] {
                    let holding = (0..sets.len()).filter(|at| sets[*at].contains(point));
                    prop_assert_eq!(&members.0, &holding.collect::<Vec<_>>());
                }
                expected = piece.last.checked_add(1);
            }
            prop_assert_eq!(expected, None);
        }
    }
}
