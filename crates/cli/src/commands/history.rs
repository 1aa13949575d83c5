//! `history`: what was put in force here, when, by whom and why.

use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeMap;
use tipstaff_core::moment::Moment;
use tipstaff_core::orders::OrdersHash;

use crate::arguments::{Common, HistoryCommand, HistoryOptions};
use crate::ending::Ending;
use crate::failure::Failure;
use crate::history::{History, Revision};
use crate::shape::shape;
use crate::terminal::{Columns, Terminal, counted, moment, plain};

#[derive(JsonSchema, Serialize)]
pub struct Row<'r> {
    number: u32,
    orders: OrdersHash,
    path: Option<&'r str>,
    posted_at: Moment,
    posted_by: &'r str,
    from: Option<&'r str>,
    posture: Option<&'r str>,
    kept: bool,
    reason: Option<&'r str>,
}

impl<'r> Row<'r> {
    fn from_revision(revision: &'r Revision) -> Self {
        let Revision { number, reason, from, kept, record, .. } = revision;
        Self {
            number: *number,
            orders: record.hash(),
            path: record.path.as_deref(),
            posted_at: Moment::from_seconds(record.posted_at),
            posted_by: &record.posted_by,
            from: from.as_deref(),
            posture: record.posture.as_deref(),
            kept: *kept,
            reason: reason.as_deref(),
        }
    }
}

/// All posts, the newest first.
#[derive(JsonSchema, Serialize)]
pub struct Report<'r> {
    revisions: Vec<Row<'r>>,
}

/// One post with its orders.
#[derive(JsonSchema, Serialize)]
pub struct Whole<'r> {
    #[serde(flatten)]
    row: Row<'r>,
    text: &'r str,
    /// Texts of the files of orders that it includes, by their names.
    attached: BTreeMap<&'r str, &'r str>,
}

/// What was forgotten.
#[derive(JsonSchema, Serialize)]
pub struct Pruned {
    revisions: Vec<u32>,
}

shape!(Report<'_> => "history", Whole<'_> => "revision", Pruned => "history-prune");

pub fn run(
    common: &Common,
    options: &HistoryOptions,
    terminal: &Terminal,
) -> Result<Ending, Failure> {
    let history = History::from_options(common);
    match &options.command {
        None => list(&history.all()?, terminal),
        Some(HistoryCommand::Show { number }) => {
            let revision = history.get(*number)?;
            if terminal.json {
                terminal.json(&Whole {
                    row: Row::from_revision(&revision),
                    text: &revision.record.orders,
                    attached: revision
                        .record
                        .sheets()
                        .parts()
                        .into_iter()
                        .map(|part| (&*part.name, &*part.text))
                        .collect(),
                });
            } else {
                terminal.document(&revision.record.orders);
            }
        }
        Some(HistoryCommand::Prune { keep }) => {
            let gone = history.prune(*keep)?;
            if terminal.json {
                terminal.json(&Pruned { revisions: gone });
            } else {
                terminal
                    .line(format!("{} forgotten", counted(gone.len(), "revision", "revisions")));
            }
        }
    }
    Ok(Ending::Fine)
}

fn list(all: &[Revision], terminal: &Terminal) {
    let rows: Vec<Row<'_>> = all.iter().rev().map(Row::from_revision).collect();
    if terminal.json {
        terminal.json(&Report { revisions: rows });
        return;
    }
    terminal.heading(&counted(rows.len(), "revision", "revisions"));
    if rows.is_empty() {
        terminal.note("every post is recorded here");
        return;
    }
    let mut table = Columns::new(["", "orders", "posted", "by", "from", "", "reason"]);
    for row in rows {
        let kept = if row.kept { "" } else { "time-limited" };
        table.row([
            plain(row.number),
            plain(row.orders.short()),
            plain(moment(i64::from(row.posted_at.0))),
            plain(row.posted_by),
            plain(row.from.unwrap_or("–")),
            plain(kept),
            plain(row.reason.unwrap_or("–")),
        ]);
    }
    terminal.table(&table);
    terminal
        .note("`tipstaff history show N` prints one, `tipstaff post --revision N` goes back to it");
}
