//! Which decisions are meant: of each list that was given, one must fit.

use std::net::IpAddr;
use std::path::Path;

use super::entry::Entry;
use crate::names::address::AddressSet;
use crate::names::range_set::RangeSet;
use crate::names::traffic::{TrafficKey, keys_of_packet};
use crate::orders::edit::Which;
use crate::orders::{Action, InterfaceCondition};
use crate::packet::Direction;

/// What a decision must be.
#[derive(Clone, Debug, Default)]
pub struct LogFilter {
    /// Not before this moment, as entries have it.
    pub since: Option<String>,
    /// Before this one.
    pub until: Option<String>,
    /// Of these rules.
    pub rules: Vec<Which>,
    /// These answers.
    pub verdicts: Vec<Action>,
    /// These directions.
    pub directions: Vec<Direction>,
    /// From these addresses.
    pub source: Option<AddressSet>,
    /// To these.
    pub destination: Option<AddressSet>,
    /// This traffic.
    pub traffic: Option<RangeSet<TrafficKey>>,
    /// These programs, by path or name of the file.
    pub programs: Vec<String>,
    /// On these interfaces.
    pub interface: InterfaceCondition,
    /// Of rehearsed orders only, or of those in force only; `None`: of both.
    pub rehearsed: Option<bool>,
}

impl LogFilter {
    /// All that was decided in force.
    pub fn in_force() -> Self {
        Self { rehearsed: Some(false), ..Self::default() }
    }

    /// Whether a decision is meant.
    pub fn shows(&self, entry: &Entry<'_>) -> bool {
        self.is_in_time(&entry.time)
            && self.rehearsed.is_none_or(|rehearsed| rehearsed == entry.rehearsed)
            && is_in(&self.verdicts, &entry.verdict)
            && is_in(&self.directions, &entry.direction)
            && is_among(self.source.as_ref(), || entry.source_address())
            && is_among(self.destination.as_ref(), || entry.destination_address())
            && self.traffic.as_ref().is_none_or(|keys| is_traffic(keys, &entry.traffic))
            && (self.rules.is_empty() || self.rules.iter().any(|rule| is_rule(rule, entry)))
            && (self.programs.is_empty()
                || entry.program.as_ref().is_some_and(|path| self.is_program(path)))
            && self.interface.holds(&entry.interface)
    }

    /// Whether a moment is between the two.
    pub fn is_in_time(&self, time: &str) -> bool {
        self.since.as_deref().is_none_or(|since| since <= time)
            && self.until.as_deref().is_none_or(|until| time < until)
    }

    fn is_program(&self, path: &str) -> bool {
        let name = Path::new(path).file_name().and_then(|name| name.to_str());
        self.programs.iter().any(|wanted| wanted == path || Some(wanted.as_str()) == name)
    }
}

fn is_in<T: PartialEq>(wanted: &[T], it: &T) -> bool {
    wanted.is_empty() || wanted.contains(it)
}

fn is_among(wanted: Option<&AddressSet>, address: impl Fn() -> Option<IpAddr>) -> bool {
    wanted.is_none_or(|set| address().is_some_and(|address| set.contains(address)))
}

fn is_traffic(wanted: &RangeSet<TrafficKey>, traffic: &str) -> bool {
    keys_of_packet(traffic)
        .iter()
        .any(|(first, last)| wanted.contains(*first) && wanted.contains(*last))
}

fn is_rule(wanted: &Which, entry: &Entry<'_>) -> bool {
    match wanted {
        Which::Name(name) => entry.rule.as_deref() == Some(name),
        Which::Position(position) => entry.position == Some(*position),
    }
}

#[cfg(test)]
mod tests {
    use super::super::entry::example;
    use super::*;
    use crate::names::address::AddressRange;

    fn entry() -> Entry<'static> {
        Entry {
            program: Some("/usr/sbin/plated".into()),
            by: "rule 2 (plates)".into(),
            rule: Some("plates".into()),
            position: Some(2),
            ..example()
        }
    }

    fn set(text: &str) -> Option<AddressSet> {
        Some(AddressSet::from_ranges(&[AddressRange::parse(text).unwrap()]))
    }

    fn port(port: u16) -> Option<RangeSet<TrafficKey>> {
        let key = TrafficKey::new(6, port);
        Some(RangeSet::from_ranges([(key, key)]))
    }

    #[test]
    fn one_of_each_list_must_fit() {
        let right = LogFilter {
            since: Some("2026-11-29T10:00:00.000000Z".into()),
            until: Some("2026-11-29T11:00:00.000000Z".into()),
            rules: vec![Which::parse("other"), Which::parse("2")],
            verdicts: vec![Action::Refuse, Action::Deny],
            directions: vec![Direction::Inbound],
            source: set("203.0.113.0/24"),
            destination: set("198.51.100.20"),
            traffic: port(22),
            programs: vec!["plated".into()],
            interface: InterfaceCondition { written: vec!["lan*".into()], except: Vec::new() },
            rehearsed: Some(false),
        };
        assert!(right.shows(&entry()) && LogFilter::default().shows(&entry()));
        let wrong: [fn(&mut LogFilter); 10] = [
            |f| f.since = Some("2026-11-29T10:00:00.000001Z".into()),
            |f| f.until = f.since.clone(),
            |f| f.rehearsed = Some(true),
            |f| f.rules = vec![Which::parse("3")],
            |f| f.verdicts = vec![Action::Allow],
            |f| f.directions = vec![Direction::Transit],
            |f| f.source = set("192.0.2.0/24"),
            |f| f.destination = set("198.51.100.21"),
            |f| f.traffic = port(23),
            |f| f.programs = vec!["/usr/sbin/sshd".into()],
        ];
        for (n, change) in wrong.iter().enumerate() {
            let mut filter = right.clone();
            change(&mut filter);
            assert!(!filter.shows(&entry()), "{n}");
        }
        let nobody = Entry { rule: None, position: None, program: None, ..entry() };
        assert!(!right.shows(&nobody));
        let (to_port_0, traffic) = (Entry { traffic: "tcp/0".into(), ..entry() }, port(0));
        assert!(LogFilter { traffic, ..right }.shows(&to_port_0));
    }
}
