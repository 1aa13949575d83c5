//! Interfaces that share others: ports of a bridge, macvlan. One packet is
//! decided once, where the stack receives or sends it; frames that are only
//! bridged are no traffic of this host's.

#![allow(clippy::unwrap_used)]

use std::net::{IpAddr, UdpSocket};
use std::os::fd::AsFd;
use std::time::Duration;

use tipstaff_core::decision::Speaker;
use tipstaff_core::packet::Direction;
use tipstaff_gate::Gate;
use tipstaff_gate::kernel::KernelGate;
use tipstaff_host::interfaces;
use tipstaff_host::lab::{self, Mounts, Space};
use tipstaff_testing::{
    scene::{ROUTER, Scene, inside_with_wire, orders, post, second_cable},
    skipped,
    wire::{self, Wire},
};

/// The bridge's own addresses, another network than the cable's before.
const BRIDGE: [&str; 2] = ["198.51.100.129", "2001:db8:51:1::1"];
const GUEST: [&str; 2] = ["198.51.100.130", "2001:db8:51:1::2"];

fn ip(text: &str) -> IpAddr {
    text.parse().unwrap()
}

/// A bridge of the cable and of another one, whose far end is in hand, too.
struct Bridge {
    scene: Scene,
    other: Wire,
    _guest: Space,
    /// The bridge's hardware address, which is one of its ports'.
    hardware: [u8; 6],
}

fn on_a_bridge(test: impl FnOnce(Bridge) + Send + 'static) {
    inside_with_wire(|scene| {
        let made = lab::bridge("br0");
        if let Err(why) = made {
            skipped("bridges were", &why);
            return;
        }
        let (other, guest) = second_cable();
        for port in ["ts-a", "ts-c"] {
            lab::enslave(port, Some("br0")).unwrap();
        }
        lab::up("br0").unwrap();
        for (address, prefix) in BRIDGE.into_iter().zip([25, 64]) {
            lab::address("br0", ip(address), prefix).unwrap();
        }
        for (guest, mac) in GUEST.into_iter().map(|guest| (guest, scene.wire.hardware)) {
            lab::neighbour("br0", ip(guest), mac).unwrap();
        }
        let all = interfaces::list().unwrap();
        let hardware = all.iter().find(|i| i.name == "br0").unwrap().hardware.unwrap();
        assert!(all.iter().filter(|i| i.port).count() == 2);
        test(Bridge { scene, other, _guest: guest, hardware });
    });
}

fn datagram(from: (IpAddr, u16), to: (IpAddr, u16), hardware: ([u8; 6], [u8; 6])) -> Vec<u8> {
    let packet = wire::ip(from.0, to.0, 17, &wire::udp(from, to, b"sky?"), &Default::default());
    wire::ethernet(hardware.0, hardware.1, &[], wire::kind_of(from.0), &packet)
}

fn heard(ears: &[UdpSocket; 2], family: usize) -> usize {
    std::thread::sleep(Duration::from_millis(5));
    std::iter::from_fn(|| ears[family].recv(&mut [0; 64]).ok()).count()
}

fn ears(port: u16) -> [UdpSocket; 2] {
    BRIDGE.map(|address| {
        let socket = UdpSocket::bind((ip(address), port)).unwrap();
        socket.set_read_timeout(Some(Duration::from_millis(1))).unwrap();
        socket
    })
}

/// A guest sends to the other one with this host's address: bridged, and
/// nothing that this host sent. Its own "answer" is decided like any other.
#[test]
fn a_guest_cannot_open_the_host_by_bridging() {
    on_a_bridge(|bridge| {
        let (scene, other) = (&bridge.scene, &bridge.other);
        let mut gate = KernelGate::new(&scene.run_dir).unwrap();
        post(&mut gate, &orders(""), &scene.interfaces()).unwrap();
        let ears = ears(7420);
        for family in 0..2 {
            let (host, guest) = (ip(BRIDGE[family]), ip(GUEST[family]));
            let spoofed =
                datagram((host, 7420), (guest, 40_000), (other.hardware, scene.wire.hardware));
            other.seen();
            scene.wire.send(&spoofed);
            std::thread::sleep(Duration::from_millis(5));
            // It does go over the bridge: otherwise this would test nothing.
            assert!(other.seen().iter().any(|frame| frame[..14] == spoofed[..14]));
            let answer =
                datagram((guest, 40_000), (host, 7420), (bridge.hardware, scene.wire.hardware));
            scene.wire.send(&answer);
            other.send(&answer);
            assert_eq!(heard(&ears, family), 0, "{family}");
        }
        gate.withdraw().unwrap();
    });
}

