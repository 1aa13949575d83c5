//! What has changed since another check.

use std::collections::BTreeMap;
use std::net::IpAddr;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::pieces::{Line, Pieces};
use super::report::row_words;
use super::{Outcome, Report, Row, SEVERAL, Subject, Vantage};

/// What one port, or several in a row, do now, for one vantage, that they did not
/// do before.
#[derive(Clone, Debug, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct Change {
    /// The port.
    pub subject: Subject,
    /// The last port, where several in a row have changed alike.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub last: Option<u16>,
    /// The own address, where it is not the usual one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub at: Option<IpAddr>,
    /// From where.
    pub vantage: Vantage,
    /// What it did; `None`: it was not checked.
    pub before: Option<Outcome>,
    /// What it does; `None`: it is not looked at any more.
    pub now: Option<Outcome>,
}

impl Change {
    /// `tcp/7410`, `tcp/1-21`, `tcp/443 at 198.51.100.21`.
    pub fn describe(&self) -> String {
        row_words(self.subject, self.last, self.at)
    }
}

/// What has changed since another check.
#[derive(Clone, Debug, Default, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
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
    fn lone(one: &Report, other: &Report) -> Vec<Vantage> {
        one.vantages.iter().filter(|v: &&Vantage| !other.vantages.contains(v)).cloned().collect()
    }
    let mut changes = Changes {
        not_compared: [lone(before, now), lone(now, before)].concat(),
        ..Changes::default()
    };
    let pieces = Pieces::from_rows(before.rows.iter().chain(&now.rows));
    let (old_rows, new_rows) = (by_line(before), by_line(now));
    for (new, vantage) in now.vantages.iter().enumerate() {
        let Some(old) = before.vantages.iter().position(|v| v == vantage) else { continue };
        let mut found = Vec::new();
        for line in pieces.lines() {
            let was = outcomes(old_rows.get(&line), old, line, &pieces);
            let is = outcomes(new_rows.get(&line), new, line, &pieces);
            let both = was.into_iter().zip(is).zip(pieces.spans(line));
            let changed = both.filter(|((was, is), _)| is_change(*was, *is));
            let mut run: Option<Change> = None;
            for ((was, is), (first, last)) in changed {
                if let Some(run) = &mut run
                    && run.last.and_then(|last| last.checked_add(1)) == Some(first)
                    && (run.before, run.now) == (was, is)
                {
                    run.last = Some(last);
                    continue;
                }
                found.extend(run.take());
                let (subject, vantage) = (line.subject(first), vantage.clone());
                let at = line.at;
                run = Some(Change { subject, last: Some(last), at, vantage, before: was, now: is });
            }
            found.extend(run);
        }
        found.sort_by_key(|change| (change.subject, change.at));
        for change in found.into_iter().flat_map(few_one_by_one) {
            match (change.before, change.now) {
                (_, Some(Outcome::Answers)) => changes.opened.push(change),
                (Some(Outcome::Answers), _) => changes.closed.push(change),
                _ => changes.others.push(change),
            }
        }
    }
    changes
}

fn by_line(report: &Report) -> BTreeMap<Line, Vec<&Row>> {
    let mut lines: BTreeMap<Line, Vec<&Row>> = BTreeMap::new();
    for row in &report.rows {
        lines.entry(Line::from_row(row)).or_default().push(row);
    }
    lines
}

/// What a vantage saw in each piece of a line.
fn outcomes(
    rows: Option<&Vec<&Row>>,
    vantage: usize,
    line: Line,
    pieces: &Pieces,
) -> Vec<Option<Outcome>> {
    let mut all = vec![None; pieces.spans(line).count()];
    for row in rows.into_iter().flatten() {
        let cell = row.cells.get(vantage).and_then(Option::as_ref);
        let outcome = cell.map(|cell| cell.observed.outcome);
        if let Some(mine) = all.get_mut(pieces.within(row)) {
            mine.fill(outcome);
        }
    }
    all
}

fn is_change(was: Option<Outcome>, is: Option<Outcome>) -> bool {
    fn unknown(outcome: Option<Outcome>) -> bool {
        outcome == Some(Outcome::Unknown)
    }
    fn answers(outcome: Option<Outcome>) -> bool {
        outcome == Some(Outcome::Answers)
    }
    let both_looked = was.is_some() && is.is_some();
    was != is && !unknown(was) && !unknown(is) && (both_looked || answers(was) || answers(is))
}

/// Fewer ports than make a row of a table are told one by one.
fn few_one_by_one(change: Change) -> Vec<Change> {
    let (Subject::Port(transport, first), Some(last)) = (change.subject, change.last) else {
        return vec![Change { last: None, ..change }];
    };
    if usize::from(last - first) + 1 >= SEVERAL {
        return vec![change];
    }
    let one =
        |port| Change { subject: Subject::Port(transport, port), last: None, ..change.clone() };
    (first..=last).map(one).collect()
}
