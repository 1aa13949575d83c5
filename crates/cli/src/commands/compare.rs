//! `compare`: which traffic gets another answer, between two orders.

use std::path::Path;

use serde::Serialize;
use tipstaff_core::analysis::compare::{Change, Comparison, Kind};
use tipstaff_core::orders::OrdersHash;
use tipstaff_gate::GateError;

use crate::Ending;
use crate::arguments::{Common, CompareOptions};
use crate::chosen::{self, Chosen, Visible};
use crate::failure::Failure;
use crate::history::History;
use crate::terminal::Terminal;

/// So many lines are shown; JSON has all.
const SHOWN: usize = 24;

#[derive(Serialize)]
struct Report<'c> {
    /// `null`: nothing is in force, so that everything passes.
    before: Option<OrdersHash>,
    after: OrdersHash,
    changes: &'c [Change],
    cut_off: bool,
    /// Where that foundation was switched: whether it is on now.
    address_assignment: Option<bool>,
}

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
    let open = || after.brief.nothing_in_force();
    let list = before.as_ref().map_or_else(open, |before| before.brief.clone());
    let comparison = Comparison::of(&list, &after.brief);
    if terminal.json {
        terminal.json(&Report {
            before: before.map(|before| before.origin.hash()),
            after: after.origin.hash(),
            changes: &comparison.changes,
            cut_off: comparison.cut_off,
            address_assignment: comparison.address_assignment,
        });
    } else {
        let words = before.map(|before| before.origin.words());
        let words = words.unwrap_or_else(|| "nothing in force: everything passes".to_owned());
        terminal.heading(&format!("from {words}"));
        terminal.line(format!("to   {}", after.origin.words()));
        show(&comparison, "  ", terminal);
    }
    Ok(if comparison.is_empty() { Ending::Fine } else { Ending::Differs })
}

/// Orders by what they are called: `in-force`, the number of a revision, a file.
fn named(common: &Common, name: &str) -> Result<Chosen, Failure> {
    if name == "in-force" {
        return match chosen::in_force(common)? {
            (Some(in_force), _) => chosen::from_force(&in_force),
            (None, Visible::OnlyToRoot) => Err(GateError::NotRoot.into()),
            (None, Visible::Yes) => Err(GateError::NothingInForce.into()),
        };
    }
    if let Ok(number) = name.parse() {
        return chosen::of_revision(common, &History::of(common).get(number)?);
    }
    chosen::of_file_at(common, Path::new(name))
}

/// The lines, at most so many, each behind `indent`.
pub fn show(comparison: &Comparison, indent: &str, terminal: &Terminal) {
    let lines = comparison.lines();
    if let Some(now) = comparison.address_assignment {
        let what = if now { "passes before any rule" } else { "is left to the rules" };
        terminal.line(format!("{indent}~ address assignment (DHCP, DHCPv6) {what}"));
        terminal.note(&format!("{indent}    by [foundations]"));
    }
    if comparison.is_empty() {
        terminal.line(format!("{indent}every packet gets the same answer"));
    }
    for line in lines.iter().take(SHOWN) {
        let sign = match line.kind {
            Kind::LetIn => "+",
            Kind::Denied | Kind::Refused => "-",
            Kind::Rate | Kind::Answered | Kind::Silenced => "~",
        };
        let how = line.kind.words(line.direction);
        terminal.line(format!("{indent}{sign} {how}: {}", line.text));
        let before = if line.before == line.by && line.kind != Kind::Rate {
            String::new()
        } else {
            format!("; before it was {}", line.before)
        };
        terminal.note(&format!("{indent}    by {}{before}", line.by));
    }
    if lines.len() > SHOWN {
        terminal.line(format!("{indent}… and {} more; --json has all", lines.len() - SHOWN));
    }
    if comparison.cut_off {
        terminal.line(format!(
            "{indent}at least: the lists are too tangled to look at every piece of traffic"
        ));
    }
}
