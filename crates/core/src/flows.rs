//! The memory of what this host sent or forwarded, so that answers come back
//! in: UDP, echo requests and every protocol without ports. TCP of this host
//! needs none: the sockets know. TCP that was forwarded is remembered, too.
//! Time is passed in, counted from any fixed moment.

use std::collections::HashMap;
use std::net::IpAddr;
use std::time::Duration;

use crate::names::traffic::{ICMP, ICMPV6, TCP, UDP};
use crate::packet::{IpPacket, Payload};

/// How long after the last packet out an answer still comes in.
pub const UDP_AGE: Duration = Duration::from_secs(180);
/// The same for echo replies.
pub const ECHO_AGE: Duration = Duration::from_secs(30);
/// The same for a TCP connection that is forwarded: two hours and four minutes
/// of silence (RFC 5382, REQ-5).
pub const TCP_AGE: Duration = Duration::from_secs(7_440);
/// So many flows are remembered; the least recently used one makes room.
pub const CAPACITY: usize = 65_536;

/// One flow, seen from this side. For an echo the remote port is the
/// identifier; where there are no ports they are 0.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Flow {
    /// The other end.
    pub remote: IpAddr,
    /// This end: an address of this host, or of one that it forwards for.
    pub local: IpAddr,
    /// Its port, or the identifier of the echo.
    pub remote_port: u16,
    /// Port of this end.
    pub local_port: u16,
    /// IANA protocol number.
    pub protocol: u8,
}

impl Flow {
    /// The flow that a packet on its way out opens or keeps open. `forwarded`:
    /// it is not this host's own.
    pub fn opened_by(packet: &IpPacket, forwarded: bool) -> Option<Self> {
        let (remote, local) = (packet.destination, packet.source);
        Some(match packet.payload {
            Payload::Tcp { from, to, flags } if forwarded && !flags.resets() => {
                Self { remote, local, remote_port: to, local_port: from, protocol: TCP }
            }
            Payload::Udp { from, to } => {
                Self { remote, local, remote_port: to, local_port: from, protocol: UDP }
            }
            Payload::Icmp { kind: 8, id, .. } if remote.is_ipv4() => {
                Self { remote, local, remote_port: id, local_port: 0, protocol: ICMP }
            }
            Payload::Icmp { kind: 128, id, .. } if remote.is_ipv6() => {
                Self { remote, local, remote_port: id, local_port: 0, protocol: ICMPV6 }
            }
            Payload::Other { protocol } => {
                Self { remote, local, remote_port: 0, local_port: 0, protocol }
            }
            _ => return None,
        })
    }

    /// The flow that a packet on its way in would be an answer of.
    pub fn answered_by(packet: &IpPacket) -> Option<Self> {
        let (remote, local) = (packet.source, packet.destination);
        Some(match packet.payload {
            Payload::Tcp { from, to, .. } => {
                Self { remote, local, remote_port: from, local_port: to, protocol: TCP }
            }
            Payload::Udp { from, to } => {
                Self { remote, local, remote_port: from, local_port: to, protocol: UDP }
            }
            Payload::Icmp { kind: 0, id, .. } if remote.is_ipv4() => {
                Self { remote, local, remote_port: id, local_port: 0, protocol: ICMP }
            }
            Payload::Icmp { kind: 129, id, .. } if remote.is_ipv6() => {
                Self { remote, local, remote_port: id, local_port: 0, protocol: ICMPV6 }
            }
            Payload::Other { protocol } => {
                Self { remote, local, remote_port: 0, local_port: 0, protocol }
            }
            _ => return None,
        })
    }

    /// How long it is remembered.
    pub fn age(&self) -> Duration {
        match self.protocol {
            ICMP | ICMPV6 => ECHO_AGE,
            TCP => TCP_AGE,
            _ => UDP_AGE,
        }
    }
}

/// The memory.
#[derive(Debug, Default)]
pub struct Flows {
    seen: HashMap<Flow, Duration>,
}

impl Flows {
    /// Takes note of a packet on its way out.
    pub fn sent(&mut self, packet: &IpPacket, now: Duration) {
        self.remember(Flow::opened_by(packet, false), now);
    }

    /// Takes note of a packet that is forwarded.
    pub fn forwarded(&mut self, packet: &IpPacket, now: Duration) {
        self.remember(Flow::opened_by(packet, true), now);
    }

