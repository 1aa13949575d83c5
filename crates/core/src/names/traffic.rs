//! What a rule is about: `ssh`, `tcp/22`, `udp/7420-7423`, `tcp/*`,
//! `icmp/echo`, `protocol/47`, `any`.
//!
//! Every term becomes ranges of [`TrafficKey`], one 24-bit number a packet:
//! the protocol (RFC 8200 "next header" / IANA protocol numbers) in bits
//! 16–23, and in bits 0–15 the destination port (TCP, UDP), ICMP type × 256 +
//! code, or 0.

use std::fmt;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::range_set::{Point, RangeSet};

/// IANA protocol number of ICMP.
pub const ICMP: u8 = 1;
/// IANA protocol number of TCP.
pub const TCP: u8 = 6;
/// IANA protocol number of UDP.
pub const UDP: u8 = 17;
/// IANA protocol number of ICMPv6.
pub const ICMPV6: u8 = 58;

/// One number for what a packet is about; see the module's text. Never wider
/// than 24 bits: the tables put the direction above them.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, JsonSchema, Serialize)]
pub struct TrafficKey(u32);

impl Point for TrafficKey {
    const LEAST: Self = Self::new(0, 0);
    const GREATEST: Self = Self::new(u8::MAX, u16::MAX);

    fn next(self) -> Option<Self> {
        (self < Self::GREATEST).then(|| Self(self.0 + 1))
    }

    fn previous(self) -> Option<Self> {
        self.0.checked_sub(1).map(Self)
    }
}

impl From<TrafficKey> for u128 {
    fn from(key: TrafficKey) -> Self {
        key.0.into()
    }
}

impl TrafficKey {
    /// From protocol number and the 16 bits below it.
    pub const fn new(protocol: u8, low: u16) -> Self {
        Self(((protocol as u32) << 16) | low as u32)
    }

    /// From the number; the greatest key where it is wider than 24 bits.
    pub const fn from_bits(bits: u128) -> Self {
        if bits < Self::GREATEST.0 as u128 { Self(bits as u32) } else { Self::GREATEST }
    }

    /// The number, at most 24 bits wide.
    pub const fn bits(self) -> u32 {
        self.0
    }

    /// The protocol number.
    pub const fn protocol(self) -> u8 {
        (self.0 >> 16) as u8
    }

    /// Destination port, ICMP type × 256 + code, or 0.
    pub const fn low(self) -> u16 {
        self.0 as u16
    }
}

impl fmt::Display for TrafficKey {
    /// As orders write it: `tcp/22`, `icmp/echo`, `protocol/47`.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match (self.protocol(), self.low()) {
            (TCP, port) => write!(f, "tcp/{port}"),
            (UDP, port) => write!(f, "udp/{port}"),
            (ICMP, 0x0800) | (ICMPV6, 0x8000) => f.write_str("icmp/echo"),
            (protocol, _) => write!(f, "protocol/{protocol}"),
        }
    }
}

/// A transport protocol with ports.
#[derive(
    Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, JsonSchema, Serialize, Deserialize,
)]
#[serde(rename_all = "lowercase")]
pub enum Transport {
    /// RFC 9293.
    Tcp,
    /// RFC 768.
    Udp,
}

impl Transport {
    /// The IANA protocol number.
    pub const fn protocol(self) -> u8 {
        match self {
            Self::Tcp => TCP,
            Self::Udp => UDP,
        }
    }

    /// The key of a packet to `port`.
    pub const fn key(self, port: u16) -> TrafficKey {
        TrafficKey::new(self.protocol(), port)
    }
}

impl fmt::Display for Transport {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Tcp => "tcp",
            Self::Udp => "udp",
        })
    }
}

/// One term of a traffic list, without service names.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Term {
    /// Everything.
    Any,
    /// A closed range of ports, first ≤ last.
    Ports(Transport, u16, u16),
    /// Echo requests of both families.
    Echo,
    /// ICMP and ICMPv6 whole.
    Icmp,
    /// A protocol by number.
    Protocol(u8),
}

