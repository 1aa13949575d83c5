//! A finished check: its table, what has changed since another one, and what
//! several machines saw together.

use std::collections::BTreeMap;
use std::net::IpAddr;

use serde::{Deserialize, Serialize};

use super::{Cell, Outcome, Subject, Vantage};

/// From so many ports in a row on, one row stands for them.
pub const SEVERAL: usize = 4;

/// A finished check. Read and written as JSON.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Report {
    /// The host that was checked.
    pub host: String,
    /// The orders that it was judged by, in words.
    pub orders: String,
    /// Their hash.
    pub hash: String,
    /// `up`, `down`, or `unknown` to who may not look.
    pub gate: String,
    /// When, seconds since 1970-01-01 UTC.
    pub at: i64,
    /// Where it was looked from; the cells of a row have the same order.
    pub vantages: Vec<Vantage>,
    /// The table.
    pub rows: Vec<Row>,
    /// Which rules were shown to be true, where that was asked for.
    #[serde(default, skip_serializing_if = "Vec::is_empty")]
    pub rules: Vec<Shown>,
    /// Cells that are not as they should be.
    pub differences: usize,
    /// Cells that are not as they should be, and accepted by the rule that says so.
    #[serde(default)]
    pub accepted: usize,
    /// Cells that nobody could find out.
    pub unknown: usize,
    /// What is said once.
    pub notes: Vec<String>,
    /// Whether everything was looked at that was to be.
    pub complete: bool,
}

/// One port, or several in a row that do the same, and a cell a vantage.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Row {
    /// What was checked.
    pub subject: Subject,
    /// The last port, where the row stands for several.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub last: Option<u16>,
    /// The own address that was knocked on, where it is not the usual one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at: Option<IpAddr>,
    /// Who listens, by name.
    pub programs: Vec<String>,
    /// Whether anybody listens.
    pub heard: bool,
    /// What each vantage saw; `None` where one did not look.
    pub cells: Vec<Option<Cell>>,
}

/// A rule, and the cell that shows it.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Shown {
    /// The rule, or the standing answer, in words.
    pub rule: String,
    /// What shows it: `tcp/7410 as 203.0.113.9`.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub by: Option<String>,
    /// What was seen there.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub outcome: Option<Outcome>,
    /// Whether that is what it says; `None` where it could not be shown.
    pub holds: Option<bool>,
    /// Why it could not be shown, or why it does not hold.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub why: Option<String>,
}

/// What was checked, by what and when.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Checked {
    /// The host.
    pub host: String,
    /// The orders that it was judged by, in words.
    pub orders: String,
    /// Their hash.
    pub hash: String,
    /// `up`, `down`, or `unknown` to who may not look.
    pub gate: String,
    /// When, seconds since 1970-01-01 UTC.
    pub at: i64,
}

/// Which row of a table.
type Place = (Subject, Option<IpAddr>);

impl Row {
    /// `tcp/7410`, `tcp/1-21`, `tcp/443 at 198.51.100.21`.
    pub fn words(&self) -> String {
        let mut words = self.subject.to_string();
        if let Some(last) = self.last {
            words.push_str(&format!("-{last}"));
        }
        if let Some(at) = self.at {
            words.push_str(&format!(" at {at}"));
        }
        words
    }

    /// Whether it can be a row of a table with so many vantages: its last port is
    /// not before its first, and it has a cell for each.
    fn is_whole(&self, vantages: usize) -> bool {
        let ordered = match (self.subject, self.last) {
            (Subject::Port(_, first), Some(last)) => first <= last,
            (Subject::Echo, last) => last.is_none(),
            (Subject::Port(..), None) => true,
        };
        ordered && self.cells.len() == vantages
    }

    /// How many ports it stands for.
    pub fn ports(&self) -> usize {
        match (self.subject, self.last) {
            (Subject::Port(_, first), Some(last)) => usize::from(last.saturating_sub(first)) + 1,
            _ => 1,
        }
    }

    /// The rows of its ports, one by one.
    fn each(&self) -> impl Iterator<Item = Place> {
        let (subject, at) = (self.subject, self.at);
        let ports = match (subject, self.last) {
            (Subject::Port(_, first), Some(last)) => first..=last,
            (Subject::Port(_, port), None) => port..=port,
            (Subject::Echo, _) => 0..=0,
        };
        ports.map(move |port| match subject {
            Subject::Port(transport, _) => (Subject::Port(transport, port), at),
            Subject::Echo => (Subject::Echo, at),
        })
    }

