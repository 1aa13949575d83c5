//! The keys of flows, on the stack.

use std::time::Duration;

use tipstaff_bpf::asm::{Assembler, Flag, If, R1, R9, STACK, Width};
use tipstaff_bpf::headers::icmp as icmp_header;
use tipstaff_bpf::parse::{address_bytes, destination_offset, source_offset};
use tipstaff_core::decision::flows::{ECHO_AGE, TCP_AGE, UDP_AGE};
use tipstaff_core::names::address::Family;
use tipstaff_core::packet::Direction;

use crate::kernel::emit::frame::{at, flow};

/// The addresses of a flow's key for a packet: its other end, and its own.
pub(crate) fn addresses(a: &mut Assembler, family: Family, way: Direction) {
    let (source, destination) = (source_offset(family), destination_offset(family));
    match way {
        Direction::Outbound => flow_addresses(a, family, destination, source),
        Direction::Inbound | Direction::Transit => flow_addresses(a, family, source, destination),
    }
}

/// The ports of a flow's key, from the transport header.
pub(crate) fn ports(a: &mut Assembler, way: Direction) {
    let (remote, local) = if way == Direction::Outbound { (2, 0) } else { (0, 2) };
    for (from, to) in [(remote, flow::REMOTE_PORT), (local, flow::LOCAL_PORT)] {
        a.load(Width::H, R1, STACK, at::TRANSPORT + from);
        a.store(Width::H, STACK, at::FLOW + to, R1);
    }
}

/// Begins a flow's key: no ports, no protocol.
pub(crate) fn begin(a: &mut Assembler) {
    a.store_imm(Width::D, STACK, at::FLOW + flow::REMOTE_PORT, 0);
}

/// What a packet would be an answer of.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Answer {
    /// Of a forwarded connection; the flags are in r8.
    Connection,
    /// Of a datagram.
    Datagram,
    /// Of an echo request.
    Echo,
    /// Of something without ports.
    Bare,
}

impl Answer {
    pub(crate) fn age(self) -> Duration {
        match self {
            Self::Connection => TCP_AGE,
            Self::Echo => ECHO_AGE,
            Self::Datagram | Self::Bare => UDP_AGE,
        }
    }
}

/// The key of the flow that a packet, of the protocol in r9, is of.
pub(crate) fn key(a: &mut Assembler, family: Family, way: Direction, answer: Answer) {
    begin(a);
    a.store(Width::B, STACK, at::FLOW + flow::PROTOCOL, R9);
    match answer {
        Answer::Connection | Answer::Datagram => ports(a, way),
        Answer::Echo => {
            a.load(Width::H, R1, STACK, at::TRANSPORT + icmp_header::IDENTIFIER);
            a.store(Width::H, STACK, at::FLOW + flow::REMOTE_PORT, R1);
        }
        Answer::Bare => {}
    }
    addresses(a, family, way);
}

/// The key of a fragment: its addresses and its identification.
pub(crate) fn fragment_key(a: &mut Assembler) {
    begin(a);
    a.load(Width::W, R1, STACK, at::FRAGMENT);
    a.store(Width::W, STACK, at::FLOW + flow::REMOTE_PORT, R1);
    by_family(a, |a, family| addresses(a, family, Direction::Inbound));
}

/// Writes both addresses of a flow's key, each from its offset in the IP
/// header. The ports and the rest of the last 8 bytes are the caller's.
pub(crate) fn flow_addresses(a: &mut Assembler, family: Family, remote: i16, local: i16) {
    for (offset, place) in [(remote, flow::REMOTE), (local, flow::LOCAL)] {
        address_bytes(a, family, offset, at::FLOW + place);
    }
}

/// Emits something for each family, and goes where the packet's is.
pub(crate) fn by_family(a: &mut Assembler, mut each: impl FnMut(&mut Assembler, Family)) {
    let (four, done) = (a.label(), a.label());
    at::FAMILY.load(a, R1);
    a.jump_if(If::Eq, R1, Flag::with(4), four);
    each(a, Family::V6);
    a.jump(done);
    a.place(four);
    each(a, Family::V4);
    a.place(done);
}
