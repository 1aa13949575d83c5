//! Refusing: the outer gate's own answer to what it drops. A TCP reset (RFC
//! 9293 section 3.10.7.1), or ICMP "administratively prohibited": type 3 code
//! 13 (RFC 1812 section 5.2.7.1), in IPv6 type 1 code 1 (RFC 4443 section 3.1).
//!
//! The frame is turned round in its own buffer and sent out where it came in;
//! one on its way out comes in again instead.
//! Nothing is answered that must not be (RFC 1122 section 3.2.2): fragments,
//! broadcast, multicast, resets, ICMP that is no echo request, packets with IP
//! options or extension headers; and not more than [`ANSWERS`] says. Then the
//! refusal is a silent deny.

use tipstaff_bpf::abi::{helper, skb};
use tipstaff_bpf::asm::{
    Assembler, Flag, If, Label, Op, R0, R1, R2, R3, R4, R5, R6, R7, R8, R9, Reg, STACK, Width,
};
use tipstaff_bpf::headers::{ethernet, ipv4, ipv6, tcp as tcp_header, udp as udp_header};
use tipstaff_bpf::parse::family_jumps;
use tipstaff_core::names::address::Family;
use tipstaff_core::names::traffic::{ICMP, ICMPV6, TCP, UDP};
use tipstaff_core::packet::{Direction, TcpFlags};

use crate::kernel::emit::context::{Parts, cb, told};
use crate::kernel::emit::frame::at;
use crate::kernel::emit::marks::{Note, write_note};
use crate::kernel::emit::rates;

/// The gate's answers in all: nanoseconds that one takes, and how many at once.
/// 1,000 a second and 200 at once, as Linux bounds its own ICMP (ip-sysctl.rst,
/// `icmp_msgs_per_sec`).
const ANSWERS: (i32, i32) = (1_000_000, 200);

/// Bytes of an Ethernet header.
const ETHERNET: i32 = ethernet::BYTES as i32;
/// `BPF_F_RECOMPUTE_CSUM` and `BPF_F_INVALIDATE_HASH` of `bpf_skb_store_bytes`.
const INVALIDATE_HASH: i32 = 2;
/// `BPF_F_INGRESS` of `bpf_redirect`.
const INGRESS: i32 = 1;
/// The answer's time to live.
const HOPS: i32 = 64;

/// Where the parts of an answer stand, from the begin of its IP header.
struct Shape {
    /// Bytes of the IP header.
    header: i16,
    /// Bytes of an address.
    address: i16,
    /// Where the source and the destination stand.
    source: i16,
    destination: i16,
}

impl Shape {
    const fn for_family(family: Family) -> Self {
        match family {
            Family::V4 => Self {
                header: ipv4::BYTES,
                address: 4,
                source: ipv4::SOURCE,
                destination: ipv4::DESTINATION,
            },
            Family::V6 => Self {
                header: ipv6::BYTES,
                address: 16,
                source: ipv6::SOURCE,
                destination: ipv6::DESTINATION,
            },
        }
    }
}

/// Answers the packet, or goes to `silent`. r6 is the context; everything else is lost.
pub(crate) fn answer(a: &mut Assembler, parts: &Parts<'_>, silent: Label) {
    // On its way out a packet is of no such kind.
    let answerable = a.label();
    at::WAY.load(a, R1);
    a.jump_if(If::Eq, R1, Flag::with(Direction::Outbound as u16), answerable);
    a.load(Width::W, R1, R6, skb::PKT_TYPE);
    a.jump_if(If::Ne, R1, 0, silent);
    a.place(answerable);
    let (four, six) = (a.label(), a.label());
    family_jumps(a, four, six);
    a.jump(silent);
    for (label, family) in [(four, Family::V4), (six, Family::V6)] {
        a.place(label);
        answer_of(a, family, parts, silent);
    }
}

