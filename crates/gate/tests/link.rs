//! What stands between the wire and an IP header: tags behind tags, other
//! protocols of the link. Real frames on a real cable, with everything denied.

#![allow(clippy::unwrap_used)]

use std::net::{IpAddr, UdpSocket};
use std::time::Duration;

use tipstaff_core::decision::Speaker;
use tipstaff_core::decision::foundations::Foundation;
use tipstaff_gate::Gate;
use tipstaff_gate::kernel::KernelGate;
use tipstaff_testing::{
    scene::{OWN, STRANGER, Scene, inside_with_wire, orders, post},
    wire::{self, Header, Tag, kind_of},
};

/// Priority tags (VLAN 0) that the kernel strips one after another, in front
/// of what it then delivers.
const STACKS: [&[Tag]; 5] = [
    &[Tag(0x8100, 0)],
    &[Tag(0x8100, 0), Tag(0x8100, 0)],
    &[Tag(0x88a8, 0), Tag(0x8100, 0)],
    &[Tag(0x8100, 0xe000), Tag(0x88a8, 0)],
    &[Tag(0x8100, 0), Tag(0x8100, 0x2000), Tag(0x8100, 0)],
];

/// A socket of each kind that would get what is let in.
struct Ears(Vec<UdpSocket>, #[allow(dead_code)] Vec<std::net::TcpListener>);

impl Ears {
    fn new() -> Self {
        let any = |port| [format!("0.0.0.0:{port}"), format!("[::]:{port}")];
        let udp = any(7420).into_iter().map(|at| {
            let domain =
                if at.starts_with('[') { socket2::Domain::IPV6 } else { socket2::Domain::IPV4 };
            let socket = socket2::Socket::new(domain, socket2::Type::DGRAM, None).unwrap();
            if domain == socket2::Domain::IPV6 {
                socket.set_only_v6(true).unwrap();
            }
            socket.bind(&at.parse::<std::net::SocketAddr>().unwrap().into()).unwrap();
            socket.set_read_timeout(Some(Duration::from_millis(1))).unwrap();
            UdpSocket::from(socket)
        });
        let tcp = ["0.0.0.0:22"].map(|at| std::net::TcpListener::bind(at).unwrap());
        let six = {
            let socket =
                socket2::Socket::new(socket2::Domain::IPV6, socket2::Type::STREAM, None).unwrap();
            socket.set_only_v6(true).unwrap();
            socket.bind(&"[::]:22".parse::<std::net::SocketAddr>().unwrap().into()).unwrap();
            socket.listen(8).unwrap();
            std::net::TcpListener::from(socket)
        };
        Self(udp.collect(), tcp.into_iter().chain([six]).collect())
    }

    /// How many datagrams came in.
    fn heard(&self) -> usize {
        let mut buffer = [0; 64];
        self.0.iter().map(|ear| std::iter::from_fn(|| ear.recv(&mut buffer).ok()).count()).sum()
    }
}

/// A knock of each kind on an own address, or on another machine's.
fn knocks(from: IpAddr, to: IpAddr, port: u16) -> Vec<(u8, Vec<u8>)> {
    vec![
        (6, wire::tcp((from, port), (to, 22), 0x02, (1, 0))),
        (17, wire::udp((from, port), (to, 7420), b"plate?")),
        (wire::icmp_number(from), wire::ping(from, to, port)),
    ]
}

/// Sends each knock under each stack of tags; how many datagrams were heard,
/// and which frames came back or out.
fn played(scene: &Scene, ears: &Ears, to: [IpAddr; 2]) -> (usize, Vec<Vec<u8>>) {
    scene.wire.seen();
    for (from, to) in STRANGER.into_iter().zip(to) {
        for (nth, tags) in STACKS.into_iter().enumerate() {
            for (protocol, payload) in knocks(from, to, 40_000 + nth as u16) {
                let packet = wire::ip(from, to, protocol, &payload, &Header::default());
                let hardware = (scene.hardware, scene.wire.hardware);
                let frame = wire::ethernet(hardware.0, hardware.1, tags, kind_of(from), &packet);
                scene.wire.send(&frame);
            }
        }
    }
    std::thread::sleep(Duration::from_millis(20));
    let ip = |frame: &Vec<u8>| matches!(frame[12..14], [8, 0] | [0x86, 0xdd]);
    // Neighbours are looked for, and groups joined, whatever arrives.
    let by_itself = |frame: &Vec<u8>| {
        frame[12] == 0x86 && (frame[20] == 0 || frame[20] == 58 && (130..=143).contains(&frame[54]))
    };
    let seen = scene.wire.seen().into_iter().filter(|f| ip(f) && !by_itself(f)).collect();
    (ears.heard(), seen)
}

#[test]
fn tags_behind_tags_bring_nothing_in_and_nothing_through() {
    inside_with_wire(|scene| {
        std::fs::write("/proc/sys/net/ipv4/ip_forward", "1").unwrap();
        std::fs::write("/proc/sys/net/ipv6/conf/all/forwarding", "1").unwrap();
        let ears = Ears::new();
        // Without a gate the kernel takes all of them: otherwise this would test nothing.
        let (heard, answered) = played(&scene, &ears, OWN);
        assert_eq!(
            (heard, answered.len()),
            (2 * STACKS.len(), 4 * STACKS.len()),
            "{answered:02x?}"
        );
        let others: [IpAddr; 2] =
            ["203.0.113.9".parse().unwrap(), "2001:db8:113::9".parse().unwrap()];
        let (_, through) = played(&scene, &ears, others);
        assert_eq!(through.len(), 6 * STACKS.len());

        let mut gate = KernelGate::new(&scene.run_dir).unwrap();
        post(&mut gate, &orders(""), &scene.interfaces()).unwrap();
        for to in [OWN, others] {
            let (heard, seen) = played(&scene, &ears, to);
            assert_eq!((heard, seen.len()), (0, 0), "{seen:02x?}");
        }
        // A single priority tag is read like none, the others are counted.
        let tallies = gate.tallies().unwrap();
        let counted = tallies
            .iter()
            .find(|(speaker, _)| *speaker == Speaker::Foundation(Foundation::Unreadable))
            .unwrap();
        assert_eq!(counted.1.packets as usize, 2 * 6 * (STACKS.len() - 1));
        gate.withdraw().unwrap();
    });
}
