//! What a packet meets between its IP header and the rules: the foundations
//! behind the transport header, replies, and the question whether this host
//! would forward it.

use std::net::IpAddr;

use tipstaff_bpf::abi::{CURRENT_NETNS, bpf_sock, fib, helper, packet_type, skb, tcp_state};
use tipstaff_bpf::asm::{
    Assembler, Flag, If, IfSigned, Label, Op, R0, R1, R2, R3, R4, R5, R6, R7, R8, R9, STACK, Width,
};
use tipstaff_bpf::headers::{ipv4, ipv6, tcp as tcp_header, udp as udp_header};
use tipstaff_bpf::parse::{address_bytes, destination_offset, source_offset, transport_header};
use tipstaff_core::names::address::Family;
use tipstaff_core::names::traffic::{ICMP, ICMPV6, TCP, UDP};
use tipstaff_core::packet::{Direction, TcpFlags};

use crate::kernel::emit::context::{Hook, Labels, Parts, cb, told};
use crate::kernel::emit::flows::{self, Answer};
use crate::kernel::emit::frame::{at, looks, pending};

/// Everything behind the IP header up to the rules; leaves the traffic key on
/// the stack.
pub(crate) fn before_rules(
    a: &mut Assembler,
    family: Family,
    way: Direction,
    parts: &Parts<'_>,
    labels: &Labels,
) {
    let (tcp, udp, icmp, decide) = (a.label(), a.label(), a.label(), a.label());
    let icmp_number = if family == Family::V4 { ICMP } else { ICMPV6 };
    a.jump_if(If::Eq, R9, TCP.into(), tcp);
    a.jump_if(If::Eq, R9, UDP.into(), udp);
    a.jump_if(If::Eq, R9, icmp_number.into(), icmp);

    // A protocol without ports: its key is its number.
    a.copy(R2, R9);
    a.alu64_imm(Op::Lsh, R2, 16);
    a.store(Width::W, STACK, at::KEY, R2);
    of_a_flow(a, family, way, parts, (Answer::Bare, labels.replies, decide));

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
            Hook::Inner | Hook::Connect(_) => for_this_host(a, labels),
        }
        claims_to_be_here(a, family, parts, labels);
    }
}

/// Goes to `replies` when a packet belongs to a flow that is known, else to `decide`.
fn of_a_flow(
    a: &mut Assembler,
    family: Family,
    way: Direction,
    parts: &Parts<'_>,
    (answer, replies, decide): (Answer, Label, Label),
) {
    match way {
        Direction::Outbound => {
            flows::answers(a, family, parts.flows, answer, (replies, decide));
        }
        Direction::Inbound | Direction::Transit => {
            flows::known(a, family, parts.flows, answer, (replies, decide));
        }
    }
}

/// r2: a 16-bit value in network order → the traffic key on the stack.
fn traffic_key(a: &mut Assembler, protocol: u8) {
    a.to_be(R2, 16);
    a.or_above_16(R2, protocol);
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
    let flags = |bits: u8| u16::from(bits);
    let some = TcpFlags::SYN | TcpFlags::ACK | TcpFlags::RST;
    transport_header(a, tcp_header::BYTES.into(), labels.ways);
    a.load(Width::B, R1, STACK, at::TRANSPORT + tcp_header::DATA_OFFSET);
    a.alu64_imm(Op::Rsh, R1, 4);
    a.jump_if(If::Lt, R1, 5, labels.ways.malformed);
    a.load(Width::B, R8, STACK, at::TRANSPORT + tcp_header::FLAGS);
    a.copy(R1, R8);
    a.alu64_imm(Op::And, R1, flags(some));
    a.jump_if(If::Eq, R1, 0, labels.ways.malformed);
    let possible = a.label();
    a.copy(R2, R8);
    a.alu64_imm(Op::And, R2, flags(TcpFlags::SYN));
    a.jump_if(If::Eq, R2, 0, possible);
    a.jump_if(If::Set, R8, flags(TcpFlags::FIN | TcpFlags::RST), labels.ways.malformed);
    a.place(possible);
    a.load(Width::H, R2, STACK, at::TRANSPORT + tcp_header::DESTINATION_PORT);
    traffic_key(a, TCP);
    a.jump_if(If::Eq, R1, flags(TcpFlags::SYN), decide);
    // What opens nothing takes nothing from a rate.
    at::LOOKS.set(a, looks::ONLY);
    match way {
        Direction::Outbound => tcp_of_a_socket(a, parts, labels, decide),
        Direction::Inbound | Direction::Transit => {
            tcp_of_a_connection(a, family, parts, labels, decide);
        }
    }
}

