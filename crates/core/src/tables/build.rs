//! List → blob. One sweep over the boundaries of each dimension keeps the row
//! of the moment; equal rows share a class.

use std::borrow::Cow;
use std::collections::HashMap;

use super::layout::{
    ALIGNMENT, DE_BRUIJN, DE_BRUIJN_OFFSET, Dimension, Layout, Level, MAGIC, MOST_BYTES,
    MOST_RULES, Verdict, traffic_slot,
};
use super::{Slot, Tables, TooLarge};
use crate::brief::Brief;
use crate::moment::Moment;
use crate::names::address::Family;
use crate::names::boundaries::Boundaries;
use crate::names::range_set::{Point, RangeSet};
use crate::names::traffic::TrafficKey;
use crate::orders::{Limit, Rule};
use crate::packet::Direction;

/// Lists of more rules get all the room at once.
const ROOM_ABOVE: usize = 512;

impl<'b> Tables<'b> {
    /// Builds the tables of a list.
    ///
    /// # Errors
    /// [`TooLarge`] when the list goes beyond the bounds in [`super::layout`].
    pub fn build(brief: &'b Brief) -> Result<Self, TooLarge> {
        let rules = brief.rules.len();
        if rules > MOST_RULES {
            return Err(TooLarge::Rules { rules, most: MOST_RULES });
        }
        let words = match rules.div_ceil(64).max(1) {
            1 => 1,
            several => several.next_multiple_of(8),
        };
        let mut blob = Blob { bytes: Vec::new() };
        // Growing step by step would copy the rows again and again, and leave the memory of
        // each step behind. Room that is never written to costs nothing.
        if rules > ROOM_ABOVE && blob.bytes.try_reserve_exact(MOST_BYTES).is_err() {
            blob.bytes = Vec::new();
        }
        blob.bytes.extend(MAGIC);
        blob.align();
        debug_assert_eq!(blob.bytes.len(), DE_BRUIJN_OFFSET as usize);
        blob.bytes.extend(de_bruijn_bytes());

        let enabled = || brief.rules().map(Rule::is_active);
        let slots: Vec<RangeSet<u32>> = brief.rules().map(traffic_slots).collect();
        let traffic = slots.iter().map(Some);
        // A rule for one family has no bit in the rows of the other.
        let (nothing4, nothing6) = (RangeSet::empty(), RangeSet::empty());
        let four = brief.rules().map(|r| match r.family {
            Some(Family::V6) => Some(&nothing4),
            _ => r.source.addresses.as_ref().map(|a| &a.v4),
        });
        let six = brief.rules().map(|r| match r.family {
            Some(Family::V4) => Some(&nothing6),
            _ => r.source.addresses.as_ref().map(|a| &a.v6),
        });
        let traffic = blob.dimension("traffic", words, enabled().zip(traffic))?;
        let source4 = blob.dimension("source (IPv4)", words, enabled().zip(four))?;
        let source6 = blob.dimension("source (IPv6)", words, enabled().zip(six))?;
        // The family stands in these rows too: before a packet has its route nobody knows its
        // source.
        let four = brief.rules().map(|r| match r.family {
            Some(Family::V6) => Some(&nothing4),
            _ => r.destination.addresses.as_ref().map(|a| &a.v4),
        });
        let six = brief.rules().map(|r| match r.family {
            Some(Family::V4) => Some(&nothing6),
            _ => r.destination.addresses.as_ref().map(|a| &a.v6),
        });
        let destination4 = blob.dimension("destination (IPv4)", words, enabled().zip(four))?;
        let destination6 = blob.dimension("destination (IPv6)", words, enabled().zip(six))?;
        let interfaces: Vec<_> = brief.rules().map(|r| brief.interfaces_of(&r.interface)).collect();
        let interface = interfaces.iter().map(Option::as_ref);
        let interface = blob.dimension("interface", words, enabled().zip(interface))?;
        let times: Vec<Option<RangeSet<u32>>> = brief.rules().map(|r| alive(r.until)).collect();
        let time = times.iter().map(Option::as_ref);
        let time = blob.dimension("time", words, enabled().zip(time))?;

        let programs: Vec<_> = brief.rules().map(|r| brief.programs_meant(r)).collect();
        let program = programs.iter().map(Option::as_ref);
        let program = blob.dimension("program", words, enabled().zip(program))?;

        let verdicts_offset = blob.align();
        blob.bytes.extend(brief.rules().map(Verdict::encode));
        let limits: Vec<Option<Limit>> = brief.rules().map(Rule::limit).collect();
        let (limit_of_offset, limits_offset) = blob.limits(&limits);
        let size = blob.align();
        if blob.bytes.len() > MOST_BYTES {
            return Err(TooLarge::Bytes { bytes: blob.bytes.len(), most: MOST_BYTES });
        }
        blob.bytes.shrink_to_fit();
        let layout = Layout {
            rules: rules as u32,
            words: words as u32,
            traffic,
            source4,
            source6,
            destination4,
            destination6,
            destination_used: brief.rules().any(|r| {
                let outwards = r.direction == Direction::Outbound && r.family.is_some();
                r.destination.addresses.is_some() || outwards
            }),
            interface,
            interface_used: interfaces.iter().any(Option::is_some),
            time,
            time_used: times.iter().any(Option::is_some),
            program,
            program_used: programs.iter().any(Option::is_some),
            verdicts_offset,
            limit_of_offset,
            limits_offset,
            directed: brief.rules().any(|r| r.is_active() && r.direction != Direction::Inbound),
            logs: brief.rules().any(|rule| rule.log),
            limits: limits.iter().flatten().count() as u32,
            size,
        };
        Ok(Self { brief: Cow::Borrowed(brief), bytes: blob.bytes, layout })
    }
}

