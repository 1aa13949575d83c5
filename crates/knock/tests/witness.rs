//! The witness against a host that the test made itself: what it sees is what
//! there is, and where it cannot know it says so. Needs root.

#![allow(clippy::unwrap_used)]

use std::net::{IpAddr, TcpListener};
use std::time::Duration;

use tipstaff_core::analysis::reach::{Outcome, Subject};
use tipstaff_core::brief::{Brief, RuleIndex};
use tipstaff_core::decision::Speaker;
use tipstaff_core::host::interface::Interface;
use tipstaff_core::names::traffic::Transport;
use tipstaff_core::orders::read;
use tipstaff_gate::kernel::KernelGate;
use tipstaff_gate::{Gate, Posting, Record};
use tipstaff_host::interfaces;
use tipstaff_host::lab::{self, Mounts, Space};
use tipstaff_knock::Reply;
use tipstaff_knock::witness::{LetIn, Witness, WitnessFault, approach};
use tipstaff_testing::pair::Pair;
use tipstaff_testing::{can_test, ip};

const PATIENCE: Duration = Duration::from_millis(150);

/// A host with a router beside it; `test` runs on the host.
fn on_a_host(test: impl FnOnce(Vec<Interface>) + Send + 'static) {
    on_a_host_with(|| (), test);
}

/// As [`on_a_host`]; `beside` runs on the router before.
fn on_a_host_with(
    beside: impl FnOnce() + Send + 'static,
    test: impl FnOnce(Vec<Interface>) + Send + 'static,
) {
    if !can_test("the witness was") {
        return;
    }
    let Pair { host, world } = Pair::new();
    world.run(beside).unwrap();
    host.run(move || test(interfaces::list().unwrap())).expect("the test on the host failed");
}

fn replies(witness: &mut Witness, doors: &[(Subject, IpAddr)]) -> Vec<Reply> {
    let known = witness.knock(doors, PATIENCE, &mut |_| true).unwrap();
    known.into_iter().map(|one| one.reply).collect()
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
            let approach = approach(ip(source), None, &all).unwrap();
            assert_eq!(approach.interface.name, "lan0");
            let target = approach.target;
            let doors = [(tcp(7410), target), (tcp(7499), target), (Subject::Echo, target)];
            let mut witness = Witness::open(approach, None).unwrap();
            let replies = replies(&mut witness, &doors);
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
        let approach = approach(ip("192.0.2.66"), None, &all).unwrap();
        let target = approach.target;
        let doors: Vec<_> = (20_000..21_000).map(|port| (tcp(port), target)).collect();
        let replies = replies(&mut Witness::open(approach, None).unwrap(), &doors);
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
        let fault = |source: &str| match approach(ip(source), None, &all) {
            Err(fault) => fault.to_string(),
            Ok(approach) => match Witness::open(approach, None) {
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
        let approach = approach(ip("203.0.113.9"), None, &headless).unwrap();
        assert!(matches!(Witness::open(approach, None), Err(WitnessFault::NoFrames(_))));
    });
}

#[test]
fn without_a_route_there_is_no_way_back() {
    if !can_test("ways back were") {
        return;
    }
    let host = Space::new(Mounts::Shared).unwrap();
    let fault =
        host.run(|| approach(ip("203.0.113.9"), None, &interfaces::list().unwrap())).unwrap();
    assert!(matches!(fault, Err(WitnessFault::NoWayBack(_))), "{fault:?}");
}

const ORDERS: &str = r#"version = 1
[standing]
inbound = "deny"
outbound = "deny"
transit = "deny"
[[rules]]
name = "plates"
action = "allow"
traffic = "tcp/7410"
at_most = "2 per hour per source, burst 2"
log = true
[[rules]]
name = "pictures"
action = "allow"
traffic = "udp/7420"
[[rules]]
name = "weather"
action = "refuse"
traffic = ["tcp/7430", "udp/7430"]
"#;

