//! What a packet meets between its IP header and the rules: the foundations
//! behind the transport header, replies, and the question whether this host
//! would forward it.

use std::net::IpAddr;

use tipstaff_core::flows::{ECHO_AGE, TCP_AGE, UDP_AGE};
use tipstaff_core::names::address::Family;
use tipstaff_core::names::traffic::{ICMP, ICMPV6, TCP, UDP};
use tipstaff_core::packet::{Direction, TcpFlags};

use super::assembler::{
    Assembler, If, Label, Op, R0, R1, R2, R3, R4, R5, R6, R7, R8, R9, STACK, Width,
};
use super::hooks::Hook;
use super::reading::{
    address_bytes, at, destination_offset, helper, skb, source_offset, transport_header,
};
use super::remember::{self, Answer};
use super::verdict::{Labels, Parts};

/// Everything behind the IP header up to the rules; leaves the traffic key on
/// the stack.
pub(super) fn before_rules(
    a: &mut Assembler,
    family: Family,
    way: Direction,
    parts: &Parts<'_>,
    labels: &Labels,
) {
    let (tcp, udp, icmp, decide) = (a.label(), a.label(), a.label(), a.label());
    let icmp_number = if family == Family::V4 { ICMP } else { ICMPV6 };
    a.jump_if(If::Eq, R9, i32::from(TCP), tcp);
    a.jump_if(If::Eq, R9, i32::from(UDP), udp);
    a.jump_if(If::Eq, R9, i32::from(icmp_number), icmp);

    // A protocol without ports: its key is its number.
    a.copy(R2, R9);
    a.op(Op::Lsh, R2, 16);
    a.store(Width::W, STACK, at::KEY, R2);
    let ends = (labels.replies, decide);
    remember::known(a, family, parts, (way, Answer::Bare, UDP_AGE), ends);

    a.place(tcp);
    tcp_packet(a, family, way, parts, labels, decide);
    a.place(udp);
    udp_packet(a, family, way, parts, labels, decide);
    a.place(icmp);
    icmp_packet(a, family, way, parts, labels, decide);

    a.place(decide);
    if way == Direction::Inbound {
        match labels.hook {
            Hook::Outer => transit_or_here(a, family, parts, labels),
            // At a socket it is for this host.
            Hook::Inner | Hook::Connect(_) => assigned(a, parts, labels),
        }
        claims_to_be_here(a, family, parts, labels);
    }
}

/// r2: a 16-bit value in network order → the traffic key on the stack.
fn traffic_key(a: &mut Assembler, protocol: u8) {
    a.from_network(R2, 16);
    a.op(Op::Or, R2, i32::from(protocol) << 16);
    a.store(Width::W, STACK, at::KEY, R2);
}

fn tcp_packet(
    a: &mut Assembler,
    family: Family,
    way: Direction,
    parts: &Parts<'_>,
    labels: &Labels,
    decide: Label,
) {
    let flags = |bits: u8| i32::from(bits);
    let some = TcpFlags::SYN | TcpFlags::ACK | TcpFlags::RST;
    transport_header(a, 20, labels.ways);
    a.load(Width::B, R1, STACK, at::TRANSPORT + 12);
    a.op(Op::Rsh, R1, 4);
    a.jump_if(If::Lt, R1, 5, labels.ways.malformed);
    a.load(Width::B, R8, STACK, at::TRANSPORT + 13);
    a.copy(R1, R8);
    a.op(Op::And, R1, flags(some));
    a.jump_if(If::Eq, R1, 0, labels.ways.malformed);
    let possible = a.label();
    a.copy(R2, R8);
    a.op(Op::And, R2, flags(TcpFlags::SYN));
    a.jump_if(If::Eq, R2, 0, possible);
    a.jump_if(If::Set, R8, flags(TcpFlags::FIN | TcpFlags::RST), labels.ways.malformed);
    a.place(possible);
    a.load(Width::H, R2, STACK, at::TRANSPORT + 2);
    traffic_key(a, TCP);
    a.jump_if(If::Eq, R1, flags(TcpFlags::SYN), decide);
    match way {
        Direction::Outbound => tcp_of_a_socket(a, labels, decide),
        Direction::Inbound | Direction::Transit => {
            tcp_of_a_connection(a, family, parts, labels, decide);
        }
    }
}

