//! The rules of a host as access lists.

use std::net::IpAddr;

use ipnet::{Ipv4Subnets, Ipv6Subnets};

use super::{AccessLists, Ace, Aces, Acl, Acls, Actions, Icmp, Matches, Network, Ported, Ports};
use crate::brief::Brief;
use crate::names::address::{AddressRange, AddressSet, Family};
use crate::names::traffic::{ICMP, ICMPV6, TCP, TrafficKey, UDP};
use crate::orders::{Action, Rule};
use crate::packet::Direction;

/// Entries that all lists may have together.
const MOST: usize = 100_000;

/// Access lists, and what they do not say.
#[derive(Clone, Debug, PartialEq)]
pub struct Exported {
    /// The document.
    pub lists: AccessLists,
    /// What of the rules the model has no leaf for; such a rule is left out.
    pub unfit: Vec<String>,
    /// Rules that are not active, and so not needed there.
    pub inactive: Vec<String>,
    /// Entries of rules, in all lists.
    pub entries: usize,
}

/// The lists of a host: a direction and family each, in the order of the rules, the standing
/// answer last.
pub fn export(brief: &Brief) -> Exported {
    let (mut unfit, mut inactive) = (Vec::new(), Vec::new());
    let fit: Vec<(usize, &Rule)> = brief
        .rules()
        .enumerate()
        .map(|(at, rule)| (at + 1, rule))
        .filter(|(position, rule)| match lacking(rule) {
            _ if !rule.is_active() => {
                inactive.push(format!("rule {position} ({}) is not active: left out", rule.name));
                false
            }
            reasons if reasons.is_empty() => true,
            reasons => {
                let (name, why) = (&rule.name, reasons.join(", "));
                unfit.push(format!("rule {position} ({name}) is left out: {why}"));
                false
            }
        })
        .collect();
    let (mut lists, mut entries) = (AccessLists { acls: Acls::default() }, 0);
    for direction in Direction::ALL {
        for family in Family::BOTH {
            let mut all: Vec<Ace> = Vec::new();
            for (position, rule) in &fit {
                if !rule.is_active_for(direction, family) {
                    continue;
                }
                let aces = entries_of(rule, family, MOST - entries);
                match aces {
                    Some(aces) => {
                        entries += aces.len();
                        all.extend(aces);
                    }
                    None => unfit.push(format!(
                        "rule {position} ({}) is left out of {direction} {family}: it would take \
                         more than the {MOST} entries that fit",
                        rule.name
                    )),
                }
            }
            all.push(Ace {
                name: "standing answer".into(),
                matches: Matches::default(),
                actions: actions(brief.standing.of(direction), false),
            });
            let (family, kind) = match family {
                Family::V4 => ("ipv4", "ipv4-acl-type"),
                Family::V6 => ("ipv6", "ipv6-acl-type"),
            };
            lists.acls.acl.push(Acl {
                name: format!("{direction}-{family}"),
                kind: Some(kind.into()),
                aces: Aces { ace: all },
            });
        }
    }
    Exported { lists, unfit, inactive, entries }
}

/// What a rule says that no leaf says.
fn lacking(rule: &Rule) -> Vec<&'static str> {
    let wild = |name: &String| name.contains('*');
    let interface = !rule.interface.except.is_empty() || rule.interface.written.iter().any(wild);
    [
        (!rule.program.is_any(), "programs are not known there"),
        (rule.at_most.is_some(), "rates are not known there"),
        (rule.until.is_some(), "times are not known there"),
        (interface, "patterns of interfaces are not known there"),
    ]
    .into_iter()
    .filter_map(|(lacks, why)| lacks.then_some(why))
    .collect()
}

fn actions(action: Action, log: bool) -> Actions {
    let forwarding = match action {
        Action::Allow => "accept",
        Action::Deny => "drop",
        Action::Refuse => "reject",
    };
    Actions {
        forwarding: forwarding.into(),
        logging: log.then(|| "log-syslog".into()),
        ..Actions::default()
    }
}

