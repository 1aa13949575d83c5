//! Which program a packet belongs to: the owner tag of the socket that sends it,
//! or of the one that listens to it.

use tipstaff_bpf::abi::{CURRENT_NETNS, helper, skb};
use tipstaff_bpf::asm::{
    Assembler, Flag, If, Label, Op, R0, R1, R2, R3, R4, R5, R6, R9, Reg, STACK, Width,
};
use tipstaff_bpf::parse::source_offset;
use tipstaff_core::names::address::Family;
use tipstaff_core::names::traffic::{TCP, UDP};
use tipstaff_core::packet::{Direction, ProgramIndex};

use crate::kernel::emit::context::{Hook, Parts, cb, told};
use crate::kernel::emit::frame::at;
use crate::kernel::emit::owner_tag::field;

/// What is added to the number of a program that a test run asks about: 0 is
/// no question, and [`ProgramIndex::UNKNOWN`] wraps to 1.
pub(crate) const ASKED_PROGRAMS: u32 = 2;

/// Where the lower half of 64 bits stands in them.
const LOW: i16 = if cfg!(target_endian = "little") { 0 } else { 4 };

/// `struct bpf_sock_addr`: the socket, a pointer.
const ADDRESS_SOCKET: i16 = 64;

/// Copies the owner tag to the stack, zeros where there is none, and says there
/// whether there is a socket at all. r0 to r5 and r9 are lost.
pub(crate) fn label(a: &mut Assembler, hook: Hook, parts: &Parts<'_>) {
    for word in 0..3 {
        a.store_imm(Width::D, STACK, at::OWNER_TAG + word * 8, 0);
    }
    at::SOCKET.set(a, 0);
    if parts.owner_tags.is_none() {
        return;
    }
    let done = a.label();
    match hook {
        Hook::Connect(_) => {
            a.load(Width::D, R9, R6, ADDRESS_SOCKET);
            a.jump_if(If::Eq, R9, 0, done);
            owner_tag_of(a, R9, parts, done);
        }
        Hook::Inner => {
            own_socket(a, done);
            a.copy(R9, R0);
            owner_tag_of(a, R9, parts, done);
        }
        Hook::Outer => {
            let inbound = a.label();
            at::WAY.load(a, R1);
            a.jump_if(If::Eq, R1, Flag::with(Direction::Inbound as u16), inbound);
            a.jump_if(If::Eq, R1, Flag::with(Direction::Transit as u16), done);
            own_socket(a, done);
            a.copy(R9, R0);
            owner_tag_of(a, R9, parts, done);
            a.jump(done);

            a.place(inbound);
            let release = a.label();
            listener(a, done);
            a.copy(R9, R0);
            owner_tag_of(a, R9, parts, release);
            a.place(release);
            a.copy(R1, R9);
            a.call(helper::SK_RELEASE);
        }
    }
    a.place(done);
}

/// r0 = the owner tag at a socket, or 0. r1 to r4 are lost.
fn storage(a: &mut Assembler, socket: Reg, parts: &Parts<'_>) {
    let Some(owner_tags) = parts.owner_tags else {
        a.mov(R0, 0);
        return;
    };
    a.copy(R2, socket);
    a.map(R1, owner_tags);
    a.mov(R3, 0);
    a.mov(R4, 0);
    a.call(helper::SK_STORAGE_GET);
}

/// Copies the owner tag of a socket to the stack. What the kernel makes for an
/// MPTCP socket, which carries its connections, has the owner tag of that one. Goes
/// to `none` where there is none.
fn owner_tag_of(a: &mut Assembler, socket: Reg, parts: &Parts<'_>, none: Label) {
    let found = a.label();
    at::SOCKET.set(a, 1);
    storage(a, socket, parts);
    a.jump_if(If::Ne, R0, 0, found);
    if parts.types.is_some_and(|types| types.mptcp) {
        a.copy(R1, socket);
        a.call(helper::SKC_TO_MPTCP_SOCK);
        a.jump_if(If::Eq, R0, 0, none);
        storage(a, R0, parts);
        a.jump_if(If::Ne, R0, 0, found);
    }
    a.jump(none);
    a.place(found);
    copy(a);
}

/// r0 = the socket of a packet at its sender or receiver.
fn own_socket(a: &mut Assembler, none: Label) {
    a.load(Width::D, R1, R6, skb::SK);
    a.jump_if(If::Eq, R1, 0, none);
    a.call(helper::SK_FULLSOCK);
    a.jump_if(If::Eq, R0, 0, none);
}

