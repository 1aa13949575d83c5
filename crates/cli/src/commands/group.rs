//! `group …`: the rules of a group together.

use schemars::JsonSchema;
use serde::Serialize;
use std::path::Path;

use tipstaff_core::orders::Documents;
use tipstaff_core::orders::edit::{EditFault, NewText, enable_group};
use tipstaff_core::orders::exchange::{ImportFault, export_group, import_group};
use tipstaff_host::files::{self, MOST_TEXT};

use crate::acts::editing;
use crate::arguments::{Common, GroupCommand};
use crate::attachments::{self, Written};
use crate::ending::Ending;
use crate::failure::Failure;
use crate::shape::shape;
use crate::store::{Held, not_edited};
use crate::terminal::Terminal;

#[derive(JsonSchema, Serialize)]
pub struct Edited<'r> {
    file: &'r Path,
    changed: bool,
    told: &'r str,
}

#[derive(JsonSchema, Serialize)]
pub struct Exported<'r> {
    group: &'r str,
    /// What another file of orders can take in.
    fragment: &'r str,
}

shape!(Edited<'_> => "group-edit", Exported<'_> => "group-export");

pub fn run(
    common: &Common,
    command: &GroupCommand,
    terminal: &Terminal,
) -> Result<Ending, Failure> {
    let path = common.orders_path();
    if let GroupCommand::Export { group } = command {
        return export(path, group, terminal);
    }
    let held = Held::open(path)?;
    let edited = match command {
        GroupCommand::Export { .. } => return Ok(Ending::Fine),
        GroupCommand::Pause { group } => enable_group(held.sheets(), group, false).map(|new| {
            (
                new,
                format!(
                    "the rules of {group} keep their positions but do not \
                                      apply"
                ),
            )
        }),
        GroupCommand::Resume { group } => enable_group(held.sheets(), group, true)
            .map(|new| (new, format!("the rules of {group} apply again"))),
        GroupCommand::Import { file } => {
            let fragment = files::text(file, MOST_TEXT)
                .map_err(|source| Failure::Unreadable { path: file.clone(), source })?;
            let told = format!("{} now belongs to {}", file.display(), path.display());
            match import_group(held.sheets(), &fragment) {
                Ok(text) => Ok((NewText { part: None, text }, told)),
                Err(ImportFault::Edit(fault)) => Err(fault),
                Err(fault) => {
                    return Err(Failure::Argument {
                        message: format!("{} was not imported: {fault}", file.display()),
                        help: "Nothing was overwritten; rename one of the two and try again."
                            .into(),
                    });
                }
            }
        }
    };
    let (new, told) = match edited {
        Ok(edited) => edited,
        Err(EditFault::NothingToDo(why)) => {
            return Ok(editing::nothing_to_do(common, why, terminal));
        }
        Err(fault) => return Err(held.not_edited(path, fault)),
    };
    let path = match &new.part {
        Some(part) => held.path_of(Some(part)),
        None => path.to_owned(),
    };
    held.replace(new.part.as_deref(), &new.text)?;
    if terminal.json {
        terminal.json(&Edited { file: &path, changed: true, told: &told });
    } else {
        terminal.heading(&told);
        terminal.note("Saved. Run `tipstaff post` to put it in force.");
    }
    Ok(Ending::Fine)
}

/// Prints a group; nothing is changed, so that nobody is kept from editing.
fn export(path: &Path, group: &str, terminal: &Terminal) -> Result<Ending, Failure> {
    let Written { text, attachments, .. } =
        attachments::read_for_edit(path).map_err(Failure::unreadable(path))?;
    match export_group(Documents { text: &text, attachments: &attachments }, group) {
        Err(fault) => return Err(not_edited(path, text, attachments, fault)),
        Ok(fragment) if terminal.json => {
            terminal.json(&Exported { group, fragment: &fragment });
        }
        Ok(fragment) => terminal.document(&fragment),
    }
    Ok(Ending::Fine)
}