/// The seconds in which a rule is active; `None` is always.
fn alive(until: Option<Moment>) -> Option<RangeSet<u32>> {
    until.map(|Moment(until)| RangeSet::from_ranges(until.checked_sub(1).map(|last| (0, last))))
}

/// A rule's traffic with its direction above the keys.
fn traffic_slots(rule: &Rule) -> RangeSet<u32> {
    let slot = |key: TrafficKey| traffic_slot(rule.direction, key);
    let full = RangeSet::full();
    let keys = rule.traffic.keys.as_ref().unwrap_or(&full);
    RangeSet::from_ranges(keys.ranges().iter().map(|(a, b)| (slot(*a), slot(*b))))
}

fn de_bruijn_bytes() -> [u8; 64] {
    let mut table = [0; 64];
    for i in 0..64u8 {
        table[(DE_BRUIJN.wrapping_shl(u32::from(i)) >> 58) as usize] = i;
    }
    table
}

struct Blob {
    bytes: Vec<u8>,
}

impl Blob {
    /// Pads to the next section and says where that is.
    fn align(&mut self) -> u32 {
        self.bytes.resize(self.bytes.len().next_multiple_of(ALIGNMENT), 0);
        self.bytes.len() as u32
    }

    /// Which limit each rule has, and the limits; nothing when no rule has one.
    fn limits(&mut self, limits: &[Option<Limit>]) -> (u32, u32) {
        if limits.iter().all(Option::is_none) {
            return (0, 0);
        }
        let limit_of_offset = self.align();
        let mut next = 0u16;
        for limit in limits {
            self.bytes.extend(next.to_ne_bytes());
            // Never more of them than rules, which fit.
            next += u16::from(limit.is_some());
        }
        let limits_offset = self.align();
        for Limit { id, increment, tolerance, .. } in limits.iter().flatten() {
            self.bytes.extend([id, increment, tolerance].into_iter().flat_map(|n| n.to_ne_bytes()));
        }
        (limit_of_offset, limits_offset)
    }

