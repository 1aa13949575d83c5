//! Bytes → [`Packet`]: RFC 791, RFC 8200 and what they carry.
//!
//! Every access is checked. A length field of 0 (segments merged by the
//! kernel beyond 64 KiB) says nothing and is left to the IP stack.

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

use super::{IpPacket, LinkFrame, PRIORITY_TAGS, Packet, Payload, Quote, TcpFlags, is_named};
use crate::bytes::ReadAt;
use crate::names::address::Family;
use crate::names::traffic::{ICMP, ICMPV6, TCP, UDP};

/// At most so many IPv6 extension headers are followed; more is malformed.
pub const MOST_EXTENSION_HEADERS: usize = 6;

const ETHERTYPE_IPV4: u16 = 0x0800;
const ETHERTYPE_IPV6: u16 = 0x86dd;

/// Reads an Ethernet II frame as it stands before the gate: the kernel has
/// taken off its outermost tag by then.
#[inline]
pub fn parse_ethernet(frame: &[u8]) -> Packet {
    match frame.u16_be(12) {
        Some(ETHERTYPE_IPV4) => parse_ip(false, &frame[14..]),
        Some(ETHERTYPE_IPV6) => parse_ip(true, &frame[14..]),
        Some(kind) if PRIORITY_TAGS.contains(&kind) => Packet::Link(match frame.u16_be(14) {
            Some(tag) if tag & 0x0fff != 0 => LinkFrame::OtherVlan,
            _ => LinkFrame::Unreadable,
        }),
        Some(kind) if is_named(kind) => Packet::Link(LinkFrame::Named),
        _ => Packet::Link(LinkFrame::Unreadable),
    }
}

/// Reads a packet that begins at its IP header. `six` says which protocol the
/// link layer announced.
#[inline]
pub fn parse_ip(six: bool, bytes: &[u8]) -> Packet {
    let read = if six { ipv6(bytes) } else { ipv4(bytes) };
    match read {
        Some(ip) => Packet::Ip(ip),
        None => Packet::Malformed,
    }
}

/// Bits of the word with an IPv4 fragment's offset (RFC 791 section 3.1).
const FRAGMENT_OFFSET: u16 = 0x1fff;
const MORE_FRAGMENTS: u16 = 0x2000;
/// The same in IPv6's fragment header (RFC 8200 section 4.5).
const FRAGMENT_OFFSET_SIX: u16 = 0xfff8;
const MORE_FRAGMENTS_SIX: u16 = 1;

/// Whether a fragment can be one: its datagram would be longer than any can be,
/// a piece that others follow is no multiple of 8 bytes (RFC 8200 section 4.5), or it
/// would overwrite the flags of a TCP header (RFC 1858 section 3.2.2). A host answers
/// some of these by itself.
struct Fragment {
    /// Where it belongs in the datagram, in bytes.
    offset: usize,
    more: bool,
    protocol: u8,
    /// Length of its data, `None` where the header does not say.
    length: Option<usize>,
    /// Length of what stands before the data and stays in the datagram's header.
    kept: usize,
}

impl Fragment {
    fn is_possible(&self) -> bool {
        /// Of an IPv4 datagram with its header, of an IPv6 one without the first 40 bytes.
        const LONGEST: usize = 65_535;
        let fits = self.length.is_none_or(|length| {
            self.kept + self.offset + length <= LONGEST && !(self.more && length % 8 != 0)
        });
        fits && (self.protocol, self.offset) != (TCP, 8)
    }
}

/// Hop limit of what no router has forwarded: neighbour discovery must have it
/// (RFC 4861 sections 6.1, 7.1, 8.1).
const NOT_FORWARDED: u8 = 255;

