//! `group …`: the rules of a group together.

use std::fs;

use serde_json::json;
use tipstaff_core::orders::edit::{EditFault, enable_group};
use tipstaff_core::orders::exchange::{ImportFault, export_group, import_group};

use crate::Ending;
use crate::arguments::{Common, GroupCommand};
use crate::failure::Failure;
use crate::store::Held;
use crate::terminal::Terminal;

pub fn run(
    common: &Common,
    command: &GroupCommand,
    terminal: &Terminal,
) -> Result<Ending, Failure> {
    let path = common.orders_path();
    let held = Held::open(path)?;
    let text = held.text.clone();
    let not_edited = |source: EditFault| match source {
        EditFault::Unsound(faults) => {
            Failure::WrongOrders { path: path.to_owned(), text: text.clone(), faults }
        }
        source => Failure::NotEdited { path: path.to_owned(), source },
    };
    let (new, told) = match command {
        GroupCommand::Export { group } => {
            let fragment = export_group(&text, group).map_err(not_edited)?;
            if terminal.json {
                terminal.json(&json!({ "group": group, "fragment": fragment }));
            } else {
                terminal.line(fragment.trim_end());
            }
            return Ok(Ending::Fine);
        }
        GroupCommand::Pause { group } => (
            enable_group(&text, group, false).map_err(not_edited)?,
            format!("the rules of {group} keep their places but never speak"),
        ),
        GroupCommand::Resume { group } => (
            enable_group(&text, group, true).map_err(not_edited)?,
            format!("the rules of {group} speak again"),
        ),
        GroupCommand::Import { file } => {
            let fragment = fs::read_to_string(file)
                .map_err(|source| Failure::Unreadable { path: file.clone(), source })?;
            let new = import_group(&text, &fragment).map_err(|fault| match fault {
                ImportFault::Edit(fault) => not_edited(fault),
                fault => Failure::Argument {
                    message: format!("{} was not imported: {fault}", file.display()),
                    mend: "Nothing was overwritten; rename one of the two and try again.".into(),
                },
            })?;
            (new, format!("{} is part of {} now", file.display(), path.display()))
        }
    };
    held.replace(&new)?;
    if terminal.json {
        terminal.json(&json!({ "file": path, "changed": true, "told": told }));
    } else {
        terminal.heading(&told);
        terminal.note("not in force before `tipstaff post`");
    }
    Ok(Ending::Fine)
}
