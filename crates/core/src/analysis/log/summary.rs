//! Who or what comes up how often in a log.

use std::borrow::Cow;
use std::collections::HashMap;

use schemars::JsonSchema;
use serde::Serialize;

use super::entry::{Entry, Text};
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

    fn key<'t>(self, entry: &Entry<'t>) -> Cow<'t, str> {
        match self {
            Self::Sources => part(&entry.source, without_port),
            Self::Ports => entry.traffic.0.clone(),
            Self::Rules => entry.by.0.clone(),
            Self::Programs => {
                entry.program.as_ref().map_or(Cow::Borrowed("unknown"), |p| p.0.clone())
            }
            Self::Hour => part(&entry.time, |time| time.get(..13).unwrap_or(time)),
            Self::Day => part(&entry.time, |time| time.get(..10).unwrap_or(time)),
        }
    }
}

/// A part of a text, borrowed where the text is.
fn part<'t>(text: &Text<'t>, of: fn(&str) -> &str) -> Cow<'t, str> {
    match &text.0 {
        Cow::Borrowed(text) => Cow::Borrowed(of(text)),
        Cow::Owned(text) => Cow::Owned(of(text).to_owned()),
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
pub struct Row<'t> {
    /// Who or what.
    pub name: Cow<'t, str>,
    /// Decisions that denied or refused.
    pub turned_away: u64,
    /// Decisions that allowed.
    pub allowed: u64,
    /// When first.
    pub first: Cow<'t, str>,
    /// When last.
    pub last: Cow<'t, str>,
}

/// Counts of a log, or of a part of it.
#[derive(Clone, Debug)]
pub struct Summary<'t> {
    by: GroupBy,
    rows: HashMap<Cow<'t, str>, Row<'t>>,
}

impl<'t> Summary<'t> {
    /// Nothing yet.
    pub fn new(by: GroupBy) -> Self {
        Self { by, rows: HashMap::new() }
    }

    /// Counts a decision.
    pub fn add(&mut self, entry: &Entry<'t>) {
        let (turned_away, allowed) = match entry.verdict {
            Action::Allow => (0, 1),
            Action::Deny | Action::Refuse => (1, 0),
        };
        let (first, last) = (entry.time.0.clone(), entry.time.0.clone());
        self.put(Row { name: self.by.key(entry), turned_away, allowed, first, last });
    }

    /// Adds the counts of another part.
    pub fn merge(&mut self, other: Self) {
        other.rows.into_values().for_each(|row| self.put(row));
    }

    fn put(&mut self, row: Row<'t>) {
        match self.rows.get_mut(&row.name) {
            Some(known) => {
                known.turned_away += row.turned_away;
                known.allowed += row.allowed;
                if row.first < known.first {
                    known.first = row.first;
                }
                if row.last > known.last {
                    known.last = row.last;
                }
            }
            None => {
                self.rows.insert(row.name.clone(), row);
            }
        }
    }

    /// The same, without the texts that it borrows from.
    pub fn into_owned(self) -> Summary<'static> {
        fn owned(text: Cow<'_, str>) -> Cow<'static, str> {
            Cow::Owned(text.into_owned())
        }
        let rows = self.rows.into_values().map(|row| {
            let row = Row {
                name: owned(row.name),
                turned_away: row.turned_away,
                allowed: row.allowed,
                first: owned(row.first),
                last: owned(row.last),
            };
            (row.name.clone(), row)
        });
        Summary { by: self.by, rows: rows.collect() }
    }

    /// Pieces of time in their order; else who was turned away most first.
    pub fn rows(self) -> Vec<Row<'t>> {
        let mut rows: Vec<_> = self.rows.into_values().collect();
        match self.by.is_time() {
            true => rows.sort_by(|a, b| a.name.cmp(&b.name)),
            false => rows.sort_by(|a, b| {
                let counts = |row: &Row<'_>| (row.turned_away, row.allowed);
                counts(b).cmp(&counts(a)).then_with(|| a.name.cmp(&b.name))
            }),
        }
        rows
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::packet::Direction;

    fn entry<'t>(time: &'t str, source: &'t str, verdict: Action) -> Entry<'t> {
        Entry {
            time: time.into(),
            direction: Direction::Inbound,
            interface: "lan0".into(),
            traffic: "tcp/22".into(),
            source: source.into(),
            destination: "198.51.100.20:22".into(),
            program: None,
            verdict,
            by: "the standing answer inbound".into(),
            rule: None,
            position: None,
        }
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
        let told: Vec<_> = rows.iter().map(|r| (&*r.name, r.turned_away, r.allowed)).collect();
        assert_eq!(told, [("2001:db8::9", 2, 0), ("203.0.113.9", 0, 3)]);
        assert_eq!(
            (&*rows[0].first, &*rows[0].last),
            ("2026-11-29T09:00:00Z", "2026-11-29T10:00:00Z")
        );
    }

    #[test]
    fn hours_are_in_their_order() {
        let mut hours = Summary::new(GroupBy::Hour);
        for time in ["2026-11-29T11:00:00Z", "2026-11-29T10:59:59Z", "2026-11-29T11:30:00Z"] {
            hours.add(&entry(time, "203.0.113.9", Action::Deny));
        }
        let told: Vec<_> = hours.rows().into_iter().map(|r| (r.name, r.turned_away)).collect();
        assert_eq!(told, [("2026-11-29T10".into(), 1), ("2026-11-29T11".into(), 2)]);
    }
}