    fn dimension<'s, T: Slot + 's>(
        &mut self,
        name: &'static str,
        words: usize,
        conditions: impl Iterator<Item = (bool, Option<&'s RangeSet<T>>)>,
    ) -> Result<Dimension, TooLarge> {
        // The rows are most of what tables weigh: they go straight into the blob.
        let rows_offset = self.align();
        let swept = sweep(words, conditions, &mut self.bytes);
        if swept.rows > usize::from(u16::MAX) {
            return Err(TooLarge::Classes { dimension: name, classes: swept.rows });
        }
        if self.bytes.len() > MOST_BYTES {
            return Err(TooLarge::Bytes { bytes: self.bytes.len(), most: MOST_BYTES });
        }
        let fanout = match swept.boundaries.len() {
            0..=64 => swept.boundaries.len().next_power_of_two().max(2),
            65..=262_144 => 64,
            _ => 16,
        };
        let mut dimension = Dimension {
            width: T::WIDTH,
            fanout: fanout as u32,
            levels: Vec::new(),
            classes_offset: 0,
            classes: swept.rows as u32,
            rows_offset,
        };
        if swept.rows > 1 {
            self.levels(&mut dimension, &swept.boundaries, fanout);
            dimension.classes_offset = self.align();
            let last = swept.classes.last().copied().unwrap_or_default();
            let padding = swept.classes.len().next_multiple_of(fanout) - swept.classes.len();
            let padded = swept.classes.iter().copied().chain(std::iter::repeat_n(last, padding));
            self.bytes.extend(padded.flat_map(u16::to_ne_bytes));
        }
        Ok(dimension)
    }

    fn levels<T: Slot>(&mut self, dimension: &mut Dimension, boundaries: &[T], fanout: usize) {
        let mut levels = vec![boundaries.to_vec()];
        while let Some(top) = levels.last()
            && top.len() > fanout
        {
            let above: Vec<T> = top.iter().copied().step_by(fanout).collect();
            levels.push(above);
        }
        for mut keys in levels.into_iter().rev() {
            keys.resize(keys.len().next_multiple_of(fanout), T::GREATEST);
            let offset = self.align();
            keys.iter().for_each(|key| key.write(&mut self.bytes));
            dimension.levels.push(Level { offset, nodes: (keys.len() / fanout) as u32 });
        }
    }
}

struct Swept<T> {
    boundaries: Vec<T>,
    /// One a boundary.
    classes: Vec<u16>,
    /// How many rows were appended, one a class.
    rows: usize,
}

/// Walks over all boundaries, keeping the row of the moment; each new row is
/// appended to `bytes`.
fn sweep<'s, T: Point + 's>(
    words: usize,
    conditions: impl Iterator<Item = (bool, Option<&'s RangeSet<T>>)>,
    bytes: &mut Vec<u8>,
) -> Swept<T> {
    let first_row = bytes.len();
    let mut row = vec![0u64; words];
    let mut boundaries = Boundaries::new();
    for (rule, (enabled, condition)) in conditions.enumerate() {
        match (enabled, condition) {
            (false, _) => {}
            (true, None) => row[rule / 64] |= 1 << (rule % 64),
            (true, Some(spans)) => boundaries.add(rule as u32, spans.ranges().iter().copied()),
        }
    }

    // A row's fingerprint changes by one XOR a toggle, so that finding its
    // class costs no walk over the row; equality is checked on a hit.
    let mut print = 0u64;
    let mut by_print: HashMap<u64, Vec<u16>> = HashMap::new();
    let mut swept = Swept { boundaries: Vec::new(), classes: Vec::new(), rows: 0 };
    for piece in boundaries.pieces() {
        for rule in piece.toggled() {
            row[rule as usize / 64] ^= 1 << (rule % 64);
            print ^= scatter(u64::from(rule) + 1);
        }
        let known = by_print.entry(print).or_default();
        let class = known.iter().copied().find(|class| {
            let begin = first_row + usize::from(*class) * words * 8;
            let stored = bytes[begin..begin + words * 8].chunks_exact(8);
            stored.zip(&row).all(|(stored, word)| *stored == word.to_ne_bytes())
        });
        let class = class.unwrap_or_else(|| {
            // Beyond 65,535 classes the caller refuses; the numbers no longer matter then.
            let class = swept.rows.min(usize::from(u16::MAX)) as u16;
            bytes.extend(row.iter().flat_map(|word| word.to_ne_bytes()));
            swept.rows += 1;
            known.push(class);
            class
        });
        if swept.classes.last() != Some(&class) {
            swept.boundaries.push(piece.first);
            swept.classes.push(class);
        }
        if swept.rows > usize::from(u16::MAX) || bytes.len() > MOST_BYTES {
            break;
        }
    }
    swept
}

/// The splitmix64 finaliser: spreads small numbers over 64 bits.
fn scatter(n: u64) -> u64 {
    let mut z = n.wrapping_mul(0x9e37_79b9_7f4a_7c15);
    z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
    z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
    z ^ (z >> 31)
}
