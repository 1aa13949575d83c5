//! Each foundation by example, in the order in which a packet meets them.

#![allow(clippy::unwrap_used)]

use std::collections::BTreeSet;
use std::net::IpAddr;

use tipstaff_core::decision::foundations::{Before, Foundation, before_rules, claims_to_be_here};
use tipstaff_core::moment::Moment;
use tipstaff_core::orders::{Action, FoundationSwitches};
use tipstaff_core::packet::{
    Direction, InterfaceIndex, IpPacket, LinkFrame, Packet, PacketContext, Payload, ProgramIndex,
    TcpFlags,
};

const HOST4: &str = "198.51.100.20";
const HOST6: &str = "2001:db8:51::20";
const PARTNER4: &str = "203.0.113.9";
const PARTNER6: &str = "2001:db8:113::9";

fn ip(source: &str, destination: &str, payload: Payload) -> Packet {
    let (source, destination): (IpAddr, IpAddr) =
        (source.parse().unwrap(), destination.parse().unwrap());
    Packet::Ip(IpPacket::whole(source, destination, payload))
}

fn facts(packet: Packet) -> PacketContext {
    PacketContext {
        interface: InterfaceIndex(2),
        direction: Direction::Inbound,
        program: ProgramIndex::OTHER,
        is_reply: false,
        now: Moment::default(),
        packet,
    }
}

/// The foundation that decides; `None` when the rules are to decide.
fn is_active(facts: &PacketContext) -> Option<Foundation> {
    match before_rules(FoundationSwitches::default(), facts) {
        Before::Speaks(foundation) => Some(foundation),
        Before::Open(_) => None,
        Before::NotOurs => panic!("it is IP"),
    }
}

fn icmp(kind: u8) -> Payload {
    Payload::Icmp { kind, code: 0, id: 7 }
}

fn tcp(flags: u8) -> Payload {
    Payload::Tcp { from: 50_000, to: 22, flags: TcpFlags(flags) }
}

fn udp(from: u16, to: u16) -> Payload {
    Payload::Udp { from, to }
}

#[test]
fn loopback_passes_on_its_own_interface_and_nowhere_else() {
    let mut home = facts(ip("127.0.0.1", "127.0.0.1", tcp(TcpFlags::SYN)));
    assert_eq!(is_active(&home), Some(Foundation::Martian));
    home.interface = InterfaceIndex::LOOPBACK;
    assert_eq!(is_active(&home), Some(Foundation::Loopback));
    for (source, destination) in
        [("127.255.0.1", HOST4), (PARTNER4, "127.0.0.53"), ("::1", HOST6), (PARTNER6, "::1")]
    {
        let packet = facts(ip(source, destination, udp(9, 9)));
        assert_eq!(is_active(&packet), Some(Foundation::Martian), "{source} {destination}");
    }
    // Neighbours of the loopback prefix are ordinary addresses.
    for source in ["126.255.255.255", "128.0.0.0"] {
        assert_eq!(is_active(&facts(ip(source, HOST4, udp(9, 9)))), None);
    }
    assert_eq!(is_active(&facts(ip("::2", HOST6, udp(9, 9)))), None);
}

#[test]
fn what_is_broken_is_dropped_and_what_has_no_header_passes() {
    assert_eq!(is_active(&facts(Packet::Malformed)), Some(Foundation::Malformed));
    let broken = facts(ip(PARTNER4, HOST4, Payload::Malformed));
    assert_eq!(is_active(&broken), Some(Foundation::Malformed));
    let mut later = facts(ip(PARTNER6, HOST6, Payload::LaterFragment { id: 7 }));
    assert_eq!(is_active(&later), Some(Foundation::LoneFragments));
    later.is_reply = true;
    assert_eq!(is_active(&later), Some(Foundation::LaterFragments));
    let other = facts(Packet::Link(LinkFrame::OtherVlan));
    assert_eq!(before_rules(FoundationSwitches::default(), &other), Before::NotOurs);
    for (frame, said) in [
        (LinkFrame::Named, Foundation::LinkProtocols),
        (LinkFrame::Unreadable, Foundation::Unreadable),
    ] {
        assert_eq!(is_active(&facts(Packet::Link(frame))), Some(said));
    }
    // A loopback address in a broken packet is told as what comes first.
    let both = facts(ip("127.0.0.1", HOST4, Payload::Malformed));
    assert_eq!(is_active(&both), Some(Foundation::Martian));
}

