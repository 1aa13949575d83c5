//! An edit of what is no rule: made, compared, written and told.

use std::path::PathBuf;

use schemars::JsonSchema;
use serde::Serialize;
use tipstaff_core::analysis::compare::{Change, Comparison};
use tipstaff_core::orders::edit::EditFault;
use tipstaff_core::orders::edit_tables::{TableEdit, edit_tables};

use crate::acts::comparison;
use crate::arguments::Common;
use crate::chosen;
use crate::ending::Ending;
use crate::failure::Failure;
use crate::shape::shape;
use crate::store::Held;
use crate::terminal::Terminal;

#[derive(JsonSchema, Serialize)]
pub struct Report {
    /// The file of orders.
    file: PathBuf,
    /// Whether anything was changed; false where it was so already, or only to be shown.
    changed: bool,
    /// What happened, a sentence each.
    told: Vec<String>,
    /// Which traffic gets another answer on this host by that; null where that is not known.
    changes: Option<Vec<Change>>,
}

shape!(Report => "orders-edit");

/// It is so already: told, and no failure.
pub fn nothing_to_do(common: &Common, why: String, terminal: &Terminal) -> Ending {
    if terminal.json {
        let file = common.orders_path().to_owned();
        terminal.json(&Report { file, changed: false, told: vec![why], changes: None });
    } else {
        terminal.line(format!("Nothing to do: {why}."));
    }
    Ending::Fine
}

/// Makes an edit, or only shows what it would change.
pub fn apply(
    common: &Common,
    edit: &TableEdit,
    only_shows: bool,
    terminal: &Terminal,
) -> Result<Ending, Failure> {
    let path = common.orders_path();
    let held = Held::open(path)?;
    let edited = match edit_tables(held.sheets(), edit) {
        Ok(edited) => edited,
        Err(EditFault::NothingToDo(why)) => return Ok(nothing_to_do(common, why, terminal)),
        Err(fault) => return Err(held.not_edited(path, fault)),
    };
    // On a machine that is none of the hosts of the file nobody knows what changes.
    let changes: Option<Comparison> =
        chosen::from_file(common).and_then(|judge| comparison::of_edit(&judge, &edited.texts)).ok();
    if !only_shows {
        held.replace_all(&edited.texts)?;
    }
    if terminal.json {
        let (file, changed) = (path.to_owned(), !only_shows);
        let changes = changes.map(|comparison| comparison.changes);
        terminal.json(&Report { file, changed, told: edited.told, changes });
        return Ok(Ending::Fine);
    }
    terminal.heading(&edited.told.join("; "));
    if let Some(changes) = &changes {
        comparison::show(changes, "  ", terminal);
    }
    terminal.note(match only_shows {
        true => "Nothing was written.",
        false => "Saved. Run `tipstaff post` to put it in force, `tipstaff undo` to take it back.",
    });
    Ok(Ending::Fine)
}
