//! An interface without link headers: what a tunnel's program writes is an IP
//! packet, and what it reads is one.

#![allow(clippy::unwrap_used)]

use std::fs::File;
use std::io::{Read, Write};
use std::net::{IpAddr, TcpListener, UdpSocket};
use std::os::fd::AsFd;

use nix::poll::{PollFd, PollFlags, poll};
use tipstaff_bpf::sys;
use tipstaff_core::packet::TcpFlags;
use tipstaff_gate::Gate;
use tipstaff_gate::kernel::KernelGate;
use tipstaff_host::{interfaces, lab};
use tipstaff_testing::scene::{inside, orders, post};
use tipstaff_testing::skipped;

const OWN: [&str; 2] = ["192.0.2.130", "2001:db8:99::130"];
const OTHER: [&str; 2] = ["192.0.2.129", "2001:db8:99::129"];

fn ip(text: &str) -> IpAddr {
    text.parse().unwrap()
}

/// RFC 1071.
fn checksum(parts: &[&[u8]]) -> u16 {
    let bytes = parts.concat();
    let words = bytes.chunks(2).map(|w| u32::from(w[0]) << 8 | u32::from(*w.get(1).unwrap_or(&0)));
    let sum: u32 = words.sum();
    let once = (sum & 0xffff) + (sum >> 16);
    !((once & 0xffff) + (once >> 16)) as u16
}

/// A packet from the other end to a port of this host.
fn packet(family: usize, protocol: u8, port: u16, flags: u8) -> Vec<u8> {
    // What comes after the SYN.
    let number = if flags == TcpFlags::RST { 2 } else { 1 };
    let mut transport = vec![0xee, 0x48];
    transport.extend(port.to_be_bytes());
    match protocol {
        6 => transport.extend([0, 0, 0, number, 0, 0, 0, 0, 0x50, flags, 0xff, 0xff, 0, 0, 0, 0]),
        _ => transport.extend([0, 9, 0, 0, b'?']),
    }
    let addresses: Vec<u8> = [OTHER[family], OWN[family]]
        .iter()
        .flat_map(|text| match ip(text) {
            IpAddr::V4(a) => a.octets().to_vec(),
            IpAddr::V6(a) => a.octets().to_vec(),
        })
        .collect();
    let length = transport.len() as u16;
    let pseudo = [&[0, protocol][..], &length.to_be_bytes()].concat();
    let sum = checksum(&[&addresses, &pseudo, &transport]).to_be_bytes();
    let at = if protocol == 6 { 16 } else { 6 };
    transport[at..at + 2].copy_from_slice(&sum);
    let mut packet = match family {
        0 => {
            let mut head = vec![0x45, 0];
            head.extend((length + 20).to_be_bytes());
            head.extend([0, 1, 0, 0, 64, protocol, 0, 0]);
            let sum = checksum(&[&head, &addresses]).to_be_bytes();
            head[10..12].copy_from_slice(&sum);
            head
        }
        _ => {
            let mut head = vec![0x60, 0, 0, 0];
            head.extend(length.to_be_bytes());
            head.extend([protocol, 64]);
            head
        }
    };
    packet.extend(addresses);
    packet.extend(transport);
    packet
}

/// The next packet that is no router solicitation or MLD; `None`: there is none.
fn heard(tunnel: &mut File) -> Option<Vec<u8>> {
    loop {
        let mut waiting = [PollFd::new(tunnel.as_fd(), PollFlags::POLLIN)];
        if poll(&mut waiting, 150u16).unwrap() == 0 {
            return None;
        }
        let mut bytes = [0; 2048];
        let length = tunnel.read(&mut bytes).unwrap();
        let bytes = &bytes[..length];
        if !(bytes[0] >> 4 == 6 && (bytes[6] == 0 || bytes[6] == 58 && bytes[40] >= 130)) {
            return Some(bytes.to_vec());
        }
    }
}

/// Protocol and first bytes of the transport header.
fn gist(packet: &[u8]) -> (u8, Vec<u8>) {
    let (protocol, at) = if packet[0] >> 4 == 4 { (packet[9], 20) } else { (packet[6], 40) };
    (protocol, packet[at..at + if protocol == 6 { 14 } else { 2 }].to_vec())
}

#[test]
fn a_tunnel_without_link_headers_is_decided_and_answered_like_any_other() {
    inside(|run_dir, _| {
        let mut tunnel = match sys::test_net::tunnel("ts-tun") {
            Ok(tunnel) => tunnel,
            Err(why) => {
                skipped("interfaces without link headers were", &why);
                return;
            }
        };
        lab::up("ts-tun").unwrap();
        for (own, prefix) in OWN.into_iter().zip([25, 64]) {
            lab::address("ts-tun", ip(own), prefix).unwrap();
        }
        let _listener = TcpListener::bind("[::]:7410").unwrap();
        let all = interfaces::list().unwrap();
        let mut gate = KernelGate::new(&run_dir).unwrap();
        let rules = "[[rules]]\nname = \"plates\"\naction = \"allow\"\ntraffic = \"tcp/7410\"\n\
            interface = \"ts-tun\"\n\
            [[rules]]\nname = \"told\"\naction = \"refuse\"\ntraffic = [\"tcp/7411\", \"udp/7411\"]\n\
            [[rules]]\nname = \"sky\"\naction = \"deny\"\ndirection = \"outbound\"\n\
            traffic = [\"udp/7420\", \"tcp/7420\"]\n";
        post(&mut gate, &orders(rules), &all).unwrap();
        for family in 0..2 {
            let mut say = |protocol, port| {
                tunnel.write_all(&packet(family, protocol, port, TcpFlags::SYN)).unwrap();
                let answer = gist(&heard(&mut tunnel)?);
                // A SYN-ACK comes again after a second, unless the connection ends.
                if answer.0 == 6 && answer.1[13] & 0x12 == 0x12 {
                    tunnel.write_all(&packet(family, protocol, port, TcpFlags::RST)).unwrap();
                }
                Some(answer)
            };
            let (protocol, answer) = say(6, 7410).unwrap();
            assert_eq!((protocol, answer[13] & 0x12), (6, 0x12), "a SYN-ACK");
            let (protocol, answer) = say(6, 7411).unwrap();
            assert_eq!((protocol, answer[13] & 0x14), (6, 0x14), "a reset");
            let prohibited = [(1, vec![3, 13]), (58, vec![1, 1])];
            assert_eq!(say(17, 7411).unwrap(), prohibited[family]);
            assert_eq!(say(6, 7412), None);
            assert_eq!(say(17, 7412), None);
            // Outwards: what is denied is told, and does not leave.
            let socket = UdpSocket::bind((ip(OWN[family]), 0)).unwrap();
            assert!(socket.send_to(b"?", (ip(OTHER[family]), 7420)).is_err());
            assert_eq!(heard(&mut tunnel), None);
            socket.send_to(b"?", (ip(OTHER[family]), 7421)).unwrap();
            assert_eq!(gist(&heard(&mut tunnel).unwrap()).0, 17);
        }
        gate.withdraw().unwrap();
    });
}
