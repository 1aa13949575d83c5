//! Which decisions are shown: of each list that was given, one must fit.

use std::net::IpAddr;
use std::path::Path;

use tipstaff_core::names::address::{AddressRange, AddressSet};
use tipstaff_core::names::range_set::RangeSet;
use tipstaff_core::names::traffic::TrafficKey;
use tipstaff_core::orders::edit::Which;
use tipstaff_core::orders::{Action, InterfaceCondition, Orders};
use tipstaff_core::packet::Direction;

use crate::acts::named;
use crate::arguments::WatchOptions;
use crate::chosen::LoadedPolicy;
use crate::failure::Failure;

/// What a decision must be to be shown.
#[derive(Default)]
pub(super) struct Filter {
    rules: Vec<Which>,
    verdicts: Vec<Action>,
    directions: Vec<Direction>,
    source: Option<AddressSet>,
    destination: Option<AddressSet>,
    traffic: Option<RangeSet<TrafficKey>>,
    programs: Vec<String>,
    interface: InterfaceCondition,
}

/// What is known of a decision without looking anything up.
#[derive(Clone, Copy)]
pub(super) struct Decided {
    pub verdict: Action,
    pub direction: Direction,
    pub source: IpAddr,
    pub destination: IpAddr,
    pub key: TrafficKey,
}

impl Filter {
    /// What was asked for, by the names of the orders in force.
    pub(super) fn new(options: &WatchOptions, judge: &LoadedPolicy) -> Result<Self, Failure> {
        for rule in &options.rules {
            named::rule(judge, rule)?;
        }
        let mut traffic: Option<RangeSet<TrafficKey>> = None;
        for text in &options.traffic {
            let keys = named::traffic(judge, text)?;
            traffic = Some(traffic.map_or_else(|| keys.clone(), |known| known.union(&keys)));
        }
        Ok(Self {
            rules: options.rules.iter().map(|rule| Which::parse(rule)).collect(),
            verdicts: options.verdicts.iter().copied().map(Action::from).collect(),
            directions: options.ways.iter().copied().map(Direction::from).collect(),
            source: addresses(&judge.orders, &options.sources)?,
            destination: addresses(&judge.orders, &options.destinations)?,
            traffic,
            programs: options.programs.clone(),
            interface: InterfaceCondition {
                written: options.interfaces.clone(),
                except: Vec::new(),
            },
        })
    }

    /// Whether a decision can be meant, before anything is looked up for it.
    pub(super) fn may_show(&self, decided: Decided) -> bool {
        let holds = |set: &Option<AddressSet>, address| {
            set.as_ref().is_none_or(|set| set.contains(address))
        };
        is_in(&self.verdicts, decided.verdict)
            && is_in(&self.directions, decided.direction)
            && holds(&self.source, decided.source)
            && holds(&self.destination, decided.destination)
            && self.traffic.as_ref().is_none_or(|keys| keys.contains(decided.key))
    }

    /// Whether it is meant. `rule`: the name and the position of the rule that decided.
    pub(super) fn shows(
        &self,
        rule: Option<(&str, usize)>,
        program: Option<&str>,
        interface: &str,
    ) -> bool {
        let is_rule = |which: &Which| match (which, rule) {
            (_, None) => false,
            (Which::Name(wanted), Some((name, _))) => wanted == name,
            (Which::Position(wanted), Some((_, position))) => *wanted == position,
        };
        (self.rules.is_empty() || self.rules.iter().any(is_rule))
            && (self.programs.is_empty() || program.is_some_and(|path| self.is_program(path)))
            && self.interface.holds(interface)
    }

    /// By its path, or by the name of its file.
    fn is_program(&self, path: &str) -> bool {
        let name = Path::new(path).file_name().and_then(|name| name.to_str());
        self.programs.iter().any(|wanted| wanted == path || Some(wanted.as_str()) == name)
    }
}

fn is_in<T: PartialEq>(wanted: &[T], it: T) -> bool {
    wanted.is_empty() || wanted.contains(&it)
}

/// Addresses, networks, ranges and groups of the orders.
fn addresses(orders: &Orders, texts: &[String]) -> Result<Option<AddressSet>, Failure> {
    let mut all: Option<AddressSet> = None;
    for text in texts {
        let set = match orders.groups.get(text) {
            Some(group) => group.as_ref().clone(),
            None => match AddressRange::parse(text) {
                Ok(range) => AddressSet::from_ranges(&[range]),
                Err(fault) => return Err(no_address(orders, text, &fault)),
            },
        };
        all = Some(all.map_or_else(|| set.clone(), |known| known.union(&set)));
    }
    Ok(all)
}

fn no_address(orders: &Orders, text: &str, fault: &dyn std::fmt::Display) -> Failure {
    let names: Vec<&str> = orders.groups.keys().map(String::as_str).collect();
    let groups = match names.as_slice() {
        [] => String::new(),
        names => format!(", or one of {}", names.join(", ")),
    };
    Failure::Argument {
        message: format!("`{text}`: {fault}"),
        help: format!("Give an address, a network such as 203.0.113.0/24{groups}."),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn decided(source: &str, port: u16, verdict: Action) -> Decided {
        Decided {
            verdict,
            direction: Direction::Inbound,
            source: source.parse().unwrap(),
            destination: "198.51.100.20".parse().unwrap(),
            key: TrafficKey::new(6, port),
        }
    }

    #[test]
    fn one_of_each_list_must_fit() {
        let network = AddressRange::parse("203.0.113.0/24").unwrap();
        let filter = Filter {
            verdicts: vec![Action::Deny, Action::Refuse],
            source: Some(AddressSet::from_ranges(&[network])),
            ..Filter::default()
        };
        assert!(filter.may_show(decided("203.0.113.9", 22, Action::Deny)));
        assert!(filter.may_show(decided("203.0.113.9", 22, Action::Refuse)));
        assert!(!filter.may_show(decided("203.0.113.9", 22, Action::Allow)));
        assert!(!filter.may_show(decided("192.0.2.66", 22, Action::Deny)));
        assert!(filter.shows(None, None, "lan0"));
        let port = RangeSet::from_ranges([(TrafficKey::new(6, 22), TrafficKey::new(6, 22))]);
        let filter = Filter { traffic: Some(port), ..Filter::default() };
        assert!(filter.may_show(decided("192.0.2.66", 22, Action::Allow)));
        assert!(!filter.may_show(decided("192.0.2.66", 23, Action::Allow)));
    }

    #[test]
    fn rules_programs_and_interfaces_are_known_by_their_names() {
        let filter = Filter {
            rules: vec![Which::parse("plates"), Which::parse("4")],
            programs: vec!["plated".into()],
            interface: InterfaceCondition { written: vec!["lan*".into()], except: Vec::new() },
            ..Filter::default()
        };
        let path = Some("/usr/sbin/plated");
        assert!(filter.shows(Some(("plates", 2)), path, "lan0"));
        assert!(filter.shows(Some(("other", 4)), path, "lan1"));
        assert!(!filter.shows(Some(("other", 2)), path, "lan0"));
        assert!(!filter.shows(None, path, "lan0"));
        assert!(!filter.shows(Some(("plates", 2)), Some("/usr/sbin/sshd"), "lan0"));
        assert!(!filter.shows(Some(("plates", 2)), None, "lan0"));
        assert!(!filter.shows(Some(("plates", 2)), path, "dish0"));
    }
}
