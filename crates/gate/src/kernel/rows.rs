//! The tables' executor in the kernel: search each dimension, AND the rows,
//! take the lowest set bit. The layout is that of
//! [`tipstaff_core::tables::layout`].

use tipstaff_core::names::address::Family;
use tipstaff_core::tables::layout::{DE_BRUIJN, DE_BRUIJN_OFFSET, Dimension, KeyWidth};

use super::assembler::{
    Assembler, If, Label, Op, R0, R1, R2, R3, R4, R5, R7, R8, R9, Reg, STACK, Width,
};
use super::reading::{at, source_offset};
use super::verdict::{CounterSlot, DROP, NEXT, Parts};

/// The source address as a number: r1 (IPv4), or r1 high and r2 low (IPv6).
pub(super) fn source_key(a: &mut Assembler, family: Family) {
    let offset = at::HEADER + source_offset(family);
    match family {
        Family::V4 => {
            a.load(Width::W, R1, STACK, offset);
            a.from_network(R1, 32);
        }
        Family::V6 => {
            a.load(Width::D, R1, STACK, offset);
            a.from_network(R1, 64);
            a.load(Width::D, R2, STACK, offset + 8);
            a.from_network(R2, 64);
        }
    }
}

/// Searches a dimension for the key in r1 (and r2); r3 becomes the address of
/// its row. Branchless within a node, so that the verifier sees one way only.
pub(super) fn row_address(
    a: &mut Assembler,
    parts: &Parts<'_>,
    dimension: &Dimension,
    unsound: Label,
) {
    if dimension.levels.is_empty() {
        a.map_value(R3, parts.tables, dimension.rows_offset);
        return;
    }
    let slot_bytes = dimension.width.bytes();
    let fanout_bits = dimension.fanout.trailing_zeros() as i32;
    let slot_bits = slot_bytes.trailing_zeros() as i32;
    if dimension.width == KeyWidth::Bits32 {
        // Compared as "boundary < key + 1" in 64 bits, which never wraps.
        a.op(Op::Add, R1, 1);
    }
    a.mov(R5, 0);
    for (depth, level) in dimension.levels.iter().enumerate() {
        a.map_value(R3, parts.tables, level.offset);
        if depth > 0 {
            let last = level.nodes as i32 - 1;
            let sound = a.label();
            a.jump_if(If::Lt, R5, level.nodes as i32, sound);
            a.mov(R5, last);
            a.place(sound);
            a.op(Op::Lsh, R5, fanout_bits);
            a.copy(R4, R5);
            a.op(Op::Lsh, R4, slot_bits);
            a.op_reg(Op::Add, R3, R4);
        }
        let mut step = dimension.fanout / 2;
        while step > 0 {
            at_or_below(a, dimension.width, (step * slot_bytes) as i16);
            a.op(Op::Lsh, R4, step.trailing_zeros() as i32);
            a.op_reg(Op::Add, R5, R4);
            a.op(Op::Lsh, R4, slot_bits);
            a.op_reg(Op::Add, R3, R4);
            step /= 2;
        }
    }
    a.map_value(R3, parts.tables, dimension.classes_offset);
    a.op(Op::Lsh, R5, 1);
    a.op_reg(Op::Add, R3, R5);
    a.load(Width::H, R5, R3, 0);
    a.jump_if(If::Gt, R5, dimension.classes as i32 - 1, unsound);
    a.op(Op::Mul, R5, parts.layout.row_bytes() as i32);
    a.map_value(R3, parts.tables, dimension.rows_offset);
    a.op_reg(Op::Add, R3, R5);
}

/// r4 = 1 when the boundary at r3 + offset is at or below the key, else 0.
fn at_or_below(a: &mut Assembler, width: KeyWidth, offset: i16) {
    match width {
        KeyWidth::Bits32 => {
            a.load(Width::W, R4, R3, offset);
            a.op_reg(Op::Sub, R4, R1);
            a.op(Op::Rsh, R4, 63);
        }
        KeyWidth::Bits128 => {
            // The borrow of key − boundary, low half first.
            a.load(Width::D, R0, R3, offset + 8);
            a.copy(R7, R2);
            a.op_reg(Op::Sub, R7, R0);
            borrow(a, R2);
            a.load(Width::D, R0, R3, offset);
            a.copy(R7, R1);
            a.op_reg(Op::Sub, R7, R0);
            a.op_reg(Op::Sub, R7, R4);
            borrow(a, R1);
            a.op(Op::Xor, R4, 1);
        }
    }
}

