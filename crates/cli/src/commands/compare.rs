//! `compare`: which traffic gets another answer, between two orders.

use std::path::Path;

use schemars::JsonSchema;
use serde::Serialize;
use tipstaff_core::analysis::compare::{Change, Comparison};
use tipstaff_gate::GateError;

use crate::acts::comparison;
use crate::arguments::{Common, CompareOptions};
use crate::chosen::{self, LoadedPolicy, Visible};
use crate::ending::Ending;
use crate::failure::Failure;
use crate::history::History;
use crate::shape::shape;
use crate::terminal::Terminal;
use crate::terminal::orders_words;
use tipstaff_core::orders::Origin;

#[derive(JsonSchema, Serialize)]
pub struct Report<'c> {
    /// `null`: nothing is in force, so that everything passes.
    before: Option<&'c Origin>,
    after: &'c Origin,
    changes: &'c [Change],
    cut_off: bool,
    /// Where that foundation was switched: whether it is on now.
    address_assignment: Option<bool>,
}

shape!(Report<'_> => "compare");

pub fn run(
    common: &Common,
    options: &CompareOptions,
    terminal: &Terminal,
) -> Result<Ending, Failure> {
    let after = match &options.after {
        Some(name) => named(common, name)?,
        None => chosen::from_file(common)?,
    };
    let before = match named(common, &options.before) {
        // Before the first post everything passes.
        Err(Failure::Gate(GateError::NothingInForce)) => None,
        before => Some(before?),
    };
    let list = before
        .as_ref()
        .map_or_else(|| after.brief.nothing_in_force(), |before| before.brief.clone());
    let comparison = Comparison::between(&list, &after.brief);
    if terminal.json {
        terminal.json(&Report {
            before: before.as_ref().map(|before| &before.origin),
            after: &after.origin,
            changes: &comparison.changes,
            cut_off: comparison.cut_off,
            address_assignment: comparison.address_assignment,
        });
    } else {
        let words = before.map(|before| orders_words(&before.origin));
        let words = words.unwrap_or_else(|| "nothing in force: everything passes".to_owned());
        terminal.heading(&format!("from {words}"));
        terminal.line(format!("to   {}", orders_words(&after.origin)));
        comparison::show(&comparison, "  ", terminal);
    }
    Ok(if comparison.is_empty() { Ending::Fine } else { Ending::Differs })
}

/// Orders by what they are called: `in-force`, the number of a revision, a file.
fn named(common: &Common, name: &str) -> Result<LoadedPolicy, Failure> {
    if name == "in-force" {
        return match chosen::in_force(common)? {
            (Some(in_force), _) => chosen::from_force(&in_force),
            (None, Visible::OnlyToRoot) => Err(GateError::NotRoot.into()),
            (None, Visible::Yes) => Err(GateError::NothingInForce.into()),
        };
    }
    if let Ok(number) = name.parse() {
        return chosen::of_revision(common, &History::from_options(common).get(number)?);
    }
    chosen::of_file_at(common, Path::new(name))
}
