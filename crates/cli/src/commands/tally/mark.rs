//! The mark: counts of a moment, from which on later ones are shown. Nothing in the
//! kernel is reset, so that nobody loses what others count from.

use std::io;
use std::path::PathBuf;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use tipstaff_core::moment::Moment;
use tipstaff_gate::Tally;
use tipstaff_host::files::{self, Access};

use super::{Row, without};
use crate::arguments::Common;
use crate::chosen;
use crate::ending::Ending;
use crate::failure::Failure;
use crate::shape::{self, Shape, Tagged, shape};
use crate::terminal::Terminal;

/// What is longer is no mark: 65,536 rules have some 12 MiB.
const MOST: u64 = 64 << 20;

/// A mark that was set.
#[derive(Deserialize, JsonSchema, Serialize)]
pub struct Marked {
    /// When.
    time: Moment,
    /// What was counted then, where anything was.
    counts: Vec<Count>,
}

/// What was counted of one.
#[derive(Deserialize, JsonSchema, Serialize)]
struct Count {
    /// `rule plates`, `the standing answer inbound`, `foundation malformed`.
    of: String,
    /// Since when it was counted: what began anew since then is none of this.
    since: Option<Moment>,
    #[serde(flatten)]
    tally: Tally,
    beyond: u64,
}

shape!(Marked => "tally-mark");

/// Beside what is in force, and as long-lived: both are gone after a restart.
fn place(common: &Common) -> PathBuf {
    common.run_dir.join(format!("tally-mark{}.json", common.of_namespace()))
}

/// Sets it.
pub(super) fn set(common: &Common, rows: &[Row], terminal: &Terminal) -> Result<Ending, Failure> {
    let counts = rows.iter().filter(|row| row.tally.packets + row.beyond > 0);
    let counts = counts.map(|row| Count {
        of: row.known_by(),
        since: row.since,
        tally: row.tally,
        beyond: row.beyond,
    });
    let marked = Marked { time: chosen::now(), counts: counts.collect() };
    let path = place(common);
    let text = serde_json::to_vec(&Tagged::new(&marked)).map_err(io::Error::other);
    text.and_then(|text| files::replace(&path, &text, Access::Mode(0o600)))
        .map_err(|source| Failure::Unwritable { path, source })?;
    if terminal.json {
        terminal.json(&marked);
    } else {
        terminal.heading(&format!("marked at {}", super::at(marked.time)));
        terminal.line("  `tipstaff tally --since-mark` counts from here");
    }
    Ok(Ending::Fine)
}

/// The rows without what was counted before the mark, and when that was set.
pub(super) fn since(common: &Common, rows: Vec<Row>) -> Result<(Vec<Row>, Moment), Failure> {
    let path = place(common);
    let text = files::text(&path, MOST).map_err(|source| match source.kind() {
        io::ErrorKind::NotFound => Failure::Argument {
            message: "no mark was set since the machine started".into(),
            help: "Set one with: tipstaff tally --mark".into(),
        },
        _ => Failure::Unreadable { path: path.clone(), source },
    })?;
    let marked = shape::check(&text, Marked::NAME)
        .and_then(|()| Ok(serde_json::from_str::<Marked>(&text)?))
        .map_err(|why| Failure::Argument {
            message: format!("{} is not a mark: {why}", path.display()),
            help: "Set another one with: tipstaff tally --mark".into(),
        })?;
    let counts = marked.counts.into_iter();
    let before = counts.map(|count| ((count.of, count.since), (count.tally, count.beyond)));
    Ok((without(rows, &before.collect()), marked.time))
}
