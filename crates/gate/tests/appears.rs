//! Interfaces that appear after a post, with a new number or an old one: from
//! their first packet nothing comes in that the orders deny, nothing is
//! answered, and nothing passes through.

#![allow(clippy::unwrap_used)]

use std::net::{IpAddr, Ipv4Addr, TcpListener, UdpSocket};
use std::os::fd::AsFd;
use std::time::Duration;

use tipstaff_gate::Gate;
use tipstaff_gate::kernel::{KernelGate, Shortfall, shortfalls};
use tipstaff_host::interfaces;
use tipstaff_host::lab::{self, Mounts, Space};
use tipstaff_testing::{
    scene::{inside_with_wire, orders, post},
    wire::{self, Header, Wire},
};

const NEAR: [&str; 2] = ["203.0.113.1", "2001:db8:113::1"];
const FAR: [&str; 2] = ["203.0.113.30", "2001:db8:113::30"];
const NUMBER: u32 = 900;
/// Set, the gate does as on a kernel before 6.2.
const OLDER: &str = "TIPSTAFF_TEST_OLDER_KERNEL";
/// Set, it does as on one before 6.15 that is locked down for confidentiality.
const LOCKED_DOWN: &str = "TIPSTAFF_TEST_LOCKED_DOWN";

fn ip(text: &str) -> IpAddr {
    text.parse().unwrap()
}

fn v4(text: &str) -> Ipv4Addr {
    text.parse().unwrap()
}

/// A cable to a new namespace; its far end, and the hardware address here.
fn plug(space: &Space) -> (Wire, [u8; 6]) {
    lab::cable_numbered("ts-e", NUMBER, "ts-f", space.as_fd()).unwrap();
    let wire = space
        .run(|| {
            std::fs::write("/proc/sys/net/ipv6/conf/all/disable_ipv6", "1").unwrap();
            lab::up("ts-f").unwrap();
            Wire::on("ts-f")
        })
        .unwrap();
    lab::up("ts-e").unwrap();
    for ((address, prefix), far) in NEAR.into_iter().zip([24, 64]).zip(FAR) {
        lab::address("ts-e", ip(address), prefix).unwrap();
        lab::neighbour("ts-e", ip(far), wire.hardware).unwrap();
    }
    let all = interfaces::list().unwrap();
    let near = all.iter().find(|i| i.name == "ts-e").unwrap();
    assert_eq!(near.index, NUMBER);
    wire.wait_for(v4(FAR[0]), v4(NEAR[0]));
    (wire, near.hardware.unwrap())
}

/// Whether it is a TCP reset over IPv6.
fn reset_of_six(frame: &[u8]) -> bool {
    frame[12..14] == [0x86, 0xdd] && frame[20] == 6 && frame[67] & 4 != 0
}

/// What comes back for a knock of each kind, on open and on closed ports: the
/// resets over IPv6, and the rest.
fn answers(wire: &Wire, near: [u8; 6]) -> (usize, usize) {
    wire.seen();
    for family in 0..2 {
        let (from, to) = (ip(FAR[family]), ip(NEAR[family]));
        let number = wire::icmp_number(from);
        for (protocol, payload) in [
            (6, wire::tcp((from, 40_000), (to, 7420), 0x02, (1, 0))),
            (6, wire::tcp((from, 40_000), (to, 9), 0x02, (1, 0))),
            (6, wire::tcp((from, 40_001), (to, 9), 0x10, (1, 1))),
            (17, wire::udp((from, 40_000), (to, 9), b"?")),
            (17, wire::udp((from, 40_000), (to, 7420), b"?")),
            (number, wire::ping(from, to, 7)),
        ] {
            let packet = wire::ip(from, to, protocol, &payload, &Header::default());
            wire.send(&wire::ethernet(near, wire.hardware, &[], wire::kind_of(from), &packet));
        }
    }
    std::thread::sleep(Duration::from_millis(20));
    let answer = |frame: &Vec<u8>| match frame[12..14] {
        [8, 0] => true,
        [0x86, 0xdd] => frame[20] != 0 && !(frame[20] == 58 && (130..=143).contains(&frame[54])),
        _ => false,
    };
    let (resets, rest): (Vec<_>, Vec<_>) =
        wire.seen().into_iter().filter(answer).partition(|f| reset_of_six(f));
    // Half open, a connection would be answered once more a second later, after a post
    // where that is slow.
    for family in 0..2 {
        let (from, to) = (ip(FAR[family]), ip(NEAR[family]));
        let reset = wire::tcp((from, 40_000), (to, 7420), 0x04, (2, 0));
        let packet = wire::ip(from, to, 6, &reset, &Header::default());
        wire.send(&wire::ethernet(near, wire.hardware, &[], wire::kind_of(from), &packet));
    }
    (resets.len(), rest.len())
}