#[test]
fn neighbours_and_errors_pass_in_the_family_that_knows_them() {
    for kind in (130..=137).chain([143]) {
        let six = facts(ip(PARTNER6, HOST6, icmp(kind)));
        assert_eq!(is_active(&six), Some(Foundation::NeighbourDiscovery), "{kind}");
        assert_eq!(is_active(&facts(ip(PARTNER4, HOST4, icmp(kind)))), None, "{kind} in IPv4");
    }
    for (packet, kinds) in
        [((PARTNER4, HOST4), &[3u8, 11, 12][..]), ((PARTNER6, HOST6), &[1, 2, 3, 4])]
    {
        for kind in kinds {
            let error = facts(ip(packet.0, packet.1, icmp(*kind)));
            assert_eq!(is_active(&error), Some(Foundation::IcmpErrors), "{kind}");
        }
    }
    // What passes through is nobody's neighbour, and an error must be about a known flow.
    for (kind, is_reply, said) in
        [(135, true, None), (1, false, None), (1, true, Some(Foundation::IcmpErrors))]
    {
        let direction = Direction::Transit;
        let through =
            PacketContext { direction, is_reply, ..facts(ip(PARTNER6, HOST6, icmp(kind))) };
        assert_eq!(is_active(&through), said, "{kind}");
    }
    // Redirects, timestamps and echo requests are not errors about connections.
    for kind in [5, 8, 13, 17] {
        assert_eq!(is_active(&facts(ip(PARTNER4, HOST4, icmp(kind)))), None, "{kind}");
    }
}

#[test]
fn address_assignment_can_be_switched_off() {
    let four = facts(ip("198.51.100.1", "255.255.255.255", udp(67, 68)));
    let six = facts(ip("fe80::1", HOST6, udp(547, 546)));
    for packet in [four, six] {
        assert_eq!(is_active(&packet), Some(Foundation::AddressAssignment));
        let off = FoundationSwitches { address_assignment: false };
        assert!(matches!(before_rules(off, &packet), Before::Open(_)));
    }
    // From off the link it is no such thing.
    assert_eq!(is_active(&facts(ip(PARTNER4, HOST4, udp(67, 68)))), None);
    assert_eq!(is_active(&facts(ip(PARTNER6, HOST6, udp(547, 546)))), None);
    // The other way round, and in the other family, it is ordinary traffic.
    assert_eq!(is_active(&facts(ip(PARTNER4, HOST4, udp(68, 67)))), None);
    assert_eq!(is_active(&facts(ip(PARTNER4, HOST4, udp(547, 546)))), None);
}

#[test]
fn replies_pass_and_a_new_connection_is_always_decided() {
    let known = |payload| {
        let mut packet = facts(ip(PARTNER4, HOST4, payload));
        packet.is_reply = true;
        is_active(&packet)
    };
    let replies = Some(Foundation::Replies);
    for flags in
        [TcpFlags::ACK, TcpFlags::SYN | TcpFlags::ACK, TcpFlags::RST, TcpFlags::FIN | TcpFlags::ACK]
    {
        assert_eq!(known(tcp(flags)), replies, "{flags:#x}");
        assert_eq!(
            is_active(&facts(ip(PARTNER4, HOST4, tcp(flags)))),
            None,
            "{flags:#x} of nobody's"
        );
    }
    assert_eq!(known(tcp(TcpFlags::SYN)), None, "a SYN over a known connection is a new one");
    assert_eq!(known(udp(123, 5000)), replies);
    assert_eq!(known(icmp(0)), replies);
    assert_eq!(known(icmp(8)), None, "an echo request is nobody's reply");
    assert_eq!(known(Payload::Other { protocol: 47 }), replies);
}

