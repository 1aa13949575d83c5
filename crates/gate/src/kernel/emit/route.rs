//! Whether this host would forward a packet, by its routing table.

use std::net::IpAddr;

use tipstaff_bpf::abi::{fib, helper, packet_type, skb};
use tipstaff_bpf::asm::{
    Assembler, Flag, If, IfSigned, Label, Op, R0, R1, R2, R3, R4, R6, STACK, Width,
};
use tipstaff_bpf::parse::{address_bytes, destination_offset, source_offset};
use tipstaff_core::names::address::Family;
use tipstaff_core::packet::Direction;

use crate::kernel::emit::context::{Labels, Parts};
use crate::kernel::emit::flows;
use crate::kernel::emit::frame::{at, pending};

/// Asks the routing table whether this host would forward the packet; without
/// forwarding it answers at once.
pub(crate) fn transit_or_here(
    a: &mut Assembler,
    family: Family,
    parts: &Parts<'_>,
    labels: &Labels,
) {
    let (here, through, rules) = (a.label(), a.label(), a.label());
    a.load(Width::W, R1, R6, skb::PKT_TYPE);
    a.jump_if(If::Ne, R1, 0, here);
    if family == Family::V6 {
        let other = a.label();
        jump_unless_link_local(a, destination_offset(family), other);
        of_the_link(a, parts, here, through);
        a.place(other);
    }
    route(a, family, RouteFrom::Packet, here);
    a.jump_if(If::Eq, R0, fib::NOT_FWDED, here);
    if family == Family::V6 {
        // The switch of the interface is off; the kernel goes by that for all, or by one
        // that forces it.
        let (on, off) = (a.label(), a.label());
        a.jump_if(If::Ne, R0, fib::FWD_DISABLED, through);
        if parts.types.is_some() {
            a.load(Width::D, R1, STACK, at::FORWARDS);
            a.jump_if(If::Eq, R1, 0, here);
        }
        a.jump(on);
        a.place(on);
        // Seen from the loopback interface, whose switch is that for all unless somebody
        // has set it apart.
        route(a, family, RouteFrom::Loopback, here);
        a.jump_if(If::Eq, R0, fib::NOT_FWDED, here);
        a.jump_if(If::Eq, R0, fib::FWD_DISABLED, off);
        a.jump(through);
        a.place(off);
        if parts.types.is_some() {
            // Forwarding is forced here: what is for this host, its own addresses say.
            to_an_own_address(a, parts, here);
            a.jump(through);
        } else {
            a.jump(here);
        }
    } else {
        a.jump_if(If::Eq, R0, fib::FWD_DISABLED, here);
    }

    a.place(through);
    at::WAY.set(a, Direction::Transit as u16);
    let unquoted = a.label();
    at::PENDING.load(a, R1);
    a.jump_if(If::Ne, R1, Flag::with(pending::ERROR), unquoted);
    flows::quoted(a, family, parts.flows, labels.errors);
    a.place(unquoted);
    if parts.layout.directed {
        a.jump(rules);
    } else {
        claims_to_be_here(a, family, parts, labels);
        a.jump(labels.transit);
    }
    a.place(here);
    for_this_host(a, labels);
    a.place(rules);
}

/// Goes to `other` unless an IPv6 address of the packet is link-local. r1 is lost.
pub(crate) fn jump_unless_link_local(a: &mut Assembler, offset: i16, other: Label) {
    a.load(Width::H, R1, STACK, at::HEADER + offset);
    a.to_be(R1, 16);
    a.alu64_imm(Op::And, R1, 0xffc0);
    a.jump_if(If::Ne, R1, 0xfe80, other);
}

/// To a link-local address: `bpf_fib_lookup` says that such are never forwarded, but
/// `ip6_forward` sends them on where they came from. r0 to r5 are lost.
pub(crate) fn of_the_link(a: &mut Assembler, parts: &Parts<'_>, here: Label, through: Label) {
    to_an_own_address(a, parts, here);
    if parts.types.is_some() {
        a.load(Width::D, R1, STACK, at::FORWARDS);
        a.jump_if(If::Eq, R1, 0, here);
    }
    a.jump(through);
}

/// Goes to `here` when an IPv6 packet is for an own address, or may be for one that came
/// after the list of them: what neighbours ask, they ask this host, as sent on nobody would
/// take it for its hop limit (RFC 4861, 7.1). r0 to r5 are lost.
fn to_an_own_address(a: &mut Assembler, parts: &Parts<'_>, here: Label) {
    at::PENDING.load(a, R1);
    a.jump_if(If::Eq, R1, Flag::with(pending::NEIGHBOURS), here);
    own(a, Family::V6, destination_offset(Family::V6), parts, here);
}

/// Whence a packet is routed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum RouteFrom {
    /// Where it arrived.
    Packet,
    /// The loopback interface.
    Loopback,
}

