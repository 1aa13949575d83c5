//! Where a TCP socket connects: a program whose connection is surely denied is
//! told at once (EPERM), one that is refused too (ECONNREFUSED). What depends
//! on the route, or on a rate, is decided when its packet leaves.

use tipstaff_bpf::abi::helper;
use tipstaff_bpf::asm::{
    AssembleError, Assembler, If, Label, R0, R1, R2, R3, R6, R8, STACK, Width,
};
use tipstaff_bpf::headers::tcp as tcp_header;
use tipstaff_bpf::parse::destination_offset;
use tipstaff_core::decision::Speaker;
use tipstaff_core::names::address::Family;
use tipstaff_core::names::traffic::TCP;
use tipstaff_core::packet::Direction;
use tipstaff_core::tables::layout::Verdict;

use crate::kernel::emit::context::{Hook, Parts, wanted};
use crate::kernel::emit::counters::{count, outcome};
use crate::kernel::emit::events;
use crate::kernel::emit::frame::at;
use crate::kernel::emit::search::{address_key, first_rule, row_address};

/// Offsets in `struct bpf_sock_addr`.
mod address {
    pub const FOUR: i16 = 4;
    pub const SIX: i16 = 8;
    pub const PORT: i16 = 24;
    pub const PROTOCOL: i16 = 36;
}

/// The program for sockets of a family.
///
/// # Errors
/// [`AssembleError`] if the code does not fit together.
pub(crate) fn program(family: Family, parts: &Parts<'_>) -> Result<Vec<u8>, AssembleError> {
    let mut a = Assembler::default();
    let (pass, rules, finish, corrupt) = (a.label(), a.label(), a.label(), a.label());
    a.copy(R6, R1);
    if !parts.restricts_outbound {
        a.mov(R0, 1);
        a.exit();
        return a.finish();
    }
    let hook = Hook::Connect(family);
    a.load(Width::W, R1, R6, address::PROTOCOL);
    a.jump_if(If::Ne, R1, u16::from(TCP), pass);
    for word in 0..5 {
        a.store_imm(Width::D, STACK, at::HEADER + word * 8, 0);
    }
    at::LOG.set(&mut a, wanted::NOTHING);
    a.store_imm(Width::D, STACK, at::TRANSPORT, 0);
    at::WAY.set(&mut a, Direction::Outbound as u16);
    a.load(Width::W, R2, R6, address::PORT);
    a.store(Width::H, STACK, at::TRANSPORT + tcp_header::DESTINATION_PORT, R2);
    a.to_be(R2, 16);
    a.or_above_16(R2, TCP);
    a.store(Width::W, STACK, at::KEY, R2);
    match family {
        Family::V4 => {
            a.load(Width::W, R1, R6, address::FOUR);
            decide_four(&mut a, parts, rules, pass, corrupt);
        }
        Family::V6 => {
            let (mapped, other) = (a.label(), a.label());
            let at_header = at::HEADER + destination_offset(Family::V6);
            for word in 0..4 {
                a.load(Width::W, R1, R6, address::SIX + word * 4);
                a.store(Width::W, STACK, at_header + word * 4, R1);
            }
            a.load(Width::D, R1, STACK, at_header);
            a.jump_if(If::Ne, R1, 0, other);
            a.load(Width::W, R1, STACK, at_header + 8);
            a.jump32_if(If::Eq, R1, u32::from_ne_bytes([0, 0, 0xff, 0xff]), mapped);
            // The loopback address, and none at all.
            a.jump_if(If::Ne, R1, 0, other);
            a.load(Width::W, R1, STACK, at_header + 12);
            a.to_be(R1, 32);
            a.jump_if(If::Lt, R1, 2, pass);
            a.place(other);
            own(&mut a, parts, at_header, pass);
            at::FAMILY.set(&mut a, 6);
            if parts.layout.destination_used {
                address_key(&mut a, Family::V6, destination_offset(Family::V6));
                row_address(&mut a, parts, &parts.layout.destination6, corrupt);
                a.store(Width::D, STACK, at::DESTINATION_ROW, R3);
            }
            a.jump(rules);
            a.place(mapped);
            a.load(Width::W, R1, STACK, at_header + 12);
            decide_four(&mut a, parts, rules, pass, corrupt);
        }
    }

    a.place(rules);
    if parts.layout.directed {
        first_rule(&mut a, hook, parts, corrupt, finish, pass);
    }
    let standing = Speaker::Standing(Direction::Outbound);
    outcome(&mut a, standing, parts.standing.outbound, finish);
    if a.is_used(corrupt) {
        a.place(corrupt);
        // Its packet will be stopped by the outer gate.
        a.jump(pass);
    }

    a.place(finish);
    a.jump_if(If::Eq, R8, u16::from(Verdict::ALLOW), pass);
    let stop = a.label();
    count(&mut a, hook, parts, stop);
    if parts.records {
        events::record(&mut a, hook, parts);
    }
    a.place(stop);
    let denied = a.label();
    a.jump_if(If::Ne, R8, u16::from(Verdict::REFUSE), denied);
    a.mov(R1, -libc::ECONNREFUSED);
    a.call(helper::SET_RETVAL);
    a.place(denied);
    a.mov(R0, hook.stop());
    a.exit();
    a.place(pass);
    a.mov(R0, hook.pass());
    a.exit();
    a.finish()
}

/// The IPv4 destination in r1, network order.
fn decide_four(a: &mut Assembler, parts: &Parts<'_>, rules: Label, pass: Label, corrupt: Label) {
    let to = at::HEADER + destination_offset(Family::V4);
    for word in 2..5 {
        a.store_imm(Width::D, STACK, at::HEADER + word * 8, 0);
    }
    a.store(Width::W, STACK, to, R1);
    for first in [0, 127] {
        a.load(Width::B, R2, STACK, to);
        a.jump_if(If::Eq, R2, first, pass);
    }
    // As IPv6 has it, where an answer would be made.
    a.store_imm(Width::D, STACK, at::ANSWER, 0);
    a.store_imm(Width::W, STACK, at::ANSWER + 8, i32::from_ne_bytes([0, 0, 0xff, 0xff]));
    a.store(Width::W, STACK, at::ANSWER + 12, R1);
    own(a, parts, at::ANSWER, pass);
    at::FAMILY.set(a, 4);
    if parts.layout.destination_used {
        address_key(a, Family::V4, destination_offset(Family::V4));
        row_address(a, parts, &parts.layout.destination4, corrupt);
        a.store(Width::D, STACK, at::DESTINATION_ROW, R3);
    }
    a.jump(rules);
}

/// What goes to an own address never leaves the host.
fn own(a: &mut Assembler, parts: &Parts<'_>, key: i16, pass: Label) {
    a.map(R1, parts.own);
    a.stack(R2, key);
    a.call(helper::MAP_LOOKUP_ELEM);
    a.jump_if(If::Ne, R0, 0, pass);
}
