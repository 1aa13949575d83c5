//! Where a reach check looks from: whatever rule can be shown is shown, by a
//! packet that it decides.

#![allow(clippy::unwrap_used)]

use std::collections::BTreeSet;
use std::net::IpAddr;

use proptest::prelude::*;
use tipstaff_core::arbitrary;
use tipstaff_core::decide::{Speaker, decide};
use tipstaff_core::names::traffic::Transport;
use tipstaff_core::packet::{Direction, InterfaceIndex};
use tipstaff_core::reach::{Showing, Subject, first_packet, plan};

const LAN: InterfaceIndex = InterfaceIndex(2);

fn target(source: IpAddr) -> IpAddr {
    arbitrary::OWN[usize::from(source.is_ipv6())]
}

/// Sources and subjects that random rules are often about.
fn tried() -> impl Iterator<Item = (IpAddr, Subject)> {
    let house = (1..8).filter(|n| *n != 7).map(|n| format!("198.51.100.{n}"));
    let partner = (0..4).map(|n| format!("203.0.113.{n}"));
    let six = (0..3).flat_map(|h| (1..5).map(move |l| format!("2001:db8:51:{h}::{l}")));
    let sources = house.chain(partner).chain(six).chain(["192.0.2.66".to_owned()]);
    let subjects = || {
        let ports = [1, 2, 22, 53, 68, 546, 7410, 7420, 7422, 7423, 9_000, 65_535];
        let both = [Transport::Tcp, Transport::Udp];
        let port = move |t| ports.into_iter().map(move |port| Subject::Port(t, port));
        both.into_iter().flat_map(port).chain([Subject::Echo])
    };
    sources
        .map(|source| source.parse::<IpAddr>().unwrap())
        .filter(|source| !arbitrary::OWN.contains(source))
        .flat_map(move |source| subjects().map(move |subject| (source, subject)))
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 300, ..ProptestConfig::default() })]

    /// What a plan says is so, and it leaves out nothing that could be shown.
    #[test]
    fn a_plan_shows_all_there_is_to_show(brief in arbitrary::brief(10)) {
        let mut way = |source: IpAddr| Some((target(source), LAN));
        let plan = plan(&brief, &[], &mut way, &arbitrary::OWN, &[]);
        let spoken = |source, subject, target| {
            match decide(&brief, &first_packet(subject, source, target, LAN)).speaker {
                Speaker::Rule(index) => Some(Some(index)),
                Speaker::Standing(Direction::Inbound) => Some(None),
                _ => None,
            }
        };
        let mut shown = BTreeSet::new();
        for (index, Showing { source, subject, target }) in &plan.shown {
            prop_assert!(plan.sources.contains(source));
            prop_assert_eq!(spoken(*source, *subject, *target), Some(*index));
            prop_assert!(shown.insert(*index), "{:?} twice", index);
        }
        for (source, subject) in tried() {
            if let Some(index) = spoken(source, subject, target(source)) {
                prop_assert!(shown.contains(&index), "{:?} speaks as {} of {}", index, source, subject);
            }
        }
        for (index, _) in &plan.not_shown {
            prop_assert!(!shown.contains(&Some(*index)));
        }
        // Each source is there for something.
        let used: BTreeSet<IpAddr> = plan.shown.iter().map(|(_, s)| s.source).collect();
        prop_assert_eq!(used.len(), plan.sources.len());
    }
}