/// Why a text is not a traffic term.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum TermFault {
    /// A port that is no number from 1 to 65535.
    #[error("a port is a number from 1 to 65535")]
    Port,
    /// First port above last.
    #[error("the first port of a range must not be above its last")]
    Backwards,
    /// A protocol that is no number from 0 to 255.
    #[error("a protocol number is 0 to 255")]
    ProtocolNumber,
    /// A number behind `icmp/`.
    #[error("icmp has no ports")]
    IcmpPort,
    /// Something else behind `icmp/`.
    #[error("icmp takes `icmp/echo` or `icmp/*`")]
    IcmpKind,
    /// An unknown word before the slash.
    #[error("the word before the slash is one of tcp, udp, icmp, protocol")]
    UnknownKind,
}

impl Term {
    /// Reads one term. `None` when the text has no slash and is not `any`: then
    /// it is a service name, which the orders or the catalogue resolve.
    ///
    /// # Errors
    /// Every [`TermFault`].
    pub fn parse(text: &str) -> Option<Result<Self, TermFault>> {
        if text == "any" {
            return Some(Ok(Self::Any));
        }
        let (kind, rest) = text.split_once('/')?;
        Some(match kind {
            "tcp" => Self::ports(Transport::Tcp, rest),
            "udp" => Self::ports(Transport::Udp, rest),
            "icmp" => match rest {
                "echo" => Ok(Self::Echo),
                "*" => Ok(Self::Icmp),
                n if n.starts_with(|c: char| c.is_ascii_digit()) => Err(TermFault::IcmpPort),
                _ => Err(TermFault::IcmpKind),
            },
            "protocol" => rest.parse().map(Self::Protocol).map_err(|_| TermFault::ProtocolNumber),
            _ => Err(TermFault::UnknownKind),
        })
    }

    fn ports(transport: Transport, text: &str) -> Result<Self, TermFault> {
        if text == "*" {
            return Ok(Self::Ports(transport, 0, u16::MAX));
        }
        fn port(t: &str) -> Result<u16, TermFault> {
            match t.trim().parse::<u16>() {
                Ok(p) if p > 0 => Ok(p),
                _ => Err(TermFault::Port),
            }
        }
        let (first, last) = match text.split_once('-') {
            Some((a, b)) => (port(a)?, port(b)?),
            None => (port(text)?, port(text)?),
        };
        if first > last {
            Err(TermFault::Backwards)
        } else {
            Ok(Self::Ports(transport, first, last))
        }
    }

    /// The keys of this term; `None` for `any`, which is no condition at all.
    pub fn keys(self) -> Option<Vec<(TrafficKey, TrafficKey)>> {
        fn whole(p: u8) -> (TrafficKey, TrafficKey) {
            (TrafficKey::new(p, 0), TrafficKey::new(p, u16::MAX))
        }
        Some(match self {
            Self::Any => return None,
            Self::Ports(t, a, b) => vec![(t.key(a), t.key(b))],
            Self::Echo => vec![
                (TrafficKey::new(ICMP, 0x0800), TrafficKey::new(ICMP, 0x08ff)),
                (TrafficKey::new(ICMPV6, 0x8000), TrafficKey::new(ICMPV6, 0x80ff)),
            ],
            Self::Icmp => vec![whole(ICMP), whole(ICMPV6)],
            Self::Protocol(p) => vec![whole(p)],
        })
    }
}

impl fmt::Display for Term {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match *self {
            Self::Any => f.write_str("any"),
            Self::Ports(t, 0, u16::MAX) => write!(f, "{t}/*"),
            Self::Ports(t, a, b) if a == b => write!(f, "{t}/{a}"),
            Self::Ports(t, a, b) => write!(f, "{t}/{a}-{b}"),
            Self::Echo => f.write_str("icmp/echo"),
            Self::Icmp => f.write_str("icmp/*"),
            Self::Protocol(p) => write!(f, "protocol/{p}"),
        }
    }
}

