//! What several machines saw together.

use std::collections::BTreeMap;

use super::pieces::{Line, Pieces};
use super::{Report, Row, SEVERAL};

/// Reports that cannot be one.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum NotTheSame {
    /// Of several hosts.
    #[error("they describe different hosts: {0} and {1}")]
    Host(String, String),
    /// Nothing to merge.
    #[error("no report was given")]
    None,
}

/// Makes one table of what several machines saw of the same host. The same
/// vantage twice is told once, as the last report has it that looked.
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
    if rest.iter().any(|other| other.orders.hash() != first.orders.hash()) {
        merged.notes.push("these reports were checked against different orders".into());
    }
    let columns: Vec<Vec<usize>> = reports.iter().map(|r| columns(r, &mut merged)).collect();
    let width = merged.vantages.len();
    let pieces = Pieces::from_rows(reports.iter().flat_map(|report| &report.rows));
    let mut table: BTreeMap<Line, Vec<Option<Row>>> = BTreeMap::new();
    for line in pieces.lines() {
        table.insert(line, vec![None; pieces.spans(line).count()]);
    }
    for (report, columns) in reports.iter().zip(&columns) {
        for row in &report.rows {
            let Some(rows) = table.get_mut(&Line::from_row(row)) else { continue };
            for one in rows.get_mut(pieces.within(row)).unwrap_or_default() {
                add(one.get_or_insert_with(|| nobody_looked(row, width)), row, columns);
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
    for (line, rows) in table {
        for (row, (first, last)) in rows.into_iter().zip(pieces.spans(line)) {
            let last = (last > first).then_some(last);
            merged.rows.extend(row.map(|row| Row { subject: line.subject(first), last, ..row }));
        }
    }
    merged.gather(SEVERAL);
    merged.count();
    Ok(merged)
}

/// Where the vantages of a report stand in the table, new ones behind.
fn columns(report: &Report, merged: &mut Report) -> Vec<usize> {
    report
        .vantages
        .iter()
        .map(|vantage| match merged.vantages.iter().position(|v| v == vantage) {
            Some(at) => at,
            None => {
                merged.vantages.push(vantage.clone());
                merged.vantages.len() - 1
            }
        })
        .collect()
}

fn nobody_looked(row: &Row, width: usize) -> Row {
    let cells = vec![None; width];
    Row { subject: row.subject, last: None, at: row.at, programs: vec![], heard: false, cells }
}

fn add(one: &mut Row, row: &Row, columns: &[usize]) {
    one.heard |= row.heard;
    if one.programs.is_empty() {
        one.programs.clone_from(&row.programs);
    }
    for (cell, column) in row.cells.iter().zip(columns) {
        if let (Some(place), Some(_)) = (one.cells.get_mut(*column), cell) {
            place.clone_from(cell);
        }
    }
}
