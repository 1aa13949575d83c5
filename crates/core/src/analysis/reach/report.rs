//! A finished check: its table.

use std::net::IpAddr;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::{Cell, Outcome, Subject, Vantage};
use crate::moment::Moment;
use crate::orders::Origin;

/// From so many ports in a row on, one row stands for them.
pub const SEVERAL: usize = 4;

/// A finished check. Read and written as JSON.
#[derive(Clone, Debug, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct Report {
    /// The host that was checked.
    pub host: String,
    /// The orders that it was judged by.
    pub orders: Origin,
    /// `up`, `down`, or `unknown` to who may not look.
    pub gate: String,
    /// When.
    pub at: Moment,
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
#[derive(Clone, Debug, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
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
#[derive(Clone, Debug, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
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
    /// The orders that it was judged by.
    pub orders: Origin,
    /// `up`, `down`, or `unknown` to who may not look.
    pub gate: String,
    /// When.
    pub at: Moment,
}

/// One port, or several in a row, in words.
pub(super) fn row_words(subject: Subject, last: Option<u16>, at: Option<IpAddr>) -> String {
    let last = last.map(|last| format!("-{last}")).unwrap_or_default();
    let at = at.map(|at| format!(" at {at}")).unwrap_or_default();
    format!("{subject}{last}{at}")
}

impl Row {
    /// `tcp/7410`, `tcp/1-21`, `tcp/443 at 198.51.100.21`.
    pub fn describe(&self) -> String {
        row_words(self.subject, self.last, self.at)
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

    /// The first and the last port; echo requests have none.
    pub(super) fn span(&self) -> (u16, u16) {
        match self.subject {
            Subject::Port(_, first) => (first, self.last.unwrap_or(first)),
            Subject::Echo => (0, 0),
        }
    }

    /// Where it stands in a table.
    fn place(&self) -> (Subject, Option<IpAddr>) {
        (self.subject, self.at)
    }

    /// Whether it can stand for `next`, too: nobody listens on either, the
    /// ports follow each other, and all cells say the same.
    fn takes_in(&self, next: &Self) -> bool {
        let (Subject::Port(one, first), Subject::Port(other, after)) = (self.subject, next.subject)
        else {
            return false;
        };
        let follows = self.last.unwrap_or(first).checked_add(1) == Some(after);
        one == other
            && follows
            && self.at == next.at
            && !self.heard
            && !next.heard
            && self.cells.iter().zip(&next.cells).all(|(a, b)| match (a, b) {
                (Some(a), Some(b)) => {
                    (a.expected, &a.expected_by, &a.why, &a.accepted)
                        == (b.expected, &b.expected_by, &b.why, &b.accepted)
                        && (a.observed.outcome, a.observed.how, a.observed.target)
                            == (b.observed.outcome, b.observed.how, b.observed.target)
                }
                (a, b) => a.is_none() && b.is_none(),
            })
    }
}

impl Report {
    /// A table of what was seen, counted.
    pub fn new(checked: Checked, vantages: Vec<Vantage>, rows: Vec<Row>) -> Self {
        let Checked { host, orders, gate, at } = checked;
        let mut report = Self {
            host,
            orders,
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
    /// them on. Rows come out in their order.
    pub fn gather(&mut self, least: usize) {
        let mut gathered: Vec<Row> = Vec::new();
        let mut run: Vec<Row> = Vec::new();
        let mut end = |run: &mut Vec<Row>| {
            let last = run.last().map(|row| row.span().1);
            let several = run.len() > 1 && run.iter().map(Row::ports).sum::<usize>() >= least;
            if let (true, Some(first)) = (several, run.first_mut()) {
                first.last = last;
                run.truncate(1);
            }
            gathered.append(run);
        };
        // The ports of one address follow each other only among themselves.
        self.rows.sort_by_key(|row| (row.at, row.subject));
        for row in std::mem::take(&mut self.rows) {
            if !run.last().is_some_and(|last| last.takes_in(&row)) {
                end(&mut run);
            }
            run.push(row);
        }
        end(&mut run);
        self.rows = gathered;
        self.rows.sort_by_key(Row::place);
    }

    /// The first row that no check makes: not whole, or about a port that another
    /// row is about. Only for reports that somebody else has written.
    pub fn impossible_row(&self) -> Option<&Row> {
        if let Some(row) = self.rows.iter().find(|row| !row.is_whole(self.vantages.len())) {
            return Some(row);
        }
        fn last(row: &Row) -> Subject {
            match (row.subject, row.last) {
                (Subject::Port(transport, _), Some(last)) => Subject::Port(transport, last),
                (subject, _) => subject,
            }
        }
        let mut rows: Vec<&Row> = self.rows.iter().collect();
        rows.sort_by_key(|row| (row.at, row.subject));
        rows.windows(2)
            .find(|pair| pair[0].at == pair[1].at && pair[1].subject <= last(pair[0]))
            .map(|pair| pair[1])
    }

    /// Counts what differs and what is unknown anew.
    pub fn count(&mut self) {
        let cells =
            || self.rows.iter().flat_map(|row| row.cells.iter().flatten().map(move |c| (row, c)));
        self.differences = cells().filter(|(_, c)| c.differs()).map(|(row, _)| row.ports()).sum();
        self.accepted =
            cells().filter(|(_, c)| c.accepted.is_some()).map(|(row, _)| row.ports()).sum();
        self.unknown = cells()
            .filter(|(_, c)| c.observed.outcome == Outcome::Unknown)
            .map(|(row, _)| row.ports())
            .sum();
    }

    /// Whether it was probed from the host itself only, whose own traffic is not filtered.
    pub fn is_of_itself(&self) -> bool {
        self.vantages.iter().all(|vantage| *vantage == Vantage::Here)
    }

    /// Whether it is as it should be, all of it known that can be known: what
    /// becomes of a datagram no other machine can tell.
    pub fn is_fine(&self) -> bool {
        fn unknown(cell: &Option<Cell>) -> bool {
            cell.as_ref().is_some_and(|cell| cell.observed.outcome == Outcome::Unknown)
        }
        self.differences == 0
            && !self.rows.iter().any(|row| {
                row.cells
                    .iter()
                    .zip(&self.vantages)
                    .any(|(c, vantage)| !matches!(vantage, Vantage::Machine { .. }) && unknown(c))
            })
            && self.complete
            && self.rules.iter().all(|rule| rule.holds != Some(false))
    }
}
