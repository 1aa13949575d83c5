//! Who opened what, with real packets: an answer of this host opens nothing,
//! and what was let in is decided again under other orders.

#![allow(clippy::unwrap_used)]

use std::net::{IpAddr, SocketAddr, UdpSocket};
use std::time::Duration;

use tipstaff_gate::Gate;
use tipstaff_gate::kernel::KernelGate;
use tipstaff_testing::{
    scene::{OWN, STRANGER, Scene, inside_with_wire, orders, post},
    wire,
};

/// A service that answers each datagram, in both families; how many it heard.
struct Echoes(Vec<UdpSocket>);

impl Echoes {
    fn new(port: u16) -> Self {
        let bound = OWN.map(|own| {
            let socket = UdpSocket::bind((own, port)).unwrap();
            socket.set_read_timeout(Some(Duration::from_millis(1))).unwrap();
            socket
        });
        Self(bound.into())
    }

    /// Answers whatever has come in; how much that was.
    fn answer(&self) -> usize {
        let mut heard = 0;
        let mut buffer = [0; 64];
        for socket in &self.0 {
            while let Ok((length, from)) = socket.recv_from(&mut buffer) {
                heard += 1;
                let _ = socket.send_to(&buffer[..length], from);
            }
        }
        heard
    }

    /// Sends a datagram of its own accord.
    fn push(&self, family: usize, to: SocketAddr) -> bool {
        self.0[family].send_to(b"sky", to).is_ok()
    }
}

const PORT: u16 = 7420;

fn ask(scene: &Scene, family: usize, from: u16) {
    let (stranger, own) = (STRANGER[family], OWN[family]);
    let datagram = wire::udp((stranger, from), (own, PORT), b"sky?");
    scene.wire.send(&scene.to_us(stranger, own, 17, &datagram));
}

fn settle() {
    std::thread::sleep(Duration::from_millis(3));
}

/// One source port, 200 questions, each answered: the rate counts each.
#[test]
fn a_rate_holds_for_a_source_that_keeps_its_port() {
    inside_with_wire(|scene| {
        let rule = "[[rules]]\nname = \"sky\"\naction = \"allow\"\ntraffic = \"udp/7420\"\n\
                    at_most = \"6 per minute per source, burst 3\"\n";
        let mut gate = KernelGate::new(&scene.run_dir).unwrap();
        for outbound in ["allow", "deny"] {
            let text =
                orders(rule).replace("outbound = \"allow\"", &format!("outbound = \"{outbound}\""));
            post(&mut gate, &text, &scene.interfaces()).unwrap();
            let service = Echoes::new(PORT);
            for (family, own) in OWN.into_iter().enumerate() {
                let mut heard = 0;
                for _ in 0..200 {
                    ask(&scene, family, 40_000);
                    settle();
                    heard += service.answer();
                }
                // Within these seconds the rate lets one more in at most.
                assert!((3..=4).contains(&heard), "{heard} of 200, outbound {outbound}");
                // Each was answered, whatever else may leave.
                settle();
                let answers = scene.wire.seen().iter().filter(|f| is_from(f, own)).count();
                assert_eq!(answers, heard);
            }
            gate.withdraw().unwrap();
        }
    });
}

/// Whether a frame carries a datagram of that source and port.
fn is_from(frame: &[u8], source: IpAddr) -> bool {
    let (protocol, at, address): (_, _, Vec<u8>) = match source {
        IpAddr::V4(a) => (frame[23], 14 + 20, a.octets().into()),
        IpAddr::V6(a) => (frame[20], 14 + 40, a.octets().into()),
    };
    let begin = at - 2 * address.len();
    protocol == 17
        && frame[begin..begin + address.len()] == address
        && frame[at..at + 2] == PORT.to_be_bytes()
}