    /// Whether it can stand for `next`, too: nobody listens on either, the
    /// ports follow each other, and all cells say the same.
    fn takes_in(&self, next: &Self) -> bool {
        let (Subject::Port(one, first), Subject::Port(other, after)) = (self.subject, next.subject)
        else {
            return false;
        };
        let follows = self.last.unwrap_or(first).checked_add(1) == Some(after);
        let same = |(a, b): (&Option<Cell>, &Option<Cell>)| match (a, b) {
            (Some(a), Some(b)) => {
                (a.expected, &a.expected_by, &a.why, &a.accepted)
                    == (b.expected, &b.expected_by, &b.why, &b.accepted)
                    && (a.observed.outcome, a.observed.how, a.observed.target)
                        == (b.observed.outcome, b.observed.how, b.observed.target)
            }
            (a, b) => a.is_none() && b.is_none(),
        };
        one == other
            && follows
            && self.at == next.at
            && !self.heard
            && !next.heard
            && self.cells.iter().zip(&next.cells).all(same)
    }
}

impl Report {
    /// A table of what was seen, counted.
    pub fn of(checked: Checked, vantages: Vec<Vantage>, rows: Vec<Row>) -> Self {
        let Checked { host, orders, hash, gate, at } = checked;
        let mut report = Self {
            host,
            orders,
            hash,
            gate,
            at,
            vantages,
            rows,
            rules: Vec::new(),
            differences: 0,
            accepted: 0,
            unknown: 0,
            notes: Vec::new(),
            complete: true,
        };
        report.count();
        report
    }

    /// Lets one row stand for ports in a row that do the same, from `least` of
    /// them on.
    pub fn gather(&mut self, least: usize) {
        let mut gathered: Vec<Row> = Vec::new();
        let mut run: Vec<Row> = Vec::new();
        let mut end = |run: &mut Vec<Row>| {
            if run.len() < least {
                gathered.append(run);
            } else if let (Some(last), Some(mut first)) = (run.pop(), run.first().cloned()) {
                run.clear();
                if let Subject::Port(_, port) = last.subject {
                    first.last = Some(last.last.unwrap_or(port));
                }
                gathered.push(first);
            }
        };
        for row in std::mem::take(&mut self.rows) {
            if !run.last().is_some_and(|last| last.takes_in(&row)) {
                end(&mut run);
            }
            run.push(row);
        }
        end(&mut run);
        self.rows = gathered;
    }

    /// The first row that no check makes: not whole, or about a port that another
    /// row is about. Only for reports that somebody else has written.
    pub fn impossible_row(&self) -> Option<&Row> {
        if let Some(row) = self.rows.iter().find(|row| !row.is_whole(self.vantages.len())) {
            return Some(row);
        }
        let last = |row: &Row| match (row.subject, row.last) {
            (Subject::Port(transport, _), Some(last)) => Subject::Port(transport, last),
            (subject, _) => subject,
        };
        let mut rows: Vec<&Row> = self.rows.iter().collect();
        rows.sort_by_key(|row| (row.at, row.subject));
        let twice = |pair: &&[&Row]| pair[0].at == pair[1].at && pair[1].subject <= last(pair[0]);
        rows.windows(2).find(twice).map(|pair| pair[1])
    }

    /// Counts what differs and what is unknown anew.
    pub fn count(&mut self) {
        let cells =
            || self.rows.iter().flat_map(|row| row.cells.iter().flatten().map(move |c| (row, c)));
        self.differences = cells().filter(|(_, c)| c.differs()).map(|(row, _)| row.ports()).sum();
        self.accepted =
            cells().filter(|(_, c)| c.accepted.is_some()).map(|(row, _)| row.ports()).sum();
        let unknown = |c: &Cell| c.observed.outcome == Outcome::Unknown;
        self.unknown = cells().filter(|(_, c)| unknown(c)).map(|(row, _)| row.ports()).sum();
    }

    /// Whether it is as it should be, all of it known that can be known: what
    /// becomes of a datagram no other machine can tell.
    pub fn is_fine(&self) -> bool {
        let close = |vantage: &Vantage| !matches!(vantage, Vantage::Machine { .. });
        let unknown = |cell: &Option<Cell>| {
            cell.as_ref().is_some_and(|cell| cell.observed.outcome == Outcome::Unknown)
        };
        let in_doubt = |row: &Row| {
            row.cells.iter().zip(&self.vantages).any(|(c, vantage)| close(vantage) && unknown(c))
        };
        self.differences == 0
            && !self.rows.iter().any(in_doubt)
            && self.complete
            && self.rules.iter().all(|rule| rule.holds != Some(false))
    }
}

/// What one port does now, for one vantage, that it did not do before.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Change {
    /// The port.
    pub subject: Subject,
    /// The own address, where it is not the usual one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at: Option<IpAddr>,
    /// From where.
    pub vantage: Vantage,
    /// What it did; `None`: it was not looked at.
    pub before: Option<Outcome>,
    /// What it does; `None`: it is not looked at any more.
    pub now: Option<Outcome>,
}

/// What has changed since another check.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Changes {
    /// What answers and did not.
    pub opened: Vec<Change>,
    /// What answered and does not.
    pub closed: Vec<Change>,
    /// What says no in another way.
    pub others: Vec<Change>,
    /// Vantages that only one of both looked from.
    pub not_compared: Vec<Vantage>,
}

