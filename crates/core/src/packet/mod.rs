//! A packet as the decision sees it: [`PacketContext`], and the way from bytes to
//! them. The kernel's program reads the same bytes in the same order.

mod link;
mod parse;

use std::fmt;
use std::net::IpAddr;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::moment::Moment;
use crate::names::address::Family;
use crate::names::traffic::{ICMP, ICMPV6, TCP, TrafficKey, UDP};

pub use link::{FIRST_ETHERTYPE, LINK_PROTOCOLS, LinkFrame, PRIORITY_TAGS, is_named};
pub use parse::{MOST_EXTENSION_HEADERS, parse_ethernet, parse_ip};

/// Index of an interface as the kernel counts them.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, JsonSchema, Serialize)]
#[serde(transparent)]
pub struct InterfaceIndex(pub u32);

impl InterfaceIndex {
    /// The loopback interface has index 1 in every network namespace.
    pub const LOOPBACK: Self = Self(1);
}

/// A program, as a list counts those that its rules name
/// ([`crate::brief::Brief::programs`]): 0 for any other, and for none at all.
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, Hash, JsonSchema, Serialize,
)]
#[serde(transparent)]
pub struct ProgramIndex(pub u32);

impl ProgramIndex {
    /// A program that no rule names, or none: no socket has to do with the packet.
    pub const OTHER: Self = Self(0);
    /// A socket that nobody can say the maker of. It never meets an allow by
    /// program, and always a rule that keeps something out by program.
    pub const UNKNOWN: Self = Self(u32::MAX);
}

/// TCP flags, RFC 9293 section 3.1.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct TcpFlags(pub u8);

impl TcpFlags {
    /// No more data from sender.
    pub const FIN: u8 = 0x01;
    /// Synchronise sequence numbers.
    pub const SYN: u8 = 0x02;
    /// Reset the connection.
    pub const RST: u8 = 0x04;
    /// The acknowledgement field is significant.
    pub const ACK: u8 = 0x10;

    /// A request for a new connection: SYN without ACK and RST.
    pub fn is_pure_syn(self) -> bool {
        self.0 & (Self::SYN | Self::ACK | Self::RST) == Self::SYN
    }

    /// Resets a connection.
    pub fn resets(self) -> bool {
        self.0 & Self::RST != 0
    }

    /// Combinations that no TCP sends: none of SYN, ACK, RST; SYN with FIN;
    /// SYN with RST (RFC 9293 section 3.10.7).
    pub fn are_impossible(self) -> bool {
        let f = self.0;
        f & (Self::SYN | Self::ACK | Self::RST) == 0
            || f & Self::SYN != 0 && f & (Self::FIN | Self::RST) != 0
    }
}

/// What stands behind the IP header.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Payload {
    /// A fragment that is not the first: no transport header in it.
    LaterFragment {
        /// The identification that it shares with the first.
        id: u32,
    },
    /// Truncated, with wrong lengths or with impossible flags.
    Malformed,
    /// RFC 9293.
    Tcp {
        /// Source port.
        from: u16,
        /// Destination port.
        to: u16,
        /// Flags.
        flags: TcpFlags,
    },
    /// RFC 768.
    Udp {
        /// Source port.
        from: u16,
        /// Destination port.
        to: u16,
    },
    /// ICMP in IPv4 (RFC 792) or ICMPv6 in IPv6 (RFC 4443).
    Icmp {
        /// Type.
        kind: u8,
        /// Code.
        code: u8,
        /// Bytes 4 and 5: the identifier of an echo.
        id: u16,
    },
    /// Any other protocol.
    Other {
        /// IANA protocol number.
        protocol: u8,
    },
}

/// An IP packet.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct IpPacket {
    /// Source address; same family as the destination.
    pub source: IpAddr,
    /// Destination address.
    pub destination: IpAddr,
    /// The identification of the fragments that follow, where this is the first of several.
    pub first_of: Option<u32>,
    /// The packet that an ICMP error quotes.
    pub quotes: Option<Quote>,
    /// What it carries.
    pub payload: Payload,
}

/// The begin of a packet that an ICMP error is about.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Quote {
    /// Its source; same family as the destination.
    pub source: IpAddr,
    /// Its destination.
    pub destination: IpAddr,
    /// IANA protocol number.
    pub protocol: u8,
    /// Its source port, or the identifier of an echo request; 0 where there is none.
    pub from: u16,
    /// Its destination port; 0 where there is none.
    pub to: u16,
}

impl IpPacket {
    /// A whole packet.
    pub fn whole(source: IpAddr, destination: IpAddr, payload: Payload) -> Self {
        Self { source, destination, first_of: None, quotes: None, payload }
    }

    /// The family of the packet.
    pub fn family(&self) -> Family {
        Family::of_address(self.source)
    }

    /// The key that traffic conditions look at; `None` where there is no
    /// transport header to look at.
    pub fn key(&self) -> Option<TrafficKey> {
        Some(match self.payload {
            Payload::LaterFragment { .. } | Payload::Malformed => return None,
            Payload::Tcp { to, .. } => TrafficKey::new(TCP, to),
            Payload::Udp { to, .. } => TrafficKey::new(UDP, to),
            Payload::Icmp { kind, code, .. } => {
                let protocol = if self.family() == Family::V4 { ICMP } else { ICMPV6 };
                TrafficKey::new(protocol, u16::from_be_bytes([kind, code]))
            }
            Payload::Other { protocol } => TrafficKey::new(protocol, 0),
        })
    }
}

/// The bytes of one packet, read.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Packet {
    /// Neither IPv4 nor IPv6.
    Link(LinkFrame),
    /// An IP header that cannot be read.
    Malformed,
    /// A readable IP header.
    Ip(IpPacket),
}

/// To this host, from it, or through it. The numbers stand in the tables.
#[derive(
    Clone,
    Copy,
    Debug,
    Default,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    Hash,
    JsonSchema,
    Serialize,
    Deserialize,
)]
#[serde(rename_all = "lowercase")]
#[repr(u8)]
pub enum Direction {
    /// Addressed to this host.
    #[default]
    Inbound = 0,
    /// Sent by this host.
    Outbound = 1,
    /// To be forwarded by this host.
    Transit = 2,
}

impl Direction {
    /// All.
    pub const ALL: [Self; 3] = [Self::Inbound, Self::Outbound, Self::Transit];

    /// As orders write it.
    pub const fn name(self) -> &'static str {
        match self {
            Self::Inbound => "inbound",
            Self::Outbound => "outbound",
            Self::Transit => "transit",
        }
    }
}

impl fmt::Display for Direction {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.name())
    }
}

/// Everything that a decision looks at.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct PacketContext {
    /// Where it arrived; where it leaves, for one on its way out.
    pub interface: InterfaceIndex,
    /// To this host, from it, or through it.
    pub direction: Direction,
    /// Who listens to it, or who sends it.
    pub program: ProgramIndex,
    /// Whether this host knows a connection or flow that it belongs to
    /// (sockets for TCP, [`crate::decision::flows`] for everything else). On its way
    /// out: whether it answers something that was let in. Of a later fragment:
    /// whether its first one was let pass; of an ICMP error that passes
    /// through: whether it quotes a known flow.
    pub is_reply: bool,
    /// When it arrives.
    pub now: Moment,
    /// The packet.
    pub packet: Packet,
}