/// On its way out: what a TCP socket sends belongs to its connection, and what
/// the kernel itself sends is an answer. A program that writes its own
/// segments, by a raw or a packet socket, is asked like one that connects.
/// r8 the flags.
fn tcp_of_a_socket(a: &mut Assembler, parts: &Parts<'_>, labels: &Labels, decide: Label) {
    let (unowned, raw) = (a.label(), a.label());
    a.load(Width::D, R1, R6, skb::SK);
    a.jump_if(If::Eq, R1, 0, unowned);
    a.call(helper::SK_FULLSOCK);
    // A connection that is being opened or has ended has no whole socket.
    a.jump_if(If::Eq, R0, 0, labels.replies);
    a.load(Width::W, R1, R0, bpf_sock::FAMILY);
    a.jump_if(If::Eq, R1, libc::AF_PACKET as u16, decide);
    a.load(Width::W, R1, R0, bpf_sock::TYPE);
    a.jump_if(If::Eq, R1, libc::SOCK_RAW as u16, raw);
    a.jump_if(If::Ne, R1, libc::SOCK_STREAM as u16, unowned);
    a.load(Width::W, R1, R0, bpf_sock::PROTOCOL);
    a.jump_if(If::Eq, R1, TCP.into(), labels.replies);
    a.jump(decide);
    a.place(raw);
    // The kernel's own raw sockets send its resets and its last acknowledgements.
    match parts.types {
        Some(types) => {
            types.jump_if_owned(a, decide);
            unanswered(a, parts, labels);
            a.jump(labels.replies);
        }
        None => {
            a.jump_if(If::Set, R8, TcpFlags::RST.into(), labels.replies);
            a.jump(decide);
        }
    }
    a.place(unowned);
    a.jump_if(If::Set, R8, TcpFlags::RST.into(), labels.replies);
    a.jump(decide);
}

