//! Rates in the kernel: one time a source, as [`tipstaff_core::decision::rates`] has it,
//! in a map that outlives revisions.

use std::os::fd::BorrowedFd;

use tipstaff_bpf::abi::{NOEXIST, helper};
use tipstaff_bpf::asm::{
    Assembler, Flag, If, Label, Op, R0, R1, R2, R3, R4, R5, R6, R7, R8, R9, STACK, Width,
};
use tipstaff_bpf::parse::source_offset;
use tipstaff_core::names::address::Family;
use tipstaff_core::tables::layout::{LIMIT_BYTES, Verdict};

use crate::kernel::emit::context::{Hook, Parts, cb, told};
use crate::kernel::emit::frame::{at, looks};
use crate::kernel::emit::shares::{self, Shares, Whose};

/// Other packets that took from the same bucket meanwhile are waited out so often.
const TRIES: usize = 4;

/// Notes the source of the packet, where any rule counts by source.
pub(crate) fn note_source(a: &mut Assembler, family: Family, parts: &Parts<'_>) {
    if parts.layout.limits == 0 {
        return;
    }
    let offset = at::HEADER + source_offset(family);
    match family {
        Family::V4 => {
            a.store_imm(Width::D, STACK, at::BUCKET + 8, 0);
            a.store_imm(Width::W, STACK, at::BUCKET + 16, i32::from_ne_bytes([0, 0, 0xff, 0xff]));
            a.load(Width::W, R1, STACK, offset);
            a.store(Width::W, STACK, at::BUCKET + 20, R1);
        }
        Family::V6 => {
            a.load(Width::D, R1, STACK, offset);
            a.store(Width::D, STACK, at::BUCKET + 8, R1);
            a.store_imm(Width::D, STACK, at::BUCKET + 16, 0);
        }
    }
}

/// Asks the rate of the rule in r9, whose verdict byte is in r1 and whose slot
/// and action are in r7 and r8; beyond it they change. Goes to `finish`.
pub(crate) fn ask(a: &mut Assembler, hook: Hook, parts: &Parts<'_>, corrupt: Label, finish: Label) {
    let layout = parts.layout;
    // Where a socket connects, a rule with a rate has left the decision to the packet.
    if layout.limits == 0 || matches!(hook, Hook::Connect(_)) {
        a.jump(finish);
        return;
    }
    let (limited, own, beyond, refuse) = (a.label(), a.label(), a.label(), a.label());
    a.jump_if(If::Set, R1, u16::from(Verdict::LIMITED), limited);
    a.jump(finish);
    a.place(limited);
    a.load(Width::W, R2, R6, cb::TOLD);
    a.jump_if(If::Set, R2, told::ASKED | told::EARLY, finish);
    a.store(Width::D, STACK, at::VERDICT, R1);

    a.copy(R2, R9);
    a.alu64_imm(Op::Lsh, R2, 1);
    a.ld_map_value(R3, parts.tables, layout.limit_of_offset);
    a.alu64(Op::Add, R3, R2);
    a.load(Width::H, R2, R3, 0);
    a.jump32_if(If::Gt, R2, layout.limits - 1, corrupt);
    a.alu64_imm(Op::Mul, R2, LIMIT_BYTES as u16);
    a.ld_map_value(R3, parts.tables, layout.limits_offset);
    a.alu64(Op::Add, R3, R2);
    for (from, to) in [(0, at::BUCKET), (8, at::INCREMENT), (16, at::TOLERANCE)] {
        a.load(Width::D, R2, R3, from);
        a.store(Width::D, STACK, to, R2);
    }
    let each = a.label();
    a.jump_if(If::Set, R1, u16::from(Verdict::IN_ALL), own);
    a.jump(each);
    a.place(own);
    a.store_imm(Width::D, STACK, at::BUCKET + 8, 0);
    a.store_imm(Width::D, STACK, at::BUCKET + 16, 0);
    a.place(each);
    let look = a.label();
    a.load(Width::W, R2, R6, cb::TOLD);
    a.jump_if(If::Set, R2, told::KNOCK, look);
    at::LOOKS.load(a, R2);
    a.jump_if(If::Eq, R2, Flag::with(looks::IS_PAID), finish);
    // The second line cannot check the cookie of a handshake.
    a.jump_if(If::Ne, R2, Flag::with(0), if hook == Hook::Outer { look } else { finish });
    let shares = Shares { room: parts.sources, ..parts.flows.shares };
    take(a, parts.rates, Some(shares), finish, beyond);
    a.place(look);
    look_into(a, parts.rates, finish, beyond);

    a.place(beyond);
    a.alu64_imm(Op::Add, R7, 1);
    a.mov(R8, i32::from(Verdict::DENY));
    a.load(Width::D, R1, STACK, at::VERDICT);
    a.jump_if(If::Set, R1, u16::from(Verdict::THEN_REFUSE), refuse);
    a.jump(finish);
    a.place(refuse);
    a.mov(R8, i32::from(Verdict::REFUSE));
    a.jump(finish);
}

