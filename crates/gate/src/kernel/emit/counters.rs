//! Who decided, counted.

use std::os::fd::BorrowedFd;

use tipstaff_bpf::abi::{helper, skb};
use tipstaff_bpf::asm::{Assembler, Flag, If, Label, Op, R0, R1, R2, R6, R7, R8, STACK, Width};
use tipstaff_core::brief::RuleIndex;
use tipstaff_core::decision::Speaker;
use tipstaff_core::decision::foundations::Foundation;
use tipstaff_core::names::traffic::TCP;
use tipstaff_core::orders::Action;
use tipstaff_core::packet::Direction;
use tipstaff_core::tables::layout::Verdict;

use crate::kernel::emit::context::{Hook, Parts, cb, told};
use crate::kernel::emit::frame::at;

/// Bytes of a counter: packets, their bytes, connections; u64 each.
pub(crate) const COUNTER_BYTES: u32 = 24;

/// Where its connections stand.
pub(crate) const CONNECTIONS: i16 = 16;

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
        count_begun(a);
    }
}

/// Adds a connection to the counter at r0, where the packet begins one that is known without
/// a look at the memory: what rules or a standing answer let through, of TCP or on its way to
/// somewhere else. r1 is lost.
fn count_begun(a: &mut Assembler) {
    let (begins, done) = (a.label(), a.label());
    a.jump_if(If::Ne, R8, u16::from(Verdict::ALLOW), done);
    a.jump_if(If::Lt, R7, CounterSlot::FOUNDATIONS as u16, done);
    at::WAY.load(a, R1);
    a.jump_if(If::Eq, R1, Flag::with(Direction::Transit as u16), begins);
    a.load(Width::W, R1, STACK, at::KEY);
    a.alu64_imm(Op::Rsh, R1, 16);
    a.alu64_imm(Op::And, R1, 0xff);
    a.jump_if(If::Ne, R1, TCP.into(), done);
    a.place(begins);
    add_connection(a);
    a.place(done);
}

/// Adds one to the connections of the counter at r0. r1 is lost.
fn add_connection(a: &mut Assembler) {
    a.load(Width::D, R1, R0, CONNECTIONS);
    a.alu64_imm(Op::Add, R1, 1);
    a.store(Width::D, R0, CONNECTIONS, R1);
}

/// Counts that an exchange begins, for the slot in r7; knocks begin none, nor do foundations.
/// r0 to r5 are lost.
pub(crate) fn count_exchange(a: &mut Assembler, counters: BorrowedFd<'_>) {
    let done = a.label();
    a.jump_if(If::Lt, R7, CounterSlot::FOUNDATIONS as u16, done);
    a.load(Width::W, R1, R6, cb::TOLD);
    a.jump_if(If::Set, R1, told::KNOCK, done);
    a.store(Width::W, STACK, at::SLOT, R7);
    a.map(R1, counters);
    a.stack(R2, at::SLOT);
    a.call(helper::MAP_LOOKUP_ELEM);
    a.jump_if(If::Eq, R0, 0, done);
    add_connection(a);
    a.place(done);
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
