//! What holds before any rule: the foundations, in the order in which a
//! packet meets them, and replies.

use std::fmt;
use std::net::IpAddr;

use serde::Serialize;

use crate::orders::{Action, FoundationSwitches};
use crate::packet::{Direction, Facts, InterfaceIndex, IpPacket, Packet, Payload};

/// A foundation; the numbers are the kernel's counter slots.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize)]
#[serde(rename_all = "kebab-case")]
#[repr(u8)]
pub enum Foundation {
    /// Whatever arrives on the loopback interface passes.
    Loopback = 0,
    /// A loopback address on another interface is dropped (RFC 1122 3.2.1.3, RFC 4291 2.5.3).
    LoopbackElsewhere = 1,
    /// Truncated headers, wrong lengths, impossible flags are dropped.
    Malformed = 2,
    /// Fragments after the first pass to reassembly; the first one is decided.
    LaterFragments = 3,
    /// Neighbour discovery (RFC 4861) and MLD (RFC 3810) pass.
    NeighbourDiscovery = 4,
    /// ICMP errors about connections pass.
    IcmpErrors = 5,
    /// Answers of DHCP (RFC 2131) and DHCPv6 (RFC 8415) to this host pass, and its requests.
    AddressAssignment = 6,
    /// What belongs to a connection or flow of this host passes.
    Replies = 7,
}

impl Foundation {
    /// All, in the order in which a packet meets them.
    pub const ALL: [Self; 8] = [
        Self::Loopback,
        Self::LoopbackElsewhere,
        Self::Malformed,
        Self::LaterFragments,
        Self::NeighbourDiscovery,
        Self::IcmpErrors,
        Self::AddressAssignment,
        Self::Replies,
    ];

    /// The name in tables and messages.
    pub fn name(self) -> &'static str {
        match self {
            Self::Loopback => "loopback",
            Self::LoopbackElsewhere => "loopback-elsewhere",
            Self::Malformed => "malformed",
            Self::LaterFragments => "later-fragments",
            Self::NeighbourDiscovery => "neighbour-discovery",
            Self::IcmpErrors => "icmp-errors",
            Self::AddressAssignment => "address-assignment",
            Self::Replies => "replies",
        }
    }

    /// What it is about, in words.
    pub fn meaning(self) -> &'static str {
        match self {
            Self::Loopback => "all on the loopback interface",
            Self::LoopbackElsewhere => "loopback, own addresses from elsewhere",
            Self::Malformed => "broken headers, impossible flags",
            Self::LaterFragments => "fragments behind a first one",
            Self::NeighbourDiscovery => "IPv6 neighbours, routers, MLD",
            Self::IcmpErrors => "ICMP errors about connections",
            Self::AddressAssignment => "DHCP and DHCPv6 for this host",
            Self::Replies => "known connections and flows",
        }
    }

    /// What it says.
    pub fn action(self) -> Action {
        match self {
            Self::LoopbackElsewhere | Self::Malformed => Action::Deny,
            _ => Action::Allow,
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
pub enum Before {
    /// Not IP: passes, and is nobody's business.
    NotOurs,
    /// A foundation speaks.
    Speaks(Foundation),
    /// The rules are to decide this packet.
    Open(IpPacket),
}

/// Asks the foundations in their order.
pub fn before_rules(switches: FoundationSwitches, facts: &Facts) -> Before {
    if facts.interface == InterfaceIndex::LOOPBACK {
        return Before::Speaks(Foundation::Loopback);
    }
    let ip = match facts.packet {
        Packet::NotIp => return Before::NotOurs,
        Packet::Malformed => return Before::Speaks(Foundation::Malformed),
        Packet::Ip(ip) => ip,
    };
    if is_loopback(ip.source) || is_loopback(ip.destination) {
        return Before::Speaks(Foundation::LoopbackElsewhere);
    }
    let foundation = match ip.payload {
        Payload::LaterFragment => Some(Foundation::LaterFragments),
        Payload::Malformed => Some(Foundation::Malformed),
        Payload::Icmp { kind, .. } => icmp(ip.source.is_ipv4(), kind, facts.belongs),
        Payload::Udp { from, to } => {
            let (server, client) = if ip.source.is_ipv4() { (67, 68) } else { (547, 546) };
            let assigns = match facts.direction {
                Direction::Inbound => (from, to) == (server, client),
                Direction::Outbound => (from, to) == (client, server),
                Direction::Transit => false,
            };
            if assigns && switches.address_assignment {
                Some(Foundation::AddressAssignment)
            } else {
                facts.belongs.then_some(Foundation::Replies)
            }
        }
        Payload::Tcp { flags, .. } => {
            // A host resets what it knows no connection of: its own answer.
            let answers = facts.direction == Direction::Outbound && flags.resets();
            (!flags.is_pure_syn() && (facts.belongs || answers)).then_some(Foundation::Replies)
        }
        Payload::Other { .. } => facts.belongs.then_some(Foundation::Replies),
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

fn icmp(four: bool, kind: u8, belongs: bool) -> Option<Foundation> {
    match (four, kind) {
        (true, 3 | 11 | 12) | (false, 1..=4) => Some(Foundation::IcmpErrors),
        (false, 130..=137 | 143) => Some(Foundation::NeighbourDiscovery),
        (true, 0) | (false, 129) => belongs.then_some(Foundation::Replies),
        _ => None,
    }
}
