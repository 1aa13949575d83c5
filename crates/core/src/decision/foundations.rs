//! What holds before any rule: the foundations, in the order in which a
//! packet meets them, and replies.

use std::fmt;
use std::net::{IpAddr, Ipv4Addr};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::orders::{Action, FoundationSwitches};
use crate::packet::{
    Direction, InterfaceIndex, IpPacket, LinkFrame, Packet, PacketContext, Payload,
};

/// A foundation; the numbers are the kernel's counter slots.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
#[repr(u8)]
pub enum Foundation {
    /// Whatever arrives on the loopback interface passes.
    Loopback = 0,
    /// A loopback address on another interface is dropped (RFC 1122 3.2.1.3, RFC 4291 2.5.3).
    #[serde(rename = "loopback-elsewhere")]
    Martian = 1,
    /// Truncated headers, wrong lengths, impossible flags are dropped.
    Malformed = 2,
    /// Fragments after a first one that was let pass, go on to reassembly.
    LaterFragments = 3,
    /// Neighbour discovery (RFC 4861) and MLD (RFC 3810) pass.
    NeighbourDiscovery = 4,
    /// ICMP errors about connections pass.
    IcmpErrors = 5,
    /// Answers of DHCP (RFC 2131) and DHCPv6 (RFC 8415) to this host pass, and its requests.
    AddressAssignment = 6,
    /// What belongs to a connection or flow of this host passes.
    Replies = 7,
    /// What is not IP and known by its name passes: ARP, LLDP and their like.
    LinkProtocols = 8,
    /// What is not IP and may hide some is dropped: tags behind a priority tag,
    /// MPLS, protocols of the link that nobody knows.
    Unreadable = 9,
    /// Fragments without a first one that was let pass are dropped.
    LoneFragments = 10,
}

impl Foundation {
    /// All, in the order in which a packet meets them.
    pub const ALL: [Self; 11] = [
        Self::Loopback,
        Self::LinkProtocols,
        Self::Unreadable,
        Self::Martian,
        Self::Malformed,
        Self::LaterFragments,
        Self::LoneFragments,
        Self::NeighbourDiscovery,
        Self::IcmpErrors,
        Self::AddressAssignment,
        Self::Replies,
    ];

    /// The name in tables and messages.
    pub fn name(self) -> &'static str {
        match self {
            Self::Loopback => "loopback",
            Self::Martian => "loopback-elsewhere",
            Self::Malformed => "malformed",
            Self::LaterFragments => "later-fragments",
            Self::NeighbourDiscovery => "neighbour-discovery",
            Self::IcmpErrors => "icmp-errors",
            Self::AddressAssignment => "address-assignment",
            Self::Replies => "replies",
            Self::LinkProtocols => "link-protocols",
            Self::Unreadable => "unreadable",
            Self::LoneFragments => "lone-fragments",
        }
    }

    /// What it is about, in words.
    pub fn meaning(self) -> &'static str {
        match self {
            Self::Loopback => "all on the loopback interface",
            Self::Martian => "loopback, own addresses from elsewhere",
            Self::Malformed => "broken headers, impossible flags",
            Self::LaterFragments => "fragments after a first one",
            Self::NeighbourDiscovery => "IPv6 neighbours, routers, MLD",
            Self::IcmpErrors => "ICMP errors about connections",
            Self::AddressAssignment => "DHCP and DHCPv6 for this host",
            Self::Replies => "known connections and flows",
            Self::LinkProtocols => "ARP, LLDP and other known link protocols",
            Self::Unreadable => "nested tags, MPLS, unknown link protocols",
            Self::LoneFragments => "fragments without a first one",
        }
    }

    /// What it says.
    pub fn action(self) -> Action {
        match self {
            Self::Martian | Self::Malformed | Self::Unreadable | Self::LoneFragments => {
                Action::Deny
            }
            Self::Loopback
            | Self::LaterFragments
            | Self::NeighbourDiscovery
            | Self::IcmpErrors
            | Self::AddressAssignment
            | Self::Replies
            | Self::LinkProtocols => Action::Allow,
        }
    }
}

impl fmt::Display for Foundation {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.name())
    }
}

