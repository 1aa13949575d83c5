//! What came of a replay, for people.

use std::time::Duration;

use tipstaff_core::orders::Action;

use super::{Damage, Report, Row, Told};
use crate::terminal::{
    Columns, Terminal, action, bytes, counted, faint, orders_words, packets, plain, spoken,
};

pub(super) fn show(report: &Report<'_>, took: Duration, most: usize, terminal: &Terminal) {
    let Report { cut, turned_away, .. } = report;
    terminal.heading(&format!(
        "{} in {}, {} ({})",
        packets(report.packets),
        counted(report.conversations, "conversation", "conversations"),
        bytes(report.bytes),
        spoken(took)
    ));
    terminal.note(&orders_words(report.orders));
    report.notes.iter().for_each(|note| terminal.note(note));
    if let Some(Damage { offset, why }) = &report.damaged {
        terminal.warning(&format!("the capture is read up to byte {offset}: {why}"));
    }
    if !report.rows.is_empty() {
        let mut table = Columns::new(["decided by", "packets", "bytes"]);
        for Row { by, packets, bytes: n } in &report.rows {
            table.row([plain(by), plain(packets), plain(bytes(*n))]);
        }
        terminal.table(&table);
    }
    list("would be cut", cut, most, terminal);
    list("asked in vain then, and would be stopped", turned_away, most, terminal);
    if let Some(differ) = &report.differ {
        list("differ between the two", differ, most, terminal);
    }
}

fn list(what: &str, told: &[Told], most: usize, terminal: &Terminal) {
    let n = counted(told.len(), "conversation", "conversations");
    terminal.heading(&format!("{n} {what}"));
    if told.is_empty() {
        return;
    }
    let compared = told.iter().any(|told| told.other.is_some());
    let mut headings = vec!["begun (UTC)", "traffic", "from", "to", "stopped", "by"];
    headings.extend(compared.then_some("other orders"));
    let mut table = Columns::new(headings);
    for told in told.iter().take(most) {
        let begun = told.begun.get(..19).unwrap_or(&told.begun).replace('T', " ");
        let verdict = if told.stopped > 0 { Action::Deny } else { Action::Allow };
        let mut cells = vec![
            faint(begun),
            plain(&told.traffic),
            plain(&told.source),
            plain(&told.destination),
            action(verdict, format!("{} of {}", told.stopped, told.packets)),
            plain(&told.by),
        ];
        cells.extend(told.other.as_ref().map(|other| match other.stopped {
            0 => action(Action::Allow, format!("let in by {}", other.by)),
            _ => action(Action::Deny, format!("stopped by {}", other.by)),
        }));
        table.row(cells);
    }
    terminal.table(&table);
    if told.len() > most {
        terminal.note(&format!("{} more; --count shows them", told.len() - most));
    }
}
