//! Who of a fleet reaches whom as the orders say: the reports of all, as one table.

use std::net::IpAddr;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::analysis::reach::{NotTheSame, Report, Vantage, Why, merge};

/// What one host saw of another.
#[derive(Clone, Debug, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "found")]
pub enum Pair {
    /// Everything that can be seen from there is as ordered.
    AsOrdered {
        /// How many ports were looked at.
        ports: usize,
    },
    /// Something is not.
    Differs {
        /// How many cells.
        differences: usize,
    },
    /// It could not be found out.
    Unknown {
        /// Why.
        why: String,
    },
    /// A host does not check itself from outside.
    Itself,
}

/// All pairs, and what was seen of each host.
#[derive(Clone, Debug, PartialEq, Eq, JsonSchema, Serialize)]
pub struct Matrix {
    /// Who checked, the rows.
    pub from: Vec<String>,
    /// Who was checked, the columns.
    pub to: Vec<String>,
    /// A row for each of `from`, a cell for each of `to`.
    pub pairs: Vec<Vec<Pair>>,
    /// What was seen of each host by all that saw it; in the order of `to`, without those
    /// whom nobody saw.
    pub hosts: Vec<Report>,
}

/// Makes the table. `seen`: a row for each of `from`, with a report or the reason why there
/// is none for each of `to`; a host itself has neither.
///
/// # Errors
/// Reports in one column about different hosts.
pub fn matrix(
    from: Vec<String>,
    to: Vec<String>,
    seen: Vec<Vec<Option<Result<Report, String>>>>,
) -> Result<Matrix, NotTheSame> {
    fn pair(one: &Option<Result<Report, String>>) -> Pair {
        match one {
            None => Pair::Itself,
            Some(Err(why)) => Pair::Unknown { why: why.clone() },
            Some(Ok(report)) if report.differences > 0 => {
                Pair::Differs { differences: report.differences }
            }
            Some(Ok(report)) if !report.complete => {
                Pair::Unknown { why: "the check ended before it was complete".into() }
            }
            Some(Ok(report)) => Pair::AsOrdered {
                ports: report.rows.iter().map(crate::analysis::reach::Row::ports).sum(),
            },
        }
    }
    let pairs = seen.iter().map(|row| row.iter().map(pair).collect()).collect();
    let mut hosts = Vec::new();
    for column in 0..to.len() {
        let reports: Vec<Report> = seen
            .iter()
            .filter_map(|row| row.get(column)?.as_ref()?.as_ref().ok().cloned())
            .collect();
        if !reports.is_empty() {
            hosts.push(merge(&reports)?);
        }
    }
    Ok(Matrix { from, to, pairs, hosts })
}

/// Where other machines saw only that something is not as ordered, takes the reason from a
/// check that the host made of itself, with the witness in the place of those machines.
pub fn explain(report: &mut Report, within: &Report) {
    let vantages = report.vantages.clone();
    for row in &mut report.rows {
        let same = within.rows.iter().find(|own| (own.subject, own.at) == (row.subject, row.at));
        let Some(own) = same else { continue };
        for (cell, vantage) in row.cells.iter_mut().zip(&vantages) {
            let Some(cell) = cell.as_mut().filter(|cell| cell.why == Some(Why::NotFromHere)) else {
                continue;
            };
            let seen = own.cells.iter().zip(&within.vantages).find(|(_, played)| {
                matches!(played, Vantage::Outside { .. }) && played.source() == vantage.source()
            });
            // What the host saw otherwise explains nothing.
            if let Some((Some(own), _)) = seen
                && own.why.is_some()
                && own.observed.outcome == cell.observed.outcome
            {
                cell.why.clone_from(&own.why);
                cell.next.clone_from(&own.next);
            }
        }
    }
}

impl Matrix {
    /// How many pairs differ, and how many are unknown.
    pub fn counts(&self) -> (usize, usize) {
        let count = |is: fn(&Pair) -> bool| self.pairs.iter().flatten().filter(|p| is(p)).count();
        (
            count(|pair| matches!(pair, Pair::Differs { .. })),
            count(|pair| matches!(pair, Pair::Unknown { .. })),
        )
    }

    /// The addresses that a report was made from.
    pub fn sources(report: &Report) -> Vec<IpAddr> {
        let mut all: Vec<IpAddr> = report.vantages.iter().filter_map(Vantage::source).collect();
        all.sort_unstable();
        all.dedup();
        all
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::analysis::reach::{Cell, Checked, How, Observed, Outcome, Row, Subject};
    use crate::moment::Moment;
    use crate::names::traffic::Transport;
    use crate::orders::{OrdersHash, Origin};

    const SOURCE: &str = "198.51.100.23";

    fn cell(why: Why, outcome: Outcome) -> Cell {
        let observed = Observed { outcome, how: How::Wire, ..Observed::unknown("") };
        let (expected, expected_by) = (Outcome::Answers, "rule 1 (dome)".into());
        Cell { expected, expected_by, observed, why: Some(why), next: None, accepted: None }
    }

    fn report(host: &str, vantage: Vantage, cell: Cell) -> Report {
        let orders = Origin::File { path: "orders.toml".into(), hash: OrdersHash::digest("") };
        let (host, gate, at) = (host.to_owned(), "up".into(), Moment::default());
        let subject = Subject::Port(Transport::Tcp, 7410);
        let (programs, cells) = (Vec::new(), vec![Some(cell)]);
        let row = Row { subject, last: None, at: None, programs, heard: false, cells };
        Report::new(Checked { host, orders, gate, at }, vec![vantage], vec![row])
    }

    #[test]
    fn a_host_explains_what_others_only_see() {
        let source: IpAddr = SOURCE.parse().unwrap();
        let desk = Vantage::Machine { name: "desk-3".into(), source };
        let refused = cell(Why::NotFromHere, Outcome::Refuses);
        let from = vec!["desk-3".to_owned(), "dome-1".to_owned()];
        let to = vec!["dome-1".to_owned()];
        let seen = vec![vec![Some(Ok(report("dome-1", desk, refused)))], vec![None]];
        let mut all = matrix(from, to, seen).unwrap();
        assert_eq!(all.pairs, [[Pair::Differs { differences: 1 }], [Pair::Itself]]);
        assert_eq!((all.counts(), Matrix::sources(&all.hosts[0])), ((1, 0), vec![source]));
        let loopback = cell(Why::LoopbackOnly, Outcome::Refuses);
        let within = report("dome-1", Vantage::outside(source), loopback.clone());
        explain(&mut all.hosts[0], &within);
        let why = |report: &Report| report.rows[0].cells[0].as_ref().unwrap().why.clone();
        assert_eq!(why(&all.hosts[0]), Some(Why::LoopbackOnly));
        // Another source, or something else that was seen, explains nothing.
        let other = Vantage::outside("192.0.2.66".parse().unwrap());
        for within in [
            report("dome-1", other, loopback.clone()),
            report("dome-1", Vantage::outside(source), cell(Why::QueueFull, Outcome::Silent)),
        ] {
            let refused = cell(Why::NotFromHere, Outcome::Refuses);
            let machine = Vantage::Machine { name: "desk-3".into(), source };
            let mut unclear = report("dome-1", machine, refused);
            explain(&mut unclear, &within);
            assert_eq!(why(&unclear), Some(Why::NotFromHere));
        }
    }
}