/// The owner tag at r0 goes to the stack.
fn copy(a: &mut Assembler) {
    for word in 0..3 {
        a.load(Width::D, R1, R0, word * 8);
        a.store(Width::D, STACK, at::OWNER_TAG + word * 8, R1);
    }
}

/// r0 = who listens to the packet; to be released.
fn listener(a: &mut Assembler, none: Label) {
    let (four, six, found) = (a.label(), a.label(), a.label());
    at::FAMILY.load(a, R1);
    a.jump_if(If::Eq, R1, Flag::with(4), four);
    a.jump(six);
    for (label, family, ports, size) in [(four, Family::V4, 20, 12), (six, Family::V6, 40, 36)] {
        a.place(label);
        let (tcp, udp) = (a.label(), a.label());
        // Addresses and ports in one piece: there is room behind the IP header.
        a.load(Width::W, R1, STACK, at::TRANSPORT);
        a.store(Width::W, STACK, at::HEADER + ports, R1);
        a.load(Width::W, R0, STACK, at::KEY);
        a.alu64_imm(Op::Rsh, R0, 16);
        a.copy(R1, R6);
        a.stack(R2, at::HEADER + source_offset(family));
        a.mov(R3, size);
        a.mov(R4, CURRENT_NETNS);
        a.mov(R5, 0);
        a.jump_if(If::Eq, R0, u16::from(TCP), tcp);
        a.jump_if(If::Eq, R0, u16::from(UDP), udp);
        a.jump(none);
        for (label, lookup) in [(tcp, helper::SK_LOOKUP_TCP), (udp, helper::SK_LOOKUP_UDP)] {
            a.place(label);
            a.call(lookup);
            a.jump_if(If::Ne, R0, 0, found);
            a.jump(none);
        }
    }
    a.place(found);
}

/// The number of the program goes to the stack: that of
/// [`ProgramIndex::UNKNOWN`] where there is a socket and nobody can say who
/// made it. r0 to r5 and r9 are lost.
pub(crate) fn program(a: &mut Assembler, hook: Hook, parts: &Parts<'_>) {
    let (done, unknown) = (a.label(), a.label());
    a.store_imm(Width::D, STACK, at::PROGRAM, ProgramIndex::OTHER.0 as i32);
    if hook == Hook::Outer {
        // A test run may ask about a program that is not there.
        let real = a.label();
        a.load(Width::W, R1, R6, cb::TOLD);
        a.alu64_imm(Op::And, R1, told::ASKED);
        a.jump_if(If::Eq, R1, 0, real);
        a.load(Width::W, R1, R6, cb::ASKED_PROGRAM);
        a.jump_if(If::Eq, R1, 0, real);
        // In 32 bits: the number before the first is the one that nobody knows.
        a.alu64_imm(Op::Sub, R1, ASKED_PROGRAMS as u16);
        a.store_imm(Width::D, STACK, at::PROGRAM, 0);
        a.store(Width::W, STACK, at::PROGRAM + LOW, R1);
        a.jump(done);
        a.place(real);
    }
    label(a, hook, parts);
    at::SOCKET.load(a, R1);
    a.jump_if(If::Eq, R1, Flag::with(0), done);
    let id = if parts.program_exact { field::INODE } else { field::PATH };
    a.load(Width::W, R1, STACK, at::OWNER_TAG + field::DEVICE);
    a.jump_if(If::Eq, R1, 0, unknown);
    a.store(Width::D, STACK, at::PROGRAM_KEY, R1);
    a.load(Width::D, R1, STACK, at::OWNER_TAG + id);
    a.jump_if(If::Eq, R1, 0, unknown);
    a.store(Width::D, STACK, at::PROGRAM_KEY + 8, R1);
    a.map(R1, parts.programs);
    a.stack(R2, at::PROGRAM_KEY);
    a.call(helper::MAP_LOOKUP_ELEM);
    a.jump_if(If::Eq, R0, 0, done);
    a.load(Width::W, R1, R0, 0);
    a.store(Width::D, STACK, at::PROGRAM, R1);
    a.jump(done);
    a.place(unknown);
    a.store_imm(Width::D, STACK, at::PROGRAM, 0);
    a.store_imm(Width::W, STACK, at::PROGRAM + LOW, ProgramIndex::UNKNOWN.0 as i32);
    a.place(done);
}
