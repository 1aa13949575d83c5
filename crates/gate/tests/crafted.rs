//! With everything denied nothing comes in, nothing passes through and nothing
//! is answered, whatever frames somebody writes. 30,000 of them; more by
//! `TIPSTAFF_FRAMES=1000000 TIPSTAFF_SEED=$RANDOM cargo test --release -p tipstaff-gate --test crafted`

#![allow(clippy::unwrap_used)]

use std::net::{IpAddr, TcpListener, UdpSocket};

use proptest::prelude::*;
use proptest::strategy::ValueTree;
use proptest::test_runner::TestRunner;
use socket2::{Domain, Protocol, Socket, Type};
use tipstaff_core::arbitrary;
use tipstaff_gate::kernel::KernelGate;
use tipstaff_host::lab::{self, Space};
use tipstaff_testing::{
    from_environment,
    harm::{harm, harmed},
    runner,
    scene::{OWN, STRANGER, Scene, inside_with_wire, orders, post, second_cable},
    wire::{self, Header, Wire},
};

const PORTS: [u16; 4] = [22, 53, 7410, 7420];
/// Protocols that a raw socket hears, beside those that the stack itself answers.
const BARE: [i32; 3] = [47, 50, 132];
const BEHIND: [&str; 2] = ["203.0.113.30", "2001:db8:113::30"];

/// Everybody on this host who could hear something.
struct Ears {
    tcp: Vec<TcpListener>,
    udp: Vec<UdpSocket>,
    raw: Vec<Socket>,
}

impl Ears {
    fn new() -> Self {
        let mut ears = Self { tcp: Vec::new(), udp: Vec::new(), raw: Vec::new() };
        for port in PORTS {
            ears.tcp.push(TcpListener::bind(("::", port)).unwrap());
            ears.udp.push(UdpSocket::bind(("::", port)).unwrap());
        }
        for protocol in BARE {
            for domain in [Domain::IPV4, Domain::IPV6] {
                let socket = Socket::new(domain, Type::RAW, Some(Protocol::from(protocol)));
                ears.raw.push(socket.unwrap());
            }
        }
        ears.tcp.iter().for_each(|s| s.set_nonblocking(true).unwrap());
        ears.udp.iter().for_each(|s| s.set_nonblocking(true).unwrap());
        ears.raw.iter().for_each(|s| s.set_nonblocking(true).unwrap());
        ears
    }

    fn heard(&self) -> usize {
        let udp = |s: &UdpSocket| std::iter::from_fn(|| s.recv(&mut [0; 9]).ok()).count();
        let raw = |s: &Socket| {
            let mut buffer = [std::mem::MaybeUninit::uninit(); 9];
            std::iter::from_fn(|| s.recv(&mut buffer).ok()).count()
        };
        let tcp = |s: &TcpListener| std::iter::from_fn(|| s.accept().ok()).count();
        self.udp.iter().map(udp).sum::<usize>()
            + self.raw.iter().map(raw).sum::<usize>()
            + self.tcp.iter().map(tcp).sum::<usize>()
    }
}

/// IP that this host sent, but what it looks for its neighbours by, and the parameter
/// problems (RFC 4443 section 3.4) of what foundations let in: multicast listener
/// queries, errors, and fragments behind them, with extension headers that it dislikes.
fn sent(wire: &Wire) -> Vec<Vec<u8>> {
    let own = |frame: &[u8]| match (frame[20], frame.get(54)) {
        (0, _) => true,
        (58, Some(kind)) => *kind == 4 || (133..=137).contains(kind),
        _ => false,
    };
    let ip = |frame: &Vec<u8>| match frame[12..14] {
        [8, 6] => false,
        [0x86, 0xdd] => !own(frame),
        _ => true,
    };
    wire.seen().into_iter().filter(ip).collect()
}

