//! A list of rules as one flat blob of bytes, and its user-space executor.
//!
//! Each dimension maps a packet's value to a *class* (an equivalence class: values
//! that no rule tells apart) by a search in sorted boundaries; each class has a
//! *row* of bits, one a rule; the rows are ANDed
//! and the lowest set bit is the rule. The kernel's program reads the same
//! bytes in the same way ([`layout`]).

mod build;
pub mod layout;

use std::borrow::Cow;
use std::net::IpAddr;
use std::time::Duration;

use layout::{Dimension, KeyWidth, LIMIT_BYTES, Layout, Verdict, traffic_slot};

use crate::brief::{Brief, RuleIndex};
use crate::bytes::ReadAt;
use crate::decision::rates::Rates;
use crate::decision::{Decision, RuleQuery, decide_with};
use crate::names::range_set::Point;
use crate::names::traffic::TrafficKey;
use crate::orders::{Limit, Over, Sharing};
use crate::packet::{Direction, PacketContext};

/// Why a list has no tables.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum TooLarge {
    /// Too many rules.
    #[error(
        "{rules} rules are more than the {most} that fit; gather addresses into groups and ports into lists"
    )]
    Rules {
        /// Rules of the list.
        rules: usize,
        /// The bound.
        most: usize,
    },
    /// Too many different rows.
    #[error(
        "the rules divide {dimension} into more than 65,535 kinds ({classes}); use fewer, wider ranges"
    )]
    Classes {
        /// Which dimension.
        dimension: &'static str,
        /// How many kinds were counted before giving up.
        classes: usize,
    },
    /// Too many bytes.
    #[error("the tables would take {} MiB, more than the {} MiB that fit; use fewer rules or wider ranges", bytes.div_ceil(1 << 20), most >> 20)]
    Bytes {
        /// Bytes of the tables.
        bytes: usize,
        /// The bound.
        most: usize,
    },
}

/// A key that can stand in a slot of the blob.
trait Slot: Point {
    const WIDTH: KeyWidth;
    fn write(self, bytes: &mut Vec<u8>);
    fn read(bytes: &[u8], at: usize) -> Option<Self>;
}

impl Slot for u32 {
    const WIDTH: KeyWidth = KeyWidth::Bits32;
    fn write(self, bytes: &mut Vec<u8>) {
        bytes.extend(self.to_ne_bytes());
    }
    #[inline]
    fn read(bytes: &[u8], at: usize) -> Option<Self> {
        bytes.u32_ne(at)
    }
}

impl Slot for u128 {
    const WIDTH: KeyWidth = KeyWidth::Bits128;
    fn write(self, bytes: &mut Vec<u8>) {
        bytes.extend(((self >> 64) as u64).to_ne_bytes());
        bytes.extend((self as u64).to_ne_bytes());
    }
    #[inline]
    fn read(bytes: &[u8], at: usize) -> Option<Self> {
        let (high, low) = (bytes.u64_ne(at)?, bytes.u64_ne(at + 8)?);
        Some(Self::from(high) << 64 | Self::from(low))
    }
}

/// The fingerprint of a blob, SHA-256 in hexadecimal digits: whoever reads it
/// back can tell whether it is still what was written. Rows are bits of which few
/// are set, so blocks of zeros are left out; the others are hashed with their
/// places, and the length, by which no two blobs look the same.
pub fn fingerprint(bytes: &[u8]) -> String {
    use sha2::Digest;
    const BLOCK: usize = 64;
    let mut hash = sha2::Sha256::new();
    for (place, block) in bytes.chunks(BLOCK).enumerate() {
        if block != &[0; BLOCK][..block.len()] {
            hash.update((place as u64).to_le_bytes());
            hash.update(block);
        }
    }
    hash.update((bytes.len() as u64).to_le_bytes());
    hash.finalize().iter().map(|byte| format!("{byte:02x}")).collect()
}

/// The blob, where everything stands in it, and the list that it was built of.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Tables<'b> {
    brief: Cow<'b, Brief>,
    bytes: Vec<u8>,
    layout: Layout,
}