fn heard(socket: &UdpSocket) -> usize {
    std::iter::from_fn(|| socket.recv(&mut [0; 64]).ok()).count()
}

#[test]
fn a_new_interface_answers_nothing_and_an_old_number_means_nothing() {
    inside_with_wire(|scene| {
        let _listener = TcpListener::bind("[::]:7420").unwrap();
        let socket = UdpSocket::bind("[::]:7420").unwrap();
        socket.set_read_timeout(Some(Duration::from_millis(1))).unwrap();
        let space = Space::new(Mounts::Shared).unwrap();
        let (wire, near) = plug(&space);
        if without_second_line() {
            return;
        }
        // Without a gate all of it is answered, but the datagram that is taken.
        assert_eq!((answers(&wire, near), heard(&socket)), ((2, 8), 2));
        let mut gate = KernelGate::new(&scene.run_dir).unwrap();
        let before: Vec<_> =
            interfaces::list().unwrap().into_iter().filter(|i| i.name != "ts-e").collect();
        post(&mut gate, &orders(""), &before).unwrap();
        // The kernel's resets over IPv6 belong to no socket: nothing but a program at the
        // device sees them. docs/security.md says so.
        let first = (answers(&wire, near), heard(&socket));
        assert_eq!(first, ((2, 0), 0), "it was not there at the post");
        post(&mut gate, &orders(""), &interfaces::list().unwrap()).unwrap();
        assert_eq!((answers(&wire, near), heard(&socket)), ((0, 0), 0), "it has its gate");
        lab::unplug("ts-e").unwrap();
        let other = Space::new(Mounts::Shared).unwrap();
        let (wire, near) = plug(&other);
        let again = (answers(&wire, near), heard(&socket));
        // Played on a newer kernel, an older one does not see where filters stand.
        if !is_played(OLDER) {
            assert_eq!(again, ((2, 0), 0), "its number came again");
        }
        // Nor does anything pass through from there.
        std::fs::write("/proc/sys/net/ipv4/ip_forward", "1").unwrap();
        let (from, to) = (ip(FAR[0]), ip("198.51.100.1"));
        let datagram = wire::udp((from, 40_000), (to, 7420), b"?");
        let packet = wire::ip(from, to, 17, &datagram, &Header::default());
        scene.wire.seen();
        wire.send(&wire::ethernet(near, wire.hardware, &[], 0x0800, &packet));
        std::thread::sleep(Duration::from_millis(10));
        assert!(!scene.wire.seen().iter().any(|frame| frame[12..14] == [8, 0]));
        gate.withdraw().unwrap();
        wire.send(&wire::ethernet(near, wire.hardware, &[], 0x0800, &packet));
        std::thread::sleep(Duration::from_millis(10));
        assert!(scene.wire.seen().iter().any(|frame| frame[12..14] == [8, 0]));
    });
}