/// A packet of a kind that somebody here would hear, to one of both sides.
fn packet(runner: &mut TestRunner) -> (IpAddr, Vec<u8>) {
    use prop::sample::select;
    let what = (0usize..2, any::<bool>(), select(PORTS.to_vec()), any::<u8>(), 0u8..10);
    let (six, through, port, flags, kind) = what.new_tree(runner).unwrap().current();
    let (from, own) = (STRANGER[six], OWN[six]);
    let to = if through { BEHIND[six].parse().unwrap() } else { own };
    let (protocol, payload) = match kind {
        0..=2 => (6, wire::tcp((from, 40_000), (to, port), 0x02, (1, 0))),
        3 => (6, wire::tcp((from, 40_000), (to, port), flags, (1, 1))),
        4..=6 => (17, wire::udp((from, 40_000), (to, port), b"larkfield")),
        7 => (wire::icmp_number(from), wire::ping(from, to, 7)),
        _ => (BARE[usize::from(flags) % 3] as u8, vec![flags; 16]),
    };
    let fragment = match flags % 8 {
        0 => (7, if six == 1 { 1 } else { 0x2000 }),
        1 => (7, if six == 1 { 8 << 3 } else { 8 }),
        _ => (0, 0),
    };
    let header = Header { fragment, ..Header::default() };
    (to, wire::ip(from, to, protocol, &payload, &header))
}

/// A host that forwards, everybody on it who could hear something, and a wire on
/// either side.
struct Router {
    scene: Scene,
    behind: Wire,
    ears: Ears,
    _space: Space,
}

fn on_a_router(test: impl FnOnce(Router) + Send + 'static) {
    inside_with_wire(move |scene| {
        let (behind, space) = second_cable();
        for ((near, prefix), far) in
            [("203.0.113.1", 24), ("2001:db8:113::1", 64)].into_iter().zip(BEHIND)
        {
            lab::address("ts-c", near.parse().unwrap(), prefix).unwrap();
            lab::neighbour("ts-c", far.parse().unwrap(), behind.hardware).unwrap();
        }
        for knob in ["ipv4/ip_forward", "ipv6/conf/all/forwarding"] {
            std::fs::write(format!("/proc/sys/net/{knob}"), "1").unwrap();
        }
        test(Router { scene, behind, ears: Ears::new(), _space: space });
    });
}

/// Frames, the same for the same seed.
struct Frames(TestRunner);

impl Frames {
    fn new(seed: u64) -> Self {
        Self(runner(seed))
    }

    fn next(&mut self, scene: &Scene, n: u64) -> Vec<u8> {
        let Self(runner) = self;
        if n.is_multiple_of(5) {
            return arbitrary::frame(scene.hardware).new_tree(runner).unwrap().current();
        }
        let (to, packet) = packet(runner);
        let frame = scene.framed(to, &packet);
        match n % 2 {
            0 => harmed(frame, &harm().new_tree(runner).unwrap().current()),
            _ => frame,
        }
    }
}

fn seed() -> u64 {
    from_environment("TIPSTAFF_SEED", 1)
}

/// Or the other test would prove nothing.
#[test]
fn without_a_gate_a_good_part_of_it_is_heard_and_passed_on_and_answered() {
    on_a_router(|Router { scene, behind, ears, _space }| {
        let mut frames = Frames::new(seed());
        let (mut heard, mut passed, mut answered) = (0, 0, 0);
        for n in 0..3_000 {
            let _ = scene.wire.try_send(&frames.next(&scene, n));
            if n % 50 == 0 {
                heard += ears.heard();
                (passed, answered) =
                    (passed + sent(&behind).len(), answered + sent(&scene.wire).len());
            }
        }
        assert!(heard > 100 && passed > 100 && answered > 100, "{heard} {passed} {answered}");
    });
}

#[test]
fn nothing_comes_in_over_whatever_frames() {
    let number = from_environment("TIPSTAFF_FRAMES", 30_000);
    eprintln!("TIPSTAFF_FRAMES={number} TIPSTAFF_SEED={}", seed());
    on_a_router(move |Router { scene, behind, ears, _space }| {
        let mut frames = Frames::new(seed());
        let mut gate = KernelGate::new(&scene.run_dir).unwrap();
        let closed = orders("").replace("outbound = \"allow\"", "outbound = \"deny\"");
        post(&mut gate, &closed, &scene.interfaces()).unwrap();
        for n in 0..number {
            let frame = frames.next(&scene, n);
            let _ = scene.wire.try_send(&frame);
            if n % 200 == 0 || n + 1 == number {
                std::thread::sleep(std::time::Duration::from_millis(1));
                assert_eq!(ears.heard(), 0, "before frame {n}: {frame:02x?}");
                for (where_to, wire) in [("through", &behind), ("back", &scene.wire)] {
                    let sent = sent(wire);
                    assert!(sent.is_empty(), "{where_to} before frame {n}: {:02x?}", sent[0]);
                }
            }
        }
    });
}