#[test]
fn four_foundations_deny_and_the_others_allow() {
    let deny: Vec<&str> = Foundation::ALL
        .into_iter()
        .filter(|f| f.action() == Action::Deny)
        .map(Foundation::name)
        .collect();
    assert_eq!(deny, ["unreadable", "loopback-elsewhere", "malformed", "lone-fragments"]);
    for foundation in Foundation::ALL {
        assert!(!foundation.meaning().is_empty());
    }
}

#[test]
fn addresses_are_assigned_to_this_host_only_and_asked_for_by_it() {
    let told = |direction, source, destination, ports: (u16, u16)| {
        let packet = ip(source, destination, udp(ports.0, ports.1));
        is_active(&PacketContext { direction, ..facts(packet) })
    };
    let assigns = Some(Foundation::AddressAssignment);
    for (host, other, server, client) in
        [("255.255.255.255", PARTNER4, 67, 68), (HOST6, "fe80::1", 547, 546)]
    {
        assert_eq!(told(Direction::Inbound, other, host, (server, client)), assigns);
        assert_eq!(told(Direction::Inbound, other, host, (client, server)), None);
        assert_eq!(told(Direction::Outbound, host, other, (client, server)), assigns);
        assert_eq!(told(Direction::Outbound, host, other, (server, client)), None);
        assert_eq!(told(Direction::Transit, other, host, (server, client)), None);
    }
}

#[test]
fn what_this_host_answers_is_never_cut() {
    let out = |payload, is_reply| {
        let packet = ip(HOST4, PARTNER4, payload);
        is_active(&PacketContext { direction: Direction::Outbound, is_reply, ..facts(packet) })
    };
    let replies = Some(Foundation::Replies);
    // A reset is the answer to what it knows nothing of; a new connection never is one.
    assert_eq!(out(tcp(TcpFlags::RST | TcpFlags::ACK), false), replies);
    assert_eq!(out(tcp(TcpFlags::SYN | TcpFlags::ACK), true), replies);
    assert_eq!(out(tcp(TcpFlags::SYN | TcpFlags::ACK), false), None);
    assert_eq!(out(tcp(TcpFlags::SYN), true), None);
    assert_eq!(out(udp(5000, 6000), true), replies);
    assert_eq!(out(icmp(0), true), replies);
    assert_eq!(out(icmp(0), false), None, "an echo reply that nobody asked for");
    assert_eq!(out(icmp(8), false), None);
    assert_eq!(out(icmp(3), false), Some(Foundation::IcmpErrors));
    // On its way in, a reset of nothing is decided by the rules.
    assert_eq!(is_active(&facts(ip(PARTNER4, HOST4, tcp(TcpFlags::RST)))), None);
}

#[test]
fn each_has_a_name_and_a_meaning_of_its_own() {
    let names: BTreeSet<String> = Foundation::ALL.iter().map(ToString::to_string).collect();
    let meanings: BTreeSet<&str> = Foundation::ALL.iter().map(|one| one.meaning()).collect();
    assert_eq!((names.len(), meanings.len()), (Foundation::ALL.len(), Foundation::ALL.len()));
    assert_eq!(Foundation::AddressAssignment.to_string(), "address-assignment");
    assert_eq!(Foundation::Malformed.meaning(), "broken headers, impossible flags");
}

/// An own address comes from no other machine.
#[test]
fn nobody_else_has_an_own_address() {
    let own: [IpAddr; 2] = [HOST4.parse().unwrap(), HOST6.parse().unwrap()];
    let from = |source: &str, destination: &str| match ip(
        source,
        destination,
        Payload::Udp { from: 1, to: 2 },
    ) {
        Packet::Ip(packet) => packet,
        other => panic!("{other:?}"),
    };
    for (here, there) in [(HOST4, PARTNER4), (HOST6, PARTNER6)] {
        for direction in [Direction::Inbound, Direction::Transit] {
            assert!(claims_to_be_here(&own, direction, &from(here, there)));
            assert!(!claims_to_be_here(&own, direction, &from(there, here)));
        }
        assert!(!claims_to_be_here(&own, Direction::Outbound, &from(here, there)));
    }
}
