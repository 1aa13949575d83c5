//! What the gate answers when it refuses: bytes that any stack takes, and
//! silence where an answer must not be. Through test runs, without traffic.

#![allow(clippy::unwrap_used)]

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

use tipstaff_core::orders::Action;
use tipstaff_core::packet::InterfaceIndex;
use tipstaff_gate::Gate;
use tipstaff_gate::kernel::KernelGate;
use tipstaff_testing::scene::{inside, orders, post};

const TCP: u8 = 6;
const UDP: u8 = 17;
const FAR_MAC: [u8; 6] = [2, 0, 0, 0, 0, 0x99];

/// Runs `test` with a gate that refuses everything.
fn refusing(test: impl FnOnce(&KernelGate, InterfaceIndex, [u8; 6]) + Send + 'static) {
    inside(move |run_dir, all| {
        let cable = all.iter().find(|i| i.name == "ts-a").unwrap();
        let mut gate = KernelGate::new(&run_dir).unwrap();
        let text = orders("").replace("inbound = \"deny\"", "inbound = \"refuse\"");
        post(&mut gate, &text, &all).unwrap();
        test(&gate, InterfaceIndex(cable.index), cable.hardware.unwrap());
        gate.withdraw().unwrap();
    });
}

/// The ones' complement sum of RFC 1071, folded.
fn sum(parts: &[&[u8]]) -> u16 {
    let mut total = 0u32;
    for part in parts {
        for word in part.chunks(2) {
            total += u32::from(u16::from_be_bytes([word[0], *word.get(1).unwrap_or(&0)]));
        }
    }
    while total > 0xffff {
        total = (total >> 16) + (total & 0xffff);
    }
    total as u16
}

fn pseudo(from: IpAddr, to: IpAddr, protocol: u8, length: usize) -> Vec<u8> {
    let mut bytes = match (from, to) {
        (IpAddr::V4(a), IpAddr::V4(b)) => [a.octets(), b.octets()].concat(),
        (IpAddr::V6(a), IpAddr::V6(b)) => [a.octets(), b.octets()].concat(),
        _ => unreachable!(),
    };
    bytes.extend((length as u16).to_be_bytes());
    bytes.extend([0, protocol]);
    bytes
}

fn ends(six: bool) -> (IpAddr, IpAddr) {
    match six {
        false => (Ipv4Addr::new(203, 0, 113, 9).into(), Ipv4Addr::new(198, 51, 100, 20).into()),
        true => (
            Ipv6Addr::new(0x2001, 0xdb8, 0x113, 0, 0, 0, 0, 9).into(),
            Ipv6Addr::new(0x2001, 0xdb8, 0x51, 0, 0, 0, 0, 0x20).into(),
        ),
    }
}

fn frame(mac: [u8; 6], six: bool, protocol: u8, payload: &[u8]) -> Vec<u8> {
    let (from, to) = ends(six);
    let mut frame = [mac, FAR_MAC].concat();
    let length = payload.len() as u16;
    match (from, to) {
        (IpAddr::V4(from), IpAddr::V4(to)) => {
            frame.extend([8, 0, 0x45, 0]);
            frame.extend((20 + length).to_be_bytes());
            frame.extend([0, 1, 0, 0, 64, protocol, 0, 0]);
            frame.extend([from.octets(), to.octets()].concat());
        }
        (IpAddr::V6(from), IpAddr::V6(to)) => {
            frame.extend([0x86, 0xdd, 0x60, 0, 0, 0]);
            frame.extend(length.to_be_bytes());
            frame.extend([protocol, 64]);
            frame.extend([from.octets(), to.octets()].concat());
        }
        _ => unreachable!(),
    }
    frame.extend(payload);
    frame
}

/// The checksum of a transport header: whole, or left to the card.
fn with_checksum(
    six: bool,
    protocol: u8,
    mut payload: Vec<u8>,
    at: usize,
    partial: bool,
) -> Vec<u8> {
    let (from, to) = ends(six);
    let pseudo = pseudo(from, to, protocol, payload.len());
    let checksum = if partial { sum(&[&pseudo]) } else { !sum(&[&pseudo, &payload]) };
    payload[at..at + 2].copy_from_slice(&checksum.to_be_bytes());
    payload
}