/// At the sockets, on an interface that has no gate yet: what the kernel itself
/// answers, to echo requests and closed ports, nobody has decided. It is not
/// sent. r1 is lost.
fn unanswered(a: &mut Assembler, parts: &Parts<'_>, labels: &Labels) {
    if labels.hook == Hook::Inner && parts.restricts_inbound {
        let decided = a.label();
        a.load(Width::W, R1, R6, cb::TOLD);
        a.jump_if(If::Set, R1, told::EARLY, decided);
        a.jump(labels.unanswered);
        a.place(decided);
    }
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
    let (ports, tuple, header) = match family {
        Family::V4 => (ipv4::BYTES, 12, ipv4::BYTES),
        Family::V6 => (ipv6::BYTES, 36, ipv6::BYTES),
    };
    a.load(Width::W, R1, STACK, at::TRANSPORT);
    a.store(Width::W, STACK, at::HEADER + ports, R1);
    a.copy(R1, R6);
    a.stack(R2, at::HEADER + source_offset(family));
    a.mov(R3, tuple);
    a.mov(R4, CURRENT_NETNS);
    a.mov(R5, 0);
    a.call(helper::SKC_LOOKUP_TCP);
    let (unknown, release) = (a.label(), a.label());
    a.jump_if(If::Eq, R0, 0, unknown);
    a.copy(R9, R0);
    a.load(Width::W, R7, R0, bpf_sock::STATE);
    if labels.hook == Hook::Outer {
        // A listener has no memory of a handshake whose SYN it answered by a cookie: that
        // comes back in the last step (tcp_syncookies of ip-sysctl.rst). Its SYN was let in,
        // and has taken from a rate; whether the orders of now let it in is asked again.
        let cookie = a.label();
        a.jump_if(If::Eq, R7, tcp_state::LISTEN, cookie);
        a.jump(release);
        a.place(cookie);
        a.copy(R1, R9);
        a.stack(R2, at::HEADER);
        a.mov(R3, header.into());
        a.stack(R4, at::TRANSPORT);
        a.mov(R5, 20);
        a.call(helper::TCP_CHECK_SYNCOOKIE);
        let stale = a.label();
        a.jump_if(If::Ne, R0, 0, stale);
        at::LOOKS.set(a, looks::IS_PAID);
        a.place(stale);
        a.mov(R7, tcp_state::LISTEN.into());
    }
    a.place(release);
    a.copy(R1, R9);
    a.call(helper::SK_RELEASE);
    a.mov(R9, TCP.into());
    // Only a listener was found: no connection of this host. It may hear on all
    // addresses, and the packet be for another one.
    a.jump_if(If::Ne, R7, tcp_state::LISTEN, labels.replies);
    if labels.hook == Hook::Outer {
        at::LOOKS.load(a, R1);
        a.jump_if(If::Eq, R1, Flag::with(looks::IS_PAID), decide);
    }
    // Or one that it forwards?
    a.place(unknown);
    flows::known(a, family, parts.flows, Answer::Connection, (labels.replies, decide));
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
    a.load(Width::H, R1, STACK, at::TRANSPORT + udp_header::LENGTH);
    a.to_be(R1, 16);
    a.jump_if(If::Lt, R1, 8, labels.ways.malformed);
    a.load(Width::H, R2, STACK, at::TRANSPORT + tcp_header::DESTINATION_PORT);
    traffic_key(a, UDP);
    if parts.foundations.address_assignment {
        assigns(a, family, way, labels);
    }
    of_a_flow(a, family, way, parts, (Answer::Datagram, labels.replies, decide));
}

/// An answer of DHCP comes by limited broadcast, one of DHCPv6 from an address
/// of the link; a client may ask whom it likes.
fn assigns(a: &mut Assembler, family: Family, way: Direction, labels: &Labels) {
    let (server, client): (u16, u16) = match family {
        Family::V4 => (67, 68),
        Family::V6 => (547, 546),
    };
    let (from, to) = if way == Direction::Outbound { (client, server) } else { (server, client) };
    let [f0, f1] = from.to_be_bytes();
    let [t0, t1] = to.to_be_bytes();
    let ports = u32::from_ne_bytes([f0, f1, t0, t1]);
    a.load(Width::W, R1, STACK, at::TRANSPORT);
    if way == Direction::Outbound {
        a.jump32_if(If::Eq, R1, ports, labels.assignment);
        return;
    }
    // Told only when it is known whether the packet is for this host.
    let other = a.label();
    a.jump32_if(If::Ne, R1, ports, other);
    match family {
        Family::V4 => {
            a.load(Width::W, R1, STACK, at::HEADER + destination_offset(family));
            a.jump32_if(If::Ne, R1, u32::MAX, other);
        }
        Family::V6 => jump_unless_link_local(a, source_offset(family), other),
    }
    at::PENDING.set(a, pending::ASSIGNMENT);
    a.place(other);
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
    let (error, neighbours) = (a.label(), a.label());
    let reply = match family {
        Family::V4 => {
            for kind in [3, 11, 12] {
                a.jump_if(If::Eq, R1, kind, error);
            }
            0
        }
        Family::V6 => {
            for kind in 1..=4 {
                a.jump_if(If::Eq, R1, kind, error);
            }
            // Router and neighbour discovery come from the link: no router has taken
            // anything off their hop limit.
            let on_the_link = a.label();
            for kind in 133..=137 {
                a.jump_if(If::Eq, R1, kind, on_the_link);
            }
            for kind in (130..=132).chain([143]) {
                a.jump_if(If::Eq, R1, kind, neighbours);
            }
            let next = a.label();
            a.jump(next);
            a.place(on_the_link);
            a.load(Width::B, R2, STACK, at::HEADER + ipv6::HOP_LIMIT);
            a.jump_if(If::Ne, R2, 255, labels.ways.malformed);
            a.jump(neighbours);
            a.place(next);
            129
        }
    };
    a.jump_if(If::Ne, R1, reply, decide);
    let unknown = a.label();
    of_a_flow(a, family, way, parts, (Answer::Echo, labels.replies, unknown));
    a.place(unknown);
    if way == Direction::Outbound {
        unanswered(a, parts, labels);
    }
    a.jump(decide);
    for (label, number, foundation) in [
        (error, pending::ERROR, labels.errors),
        (neighbours, pending::NEIGHBOURS, labels.neighbours),
    ] {
        if !a.is_used(label) {
            continue;
        }
        a.place(label);
        if way == Direction::Outbound {
            if number == pending::ERROR {
                unanswered(a, parts, labels);
            }
            a.jump(foundation);
        } else {
            at::PENDING.set(a, number);
            a.jump(decide);
        }
    }
}

