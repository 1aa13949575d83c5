//! What the programs of the gate and of the reach check share: reading an IP packet exactly as
//! [`tipstaff_core::packet`] reads it.
//!
//! Registers while reading: r6 the context, r7 where the transport header
//! begins, r8 where the packet ends by its own word (0: it does not say), r9
//! the protocol.

use tipstaff_core::names::address::Family;
use tipstaff_core::names::traffic::TCP;

use crate::abi::{hdr_start, helper, skb};
use crate::asm::{
    Assembler, If, Label, Op, R0, R1, R2, R3, R4, R5, R6, R7, R8, R9, Reg, STACK, Width,
};
use crate::headers::{ethertype, extension, ipv4, ipv6};

/// Where on the stack a program has what was read. A program keeps these places free.
pub mod at {
    use crate::asm::Flag;

    /// The IP header, 40 bytes, and room after it for the two ports.
    pub const HEADER: i16 = -64;
    /// The transport header or an extension header, 20 bytes.
    pub const TRANSPORT: i16 = -88;
    /// The identification of a fragment, u32.
    pub const FRAGMENT: i16 = -120;
    /// 1: the packet is the first of several fragments; beside its identification.
    pub const FIRST_FRAGMENT: Flag = Flag::at(FRAGMENT);
}

/// Where to go while reading.
#[derive(Clone, Copy)]
pub struct Ways {
    /// A header that cannot be.
    pub malformed: Label,
    /// A fragment behind the first.
    pub later_fragment: Label,
    /// A loopback address; `None` when nobody asks.
    pub loopback: Option<Label>,
}

/// Offset of the source address in the IP header.
pub const fn source_offset(family: Family) -> i16 {
    match family {
        Family::V4 => ipv4::SOURCE,
        Family::V6 => ipv6::SOURCE,
    }
}

/// Offset of the destination address in the IP header.
pub const fn destination_offset(family: Family) -> i16 {
    match family {
        Family::V4 => ipv4::DESTINATION,
        Family::V6 => ipv6::DESTINATION,
    }
}

/// Copies `length` bytes at `offset_reg` (or at 0) from the network header to
/// the stack; goes to `otherwise` when they are not there.
pub fn load(a: &mut Assembler, offset: Option<Reg>, to: i16, length: i32, otherwise: Label) {
    a.copy(R1, R6);
    match offset {
        Some(reg) => a.copy(R2, reg),
        None => a.mov(R2, 0),
    }
    a.stack(R3, to);
    a.mov(R4, length);
    a.mov(R5, hdr_start::NET);
    a.call(helper::SKB_LOAD_BYTES_RELATIVE);
    a.jump_if(If::Ne, R0, 0, otherwise);
}

/// Jumps to the label when the packet is of that family by its EtherType.
pub fn family_jumps(a: &mut Assembler, four: Label, six: Label) {
    a.load(Width::W, R2, R6, skb::PROTOCOL);
    a.jump_if(If::Eq, R2, ethertype::IPV4.to_be(), four);
    a.jump_if(If::Eq, R2, ethertype::IPV6.to_be(), six);
}

/// Reads the IP header and what stands between it and the transport header.
pub fn ip_header(a: &mut Assembler, family: Family, ways: Ways) {
    match family {
        Family::V4 => ipv4(a, ways),
        Family::V6 => ipv6(a, ways),
    }
}

fn version(a: &mut Assembler, version: u16, ways: Ways) {
    a.load(Width::B, R1, STACK, at::HEADER);
    a.alu64_imm(Op::Rsh, R1, 4);
    a.jump_if(If::Ne, R1, version, ways.malformed);
}

