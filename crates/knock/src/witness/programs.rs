//! The witness' programs at an interface: the first marks its knocks, the last
//! says which of them came past the gate, one at the egress catches what the host
//! answers, and one at another interface what passes through.

use std::os::fd::BorrowedFd;

use tipstaff_bpf::abi::{helper, skb};
use tipstaff_bpf::asm::{
    AssembleError, Assembler, If, Label, Op, R0, R1, R2, R3, R4, R5, R6, R7, R8, R9, STACK, Width,
};
use tipstaff_bpf::parse::{Ways, at, destination_offset, family_jumps, ip_header, source_offset};
use tipstaff_core::names::address::Family;
use tipstaff_core::names::traffic::{ICMP, ICMPV6, TCP, UDP};
use tipstaff_gate::kernel::cb;

use super::answers::{CAME_OUT, NO_GATE, PASSED_BYTES};
use crate::frames::FIRST_PORT;

/// tcx: the next program, and the stack after the last.
const NEXT: i32 = -1;
/// tcx: drop.
const DROP: i32 = 2;
/// Where the record of a knock that came past begins on the stack.
const RECORD: i16 = -24;

/// First at ingress: what bears the witness' own number before its frame is
/// given the number by which the gate knows a knock. `seen` counts them.
pub(super) fn mark_program(
    own: u64,
    knock: u64,
    seen: BorrowedFd<'_>,
) -> Result<Vec<u8>, AssembleError> {
    let mut a = Assembler::default();
    let next = a.label();
    a.copy(R6, R1);
    a.load(Width::W, R7, R6, skb::DATA_META);
    a.load(Width::W, R8, R6, skb::DATA);
    a.copy(R1, R7);
    a.alu64_imm(Op::Add, R1, 8);
    a.jump_if_reg(If::Gt, R1, R8, next);
    a.load(Width::D, R1, R7, 0);
    a.ld_imm64(R2, own);
    a.jump_if_reg(If::Ne, R1, R2, next);
    for (word, at) in halves(knock) {
        a.mov(R1, word as i32);
        a.store(Width::W, R6, cb::KNOCK + at, R1);
    }
    a.mov(R1, NO_GATE as i32);
    a.store(Width::W, R6, cb::ACTION, R1);
    a.ld_map_value(R1, seen, 0);
    a.load(Width::D, R2, R1, 0);
    a.alu64_imm(Op::Add, R2, 1);
    a.store(Width::D, R1, 0, R2);
    a.place(next);
    a.mov(R0, NEXT);
    a.exit();
    a.finish()
}

/// The two words of a knock's number, and where each stands.
fn halves(knock: u64) -> [(u32, i16); 2] {
    [(knock as u32, 0), ((knock >> 32) as u32, 4)]
}

/// Last at ingress: what still bears the number came past the gate. Its note,
/// what decided there, goes to the ring. Datagrams end here: whether a socket
/// takes them is known without troubling its program. Not so what goes `through`.
pub(super) fn record_program(
    family: Family,
    knock: u64,
    through: bool,
    ring: BorrowedFd<'_>,
) -> Result<Vec<u8>, AssembleError> {
    let mut a = Assembler::default();
    let (next, taken) = (a.label(), a.label());
    let (protocol, header) = if family == Family::V4 { (9, 20) } else { (6, 40) };
    a.copy(R6, R1);
    for (word, at) in halves(knock) {
        a.load(Width::W, R1, R6, cb::KNOCK + at);
        a.jump32_if(If::Ne, R1, word, next);
    }
    a.store_imm(Width::D, STACK, RECORD, 0);
    a.store_imm(Width::D, STACK, RECORD + 16, 0);
    for (from, to, length) in [(protocol, RECORD, 1), (header, RECORD + 4, 8)] {
        a.copy(R1, R6);
        a.mov(R2, from);
        a.stack(R3, to);
        a.mov(R4, length);
        a.mov(R5, 1); // BPF_HDR_START_NET
        a.call(helper::SKB_LOAD_BYTES_RELATIVE);
        a.jump_if(If::Ne, R0, 0, next);
    }
    for (from, to) in [(cb::SLOT, 12), (cb::ACTION, 16)] {
        a.load(Width::W, R1, R6, from);
        a.store(Width::W, STACK, RECORD + to, R1);
    }
    a.map(R1, ring);
    a.stack(R2, RECORD);
    a.mov(R3, PASSED_BYTES as i32);
    a.mov(R4, 0);
    a.call(helper::RINGBUF_OUTPUT);
    if !through {
        a.load(Width::B, R1, STACK, RECORD);
        a.jump_if(If::Eq, R1, u16::from(UDP), taken);
    }
    a.place(next);
    a.mov(R0, NEXT);
    a.exit();
    if !through {
        a.place(taken);
        a.mov(R0, DROP);
        a.exit();
    }
    a.finish()
}

