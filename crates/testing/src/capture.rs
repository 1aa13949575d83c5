//! Captures that are made, and never were on a wire.

/// Magic of a pcap file with microseconds, and with nanoseconds.
pub const MICRO: u32 = 0xa1b2_c3d4;
pub const NANO: u32 = 0xa1b2_3c4d;

/// Of the Internet, over an even number of bytes (RFC 1071).
pub fn checksum(bytes: &[u8]) -> [u8; 2] {
    let sum: u32 = bytes.chunks(2).map(|two| u32::from(two[0]) << 8 | u32::from(two[1])).sum();
    let sum = (sum >> 16) + (sum & 0xffff);
    (!((sum + (sum >> 16)) as u16)).to_be_bytes()
}

/// An IPv4 packet.
pub fn packet(source: [u8; 4], destination: [u8; 4], protocol: u8, payload: &[u8]) -> Vec<u8> {
    let mut ip = vec![0x45, 0];
    ip.extend((20 + payload.len() as u16).to_be_bytes());
    ip.extend([0, 1, 0, 0, 64, protocol, 0, 0]);
    ip.extend(source);
    ip.extend(destination);
    let sum = checksum(&ip);
    ip[10..12].copy_from_slice(&sum);
    ip.extend(payload);
    ip
}

/// A TCP segment without data.
pub fn tcp(source: [u8; 4], destination: [u8; 4], ports: (u16, u16), flags: u8) -> Vec<u8> {
    let mut segment = [ports.0.to_be_bytes(), ports.1.to_be_bytes()].concat();
    segment.extend([0, 0, 0, 1, 0, 0, 0, 0, 0x50, flags, 4, 0, 0, 0, 0, 0]);
    packet(source, destination, 6, &segment)
}

/// A datagram of one byte.
pub fn udp(source: [u8; 4], destination: [u8; 4], ports: (u16, u16)) -> Vec<u8> {
    let mut datagram = [ports.0.to_be_bytes(), ports.1.to_be_bytes()].concat();
    datagram.extend([0, 9, 0, 0, 1]);
    packet(source, destination, 17, &datagram)
}

/// What stands before an IP packet.
pub fn framed(link: u16, ip: &[u8]) -> Vec<u8> {
    let head: &[u8] = match link {
        1 => &[2, 0, 0, 0, 0, 1, 2, 0, 0, 0, 0, 2, 8, 0],
        113 => &[0, 0, 0, 1, 0, 6, 2, 0, 0, 0, 0, 2, 0, 0, 8, 0],
        276 => &[8, 0, 0, 0, 0, 0, 0, 2, 0, 1, 0, 6, 2, 0, 0, 0, 0, 2, 0, 0],
        _ => &[],
    };
    [head, ip].concat()
}

/// A pcap file, a second between packets.
pub fn pcap(link: u16, magic: u32, big: bool, packets: &[Vec<u8>]) -> Vec<u8> {
    let word = |n: u32| if big { n.to_be_bytes() } else { n.to_le_bytes() };
    let half = |n: u16| if big { n.to_be_bytes() } else { n.to_le_bytes() };
    let mut out = word(magic).to_vec();
    out.extend([half(2), half(4)].concat());
    for n in [0, 0, 65_535, u32::from(link)] {
        out.extend(word(n));
    }
    for (n, ip) in packets.iter().enumerate() {
        let frame = framed(link, ip);
        let length = frame.len() as u32;
        for n in [1_795_000_000 + n as u32, 500, length, length] {
            out.extend(word(n));
        }
        out.extend(frame);
    }
    out
}

/// A night at Larkfield's plate archive, before there were orders: the partner fetches
/// plates, a desk and the night shift have a shell, the sky camera is watched; a guest reads
/// the weather and is answered; a stranger knocks on whatever may be there.
pub fn night() -> Vec<u8> {
    const ARCHIVE: [u8; 4] = [198, 51, 100, 20];
    const PARTNER: [u8; 4] = [203, 0, 113, 9];
    const NIGHT_SHIFT: [u8; 4] = [203, 0, 113, 44];
    const DESK: [u8; 4] = [198, 51, 100, 23];
    const VISITOR: [u8; 4] = [198, 51, 100, 140];
    const GUEST: [u8; 4] = [192, 0, 2, 101];
    const STRANGER: [u8; 4] = [192, 0, 2, 66];
    fn talk(from: [u8; 4], ports: (u16, u16)) -> Vec<Vec<u8>> {
        let (there, back) = (ports, (ports.1, ports.0));
        let mut all = vec![tcp(from, ARCHIVE, there, 2), tcp(ARCHIVE, from, back, 0x12)];
        for _ in 0..3 {
            all.push(tcp(from, ARCHIVE, there, 0x10));
            all.push(tcp(ARCHIVE, from, back, 0x18));
        }
        all.push(tcp(from, ARCHIVE, there, 0x11));
        all
    }
    let mut all = Vec::new();
    for hour in 0..8u16 {
        all.extend(talk(PARTNER, (40_000 + hour, 7410)));
        all.extend(talk(GUEST, (41_000 + hour, 7430)));
        all.push(udp(DESK, ARCHIVE, (42_000, 7420)));
        all.push(udp(ARCHIVE, DESK, (7420, 42_000)));
        for port in [22, 23, 80, 3389, 5432] {
            all.push(tcp(STRANGER, ARCHIVE, (43_000 + hour, port), 2));
            all.push(tcp(ARCHIVE, STRANGER, (port, 43_000 + hour), 0x14));
        }
    }
    all.extend(talk(NIGHT_SHIFT, (44_000, 22)));
    all.extend(talk(DESK, (44_001, 22)));
    all.extend(talk(VISITOR, (44_002, 22)));
    pcap(1, MICRO, false, &all)
}
