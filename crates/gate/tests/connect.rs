//! What a program that connects is told at once: as the reference decides,
//! over every kind of socket, for random lists.

#![allow(clippy::unwrap_used)]

use std::collections::BTreeMap;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::sync::Arc;

use proptest::strategy::{Strategy, ValueTree};
use proptest::test_runner::TestRunner;
use socket2::{Domain, Protocol, Socket, Type};
use tipstaff_core::arbitrary;
use tipstaff_core::brief::Brief;
use tipstaff_core::decision::{RuleQuery, first_mismatch};
use tipstaff_core::moment::Moment;
use tipstaff_core::names::traffic::Transport;
use tipstaff_core::orders::{Action, Rule};
use tipstaff_core::packet::{Direction, InterfaceIndex, ProgramIndex};
use tipstaff_gate::kernel::KernelGate;
use tipstaff_gate::{Gate, Posting};
use tipstaff_host::lab;
use tipstaff_testing::scene::{inside, record};

/// What connect(2) says at once.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
enum Told {
    NotPermitted,
    Refused,
    /// It is on its way, or the network has something to say.
    Nothing,
}

fn connect(to: SocketAddr) -> Told {
    let domain = if to.is_ipv4() { Domain::IPV4 } else { Domain::IPV6 };
    let socket = Socket::new(domain, Type::STREAM, Some(Protocol::TCP)).unwrap();
    socket.set_nonblocking(true).unwrap();
    match socket.connect(&to.into()).unwrap_err().raw_os_error() {
        Some(libc::EPERM) => Told::NotPermitted,
        Some(libc::ECONNREFUSED) => Told::Refused,
        _ => Told::Nothing,
    }
}

/// What the list says before there is a route: the first rule that can hold
/// decides, unless it looks at the route or has a rate.
fn expected(brief: &Brief, to: SocketAddr, index: InterfaceIndex, now: Moment) -> Told {
    let to = SocketAddr::new(to.ip().to_canonical(), to.port());
    if brief.own.contains(&to.ip()) {
        return Told::Nothing;
    }
    let question = RuleQuery {
        direction: Direction::Outbound,
        key: Transport::Tcp.key(to.port()),
        source: to.ip(),
        destination: to.ip(),
        interface: index,
        program: ProgramIndex::OTHER,
        now,
    };
    let can_hold = |rule: &&Rule| {
        let mut rule = (*rule).clone();
        rule.source.addresses = None;
        rule.interface = Default::default();
        first_mismatch(brief, &rule, &question).is_none()
    };
    let said = match brief.rules().find(can_hold) {
        Some(rule) => {
            let routed = rule.source.addresses.is_some() || !rule.interface.is_any();
            if routed || rule.limit().is_some() {
                return Told::Nothing;
            }
            rule.action
        }
        None => brief.standing.outbound,
    };
    match said {
        Action::Allow => Told::Nothing,
        Action::Deny => Told::NotPermitted,
        Action::Refuse => Told::Refused,
    }
}

#[test]
fn who_connects_is_told_what_the_reference_says() {
    inside(|run_dir, all| {
        for router in ["198.51.100.1", "2001:db8:51::1"] {
            lab::default_route(router.parse().unwrap()).unwrap();
        }
        let cable = InterfaceIndex(all.iter().find(|i| i.name == "ts-a").unwrap().index);
        let mut gate = KernelGate::new(&run_dir).unwrap();
        let mut runner = TestRunner::deterministic();
        let mut seen = BTreeMap::<(bool, Told), usize>::new();
        for case in 0..40 {
            let most = [2, 8, 40, 70][case % 4];
            let mut brief = arbitrary::brief(most).new_tree(&mut runner).unwrap().current();
            for rule in &mut brief.rules {
                let rule = Arc::make_mut(rule);
                rule.log = false;
                rule.direction = Direction::Outbound;
            }
            brief.interfaces =
                all.iter().map(|i| (InterfaceIndex(i.index), i.name.clone())).collect();
            brief.own = all.iter().flat_map(|i| i.addresses.iter().map(|(a, _)| *a)).collect();
            brief.own.sort_unstable();
            gate.post(&Posting { brief: &brief, record: record("") }, &all).unwrap();
            let now = std::time::UNIX_EPOCH.elapsed().unwrap().as_secs() as u32;
            for host in 2..6u8 {
                let four = Ipv4Addr::new(198, 51, 100, host);
                let six = Ipv6Addr::new(0x2001, 0xdb8, 0x51, host.into(), 0, 0, 0, 3);
                let far = Ipv4Addr::new(203, 0, 113, host - 2);
                for port in [1, 22, 7410, 7420, 65_535] {
                    for (mapped, address) in [
                        (false, IpAddr::from(four)),
                        (false, far.into()),
                        (false, six.into()),
                        (true, four.to_ipv6_mapped().into()),
                        (true, far.to_ipv6_mapped().into()),
                    ] {
                        let to = SocketAddr::new(address, port);
                        let wanted = expected(&brief, to, cable, Moment(now));
                        assert_eq!(connect(to), wanted, "{to}\n{brief:#?}");
                        *seen.entry((mapped, wanted)).or_default() += 1;
                    }
                }
            }
        }
        eprintln!("connect(2) said what the reference says: {seen:?}");
        assert!(seen.len() == 6 && seen.values().all(|count| *count > 50), "{seen:?}");
        gate.withdraw().unwrap();
    });
}