fn ipv4(a: &mut Assembler, ways: Ways) {
    load(a, None, at::HEADER, ipv4::BYTES.into(), ways.malformed);
    version(a, 4, ways);
    a.load(Width::B, R7, STACK, at::HEADER + ipv4::VERSION_IHL);
    a.alu64_imm(Op::And, R7, 15);
    a.alu64_imm(Op::Lsh, R7, 2);
    a.jump_if(If::Lt, R7, ipv4::BYTES as u16, ways.malformed);
    a.load(Width::H, R8, STACK, at::HEADER + ipv4::TOTAL_LENGTH);
    a.to_be(R8, 16);
    let undeclared = a.label();
    a.jump_if(If::Eq, R8, 0, undeclared);
    a.jump_if_reg(If::Lt, R8, R7, ways.malformed);
    a.place(undeclared);
    if let Some(loopback) = ways.loopback {
        for offset in [ipv4::SOURCE, ipv4::DESTINATION] {
            a.load(Width::B, R1, STACK, at::HEADER + offset);
            a.jump_if(If::Eq, R1, 127, loopback);
        }
    }
    a.load(Width::B, R9, STACK, at::HEADER + ipv4::PROTOCOL);
    let whole = a.label();
    a.load(Width::H, R1, STACK, at::HEADER + ipv4::FRAGMENT);
    a.to_be(R1, 16);
    a.alu64_imm(Op::And, R1, ipv4::MORE_FRAGMENTS | ipv4::OFFSET_MASK);
    a.jump_if(If::Eq, R1, 0, whole);
    a.load(Width::H, R3, STACK, at::HEADER + ipv4::IDENTIFICATION);
    a.to_be(R3, 16);
    a.copy(R4, R9);
    a.copy(R2, R1);
    a.alu64_imm(Op::And, R2, ipv4::OFFSET_MASK);
    fragment(a, Family::V4, whole, ways);
    a.place(whole);
}

/// A fragment: r1 the word that says so, r2 its offset in there, r3 its
/// identification, r4 the protocol; it is the first of several where the offset
/// is 0. What cannot be one is malformed: see `Fragment` in `core::packet`.
fn fragment(a: &mut Assembler, family: Family, first: Label, ways: Ways) {
    /// Of a datagram without the 40 bytes of IPv6's header.
    const LONGEST: u64 = 65_535;
    let (flags, more, unit, longest) = match family {
        Family::V4 => (1, ipv4::MORE_FRAGMENTS, 8, LONGEST),
        // The fragment header does not stay in the datagram.
        Family::V6 => (8, 1, 1, LONGEST + (ipv6::BYTES + extension::BYTES) as u64),
    };
    let (undeclared, followed, last) = (a.label(), a.label(), a.label());
    a.jump_if(If::Eq, R8, 0, undeclared);
    if family == Family::V6 {
        a.copy(R5, R7);
        a.add(R5, 8);
        a.jump_if_reg(If::Gt, R5, R8, ways.malformed);
    }
    a.jump_if(If::Set, R1, more, followed);
    a.jump(last);
    a.place(followed);
    a.copy(R5, R8);
    a.alu64(Op::Sub, R5, R7);
    a.alu64_imm(Op::And, R5, 7);
    a.jump_if(If::Ne, R5, 0, ways.malformed);
    a.place(last);
    a.copy(R5, R2);
    a.alu64_imm(Op::Mul, R5, unit);
    a.alu64(Op::Add, R5, R8);
    a.ld_imm64(R0, longest);
    a.jump_if_reg(If::Gt, R5, R0, ways.malformed);
    a.place(undeclared);
    let (begins, later) = (a.label(), a.label());
    a.jump_if(If::Eq, R2, 0, begins);
    a.jump_if(If::Ne, R2, flags, later);
    a.jump_if(If::Eq, R4, TCP.into(), ways.malformed);
    a.place(later);
    a.store(Width::W, STACK, at::FRAGMENT, R3);
    a.jump(ways.later_fragment);
    a.place(begins);
    a.store(Width::W, STACK, at::FRAGMENT, R3);
    at::FIRST_FRAGMENT.set(a, 1);
    a.jump(first);
}

fn ipv6(a: &mut Assembler, ways: Ways) {
    load(a, None, at::HEADER, ipv6::BYTES.into(), ways.malformed);
    version(a, 6, ways);
    a.mov(R7, ipv6::BYTES.into());
    a.load(Width::H, R8, STACK, at::HEADER + ipv6::PAYLOAD_LENGTH);
    a.to_be(R8, 16);
    let undeclared = a.label();
    a.jump_if(If::Eq, R8, 0, undeclared);
    a.alu64_imm(Op::Add, R8, ipv6::BYTES as u16);
    a.place(undeclared);
    if let Some(loopback) = ways.loopback {
        a.ld_imm64(R2, 1u64.to_be());
        for offset in [ipv6::SOURCE, ipv6::DESTINATION] {
            let other = a.label();
            a.load(Width::D, R1, STACK, at::HEADER + offset);
            a.jump_if(If::Ne, R1, 0, other);
            a.load(Width::D, R1, STACK, at::HEADER + offset + 8);
            a.jump_if_reg(If::Eq, R1, R2, loopback);
            a.place(other);
        }
    }
    a.load(Width::B, R9, STACK, at::HEADER + ipv6::NEXT_HEADER);
    extension_headers(a, ways);
}