/// r4 = the borrow of `key` − r0, whose difference stands in r7:
/// `((~k & b) | (~(k ^ b) & d)) >> 63`.
fn borrow(a: &mut Assembler, key: Reg) {
    a.copy(R4, key);
    a.op(Op::Xor, R4, -1);
    a.op_reg(Op::And, R4, R0);
    a.copy(R8, key);
    a.op_reg(Op::Xor, R8, R0);
    a.op(Op::Xor, R8, -1);
    a.op_reg(Op::And, R8, R7);
    a.op_reg(Op::Or, R4, R8);
    a.op(Op::Rsh, R4, 63);
}

/// ANDs the two rows and takes the lowest set bit; falls through when none is
/// set.
pub(super) fn first_rule(a: &mut Assembler, parts: &Parts<'_>, unsound: Label, finish: Label) {
    let layout = parts.layout;
    if layout.rules == 0 {
        return;
    }
    let (found, none) = (a.label(), a.label());
    a.load(Width::W, R1, STACK, at::KEY);
    row_address(a, parts, &layout.traffic, unsound);
    a.copy(R7, R3);
    a.load(Width::D, R8, STACK, at::SOURCE_ROW);
    a.mov(R9, 0);
    if layout.words == 1 {
        a.load(Width::D, R1, R7, 0);
        a.load(Width::D, R2, R8, 0);
        a.op_reg(Op::And, R1, R2);
        a.jump_if(If::Eq, R1, 0, none);
    } else {
        eight_words_a_turn(a, layout.words, found, none);
    }

    a.place(found);
    a.copy(R2, R1);
    a.negate(R2);
    a.op_reg(Op::And, R1, R2);
    a.value64(R2, DE_BRUIJN);
    a.op_reg(Op::Mul, R1, R2);
    a.op(Op::Rsh, R1, 58);
    a.map_value(R3, parts.tables, DE_BRUIJN_OFFSET);
    a.op_reg(Op::Add, R3, R1);
    a.load(Width::B, R1, R3, 0);
    a.op_reg(Op::Add, R9, R1);
    a.jump_if(If::Gt, R9, layout.rules as i32 - 1, unsound);
    a.map_value(R3, parts.tables, layout.verdicts_offset);
    a.op_reg(Op::Add, R3, R9);
    a.load(Width::B, R1, R3, 0);
    a.copy(R7, R9);
    a.op(Op::Add, R7, CounterSlot::FIRST_RULE as i32);
    a.mov(R8, NEXT);
    a.jump_if(If::Ne, R1, 0, finish);
    a.mov(R8, DROP);
    a.jump(finish);
    a.place(none);
}

/// Walks the rows; at `found` r1 is a word with a bit set and r9 the number of
/// its first bit. One unresolved branch a turn is what the verifier allows for.
fn eight_words_a_turn(a: &mut Assembler, words: u32, found: Label, none: Label) {
    let hit = a.label();
    let turn = a.here();
    a.mov(R0, 0);
    for word in 0..8 {
        a.load(Width::D, R1, R7, word * 8);
        a.load(Width::D, R2, R8, word * 8);
        a.op_reg(Op::And, R1, R2);
        a.op_reg(Op::Or, R0, R1);
    }
    a.jump_if(If::Ne, R0, 0, hit);
    a.op(Op::Add, R7, 64);
    a.op(Op::Add, R8, 64);
    a.op(Op::Add, R9, 512);
    a.jump_if(If::Lt, R9, words as i32 * 64, turn);
    a.jump(none);
    a.place(hit);
    for word in 0..8 {
        a.load(Width::D, R1, R7, word * 8);
        a.load(Width::D, R2, R8, word * 8);
        a.op_reg(Op::And, R1, R2);
        a.jump_if(If::Ne, R1, 0, found);
        if word < 7 {
            a.op(Op::Add, R9, 64);
        }
    }
    a.jump(none);
}