/// Whether one packet could be taken out of the bucket whose key and tolerance
/// stand on the stack, without taking it. Goes to `within` or to `beyond`; r0
/// to r5 are lost.
fn look_into(a: &mut Assembler, rates: BorrowedFd<'_>, within: Label, beyond: Label) {
    a.call(helper::KTIME_GET_NS);
    a.store(Width::D, STACK, at::NOW, R0);
    a.map(R1, rates);
    a.stack(R2, at::BUCKET);
    a.call(helper::MAP_LOOKUP_ELEM);
    a.jump_if(If::Eq, R0, 0, within);
    a.load(Width::D, R1, R0, 0);
    a.load(Width::D, R2, STACK, at::NOW);
    let ahead = a.label();
    a.jump_if_reg(If::Gt, R1, R2, ahead);
    a.jump(within);
    a.place(ahead);
    a.alu64(Op::Sub, R1, R2);
    a.load(Width::D, R2, STACK, at::TOLERANCE);
    a.jump_if_reg(If::Gt, R1, R2, beyond);
    a.jump(within);
}

/// Takes one packet out of the bucket whose key, increment and tolerance stand
/// on the stack. Goes to `within` or to `beyond`; r0 to r5 are lost.
pub(crate) fn take(
    a: &mut Assembler,
    rates: BorrowedFd<'_>,
    shares: Option<Shares<'_>>,
    within: Label,
    beyond: Label,
) {
    let (insert, known) = (a.label(), a.label());
    a.call(helper::KTIME_GET_NS);
    a.store(Width::D, STACK, at::NOW, R0);
    a.map(R1, rates);
    a.stack(R2, at::BUCKET);
    a.call(helper::MAP_LOOKUP_ELEM);
    a.jump_if(If::Eq, R0, 0, insert);
    a.jump(known);

    a.place(insert);
    if let Some(shares) = shares {
        // Where all have one bucket together, its source is zeros.
        let in_all = a.label();
        a.load(Width::D, R1, STACK, at::BUCKET + 8);
        a.load(Width::D, R2, STACK, at::BUCKET + 16);
        a.alu64(Op::Or, R1, R2);
        a.jump_if(If::Eq, R1, 0, in_all);
        shares::take(a, shares, Whose::Source, at::BUCKET + 8, beyond);
        a.place(in_all);
    }
    a.load(Width::D, R1, STACK, at::NOW);
    a.load(Width::D, R2, STACK, at::INCREMENT);
    a.alu64(Op::Add, R1, R2);
    a.store(Width::D, STACK, at::LEVEL, R1);
    a.map(R1, rates);
    a.stack(R2, at::BUCKET);
    a.stack(R3, at::LEVEL);
    a.mov(R4, NOEXIST);
    a.call(helper::MAP_UPDATE_ELEM);
    a.jump_if(If::Eq, R0, 0, within);
    // Another processor was first. Where there is no room at all, nothing is let in.
    a.map(R1, rates);
    a.stack(R2, at::BUCKET);
    a.call(helper::MAP_LOOKUP_ELEM);
    a.jump_if(If::Eq, R0, 0, beyond);

    a.place(known);
    a.copy(R3, R0);
    a.load(Width::D, R4, STACK, at::NOW);
    a.load(Width::D, R5, STACK, at::TOLERANCE);
    for _ in 0..TRIES {
        let ahead = a.label();
        a.load(Width::D, R0, R3, 0);
        a.copy(R2, R0);
        a.jump_if_reg(If::Gt, R2, R4, ahead);
        a.copy(R2, R4);
        a.place(ahead);
        a.copy(R1, R2);
        a.alu64(Op::Sub, R1, R4);
        a.jump_if_reg(If::Gt, R1, R5, beyond);
        a.load(Width::D, R1, STACK, at::INCREMENT);
        a.alu64(Op::Add, R2, R1);
        a.copy(R1, R0);
        a.compare_and_swap(R3, 0, R2);
        a.jump_if_reg(If::Eq, R0, R1, within);
    }
    a.jump(beyond);
}
