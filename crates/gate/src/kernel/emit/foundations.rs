//! What a packet meets between its IP header and the rules: the foundations
//! behind the transport header, replies, and the question whether this host
//! would forward it.

use tipstaff_bpf::abi::{CURRENT_NETNS, bpf_sock, helper, skb, tcp_state};
use tipstaff_bpf::asm::{
    Assembler, Flag, If, Label, Op, R0, R1, R2, R3, R4, R5, R6, R7, R8, R9, STACK, Width,
};
use tipstaff_bpf::headers::{ipv4, ipv6, tcp as tcp_header, udp as udp_header};
use tipstaff_bpf::parse::{destination_offset, source_offset, transport_header};
use tipstaff_core::names::address::Family;
use tipstaff_core::names::traffic::{ICMP, ICMPV6, TCP, UDP};
use tipstaff_core::packet::{Direction, TcpFlags};

use crate::kernel::emit::context::{Hook, Labels, Parts, cb, told};
use crate::kernel::emit::flow_key::Answer;
use crate::kernel::emit::flows;
use crate::kernel::emit::frame::{at, looks, pending};
use crate::kernel::emit::route::{
    claims_to_be_here, for_this_host, jump_unless_link_local, transit_or_here,
};

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
    of_a_flow(a, family, way, parts, Answer::Bare, labels.replies, decide);

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
    answer: Answer,
    replies: Label,
    decide: Label,
) {
    match way {
        Direction::Outbound => {
            flows::answers(a, family, parts.flows, answer, replies, decide);
        }
        Direction::Inbound | Direction::Transit => {
            flows::find_answered(a, family, parts.flows, answer, replies, decide);
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
    fn flags(bits: u8) -> u16 {
        u16::from(bits)
    }
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
            types.jump_if_owned(a, at::ROUTE, decide);
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
    flows::find_answered(a, family, parts.flows, Answer::Connection, labels.replies, decide);
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
    of_a_flow(a, family, way, parts, Answer::Datagram, labels.replies, decide);
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
    of_a_flow(a, family, way, parts, Answer::Echo, labels.replies, unknown);
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
