//! A host that forwards for others, with addresses translated on the way. The
//! translating itself is the kernel's business; what the gate meets on either
//! side of it is played here as test runs.

#![allow(clippy::unwrap_used)]

use std::net::Ipv4Addr;
use std::os::fd::AsFd;

use tipstaff_core::decision::Speaker;
use tipstaff_core::decision::foundations::Foundation;
use tipstaff_core::orders::Action;
use tipstaff_core::packet::{Direction, InterfaceIndex};
use tipstaff_gate::Gate;
use tipstaff_gate::kernel::{KernelGate, Note};
use tipstaff_host::interfaces;
use tipstaff_host::lab::{self, Mounts, Space};
use tipstaff_testing::scene::{inside, orders, post};

const OWN: Ipv4Addr = Ipv4Addr::new(198, 51, 100, 20);
const WORLD: Ipv4Addr = Ipv4Addr::new(203, 0, 113, 9);
const INNER: Ipv4Addr = Ipv4Addr::new(192, 0, 2, 140);

const SYN: u8 = 0x02;
const SYN_ACK: u8 = 0x12;

/// A frame of TCP (with flags) or UDP (without).
fn frame(mac: [u8; 6], from: (Ipv4Addr, u16), to: (Ipv4Addr, u16), flags: Option<u8>) -> Vec<u8> {
    let mut frame = mac.to_vec();
    let (protocol, length) = if flags.is_some() { (6, 40) } else { (17, 28) };
    frame.extend([2, 0, 0, 0, 0, 0x99, 8, 0, 0x45, 0, 0, length, 0, 1, 0, 0, 64, protocol, 0, 0]);
    frame.extend(from.0.octets());
    frame.extend(to.0.octets());
    frame.extend(from.1.to_be_bytes());
    frame.extend(to.1.to_be_bytes());
    match flags {
        Some(flags) => frame.extend([0, 0, 0, 1, 0, 0, 0, 0, 0x50, flags, 255, 255, 0, 0, 0, 0]),
        None => frame.extend([0, 8, 0, 0]),
    }
    frame
}

#[test]
fn answers_to_masqueraded_flows_come_in_and_published_ports_are_inbound() {
    inside(|run_dir, _| {
        std::fs::write("/proc/sys/net/ipv4/ip_forward", "1").unwrap();
        let inner = Space::new(Mounts::Shared).unwrap();
        lab::cable("ts-c", "c0", inner.as_fd()).unwrap();
        lab::up("ts-c").unwrap();
        lab::address("ts-c", "192.0.2.129".parse().unwrap(), 25).unwrap();
        lab::default_route("198.51.100.1".parse().unwrap()).unwrap();
        let all = interfaces::list().unwrap();
        let called = |name: &str| {
            let found = all.iter().find(|i| i.name == name).unwrap();
            (InterfaceIndex(found.index), found.hardware.unwrap())
        };
        let ((lan, lan_mac), (cage, cage_mac)) = (called("ts-a"), called("ts-c"));
        let mut gate = KernelGate::new(&run_dir).unwrap();
        let rules = "[[rules]]\nname = \"out-of-the-cage\"\naction = \"allow\"\n\
            direction = \"transit\"\ntraffic = \"any\"\ninterface = \"ts-c\"\n\
            [[rules]]\nname = \"published\"\naction = \"allow\"\ntraffic = \"tcp/8080\"\n";
        post(&mut gate, &orders(rules), &all).unwrap();
        let said = |interface, frame: &[u8]| gate.ask(interface, frame).unwrap();
        let reply = Speaker::Foundation(Foundation::Replies);

        for flags in [Some(SYN), None] {
            // Out of the cage, and translated to the host's own address where it leaves.
            let asked = frame(cage_mac, (INNER, 40_000), (WORLD, 443), flags);
            assert_eq!(said(cage, &asked).verdict, Action::Allow);
            let answer =
                |mac, to, port| frame(mac, (WORLD, 443), (to, port), flags.map(|_| SYN_ACK));
            let before = said(lan, &answer(lan_mac, OWN, 50_000));
            assert_eq!(before.speaker, Speaker::Standing(Direction::Inbound));
            let translated = frame(lan_mac, (OWN, 50_000), (WORLD, 443), flags);
            let through = Some(Note::Through);
            assert!(gate.forward(cage, lan, &translated, through).unwrap());
            assert_eq!(said(lan, &answer(lan_mac, OWN, 50_000)).speaker, reply);
            // To another port, or from another sender, it answers nothing.
            assert_eq!(said(lan, &answer(lan_mac, OWN, 50_001)).verdict, Action::Deny);
            let stranger = frame(lan_mac, (INNER, 443), (OWN, 50_000), flags.map(|_| SYN_ACK));
            assert_eq!(said(lan, &stranger).verdict, Action::Deny);
        }

        // A published port: to the host's own address, so the rules for inbound decide.
        let knock = |port| frame(lan_mac, (WORLD, 50_100), (OWN, port), Some(SYN));
        assert!(matches!(said(lan, &knock(8080)).speaker, Speaker::Rule(_)));
        let other = said(lan, &knock(8081)).speaker;
        assert_eq!(other, Speaker::Standing(Direction::Inbound));
        // Translated to the cage's address it leaves through its cable, and is answered from there.
        let answer = frame(cage_mac, (INNER, 80), (WORLD, 50_100), Some(SYN_ACK));
        let closed = orders(rules).replace("interface = \"ts-c\"", "interface = \"ts-none\"");
        post(&mut gate, &closed, &all).unwrap();
        let said = |interface, frame: &[u8]| gate.ask(interface, frame).unwrap();
        assert_eq!(said(cage, &answer).speaker, Speaker::Standing(Direction::Transit));
        let translated = frame(cage_mac, (WORLD, 50_100), (INNER, 80), Some(SYN));
        assert!(gate.forward(lan, cage, &translated, Some(Note::Own)).unwrap());
        assert_eq!(said(cage, &answer).speaker, reply);
        // What comes from an interface that nobody guards was decided by nobody, and what
        // was decided as for this host does not leave it.
        for noted in [None, Some(Note::Inbound)] {
            assert!(!gate.forward(InterfaceIndex(4_000), lan, &translated, noted).unwrap());
            assert!(!gate.forward(cage, lan, &translated, noted).unwrap());
        }
        gate.withdraw().unwrap();
    });
}