/// What comes in over a bridge is decided once, on the bridge.
#[test]
fn what_is_for_a_bridge_is_decided_there_and_once() {
    on_a_bridge(|bridge| {
        let scene = &bridge.scene;
        is_decided_there_and_once(scene, "br0", bridge.hardware, &ears(7420));
    });
}

/// The cable becomes a port of another kind of master, which has the addresses.
fn on_a_master(kind: &str, make: fn(&str) -> std::io::Result<()>) {
    let kind = kind.to_owned();
    inside_with_wire(move |scene| {
        if let Err(why) = make("agg0") {
            skipped(&format!("{kind} were"), &why);
            return;
        }
        // Ports of these are taken while they are down.
        lab::down("ts-a").unwrap();
        lab::enslave("ts-a", Some("agg0")).unwrap();
        lab::up("ts-a").unwrap();
        lab::up("agg0").unwrap();
        for (address, prefix) in BRIDGE.into_iter().zip([25, 64]) {
            lab::address("agg0", ip(address), prefix).unwrap();
        }
        for guest in GUEST {
            lab::neighbour("agg0", ip(guest), scene.wire.hardware).unwrap();
        }
        let all = interfaces::list().unwrap();
        let own = all.iter().find(|i| i.name == "agg0").unwrap().hardware.unwrap();
        assert!(all.iter().any(|i| i.name == "ts-a" && i.port));
        let ears = ears(7420);
        carries(&scene, own, &ears);
        is_decided_there_and_once(&scene, "agg0", own, &ears);
    });
}

/// Waits until the link is looked after by the kernel.
fn carries(scene: &Scene, own: [u8; 6], ears: &[UdpSocket; 2]) {
    let begin = std::time::Instant::now();
    for family in 0..2 {
        let (host, guest) = (ip(BRIDGE[family]), ip(GUEST[family]));
        loop {
            let hardware = (own, scene.wire.hardware);
            scene.wire.send(&datagram((guest, 39_999), (host, 7420), hardware));
            if heard(ears, family) > 0 {
                break;
            }
            assert!(begin.elapsed() < Duration::from_secs(20), "it carries nothing");
        }
    }
    // Whatever was on its way.
    std::thread::sleep(Duration::from_millis(50));
    (0..2).for_each(|family| _ = heard(ears, family));
}

#[test]
fn what_is_for_a_bond_is_decided_there_and_once() {
    on_a_master("bonds", lab::bond);
}

#[test]
fn what_is_for_a_team_is_decided_there_and_once() {
    on_a_master("teams", lab::team);
}

/// A VRF has no frames of its own: what comes in by a port of it, and leaves by one,
/// is decided on that port.
#[test]
fn what_is_for_a_vrf_is_decided_on_its_port_and_once() {
    inside_with_wire(|scene| {
        if let Err(why) = lab::vrf("vrf0", 10) {
            skipped("VRFs were", &why);
            return;
        }
        lab::up("vrf0").unwrap();
        lab::enslave("ts-a", Some("vrf0")).unwrap();
        for (address, prefix) in BRIDGE.into_iter().zip([25, 64]) {
            lab::address("ts-a", ip(address), prefix).unwrap();
        }
        for guest in GUEST {
            lab::neighbour("ts-a", ip(guest), scene.wire.hardware).unwrap();
        }
        let ears = BRIDGE.map(|address| {
            let socket = socket2::Socket::new(
                socket2::Domain::for_address((ip(address), 0).into()),
                socket2::Type::DGRAM,
                None,
            )
            .unwrap();
            socket.bind_device(Some(b"vrf0")).unwrap();
            socket.bind(&std::net::SocketAddr::new(ip(address), 7420).into()).unwrap();
            socket.set_read_timeout(Some(Duration::from_millis(1))).unwrap();
            UdpSocket::from(socket)
        });
        carries(&scene, scene.hardware, &ears);
        is_decided_there_and_once(&scene, "ts-a", scene.hardware, &ears);
    });
}

