//! The far end of the cable: frames of any kind go in, and what comes back is
//! seen. And the packets that are sent there, built byte by byte.

use std::net::{IpAddr, Ipv4Addr};
use std::os::fd::{AsFd, AsRawFd, OwnedFd};

use nix::sys::socket::{
    AddressFamily, LinkAddr, MsgFlags, SockFlag, SockProtocol, SockType, bind, recv, send,
    setsockopt, socket, sockopt,
};

/// An interface, whole: what is sent leaves it as it stands, what arrives is seen.
pub struct Wire {
    socket: OwnedFd,
    /// Its hardware address.
    pub hardware: [u8; 6],
}

impl Wire {
    /// On an interface of the namespace that the calling thread is in.
    pub fn on(interface: &str) -> Self {
        let all = SockProtocol::EthAll;
        let socket =
            socket(AddressFamily::Packet, SockType::Raw, SockFlag::SOCK_NONBLOCK, all).unwrap();
        let link: LinkAddr = nix::ifaddrs::getifaddrs()
            .unwrap()
            .find_map(|entry| {
                let link = entry.address?.as_link_addr().copied()?;
                (entry.interface_name == interface).then_some(link)
            })
            .unwrap();
        bind(socket.as_raw_fd(), &link).unwrap();
        Self { socket, hardware: link.addr().unwrap() }
    }

    /// Sends a frame.
    pub fn send(&self, frame: &[u8]) {
        self.try_send(frame).unwrap();
    }

    /// As [`Wire::send`], where somebody may be in the way.
    pub fn try_send(&self, frame: &[u8]) -> nix::Result<usize> {
        // Tiny frames are refused by the packet socket; the wire pads them.
        let mut padded = frame.to_vec();
        padded.resize(frame.len().max(60), 0);
        send(self.socket.as_raw_fd(), &padded, MsgFlags::empty())
    }

    /// What is sent has this mark from now on (SO_MARK).
    pub fn mark(&self, mark: u32) {
        setsockopt(&self.socket, sockopt::Mark, &mark).unwrap();
    }

    /// What is sent goes to the device at once (PACKET_QDISC_BYPASS of packet(7)).
    pub fn bypass_queues(&self) {
        tipstaff_bpf::sys::test_net::bypass_queues(self.socket.as_fd()).unwrap();
    }

    /// Asks who has the address until somebody says so: a cable that was just
    /// plugged in loses what is sent before both ends have seen each other.
    pub fn wait_for(&self, from: Ipv4Addr, wanted: Ipv4Addr) {
        let question = [
            &[0, 1, 8, 0, 6, 4, 0, 1][..],
            &self.hardware,
            &from.octets(),
            &[0; 6],
            &wanted.octets(),
        ]
        .concat();
        let frame = ethernet([0xff; 6], self.hardware, &[], 0x0806, &question);
        for _ in 0..1_000 {
            self.send(&frame);
            std::thread::sleep(std::time::Duration::from_millis(2));
            if self.seen().iter().any(|frame: &Vec<u8>| frame[12..14] == [8, 6] && frame[21] == 2) {
                return;
            }
        }
        panic!("nobody has {wanted}");
    }

    /// All frames that have come in since, its own left out.
    pub fn seen(&self) -> Vec<Vec<u8>> {
        let mut frames = Vec::new();
        let mut buffer = vec![0; 70_000];
        while let Ok(length) = recv(self.socket.as_raw_fd(), &mut buffer, MsgFlags::empty()) {
            if buffer[6..12] != self.hardware {
                frames.push(buffer[..length].to_vec());
            }
        }
        frames
    }
}

/// A tag of IEEE 802.1Q.
#[derive(Clone, Copy, Debug)]
pub struct Tag(pub u16, pub u16);

/// An Ethernet frame around what stands behind its type.
pub fn ethernet(to: [u8; 6], from: [u8; 6], tags: &[Tag], kind: u16, rest: &[u8]) -> Vec<u8> {
    let mut frame = [to, from].concat();
    for Tag(protocol, id) in tags {
        frame.extend(protocol.to_be_bytes());
        frame.extend(id.to_be_bytes());
    }
    frame.extend(kind.to_be_bytes());
    frame.extend(rest);
    frame
}

/// The EtherType of an address' family.
pub fn kind_of(address: IpAddr) -> u16 {
    if address.is_ipv4() { 0x0800 } else { 0x86dd }
}

/// What an IP header says besides addresses and what it carries.
#[derive(Clone, Debug)]
pub struct Header {
    pub hops: u8,
    /// IPv4: identification and the word with the fragment's offset. IPv6: a
    /// fragment header where they are not 0.
    pub fragment: (u32, u16),
    /// IPv4 options, padded to 4 bytes.
    pub options: Vec<u8>,
    /// IPv6 extension headers by their numbers, in order; each whole, its first byte left open.
    pub extensions: Vec<(u8, Vec<u8>)>,
}

impl Default for Header {
    fn default() -> Self {
        Self { hops: 64, fragment: (0, 0), options: Vec::new(), extensions: Vec::new() }
    }
}