/// An interface that appears behind a post is guarded from its first packet.
#[test]
fn a_new_interface_is_guarded_by_the_second_line() {
    tipstaff_testing::scene::inside(|run_dir, all| {
        if without_second_line() {
            return;
        }
        let mut gate = KernelGate::new(&run_dir).unwrap();
        let closed = orders("").replace("outbound = \"allow\"", "outbound = \"deny\"");
        // As if the cable had come later.
        let before: Vec<_> = all.iter().filter(|i| i.name != "ts-a").cloned().collect();
        post(&mut gate, &closed, &before).unwrap();
        let refused = |to: &str| {
            let own = if to.starts_with('[') { "[::]:0" } else { "0.0.0.0:0" };
            let sent = UdpSocket::bind(own).unwrap().send_to(b"plate", to);
            sent.map(drop).map_err(|e| e.kind())
        };
        assert_eq!(refused("198.51.100.1:7410"), Err(std::io::ErrorKind::PermissionDenied));
        assert_eq!(refused("[2001:db8:51::1]:7410"), Err(std::io::ErrorKind::PermissionDenied));
        post(&mut gate, &closed, &interfaces::list().unwrap()).unwrap();
        assert_eq!(refused("198.51.100.1:7410"), Err(std::io::ErrorKind::PermissionDenied));
        gate.withdraw().unwrap();
        assert_eq!(refused("198.51.100.1:7410"), Ok(()));
    });
}

/// The same on a kernel that cannot be asked for the namespace of a packet, and on one
/// that lets no program copy its memory either.
#[test]
fn a_kernel_that_is_not_to_be_asked_is_read() {
    if is_played(OLDER) || is_played(LOCKED_DOWN) {
        return;
    }
    for played in [&[OLDER][..], &[LOCKED_DOWN], &[OLDER, LOCKED_DOWN]] {
        let mut again = std::process::Command::new(std::env::current_exe().unwrap());
        let output = again.envs(played.iter().map(|name| (name, "1"))).output().unwrap();
        let told = String::from_utf8_lossy(&output.stdout);
        assert!(output.status.success(), "{played:?}: {told}");
    }
}

fn is_played(kernel: &str) -> bool {
    std::env::var_os(kernel).is_some()
}

/// Before Linux 6.2 there are no typed pointers, and locked down no copies.
fn without_second_line() -> bool {
    (is_played(OLDER) || is_older()) && is_played(LOCKED_DOWN)
}

/// Whether this kernel is one before 6.2 by itself.
fn is_older() -> bool {
    let name = nix::sys::utsname::uname().unwrap();
    let release = name.release().to_string_lossy().into_owned();
    let mut parts = release.split(|c: char| !c.is_ascii_digit()).map(str::parse);
    let mut part = || parts.next().unwrap().unwrap();
    (part(), part()) < (6u32, 2)
}

/// Sockets bear no tags there; rules by program are refused in a sentence.
#[test]
fn where_no_memory_may_be_copied_rules_by_program_are_refused() {
    if !is_played(LOCKED_DOWN) {
        return;
    }
    tipstaff_testing::scene::inside(|run_dir, all| {
        let mut gate = KernelGate::new(&run_dir).unwrap();
        let rule = "[[rules]]\nname = \"plates\"\naction = \"allow\"\ntraffic = \"tcp/7420\"\n\
                    program = \"/usr/sbin/plated\"\n";
        let refused = post(&mut gate, &orders(rule), &all).unwrap_err().to_string();
        assert!(
            refused.contains("`program = /usr/sbin/plated` cannot be put in force"),
            "{refused}"
        );
        assert!(
            refused.contains("lockdown=confidentiality") && !refused.contains('\n'),
            "{refused}"
        );
        // What leaves is decided without, and the second line is there.
        let closed = orders("").replace("outbound = \"allow\"", "outbound = \"deny\"");
        post(&mut gate, &closed, &all).unwrap();
        let in_force = gate.in_force().unwrap().unwrap();
        assert_eq!(in_force.second_line, !without_second_line());
        let told = shortfalls(&in_force, &all);
        assert_eq!(told.contains(&Shortfall::NoSecondLine), without_second_line(), "{told:?}");
        assert_eq!(told.contains(&Shortfall::NoTypes), without_second_line(), "{told:?}");
    });
}
