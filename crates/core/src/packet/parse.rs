//! Bytes → [`Packet`]: RFC 791, RFC 8200 and what they carry.
//!
//! Every access is checked. A length field of 0 (segments merged by the
//! kernel beyond 64 KiB) says nothing and is left to the IP stack.

use std::net::{Ipv4Addr, Ipv6Addr};

use super::{IpPacket, Packet, Payload, TcpFlags};
use crate::names::address::Family;
use crate::names::traffic::{ICMP, ICMPV6, TCP, UDP};

/// At most so many IPv6 extension headers are followed; more is malformed.
pub const MOST_EXTENSION_HEADERS: usize = 6;

const ETHERTYPE_IPV4: u16 = 0x0800;
const ETHERTYPE_IPV6: u16 = 0x86dd;

/// Reads an Ethernet II frame.
pub fn parse_ethernet(frame: &[u8]) -> Packet {
    match be16(frame, 12) {
        Some(ETHERTYPE_IPV4 | ETHERTYPE_IPV6) => {
            parse_ip(be16(frame, 12).unwrap_or_default() == ETHERTYPE_IPV6, &frame[14..])
        }
        _ => Packet::NotIp,
    }
}

/// Reads a packet that begins at its IP header. `six` says which protocol the
/// link layer announced.
pub fn parse_ip(six: bool, bytes: &[u8]) -> Packet {
    let read = if six { ipv6(bytes) } else { ipv4(bytes) };
    read.map_or(Packet::Malformed, Packet::Ip)
}

fn be16(bytes: &[u8], at: usize) -> Option<u16> {
    bytes.get(at..at + 2)?.try_into().ok().map(u16::from_be_bytes)
}

fn array<const N: usize>(bytes: &[u8], at: usize) -> Option<[u8; N]> {
    bytes.get(at..at.checked_add(N)?)?.try_into().ok()
}

fn ipv4(bytes: &[u8]) -> Option<IpPacket> {
    let header: [u8; 20] = array(bytes, 0)?;
    let offset = usize::from(header[0] & 15) * 4;
    let end = usize::from(u16::from_be_bytes([header[2], header[3]]));
    if header[0] >> 4 != 4 || offset < 20 || (end != 0 && end < offset) {
        return None;
    }
    let fragment_offset = u16::from_be_bytes([header[6], header[7]]) & 0x1fff;
    let payload = if fragment_offset != 0 {
        Payload::LaterFragment
    } else {
        transport(Family::V4, header[9], bytes, offset, end).unwrap_or(Payload::Malformed)
    };
    Some(IpPacket {
        source: Ipv4Addr::from(array::<4>(bytes, 12)?).into(),
        destination: Ipv4Addr::from(array::<4>(bytes, 16)?).into(),
        payload,
    })
}

fn ipv6(bytes: &[u8]) -> Option<IpPacket> {
    let header: [u8; 40] = array(bytes, 0)?;
    if header[0] >> 4 != 6 {
        return None;
    }
    let declared = usize::from(u16::from_be_bytes([header[4], header[5]]));
    let end = if declared == 0 { 0 } else { 40 + declared };
    Some(IpPacket {
        source: Ipv6Addr::from(array::<16>(bytes, 8)?).into(),
        destination: Ipv6Addr::from(array::<16>(bytes, 24)?).into(),
        payload: behind_extensions(header[6], bytes, end).unwrap_or(Payload::Malformed),
    })
}

/// Follows the chain of RFC 8200 section 4 (hop-by-hop 0, routing 43,
/// fragment 44, authentication 51, destination options 60).
fn behind_extensions(first: u8, bytes: &[u8], end: usize) -> Option<Payload> {
    let (mut next, mut offset) = (first, 40);
    for _ in 0..MOST_EXTENSION_HEADERS {
        let extension: [u8; 8] = match next {
            0 | 43 | 44 | 51 | 60 => array(bytes, offset)?,
            _ => return transport(Family::V6, next, bytes, offset, end),
        };
        let length = match next {
            44 => {
                if u16::from_be_bytes([extension[2], extension[3]]) & 0xfff8 != 0 {
                    return Some(Payload::LaterFragment);
                }
                8
            }
            51 => (usize::from(extension[1]) + 2) * 4,
            _ => (usize::from(extension[1]) + 1) * 8,
        };
        next = extension[0];
        offset += length;
        if end != 0 && offset > end {
            return None;
        }
    }
    match next {
        0 | 43 | 44 | 51 | 60 => None,
        _ => transport(Family::V6, next, bytes, offset, end),
    }
}