fn tcp(flags: u8) -> Vec<u8> {
    let mut header = [0xee48u16.to_be_bytes(), 22u16.to_be_bytes()].concat();
    header.extend([
        0x11, 0x22, 0x33, 0xff, 0x44, 0x55, 0x66, 0x77, 0x50, flags, 0xff, 0xff, 0, 0, 0, 0,
    ]);
    header
}

/// The payload of an answer whose headers are as they must be; its sum too.
fn payload_of(answer: &[u8], mac: [u8; 6], six: bool, protocol: u8) -> &[u8] {
    let (from, to) = ends(six);
    assert_eq!(answer[..6], FAR_MAC, "to the sender's card");
    assert_eq!(answer[6..12], mac);
    let ip = &answer[14..];
    if six {
        assert_eq!((ip[0], ip[6]), (0x60, protocol));
        assert_eq!(usize::from(u16::from_be_bytes([ip[4], ip[5]])), ip.len() - 40);
        assert_eq!(ip[8..24], to.to_canonical_octets()[..]);
        assert_eq!(ip[24..40], from.to_canonical_octets()[..]);
        &ip[40..]
    } else {
        assert_eq!((ip[0], ip[9]), (0x45, protocol));
        assert_eq!(sum(&[&ip[..20]]), 0xffff, "the header's checksum");
        assert_eq!(usize::from(u16::from_be_bytes([ip[2], ip[3]])), ip.len());
        assert_eq!(ip[12..16], to.to_canonical_octets()[..]);
        assert_eq!(ip[16..20], from.to_canonical_octets()[..]);
        &ip[20..]
    }
}

trait Octets {
    fn to_canonical_octets(&self) -> Vec<u8>;
}

impl Octets for IpAddr {
    fn to_canonical_octets(&self) -> Vec<u8> {
        match self {
            IpAddr::V4(a) => a.octets().to_vec(),
            IpAddr::V6(a) => a.octets().to_vec(),
        }
    }
}

#[test]
fn a_connection_is_reset() {
    refusing(|gate, index, mac| {
        for (six, partial) in [(false, false), (false, true), (true, false), (true, true)] {
            let (own, far) = (ends(six).1, ends(six).0);
            // A SYN: the reset acknowledges it. An ACK of nothing: it takes its place.
            for (flags, sequence, acknowledged, answer_flags) in [
                (0x02, 0, 0x1122_3400, 0x14),
                (0x10, 0x4455_6677, 0, 0x04),
                (0x12, 0x4455_6677, 0, 0x04),
            ] {
                let segment = with_checksum(six, TCP, tcp(flags), 16, partial);
                let (decision, answer) = gate.play(index, &frame(mac, six, TCP, &segment)).unwrap();
                assert_eq!(decision.verdict, Action::Refuse);
                let reset = payload_of(&answer, mac, six, TCP);
                let word = |at: usize| u32::from_be_bytes(reset[at..at + 4].try_into().unwrap());
                assert_eq!(reset.len(), 20);
                assert_eq!(reset[..4], [0, 22, 0xee, 0x48], "the ports change places");
                assert_eq!((word(4), word(8)), (sequence, acknowledged), "{flags:x}");
                assert_eq!((reset[12], reset[13]), (0x50, answer_flags));
                let pseudo = pseudo(own, far, TCP, 20);
                if partial {
                    // The card adds the rest.
                    assert_eq!(reset[16..18], sum(&[&pseudo]).to_be_bytes());
                } else {
                    assert_eq!(sum(&[&pseudo, reset]), 0xffff);
                }
            }
        }
    });
}

