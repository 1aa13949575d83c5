//! Programs that write their own packets (CAP_NET_RAW: a container on the
//! host's network): what may not leave does not leave, whatever kind of socket
//! it is put into and however it is marked.

#![allow(clippy::unwrap_used)]

use std::net::{IpAddr, SocketAddr, UdpSocket};
use std::time::Duration;

use nix::sys::socket::sockopt;
use socket2::{Domain, Protocol, SockAddr, Socket, Type};
use tipstaff_gate::Gate;
use tipstaff_gate::kernel::KernelGate;
use tipstaff_testing::{
    scene::{OWN, STRANGER, Scene, inside_with_wire, orders, post},
    wire::{self, Header, Tag, Wire},
};

/// Marks that once passed everything; now they are numbers like others.
const OLD_MARKS: [u32; 2] = [0x7469_706b, 0x7469_7073];

fn closed() -> String {
    orders("").replace("outbound = \"allow\"", "outbound = \"deny\"")
}

/// Frames of IP that left this host.
fn left(scene: &Scene) -> usize {
    std::thread::sleep(Duration::from_millis(10));
    // What the host says by itself: whom it looks for, and which groups it listens to.
    let neighbours =
        |frame: &[u8]| frame[20] == 0 || frame[20] == 58 && (133..=137).contains(&frame[54]);
    let ip = |frame: &Vec<u8>| match frame[12..14] {
        [8, 6] => false,
        [0x86, 0xdd] => !neighbours(frame),
        _ => true,
    };
    scene.wire.seen().iter().filter(|frame| ip(frame)).count()
}

/// TCP segments that no connection of this host has to do with, and more.
fn payloads(own: IpAddr, far: IpAddr) -> Vec<(u8, Vec<u8>)> {
    let tcp = |flags| (6, wire::tcp((own, 40_000), (far, 443), flags, (1, 1)));
    // SYN, ACK, data, FIN, RST, RST with ACK, SYN with ACK.
    let mut all: Vec<_> = [0x02, 0x10, 0x18, 0x11, 0x04, 0x14, 0x12].map(tcp).into();
    all.push((17, wire::udp((own, 40_000), (far, 443), b"?")));
    all.push((132, vec![0; 16]));
    all.push((wire::icmp_number(own), wire::ping(own, far, 7)));
    all
}

fn raw(of: IpAddr, protocol: u8) -> Socket {
    let domain = Domain::for_address(SocketAddr::new(of, 0));
    Socket::new(domain, Type::RAW, Some(Protocol::from(i32::from(protocol)))).unwrap()
}

#[test]
fn nothing_of_raw_sockets_leaves_that_may_not() {
    inside_with_wire(|scene| {
        let near = Wire::on("ts-a");
        let mut gate = KernelGate::new(&scene.run_dir).unwrap();
        let send_all = |mark: Option<u32>| {
            let mut sent = 0;
            for (own, far) in OWN.into_iter().zip(STRANGER) {
                let to = SockAddr::from(SocketAddr::new(far, 0));
                for (protocol, payload) in payloads(own, far) {
                    let whole = wire::ip(own, far, protocol, &payload, &Header::default());
                    let marked = |socket: &Socket| {
                        if let Some(mark) = mark {
                            nix::sys::socket::setsockopt(socket, sockopt::Mark, &mark).unwrap();
                        }
                    };
                    // By its protocol, and with a header of its own.
                    let socket = raw(own, protocol);
                    marked(&socket);
                    sent += usize::from(socket.send_to(&payload, &to).is_ok());
                    let socket = raw(own, 255);
                    marked(&socket);
                    sent += usize::from(socket.send_to(&whole, &to).is_ok());
                    // Past the host's own stack: plain and with tags, also of no network.
                    for tags in [
                        &[][..],
                        &[Tag(0x8100, 0)],
                        &[Tag(0x88a8, 0), Tag(0x8100, 0)],
                        &[Tag(0x8100, 7)],
                    ] {
                        let kind = wire::kind_of(own);
                        let frame =
                            wire::ethernet(scene.wire.hardware, scene.hardware, tags, kind, &whole);
                        near.mark(mark.unwrap_or(0));
                        sent += usize::from(near.try_send(&frame).is_ok());
                    }
                }
            }
            sent
        };
        // Without a gate all of it leaves; some of it is refused by the sockets themselves.
        let sent = send_all(None);
        let all = left(&scene);
        assert!(all > 100 && all <= sent, "{all} of {sent}");
        post(&mut gate, &closed(), &scene.interfaces()).unwrap();
        for mark in [None, Some(OLD_MARKS[0]), Some(OLD_MARKS[1]), Some(u32::MAX)] {
            send_all(mark);
            assert_eq!(left(&scene), 0, "{mark:?}");
        }
        // What may leave does, by the same sockets.
        let open = closed().replace("outbound = \"deny\"", "outbound = \"allow\"");
        post(&mut gate, &open, &scene.interfaces()).unwrap();
        send_all(None);
        assert!(left(&scene) > 20);
        gate.withdraw().unwrap();
    });
}

#[test]
fn a_mark_spares_nobody_a_rate_or_a_count() {
    inside_with_wire(|scene| {
        let mut gate = KernelGate::new(&scene.run_dir).unwrap();
        let rule = "[[rules]]\nname = \"out\"\ndirection = \"outbound\"\naction = \"allow\"\n\
                    traffic = \"udp/7420\"\nat_most = \"6 per minute in all, burst 3\"\n";
        for mark in OLD_MARKS {
            post(&mut gate, &format!("{}{rule}", closed()), &scene.interfaces()).unwrap();
            let socket = UdpSocket::bind("198.51.100.20:0").unwrap();
            nix::sys::socket::setsockopt(&socket, sockopt::Mark, &mark).unwrap();
            for port in 0..20u16 {
                // Each a flow of its own.
                let socket = UdpSocket::bind(("198.51.100.20", 30_000 + port)).unwrap();
                nix::sys::socket::setsockopt(&socket, sockopt::Mark, &mark).unwrap();
                let _ = socket.send_to(b"?", (STRANGER[0], 7420));
            }
            assert!((3..=4).contains(&left(&scene)));
            let tallies = gate.tallies().unwrap();
            let packets: u64 = tallies.iter().map(|(_, tally)| tally.packets).sum();
            assert!(packets >= 20, "{tallies:?}");
            gate.withdraw().unwrap();
        }
    });
}

/// The limit that docs/security.md tells: a packet socket may go past whatever
/// stands on the way out of an interface.
#[test]
fn a_packet_socket_can_go_past_the_way_out() {
    inside_with_wire(|scene| {
        let near = Wire::on("ts-a");
        let mut gate = KernelGate::new(&scene.run_dir).unwrap();
        post(&mut gate, &closed(), &scene.interfaces()).unwrap();
        let datagram = wire::udp((OWN[0], 40_000), (STRANGER[0], 443), b"?");
        let packet = wire::ip(OWN[0], STRANGER[0], 17, &datagram, &Header::default());
        let frame = wire::ethernet(scene.wire.hardware, scene.hardware, &[], 0x0800, &packet);
        let _ = near.try_send(&frame);
        assert_eq!(left(&scene), 0);
        near.bypass_queues();
        near.try_send(&frame).unwrap();
        assert_eq!(left(&scene), 1);
        gate.withdraw().unwrap();
    });
}
