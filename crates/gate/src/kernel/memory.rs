//! The egress side: remembers what this host sends over UDP, as an echo
//! request, or in a protocol without ports, and all that it forwards, so that
//! answers come back in ([`tipstaff_core::flows`]). It never drops anything.

use std::os::fd::BorrowedFd;

use tipstaff_core::names::address::Family;
use tipstaff_core::names::traffic::{ICMP, ICMPV6, TCP, UDP};
use tipstaff_core::packet::TcpFlags;

use super::assembler::{
    Assembler, If, Label, Misfit, R0, R1, R2, R3, R4, R6, R7, R9, STACK, Width,
};
use super::reading::{
    Ways, at, destination_offset, family_jumps, flow, flow_addresses, helper, ip_header, skb,
    source_offset, transport_header,
};

/// Where the program stands.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Place {
    /// At the sockets of every control group; acts in the namespace with this
    /// cookie and in no other.
    ControlGroup {
        /// The namespace.
        cookie: u64,
    },
    /// At the egress of one interface, for what is forwarded only: the sockets
    /// never see that.
    Forwarded,
    /// At the egress of one interface, for everything: for kernels that do not
    /// tell a program at the sockets which namespace it is in (before about 6.15).
    Interface,
}

/// The program's code.
///
/// # Errors
/// [`Misfit`] if the code does not fit together.
pub fn program(flows: BorrowedFd<'_>, place: Place) -> Result<Vec<u8>, Misfit> {
    let mut a = Assembler::default();
    let pass = a.label();
    let (four, six) = (a.label(), a.label());
    a.copy(R6, R1);
    a.load(Width::W, R2, R6, skb::INTERFACE);
    a.jump_if(If::Eq, R2, 1, pass);
    if let Place::ControlGroup { cookie } = place {
        a.copy(R1, R6);
        a.call(helper::NAMESPACE_COOKIE);
        a.value64(R1, cookie);
        a.jump_if_reg(If::Ne, R0, R1, pass);
    }
    if place == Place::Forwarded {
        a.load(Width::W, R2, R6, skb::CAME_FROM);
        a.jump_if(If::Eq, R2, 0, pass);
    }
    family_jumps(&mut a, four, six);
    a.jump(pass);
    for (label, family) in [(four, Family::V4), (six, Family::V6)] {
        a.place(label);
        remember(&mut a, family, flows, place, pass);
    }
    a.place(pass);
    let let_go = match place {
        Place::ControlGroup { .. } => 1,
        Place::Forwarded | Place::Interface => -1, // TCX_NEXT
    };
    a.mov(R0, let_go);
    a.exit();
    a.finish()
}

fn remember(a: &mut Assembler, family: Family, flows: BorrowedFd<'_>, place: Place, pass: Label) {
    let ways = Ways { malformed: pass, later_fragment: pass, loopback: None };
    let (icmp, request) = match family {
        Family::V4 => (ICMP, 8),
        Family::V6 => (ICMPV6, 128),
    };
    ip_header(a, family, ways);
    let (tcp, udp, echo, note) = (a.label(), a.label(), a.label(), a.label());
    a.store_value(Width::D, STACK, at::FLOW + flow::REMOTE_PORT, 0);
    a.store(Width::B, STACK, at::FLOW + flow::PROTOCOL, R9);
    a.jump_if(If::Eq, R9, i32::from(TCP), tcp);
    a.jump_if(If::Eq, R9, i32::from(UDP), udp);
    a.jump_if(If::Eq, R9, i32::from(icmp), echo);
    a.jump(note);

    // Of its own connections the sockets know.
    let ports = a.label();
    a.place(tcp);
    match place {
        Place::ControlGroup { .. } => a.jump(pass),
        Place::Forwarded | Place::Interface => {
            a.load(Width::W, R1, R6, skb::CAME_FROM);
            a.jump_if(If::Eq, R1, 0, pass);
            transport_header(a, 20, ways);
            a.load(Width::B, R1, STACK, at::TRANSPORT + 13);
            a.jump_if(If::Set, R1, i32::from(TcpFlags::RST), pass);
            a.jump(ports);
        }
    }
    a.place(udp);
    transport_header(a, 8, ways);
    a.place(ports);
    a.load(Width::H, R1, STACK, at::TRANSPORT + 2);
    a.store(Width::H, STACK, at::FLOW + flow::REMOTE_PORT, R1);
    a.load(Width::H, R1, STACK, at::TRANSPORT);
    a.store(Width::H, STACK, at::FLOW + flow::LOCAL_PORT, R1);
    a.jump(note);

    a.place(echo);
    transport_header(a, 8, ways);
    a.load(Width::B, R1, STACK, at::TRANSPORT);
    a.jump_if(If::Ne, R1, request, pass);
    a.load(Width::H, R1, STACK, at::TRANSPORT + 4);
    a.store(Width::H, STACK, at::FLOW + flow::REMOTE_PORT, R1);

    a.place(note);
    flow_addresses(a, family, destination_offset(family), source_offset(family));
    a.call(helper::TIME);
    a.copy(R7, R0);
    // Renewing in place is several times cheaper than inserting anew.
    let insert = a.label();
    a.map(R1, flows);
    a.stack(R2, at::FLOW);
    a.call(helper::MAP_LOOKUP);
    a.jump_if(If::Eq, R0, 0, insert);
    a.store(Width::D, R0, 0, R7);
    a.jump(pass);
    a.place(insert);
    a.store(Width::D, STACK, at::NOW, R7);
    a.map(R1, flows);
    a.stack(R2, at::FLOW);
    a.stack(R3, at::NOW);
    a.mov(R4, 0);
    a.call(helper::MAP_UPDATE);
    a.jump(pass);
}