fn answer_of(a: &mut Assembler, family: Family, parts: &Parts<'_>, silent: Label) {
    let shape = Shape::for_family(family);
    // The header is read anew: what stood on the stack may be overwritten.
    load_relative(a, 0, at::HEADER, i32::from(shape.header), Begin::Network, silent);
    let protocol = match family {
        Family::V4 => {
            a.load(Width::B, R1, STACK, at::HEADER);
            a.jump_if(If::Ne, R1, ipv4::PLAIN, silent);
            // "More fragments" or an offset.
            a.load(Width::H, R1, STACK, at::HEADER + ipv4::FRAGMENT);
            a.to_be(R1, 16);
            a.jump_if(If::Set, R1, ipv4::MORE_FRAGMENTS | ipv4::OFFSET_MASK, silent);
            // 0.0.0.0/8, and from 224.0.0.0 on multicast and reserved.
            a.load(Width::B, R1, STACK, at::HEADER + shape.source);
            a.jump_if(If::Eq, R1, 0, silent);
            a.jump_if(If::Gt, R1, 223, silent);
            at::HEADER + ipv4::PROTOCOL
        }
        Family::V6 => {
            a.load(Width::B, R1, STACK, at::HEADER + shape.source);
            a.jump_if(If::Eq, R1, 0xff, silent);
            // The unspecified address has zeros in its first half, and nobody else whom one could answer.
            a.load(Width::D, R1, STACK, at::HEADER + shape.source);
            a.jump_if(If::Eq, R1, 0, silent);
            at::HEADER + ipv6::NEXT_HEADER
        }
    };
    // The transport header: as much of it as an ICMP answer quotes.
    load_relative(a, i32::from(shape.header), at::TRANSPORT, 8, Begin::Network, silent);
    a.load(Width::B, R9, STACK, protocol);
    let (icmp, echo) = match family {
        Family::V4 => (ICMP, 8),
        Family::V6 => (ICMPV6, 128),
    };
    let (reset, prohibited, is_icmp) = (a.label(), a.label(), a.label());
    a.jump_if(If::Eq, R9, u16::from(TCP), reset);
    a.jump_if(If::Eq, R9, u16::from(icmp), is_icmp);
    if family == Family::V6 {
        for extension in [0, 43, 44, 51, 60] {
            a.jump_if(If::Eq, R9, extension, silent);
        }
    }
    a.jump(prohibited);
    a.place(is_icmp);
    a.load(Width::B, R1, STACK, at::TRANSPORT);
    a.jump_if(If::Ne, R1, echo, silent);
    a.place(prohibited);
    administratively_prohibited(a, family, parts, silent);
    a.place(reset);
    tcp_reset(a, family, parts, silent);
}

/// Where an offset counts from.
#[derive(Clone, Copy)]
enum Begin {
    Link = 0,
    Network = 1,
}

fn load_relative(
    a: &mut Assembler,
    offset: i32,
    to: i16,
    length: i32,
    begin: Begin,
    otherwise: Label,
) {
    a.copy(R1, R6);
    a.mov(R2, offset);
    a.stack(R3, to);
    a.mov(R4, length);
    a.mov(R5, begin as i32);
    a.call(helper::SKB_LOAD_BYTES_RELATIVE);
    a.jump_if(If::Ne, R0, 0, otherwise);
}

/// Takes one out of the gate's own rate.
fn within_rate(a: &mut Assembler, parts: &Parts<'_>, silent: Label) {
    let within = a.label();
    let (increment, burst) = ANSWERS;
    a.load(Width::W, R1, R6, cb::TOLD);
    a.jump_if(If::Set, R1, told::KNOCK, within);
    for word in [0, 8, 16] {
        a.store_imm(Width::D, STACK, at::BUCKET + word, 0);
    }
    a.store_imm(Width::D, STACK, at::INCREMENT, increment);
    a.store_imm(Width::D, STACK, at::TOLERANCE, increment * (burst - 1));
    rates::take(a, parts.rates, None, within, silent);
    a.place(within);
}