/// What comes in over a master is decided once, on `name`: its rate is taken from
/// once, and so is what goes out. `own`: the hardware address that it has.
fn is_decided_there_and_once(scene: &Scene, name: &str, own: [u8; 6], ears: &[UdpSocket; 2]) {
    is_decided_once(scene, [name; 2], own, ears);
}

/// As [`is_decided_there_and_once`]: what comes in on the first, what leaves on the second.
fn is_decided_once(scene: &Scene, names: [&str; 2], own: [u8; 6], ears: &[UdpSocket; 2]) {
    let [name, leaves] = names;
    let mut gate = KernelGate::new(&scene.run_dir).unwrap();
    let rule = format!(
        "[[rules]]\nname = \"sky\"\naction = \"allow\"\ntraffic = \"udp/7420\"\n\
                interface = \"{name}\"\nat_most = \"6 per minute per source, burst 3\"\n"
    );
    post(&mut gate, &orders(&rule), &scene.interfaces()).unwrap();
    for family in 0..2 {
        let (host, guest) = (ip(BRIDGE[family]), ip(GUEST[family]));
        for nth in 0..5 {
            let hardware = (own, scene.wire.hardware);
            scene.wire.send(&datagram((guest, 40_000 + nth), (host, 7420), hardware));
        }
        assert_eq!(heard(ears, family), 3, "{family}");
    }
    let tallies = gate.tallies().unwrap();
    let counted = |wanted: fn(&Speaker) -> bool| -> u64 {
        tallies.iter().filter(|(s, _)| wanted(s)).map(|(_, t)| t.packets).sum()
    };
    assert_eq!(counted(|speaker| matches!(speaker, Speaker::Rule(_))), 6);
    assert_eq!(counted(|speaker| matches!(speaker, Speaker::Beyond(_))), 4);

    // What goes out, too; and whoever sends is told what became of it.
    let out = format!(
        "[[rules]]\nname = \"out\"\naction = \"allow\"\ndirection = \"outbound\"\n\
               traffic = \"udp/7421\"\ninterface = \"{leaves}\"\n"
    );
    let closed = orders(&out).replace("outbound = \"allow\"", "outbound = \"deny\"");
    post(&mut gate, &closed, &scene.interfaces()).unwrap();
    for family in 0..2 {
        scene.wire.seen();
        let to = ip(GUEST[family]);
        ears[family].send_to(b"sky", (to, 7421)).unwrap();
        assert!(ears[family].send_to(b"sky", (to, 7422)).is_err());
        std::thread::sleep(Duration::from_millis(5));
        let left = scene.wire.seen().into_iter().filter(|frame| {
            let (protocol, at) = if family == 0 { (frame[23], 34) } else { (frame[20], 54) };
            protocol == 17 && frame[at + 2..at + 4] == 7421u16.to_be_bytes()
        });
        assert_eq!(left.count(), 1, "{family}");
    }
    let tallies = gate.tallies().unwrap();
    let rule = tallies.iter().find(|(s, _)| matches!(s, Speaker::Rule(_))).unwrap();
    assert_eq!(rule.1.packets, 2);
    gate.withdraw().unwrap();
}