/// On its way out: a reset is an answer of this host, and what a TCP socket
/// sends belongs to its connection. r8 the flags.
fn tcp_of_a_socket(a: &mut Assembler, labels: &Labels, decide: Label) {
    a.jump_if(If::Set, R8, i32::from(TcpFlags::RST), labels.replies);
    a.load(Width::D, R1, R6, skb::SOCKET);
    a.jump_if(If::Eq, R1, 0, decide);
    a.call(helper::FULL_SOCKET);
    // A connection that is being opened or has ended has no whole socket.
    a.jump_if(If::Eq, R0, 0, labels.replies);
    a.load(Width::W, R1, R0, 12); // bpf_sock.protocol
    a.jump_if(If::Eq, R1, i32::from(TCP), labels.replies);
    a.jump(decide);
}

/// On its way in: part of a connection that this host knows?
fn tcp_of_a_connection(
    a: &mut Assembler,
    family: Family,
    parts: &Parts<'_>,
    labels: &Labels,
    decide: Label,
) {
    // The lookup wants addresses and ports in one piece; the IP header on the
    // stack has room behind it.
    let (ports, tuple) = match family {
        Family::V4 => (20, 12),
        Family::V6 => (40, 36),
    };
    a.load(Width::W, R1, STACK, at::TRANSPORT);
    a.store(Width::W, STACK, at::HEADER + ports, R1);
    a.copy(R1, R6);
    a.stack(R2, at::HEADER + source_offset(family));
    a.mov(R3, tuple);
    a.mov(R4, -1); // BPF_F_CURRENT_NETNS
    a.mov(R5, 0);
    a.call(helper::SOCKET_LOOKUP_TCP);
    let unknown = a.label();
    a.jump_if(If::Eq, R0, 0, unknown);
    a.load(Width::W, R7, R0, 72); // bpf_sock.state
    a.copy(R1, R0);
    a.call(helper::SOCKET_RELEASE);
    // Only a listener (10) was found: no connection of this host. It may hear on all
    // addresses, and the packet be for another one.
    a.jump_if(If::Eq, R7, 10, unknown);
    a.jump(labels.replies);
    // Or one that it forwards?
    a.place(unknown);
    let asked = (Direction::Inbound, Answer::Ports, TCP_AGE);
    remember::known(a, family, parts, asked, (labels.replies, decide));
}

fn udp_packet(
    a: &mut Assembler,
    family: Family,
    way: Direction,
    parts: &Parts<'_>,
    labels: &Labels,
    decide: Label,
) {
    transport_header(a, 8, labels.ways);
    a.load(Width::H, R1, STACK, at::TRANSPORT + 4);
    a.from_network(R1, 16);
    a.jump_if(If::Lt, R1, 8, labels.ways.malformed);
    a.load(Width::H, R2, STACK, at::TRANSPORT + 2);
    traffic_key(a, UDP);
    a.load(Width::W, R1, STACK, at::TRANSPORT);
    if parts.foundations.address_assignment {
        let (server, client): (u16, u16) = match family {
            Family::V4 => (67, 68),
            Family::V6 => (547, 546),
        };
        let (from, to) =
            if way == Direction::Outbound { (client, server) } else { (server, client) };
        let [f0, f1] = from.to_be_bytes();
        let [t0, t1] = to.to_be_bytes();
        let ports = i32::from_ne_bytes([f0, f1, t0, t1]);
        if way == Direction::Outbound {
            a.jump_if(If::Eq, R1, ports, labels.assignment);
        } else {
            // Told only when it is known whether the packet is for this host.
            let other = a.label();
            a.jump_if(If::Ne, R1, ports, other);
            a.store_value(Width::D, STACK, at::ASSIGNS, 1);
            a.place(other);
        }
    }
    let ends = (labels.replies, decide);
    remember::known(a, family, parts, (way, Answer::Ports, UDP_AGE), ends);
}

fn icmp_packet(
    a: &mut Assembler,
    family: Family,
    way: Direction,
    parts: &Parts<'_>,
    labels: &Labels,
    decide: Label,
) {
    transport_header(a, 8, labels.ways);
    a.load(Width::H, R2, STACK, at::TRANSPORT);
    let protocol = if family == Family::V4 { ICMP } else { ICMPV6 };
    traffic_key(a, protocol);
    a.load(Width::B, R1, STACK, at::TRANSPORT);
    let reply = match family {
        Family::V4 => {
            for kind in [3, 11, 12] {
                a.jump_if(If::Eq, R1, kind, labels.errors);
            }
            0
        }
        Family::V6 => {
            for kind in 1..=4 {
                a.jump_if(If::Eq, R1, kind, labels.errors);
            }
            for kind in (130..=137).chain([143]) {
                a.jump_if(If::Eq, R1, kind, labels.neighbours);
            }
            129
        }
    };
    a.jump_if(If::Ne, R1, reply, decide);
    let ends = (labels.replies, decide);
    remember::known(a, family, parts, (way, Answer::Echo, ECHO_AGE), ends);
}

