//! `standing`: what happens to what no rule matches.

use schemars::JsonSchema;
use serde::Serialize;
use tipstaff_core::orders::edit_tables::TableEdit;
use tipstaff_core::orders::{Action, Origin};
use tipstaff_core::packet::Direction;

use crate::acts::editing;
use crate::arguments::{Common, StandingOptions};
use crate::chosen;
use crate::ending::Ending;
use crate::failure::Failure;
use crate::shape::shape;
use crate::terminal::{Columns, Terminal, action, faint, orders_words, plain};

#[derive(JsonSchema, Serialize)]
pub struct Report<'r> {
    orders: &'r Origin,
    standing: Vec<Row>,
}

#[derive(JsonSchema, Serialize)]
struct Row {
    direction: Direction,
    /// On this host, in its posture.
    action: Action,
    /// As `[standing]` of the orders says it, where the host or its posture says otherwise.
    common: Option<Action>,
}

shape!(Report<'_> => "standing");

pub fn run(
    common: &Common,
    options: &StandingOptions,
    terminal: &Terminal,
) -> Result<Ending, Failure> {
    if let (Some(direction), Some(action)) = (options.direction, options.action) {
        let edit = TableEdit::Standing(direction.into(), action.into());
        return editing::apply(common, &edit, options.check, terminal);
    }
    let judge = chosen::from_file(common)?;
    let rows = Direction::ALL.map(|direction| {
        let (here, written) =
            (judge.brief.standing.of(direction), judge.orders.standing.of(direction));
        Row { direction, action: here, common: (here != written).then_some(written) }
    });
    let shown = options.direction.map(Direction::from);
    let rows = rows.into_iter().filter(|row| shown.is_none_or(|way| way == row.direction));
    let rows: Vec<Row> = rows.collect();
    if terminal.json {
        terminal.json(&Report { orders: &judge.origin, standing: rows });
        return Ok(Ending::Fine);
    }
    terminal.heading("what happens to what no rule matches");
    terminal.note(&orders_words(&judge.origin));
    let mut table = Columns::new(["direction", "answer", ""]);
    for row in &rows {
        let why = row.common.map(|common| format!("by its host or posture; else {common}"));
        table.row([
            plain(row.direction),
            action(row.action, row.action),
            faint(why.unwrap_or_default()),
        ]);
    }
    terminal.table(&table);
    terminal.note("Change one with `tipstaff standing DIRECTION ANSWER`.");
    Ok(Ending::Fine)
}