#[inline]
fn ipv4(bytes: &[u8]) -> Option<IpPacket> {
    let header: [u8; 20] = bytes.array_at(0)?;
    let offset = usize::from(header[0] & 15) * 4;
    let end = usize::from(header.u16_be(2)?);
    if header[0] >> 4 != 4 || offset < 20 || (end != 0 && end < offset) {
        return None;
    }
    let fragment = header.u16_be(6)?;
    let id = u32::from(header.u16_be(4)?);
    let piece = Fragment {
        offset: usize::from(fragment & FRAGMENT_OFFSET) * 8,
        more: fragment & MORE_FRAGMENTS != 0,
        protocol: header[9],
        length: (end != 0).then(|| end - offset),
        kept: offset,
    };
    let is_whole = fragment & (FRAGMENT_OFFSET | MORE_FRAGMENTS) == 0;
    let payload = if !is_whole && !piece.is_possible() {
        Payload::Malformed
    } else if piece.offset != 0 {
        Payload::LaterFragment { id }
    } else {
        transport(Family::V4, header[9], bytes, offset, end).unwrap_or(Payload::Malformed)
    };
    let is_first = fragment & (FRAGMENT_OFFSET | MORE_FRAGMENTS) == MORE_FRAGMENTS;
    let quotes = matches!(payload, Payload::Icmp { kind: 3 | 11 | 12, .. });
    Some(IpPacket {
        quotes: if quotes { quoted_four(bytes, offset + 8) } else { None },
        source: Ipv4Addr::from(bytes.array_at::<4>(12)?).into(),
        destination: Ipv4Addr::from(bytes.array_at::<4>(16)?).into(),
        first_of: is_first.then_some(id),
        payload,
    })
}

fn ipv6(bytes: &[u8]) -> Option<IpPacket> {
    let header: [u8; 40] = bytes.array_at(0)?;
    if header[0] >> 4 != 6 {
        return None;
    }
    let declared = usize::from(header.u16_be(4)?);
    let end = if declared == 0 { 0 } else { 40 + declared };
    let (first_of, at, payload) = behind_extensions(header[6], bytes, end);
    let payload = match payload {
        // Router and neighbour discovery, and redirects.
        Some(Payload::Icmp { kind: 133..=137, .. }) if header[7] != NOT_FORWARDED => {
            Payload::Malformed
        }
        payload => payload.unwrap_or(Payload::Malformed),
    };
    let quotes = matches!(payload, Payload::Icmp { kind: 1..=4, .. });
    Some(IpPacket {
        quotes: if quotes { quoted_six(bytes, at + 8) } else { None },
        source: Ipv6Addr::from(bytes.array_at::<16>(8)?).into(),
        destination: Ipv6Addr::from(bytes.array_at::<16>(24)?).into(),
        first_of,
        payload,
    })
}

/// Follows the chain of RFC 8200 section 4 (hop-by-hop 0, routing 43,
/// fragment 44, authentication 51, destination options 60).
///
/// The identification of the fragments that follow a first one, where the
/// transport header begins, and the payload; `None` is malformed.
fn behind_extensions(first: u8, bytes: &[u8], end: usize) -> (Option<u32>, usize, Option<Payload>) {
    let mut chain = Chain { offset: 40, first_of: None };
    let payload = chain.follow(first, bytes, end);
    (chain.first_of, chain.offset, payload)
}

/// How far a chain of extension headers was followed.
struct Chain {
    offset: usize,
    /// The identification of the fragments that follow a first one.
    first_of: Option<u32>,
}

