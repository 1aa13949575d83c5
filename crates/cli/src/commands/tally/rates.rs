//! What is counted a second.

use std::time::{Duration, Instant};

use schemars::JsonSchema;
use serde::Serialize;
use tipstaff_core::decision::Speaker;
use tipstaff_core::moment::Moment;
use tipstaff_core::orders::Origin;

use super::{Asked, Counts, Row, nothing, right, without};
use crate::arguments::Common;
use crate::chosen;
use crate::ending::Ending;
use crate::failure::Failure;
use crate::shape::shape;
use crate::terminal::{Columns, Terminal, bytes, plain};

/// What was counted between two looks.
#[derive(JsonSchema, Serialize)]
pub struct Rates<'r> {
    orders: &'r Origin,
    /// When it was looked the second time.
    time: Moment,
    /// Seconds between the two.
    seconds: f64,
    /// Those that counted anything in between.
    rows: Vec<Rate>,
}

/// Of one, a second.
#[derive(JsonSchema, Serialize)]
struct Rate {
    by: String,
    #[serde(flatten)]
    speaker: Speaker,
    packets_per_second: f64,
    bytes_per_second: f64,
    beyond_per_second: f64,
}

shape!(Rates<'_> => "tally-rates");

/// Looks every so often; as often as was asked for, or until nobody reads.
pub(super) fn show(
    common: &Common,
    mut asked: Asked<'_>,
    every: Duration,
    terminal: &Terminal,
) -> Result<Ending, Failure> {
    let (mut before, mut looked) = (counts(&asked.whole()?), Instant::now());
    let mut left = asked.options.times;
    while left != Some(0) && !terminal.is_closed() {
        left = left.map(|left| left - 1);
        std::thread::sleep(every.saturating_sub(looked.elapsed()));
        let seconds = looked.elapsed().as_secs_f64();
        looked = Instant::now();
        asked.keep_up(common)?;
        let now = asked.whole()?;
        let counted = counts(&now);
        let rows = asked.chosen(without(now, &before)).into_iter();
        let rates: Vec<Rate> = rows.map(|row| rate(row, seconds)).collect();
        before = counted;
        print(&asked, rates, seconds, terminal);
    }
    Ok(Ending::Fine)
}

fn counts(rows: &[Row]) -> Counts {
    rows.iter().map(|row| ((row.known_by(), row.since), (row.tally, row.beyond))).collect()
}

fn rate(row: Row, seconds: f64) -> Rate {
    Rate {
        packets_per_second: row.tally.packets as f64 / seconds,
        bytes_per_second: row.tally.bytes as f64 / seconds,
        beyond_per_second: row.beyond as f64 / seconds,
        by: row.by,
        speaker: row.speaker,
    }
}

fn print(asked: &Asked<'_>, rows: Vec<Rate>, seconds: f64, terminal: &Terminal) {
    let time = chosen::now();
    if terminal.json {
        terminal.json_line(&Rates { orders: &asked.known.origin, time, seconds, rows });
        return;
    }
    terminal.heading(&format!("{}, over {seconds:.1} s", super::at(time)));
    if rows.is_empty() {
        terminal.line("nothing was counted");
        return;
    }
    let with_rates = asked.known.has_rates();
    let mut headings = vec!["by", "packets/s", "bytes/s"];
    headings.extend(with_rates.then_some("beyond its rate/s"));
    let mut table = Columns::new(headings);
    for row in rows {
        let mut cells = vec![
            plain(&row.by),
            right(format!("{:.1}", row.packets_per_second)),
            right(bytes(row.bytes_per_second as u64)),
        ];
        cells.extend(with_rates.then(|| match row.beyond_per_second {
            0.0 => nothing(),
            beyond => right(format!("{beyond:.1}")),
        }));
        table.row(cells);
    }
    terminal.table(&table);
}