/// Asks the routing table whether this host would forward the packet; without
/// forwarding it answers at once.
fn transit_or_here(a: &mut Assembler, family: Family, parts: &Parts<'_>, labels: &Labels) {
    const SKIP_NEIGHBOUR: i32 = 4;
    const NOT_FORWARDED: i32 = 4;
    const FORWARDING_OFF: i32 = 5;
    let (here, through) = (a.label(), a.label());
    a.load(Width::W, R1, R6, skb::PACKET_TYPE);
    a.jump_if(If::Ne, R1, 0, here);
    for word in 0..8 {
        a.store_value(Width::D, STACK, at::ROUTE + word * 8, 0);
    }
    let (number, words) = match family {
        Family::V4 => (libc::AF_INET, 1),
        Family::V6 => (libc::AF_INET6, 4),
    };
    a.store_value(Width::B, STACK, at::ROUTE, number);
    a.load(Width::W, R1, R6, skb::INTERFACE);
    a.store(Width::W, STACK, at::ROUTE + 8, R1);
    for (from, to) in [(source_offset(family), 16), (destination_offset(family), 32)] {
        for word in 0..words {
            a.load(Width::W, R1, STACK, at::HEADER + from + word * 4);
            a.store(Width::W, STACK, at::ROUTE + to + word * 4, R1);
        }
    }
    a.copy(R1, R6);
    a.stack(R2, at::ROUTE);
    a.mov(R3, 64);
    a.mov(R4, SKIP_NEIGHBOUR);
    a.call(helper::ROUTE);
    a.op(Op::Lsh, R0, 32); // the helper returns an int
    a.jump_if(If::SLt, R0, 0, here);
    a.op(Op::Rsh, R0, 32);
    a.jump_if(If::Eq, R0, NOT_FORWARDED, here);
    a.jump_if(If::Eq, R0, FORWARDING_OFF, here);
    a.store_value(Width::D, STACK, at::WAY, Direction::Transit as i32);
    if !parts.layout.directed {
        claims_to_be_here(a, family, parts, labels);
        a.jump(labels.transit);
    } else {
        a.jump(through);
    }
    a.place(here);
    assigned(a, parts, labels);
    a.place(through);
}

/// A source that is an address of this host's own. What this host sends to a
/// group comes back to it, and is no such thing.
fn claims_to_be_here(a: &mut Assembler, family: Family, parts: &Parts<'_>, labels: &Labels) {
    /// More are looked up in a map.
    const FEW: usize = 24;
    /// `PACKET_LOOPBACK` of `linux/if_packet.h`.
    const COMES_BACK: i32 = 5;
    let own: Vec<IpAddr> =
        parts.own_addresses.iter().copied().filter(|ip| Family::of(*ip) == family).collect();
    if own.is_empty() {
        return;
    }
    let other = a.label();
    a.load(Width::W, R1, R6, skb::PACKET_TYPE);
    a.jump_if(If::Eq, R1, COMES_BACK, other);
    let source = at::HEADER + source_offset(family);
    if own.len() > FEW {
        let key = at::ANSWER;
        address_bytes(a, family, source_offset(family), key);
        a.map(R1, parts.own);
        a.stack(R2, key);
        a.call(helper::MAP_LOOKUP);
        a.jump_if(If::Ne, R0, 0, labels.elsewhere);
    } else if family == Family::V4 {
        a.load(Width::W, R1, STACK, source);
        a.from_network(R1, 32);
        for address in &own {
            let IpAddr::V4(four) = address else { continue };
            a.value64(R2, u64::from(u32::from(*four)));
            a.jump_if_reg(If::Eq, R1, R2, labels.elsewhere);
        }
    } else {
        for (reg, half) in [(R1, 0), (R2, 8)] {
            a.load(Width::D, reg, STACK, source + half);
            a.from_network(reg, 64);
        }
        for address in &own {
            let IpAddr::V6(six) = address else { continue };
            let (whole, next) = (u128::from(*six), a.label());
            a.value64(R3, whole as u64);
            a.jump_if_reg(If::Ne, R2, R3, next);
            a.value64(R3, (whole >> 64) as u64);
            a.jump_if_reg(If::Eq, R1, R3, labels.elsewhere);
            a.place(next);
        }
    }
    a.place(other);
}

/// A packet that assigns an address, and is for this host.
fn assigned(a: &mut Assembler, parts: &Parts<'_>, labels: &Labels) {
    if parts.foundations.address_assignment {
        a.load(Width::D, R1, STACK, at::ASSIGNS);
        a.jump_if(If::Ne, R1, 0, labels.assignment);
    }
}
