//! Who was turned away from which port on how many days.

use std::collections::{BTreeMap, BTreeSet, HashMap};

use super::entry::Entry;
use crate::orders::Action;
use crate::packet::Direction;

/// Sources of a port are told apart up to so many.
const MOST_SOURCES: usize = 100;

/// What was asked for and not let in, of a part of a log.
#[derive(Clone, Debug, Default)]
pub struct Demand {
    ports: HashMap<String, Port>,
    days: BTreeSet<String>,
}

#[derive(Clone, Debug, Default)]
struct Port {
    days: BTreeSet<String>,
    sources: BTreeMap<String, u64>,
    let_in: bool,
}

/// A port that was asked for, and nobody was let in to.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Wanted {
    /// `tcp/7410`.
    pub traffic: String,
    /// Days on which somebody was turned away.
    pub days: usize,
    /// Days that the log has.
    pub of: usize,
    /// Who asked most.
    pub source: String,
    /// How many sources asked, at least.
    pub sources: usize,
}

impl Demand {
    /// Counts a decision.
    pub fn add(&mut self, entry: &Entry<'_>) {
        let day = entry.time.get(..10).unwrap_or_default();
        if !self.days.contains(day) {
            self.days.insert(day.to_owned());
        }
        if entry.direction != Direction::Inbound {
            return;
        }
        let port = match self.ports.get_mut(&*entry.traffic) {
            Some(port) => port,
            None => self.ports.entry(entry.traffic.to_string()).or_default(),
        };
        if entry.verdict == Action::Allow {
            port.let_in = true;
            return;
        }
        if !port.days.contains(day) {
            port.days.insert(day.to_owned());
        }
        let source = entry.source_address().map(|a| a.to_string()).unwrap_or_default();
        if port.sources.len() < MOST_SOURCES || port.sources.contains_key(&source) {
            *port.sources.entry(source).or_default() += 1;
        }
    }

    /// With what another part has.
    pub fn merge(&mut self, other: Self) {
        self.days.extend(other.days);
        for (traffic, more) in other.ports {
            let port = self.ports.entry(traffic).or_default();
            port.days.extend(more.days);
            port.let_in |= more.let_in;
            for (source, count) in more.sources {
                *port.sources.entry(source).or_default() += count;
            }
        }
    }

    /// Ports that nobody was let in to.
    pub fn wanted(&self) -> Vec<Wanted> {
        let ports = self.ports.iter().filter(|(_, port)| !port.let_in && !port.days.is_empty());
        let mut all: Vec<Wanted> = ports
            .map(|(traffic, port)| Wanted {
                traffic: traffic.clone(),
                days: port.days.len(),
                of: self.days.len(),
                source: port
                    .sources
                    .iter()
                    .max_by_key(|(_, count)| **count)
                    .map(|(source, _)| source.clone())
                    .unwrap_or_default(),
                sources: port.sources.len(),
            })
            .collect();
        all.sort_by(|a, b| a.traffic.cmp(&b.traffic));
        all
    }
}

#[cfg(test)]
mod tests {
    use super::super::entry::example;
    use super::*;

    fn entry<'t>(day: &'t str, port: &'t str, source: &'t str, verdict: Action) -> Entry<'t> {
        Entry {
            time: day.into(),
            traffic: port.into(),
            source: source.into(),
            verdict,
            ..example()
        }
    }

    #[test]
    fn days_and_sources_are_told_of_ports_that_nobody_was_let_in_to() {
        let (mut one, mut other) = (Demand::default(), Demand::default());
        let (first, second) = ("2026-11-28T10:00:00Z", "2026-11-29T10:00:00Z");
        one.add(&entry(first, "tcp/7430", "203.0.113.9:1", Action::Deny));
        one.add(&entry(first, "tcp/7430", "203.0.113.9:2", Action::Refuse));
        one.add(&entry(first, "tcp/7410", "192.0.2.66:1", Action::Deny));
        other.add(&entry(second, "tcp/7430", "192.0.2.66:1", Action::Deny));
        other.add(&entry(second, "tcp/7410", "203.0.113.9:1", Action::Allow));
        one.merge(other);
        assert_eq!(
            one.wanted(),
            [Wanted {
                traffic: "tcp/7430".into(),
                days: 2,
                of: 2,
                source: "203.0.113.9".into(),
                sources: 2
            }]
        );
    }
}
