//! Who decided, counted.

use tipstaff_bpf::abi::{helper, skb};
use tipstaff_bpf::asm::{Assembler, If, Label, Op, R0, R1, R2, R6, R7, R8, STACK, Width};
use tipstaff_core::brief::RuleIndex;
use tipstaff_core::decision::Speaker;
use tipstaff_core::decision::foundations::Foundation;
use tipstaff_core::orders::Action;
use tipstaff_core::packet::Direction;
use tipstaff_core::tables::layout::Verdict;

use crate::kernel::emit::context::{Hook, Parts};
use crate::kernel::emit::frame::at;

/// A counter slot: what decided, as a number.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct CounterSlot(pub u32);

impl CounterSlot {
    /// Foundations have the first slots, by their numbers.
    pub(crate) const FOUNDATIONS: u32 = 16;
    pub(crate) const REPLIES: u16 = Foundation::Replies as u16;
    const STANDING_INBOUND: u32 = 16;
    const STANDING_TRANSIT: u32 = 17;
    const UNSOUND: u32 = 18;
    pub(crate) const NOBODY: u32 = 19;
    const STANDING_OUTBOUND: u32 = 20;
    /// Decisions of the standing answers that were left out of the records.
    pub(crate) const UNRECORDED: u32 = 21;
    /// Records for which the ring had no room.
    pub(crate) const LOST: u32 = 22;
    /// The slots that count records, not decisions.
    pub(crate) const OF_RECORDS: [u32; 2] = [Self::UNRECORDED, Self::LOST];
    pub(crate) const FIRST_RULE: u32 = 32;

    /// How many slots a list of `rules` rules needs.
    pub fn count(rules: u32) -> u32 {
        Self::FIRST_RULE + 2 * rules
    }

    /// The slot of a speaker.
    pub fn for_speaker(speaker: Speaker) -> Self {
        Self(match speaker {
            Speaker::Nobody => Self::NOBODY,
            Speaker::Foundation(foundation) => foundation as u32,
            Speaker::Rule(index) => Self::FIRST_RULE + 2 * index.0,
            Speaker::Beyond(index) => Self::FIRST_RULE + 2 * index.0 + 1,
            Speaker::Standing(Direction::Inbound) => Self::STANDING_INBOUND,
            Speaker::Standing(Direction::Outbound) => Self::STANDING_OUTBOUND,
            Speaker::Standing(Direction::Transit) => Self::STANDING_TRANSIT,
            Speaker::CorruptTables => Self::UNSOUND,
        })
    }

    /// Who has this slot; `None` for the unused ones.
    pub fn speaker(self) -> Option<Speaker> {
        Some(match self.0 {
            n if n < Self::FOUNDATIONS => {
                Speaker::Foundation(Foundation::ALL.into_iter().find(|f| *f as u32 == n)?)
            }
            Self::STANDING_INBOUND => Speaker::Standing(Direction::Inbound),
            Self::STANDING_OUTBOUND => Speaker::Standing(Direction::Outbound),
            Self::STANDING_TRANSIT => Speaker::Standing(Direction::Transit),
            Self::UNSOUND => Speaker::CorruptTables,
            Self::NOBODY => Speaker::Nobody,
            n if n >= Self::FIRST_RULE => {
                let (index, beyond) = ((n - Self::FIRST_RULE) / 2, (n - Self::FIRST_RULE) % 2);
                let index = RuleIndex(index);
                if beyond == 1 { Speaker::Beyond(index) } else { Speaker::Rule(index) }
            }
            _ => return None,
        })
    }
}

/// Ends with an outcome: r7 becomes its slot, r8 its action.
pub(crate) fn outcome(a: &mut Assembler, speaker: Speaker, action: Action, finish: Label) {
    a.mov(R7, CounterSlot::for_speaker(speaker).0 as i32);
    a.mov(R8, i32::from(Verdict::action_bits(action)));
    a.jump(finish);
}

/// Counts for the slot in r7, or goes to `otherwise`. r0 to r5 are lost.
pub(crate) fn count(a: &mut Assembler, hook: Hook, parts: &Parts<'_>, otherwise: Label) {
    a.store(Width::W, STACK, at::SLOT, R7);
    count_one(a, parts, otherwise);
    // Who only connects has sent nothing yet.
    if matches!(hook, Hook::Outer | Hook::Inner) {
        a.load(Width::W, R2, R6, skb::LEN);
        a.load(Width::D, R1, R0, 8);
        a.alu64(Op::Add, R1, R2);
        a.store(Width::D, R0, 8, R1);
    }
}

/// Adds one packet for the slot on the stack, or goes to `otherwise`; r0 is the
/// counter then. r0 to r5 are lost.
pub(crate) fn count_one(a: &mut Assembler, parts: &Parts<'_>, otherwise: Label) {
    a.map(R1, parts.counters);
    a.stack(R2, at::SLOT);
    a.call(helper::MAP_LOOKUP_ELEM);
    a.jump_if(If::Eq, R0, 0, otherwise);
    a.load(Width::D, R1, R0, 0);
    a.alu64_imm(Op::Add, R1, 1);
    a.store(Width::D, R0, 0, R1);
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_speaker_has_a_slot_of_its_own() {
        let mut speakers: Vec<Speaker> =
            Foundation::ALL.into_iter().map(Speaker::Foundation).collect();
        speakers.extend([
            Speaker::Nobody,
            Speaker::CorruptTables,
            Speaker::Standing(Direction::Inbound),
            Speaker::Standing(Direction::Outbound),
            Speaker::Standing(Direction::Transit),
            Speaker::Rule(RuleIndex(0)),
            Speaker::Beyond(RuleIndex(0)),
            Speaker::Rule(RuleIndex(9_999)),
        ]);
        for speaker in &speakers {
            assert_eq!(CounterSlot::for_speaker(*speaker).speaker(), Some(*speaker));
        }
        assert_eq!(CounterSlot(CounterSlot::LOST).speaker(), None);
        assert_eq!(CounterSlot::count(3), 38);
        assert!(Foundation::ALL.iter().all(|f| (*f as u32) < CounterSlot::FOUNDATIONS));
    }
}