/// Groups of the link that a bridge hands to the stack on the port itself, and
/// a port that is none any more, are decided on the port.
#[test]
fn what_the_stack_receives_on_a_port_is_decided_on_the_port() {
    on_a_bridge(|bridge| {
        let scene = &bridge.scene;
        let (host, guest) = (ip(BRIDGE[0]), ip(GUEST[0]));
        let ears = ears(7420);
        let group = [0x01, 0x80, 0xc2, 0, 0, 3];
        let to_the_group = datagram((guest, 40_000), (host, 7420), (group, scene.wire.hardware));
        scene.wire.send(&to_the_group);
        assert_eq!(heard(&ears, 0), 1, "the stack takes it, where there is no gate");
        let mut gate = KernelGate::new(&scene.run_dir).unwrap();
        post(&mut gate, &orders(""), &scene.interfaces()).unwrap();
        scene.wire.send(&to_the_group);
        assert_eq!(heard(&ears, 0), 0);
        // The cable leaves the bridge; nobody has posted since.
        lab::enslave("ts-a", None).unwrap();
        let all = interfaces::list().unwrap();
        let own = all.iter().find(|i| i.name == "ts-a").unwrap().hardware.unwrap();
        let to_us = datagram((guest, 40_000), (host, 7420), (own, scene.wire.hardware));
        scene.wire.send(&to_us);
        let ping = wire::ping(guest, ip("198.51.100.20"), 7);
        let ping = wire::ip(guest, ip("198.51.100.20"), 1, &ping, &Default::default());
        scene.wire.seen();
        scene.wire.send(&wire::ethernet(own, scene.wire.hardware, &[], 0x0800, &ping));
        assert_eq!(heard(&ears, 0), 0);
        assert!(!scene.wire.seen().iter().any(|frame| frame[12..14] == [8, 0]));
        gate.withdraw().unwrap();
    });
}

/// macvlan, in this namespace and in another one: each packet is decided on
/// the interface that has it, and another namespace's not at all.
#[test]
fn macvlan_is_decided_where_it_belongs() {
    inside_with_wire(|scene| {
        if let Err(why) = lab::macvlan("mv0", "ts-a", None) {
            skipped("macvlan was", &why);
            return;
        }
        let container = Space::new(Mounts::Shared).unwrap();
        lab::macvlan("mv1", "ts-a", Some(container.as_fd())).unwrap();
        let (peer, far_mac) = (ip("198.51.100.200"), scene.wire.hardware);
        lab::up("mv0").unwrap();
        lab::address("mv0", ip("203.0.113.20"), 24).unwrap();
        lab::neighbour("mv0", ip("203.0.113.9"), far_mac).unwrap();
        container
            .run(move || {
                lab::up("mv1").unwrap();
                lab::address("mv1", ip("198.51.100.21"), 24).unwrap();
                lab::neighbour("mv1", peer, far_mac).unwrap();
            })
            .unwrap();
        let mut gate = KernelGate::new(&scene.run_dir).unwrap();
        let rules = "[[rules]]\nname = \"in\"\naction = \"allow\"\ntraffic = \"udp/7420\"\n\
                     interface = \"mv0\"\nat_most = \"6 per minute per source, burst 3\"\n\
                     [[rules]]\nname = \"out\"\naction = \"allow\"\ndirection = \"outbound\"\n\
                     traffic = \"udp/7421\"\ninterface = \"mv0\"\n";
        let text = orders(rules).replace("outbound = \"allow\"", "outbound = \"deny\"");
        post(&mut gate, &text, &scene.interfaces()).unwrap();
        let all = scene.interfaces();
        let own = all.iter().find(|i| i.name == "mv0").unwrap().hardware.unwrap();
        let socket = UdpSocket::bind("203.0.113.20:7420").unwrap();
        socket.set_read_timeout(Some(Duration::from_millis(1))).unwrap();
        for nth in 0..5 {
            let (from, to) = ((ip("203.0.113.9"), 40_000 + nth), (ip("203.0.113.20"), 7420));
            scene.wire.send(&datagram(from, to, (own, far_mac)));
        }
        std::thread::sleep(Duration::from_millis(5));
        assert_eq!(std::iter::from_fn(|| socket.recv(&mut [0; 64]).ok()).count(), 3);
        socket.send_to(b"sky", "203.0.113.9:7421").unwrap();
        assert!(socket.send_to(b"sky", "203.0.113.9:7422").is_err());
        // The parent's own traffic is the parent's.
        let beside = UdpSocket::bind("198.51.100.20:0").unwrap();
        assert!(beside.send_to(b"sky", (ROUTER[0], 7421)).is_err());
        // The container's leaves, whatever this host may not.
        scene.wire.seen();
        container
            .run(move || UdpSocket::bind("198.51.100.21:0").unwrap().send_to(b"sky", (peer, 7422)))
            .unwrap()
            .unwrap();
        std::thread::sleep(Duration::from_millis(5));
        let left = |frame: &&Vec<u8>| frame[12..14] == [8, 0] && frame[23] == 17;
        assert_eq!(scene.wire.seen().iter().filter(left).count(), 1);
        let tallies = gate.tallies().unwrap();
        let of = |speaker: Speaker| {
            tallies.iter().find(|(s, _)| *s == speaker).map_or(0, |(_, tally)| tally.packets)
        };
        let rule = |n| Speaker::Rule(tipstaff_core::brief::RuleIndex(n));
        assert_eq!((of(rule(0)), of(rule(1))), (3, 1));
        assert_eq!(of(Speaker::Standing(Direction::Outbound)), 2);
        gate.withdraw().unwrap();
    });
}