impl Chain {
    fn follow(&mut self, first: u8, bytes: &[u8], end: usize) -> Option<Payload> {
        let mut next = first;
        for _ in 0..MOST_EXTENSION_HEADERS {
            let extension: [u8; 8] = match next {
                0 | 43 | 44 | 51 | 60 => bytes.array_at(self.offset)?,
                _ => return transport(Family::V6, next, bytes, self.offset, end),
            };
            let length = match next {
                44 => {
                    let fragment = extension.u16_be(2)?;
                    let id = extension.u32_be(4)?;
                    let data = self.offset + 8;
                    let piece = Fragment {
                        offset: usize::from(fragment & FRAGMENT_OFFSET_SIX),
                        more: fragment & MORE_FRAGMENTS_SIX != 0,
                        protocol: extension[0],
                        length: if end == 0 { None } else { Some(end.checked_sub(data)?) },
                        kept: self.offset - 40,
                    };
                    if !piece.is_possible() {
                        return None;
                    }
                    if piece.offset != 0 {
                        return Some(Payload::LaterFragment { id });
                    }
                    if piece.more {
                        self.first_of = Some(id);
                    }
                    8
                }
                51 => (usize::from(extension[1]) + 2) * 4,
                _ => (usize::from(extension[1]) + 1) * 8,
            };
            next = extension[0];
            self.offset += length;
            if end != 0 && self.offset > end {
                return None;
            }
        }
        match next {
            0 | 43 | 44 | 51 | 60 => None,
            _ => transport(Family::V6, next, bytes, self.offset, end),
        }
    }
}

/// The packet in an ICMP error (RFC 792, RFC 4443 section 3): its header and 8
/// bytes behind it.
fn quoted_four(bytes: &[u8], at: usize) -> Option<Quote> {
    let header: [u8; 20] = bytes.array_at(at)?;
    let transport: [u8; 8] = bytes.array_at(at + usize::from(header[0] & 15) * 4)?;
    let [source, destination] =
        [header.array_at::<4>(12)?, header.array_at::<4>(16)?].map(|a| Ipv4Addr::from(a).into());
    quote(header[9], (ICMP, 8), transport, [source, destination])
}

/// The same in IPv6, without extension headers.
fn quoted_six(bytes: &[u8], at: usize) -> Option<Quote> {
    let header: [u8; 40] = bytes.array_at(at)?;
    let transport: [u8; 8] = bytes.array_at(at + 40)?;
    let [source, destination] =
        [header.array_at::<16>(8)?, header.array_at::<16>(24)?].map(|a| Ipv6Addr::from(a).into());
    quote(header[6], (ICMPV6, 128), transport, [source, destination])
}

fn quote(
    protocol: u8,
    (icmp, request): (u8, u8),
    transport: [u8; 8],
    [source, destination]: [IpAddr; 2],
) -> Option<Quote> {
    let (from, to) = match protocol {
        TCP | UDP => (transport.u16_be(0)?, transport.u16_be(2)?),
        _ if protocol == icmp && transport[0] == request => (transport.u16_be(4)?, 0),
        _ => (0, 0),
    };
    Some(Quote { source, destination, protocol, from, to })
}

