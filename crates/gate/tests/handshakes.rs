//! Handshakes of TCP in which the host keeps nothing (SYN cookies, RFC 4987
//! section 3.6), as under a flood: the last acknowledgement is no second
//! attempt, and takes nothing from a rate.

#![allow(clippy::unwrap_used)]

use std::net::{IpAddr, TcpListener};
use std::time::Duration;

use tipstaff_gate::Gate;
use tipstaff_gate::kernel::KernelGate;
use tipstaff_testing::{
    scene::{OWN, STRANGER, Scene, inside_with_wire, orders, post},
    wire,
};

const SYN: u8 = 0x02;
const ACK: u8 = 0x10;

fn at_transport(frame: &[u8], of: IpAddr) -> Option<&[u8]> {
    match (of, &frame[12..14]) {
        (IpAddr::V4(own), [8, 0]) => {
            (frame[23] == 6 && frame[26..30] == own.octets()).then(|| &frame[34..])
        }
        (IpAddr::V6(own), [0x86, 0xdd]) => {
            (frame[20] == 6 && frame[22..38] == own.octets()).then(|| &frame[54..])
        }
        _ => None,
    }
}

/// The sequence number of the SYN-ACK that a SYN is answered with.
fn answer(scene: &Scene, family: usize, port: u16) -> Option<u32> {
    let (stranger, own) = (STRANGER[family], OWN[family]);
    scene.wire.seen();
    let syn = wire::tcp((stranger, port), (own, 7410), SYN, (1, 0));
    scene.wire.send(&scene.to_us(stranger, own, 6, &syn));
    std::thread::sleep(Duration::from_millis(10));
    scene.wire.seen().iter().find_map(|frame| {
        let tcp = at_transport(frame, own)?;
        let number = u32::from_be_bytes(tcp[4..8].try_into().unwrap());
        (tcp[13] & (SYN | ACK) == SYN | ACK).then_some(number)
    })
}

#[test]
fn a_rate_counts_a_handshake_once_with_cookies_and_without() {
    inside_with_wire(|scene| {
        let listener = TcpListener::bind("[::]:7410").unwrap();
        listener.set_nonblocking(true).unwrap();
        let rule = "[[rules]]\nname = \"plates\"\naction = \"allow\"\ntraffic = \"tcp/7410\"\n\
                    at_most = \"6 per minute per source, burst 1\"\n";
        for (cookies, base) in [("1", 40_000), ("2", 50_000)] {
            std::fs::write("/proc/sys/net/ipv4/tcp_syncookies", cookies).unwrap();
            let mut gate = KernelGate::new(&scene.run_dir).unwrap();
            post(&mut gate, &orders(rule), &scene.interfaces()).unwrap();
            for family in 0..2 {
                let (stranger, own) = (STRANGER[family], OWN[family]);
                let number = answer(&scene, family, base).unwrap();
                let ack =
                    wire::tcp((stranger, base), (own, 7410), ACK, (2, number.wrapping_add(1)));
                scene.wire.send(&scene.to_us(stranger, own, 6, &ack));
                std::thread::sleep(Duration::from_millis(10));
                let (_, from) = listener.accept().unwrap_or_else(|e| {
                    panic!("cookies {cookies}, {stranger}: {e}");
                });
                assert_eq!(from.port(), base);
                // The burst is over.
                assert_eq!(answer(&scene, family, base + 1), None, "cookies {cookies}, {stranger}");
                // An acknowledgement that nobody was asked for opens nothing.
                let forged = wire::tcp((stranger, base + 2), (own, 7410), ACK, (2, 77));
                scene.wire.send(&scene.to_us(stranger, own, 6, &forged));
                std::thread::sleep(Duration::from_millis(10));
                assert!(listener.accept().is_err());
            }
            gate.withdraw().unwrap();
        }
    });
}

/// Without the rule nothing of a handshake gets through, cookies or not.
#[test]
fn cookies_of_nobody_let_nobody_in() {
    inside_with_wire(|scene| {
        let listener = TcpListener::bind("[::]:7410").unwrap();
        listener.set_nonblocking(true).unwrap();
        std::fs::write("/proc/sys/net/ipv4/tcp_syncookies", "2").unwrap();
        // The cookie of a SYN that was answered before the orders were in force.
        let numbers: Vec<u32> = (0..2).map(|f| answer(&scene, f, 40_000).unwrap()).collect();
        let mut gate = KernelGate::new(&scene.run_dir).unwrap();
        post(&mut gate, &orders(""), &scene.interfaces()).unwrap();
        for (family, number) in numbers.into_iter().enumerate() {
            let (stranger, own) = (STRANGER[family], OWN[family]);
            let ack = wire::tcp((stranger, 40_000), (own, 7410), ACK, (2, number.wrapping_add(1)));
            scene.wire.send(&scene.to_us(stranger, own, 6, &ack));
            std::thread::sleep(Duration::from_millis(10));
            assert!(listener.accept().is_err(), "{stranger}");
            assert_eq!(answer(&scene, family, 40_001), None);
        }
        gate.withdraw().unwrap();
    });
}
