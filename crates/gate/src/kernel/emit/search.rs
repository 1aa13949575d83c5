//! The tables' executor in the kernel: search each dimension, AND the rows,
//! take the lowest set bit. The layout is that of
//! [`tipstaff_core::tables::layout`].

use tipstaff_bpf::abi::{helper, skb};
use tipstaff_bpf::asm::{
    Assembler, If, Label, Op, R0, R1, R2, R3, R4, R5, R6, R7, R8, R9, Reg, STACK, Width,
};
use tipstaff_bpf::parse::{destination_offset, source_offset};
use tipstaff_core::names::address::Family;
use tipstaff_core::tables::layout::{
    DE_BRUIJN, DE_BRUIJN_OFFSET, Dimension, KeyWidth, Layout, MOST_RULES, Verdict,
};

use crate::kernel::emit::context::{Hook, Parts, wanted};
use crate::kernel::emit::counters::CounterSlot;
use crate::kernel::emit::frame::at;
use crate::kernel::emit::{owner, rates};

/// An address of the IP header as a number: r1 (IPv4), or r1 high and r2 low (IPv6).
pub(crate) fn address_key(a: &mut Assembler, family: Family, offset: i16) {
    let offset = at::HEADER + offset;
    match family {
        Family::V4 => {
            a.load(Width::W, R1, STACK, offset);
            a.to_be(R1, 32);
        }
        Family::V6 => {
            a.load(Width::D, R1, STACK, offset);
            a.to_be(R1, 64);
            a.load(Width::D, R2, STACK, offset + 8);
            a.to_be(R2, 64);
        }
    }
}

/// Finds the rows of the packet's addresses and keeps them on the stack.
pub(crate) fn address_rows(a: &mut Assembler, family: Family, parts: &Parts<'_>, corrupt: Label) {
    rates::note_source(a, family, parts);
    let layout = parts.layout;
    let (source, destination) = match family {
        Family::V4 => (&layout.source4, &layout.destination4),
        Family::V6 => (&layout.source6, &layout.destination6),
    };
    address_key(a, family, source_offset(family));
    row_address(a, parts, source, corrupt);
    a.store(Width::D, STACK, at::SOURCE_ROW, R3);
    if layout.destination_used {
        address_key(a, family, destination_offset(family));
        row_address(a, parts, destination, corrupt);
        a.store(Width::D, STACK, at::DESTINATION_ROW, R3);
    }
}

/// Searches a dimension for the key in r1 (and r2); r3 becomes the address of
/// its row. Branchless within a node, so that the verifier sees one way only.
pub(crate) fn row_address(
    a: &mut Assembler,
    parts: &Parts<'_>,
    dimension: &Dimension,
    corrupt: Label,
) {
    if dimension.levels.is_empty() {
        a.ld_map_value(R3, parts.tables, dimension.rows_offset);
        return;
    }
    let slot_bytes = dimension.width.bytes();
    let fanout_bits = dimension.fanout.trailing_zeros() as u16;
    let slot_bits = slot_bytes.trailing_zeros() as u16;
    if dimension.width == KeyWidth::Bits32 {
        // Compared as "boundary < key + 1" in 64 bits, which never wraps.
        a.alu64_imm(Op::Add, R1, 1);
    }
    a.mov(R5, 0);
    for (depth, level) in dimension.levels.iter().enumerate() {
        a.ld_map_value(R3, parts.tables, level.offset);
        if depth > 0 {
            let last = level.nodes as i32 - 1;
            let sound = a.label();
            a.jump32_if(If::Lt, R5, level.nodes, sound);
            a.mov(R5, last);
            a.place(sound);
            a.alu64_imm(Op::Lsh, R5, fanout_bits);
            a.copy(R4, R5);
            a.alu64_imm(Op::Lsh, R4, slot_bits);
            a.alu64(Op::Add, R3, R4);
        }
        let mut step = dimension.fanout / 2;
        while step > 0 {
            at_or_below(a, dimension.width, (step * slot_bytes) as i16);
            a.alu64_imm(Op::Lsh, R4, step.trailing_zeros() as u16);
            a.alu64(Op::Add, R5, R4);
            a.alu64_imm(Op::Lsh, R4, slot_bits);
            a.alu64(Op::Add, R3, R4);
            step /= 2;
        }
    }
    a.ld_map_value(R3, parts.tables, dimension.classes_offset);
    a.alu64_imm(Op::Lsh, R5, 1);
    a.alu64(Op::Add, R3, R5);
    a.load(Width::H, R5, R3, 0);
    a.jump32_if(If::Gt, R5, dimension.classes - 1, corrupt);
    a.alu64_imm(Op::Mul, R5, parts.layout.row_bytes() as u16);
    a.ld_map_value(R3, parts.tables, dimension.rows_offset);
    a.alu64(Op::Add, R3, R5);
}

