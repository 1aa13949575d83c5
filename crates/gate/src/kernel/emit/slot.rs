//! The jumps to what holds, and from there to what is rehearsed.

use std::os::fd::BorrowedFd;

use tipstaff_bpf::abi::helper;
use tipstaff_bpf::asm::{Assembler, If, Op, R0, R1, R2, R3, R6, R7, R8, R9, Width};

/// Where rehearsed orders stand in the slots, beside the places that can hold.
pub(crate) const REHEARSED: u32 = 3;

/// The outer gate's slot, and until when something is rehearsed there.
#[derive(Clone, Copy)]
pub(crate) struct Rehearsed<'m> {
    /// A map of one number: nanoseconds of CLOCK_BOOTTIME; 0 is never.
    pub(crate) until: BorrowedFd<'m>,
    pub(crate) slot: BorrowedFd<'m>,
}

/// Asks the switch, and jumps to the program that holds; r6 is the context. Falls through
/// where its place is empty.
pub(crate) fn into_what_holds(a: &mut Assembler, switch: BorrowedFd<'_>, slot: BorrowedFd<'_>) {
    let jump = a.label();
    a.ld_map_value(R1, switch, 0);
    a.load(Width::D, R7, R1, 0);
    a.copy(R8, R7);
    a.alu64_imm(Op::And, R8, 3);
    a.copy(R9, R7);
    a.alu64_imm(Op::Rsh, R9, 4);
    a.alu64_imm(Op::Lsh, R9, 4);
    a.jump_if(If::Eq, R9, 0, jump);
    a.call(helper::KTIME_GET_BOOT_NS);
    a.jump_if_reg(If::Lt, R0, R9, jump);
    a.copy(R8, R7);
    a.alu64_imm(Op::Rsh, R8, 2);
    a.alu64_imm(Op::And, R8, 3);
    a.place(jump);
    a.copy(R1, R6);
    a.map(R2, slot);
    a.copy(R3, R8);
    a.call(helper::TAIL_CALL);
}

/// Jumps to what is rehearsed, which lets everything pass; r6 is the context. Falls through
/// where nothing is, or its time is over.
pub(crate) fn into_rehearsal(a: &mut Assembler, rehearsed: Rehearsed<'_>) {
    let over = a.label();
    a.ld_map_value(R1, rehearsed.until, 0);
    a.load(Width::D, R7, R1, 0);
    a.jump_if(If::Eq, R7, 0, over);
    a.call(helper::KTIME_GET_BOOT_NS);
    a.jump_if_reg(If::Lt, R7, R0, over);
    a.copy(R1, R6);
    a.map(R2, rehearsed.slot);
    a.mov(R3, REHEARSED as i32);
    a.call(helper::TAIL_CALL);
    a.place(over);
}