#[test]
fn the_gate_decides_a_knock_and_keeps_no_trace_of_it() {
    on_a_host(|all| {
        let folder = tempfile::tempdir().unwrap();
        let mut gate = KernelGate::new(&folder.path().join("run")).unwrap();
        let brief = Brief::unplaced(&read(ORDERS).unwrap());
        gate.post(&Posting { brief: &brief, record: Record::from_text(ORDERS) }, &all).unwrap();
        let _plates = TcpListener::bind("198.51.100.20:7410").unwrap();
        let pictures = std::net::UdpSocket::bind("198.51.100.20:7420").unwrap();
        pictures.set_nonblocking(true).unwrap();
        let mut events = gate.events().unwrap();
        // The kernel itself looks for neighbours meanwhile.
        let of_rules = |gate: &KernelGate| {
            let mut all = gate.tallies().unwrap();
            all.retain(|(speaker, _)| !matches!(speaker, Speaker::Foundation(_)));
            all
        };
        let before = of_rules(&gate);

        let approach = approach(ip("203.0.113.9"), None, &all).unwrap();
        let target = approach.target;
        let udp = |port| Subject::Port(Transport::Udp, port);
        let subjects = [tcp(7410), udp(7420), tcp(7430), udp(7430), tcp(22), udp(53)];
        let doors = subjects.map(|subject| (subject, target));
        let mut witness = Witness::open(approach, gate.marks().unwrap()).unwrap();
        // More often than the rate allows: a knock takes nothing from it.
        for _ in 0..4 {
            let known = witness.knock(&doors, PATIENCE, &mut |_| true).unwrap();
            let [plates, taken, reset, prohibited, silent, unheard] = known.try_into().unwrap();
            assert!(matches!(plates.reply, Reply::Accepted(_)), "{plates:?}");
            assert_eq!(plates.let_in, Some(LetIn { speaker: Some(Speaker::Rule(RuleIndex(0))) }));
            assert_eq!(taken.reply, Reply::CameIn);
            assert_eq!(taken.let_in, Some(LetIn { speaker: Some(Speaker::Rule(RuleIndex(1))) }));
            assert!(matches!(reset.reply, Reply::Reset(_)), "{reset:?}");
            assert!(matches!(prohibited.reply, Reply::Icmp { kind: 3, code: 13 }));
            for denied in [silent, unheard] {
                assert!(matches!(denied.reply, Reply::Nothing(_)), "{denied:?}");
                assert_eq!(denied.let_in, None);
            }
        }
        assert_eq!(of_rules(&gate), before);
        assert_eq!(events.drain(), []);
        let limit = brief.rules().find_map(|rule| rule.limit()).unwrap();
        assert_eq!(gate.sources(&limit).unwrap(), []);
        assert!(pictures.recv_from(&mut [0; 9]).is_err(), "no program is troubled");
        gate.withdraw().unwrap();
        let known = witness.knock(&doors, PATIENCE, &mut |_| true).unwrap();
        assert!(known.iter().all(|one| one.let_in == Some(LetIn { speaker: None })), "{known:?}");
    });
}

/// What the host sends to the address that is played goes its way, from whatever
/// port to whatever port: only answers to knocks are caught.
#[test]
fn traffic_of_the_same_address_is_left_alone() {
    use std::net::{SocketAddr, UdpSocket};
    let (tell, told) = std::sync::mpsc::channel::<Wired>();
    /// A socket that somebody with the played address has, on the router beside.
    type Wired = (TcpListener, UdpSocket);
    on_a_host_with(
        move || {
            lab::address("w0", ip("203.0.113.9"), 32).unwrap();
            let tcp = TcpListener::bind("203.0.113.9:61234").unwrap();
            let udp = UdpSocket::bind("203.0.113.9:61235").unwrap();
            udp.set_read_timeout(Some(Duration::from_secs(5))).unwrap();
            tell.send((tcp, udp)).unwrap();
        },
        move |all| {
            let (listener, datagrams) = told.recv().unwrap();
            let approach = approach(ip("203.0.113.9"), None, &all).unwrap();
            let target = approach.target;
            let mut witness = Witness::open(approach, None).unwrap();
            for _ in 0..3 {
                let to = SocketAddr::new(ip("203.0.113.9"), 61_234);
                std::net::TcpStream::connect_timeout(&to, Duration::from_secs(5)).unwrap();
                listener.accept().unwrap();
                let socket = UdpSocket::bind((target, 0)).unwrap();
                socket.send_to(b"plates?", ("203.0.113.9", 61_235)).unwrap();
                let mut buffer = [0; 16];
                assert_eq!(datagrams.recv(&mut buffer).unwrap(), 7);
                let said = replies(&mut witness, &[(tcp(7499), target), (Subject::Echo, target)]);
                assert!(matches!(said[..], [Reply::Reset(_), Reply::Data(_)]), "{said:?}");
            }
        },
    );
}

#[test]
fn one_witness_plays_one_source_after_another() {
    on_a_host(|all| {
        let _plates = TcpListener::bind("198.51.100.20:7410").unwrap();
        let approach = |source: &str| approach(ip(source), None, &all).unwrap();
        let first = approach("203.0.113.9");
        let doors = [(tcp(7410), first.target), (tcp(7499), first.target)];
        let mut witness = Witness::open(first, None).unwrap();
        for source in ["203.0.113.9", "192.0.2.66", "203.0.113.45"] {
            assert!(witness.turn_into(&approach(source)).unwrap());
            let replies = replies(&mut witness, &doors);
            assert!(matches!(replies[..], [Reply::Accepted(_), Reply::Reset(_)]), "{replies:?}");
        }
        // The other family comes another way, and who is not there is told as ever.
        assert!(!witness.turn_into(&approach("2001:db8:113::9")).unwrap());
        let absent = witness.turn_into(&approach("198.51.100.77"));
        assert!(matches!(absent, Err(WitnessFault::NoNextHop { .. })), "{absent:?}");
    });
}