    fn remember(&mut self, flow: Option<Flow>, now: Duration) {
        let Some(flow) = flow else { return };
        if self.seen.len() >= CAPACITY && !self.seen.contains_key(&flow) {
            let oldest = self.seen.iter().min_by_key(|(_, at)| **at).map(|(flow, _)| *flow);
            oldest.map(|flow| self.seen.remove(&flow));
        }
        self.seen.insert(flow, now);
    }

    /// Whether a packet on its way in answers something that this host sent.
    pub fn knows(&self, packet: &IpPacket, now: Duration) -> bool {
        Flow::answered_by(packet).is_some_and(|flow| {
            self.seen.get(&flow).is_some_and(|at| now.saturating_sub(*at) <= flow.age())
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn packet(source: &str, destination: &str, payload: Payload) -> IpPacket {
        IpPacket {
            source: source.parse().unwrap(),
            destination: destination.parse().unwrap(),
            payload,
        }
    }

    const HOST: &str = "198.51.100.20";
    const PARTNER: &str = "203.0.113.9";

    #[test]
    fn an_answer_comes_in_until_it_is_too_old() {
        let mut flows = Flows::default();
        flows.sent(&packet(HOST, PARTNER, Payload::Udp { from: 5000, to: 123 }), Duration::ZERO);
        let answer = packet(PARTNER, HOST, Payload::Udp { from: 123, to: 5000 });
        assert!(flows.knows(&answer, UDP_AGE));
        assert!(!flows.knows(&answer, UDP_AGE + Duration::from_nanos(1)));
        for stranger in [
            packet("192.0.2.66", HOST, Payload::Udp { from: 123, to: 5000 }),
            packet(PARTNER, HOST, Payload::Udp { from: 124, to: 5000 }),
            packet(PARTNER, HOST, Payload::Udp { from: 123, to: 5001 }),
        ] {
            assert!(!flows.knows(&stranger, Duration::ZERO));
        }
    }

    #[test]
    fn a_forwarded_connection_is_remembered_and_its_reset_is_not() {
        use crate::packet::TcpFlags;
        let tcp = |from, to, flags| Payload::Tcp { from, to, flags: TcpFlags(flags) };
        let mut flows = Flows::default();
        let syn = packet(HOST, PARTNER, tcp(5000, 443, TcpFlags::SYN));
        let answer = packet(PARTNER, HOST, tcp(443, 5000, TcpFlags::SYN | TcpFlags::ACK));
        flows.sent(&syn, Duration::ZERO);
        assert!(!flows.knows(&answer, Duration::ZERO), "of its own, the sockets know");
        let reset = packet(HOST, PARTNER, tcp(5001, 443, TcpFlags::RST));
        flows.forwarded(&reset, Duration::ZERO);
        flows.forwarded(&syn, Duration::ZERO);
        assert!(flows.knows(&answer, TCP_AGE));
        let other = packet(PARTNER, "198.51.100.21", tcp(443, 5000, TcpFlags::ACK));
        assert!(!flows.knows(&other, Duration::ZERO), "to another one behind this host");
        let after = packet(PARTNER, HOST, tcp(443, 5001, TcpFlags::ACK));
        assert!(!flows.knows(&after, Duration::ZERO));
    }

    #[test]
    fn an_echo_request_from_outside_is_no_answer() {
        let mut flows = Flows::default();
        let echo = |kind| Payload::Icmp { kind, code: 0, id: 77 };
        flows.sent(&packet(HOST, PARTNER, echo(8)), Duration::ZERO);
        assert!(flows.knows(&packet(PARTNER, HOST, echo(0)), ECHO_AGE));
        assert!(!flows.knows(&packet(PARTNER, HOST, echo(8)), ECHO_AGE));
    }

    #[test]
    fn the_memory_is_bounded() {
        let mut flows = Flows::default();
        for port in 0..=u16::MAX {
            let out = packet(HOST, PARTNER, Payload::Udp { from: port, to: 123 });
            flows.sent(&out, Duration::from_nanos(u64::from(port) + 1));
        }
        flows.sent(&packet(HOST, PARTNER, Payload::Udp { from: 1, to: 9 }), Duration::from_secs(1));
        assert_eq!(flows.seen.len(), CAPACITY);
        assert!(!flows.knows(
            &packet(PARTNER, HOST, Payload::Udp { from: 123, to: 0 }),
            Duration::from_secs(1)
        ));
    }
}