/// The keys that a packet told of as `text` may have had (see [`TrafficKey`]'s words); nothing
/// where it is no such text. Packets have a port 0, which no term names.
pub fn keys_of_packet(text: &str) -> Vec<(TrafficKey, TrafficKey)> {
    let to_port_0 = |transport: Transport| vec![(transport.key(0), transport.key(0))];
    match text {
        "tcp/0" => to_port_0(Transport::Tcp),
        "udp/0" => to_port_0(Transport::Udp),
        _ => Term::parse(text).and_then(Result::ok).and_then(Term::keys).unwrap_or_default(),
    }
}

/// The keys of several terms; `None` when one of them is `any`.
pub fn keys_of(terms: &[Term]) -> Option<RangeSet<TrafficKey>> {
    let ranges: Option<Vec<_>> = terms.iter().map(|t| t.keys()).collect();
    ranges.map(|r| RangeSet::from_ranges(r.into_iter().flatten()))
}

/// What is left of a list after its exceptions, each `None` for any.
pub fn keys_except(
    list: Option<RangeSet<TrafficKey>>,
    except: Option<RangeSet<TrafficKey>>,
) -> RangeSet<TrafficKey> {
    list.unwrap_or_else(RangeSet::full).difference(&except.unwrap_or_else(RangeSet::full))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_form_reads_and_prints_back() {
        for text in
            ["any", "tcp/22", "udp/7420-7423", "tcp/*", "icmp/echo", "icmp/*", "protocol/47"]
        {
            assert_eq!(Term::parse(text).unwrap().unwrap().to_string(), text);
        }
        assert!(Term::parse("ssh").is_none());
    }

    #[test]
    fn faults_name_the_mend() {
        let fault = |t: &str| Term::parse(t).unwrap().unwrap_err();
        assert_eq!(fault("tcp/0"), TermFault::Port);
        assert_eq!(fault("tcp/65536"), TermFault::Port);
        assert_eq!(fault("udp/9-5"), TermFault::Backwards);
        assert_eq!(fault("protocol/256"), TermFault::ProtocolNumber);
        assert_eq!(fault("icmp/redirect"), TermFault::IcmpKind);
        assert_eq!(fault("icmp/22"), TermFault::IcmpPort);
        assert_eq!(fault("tpc/22"), TermFault::UnknownKind);
    }

    #[test]
    fn what_is_told_of_a_packet_reads_back() {
        for (protocol, low) in [
            (TCP, 0),
            (UDP, 0),
            (TCP, 22),
            (UDP, u16::MAX),
            (ICMP, 0x0800),
            (ICMP, 0x0d00),
            (47, 0),
        ] {
            let key = TrafficKey::new(protocol, low);
            let keys = keys_of_packet(&key.to_string());
            assert!(keys.iter().any(|(a, b)| (*a..=*b).contains(&key)), "{key}: {keys:?}");
        }
        assert!(keys_of_packet("sctp/1").is_empty() && keys_of_packet("any").is_empty());
    }

    #[test]
    fn no_set_of_keys_reaches_beyond_24_bits() {
        let mail = keys_of(&[Term::Ports(Transport::Tcp, 25, 25)]);
        let rest = keys_except(None, mail.clone());
        assert_eq!(rest.ranges().last().unwrap().1, TrafficKey::GREATEST);
        assert_eq!(TrafficKey::GREATEST.bits(), 0x00ff_ffff);
        assert!(TrafficKey::GREATEST.next().is_none() && TrafficKey::LEAST.previous().is_none());
        assert_eq!(rest.union(&mail.unwrap()), RangeSet::full());
    }

    #[test]
    fn keys_say_protocol_and_port() {
        let keys = keys_of(&[Term::Ports(Transport::Tcp, 22, 22), Term::Echo]).unwrap();
        assert!(keys.contains(Transport::Tcp.key(22)));
        assert!(!keys.contains(Transport::Udp.key(22)));
        assert!(keys.contains(TrafficKey::new(ICMPV6, 0x8000)));
        assert!(keys_of(&[Term::Any, Term::Icmp]).is_none());
    }
}