/// First at the egress of where a knock leaves again: it is told to the ring, and
/// ends here. It is known by the source that is played, and by its tag.
pub(super) fn came_out_program(
    family: Family,
    played: BorrowedFd<'_>,
    ring: BorrowedFd<'_>,
) -> Result<Vec<u8>, AssembleError> {
    for_family(family, |a, next| came_out(a, family, played, ring, next))
}

fn came_out(
    a: &mut Assembler,
    family: Family,
    played: BorrowedFd<'_>,
    ring: BorrowedFd<'_>,
    next: Label,
) {
    let ways = Ways { malformed: next, later_fragment: next, loopback: None };
    ip_header(a, family, ways);
    a.ld_map_value(R3, played, 0);
    a.load(Width::W, R8, R3, PLAYED_TAG);
    jump_unless_played(a, family, source_offset(family), next);
    let (ip, icmp) = match family {
        Family::V4 => (20, ICMP),
        Family::V6 => (40, ICMPV6),
    };
    let (tcp, udp, echo, output) = (a.label(), a.label(), a.label(), a.label());
    a.jump_if(If::Eq, R9, u16::from(TCP), tcp);
    a.jump_if(If::Eq, R9, u16::from(UDP), udp);
    a.jump_if(If::Eq, R9, u16::from(icmp), echo);
    a.jump(next);
    a.place(tcp);
    copied(a, ip + 8, ip, next);
    tagged(a, Width::W, ip + 4, next);
    a.jump(output);
    a.place(udp);
    copied(a, ip + 8, ip, next);
    tagged_datagram(a, family, 0, next);
    a.jump(output);
    a.place(echo);
    copied(a, ip + 8, ip + 4, next);
    tagged(a, Width::H, ip + 6, next);
    a.place(output);
    // The ports, or identifier and number, and for whom it is by now.
    let of_exchange = a.label();
    a.load(Width::W, R1, STACK, COPY + ip);
    a.jump_if(If::Ne, R9, u16::from(icmp), of_exchange);
    a.load(Width::W, R1, STACK, COPY + ip + 4);
    a.place(of_exchange);
    a.store(Width::W, STACK, RECORD + 4, R1);
    for part in [8, 16] {
        a.store_imm(Width::D, STACK, RECORD + part, 0);
    }
    let destination = at::HEADER + destination_offset(family);
    let width = if family == Family::V4 { 4 } else { 16 };
    for part in (0..width).step_by(4) {
        a.load(Width::W, R1, STACK, destination + part);
        a.store(Width::W, STACK, RECORD + 8 + part, R1);
    }
    a.store(Width::W, STACK, RECORD, R9);
    a.store_imm(Width::B, STACK, RECORD + 1, CAME_OUT.into());
    a.map(R1, ring);
    a.stack(R2, RECORD);
    a.mov(R3, PASSED_BYTES as i32);
    a.mov(R4, 0);
    a.call(helper::RINGBUF_OUTPUT);
    a.mov(R0, DROP);
    a.exit();
}

