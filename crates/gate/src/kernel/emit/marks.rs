//! What the gate writes on packets so that its programs know them again. All
//! of it is random for each gate, and counts only where the gate itself wrote it:
//! nobody who chooses a mark for their packets can pretend anything.
//!
//! A *note* stands in the packet's `tc_index`, from where it came in to where
//! it leaves: that it was decided, and how. A *knock* of the reach check bears
//! a number in the control block, between the programs at one interface.

use tipstaff_bpf::abi::skb;
use tipstaff_bpf::asm::{Assembler, If, Label, R1, R6, Width};

/// Bytes of [`Marks`] in their map, behind the 16 of the hash's secret.
pub const MARK_BYTES: usize = 16;

/// The numbers of a gate.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Marks {
    /// A knock's, in two words of the control block.
    pub knock: u64,
    /// The mark (SO_MARK) of datagrams of the reach check's own, which are not
    /// counted where they are sent.
    pub quiet: u32,
    /// The upper 13 bits of a note; never all zeros.
    note: u16,
}

impl Marks {
    /// Made of random bytes.
    pub(crate) fn from_random(random: [u8; MARK_BYTES]) -> Self {
        let [k @ .., q0, q1, q2, q3, n0, n1, _, _] = random;
        Self {
            knock: u64::from_ne_bytes(k),
            quiet: u32::from_ne_bytes([q0, q1, q2, q3]).max(1),
            note: u16::from_ne_bytes([n0, n1]) & !7 | 8,
        }
    }

    /// A note as the packet bears it.
    pub(crate) fn note(self, note: Note) -> u16 {
        self.note | note as u16
    }
}

/// How a packet was decided.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[repr(u16)]
pub enum Note {
    /// For this host: nothing of it is to be forwarded.
    Inbound = 1,
    /// For this host, by rules, and sent to an own address: addresses may be
    /// translated, and the packet be forwarded then.
    Own = 2,
    /// Let through by rules: it opens a flow.
    Through = 3,
    /// It belongs to a flow or connection that is known.
    Reply = 4,
    /// Let out.
    Out = 5,
}

/// Goes to `noted` when the packet bears that note; r1 is lost.
pub(crate) fn jump_if_noted(a: &mut Assembler, marks: Marks, note: Note, noted: Label) {
    a.load(Width::W, R1, R6, skb::TC_INDEX);
    a.jump_if(If::Eq, R1, marks.note(note), noted);
}

/// Writes a note, or takes it off; r1 is lost.
pub(crate) fn write_note(a: &mut Assembler, marks: Marks, note: Option<Note>) {
    a.mov(R1, note.map_or(0, |note| marks.note(note).into()));
    a.store(Width::W, R6, skb::TC_INDEX, R1);
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn no_random_bytes_make_a_note_of_nothing() {
        for byte in [0, 1, 7, 8, 255] {
            let marks = Marks::from_random([byte; MARK_BYTES]);
            let notes = [Note::Inbound, Note::Own, Note::Through, Note::Reply, Note::Out];
            let mut written: Vec<u16> = notes.map(|note| marks.note(note)).to_vec();
            written.dedup();
            assert_eq!(written.len(), 5);
            assert!(written.iter().all(|note| *note > 7) && marks.quiet != 0);
        }
    }
}