/// Asks the routing table whether this host would forward the packet; without
/// forwarding it answers at once.
fn transit_or_here(a: &mut Assembler, family: Family, parts: &Parts<'_>, labels: &Labels) {
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
            own(a, family, destination_offset(family), parts, here);
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
fn jump_unless_link_local(a: &mut Assembler, offset: i16, other: Label) {
    a.load(Width::H, R1, STACK, at::HEADER + offset);
    a.to_be(R1, 16);
    a.alu64_imm(Op::And, R1, 0xffc0);
    a.jump_if(If::Ne, R1, 0xfe80, other);
}

/// To a link-local address: `bpf_fib_lookup` says that such are never forwarded, but
/// `ip6_forward` sends them on where they came from. r0 to r5 are lost.
fn of_the_link(a: &mut Assembler, parts: &Parts<'_>, here: Label, through: Label) {
    own(a, Family::V6, destination_offset(Family::V6), parts, here);
    if parts.types.is_some() {
        a.load(Width::D, R1, STACK, at::FORWARDS);
        a.jump_if(If::Eq, R1, 0, here);
    }
    a.jump(through);
}

/// Whence a packet is routed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum RouteFrom {
    /// Where it arrived.
    Packet,
    /// The loopback interface.
    Loopback,
}

/// r0 = what the routing table says; goes to `here` when it cannot say
/// anything. r1 to r5 are lost.
fn route(a: &mut Assembler, family: Family, from: RouteFrom, here: Label) {
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

/// Goes to `found` when an address of the packet is an own one. r0 to r5 are lost.
pub(crate) fn own(a: &mut Assembler, family: Family, offset: i16, parts: &Parts<'_>, found: Label) {
    let key = at::ANSWER;
    address_bytes(a, family, offset, key);
    a.map(R1, parts.own);
    a.stack(R2, key);
    a.call(helper::MAP_LOOKUP_ELEM);
    a.jump_if(If::Ne, R0, 0, found);
}

/// What passes by a foundation because it is for this host.
fn for_this_host(a: &mut Assembler, labels: &Labels) {
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
fn claims_to_be_here(a: &mut Assembler, family: Family, parts: &Parts<'_>, labels: &Labels) {
    /// More are looked up in a map.
    const FEW: usize = 24;
    let addresses: Vec<IpAddr> =
        parts.own_addresses.iter().copied().filter(|ip| Family::of(*ip) == family).collect();
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