/// `None` is malformed. `end` is where the IP header says the packet ends, 0
/// when it does not say.
#[inline]
fn transport(family: Family, protocol: u8, bytes: &[u8], at: usize, end: usize) -> Option<Payload> {
    let fits = |length: usize| end == 0 || at + length <= end;
    match (protocol, family) {
        (TCP, _) => {
            let header: [u8; 20] = bytes.array_at(at).filter(|_| fits(20))?;
            let flags = TcpFlags(header[13]);
            if header[12] >> 4 < 5 || flags.are_impossible() {
                return None;
            }
            Some(Payload::Tcp { from: header.u16_be(0)?, to: header.u16_be(2)?, flags })
        }
        (UDP, _) => {
            let header: [u8; 8] = bytes.array_at(at).filter(|_| fits(8))?;
            if header.u16_be(4)? < 8 {
                return None;
            }
            Some(Payload::Udp { from: header.u16_be(0)?, to: header.u16_be(2)? })
        }
        (ICMP, Family::V4) | (ICMPV6, Family::V6) => {
            let header: [u8; 8] = bytes.array_at(at).filter(|_| fits(8))?;
            Some(Payload::Icmp { kind: header[0], code: header[1], id: header.u16_be(4)? })
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
                Packet::Link(frame) => {
                    assert!(length < 14);
                    assert_eq!(frame, LinkFrame::Unreadable);
                }
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
        let first_of = |frame: &[u8]| match parse_ethernet(frame) {
            Packet::Ip(ip) => ip.first_of,
            other => panic!("no IP packet: {other:?}"),
        };
        frame[14 + 4..14 + 8].copy_from_slice(&[0, 7, 0, 2]);
        assert_eq!(payload(parse_ethernet(&frame)), Payload::LaterFragment { id: 7 });
        frame[14 + 7] = 1; // over the flags of the first one
        assert_eq!(payload(parse_ethernet(&frame)), Payload::Malformed);
        frame[14 + 6..14 + 8].copy_from_slice(&[0, 0]);
        assert_eq!(first_of(&frame), None);
        frame[14 + 6..14 + 8].copy_from_slice(&[0x1f, 0xff]); // behind the longest datagram
        assert_eq!(payload(parse_ethernet(&frame)), Payload::Malformed);
        frame[14 + 6..14 + 8].copy_from_slice(&[0x20, 0]); // the first of several
        assert_eq!(payload(parse_ethernet(&frame)), Payload::Malformed, "in eights, but the last");
        frame.extend([0; 4]);
        frame[14 + 3] += 4;
        assert!(matches!(payload(parse_ethernet(&frame)), Payload::Tcp { .. }));
        assert_eq!(first_of(&frame), Some(7));
    }

    #[test]
    fn what_is_not_ip_passes_by_its_name_or_is_not_readable() {
        let frame = |kind: u16, rest: &[u8]| {
            let frame = [&[2; 12][..], &kind.to_be_bytes(), rest].concat();
            match parse_ethernet(&frame) {
                Packet::Link(frame) => frame,
                other => panic!("{other:?}"),
            }
        };
        // ARP; a length, with LLC behind it; MPLS; what nobody knows.
        assert_eq!(frame(0x0806, &[0; 28]), LinkFrame::Named);
        assert_eq!(frame(38, &[0x42, 0x42, 3]), LinkFrame::Named);
        assert_eq!(frame(0x8847, &[0; 40]), LinkFrame::Unreadable);
        assert_eq!(frame(0x1234, &[0; 40]), LinkFrame::Unreadable);
        for kind in PRIORITY_TAGS {
            assert_eq!(frame(kind, &[0, 5, 8, 0]), LinkFrame::OtherVlan);
            assert_eq!(frame(kind, &[0xe0, 0, 8, 0]), LinkFrame::Unreadable);
            assert_eq!(frame(kind, &[0]), LinkFrame::Unreadable);
        }
    }

    #[test]
    fn neighbours_are_on_the_link() {
        let solicitation = [135, 0, 0, 0, 0, 0, 0, 0];
        let mut packet = six(58, &solicitation);
        assert_eq!(payload(parse_ip(true, &packet)), Payload::Malformed);
        packet[7] = 255;
        assert!(matches!(payload(parse_ip(true, &packet)), Payload::Icmp { kind: 135, .. }));
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
        let first = [[17, 0, 0, 1, 0, 0, 0, 7].as_slice(), &udp].concat();
        assert!(
            matches!(parse_ip(true, &six(44, &first)), Packet::Ip(ip) if ip.first_of == Some(7))
        );
        let later = Payload::LaterFragment { id: 7 };
        assert_eq!(payload(parse_ip(true, &six(44, &second_fragment))), later);
        for (offset, number) in [(0xfff8u16, 9), (9, 9), (1, 9)] {
            let [high, low] = offset.to_be_bytes();
            let piece = [&[17, 0, high, low, 0, 0, 0, 7][..], &vec![0; number]].concat();
            assert_eq!(payload(parse_ip(true, &six(44, &piece))), Payload::Malformed, "{offset}");
        }
        let lying_length = [[17, 9, 1, 4, 0, 0, 0, 0].as_slice(), &udp].concat();
        assert_eq!(payload(parse_ip(true, &six(60, &lying_length))), Payload::Malformed);
        // No next header (59) is a protocol of its own without a header.
        assert_eq!(payload(parse_ip(true, &six(59, &[]))), Payload::Other { protocol: 59 });
    }
}
