//! What is remembered, so that answers pass ([`tipstaff_core::flows`]): what
//! this host sent over UDP, as an echo request or in a protocol without ports;
//! all that it forwarded; and, where orders restrict the way out, what was let
//! in, so that this host may answer it.

use std::time::Duration;

use tipstaff_core::names::address::Family;
use tipstaff_core::names::traffic::{ICMP, ICMPV6, TCP, UDP};
use tipstaff_core::packet::{Direction, TcpFlags};
use tipstaff_core::tables::layout::Verdict;

use super::assembler::{Assembler, If, Label, Op, R0, R1, R2, R3, R4, R7, R8, R9, STACK, Width};
use super::reading::{
    Ways, at, destination_offset, flow, flow_addresses, helper, ip_header, source_offset,
    transport_header,
};
use super::verdict::Parts;

/// Marks the flows that were let in, as their answers are looked for.
const LET_IN: i32 = 1;

/// The addresses of a flow's key for a packet: its other end, and its own.
fn addresses(a: &mut Assembler, family: Family, way: Direction) {
    let (source, destination) = (source_offset(family), destination_offset(family));
    match way {
        Direction::Outbound => flow_addresses(a, family, destination, source),
        Direction::Inbound | Direction::Transit => flow_addresses(a, family, source, destination),
    }
}

/// The ports of a flow's key, from the transport header.
fn ports(a: &mut Assembler, way: Direction) {
    let (remote, local) = if way == Direction::Outbound { (2, 0) } else { (0, 2) };
    for (from, to) in [(remote, flow::REMOTE_PORT), (local, flow::LOCAL_PORT)] {
        a.load(Width::H, R1, STACK, at::TRANSPORT + from);
        a.store(Width::H, STACK, at::FLOW + to, R1);
    }
}

/// Begins a flow's key: no ports, no protocol; marked for what was let in.
fn begin(a: &mut Assembler, let_in: bool) {
    a.store_value(Width::D, STACK, at::FLOW + flow::REMOTE_PORT, 0);
    if let_in {
        a.store_value(Width::B, STACK, at::FLOW + flow::LET_IN, LET_IN);
    }
}

/// What a packet would be an answer of.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Answer {
    /// Of something with ports.
    Ports,
    /// Of an echo request.
    Echo,
    /// Of something without either.
    Bare,
}

/// Goes to `replies` when the packet, of the protocol in r9, answers a flow
/// that is not older than `age`; else to `decide`. r0 to r5 and r7 are lost.
pub(super) fn known(
    a: &mut Assembler,
    family: Family,
    parts: &Parts<'_>,
    (way, answer, age): (Direction, Answer, Duration),
    (replies, decide): (Label, Label),
) {
    let outbound = way == Direction::Outbound;
    if outbound && !parts.restricts_outbound {
        // Nobody took note of what was let in.
        a.jump(decide);
        return;
    }
    begin(a, outbound);
    a.store(Width::B, STACK, at::FLOW + flow::PROTOCOL, R9);
    match answer {
        Answer::Ports => ports(a, way),
        Answer::Echo => {
            a.load(Width::H, R1, STACK, at::TRANSPORT + 4);
            a.store(Width::H, STACK, at::FLOW + flow::REMOTE_PORT, R1);
        }
        Answer::Bare => {}
    }
    addresses(a, family, way);
    a.map(R1, parts.flows);
    a.stack(R2, at::FLOW);
    a.call(helper::MAP_LOOKUP);
    a.jump_if(If::Eq, R0, 0, decide);
    a.load(Width::D, R7, R0, 0);
    a.call(helper::TIME);
    a.op_reg(Op::Sub, R0, R7);
    a.value64(R1, age.as_nanos() as u64);
    a.jump_if_reg(If::SGt, R0, R1, decide);
    a.jump(replies);
}

/// Takes note of a packet that was decided and passes; r8 is the action. r0 to
/// r5 are lost.
pub(super) fn passed(a: &mut Assembler, parts: &Parts<'_>) {
    let (inwards, outwards, done) = (a.label(), a.label(), a.label());
    a.jump_if(If::Ne, R8, i32::from(Verdict::ALLOW), done);
    // Nothing was read of what foundations took for whole.
    a.load(Width::W, R1, STACK, at::KEY);
    a.jump_if(If::Eq, R1, 0, done);
    a.load(Width::D, R1, STACK, at::WAY);
    a.jump_if(If::Eq, R1, Direction::Outbound as i32, outwards);
    if parts.restricts_outbound {
        a.jump_if(If::Eq, R1, Direction::Inbound as i32, inwards);
    }
    a.jump(done);
    a.place(outwards);
    passed_this_way(a, parts, Direction::Outbound, done);
    a.place(inwards);
    if a.is_used(inwards) {
        passed_this_way(a, parts, Direction::Inbound, done);
    }
    a.place(done);
}