/// A program that lets everything go on but what `look` takes away of one family.
fn for_family(
    family: Family,
    look: impl FnOnce(&mut Assembler, Label),
) -> Result<Vec<u8>, AssembleError> {
    let mut a = Assembler::default();
    let (next, four, six) = (a.label(), a.label(), a.label());
    a.copy(R6, R1);
    family_jumps(&mut a, four, six);
    a.jump(next);
    let (mine, other) = match family {
        Family::V4 => (four, six),
        Family::V6 => (six, four),
    };
    a.place(mine);
    look(&mut a, next);
    a.place(other);
    a.place(next);
    a.mov(R0, NEXT);
    a.exit();
    a.finish()
}

/// Goes to `next` unless the address at `offset` of the IP header is that of the
/// source that is played, which r3 points at.
fn jump_unless_played(a: &mut Assembler, family: Family, offset: i16, next: Label) {
    let address = at::HEADER + offset;
    match family {
        Family::V4 => {
            a.load(Width::W, R1, STACK, address);
            a.load(Width::W, R2, R3, 0);
            a.jump_if_reg(If::Ne, R1, R2, next);
        }
        Family::V6 => {
            for half in [0, 8] {
                a.load(Width::D, R1, STACK, address + half);
                a.load(Width::D, R2, R3, half);
                a.jump_if_reg(If::Ne, R1, R2, next);
            }
        }
    }
}

/// Goes to `next` unless the IP header at `offset` of the copy is that of a
/// datagram with the tag in r8: its identification, or its flow label.
fn tagged_datagram(a: &mut Assembler, family: Family, offset: i16, next: Label) {
    match family {
        Family::V4 => tagged(a, Width::H, offset + 4, next),
        Family::V6 => {
            a.load(Width::W, R1, STACK, COPY + offset);
            a.to_be(R1, 32);
            for reg in [R1, R8] {
                // The last 20 bits.
                a.alu64_imm(Op::Lsh, reg, 44);
            }
            a.jump_if_reg(If::Ne, R1, R8, next);
        }
    }
}

/// Bytes of what the witness plays, in its map: the source's address (16), the
/// tag u32 and zeros.
pub(super) const PLAYED_BYTES: u32 = 24;
/// Where the tag stands in it.
pub(super) const PLAYED_TAG: i16 = 16;

/// Where the copied packet begins on the stack; 96 bytes.
const COPY: i16 = -200;

/// At egress: what goes to the source that is played (`played`), and answers a
/// knock of its tag, is copied to the ring and dropped; and so is the witness'
/// own datagram, whose payload is `own`. Nothing else is touched, whatever its ports.
pub(super) fn catch_program(
    family: Family,
    own: u64,
    played: BorrowedFd<'_>,
    ring: BorrowedFd<'_>,
) -> Result<Vec<u8>, AssembleError> {
    for_family(family, |a, next| catch(a, family, own, played, ring, next))
}

