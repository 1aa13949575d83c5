//! Frames: the first packet of a conversation, as an outside source would
//! send it.

use std::net::IpAddr;

use etherparse::{
    IpHeaders, IpNumber, Ipv4Header, Ipv6FlowLabel, Ipv6Header, PacketBuilder, PacketBuilderStep,
};
use tipstaff_core::analysis::reach::Subject;
use tipstaff_core::names::traffic::{ICMP, ICMPV6, TCP, TrafficKey, UDP};

/// Source ports of the checks' own knocks begin here.
pub const FIRST_PORT: u16 = 61_000;

/// The made-up hardware address of whoever knocks (locally administered).
const KNOCKER: [u8; 6] = [0x02, 0x54, 0x53, 0, 0, 1];

/// Who knocks on what.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Knock {
    /// Who.
    pub source: IpAddr,
    /// On which own address; same family.
    pub target: IpAddr,
    /// From which port, or with which echo identifier.
    pub from: u16,
    /// The sequence number of a connection, whose answers acknowledge it; its
    /// last 16 bits are that of an echo request, and the packet's
    /// identification, or its last 20 its flow label, which errors quote.
    pub tag: u32,
}

/// A frame to `hardware` about a port or an echo.
pub fn first(subject: Subject, knock: Knock, hardware: [u8; 6]) -> Vec<u8> {
    let key = match subject {
        Subject::Port(transport, port) => transport.key(port),
        Subject::Echo if knock.source.is_ipv4() => TrafficKey::new(ICMP, 0x0800),
        Subject::Echo => TrafficKey::new(ICMPV6, 0x8000),
    };
    about(key, knock, hardware)
}

/// A frame to `hardware` with this traffic key.
pub fn about(key: TrafficKey, knock: Knock, hardware: [u8; 6]) -> Vec<u8> {
    let mut frame = Vec::with_capacity(96);
    let ip = ip(knock, hardware);
    // Writing into a Vec fails only for lengths that IP cannot say; these are small and fixed.
    let _ = match key.protocol() {
        TCP => ip.tcp(knock.from, key.low(), knock.tag, 64_240).syn().write(&mut frame, &[]),
        UDP => ip.udp(knock.from, key.low()).write(&mut frame, &[]),
        ICMP if key.low() == 0x0800 => {
            ip.icmpv4_echo_request(knock.from, knock.tag as u16).write(&mut frame, &[0; 8])
        }
        ICMPV6 if key.low() == 0x8000 => {
            ip.icmpv6_echo_request(knock.from, knock.tag as u16).write(&mut frame, &[0; 8])
        }
        protocol => ip.write(&mut frame, protocol.into(), &[0; 8]),
    };
    frame
}

/// The reset that ends a half-open connection: its sequence number is what the
/// SYN-ACK acknowledged.
pub fn reset(port: u16, knock: Knock, acknowledged: u32, hardware: [u8; 6]) -> Vec<u8> {
    let mut frame = Vec::with_capacity(96);
    let ip = ip(knock, hardware);
    let _ = ip.tcp(knock.from, port, acknowledged, 0).rst().write(&mut frame, &[]);
    frame
}

fn ip(knock: Knock, hardware: [u8; 6]) -> PacketBuilderStep<IpHeaders> {
    /// Hops that are enough for any way.
    const HOPS: u8 = 64;
    let ethernet = PacketBuilder::ethernet2(KNOCKER, hardware);
    // Lengths and the protocol are written by whoever writes what follows.
    ethernet.ip(match (knock.source, knock.target) {
        (IpAddr::V4(a), IpAddr::V4(b)) => {
            let header = Ipv4Header {
                identification: knock.tag as u16,
                ..Ipv4Header::new(0, HOPS, IpNumber::TCP, a.octets(), b.octets())
                    .unwrap_or_default()
            };
            IpHeaders::Ipv4(header, Default::default())
        }
        (a, b) => {
            let header = Ipv6Header {
                flow_label: Ipv6FlowLabel::try_new(flow_label(knock.tag)).unwrap_or_default(),
                hop_limit: HOPS,
                source: six(a),
                destination: six(b),
                ..Ipv6Header::default()
            };
            IpHeaders::Ipv6(header, Default::default())
        }
    })
}

/// The flow label of a knock's packet: 20 bits.
pub fn flow_label(tag: u32) -> u32 {
    tag & 0x000f_ffff
}

fn six(address: IpAddr) -> [u8; 16] {
    match address {
        IpAddr::V4(a) => a.to_ipv6_mapped().octets(),
        IpAddr::V6(a) => a.octets(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use tipstaff_core::names::traffic::Transport;
    use tipstaff_core::packet::{Packet, parse_ethernet};

    #[test]
    fn frames_read_back_as_what_they_are_about() {
        for (source, target) in
            [("203.0.113.9", "198.51.100.20"), ("2001:db8:113::9", "2001:db8:51::20")]
        {
            let knock = Knock {
                source: source.parse().unwrap(),
                target: target.parse().unwrap(),
                from: FIRST_PORT,
                tag: 1,
            };
            for subject in [
                Subject::Port(Transport::Tcp, 22),
                Subject::Port(Transport::Udp, 7420),
                Subject::Echo,
            ] {
                let Packet::Ip(ip) = parse_ethernet(&first(subject, knock, [2; 6])) else {
                    panic!()
                };
                let family = tipstaff_core::names::address::Family::of_address(knock.source);
                assert_eq!((ip.source, ip.destination), (knock.source, knock.target));
                assert_eq!(ip.key(), Some(subject.key(family)));
            }
            let gre = about(TrafficKey::new(47, 0), knock, [2; 6]);
            let Packet::Ip(ip) = parse_ethernet(&gre) else { panic!() };
            assert_eq!(ip.key(), Some(TrafficKey::new(47, 0)));
        }
    }
}
