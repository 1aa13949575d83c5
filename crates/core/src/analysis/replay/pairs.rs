//! TCP and UDP by their two ends: what is known of them is found once for each packet.

use std::net::IpAddr;

use crate::names::address::Family;
use crate::names::traffic::{TCP, UDP};
use crate::packet::{IpPacket, Payload};

/// The two ends, in the same order whichever of them speaks. Packed, because a capture asks
/// for one with every packet.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub(super) struct Pair {
    low: u128,
    high: u128,
    /// The ports, the protocol and the family.
    rest: u64,
}

/// One of the two ends, as a [`Pair`] orders them.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[repr(u8)]
pub(super) enum End {
    Low = 0,
    High = 1,
}

impl End {
    #[inline]
    pub(super) fn other(self) -> Self {
        match self {
            Self::Low => Self::High,
            Self::High => Self::Low,
        }
    }
}

/// A pair, and which end of it sends, from which port to which.
#[derive(Clone, Copy, Debug)]
pub(super) struct Way {
    pub(super) pair: Pair,
    pub(super) sender: End,
    pub(super) from: u16,
    pub(super) to: u16,
    /// IANA protocol number.
    pub(super) protocol: u8,
}

#[inline]
fn number(address: IpAddr) -> u128 {
    match address {
        IpAddr::V4(four) => u32::from(four).into(),
        IpAddr::V6(six) => six.into(),
    }
}

impl Way {
    /// From one port to another.
    #[inline]
    pub(super) fn new(source: (IpAddr, u16), destination: (IpAddr, u16), protocol: u8) -> Self {
        let family = u64::from(Family::of_address(source.0) == Family::V6);
        let (from, to) = (source.1, destination.1);
        let (source, destination) =
            ((number(source.0), source.1), (number(destination.0), destination.1));
        let (low, high, sender) = match source <= destination {
            true => (source, destination, End::Low),
            false => (destination, source, End::High),
        };
        let ports = u64::from(low.1) << 16 | u64::from(high.1);
        let rest = ports | u64::from(protocol) << 32 | family << 40;
        Self { pair: Pair { low: low.0, high: high.0, rest }, sender, from, to, protocol }
    }

    /// Of a packet; `None` where it has no ports.
    #[inline]
    pub(super) fn of_packet(ip: &IpPacket) -> Option<Self> {
        let (from, to, protocol) = match ip.payload {
            Payload::Tcp { from, to, .. } => (from, to, TCP),
            Payload::Udp { from, to } => (from, to, UDP),
            _ => return None,
        };
        Some(Self::new((ip.source, from), (ip.destination, to), protocol))
    }
}

impl Pair {
    /// Whether it is one port that talks with itself.
    #[inline]
    pub(super) fn is_one_end(&self) -> bool {
        self.low == self.high && self.rest >> 16 & 0xffff == self.rest & 0xffff
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn both_ways_have_one_pair_and_nothing_else_has() {
        let end = |address: &str, port| (address.parse::<IpAddr>().unwrap(), port);
        let way = |a, b| Way::new(a, b, TCP);
        let (host, partner) = (end("198.51.100.20", 7_410), end("203.0.113.9", 40_000));
        let (there, back) = (way(partner, host), way(host, partner));
        assert_eq!(there.pair, back.pair);
        assert_eq!(there.sender, back.sender.other());
        let mapped = |a: &str| end(&format!("::{a}"), 7_410);
        let others = [
            way(end("203.0.113.9", 7_410), end("198.51.100.20", 40_000)),
            way(end("203.0.113.9", 40_001), host),
            way(host, host),
            Way::new(partner, host, UDP),
            way((mapped("203.0.113.9").0, 40_000), mapped("198.51.100.20")),
        ];
        assert!(others.iter().all(|other| other.pair != there.pair));
        assert!(way(host, host).pair.is_one_end() && !there.pair.is_one_end());
        // The lower address with the higher port, and one address with two ports.
        let (one, two) = (end("192.0.2.1", 9), end("192.0.2.1", 7));
        assert_eq!(way(one, two).pair, way(two, one).pair);
        assert!(!way(one, two).pair.is_one_end());
    }
}