fn passed_this_way(a: &mut Assembler, parts: &Parts<'_>, way: Direction, done: Label) {
    let (udp, icmp, icmp_six, note) = (a.label(), a.label(), a.label(), a.label());
    begin(a, way == Direction::Inbound);
    a.load(Width::W, R2, STACK, at::KEY);
    a.op(Op::Rsh, R2, 16);
    a.op(Op::And, R2, 0xff);
    // Of this host's connections the sockets know.
    a.jump_if(If::Eq, R2, i32::from(TCP), done);
    a.store(Width::B, STACK, at::FLOW + flow::PROTOCOL, R2);
    a.jump_if(If::Eq, R2, i32::from(UDP), udp);
    a.jump_if(If::Eq, R2, i32::from(ICMP), icmp);
    a.jump_if(If::Eq, R2, i32::from(ICMPV6), icmp_six);
    a.jump(note);
    a.place(udp);
    ports(a, way);
    a.jump(note);
    let echo = a.label();
    for (label, request) in [(icmp, 8), (icmp_six, 128)] {
        a.place(label);
        a.load(Width::B, R1, STACK, at::TRANSPORT);
        a.jump_if(If::Eq, R1, request, echo);
        a.jump(done);
    }
    a.place(echo);
    a.load(Width::H, R1, STACK, at::TRANSPORT + 4);
    a.store(Width::H, STACK, at::FLOW + flow::REMOTE_PORT, R1);

    a.place(note);
    let (four, six) = (a.label(), a.label());
    a.load(Width::D, R1, STACK, at::FAMILY);
    a.jump_if(If::Eq, R1, 4, four);
    addresses(a, Family::V6, way);
    a.jump(six);
    a.place(four);
    addresses(a, Family::V4, way);
    a.place(six);
    write(a, parts, done);
}

/// Writes the flow on the stack with the time of now, and goes to `done`.
fn write(a: &mut Assembler, parts: &Parts<'_>, done: Label) {
    a.call(helper::TIME);
    a.store(Width::D, STACK, at::NOW, R0);
    // Renewing in place is several times cheaper than inserting anew.
    let insert = a.label();
    a.map(R1, parts.flows);
    a.stack(R2, at::FLOW);
    a.call(helper::MAP_LOOKUP);
    a.jump_if(If::Eq, R0, 0, insert);
    a.load(Width::D, R1, STACK, at::NOW);
    a.store(Width::D, R0, 0, R1);
    a.jump(done);
    a.place(insert);
    a.map(R1, parts.flows);
    a.stack(R2, at::FLOW);
    a.stack(R3, at::NOW);
    a.mov(R4, 0);
    a.call(helper::MAP_UPDATE);
    a.jump(done);
}

/// Takes note of a packet on its way out that this host only forwards, and
/// goes to `pass`.
pub(super) fn forwarded(a: &mut Assembler, family: Family, parts: &Parts<'_>, pass: Label) {
    let ways = Ways { malformed: pass, later_fragment: pass, loopback: None };
    let (icmp_number, request) = match family {
        Family::V4 => (ICMP, 8),
        Family::V6 => (ICMPV6, 128),
    };
    ip_header(a, family, ways);
    let (tcp, udp, echo, with_ports, note) =
        (a.label(), a.label(), a.label(), a.label(), a.label());
    begin(a, false);
    a.store(Width::B, STACK, at::FLOW + flow::PROTOCOL, R9);
    a.jump_if(If::Eq, R9, i32::from(TCP), tcp);
    a.jump_if(If::Eq, R9, i32::from(UDP), udp);
    a.jump_if(If::Eq, R9, i32::from(icmp_number), echo);
    a.jump(note);
    a.place(tcp);
    transport_header(a, 20, ways);
    a.load(Width::B, R1, STACK, at::TRANSPORT + 13);
    a.jump_if(If::Set, R1, i32::from(TcpFlags::RST), pass);
    a.jump(with_ports);
    a.place(udp);
    transport_header(a, 8, ways);
    a.place(with_ports);
    ports(a, Direction::Outbound);
    a.jump(note);
    a.place(echo);
    transport_header(a, 8, ways);
    a.load(Width::B, R1, STACK, at::TRANSPORT);
    a.jump_if(If::Ne, R1, request, pass);
    a.load(Width::H, R1, STACK, at::TRANSPORT + 4);
    a.store(Width::H, STACK, at::FLOW + flow::REMOTE_PORT, R1);
    a.place(note);
    addresses(a, family, Direction::Outbound);
    write(a, parts, pass);
}