/// What the foundations make of a packet.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Before<'p> {
    /// Of another VLAN: decided there.
    NotOurs,
    /// A foundation decides.
    Speaks(Foundation),
    /// The rules are to decide this packet.
    Open(&'p IpPacket),
}

/// Asks the foundations in their order.
#[inline]
pub fn before_rules(switches: FoundationSwitches, facts: &PacketContext) -> Before<'_> {
    if facts.interface == InterfaceIndex::LOOPBACK {
        return Before::Speaks(Foundation::Loopback);
    }
    let ip = match &facts.packet {
        Packet::Link(LinkFrame::OtherVlan) => return Before::NotOurs,
        Packet::Link(LinkFrame::Named) => return Before::Speaks(Foundation::LinkProtocols),
        Packet::Link(LinkFrame::Unreadable) => return Before::Speaks(Foundation::Unreadable),
        Packet::Malformed => return Before::Speaks(Foundation::Malformed),
        Packet::Ip(ip) => ip,
    };
    if is_loopback(ip.source) || is_loopback(ip.destination) {
        return Before::Speaks(Foundation::Martian);
    }
    let foundation = match ip.payload {
        Payload::LaterFragment { .. } => Some(match facts.is_reply {
            true => Foundation::LaterFragments,
            false => Foundation::LoneFragments,
        }),
        Payload::Malformed => Some(Foundation::Malformed),
        Payload::Icmp { kind, .. } => icmp(ip, kind, facts),
        Payload::Udp { from, to } => {
            if assigns(ip, facts.direction, from, to) && switches.address_assignment {
                Some(Foundation::AddressAssignment)
            } else {
                facts.is_reply.then_some(Foundation::Replies)
            }
        }
        Payload::Tcp { flags, .. } => {
            // A host resets what it knows no connection of: its own answer.
            let answers = facts.direction == Direction::Outbound && flags.resets();
            (!flags.is_pure_syn() && (facts.is_reply || answers)).then_some(Foundation::Replies)
        }
        Payload::Other { .. } => facts.is_reply.then_some(Foundation::Replies),
    };
    foundation.map_or(Before::Open(ip), Before::Speaks)
}

/// Whether a packet that the rules would decide claims to come from this host
/// itself, though it arrives from elsewhere. `own` is sorted. Asked last, so
/// that two hosts with one address still learn of each other (RFC 4862 section
/// 5.4.4).
pub fn claims_to_be_here(own: &[IpAddr], direction: Direction, packet: &IpPacket) -> bool {
    direction != Direction::Outbound && own.binary_search(&packet.source).is_ok()
}

fn is_loopback(address: IpAddr) -> bool {
    match address {
        IpAddr::V4(a) => a.octets()[0] == 127,
        IpAddr::V6(a) => a.is_loopback(),
    }
}

/// What passes through is not about this host's own neighbours; an error that
/// does must be about something that this host forwarded.
fn icmp(ip: &IpPacket, kind: u8, facts: &PacketContext) -> Option<Foundation> {
    let passes_through = facts.direction == Direction::Transit;
    match (ip.source.is_ipv4(), kind) {
        (true, 3 | 11 | 12) | (false, 1..=4) => {
            (!passes_through || facts.is_reply).then_some(Foundation::IcmpErrors)
        }
        (false, 130..=137 | 143) => (!passes_through).then_some(Foundation::NeighbourDiscovery),
        (true, 0) | (false, 129) => facts.is_reply.then_some(Foundation::Replies),
        _ => None,
    }
}

/// Whether a datagram assigns an address to this host, or asks for one. An
/// answer comes from the link: by limited broadcast (RFC 2131 section 4.1), or
/// from an address of the link (RFC 8415 section 18); what comes from
/// elsewhere is a reply to what was asked, or decided by the rules.
fn assigns(ip: &IpPacket, direction: Direction, from: u16, to: u16) -> bool {
    let (server, client, from_the_link) = match (ip.source, ip.destination) {
        (IpAddr::V6(source), _) => (547, 546, source.is_unicast_link_local()),
        (_, destination) => (67, 68, destination == IpAddr::V4(Ipv4Addr::BROADCAST)),
    };
    match direction {
        Direction::Inbound => (from, to) == (server, client) && from_the_link,
        Direction::Outbound => (from, to) == (client, server),
        Direction::Transit => false,
    }
}