/// `None` is malformed. `end` is where the IP header says the packet ends, 0
/// when it does not say.
fn transport(family: Family, protocol: u8, bytes: &[u8], at: usize, end: usize) -> Option<Payload> {
    let fits = |length: usize| end == 0 || at + length <= end;
    match (protocol, family) {
        (TCP, _) => {
            let header: [u8; 20] = array(bytes, at).filter(|_| fits(20))?;
            let flags = TcpFlags(header[13]);
            if header[12] >> 4 < 5 || flags.are_impossible() {
                return None;
            }
            Some(Payload::Tcp {
                from: u16::from_be_bytes([header[0], header[1]]),
                to: u16::from_be_bytes([header[2], header[3]]),
                flags,
            })
        }
        (UDP, _) => {
            let header: [u8; 8] = array(bytes, at).filter(|_| fits(8))?;
            if u16::from_be_bytes([header[4], header[5]]) < 8 {
                return None;
            }
            Some(Payload::Udp {
                from: u16::from_be_bytes([header[0], header[1]]),
                to: u16::from_be_bytes([header[2], header[3]]),
            })
        }
        (ICMP, Family::V4) | (ICMPV6, Family::V6) => {
            let header: [u8; 8] = array(bytes, at).filter(|_| fits(8))?;
            Some(Payload::Icmp {
                kind: header[0],
                code: header[1],
                id: u16::from_be_bytes([header[4], header[5]]),
            })
        }
        _ => Some(Payload::Other { protocol }),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use etherparse::PacketBuilder;

    /// A SYN from 203.0.113.9:61000 to 198.51.100.20:22 in an Ethernet frame.
    fn syn4() -> Vec<u8> {
        let mut frame = Vec::new();
        PacketBuilder::ethernet2([2, 0, 0, 0, 0, 1], [2, 0, 0, 0, 0, 2])
            .ipv4([203, 0, 113, 9], [198, 51, 100, 20], 64)
            .tcp(61000, 22, 1, 65535)
            .syn()
            .write(&mut frame, &[])
            .unwrap();
        frame
    }

    fn payload(packet: Packet) -> Payload {
        match packet {
            Packet::Ip(ip) => ip.payload,
            other => panic!("no IP packet: {other:?}"),
        }
    }

    #[test]
    fn a_frame_from_another_builder_reads_as_built() {
        let Packet::Ip(ip) = parse_ethernet(&syn4()) else { panic!() };
        assert_eq!(ip.source.to_string(), "203.0.113.9");
        assert_eq!(ip.key(), Some(TrafficKey::new(TCP, 22)));
        assert_eq!(
            ip.payload,
            Payload::Tcp { from: 61000, to: 22, flags: TcpFlags(TcpFlags::SYN) }
        );
    }

    use crate::names::traffic::TrafficKey;

    #[test]
    fn no_truncation_panics_and_each_is_malformed() {
        let frame = syn4();
        for length in 0..frame.len() {
            match parse_ethernet(&frame[..length]) {
                Packet::NotIp => assert!(length < 14),
                Packet::Malformed => assert!((14..34).contains(&length)),
                Packet::Ip(ip) => assert_eq!(ip.payload, Payload::Malformed),
            }
        }
    }

    #[test]
    fn impossible_flags_are_malformed() {
        for (flags, sound) in [
            (0x02, true),
            (0x12, true),
            (0x14, true),
            (0x04, true),
            (0x11, true),
            (0x00, false),
            (0x01, false),
            (0x29, false),
            (0x03, false),
            (0x06, false),
            (0x3f, false),
        ] {
            let mut frame = syn4();
            frame[14 + 20 + 13] = flags;
            assert_eq!(payload(parse_ethernet(&frame)) != Payload::Malformed, sound, "{flags:#x}");
        }
    }

    #[test]
    fn padding_behind_the_declared_length_is_not_read() {
        let mut frame = syn4();
        frame[17] = 30; // total length: ten bytes behind the IP header
        assert_eq!(payload(parse_ethernet(&frame)), Payload::Malformed);
        frame[16..18].fill(0); // not declared: left to the stack
        assert_ne!(payload(parse_ethernet(&frame)), Payload::Malformed);
    }

    #[test]
    fn later_fragments_have_no_ports() {
        let mut frame = syn4();
        frame[14 + 7] = 1;
        assert_eq!(payload(parse_ethernet(&frame)), Payload::LaterFragment);
        frame[14 + 6..14 + 8].copy_from_slice(&[0x20, 0]); // the first of several
        assert!(matches!(payload(parse_ethernet(&frame)), Payload::Tcp { .. }));
    }

    fn six(next: u8, rest: &[u8]) -> Vec<u8> {
        let mut bytes = vec![0x60, 0, 0, 0];
        bytes.extend((rest.len() as u16).to_be_bytes());
        bytes.extend([next, 64]);
        bytes.extend([0x20, 1, 0xd, 0xb8, 0, 0x51, 0, 0, 0, 0, 0, 0, 0, 0, 0, 1]);
        bytes.extend([0x20, 1, 0xd, 0xb8, 0, 0x51, 0, 0, 0, 0, 0, 0, 0, 0, 0, 2]);
        bytes.extend(rest);
        bytes
    }

    #[test]
    fn extension_headers_are_followed_up_to_a_bound() {
        let udp = [0xee, 0x48, 0x1c, 0xfc, 0, 8, 0, 0];
        let options = |next: u8| [next, 0, 1, 4, 0, 0, 0, 0];
        let one = [options(17).as_slice(), &udp].concat();
        assert_eq!(payload(parse_ip(true, &six(60, &one))), Payload::Udp { from: 61000, to: 7420 });
        let six_of_them = [options(60).repeat(5), options(17).to_vec(), udp.to_vec()].concat();
        assert!(matches!(payload(parse_ip(true, &six(0, &six_of_them))), Payload::Udp { .. }));
        let seven = [options(60).repeat(6), options(17).to_vec(), udp.to_vec()].concat();
        assert_eq!(payload(parse_ip(true, &six(0, &seven))), Payload::Malformed);
        let second_fragment = [[17, 0, 0, 9, 0, 0, 0, 7].as_slice(), &udp].concat();
        assert_eq!(payload(parse_ip(true, &six(44, &second_fragment))), Payload::LaterFragment);
        let lying_length = [[17, 9, 1, 4, 0, 0, 0, 0].as_slice(), &udp].concat();
        assert_eq!(payload(parse_ip(true, &six(60, &lying_length))), Payload::Malformed);
        // No next header (59) is a protocol of its own without a header.
        assert_eq!(payload(parse_ip(true, &six(59, &[]))), Payload::Other { protocol: 59 });
    }
}