/// The IP header of the answer at [`at::ANSWER`]: from the destination to the source.
fn ip_answer(a: &mut Assembler, family: Family, protocol: u8, length: i16) {
    let shape = Shape::for_family(family);
    match family {
        Family::V4 => {
            let total = (length as u16).to_be_bytes();
            let first = i32::from_ne_bytes([0x45, 0, total[0], total[1]]);
            a.store_imm(Width::W, STACK, at::ANSWER, first);
            // No identification, "don't fragment".
            a.store_imm(Width::W, STACK, at::ANSWER + 4, i32::from_ne_bytes([0, 0, 0x40, 0]));
            let hops = i32::from_ne_bytes([HOPS as u8, protocol, 0, 0]);
            a.store_imm(Width::W, STACK, at::ANSWER + 8, hops);
        }
        Family::V6 => {
            a.store_imm(Width::W, STACK, at::ANSWER, i32::from_ne_bytes([0x60, 0, 0, 0]));
            let payload = ((length - 40) as u16).to_be_bytes();
            let rest = [payload[0], payload[1], protocol, HOPS as u8];
            a.store_imm(Width::W, STACK, at::ANSWER + 4, i32::from_ne_bytes(rest));
        }
    }
    for (from, to) in [(shape.source, shape.destination), (shape.destination, shape.source)] {
        for word in (0..shape.address).step_by(4) {
            a.load(Width::W, R1, STACK, at::HEADER + from + word);
            a.store(Width::W, STACK, at::ANSWER + to + word, R1);
        }
    }
    if family == Family::V4 {
        sum(a, at::ANSWER, 20);
        fold(a, R0);
        a.alu64_imm(Op::Xor, R0, 0xffff);
        a.store(Width::H, STACK, at::ANSWER + 10, R0);
    }
}

/// r0 = the sum of the 16-bit words of `length` bytes on the stack, not folded.
fn sum(a: &mut Assembler, begin: i16, length: i32) {
    a.mov(R1, 0);
    a.mov(R2, 0);
    a.stack(R3, begin);
    a.mov(R4, length);
    a.mov(R5, 0);
    a.call(helper::CSUM_DIFF);
}

/// Folds a sum of at most 36 bits into 16; r1 is lost.
fn fold(a: &mut Assembler, reg: Reg) {
    for _ in 0..3 {
        a.copy(R1, reg);
        a.alu64_imm(Op::Rsh, R1, 16);
        a.alu64_imm(Op::And, reg, 0xffff);
        a.alu64(Op::Add, reg, R1);
    }
}

/// r8 = the sum of a pseudo-header (RFC 9293 section 3.1, RFC 8200 section
/// 8.1) with the addresses of the IP header at `begin`; r0 to r5 are lost.
/// `length`: of what stands behind, in a register, host order; r7 to r9.
fn pseudo_header(a: &mut Assembler, family: Family, begin: i16, protocol: u8, length: Reg) {
    let shape = Shape::for_family(family);
    sum(a, begin + shape.source, i32::from(2 * shape.address));
    // Words count in memory order: the numbers stand in it byte by byte.
    let number = u16::from_ne_bytes([0, protocol]);
    a.alu64_imm(Op::Add, R0, number);
    a.copy(R1, length);
    a.to_be(R1, 16);
    a.alu64(Op::Add, R0, R1);
    fold(a, R0);
    a.copy(R8, R0);
}

/// r7 = 1 when the checksum of the packet's transport header (at `field` on
/// the stack) is the bare sum of its pseudo-header: the sender has left it to
/// the card (CHECKSUM_PARTIAL), and the card will complete the answer's too.
fn left_to_the_card(a: &mut Assembler, family: Family, protocol: u8, field: i16) {
    let done = a.label();
    match family {
        Family::V4 => {
            a.load(Width::H, R9, STACK, at::HEADER + ipv4::TOTAL_LENGTH);
            a.to_be(R9, 16);
            a.alu64_imm(Op::Sub, R9, 20);
        }
        Family::V6 => {
            a.load(Width::H, R9, STACK, at::HEADER + ipv6::PAYLOAD_LENGTH);
            a.to_be(R9, 16);
        }
    }
    a.alu64_imm(Op::And, R9, 0xffff);
    pseudo_header(a, family, at::HEADER, protocol, R9);
    a.load(Width::H, R1, STACK, field);
    a.mov(R7, 0);
    a.jump_if_reg(If::Ne, R1, R8, done);
    a.mov(R7, 1);
    a.place(done);
}