/// The entries of a rule in one family; `None`: more than `most`.
fn entries_of(rule: &Rule, family: Family, most: usize) -> Option<Vec<Ace>> {
    let sources = prefixes(rule.source.addresses.as_deref(), family, most)?;
    let destinations = prefixes(rule.destination.addresses.as_deref(), family, most)?;
    let traffic = match &rule.traffic.keys {
        None => vec![Matches::default()],
        Some(keys) => keys.ranges().iter().flat_map(|range| transports(*range, family)).collect(),
    };
    let interfaces: Vec<Option<&String>> = match rule.interface.written.as_slice() {
        [] => vec![None],
        names => names.iter().map(Some).collect(),
    };
    let counts = [sources.len(), destinations.len(), traffic.len(), interfaces.len()];
    if counts.iter().try_fold(1usize, |all, count| all.checked_mul(*count))? > most {
        return None;
    }
    let mut all = Vec::new();
    for source in &sources {
        for destination in &destinations {
            for transport in &traffic {
                for interface in &interfaces {
                    let mut matches = transport.clone();
                    address(&mut matches, family, [source.clone(), destination.clone()]);
                    let at = interface.cloned();
                    match rule.direction {
                        Direction::Outbound => matches.egress_interface = at,
                        Direction::Inbound | Direction::Transit => matches.ingress_interface = at,
                    }
                    let name = match all.len() {
                        0 => rule.name.to_string(),
                        n => format!("{}#{}", rule.name, n + 1),
                    };
                    all.push(Ace { name, matches, actions: actions(rule.action, rule.log) });
                }
            }
        }
    }
    Some(all)
}

/// Both ends of a packet.
fn address(matches: &mut Matches, family: Family, [source, destination]: [Option<String>; 2]) {
    let network = match family {
        Family::V4 => &mut matches.ipv4,
        Family::V6 => &mut matches.ipv6,
    };
    if source.is_none() && destination.is_none() {
        return;
    }
    let network = network.get_or_insert_default();
    match family {
        Family::V4 => (network.source_four, network.destination_four) = (source, destination),
        Family::V6 => (network.source_six, network.destination_six) = (source, destination),
    }
}

/// A set as prefixes of one family, `[None]` for any; `None`: more than `most`.
fn prefixes(set: Option<&AddressSet>, family: Family, most: usize) -> Option<Vec<Option<String>>> {
    let Some(set) = set else { return Some(vec![None]) };
    let mut all = Vec::new();
    let mine = |range: &AddressRange| Family::of_address(range.first()) == family;
    for range in set.ranges().iter().filter(|range| mine(range)) {
        match (range.first(), range.last()) {
            (IpAddr::V4(a), IpAddr::V4(b)) => {
                all.extend(Ipv4Subnets::new(a, b, 0).map(|net| Some(net.to_string())));
            }
            (IpAddr::V6(a), IpAddr::V6(b)) => {
                all.extend(Ipv6Subnets::new(a, b, 0).map(|net| Some(net.to_string())));
            }
            _ => {}
        }
        if all.len() > most {
            return None;
        }
    }
    Some(all)
}

/// What packets of one family a range of traffic means.
fn transports((first, last): (TrafficKey, TrafficKey), family: Family) -> Vec<Matches> {
    (first.protocol()..=last.protocol())
        .flat_map(|protocol| {
            let low = if protocol == first.protocol() { first.low() } else { 0 };
            let high = if protocol == last.protocol() { last.low() } else { u16::MAX };
            transport(protocol, (low, high), family)
        })
        .collect()
}

fn transport(protocol: u8, (low, high): (u16, u16), family: Family) -> Vec<Matches> {
    let mut matches = Matches::default();
    let network = Some(Network { protocol: Some(protocol), ..Network::default() });
    match family {
        Family::V4 => matches.ipv4 = network,
        Family::V6 => matches.ipv6 = network,
    }
    let is_whole = (low, high) == (0, u16::MAX);
    match (protocol, family) {
        _ if is_whole => vec![matches],
        (TCP | UDP, _) => {
            let ports = match low == high {
                true => Ports { operator: Some("eq".into()), port: Some(low), ..Ports::default() },
                false => {
                    Ports { lower_port: Some(low), upper_port: Some(high), ..Ports::default() }
                }
            };
            let ported = Some(Ported { destination_port: Some(ports), ..Ported::default() });
            match protocol {
                TCP => matches.tcp = ported,
                _ => matches.udp = ported,
            }
            vec![matches]
        }
        (ICMP, Family::V4) | (ICMPV6, Family::V6) => messages((low, high))
            .map(|icmp| Matches { icmp: Some(icmp), ..matches.clone() })
            .collect(),
        // Others have no numbers of their own: they are looked up as 0.
        _ if low == 0 => vec![matches],
        _ => Vec::new(),
    }
}

/// Types and codes of a range: whole types where all codes are in it.
fn messages((low, high): (u16, u16)) -> impl Iterator<Item = Icmp> {
    let [first, _] = low.to_be_bytes();
    let [last, _] = high.to_be_bytes();
    (first..=last).flat_map(move |kind| {
        let from = low.max(u16::from_be_bytes([kind, 0])).to_be_bytes()[1];
        let to = high.min(u16::from_be_bytes([kind, 255])).to_be_bytes()[1];
        let codes: Vec<Option<u8>> = match (from, to) {
            (0, 255) => vec![None],
            _ => (from..=to).map(Some).collect(),
        };
        codes.into_iter().map(move |code| Icmp { kind: Some(kind), code, ..Icmp::default() })
    })
}