fn catch(
    a: &mut Assembler,
    family: Family,
    own: u64,
    played: BorrowedFd<'_>,
    ring: BorrowedFd<'_>,
    next: Label,
) {
    let ways = Ways { malformed: next, later_fragment: next, loopback: None };
    ip_header(a, family, ways);
    // The source stands in a map, so that one program serves one source after another.
    a.ld_map_value(R3, played, 0);
    a.load(Width::W, R8, R3, PLAYED_TAG);
    jump_unless_played(a, family, destination_offset(family), next);
    let (ip, icmp, error, request) = match family {
        Family::V4 => (20, ICMP, 3, 8),
        Family::V6 => (40, ICMPV6, 1, 128),
    };
    let (tcp, udp, message, unreachable, output) =
        (a.label(), a.label(), a.label(), a.label(), a.label());
    a.jump_if(If::Eq, R9, u16::from(TCP), tcp);
    a.jump_if(If::Eq, R9, u16::from(UDP), udp);
    a.jump_if(If::Eq, R9, u16::from(icmp), message);
    a.jump(next);

    a.place(tcp);
    copied(a, ip + 20, ip + 2, next);
    // What is acknowledged is the tag, and one.
    a.alu64_imm(Op::Add, R8, 1);
    tagged(a, Width::W, ip + 8, next);
    a.jump(output);
    a.place(udp);
    copied(a, ip + 16, ip + 2, next);
    let [b0, b1, b2, b3, b4, b5, b6, b7] = own.to_ne_bytes();
    for (half, at) in [([b0, b1, b2, b3], 8), ([b4, b5, b6, b7], 12)] {
        a.load(Width::W, R1, STACK, COPY + ip + at);
        a.jump32_if(If::Ne, R1, u32::from_ne_bytes(half), next);
    }
    a.jump(output);

    a.place(message);
    load(a, ip + 8, next);
    a.load(Width::B, R1, STACK, COPY + ip);
    a.jump_if(If::Eq, R1, error, unreachable);
    a.jump_if(If::Eq, R1, request, next);
    copied(a, ip + 8, ip + 4, next);
    tagged(a, Width::H, ip + 6, next);
    a.jump(output);
    a.place(unreachable);
    let (quoted, inner) = (ip + 8, ip + 8 + ip);
    let (about_echo, about_datagram) = (a.label(), a.label());
    load(a, inner + 8, next);
    let protocol = if family == Family::V4 { 9 } else { 6 };
    a.load(Width::B, R1, STACK, COPY + quoted + protocol);
    a.jump_if(If::Eq, R1, u16::from(icmp), about_echo);
    a.jump_if(If::Eq, R1, u16::from(UDP), about_datagram);
    copied(a, inner + 8, inner, next);
    tagged(a, Width::W, inner + 4, next);
    a.jump(output);
    a.place(about_datagram);
    copied(a, inner + 8, inner, next);
    tagged_datagram(a, family, quoted, next);
    a.jump(output);
    a.place(about_echo);
    copied(a, inner + 8, inner + 4, next);
    tagged(a, Width::H, inner + 6, next);

    a.place(output);
    a.map(R1, ring);
    a.stack(R2, COPY);
    a.copy(R3, R7);
    a.mov(R4, 0);
    a.call(helper::RINGBUF_OUTPUT);
    a.mov(R0, DROP);
    a.exit();
}

fn load(a: &mut Assembler, length: i16, next: Label) {
    a.copy(R1, R6);
    a.mov(R2, 0);
    a.stack(R3, COPY);
    a.mov(R4, i32::from(length));
    a.mov(R5, 1); // BPF_HDR_START_NET
    a.call(helper::SKB_LOAD_BYTES_RELATIVE);
    a.jump_if(If::Ne, R0, 0, next);
}

/// Copies `length` bytes, which r7 says then; goes to `next` when the port at
/// `port` is none of the knocks'.
fn copied(a: &mut Assembler, length: i16, port: i16, next: Label) {
    load(a, length, next);
    a.load(Width::H, R1, STACK, COPY + port);
    a.to_be(R1, 16);
    a.jump_if(If::Lt, R1, FIRST_PORT, next);
    a.mov(R7, i32::from(length));
}

/// Goes to `next` unless the number at `offset` is the tag in r8, or its last
/// 16 bits. r1, r2 and r8 are lost.
fn tagged(a: &mut Assembler, width: Width, offset: i16, next: Label) {
    a.load(width, R1, STACK, COPY + offset);
    let bits = if width == Width::W { 32 } else { 16 };
    a.to_be(R1, bits);
    for reg in [R1, R8] {
        a.alu64_imm(Op::Lsh, reg, 64 - bits as u16);
    }
    a.jump_if_reg(If::Ne, R1, R8, next);
}