#[test]
fn everything_else_is_administratively_prohibited() {
    refusing(|gate, index, mac| {
        for (six, partial) in [(false, false), (false, true), (true, false), (true, true)] {
            let datagram = vec![0xee, 0x48, 0, 123, 0, 12, 0, 0, 1, 2, 3, 4];
            let datagram = with_checksum(six, UDP, datagram, 6, partial);
            let icmp = if six { 58 } else { 1 };
            let echo = vec![if six { 128 } else { 8 }, 0, 0, 0, 0x12, 0x34, 0, 1, 9, 9];
            let echo = if six { with_checksum(true, 58, echo, 2, false) } else { echo };
            for (protocol, payload) in
                [(UDP, datagram), (icmp, echo), (47, vec![0, 0, 0x65, 0x58, 0, 0, 0, 1])]
            {
                let asked = frame(mac, six, protocol, &payload);
                let (decision, answer) = gate.play(index, &asked).unwrap();
                assert_eq!(decision.verdict, Action::Refuse);
                let message = payload_of(&answer, mac, six, icmp);
                assert_eq!(message[..2], if six { [1, 1] } else { [3, 13] });
                let header = if six { 40 } else { 20 };
                assert_eq!(message[8..], asked[14..14 + header + 8], "it quotes what it is about");
                let (own, far) = (ends(six).1, ends(six).0);
                let pseudo = if six { pseudo(own, far, 58, message.len()) } else { Vec::new() };
                if partial && protocol == UDP {
                    // What the card is to complete: its own sum comes out as 0, the rest is whole.
                    let left = u16::from_be_bytes([message[6], message[7]]);
                    assert_eq!(left, sum(&[&pseudo]));
                    let filled = !sum(&[message]);
                    assert_eq!(filled, 0);
                }
                let mut whole = message.to_vec();
                whole[6..8].copy_from_slice(&[0, 0]);
                assert_eq!(sum(&[&pseudo, &whole]), 0xffff);
            }
        }
    });
}

#[test]
fn what_must_not_be_answered_is_not() {
    refusing(|gate, index, mac| {
        let syn = frame(mac, false, TCP, &tcp(0x02));
        let syn_six = frame(mac, true, TCP, &tcp(0x02));
        let in_eights = frame(mac, false, TCP, &[&tcp(0x02)[..], &[0; 4]].concat());
        let change = |frame: &[u8], at: usize, bytes: &[u8]| {
            let mut frame = frame.to_vec();
            frame[at..at + bytes.len()].copy_from_slice(bytes);
            frame
        };
        let mut options = frame(mac, false, 47, &[0; 16]);
        options[14] = 0x46;
        let extended = frame(mac, true, 0, &[&[47, 0, 1, 4, 0, 0, 0, 0][..], &[0; 8]].concat());
        let cases = [
            ("a reset", change(&syn, 14 + 20 + 13, &[0x14])),
            ("a first fragment", change(&in_eights, 14 + 6, &[0x20, 0])),
            ("a multicast source", change(&syn, 14 + 12, &[224, 0, 0, 1])),
            ("no source", change(&syn, 14 + 12, &[0, 0, 0, 0])),
            ("IP options", options),
            ("an extension header", extended),
            ("a multicast source, IPv6", change(&syn_six, 14 + 8, &[0xff, 2])),
            ("no source, IPv6", change(&syn_six, 14 + 8, &[0; 16])),
            ("to all cards", change(&syn, 0, &[0xff; 6])),
            ("an echo reply", frame(mac, false, 1, &[0, 0, 0, 0, 0x12, 0x34, 0, 1])),
            ("a redirect", frame(mac, false, 1, &[5, 0, 0, 0, 0, 0, 0, 0])),
        ];
        for (what, frame) in cases {
            let (decision, answer) = gate.play(index, &frame).unwrap();
            assert_eq!((decision.verdict, answer.len()), (Action::Refuse, 0), "{what}");
        }
        let (_, answer) = gate.play(index, &syn).unwrap();
        assert!(!answer.is_empty(), "the SYN itself is answered");
    });
}

/// Beyond the gate's own rate a refusal is silent.
#[test]
fn not_more_answers_than_the_gate_s_own_rate() {
    refusing(|gate, index, mac| {
        let syn = frame(mac, false, TCP, &tcp(0x02));
        let begin = std::time::Instant::now();
        let answered = (0..3_000).filter(|_| !gate.play(index, &syn).unwrap().1.is_empty()).count();
        // 200 at once, and one more each millisecond.
        let room = 200 + begin.elapsed().as_millis() as usize + 1;
        assert!((200..=room).contains(&answered), "{answered} of 3,000, room for {room}");
        assert!(answered < 3_000 || room > 3_000);
    });
}