/// The ones' complement sum of RFC 1071 over several pieces of even length.
pub fn checksum(pieces: &[&[u8]]) -> u16 {
    let mut sum = 0u32;
    for piece in pieces {
        for pair in piece.chunks(2) {
            sum += u32::from(u16::from_be_bytes([pair[0], *pair.get(1).unwrap_or(&0)]));
        }
    }
    while sum >> 16 != 0 {
        sum = (sum & 0xffff) + (sum >> 16);
    }
    !(sum as u16)
}

/// An IP packet, from its header on. A piece that others follow is filled to a
/// multiple of 8 bytes.
pub fn ip(from: IpAddr, to: IpAddr, protocol: u8, payload: &[u8], header: &Header) -> Vec<u8> {
    let more = if from.is_ipv4() { 0x2000 } else { 1 };
    let mut payload = payload.to_vec();
    if header.fragment.1 & more != 0 {
        payload.resize(payload.len().next_multiple_of(8), 0);
    }
    match (from, to) {
        (IpAddr::V4(from), IpAddr::V4(to)) => {
            let length = 20 + header.options.len();
            let mut bytes = vec![0x40 | (length / 4) as u8, 0];
            bytes.extend(((length + payload.len()) as u16).to_be_bytes());
            bytes.extend((header.fragment.0 as u16).to_be_bytes());
            bytes.extend(header.fragment.1.to_be_bytes());
            bytes.extend([header.hops, protocol, 0, 0]);
            bytes.extend(from.octets());
            bytes.extend(to.octets());
            bytes.extend(&header.options);
            let sum = checksum(&[&bytes]).to_be_bytes();
            bytes[10..12].copy_from_slice(&sum);
            bytes.extend(payload);
            bytes
        }
        (IpAddr::V6(from), IpAddr::V6(to)) => {
            let mut chain = header.extensions.clone();
            if header.fragment != (0, 0) {
                let mut fragment = vec![0, 0];
                fragment.extend(header.fragment.1.to_be_bytes());
                fragment.extend(header.fragment.0.to_be_bytes());
                chain.push((44, fragment));
            }
            let mut next = protocol;
            let mut rest = payload;
            for (number, mut bytes) in chain.into_iter().rev() {
                bytes[0] = next;
                next = number;
                rest = [bytes, rest].concat();
            }
            let mut bytes = vec![0x60, 0, 0, 0];
            bytes.extend((rest.len() as u16).to_be_bytes());
            bytes.extend([next, header.hops]);
            bytes.extend(from.octets());
            bytes.extend(to.octets());
            bytes.extend(rest);
            bytes
        }
        _ => panic!("two families"),
    }
}

/// The checksum of a transport header at `at` in it, over its pseudo-header.
fn summed(from: IpAddr, to: IpAddr, protocol: u8, mut bytes: Vec<u8>, at: usize) -> Vec<u8> {
    let length = (bytes.len() as u32).to_be_bytes();
    let numbers = [0, 0, 0, protocol];
    let sum = match (from, to) {
        (IpAddr::V4(a), IpAddr::V4(b)) => {
            checksum(&[&a.octets(), &b.octets(), &numbers, &length, &bytes])
        }
        (IpAddr::V6(a), IpAddr::V6(b)) => {
            checksum(&[&a.octets(), &b.octets(), &numbers, &length, &bytes])
        }
        _ => panic!("two families"),
    };
    bytes[at..at + 2].copy_from_slice(&sum.to_be_bytes());
    bytes
}

/// A TCP segment.
pub fn tcp(from: (IpAddr, u16), to: (IpAddr, u16), flags: u8, numbers: (u32, u32)) -> Vec<u8> {
    let mut bytes = [from.1.to_be_bytes(), to.1.to_be_bytes()].concat();
    bytes.extend(numbers.0.to_be_bytes());
    bytes.extend(numbers.1.to_be_bytes());
    bytes.extend([0x50, flags, 0xff, 0xff, 0, 0, 0, 0]);
    summed(from.0, to.0, 6, bytes, 16)
}

/// A UDP datagram.
pub fn udp(from: (IpAddr, u16), to: (IpAddr, u16), payload: &[u8]) -> Vec<u8> {
    let mut bytes = [from.1.to_be_bytes(), to.1.to_be_bytes()].concat();
    bytes.extend(((8 + payload.len()) as u16).to_be_bytes());
    bytes.extend([0, 0]);
    bytes.extend(payload);
    summed(from.0, to.0, 17, bytes, 6)
}

/// An ICMP message: 58 in its pseudo-header for IPv6, none for IPv4.
pub fn icmp(from: IpAddr, to: IpAddr, kind: u8, code: u8, rest: &[u8]) -> Vec<u8> {
    let mut bytes = vec![kind, code, 0, 0];
    bytes.extend(rest);
    if from.is_ipv6() {
        return summed(from, to, 58, bytes, 2);
    }
    let sum = checksum(&[&bytes]).to_be_bytes();
    bytes[2..4].copy_from_slice(&sum);
    bytes
}

/// An echo request.
pub fn ping(from: IpAddr, to: IpAddr, id: u16) -> Vec<u8> {
    let kind = if from.is_ipv4() { 8 } else { 128 };
    icmp(from, to, kind, 0, &[&id.to_be_bytes()[..], &[0, 1], b"larkfield"].concat())
}

/// The number of ICMP for a family.
pub fn icmp_number(address: IpAddr) -> u8 {
    if address.is_ipv4() { 1 } else { 58 }
}