fn tcp_reset(a: &mut Assembler, family: Family, parts: &Parts<'_>, silent: Label) {
    let shape = Shape::for_family(family);
    let tcp = at::ANSWER + shape.header;
    load_relative(a, i32::from(shape.header), at::TRANSPORT, 20, Begin::Network, silent);
    a.load(Width::B, R1, STACK, at::TRANSPORT + tcp_header::FLAGS);
    a.jump_if(If::Set, R1, u16::from(TcpFlags::RST), silent);
    within_rate(a, parts, silent);
    left_to_the_card(a, family, TCP, at::TRANSPORT + tcp_header::CHECKSUM);
    ip_answer(a, family, TCP, shape.header + 20);
    for (from, to) in [(0, 2), (2, 0)] {
        a.load(Width::H, R1, STACK, at::TRANSPORT + from);
        a.store(Width::H, STACK, tcp + to, R1);
    }
    // Its place in the sequence: where an acknowledgement says, else 0 and
    // acknowledging what came.
    let (bare, ready) = (a.label(), a.label());
    a.load(Width::B, R1, STACK, at::TRANSPORT + tcp_header::FLAGS);
    a.jump_if(If::Set, R1, u16::from(TcpFlags::ACK), bare);
    a.store_imm(Width::W, STACK, tcp + 4, 0);
    a.load(Width::W, R1, STACK, at::TRANSPORT + tcp_header::SEQUENCE);
    a.to_be(R1, 32);
    a.alu64_imm(Op::Add, R1, 1);
    a.to_be(R1, 32);
    a.store(Width::W, STACK, tcp + 8, R1);
    fn flags(bits: u8) -> i32 {
        i32::from_ne_bytes([5 << 4, bits, 0, 0])
    }
    a.store_imm(Width::W, STACK, tcp + 12, flags(TcpFlags::RST | TcpFlags::ACK));
    a.jump(ready);
    a.place(bare);
    a.load(Width::W, R1, STACK, at::TRANSPORT + tcp_header::ACKNOWLEDGEMENT);
    a.store(Width::W, STACK, tcp + 4, R1);
    a.store_imm(Width::W, STACK, tcp + 8, 0);
    a.store_imm(Width::W, STACK, tcp + 12, flags(TcpFlags::RST));
    a.place(ready);
    a.store_imm(Width::W, STACK, tcp + 16, 0);
    // The card adds what stands behind the pseudo-header, or nobody does.
    let (whole, send) = (a.label(), a.label());
    a.mov(R9, 20);
    pseudo_header(a, family, at::ANSWER, TCP, R9);
    a.jump_if(If::Eq, R7, 0, whole);
    a.store(Width::H, STACK, tcp + 16, R8);
    a.jump(send);
    a.place(whole);
    sum(a, tcp, 20);
    a.alu64(Op::Add, R0, R8);
    fold(a, R0);
    a.alu64_imm(Op::Xor, R0, 0xffff);
    a.store(Width::H, STACK, tcp + 16, R0);
    a.place(send);
    send_back(a, parts, shape.header + 20, silent);
}