/// ipvlan: its interfaces have the parent's hardware address. What comes in for them is
/// decided on the parent, once, also for another namespace; what leaves by one on that
/// one, and what another namespace sends is not this host's.
#[test]
fn ipvlan_is_decided_where_it_belongs() {
    inside_with_wire(|scene| {
        if let Err(why) = lab::ipvlan("iv0", "ts-a", None) {
            skipped("ipvlan was", &why);
            return;
        }
        let container = Space::new(Mounts::Shared).unwrap();
        lab::ipvlan("iv1", "ts-a", Some(container.as_fd())).unwrap();
        let (peer, far_mac) = (ip("198.51.100.200"), scene.wire.hardware);
        lab::up("iv0").unwrap();
        for (address, prefix) in BRIDGE.into_iter().zip([25, 64]) {
            lab::address("iv0", ip(address), prefix).unwrap();
        }
        for guest in GUEST {
            lab::neighbour("iv0", ip(guest), far_mac).unwrap();
        }
        container
            .run(move || {
                lab::up("iv1").unwrap();
                lab::address("iv1", ip("198.51.100.21"), 24).unwrap();
                lab::neighbour("iv1", peer, far_mac).unwrap();
            })
            .unwrap();
        let ears = ears(7420);
        carries(&scene, scene.hardware, &ears);
        is_decided_once(&scene, ["ts-a", "iv0"], scene.hardware, &ears);
        // The container's leaves, whatever this host may not.
        let mut gate = KernelGate::new(&scene.run_dir).unwrap();
        let closed = orders("").replace("outbound = \"allow\"", "outbound = \"deny\"");
        post(&mut gate, &closed, &scene.interfaces()).unwrap();
        scene.wire.seen();
        container
            .run(move || UdpSocket::bind("198.51.100.21:0").unwrap().send_to(b"sky", (peer, 7422)))
            .unwrap()
            .unwrap();
        std::thread::sleep(Duration::from_millis(20));
        let left = |frame: &&Vec<u8>| frame[12..14] == [8, 0] && frame[23] == 17;
        assert_eq!(scene.wire.seen().iter().filter(left).count(), 1);
        // The parent's own does not.
        let beside = UdpSocket::bind("198.51.100.20:0").unwrap();
        assert!(beside.send_to(b"sky", (ROUTER[0], 7421)).is_err());
        gate.withdraw().unwrap();
    });
}

/// A macvlan that passes all through has its parent's hardware address, too.
#[test]
fn what_a_macvlan_passes_through_is_decided_on_its_parent_and_once() {
    inside_with_wire(|scene| {
        if let Err(why) = lab::passthrough("mp0", "ts-a") {
            skipped("macvlan was", &why);
            return;
        }
        lab::up("mp0").unwrap();
        for (address, prefix) in BRIDGE.into_iter().zip([25, 64]) {
            lab::address("mp0", ip(address), prefix).unwrap();
        }
        for guest in GUEST {
            lab::neighbour("mp0", ip(guest), scene.wire.hardware).unwrap();
        }
        let ears = ears(7420);
        carries(&scene, scene.hardware, &ears);
        is_decided_once(&scene, ["ts-a", "mp0"], scene.hardware, &ears);
    });
}
