//! The witness against a host that the test made itself: what it sees is what
//! there is, and where it cannot know it says so. Needs root.

#![allow(clippy::unwrap_used)]

use std::io::Write;
use std::net::{IpAddr, TcpListener};
use std::os::fd::AsFd;
use std::time::Duration;

use tipstaff_core::interface::Interface;
use tipstaff_core::names::traffic::Transport;
use tipstaff_core::reach::{Outcome, Subject};
use tipstaff_gate::kernel::check_ground;
use tipstaff_host::interfaces;
use tipstaff_host::lab::{self, Mounts, Space};
use tipstaff_knock::Reply;
use tipstaff_knock::witness::{Witness, WitnessFault, approach};

const PATIENCE: Duration = Duration::from_millis(150);

fn ip(text: &str) -> IpAddr {
    text.parse().unwrap()
}

/// A host with a router beside it; `test` runs on the host.
fn on_a_host(test: impl FnOnce(Vec<Interface>) + Send + 'static) {
    if let Err(why) = check_ground() {
        let line = format!("SKIPPED: the witness was not tested: {why}\n");
        std::io::stderr().write_all(line.as_bytes()).unwrap();
        return;
    }
    let world = Space::new(Mounts::Shared).unwrap();
    let host = Space::new(Mounts::Shared).unwrap();
    let end = world.as_fd().try_clone_to_owned().unwrap();
    host.run(move || lab::cable("lan0", "w0", end.as_fd()).unwrap()).unwrap();
    world
        .run(|| {
            lab::up("w0").unwrap();
            lab::address("w0", ip("198.51.100.1"), 24).unwrap();
            lab::address("w0", ip("2001:db8:51::1"), 64).unwrap();
        })
        .unwrap();
    host.run(move || {
        lab::up("lan0").unwrap();
        lab::address("lan0", ip("198.51.100.20"), 24).unwrap();
        lab::address("lan0", ip("2001:db8:51::20"), 64).unwrap();
        lab::default_route(ip("198.51.100.1")).unwrap();
        lab::default_route(ip("2001:db8:51::1")).unwrap();
        test(interfaces::list().unwrap());
    })
    .expect("the test on the host failed");
}

fn tcp(port: u16) -> Subject {
    Subject::Port(Transport::Tcp, port)
}

#[test]
fn it_tells_answers_from_refusals_in_both_families_and_nobody_accepts_anything() {
    on_a_host(|all| {
        let listener = TcpListener::bind("[::]:7410").unwrap();
        listener.set_nonblocking(true).unwrap();
        for source in ["203.0.113.9", "2001:db8:113::9"] {
            let approach = approach(ip(source), &all).unwrap();
            assert_eq!(approach.interface.name, "lan0");
            let target = approach.target;
            let doors = [(tcp(7410), target), (tcp(7499), target), (Subject::Echo, target)];
            let mut witness = Witness::open(approach).unwrap();
            let replies = witness.knock(&doors, PATIENCE).unwrap();
            assert!(matches!(replies[0], Reply::Accepted(_)), "{replies:?}");
            assert!(matches!(replies[1], Reply::Reset(_)), "{replies:?}");
            assert!(matches!(replies[2], Reply::Data(_)), "{replies:?}");
        }
        // Half open: the reset came before any program could accept.
        assert!(listener.accept().is_err());
    });
}

#[test]
fn many_doors_in_one_go_each_get_their_own_answer() {
    on_a_host(|all| {
        let _open: Vec<TcpListener> = (0..40)
            .map(|n| TcpListener::bind(("198.51.100.20", 20_000 + n * 25)).unwrap())
            .collect();
        let approach = approach(ip("192.0.2.66"), &all).unwrap();
        let target = approach.target;
        let doors: Vec<_> = (20_000..21_000).map(|port| (tcp(port), target)).collect();
        let replies = Witness::open(approach).unwrap().knock(&doors, PATIENCE).unwrap();
        for ((subject, _), reply) in doors.iter().zip(&replies) {
            let Subject::Port(_, port) = subject else { panic!() };
            let truth = if port % 25 == 0 { Outcome::Answers } else { Outcome::Refuses };
            assert_eq!(reply.outcome(), truth, "{port}");
        }
    });
}

#[test]
fn what_it_cannot_play_it_refuses_with_the_reason() {
    on_a_host(|all| {
        let fault = |source: &str| match approach(ip(source), &all) {
            Err(fault) => fault.to_string(),
            Ok(approach) => match Witness::open(approach) {
                Err(fault) => fault.to_string(),
                Ok(_) => panic!("{source} can be played"),
            },
        };
        assert!(fault("198.51.100.20").contains("an address of this host itself"));
        assert!(fault("127.0.0.1").contains("an address of this host itself"));
        // On the link, but nobody is there: its silence would prove nothing.
        let absent = fault("198.51.100.77");
        assert!(absent.contains("no answer to 198.51.100.77 would leave lan0"), "{absent}");
        let mut headless = all.clone();
        headless.iter_mut().for_each(|i| i.hardware = None);
        let approach = approach(ip("203.0.113.9"), &headless).unwrap();
        assert!(matches!(Witness::open(approach), Err(WitnessFault::NoFrames(_))));
    });
}

#[test]
fn without_a_route_there_is_no_way_back() {
    if check_ground().is_err() {
        return; // said loudly above
    }
    let host = Space::new(Mounts::Shared).unwrap();
    let fault = host.run(|| approach(ip("203.0.113.9"), &interfaces::list().unwrap())).unwrap();
    assert!(matches!(fault, Err(WitnessFault::NoWayBack(_))), "{fault:?}");
}