/// r4 = 1 when the boundary at r3 + offset is at or below the key, else 0.
fn at_or_below(a: &mut Assembler, width: KeyWidth, offset: i16) {
    match width {
        KeyWidth::Bits32 => {
            a.load(Width::W, R4, R3, offset);
            a.alu64(Op::Sub, R4, R1);
            a.alu64_imm(Op::Rsh, R4, 63);
        }
        KeyWidth::Bits128 => {
            // The borrow of key − boundary, low half first.
            a.load(Width::D, R0, R3, offset + 8);
            a.copy(R7, R2);
            a.alu64(Op::Sub, R7, R0);
            borrow(a, R2);
            a.load(Width::D, R0, R3, offset);
            a.copy(R7, R1);
            a.alu64(Op::Sub, R7, R0);
            a.alu64(Op::Sub, R7, R4);
            borrow(a, R1);
            a.alu64_imm(Op::Xor, R4, 1);
        }
    }
}

/// r4 = the borrow of `key` − r0, whose difference stands in r7:
/// `((~k & b) | (~(k ^ b) & d)) >> 63`.
fn borrow(a: &mut Assembler, key: Reg) {
    a.copy(R4, key);
    a.not(R4);
    a.alu64(Op::And, R4, R0);
    a.copy(R8, key);
    a.alu64(Op::Xor, R8, R0);
    a.not(R8);
    a.alu64(Op::And, R8, R7);
    a.alu64(Op::Or, R4, R8);
    a.alu64_imm(Op::Rsh, R4, 63);
}

/// ANDs the two rows and takes the lowest set bit; falls through when none is
/// set. A socket that connects has no route yet: where the first rule that can
/// hold looks at it, or at a rate, the packet will be decided (`later`).
pub(crate) fn first_rule(
    a: &mut Assembler,
    hook: Hook,
    parts: &Parts<'_>,
    corrupt: Label,
    finish: Label,
    later: Label,
) {
    let layout = parts.layout;
    let routed = !matches!(hook, Hook::Connect(_));
    if layout.rules == 0 {
        return;
    }
    let (found, none) = (a.label(), a.label());
    find_rows(a, hook, parts, corrupt);
    let rows = load_rows(a, layout, routed);
    a.mov(R9, 0);
    if layout.words == 1 {
        common_bits(a, &rows, 0);
        a.jump_if(If::Eq, R1, 0, none);
    } else {
        eight_words_a_turn(a, &rows, layout.words, found, none);
    }

    a.place(found);
    if layout.program_used {
        a.load(Width::D, R6, STACK, at::CONTEXT);
    }
    add_lowest_bit(a, parts);
    a.jump32_if(If::Gt, R9, layout.rules - 1, corrupt);
    a.ld_map_value(R3, parts.tables, layout.verdicts_offset);
    a.alu64(Op::Add, R3, R9);
    a.load(Width::B, R1, R3, 0);
    if !routed {
        a.jump_if(If::Set, R1, u16::from(Verdict::ROUTED | Verdict::LIMITED), later);
    }
    a.copy(R8, R1);
    a.alu64_imm(Op::And, R8, u16::from(Verdict::ACTION));
    a.copy(R7, R9);
    a.alu64_imm(Op::Lsh, R7, 1); // two slots a rule
    a.add(R7, CounterSlot::FIRST_RULE as i32);
    if layout.logs {
        let quiet = a.label();
        a.copy(R2, R1);
        a.alu64_imm(Op::And, R2, u16::from(Verdict::LOG));
        a.jump_if(If::Eq, R2, 0, quiet);
        at::LOG.set(a, wanted::ALL);
        a.place(quiet);
    }
    rates::ask(a, hook, parts, corrupt, finish);
    a.place(none);
    if layout.program_used {
        a.load(Width::D, R6, STACK, at::CONTEXT);
    }
}

/// Puts the addresses of the rows that the addresses of the packet do not give
/// onto the stack.
fn find_rows(a: &mut Assembler, hook: Hook, parts: &Parts<'_>, corrupt: Label) {
    let layout = parts.layout;
    if layout.program_used {
        owner::program(a, hook, parts);
        a.load(Width::D, R1, STACK, at::PROGRAM);
        row_address(a, parts, &layout.program, corrupt);
        a.store(Width::D, STACK, at::PROGRAM_ROW, R3);
    }
    a.load(Width::W, R1, STACK, at::KEY);
    if layout.directed {
        // As `layout::traffic_slot`: the direction stands above the key.
        at::WAY.number(a, R2);
        a.alu64_imm(Op::Lsh, R2, 24);
        a.alu64(Op::Or, R1, R2);
    }
    row_address(a, parts, &layout.traffic, corrupt);
    a.store(Width::D, STACK, at::TRAFFIC_ROW, R3);
    if layout.interface_used && !matches!(hook, Hook::Connect(_)) {
        a.load(Width::W, R1, R6, skb::IFINDEX);
        row_address(a, parts, &layout.interface, corrupt);
        a.store(Width::D, STACK, at::INTERFACE_ROW, R3);
    }
    if layout.time_used {
        wall_seconds(a, parts);
        row_address(a, parts, &layout.time, corrupt);
        a.store(Width::D, STACK, at::TIME_ROW, R3);
    }
}