impl Changes {
    /// Whether nothing has.
    pub fn is_empty(&self) -> bool {
        self.opened.is_empty() && self.closed.is_empty() && self.others.is_empty()
    }
}

/// What has changed from one check to another, for the vantages that both
/// looked from. What was unknown in either is no change. A port that only one
/// of them looked at is one when it answers there: a new listener opens it.
pub fn changes(before: &Report, now: &Report) -> Changes {
    let outcomes = |report: &Report, vantage: &Vantage| -> BTreeMap<Place, Outcome> {
        let Some(at) = report.vantages.iter().position(|v| v == vantage) else {
            return BTreeMap::new();
        };
        let of = |row: &Row| row.cells.get(at).cloned().flatten().map(|c| c.observed.outcome);
        let rows = report.rows.iter().filter_map(|row| Some((row, of(row)?)));
        rows.flat_map(|(row, outcome)| row.each().map(move |place| (place, outcome))).collect()
    };
    let mut changes = Changes::default();
    let lone = |one: &Report, other: &Report| -> Vec<Vantage> {
        let missing = |v: &&Vantage| !other.vantages.contains(v);
        one.vantages.iter().filter(missing).cloned().collect()
    };
    changes.not_compared = [lone(before, now), lone(now, before)].concat();
    for vantage in now.vantages.iter().filter(|v| before.vantages.contains(v)) {
        let (old, new) = (outcomes(before, vantage), outcomes(now, vantage));
        let places: std::collections::BTreeSet<&Place> = old.keys().chain(new.keys()).collect();
        for place in places {
            let (was, is) = (old.get(place).copied(), new.get(place).copied());
            let unknown = |o: Option<Outcome>| o == Some(Outcome::Unknown);
            if was == is || unknown(was) || unknown(is) {
                continue;
            }
            let (subject, at) = *place;
            let change = Change { subject, at, vantage: vantage.clone(), before: was, now: is };
            match (was, is) {
                (_, Some(Outcome::Answers)) => changes.opened.push(change),
                (Some(Outcome::Answers), _) => changes.closed.push(change),
                (Some(_), Some(_)) => changes.others.push(change),
                _ => {}
            }
        }
    }
    changes
}

/// Reports that cannot be one.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum NotTheSame {
    /// Of several hosts.
    #[error("they are of different hosts: {0} and {1}")]
    Host(String, String),
    /// Nothing to merge.
    #[error("there is no report")]
    None,
}

/// Makes one table of what several machines saw of the same host.
///
/// # Errors
/// [`NotTheSame`].
pub fn merge(reports: &[Report]) -> Result<Report, NotTheSame> {
    let (first, rest) = reports.split_first().ok_or(NotTheSame::None)?;
    if let Some(other) = rest.iter().find(|other| other.host != first.host) {
        return Err(NotTheSame::Host(first.host.clone(), other.host.clone()));
    }
    let mut merged = Report { vantages: Vec::new(), rows: Vec::new(), ..first.clone() };
    merged.notes = Vec::new();
    if rest.iter().any(|other| other.hash != first.hash) {
        merged.notes.push("these reports were judged by different orders".into());
    }
    let mut rows: BTreeMap<Place, Row> = BTreeMap::new();
    for report in reports {
        let width = merged.vantages.len();
        // The same vantage twice is told once, as the later report has it.
        let columns: Vec<usize> = report
            .vantages
            .iter()
            .map(|vantage| match merged.vantages.iter().position(|v| v == vantage) {
                Some(at) => at,
                None => {
                    merged.vantages.push(vantage.clone());
                    merged.vantages.len() - 1
                }
            })
            .collect();
        if merged.vantages.len() > width {
            rows.values_mut().for_each(|row| row.cells.resize(merged.vantages.len(), None));
        }
        for row in &report.rows {
            for place in row.each() {
                let one = rows.entry(place).or_insert_with(|| Row {
                    subject: place.0,
                    last: None,
                    at: place.1,
                    programs: Vec::new(),
                    heard: false,
                    cells: Vec::new(),
                });
                one.cells.resize(merged.vantages.len(), None);
                one.heard |= row.heard;
                if one.programs.is_empty() {
                    one.programs.clone_from(&row.programs);
                }
                for (cell, column) in row.cells.iter().zip(&columns) {
                    one.cells[*column].clone_from(cell);
                }
            }
        }
        let new = report.notes.iter().filter(|note| !merged.notes.contains(note));
        let new: Vec<String> = new.cloned().collect();
        merged.notes.extend(new);
        merged.complete &= report.complete;
        merged.at = merged.at.max(report.at);
        if merged.gate == "unknown" {
            merged.gate.clone_from(&report.gate);
        }
    }
    merged.rules = reports.iter().flat_map(|report| report.rules.clone()).collect();
    merged.rows = rows.into_values().collect();
    merged.gather(SEVERAL);
    merged.count();
    Ok(merged)
}
