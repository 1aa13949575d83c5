//! Who or what comes up how often in a log.

use std::collections::HashMap;

use schemars::JsonSchema;
use serde::Serialize;

use super::entry::Entry;
use crate::orders::Action;

/// What is counted together.
#[derive(Clone, Copy, Debug, PartialEq, Eq, JsonSchema, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum GroupBy {
    /// The source, without its port.
    Sources,
    /// The port, or the message.
    Ports,
    /// What decided.
    Rules,
    /// The program.
    Programs,
    /// The hour, in UTC.
    Hour,
    /// The day, in UTC.
    Day,
}

impl GroupBy {
    /// Whether it is a piece of time.
    pub fn is_time(self) -> bool {
        matches!(self, Self::Hour | Self::Day)
    }

    fn key<'e>(self, entry: &'e Entry<'_>) -> &'e str {
        match self {
            Self::Sources => without_port(&entry.source),
            Self::Ports => &entry.traffic,
            Self::Rules => &entry.by,
            Self::Programs => entry.program.as_deref().unwrap_or("unknown"),
            Self::Hour => entry.time.get(..13).unwrap_or(&entry.time),
            Self::Day => entry.time.get(..10).unwrap_or(&entry.time),
        }
    }
}

/// `203.0.113.9:4242` and `[2001:db8::9]:4242` without the port.
fn without_port(end: &str) -> &str {
    match (end.strip_prefix('['), end.rsplit_once(':')) {
        (Some(six), _) => six.split(']').next().unwrap_or(six),
        (None, Some((four, _))) if !four.contains(':') => four,
        _ => end,
    }
}

/// How often.
#[derive(Clone, Debug, PartialEq, Eq, JsonSchema, Serialize)]
pub struct Row {
    /// Who or what.
    pub name: String,
    /// Decisions that denied or refused.
    pub turned_away: u64,
    /// Decisions that allowed.
    pub allowed: u64,
    /// When first.
    pub first: String,
    /// When last.
    pub last: String,
}

/// Counts of a log, or of a part of it.
#[derive(Clone, Debug)]
pub struct Summary {
    by: GroupBy,
    rows: HashMap<String, Row>,
}

impl Summary {
    /// Nothing yet.
    pub fn new(by: GroupBy) -> Self {
        Self { by, rows: HashMap::new() }
    }

    /// Counts a decision.
    pub fn add(&mut self, entry: &Entry<'_>) {
        let (turned_away, allowed) = match entry.verdict {
            Action::Allow => (0, 1),
            Action::Deny | Action::Refuse => (1, 0),
        };
        let (name, time) = (self.by.key(entry), &*entry.time);
        match self.rows.get_mut(name) {
            Some(known) => known.add(turned_away, allowed, [time, time]),
            None => {
                let (name, time) = (name.to_owned(), time.to_owned());
                let (first, last) = (time.clone(), time);
                self.rows.insert(name.clone(), Row { name, turned_away, allowed, first, last });
            }
        }
    }

    /// Adds the counts of another part.
    pub fn merge(&mut self, other: Self) {
        for (name, row) in other.rows {
            match self.rows.get_mut(&name) {
                Some(known) => known.add(row.turned_away, row.allowed, [&row.first, &row.last]),
                None => drop(self.rows.insert(name, row)),
            }
        }
    }

    /// Forgets the smaller half where there are more than so many.
    pub fn forget_beyond(&mut self, most: usize) {
        if self.rows.len() <= most {
            return;
        }
        let mut counts: Vec<u64> =
            self.rows.values().map(|row| row.turned_away + row.allowed).collect();
        let middle = counts.len() / 2;
        let (_, middle, _) = counts.select_nth_unstable(middle);
        let (middle, mut room) = (*middle, most / 2);
        self.rows.retain(|_, row| {
            let keep = row.turned_away + row.allowed > middle || room > 0;
            room -= usize::from(keep && room > 0);
            keep
        });
    }

    /// Pieces of time in their order; else who was turned away most first.
    pub fn rows(&self) -> Vec<&Row> {
        let mut rows: Vec<&Row> = self.rows.values().collect();
        match self.by.is_time() {
            true => rows.sort_by(|a, b| a.name.cmp(&b.name)),
            false => rows.sort_by(|a, b| {
                let counts = |row: &Row| (row.turned_away, row.allowed);
                counts(b).cmp(&counts(a)).then_with(|| a.name.cmp(&b.name))
            }),
        }
        rows
    }
}

impl Row {
    fn add(&mut self, turned_away: u64, allowed: u64, [first, last]: [&str; 2]) {
        self.turned_away += turned_away;
        self.allowed += allowed;
        // In their own room: mostly each decision is the last one yet.
        if first < self.first.as_str() {
            first.clone_into(&mut self.first);
        }
        if last > self.last.as_str() {
            last.clone_into(&mut self.last);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::super::entry::example;
    use super::*;

    fn entry<'t>(time: &'t str, source: &'t str, verdict: Action) -> Entry<'t> {
        Entry { time: time.into(), source: source.into(), verdict, ..example() }
    }

    #[test]
    fn who_was_turned_away_most_comes_first() {
        let mut parts = [Summary::new(GroupBy::Sources), Summary::new(GroupBy::Sources)];
        for (n, (time, source, verdict)) in [
            ("2026-11-29T10:00:00Z", "[2001:db8::9]:1", Action::Deny),
            ("2026-11-29T11:00:00Z", "203.0.113.9:1", Action::Allow),
            ("2026-11-29T09:00:00Z", "2001:db8::9", Action::Refuse),
            ("2026-11-29T12:00:00Z", "203.0.113.9:2", Action::Allow),
            ("2026-11-29T12:00:00Z", "203.0.113.9:3", Action::Allow),
        ]
        .into_iter()
        .enumerate()
        {
            parts[n % 2].add(&entry(time, source, verdict));
        }
        let [mut all, other] = parts;
        all.merge(other);
        let rows = all.rows();
        let told: Vec<_> =
            rows.iter().map(|r| (r.name.as_str(), r.turned_away, r.allowed)).collect();
        assert_eq!(told, [("2001:db8::9", 2, 0), ("203.0.113.9", 0, 3)]);
        assert_eq!(
            (rows[0].first.as_str(), rows[0].last.as_str()),
            ("2026-11-29T09:00:00Z", "2026-11-29T10:00:00Z")
        );
    }

    #[test]
    fn hours_are_in_their_order() {
        let mut hours = Summary::new(GroupBy::Hour);
        for time in ["2026-11-29T11:00:00Z", "2026-11-29T10:59:59Z", "2026-11-29T11:30:00Z"] {
            hours.add(&entry(time, "203.0.113.9", Action::Deny));
        }
        let told: Vec<_> =
            hours.rows().into_iter().map(|r| (r.name.as_str(), r.turned_away)).collect();
        assert_eq!(told, [("2026-11-29T10", 1), ("2026-11-29T11", 2)]);
    }
}