fn administratively_prohibited(
    a: &mut Assembler,
    family: Family,
    parts: &Parts<'_>,
    silent: Label,
) {
    let shape = Shape::for_family(family);
    let icmp = at::ANSWER + shape.header;
    let quoted = shape.header + 8;
    let length = shape.header + 8 + quoted;
    a.store(Width::D, STACK, at::VERDICT, R9);
    within_rate(a, parts, silent);
    // Only a datagram's checksum, in bytes 6 and 7, can have been left to the card.
    let (datagram, known) = (a.label(), a.label());
    a.load(Width::D, R9, STACK, at::VERDICT);
    a.jump_if(If::Eq, R9, u16::from(UDP), datagram);
    a.mov(R7, 0);
    a.jump(known);
    a.place(datagram);
    left_to_the_card(a, family, UDP, at::TRANSPORT + udp_header::CHECKSUM);
    a.place(known);
    let (kind, number) = match family {
        Family::V4 => ([3, 13, 0, 0], ICMP),
        Family::V6 => ([1, 1, 0, 0], ICMPV6),
    };
    ip_answer(a, family, number, length);
    a.store_imm(Width::W, STACK, icmp, i32::from_ne_bytes(kind));
    a.store_imm(Width::W, STACK, icmp + 4, 0);
    for word in (0..shape.header).step_by(4) {
        a.load(Width::W, R1, STACK, at::HEADER + word);
        a.store(Width::W, STACK, icmp + 8 + word, R1);
    }
    for word in [0, 4] {
        a.load(Width::W, R1, STACK, at::TRANSPORT + word);
        a.store(Width::W, STACK, icmp + 8 + shape.header + word, R1);
    }
    match family {
        Family::V4 => a.mov(R8, 0),
        Family::V6 => {
            a.mov(R9, i32::from(8 + quoted));
            pseudo_header(a, family, at::ANSWER, ICMPV6, R9);
        }
    }
    sum(a, icmp, i32::from(8 + quoted));
    a.alu64(Op::Add, R0, R8);
    fold(a, R0);
    a.alu64_imm(Op::Xor, R0, 0xffff);
    a.store(Width::H, STACK, icmp + 2, R0);
    // The card would write a checksum into bytes 6 and 7, which are to be 0: it
    // is, when what it finds there is the pseudo-header's sum.
    let send = a.label();
    a.jump_if(If::Eq, R7, 0, send);
    a.store(Width::H, STACK, icmp + 6, R8);
    a.place(send);
    send_back(a, parts, length, silent);
}

/// Writes the answer of `length` bytes over the packet and sends it out where
/// the packet came in. A link header, where there is one, is turned round.
fn send_back(a: &mut Assembler, parts: &Parts<'_>, length: i16, silent: Label) {
    // An interface without link headers shows its IP header at the begin of the link, too.
    let (bare, sized) = (a.label(), a.label());
    load_relative(a, 0, at::LINK, ETHERNET, Begin::Link, silent);
    a.mov(R9, ETHERNET);
    a.load(Width::D, R1, STACK, at::LINK);
    a.load(Width::D, R2, STACK, at::HEADER);
    a.jump_if_reg(If::Ne, R1, R2, sized);
    a.load(Width::W, R1, STACK, at::LINK + 8);
    a.load(Width::W, R2, STACK, at::HEADER + 8);
    a.jump_if_reg(If::Eq, R1, R2, bare);
    a.jump(sized);
    a.place(bare);
    a.mov(R9, 0);
    a.place(sized);
    a.copy(R1, R6);
    a.copy(R2, R9);
    a.add(R2, i32::from(length));
    a.mov(R3, 0);
    a.call(helper::SKB_CHANGE_TAIL);
    a.jump_if(If::Ne, R0, 0, silent);
    store(a, Some(R9), at::ANSWER, i32::from(length), silent);
    let send = a.label();
    a.jump_if(If::Eq, R9, 0, send);
    // Source and destination of the link change places.
    for (from, to) in [(0, 6), (6, 0)] {
        for half in [0, 2, 4] {
            a.load(Width::H, R1, STACK, at::LINK + from + half);
            a.store(Width::H, STACK, at::FLOW + to + half, R1);
        }
    }
    store(a, None, at::FLOW, 12, silent);
    a.place(send);
    // Back out where it came in; in again, where it would have left.
    let back = a.label();
    a.mov(R2, 0);
    at::WAY.load(a, R1);
    a.jump_if(If::Ne, R1, Flag::with(Direction::Outbound as u16), back);
    a.mov(R2, INGRESS);
    a.place(back);
    a.copy(R7, R2);
    // It leaves as what it is, an answer.
    write_note(a, parts.marks, Some(Note::Reply));
    a.copy(R2, R7);
    a.load(Width::W, R1, R6, skb::IFINDEX);
    a.call(helper::REDIRECT);
    a.exit();
}

fn store(a: &mut Assembler, offset: Option<Reg>, from: i16, length: i32, silent: Label) {
    a.copy(R1, R6);
    match offset {
        Some(reg) => a.copy(R2, reg),
        None => a.mov(R2, 0),
    }
    a.stack(R3, from);
    a.mov(R4, length);
    a.mov(R5, INVALIDATE_HASH);
    a.call(helper::SKB_STORE_BYTES);
    a.jump_if(If::Ne, R0, 0, silent);
}
