//! Shares in the memories, as [`tipstaff_core::decision::shares`] has them: how many new
//! entries a network has added in its last window.

use std::os::fd::BorrowedFd;

use tipstaff_bpf::abi::helper;
use tipstaff_bpf::asm::{Assembler, If, Label, Op, R0, R1, R2, R3, R4, STACK, Width};
use tipstaff_core::decision::shares::{Filled, PART, WINDOW_BITS};
use tipstaff_core::names::address::Family;

use crate::kernel::emit::frame::at;

/// Bytes of a key: what is filled, u64, and the network as 16 bytes, IPv4 as
/// `::ffff:a.b.c.d`. The value is one number: the window in its upper half, the
/// count in its lower.
pub(crate) const SHARE_BYTES: u32 = 24;

/// The memory of shares, and the room in the memory that is shared.
#[derive(Clone, Copy)]
pub(crate) struct Shares<'m> {
    pub(crate) map: BorrowedFd<'m>,
    pub(crate) room: u32,
}

/// Whose share it is.
#[derive(Clone, Copy)]
pub(crate) enum Whose {
    /// The network of a source of rates.
    Source,
    /// Who sends what is forwarded.
    Sender(Family),
}

/// Counts one entry more for the address whose 16 bytes stand on the stack at
/// `address`, at the time on the stack. Goes to `beyond` when that is more
/// than its share, else falls through. r0 to r5 are lost.
pub(crate) fn take(
    a: &mut Assembler,
    shares: Shares<'_>,
    whose: Whose,
    address: i16,
    beyond: Label,
) {
    let (known, same, within) = (a.label(), a.label(), a.label());
    let filled = match whose {
        Whose::Source => Filled::Sources,
        Whose::Sender(_) => Filled::Forwarded,
    };
    a.store_imm(Width::D, STACK, at::SHARE, filled as i32);
    for half in [0, 8] {
        a.load(Width::D, R1, STACK, address + half);
        a.store(Width::D, STACK, at::SHARE + 8 + half, R1);
    }
    match whose {
        // A /48, or what ends it; a /16, or what ends it: zeros where the others are none.
        Whose::Source => {
            a.store_imm(Width::H, STACK, at::SHARE + 8 + 6, 0);
            a.store_imm(Width::H, STACK, at::SHARE + 8 + 14, 0);
        }
        Whose::Sender(Family::V4) => {}
        Whose::Sender(Family::V6) => a.store_imm(Width::D, STACK, at::SHARE + 16, 0),
    }
    // The window, in the upper half.
    a.load(Width::D, R1, STACK, at::NOW);
    a.alu64_imm(Op::Rsh, R1, WINDOW_BITS as u16);
    a.alu64_imm(Op::Lsh, R1, 32);
    a.store(Width::D, STACK, at::SHARE_VALUE, R1);
    a.map(R1, shares.map);
    a.stack(R2, at::SHARE);
    a.call(helper::MAP_LOOKUP_ELEM);
    a.jump_if(If::Ne, R0, 0, known);
    a.load(Width::D, R1, STACK, at::SHARE_VALUE);
    a.alu64_imm(Op::Add, R1, 1);
    a.store(Width::D, STACK, at::SHARE_VALUE, R1);
    a.map(R1, shares.map);
    a.stack(R2, at::SHARE);
    a.stack(R3, at::SHARE_VALUE);
    a.mov(R4, 0);
    a.call(helper::MAP_UPDATE_ELEM);
    a.jump(within);

    a.place(known);
    a.load(Width::D, R1, STACK, at::SHARE_VALUE);
    a.load(Width::D, R2, R0, 0);
    a.copy(R3, R2);
    a.alu64_imm(Op::Rsh, R3, 32);
    a.alu64_imm(Op::Lsh, R3, 32);
    a.jump_if_reg(If::Eq, R3, R1, same);
    // Two processors may both begin a window: one entry more or less.
    a.copy(R2, R1);
    a.place(same);
    a.copy(R3, R2);
    a.alu64_imm(Op::Lsh, R3, 32);
    a.alu64_imm(Op::Rsh, R3, 32);
    let share = (shares.room / PART as u32).max(1);
    a.jump32_if(If::Gt, R3, share - 1, beyond);
    a.alu64_imm(Op::Add, R2, 1);
    a.store(Width::D, R0, 0, R2);
    a.place(within);
}
