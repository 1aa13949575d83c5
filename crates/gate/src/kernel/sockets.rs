//! Which program a packet belongs to: the label of the socket that sends it,
//! or of the one that listens to it.

use tipstaff_core::names::address::Family;
use tipstaff_core::names::traffic::{TCP, UDP};
use tipstaff_core::packet::Direction;

use super::assembler::{
    Assembler, If, Label, Op, R0, R1, R2, R3, R4, R5, R6, R9, Reg, STACK, Width,
};
use super::hooks::Hook;
use super::label::field;
use super::reading::{at, helper, skb, source_offset};
use super::verdict::{Parts, UNCOUNTED};

/// `struct bpf_sock_addr`: the socket, a pointer.
const ADDRESS_SOCKET: i16 = 64;

/// Copies the label to the stack, zeros where there is none. r0 to r5 and r9
/// are lost.
pub(super) fn label(a: &mut Assembler, hook: Hook, parts: &Parts<'_>) {
    for word in 0..3 {
        a.store_value(Width::D, STACK, at::LABEL + word * 8, 0);
    }
    let Some(labels) = parts.labels else { return };
    let done = a.label();
    let storage = |a: &mut Assembler, socket: Reg| {
        a.copy(R2, socket);
        a.map(R1, labels);
        a.mov(R3, 0);
        a.mov(R4, 0);
        a.call(helper::SOCKET_STORAGE);
    };
    match hook {
        Hook::Connect(_) => {
            a.load(Width::D, R9, R6, ADDRESS_SOCKET);
            a.jump_if(If::Eq, R9, 0, done);
            storage(a, R9);
            a.jump_if(If::Eq, R0, 0, done);
            copy(a);
        }
        Hook::Inner => {
            own_socket(a, done);
            storage(a, R0);
            a.jump_if(If::Eq, R0, 0, done);
            copy(a);
        }
        Hook::Outer => {
            let inbound = a.label();
            a.load(Width::D, R1, STACK, at::WAY);
            a.jump_if(If::Eq, R1, Direction::Inbound as i32, inbound);
            a.jump_if(If::Eq, R1, Direction::Transit as i32, done);
            own_socket(a, done);
            storage(a, R0);
            a.jump_if(If::Eq, R0, 0, done);
            copy(a);
            a.jump(done);

            a.place(inbound);
            let release = a.label();
            listener(a, done);
            a.copy(R9, R0);
            storage(a, R9);
            a.jump_if(If::Eq, R0, 0, release);
            copy(a);
            a.place(release);
            a.copy(R1, R9);
            a.call(helper::SOCKET_RELEASE);
        }
    }
    a.place(done);
}

/// r0 = the socket of a packet at its sender or receiver.
fn own_socket(a: &mut Assembler, none: Label) {
    a.load(Width::D, R1, R6, skb::SOCKET);
    a.jump_if(If::Eq, R1, 0, none);
    a.call(helper::FULL_SOCKET);
    a.jump_if(If::Eq, R0, 0, none);
}

/// The label at r0 goes to the stack.
fn copy(a: &mut Assembler) {
    for word in 0..3 {
        a.load(Width::D, R1, R0, word * 8);
        a.store(Width::D, STACK, at::LABEL + word * 8, R1);
    }
}

/// r0 = who listens to the packet; to be released.
fn listener(a: &mut Assembler, none: Label) {
    let (four, six, found) = (a.label(), a.label(), a.label());
    a.load(Width::D, R1, STACK, at::FAMILY);
    a.jump_if(If::Eq, R1, 4, four);
    a.jump(six);
    for (label, family, ports, size) in [(four, Family::V4, 20, 12), (six, Family::V6, 40, 36)] {
        a.place(label);
        let (tcp, udp) = (a.label(), a.label());
        // Addresses and ports in one piece: there is room behind the IP header.
        a.load(Width::W, R1, STACK, at::TRANSPORT);
        a.store(Width::W, STACK, at::HEADER + ports, R1);
        a.load(Width::W, R0, STACK, at::KEY);
        a.op(Op::Rsh, R0, 16);
        a.copy(R1, R6);
        a.stack(R2, at::HEADER + source_offset(family));
        a.mov(R3, size);
        a.mov(R4, -1); // BPF_F_CURRENT_NETNS
        a.mov(R5, 0);
        a.jump_if(If::Eq, R0, i32::from(TCP), tcp);
        a.jump_if(If::Eq, R0, i32::from(UDP), udp);
        a.jump(none);
        for (label, lookup) in [(tcp, helper::FULL_LOOKUP_TCP), (udp, helper::FULL_LOOKUP_UDP)] {
            a.place(label);
            a.call(lookup);
            a.jump_if(If::Ne, R0, 0, found);
            a.jump(none);
        }
    }
    a.place(found);
}

/// The number of the program goes to the stack. r0 to r5 and r9 are lost.
pub(super) fn program(a: &mut Assembler, hook: Hook, parts: &Parts<'_>) {
    let done = a.label();
    a.store_value(Width::D, STACK, at::PROGRAM, 0);
    if hook == Hook::Outer {
        // A test run may ask about a program that is not there.
        let real = a.label();
        a.load(Width::W, R1, R6, skb::MARK);
        a.jump_if(If::Ne, R1, UNCOUNTED as i32, real);
        a.load(Width::W, R1, R6, skb::ASKED_PROGRAM);
        a.jump_if(If::Eq, R1, 0, real);
        a.op(Op::Sub, R1, 1);
        a.store(Width::D, STACK, at::PROGRAM, R1);
        a.jump(done);
        a.place(real);
    }
    label(a, hook, parts);
    let id = if parts.program_exact { field::INODE } else { field::PATH };
    a.load(Width::W, R1, STACK, at::LABEL + field::DEVICE);
    a.store(Width::D, STACK, at::PROGRAM_KEY, R1);
    a.load(Width::D, R1, STACK, at::LABEL + id);
    a.store(Width::D, STACK, at::PROGRAM_KEY + 8, R1);
    a.map(R1, parts.programs);
    a.stack(R2, at::PROGRAM_KEY);
    a.call(helper::MAP_LOOKUP);
    a.jump_if(If::Eq, R0, 0, done);
    a.load(Width::W, R1, R0, 0);
    a.store(Width::D, STACK, at::PROGRAM, R1);
    a.place(done);
}