/// The rows, each in a register for the walk; dimensions that no rule looks at have
/// none. Where rules name programs every register is a row, and the context waits
/// on the stack.
fn load_rows(a: &mut Assembler, layout: &Layout, routed: bool) -> Vec<Reg> {
    let mut rows = Vec::new();
    for (row, place, used) in [
        (R7, at::TRAFFIC_ROW, true),
        (R8, at::SOURCE_ROW, routed),
        (R3, at::DESTINATION_ROW, layout.destination_used),
        (R4, at::INTERFACE_ROW, layout.interface_used && routed),
        (R5, at::TIME_ROW, layout.time_used),
    ] {
        if used {
            a.load(Width::D, row, STACK, place);
            rows.push(row);
        }
    }
    if layout.program_used {
        a.store(Width::D, STACK, at::CONTEXT, R6);
        a.load(Width::D, R6, STACK, at::PROGRAM_ROW);
        rows.push(R6);
    }
    rows
}

/// r9, the rule of a word's first bit, becomes that of the lowest bit set in r1.
fn add_lowest_bit(a: &mut Assembler, parts: &Parts<'_>) {
    // The verifier forgets in which turn it was found: from here on it goes one
    // way, and not one for each word.
    a.alu64(Op::Xor, R9, R1);
    a.alu64(Op::Xor, R9, R1);
    a.alu64_imm(Op::And, R9, MOST_RULES as u16 - 1);
    a.copy(R2, R1);
    a.negate(R2);
    a.alu64(Op::And, R1, R2);
    a.ld_imm64(R2, DE_BRUIJN);
    a.alu64(Op::Mul, R1, R2);
    a.alu64_imm(Op::Rsh, R1, 58);
    a.ld_map_value(R3, parts.tables, DE_BRUIJN_OFFSET);
    a.alu64(Op::Add, R3, R1);
    a.load(Width::B, R1, R3, 0);
    a.alu64(Op::Add, R9, R1);
}

/// r1 = seconds since 1970 UTC. The clock that programs may ask (TAI) is ahead
/// of UTC by a number of seconds that user space tells (`clock`).
fn wall_seconds(a: &mut Assembler, parts: &Parts<'_>) {
    a.call(helper::KTIME_GET_TAI_NS);
    a.copy(R1, R0);
    a.ld_imm64(R2, 1_000_000_000);
    a.alu64(Op::Div, R1, R2);
    a.ld_map_value(R2, parts.clock, 0);
    a.load(Width::D, R2, R2, 0);
    a.alu64(Op::Sub, R1, R2);
    // Only the lower half, as the key is 32 bits wide.
    a.alu64_imm(Op::Lsh, R1, 32);
    a.alu64_imm(Op::Rsh, R1, 32);
}

/// r1 = the bits that all rows have set in a word.
fn common_bits(a: &mut Assembler, rows: &[Reg], word: i16) {
    for (nth, row) in rows.iter().enumerate() {
        let to = if nth == 0 { R1 } else { R2 };
        a.load(Width::D, to, *row, word * 8);
        if nth > 0 {
            a.alu64(Op::And, R1, R2);
        }
    }
}

/// Walks the rows; at `found` r1 is a word with a bit set and r9 the number of
/// its first bit. One unresolved branch a turn is what the verifier allows for.
fn eight_words_a_turn(a: &mut Assembler, rows: &[Reg], words: u32, found: Label, none: Label) {
    let hit = a.label();
    let turn = a.label_here();
    a.mov(R0, 0);
    for word in 0..8 {
        common_bits(a, rows, word);
        a.alu64(Op::Or, R0, R1);
    }
    a.jump_if(If::Ne, R0, 0, hit);
    for row in rows {
        a.alu64_imm(Op::Add, *row, 64);
    }
    a.alu64_imm(Op::Add, R9, 512);
    a.jump32_if(If::Lt, R9, words * 64, turn);
    a.jump(none);
    a.place(hit);
    for word in 0..8 {
        common_bits(a, rows, word);
        a.jump_if(If::Ne, R1, 0, found);
        if word < 7 {
            a.alu64_imm(Op::Add, R9, 64);
        }
    }
    a.jump(none);
}