/// RFC 8200 section 4, as `core::packet` follows it: six headers, no more.
fn extension_headers(a: &mut Assembler, ways: Ways) {
    use extension as ext;
    const CHAINED: [u16; 5] = [
        ext::HOP_BY_HOP,
        ext::ROUTING,
        ext::FRAGMENT,
        ext::AUTHENTICATION,
        ext::DESTINATION_OPTIONS,
    ];
    let transport = a.label();
    for _ in 0..tipstaff_core::packet::MOST_EXTENSION_HEADERS {
        let (extension, fragmented, authentication) = (a.label(), a.label(), a.label());
        let (advance, next) = (a.label(), a.label());
        a.jump_if(If::Eq, R9, ext::FRAGMENT, fragmented);
        a.jump_if(If::Eq, R9, ext::AUTHENTICATION, authentication);
        for kind in [ext::HOP_BY_HOP, ext::ROUTING, ext::DESTINATION_OPTIONS] {
            a.jump_if(If::Eq, R9, kind, extension);
        }
        a.jump(transport);

        a.place(fragmented);
        load(a, Some(R7), at::TRANSPORT, ext::BYTES.into(), ways.malformed);
        let first = a.label();
        a.load(Width::H, R1, STACK, at::TRANSPORT + ext::FRAGMENT_OFFSET);
        a.to_be(R1, 16);
        a.alu64_imm(Op::And, R1, 0xfff9);
        // A packet in one piece that says so: RFC 6946.
        a.jump_if(If::Eq, R1, 0, first);
        a.load(Width::W, R3, STACK, at::TRANSPORT + ext::FRAGMENT_IDENTIFICATION);
        a.to_be(R3, 32);
        a.load(Width::B, R4, STACK, at::TRANSPORT + ext::NEXT_HEADER);
        a.copy(R2, R1);
        a.alu64_imm(Op::And, R2, 0xfff8);
        fragment(a, Family::V6, first, ways);
        a.place(first);
        a.mov(R1, 8);
        a.jump(advance);

        a.place(authentication);
        load(a, Some(R7), at::TRANSPORT, ext::BYTES.into(), ways.malformed);
        a.load(Width::B, R1, STACK, at::TRANSPORT + ext::LENGTH);
        a.alu64_imm(Op::Add, R1, 2);
        a.alu64_imm(Op::Lsh, R1, 2);
        a.jump(advance);

        a.place(extension);
        load(a, Some(R7), at::TRANSPORT, ext::BYTES.into(), ways.malformed);
        a.load(Width::B, R1, STACK, at::TRANSPORT + ext::LENGTH);
        a.alu64_imm(Op::Add, R1, 1);
        a.alu64_imm(Op::Lsh, R1, 3);

        a.place(advance);
        a.load(Width::B, R9, STACK, at::TRANSPORT + ext::NEXT_HEADER);
        a.alu64(Op::Add, R7, R1);
        a.jump_if(If::Eq, R8, 0, next);
        a.jump_if_reg(If::Gt, R7, R8, ways.malformed);
        a.place(next);
    }
    for kind in CHAINED {
        a.jump_if(If::Eq, R9, kind, ways.malformed);
    }
    a.place(transport);
}

/// Copies a transport header of `length` bytes to the stack; malformed when
/// the packet is shorter or says that it is.
pub fn transport_header(a: &mut Assembler, length: i32, ways: Ways) {
    let undeclared = a.label();
    a.jump_if(If::Eq, R8, 0, undeclared);
    a.copy(R1, R7);
    a.add(R1, length);
    a.jump_if_reg(If::Gt, R1, R8, ways.malformed);
    a.place(undeclared);
    load(a, Some(R7), at::TRANSPORT, length, ways.malformed);
}

/// Copies an address of the IP header, from its offset in it, to the stack as
/// 16 bytes; IPv4 as `::ffff:a.b.c.d`. r1 is lost.
pub fn address_bytes(a: &mut Assembler, family: Family, offset: i16, to: i16) {
    let from = at::HEADER + offset;
    match family {
        Family::V4 => {
            a.store_imm(Width::D, STACK, to, 0);
            let mapped = i32::from_ne_bytes([0, 0, 0xff, 0xff]);
            a.store_imm(Width::W, STACK, to + 8, mapped);
            a.load(Width::W, R1, STACK, from);
            a.store(Width::W, STACK, to + 12, R1);
        }
        Family::V6 => {
            for half in [0, 8] {
                a.load(Width::D, R1, STACK, from + half);
                a.store(Width::D, STACK, to + half, R1);
            }
        }
    }
}