/// An exchange that goes on without an end, and orders that deny it now.
#[test]
fn an_exchange_ends_with_orders_that_deny_it() {
    inside_with_wire(|scene| {
        let open =
            orders("[[rules]]\nname = \"sky\"\naction = \"allow\"\ntraffic = \"udp/7420\"\n");
        for (closed, leaves) in [
            (orders(""), true),
            (orders("").replace("outbound = \"allow\"", "outbound = \"deny\""), false),
        ] {
            let mut gate = KernelGate::new(&scene.run_dir).unwrap();
            post(&mut gate, &open, &scene.interfaces()).unwrap();
            let service = Echoes::new(PORT);
            for family in 0..2 {
                ask(&scene, family, 40_000);
                settle();
                assert_eq!(service.answer(), 1);
            }
            post(&mut gate, &closed, &scene.interfaces()).unwrap();
            for (family, stranger) in STRANGER.into_iter().enumerate() {
                let to = SocketAddr::new(stranger, 40_000);
                for _ in 0..3 {
                    // The service goes on by itself: that opens no way for questions.
                    assert_eq!(service.push(family, to), leaves, "{family}");
                    ask(&scene, family, 40_000);
                    settle();
                    assert_eq!(service.answer(), 0, "{family}");
                }
            }
            // Under the orders that let it in it goes on.
            post(&mut gate, &open, &scene.interfaces()).unwrap();
            ask(&scene, 0, 40_000);
            settle();
            assert_eq!(service.answer(), 1);
            gate.withdraw().unwrap();
        }
    });
}

/// What this host opened goes on over posts that say nothing of it, and ends
/// with orders that deny it.
#[test]
fn what_this_host_opened_is_answered_until_it_may_not_be() {
    inside_with_wire(|scene| {
        let mut gate = KernelGate::new(&scene.run_dir).unwrap();
        post(&mut gate, &orders(""), &scene.interfaces()).unwrap();
        let sockets = Echoes::new(5000);
        let answered = |family: usize| {
            let (stranger, own) = (STRANGER[family], OWN[family]);
            let datagram = wire::udp((stranger, 123), (own, 5000), b"time");
            scene.wire.send(&scene.to_us(stranger, own, 17, &datagram));
            settle();
            sockets.0[family].recv(&mut [0; 16]).is_ok()
        };
        for (family, stranger) in STRANGER.into_iter().enumerate() {
            assert!(!answered(family));
            assert!(sockets.push(family, SocketAddr::new(stranger, 123)));
            assert!(answered(family));
        }
        let more = orders("[[rules]]\nname = \"ssh\"\naction = \"allow\"\ntraffic = \"ssh\"\n");
        post(&mut gate, &more, &scene.interfaces()).unwrap();
        assert!(answered(0) && answered(1));
        let sealed = more.replace("outbound = \"allow\"", "outbound = \"deny\"");
        post(&mut gate, &sealed, &scene.interfaces()).unwrap();
        assert!(!answered(0) && !answered(1));
        gate.withdraw().unwrap();
    });
}

/// An echo request that is let in is answered; the answer opens nothing.
#[test]
fn pings_are_decided_each() {
    inside_with_wire(|scene| {
        let rule = "[[rules]]\nname = \"ping\"\naction = \"allow\"\ntraffic = \"icmp/echo\"\n\
                    at_most = \"6 per minute per source, burst 2\"\n";
        let mut gate = KernelGate::new(&scene.run_dir).unwrap();
        let text = orders(rule).replace("outbound = \"allow\"", "outbound = \"deny\"");
        post(&mut gate, &text, &scene.interfaces()).unwrap();
        for family in 0..2 {
            let (stranger, own) = (STRANGER[family], OWN[family]);
            scene.wire.seen();
            for _ in 0..10 {
                let ping = wire::ping(stranger, own, 7);
                let number = wire::icmp_number(own);
                scene.wire.send(&scene.to_us(stranger, own, number, &ping));
            }
            settle();
            let reply = |frame: &&Vec<u8>| match own {
                IpAddr::V4(_) => frame[23] == 1 && frame[34] == 0,
                IpAddr::V6(_) => frame[20] == 58 && frame[54] == 129,
            };
            assert_eq!(scene.wire.seen().iter().filter(reply).count(), 2);
        }
        gate.withdraw().unwrap();
    });
}