/// r0 = what the routing table says; goes to `here` when it cannot say
/// anything. r1 to r5 are lost.
pub(crate) fn route(a: &mut Assembler, family: Family, from: RouteFrom, here: Label) {
    for word in 0..8 {
        a.store_imm(Width::D, STACK, at::ROUTE + word * 8, 0);
    }
    let (number, words) = match family {
        Family::V4 => (libc::AF_INET, 1),
        Family::V6 => (libc::AF_INET6, 4),
    };
    a.store_imm(Width::B, STACK, at::ROUTE + fib::FAMILY, number);
    match from {
        RouteFrom::Packet => a.load(Width::W, R1, R6, skb::IFINDEX),
        RouteFrom::Loopback => a.mov(R1, 1),
    }
    a.store(Width::W, STACK, at::ROUTE + fib::IFINDEX, R1);
    let address = |a: &mut Assembler, from: i16, to: i16| {
        for word in 0..words {
            a.load(Width::W, R1, STACK, at::HEADER + from + word * 4);
            a.store(Width::W, STACK, at::ROUTE + to + word * 4, R1);
        }
    };
    address(a, destination_offset(family), fib::DESTINATION);
    // Of a link-local source the helper says that it is never forwarded; the kernel does
    // it, where it came from, and by the routes of an unknown source.
    let (routed, complete) = (a.label(), a.label());
    if family == Family::V6 {
        jump_unless_link_local(a, source_offset(family), routed);
        a.jump(complete);
    }
    a.place(routed);
    address(a, source_offset(family), fib::SOURCE);
    a.place(complete);
    a.copy(R1, R6);
    a.stack(R2, at::ROUTE);
    a.mov(R3, fib::BYTES);
    a.mov(R4, fib::SKIP_NEIGH);
    a.call(helper::FIB_LOOKUP);
    a.alu64_imm(Op::Lsh, R0, 32); // the helper returns an int
    a.jump_if_signed(IfSigned::Lt, R0, 0, here);
    a.alu64_imm(Op::Rsh, R0, 32);
}

/// What passes by a foundation because it is for this host.
pub(crate) fn for_this_host(a: &mut Assembler, labels: &Labels) {
    let other = a.label();
    at::PENDING.load(a, R1);
    a.jump_if(If::Eq, R1, Flag::with(pending::NOTHING), other);
    a.jump_if(If::Eq, R1, Flag::with(pending::ASSIGNMENT), labels.assignment);
    a.jump_if(If::Eq, R1, Flag::with(pending::ERROR), labels.errors);
    a.jump(labels.neighbours);
    a.place(other);
}

/// A source that is an address of this host's own. What this host sends to a
/// group comes back to it, and is no such thing.
pub(crate) fn claims_to_be_here(
    a: &mut Assembler,
    family: Family,
    parts: &Parts<'_>,
    labels: &Labels,
) {
    /// More are looked up in a map.
    const FEW: usize = 24;
    let addresses: Vec<IpAddr> = parts
        .own_addresses
        .iter()
        .copied()
        .filter(|ip| Family::of_address(*ip) == family)
        .collect();
    if addresses.is_empty() {
        return;
    }
    let other = a.label();
    a.load(Width::W, R1, R6, skb::PKT_TYPE);
    a.jump_if(If::Eq, R1, packet_type::LOOPBACK, other);
    let source = at::HEADER + source_offset(family);
    if addresses.len() > FEW {
        own(a, family, source_offset(family), parts, labels.elsewhere);
    } else if family == Family::V4 {
        a.load(Width::W, R1, STACK, source);
        a.to_be(R1, 32);
        for address in &addresses {
            let IpAddr::V4(four) = address else { continue };
            a.ld_imm64(R2, u64::from(u32::from(*four)));
            a.jump_if_reg(If::Eq, R1, R2, labels.elsewhere);
        }
    } else {
        for (reg, half) in [(R1, 0), (R2, 8)] {
            a.load(Width::D, reg, STACK, source + half);
            a.to_be(reg, 64);
        }
        for address in &addresses {
            let IpAddr::V6(six) = address else { continue };
            let (whole, next) = (u128::from(*six), a.label());
            a.ld_imm64(R3, whole as u64);
            a.jump_if_reg(If::Ne, R2, R3, next);
            a.ld_imm64(R3, (whole >> 64) as u64);
            a.jump_if_reg(If::Eq, R1, R3, labels.elsewhere);
            a.place(next);
        }
    }
    a.place(other);
}

/// Goes to `found` when an address of the packet is an own one. r0 to r5 are lost.
pub(crate) fn own(a: &mut Assembler, family: Family, offset: i16, parts: &Parts<'_>, found: Label) {
    let key = at::ANSWER;
    address_bytes(a, family, offset, key);
    a.map(R1, parts.own);
    a.stack(R2, key);
    a.call(helper::MAP_LOOKUP_ELEM);
    a.jump_if(If::Ne, R0, 0, found);
}