impl Tables<'_> {
    /// The list that they were built of.
    pub fn brief(&self) -> &Brief {
        &self.brief
    }

    /// The same, with a list of their own.
    pub fn into_owned(self) -> Tables<'static> {
        let Self { brief, bytes, layout } = self;
        Tables { brief: Cow::Owned(brief.into_owned()), bytes, layout }
    }

    /// The bytes that go into the kernel.
    pub fn bytes(&self) -> &[u8] {
        &self.bytes
    }

    /// Where everything stands.
    pub fn layout(&self) -> &Layout {
        &self.layout
    }

    /// The first rule that holds.
    #[inline]
    pub fn first(&self, question: &RuleQuery) -> Option<RuleIndex> {
        let layout = &self.layout;
        let traffic = self.row(&layout.traffic, traffic_slot(question.direction, question.key))?;
        let source = self.address_row(&layout.source4, &layout.source6, question.source)?;
        // A dimension that no rule looks at costs nothing.
        let destination = match layout.destination_used {
            true => {
                let (four, six) = (&layout.destination4, &layout.destination6);
                Some(self.address_row(four, six, question.destination)?)
            }
            false => None,
        };
        let interface = match layout.interface_used {
            true => Some(self.row(&layout.interface, question.interface.0)?),
            false => None,
        };
        let time = match layout.time_used {
            true => Some(self.row(&layout.time, question.now.0)?),
            false => None,
        };
        let program = match layout.program_used {
            true => Some(self.row(&layout.program, question.program.0)?),
            false => None,
        };
        let (traffic, _) = traffic.as_chunks::<8>();
        let (source, _) = source.as_chunks::<8>();
        for (at, (a, b)) in traffic.iter().zip(source).enumerate() {
            let mut all = u64::from_ne_bytes(*a) & u64::from_ne_bytes(*b);
            if all == 0 {
                continue;
            }
            for row in [destination, interface, time, program].into_iter().flatten() {
                all &= row.u64_ne(at * 8)?;
            }
            if all != 0 {
                return Some(RuleIndex(at as u32 * 64 + all.trailing_zeros()));
            }
        }
        None
    }

    /// The rules of a direction that are about a kind of traffic, whatever else
    /// they look at, in their order.
    pub fn about(&self, direction: Direction, key: TrafficKey) -> impl Iterator<Item = RuleIndex> {
        let row = self.row(&self.layout.traffic, traffic_slot(direction, key)).unwrap_or_default();
        row.chunks_exact(8).enumerate().flat_map(|(at, bytes)| {
            let mut left = bytes.u64_ne(0).unwrap_or_default();
            std::iter::from_fn(move || {
                let bit = (left != 0).then(|| left.trailing_zeros())?;
                left &= left - 1;
                Some(RuleIndex(at as u32 * 64 + bit))
            })
        })
    }

    #[inline]
    fn address_row(&self, four: &Dimension, six: &Dimension, address: IpAddr) -> Option<&[u8]> {
        match address {
            IpAddr::V4(a) => self.row(four, u32::from(a)),
            IpAddr::V6(a) => self.row(six, u128::from(a)),
        }
    }

    /// Decides one packet.
    #[inline]
    pub fn decide(&self, facts: &PacketContext) -> Decision {
        decide_with(&self.brief, facts, |question| self.first(question))
    }

    /// The same, with rates: what [`crate::decision::decide_within`] says.
    #[inline]
    pub fn decide_within(
        &self,
        facts: &PacketContext,
        rates: &mut Rates,
        at: Duration,
    ) -> Decision {
        rates.ask(self.decide(facts), |index| self.limit(index), &facts.packet, at)
    }

    /// The limit of a rule, as its bytes have it.
    fn limit(&self, RuleIndex(index): RuleIndex) -> Option<Limit> {
        let layout = &self.layout;
        let verdict = *self.bytes.get((layout.verdicts_offset + index) as usize)?;
        if verdict & Verdict::LIMITED == 0 {
            return None;
        }
        let at = (layout.limit_of_offset + index * 2) as usize;
        let number = self.bytes.u16_ne(at)?;
        let at = (layout.limits_offset + u32::from(number) * LIMIT_BYTES) as usize;
        let bit = |bit: u8| verdict & bit != 0;
        Some(Limit {
            id: self.bytes.u64_ne(at)?,
            increment: self.bytes.u64_ne(at + 8)?,
            tolerance: self.bytes.u64_ne(at + 16)?,
            sharing: if bit(Verdict::IN_ALL) { Sharing::InAll } else { Sharing::PerSource },
            over: if bit(Verdict::THEN_REFUSE) { Over::Refuse } else { Over::Deny },
        })
    }

    /// The row of bits for a key; `None` only if the blob were unsound.
    #[inline]
    fn row<T: Slot>(&self, dimension: &Dimension, key: T) -> Option<&[u8]> {
        let class = self.class(dimension, key)?;
        let length = self.layout.row_bytes() as usize;
        let at = dimension.rows_offset as usize + class * length;
        self.bytes.get(at..at + length)
    }

    #[inline]
    fn class<T: Slot>(&self, dimension: &Dimension, key: T) -> Option<usize> {
        if dimension.levels.is_empty() {
            return Some(0);
        }
        let (fanout, width) = (dimension.fanout as usize, T::WIDTH.bytes() as usize);
        let mut index = 0;
        for level in &dimension.levels {
            // Padding in the level above leads the greatest key behind the last node.
            let node = index.min(level.nodes as usize - 1);
            let begin = level.offset as usize + node * fanout * width;
            let slots = self.bytes.get(begin..begin + fanout * width)?;
            let mut slot = 0;
            let mut shift = dimension.fanout.trailing_zeros();
            while shift > 0 {
                shift -= 1;
                let boundary = T::read(slots, (slot + (1 << shift)) * width)?;
                // No branch: it would be wrong half of the time.
                slot += usize::from(boundary <= key) << shift;
            }
            index = node * fanout + slot;
        }
        let at = dimension.classes_offset as usize + index * 2;
        let class = self.bytes.u16_ne(at)?;
        Some(usize::from(class))
    }
}

#[cfg(test)]
mod tests {
    use super::fingerprint;

    #[test]
    fn no_two_blobs_have_the_same_fingerprint() {
        let mut blob = vec![0u8; 300];
        blob[70] = 1;
        let known = fingerprint(&blob);
        for at in 0..blob.len() {
            let mut other = blob.clone();
            other[at] ^= 2;
            assert_ne!(fingerprint(&other), known, "byte {at}");
        }
        // The same bytes in other places, and zeros more or less.
        let moved: Vec<u8> = [&[0; 64], &blob[..236]].concat();
        assert_ne!(fingerprint(&moved), known);
        for length in [256, 299, 301, 320, 364] {
            blob.resize(length, 0);
            assert_ne!(fingerprint(&blob), known, "{length} bytes");
        }
    }
}
