//! Where a reach check looks from: whatever rule can be shown is shown, by a
//! packet that it decides.

#![allow(clippy::unwrap_used)]

use std::collections::BTreeSet;
use std::net::IpAddr;

use proptest::prelude::*;
use tipstaff_core::analysis::reach::{
    Arrival, CellContext, How, Observed, Outcome, Plan, Showing, Subject, Vantage, cell,
    first_packet, plan,
};
use tipstaff_core::arbitrary;
use tipstaff_core::brief::Brief;
use tipstaff_core::decision::{Speaker, decide};
use tipstaff_core::host::listener::Listener;
use tipstaff_core::names::address::Family;
use tipstaff_core::names::traffic::Transport;
use tipstaff_core::orders::read;
use tipstaff_core::packet::{Direction, InterfaceIndex};
use tipstaff_core::tables::Tables;

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

/// Something listens on a few of the ports that rules are often about.
fn some_listeners() -> Vec<Listener> {
    let one = Listener::of_root;
    vec![
        one(Transport::Tcp, 22, [0, 0, 0, 0].into()),
        one(Transport::Tcp, 7411, [0, 0, 0, 0].into()),
        one(Transport::Udp, 7420, [127, 0, 0, 1].into()),
    ]
}

proptest! {
    /// Tables change nothing in what is said of a cell: what is meant, by whom, why
    /// it differs and what to do.
    #[test]
    fn cells_are_the_same_by_the_tables(brief in arbitrary::brief(12), elsewhere: bool) {
        let tables = Tables::build(&brief).unwrap();
        let listeners = some_listeners();
        let plain = CellContext::plain(&brief, (!elsewhere).then_some(&listeners));
        let quick = CellContext { tables: Some(&tables), ..plain };
        for (source, subject) in tried().step_by(7) {
            for vantage in [Vantage::Here, Vantage::outside(source)] {
                for outcome in [Outcome::Answers, Outcome::Refuses, Outcome::Silent] {
                    let seen = Observed { outcome, how: How::Wire, ..Observed::unknown("") };
                    let at = Arrival { target: target(source), interface: LAN };
                    let one = |around| cell(subject, &vantage, at, seen.clone(), around);
                    prop_assert_eq!(one(&plain), one(&quick));
                }
            }
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig { cases: 300, ..ProptestConfig::default() })]

    /// What a plan says is so, and it leaves out nothing that could be shown.
    #[test]
    fn a_plan_shows_all_there_is_to_show(brief in arbitrary::brief(10)) {
        let mut way = |source: IpAddr| Some(Arrival { target: target(source), interface: LAN });
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
            let family = Family::of_address(*source);
            prop_assert!(shown.insert((*index, family)), "{:?} twice in {}", index, family);
        }
        for (source, subject) in tried() {
            if let Some(index) = spoken(source, subject, target(source)) {
                let shown = shown.contains(&(index, Family::of_address(source)));
                prop_assert!(shown, "{:?} speaks as {} of {}", index, source, subject);
            }
        }
        for (index, _) in &plan.not_shown {
            prop_assert!(shown.iter().all(|(shown, _)| *shown != Some(*index)));
        }
        // Each source is there for something.
        let used: BTreeSet<IpAddr> = plan.shown.iter().map(|(_, s)| s.source).collect();
        prop_assert_eq!(used.len(), plan.sources.len());
    }
}

const OWN: &str = "198.51.100.20";

fn ip(text: &str) -> IpAddr {
    text.parse().unwrap()
}

fn brief(rules: &str) -> Brief {
    let head =
        "version = 1\n[standing]\ninbound = \"deny\"\noutbound = \"allow\"\ntransit = \"deny\"\n";
    Brief::unplaced(&read(&format!("{head}{rules}")).unwrap())
}

fn planned(brief: &Brief) -> Plan {
    let mut way =
        |source: IpAddr| source.is_ipv4().then_some(Arrival { target: ip(OWN), interface: LAN });
    plan(brief, &[], &mut way, &[ip(OWN)], &[ip("198.51.100.1")])
}

#[test]
fn few_sources_show_every_rule() {
    let brief = brief(
        r#"
[[rules]]
name = "visitors"
action = "deny"
traffic = "ssh"
source = "198.51.100.128/25"
[[rules]]
name = "shell"
action = "allow"
traffic = "ssh"
source = "198.51.100.0/24"
[[rules]]
name = "plates"
action = "allow"
traffic = "tcp/7410"
source = ["198.51.100.0/24", "203.0.113.0/24"]
[[rules]]
name = "hidden"
action = "allow"
traffic = "ssh"
source = "198.51.100.9"
[[rules]]
name = "tunnel"
action = "allow"
traffic = "protocol/47"
"#,
    );
    let plan = planned(&brief);
    // A visitor, and somebody else of the house; the standing answer is for either.
    assert_eq!(plan.sources.len(), 2, "{plan:?}");
    let shown: Vec<Option<u32>> = plan.shown.iter().map(|(i, _)| i.map(|i| i.0)).collect();
    assert_eq!(shown, [Some(0), Some(1), Some(2), None]);
    for (index, Showing { source, subject, target }) in &plan.shown {
        let facts = first_packet(*subject, *source, *target, InterfaceIndex(2));
        let speaker = index.map_or(Speaker::Standing(Direction::Inbound), Speaker::Rule);
        assert_eq!(decide(&brief, &facts).speaker, speaker);
    }
    let not: Vec<u32> = plan.not_shown.iter().map(|(index, _)| index.0).collect();
    assert_eq!(not, [3, 4]);
    assert!(plan.not_shown[1].1.contains("cannot be probed"));
}
