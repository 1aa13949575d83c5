//! `undo`: the last edits of the orders, taken back.

use std::path::PathBuf;

use schemars::JsonSchema;
use serde::Serialize;
use tipstaff_core::orders::edit::NewText;

use crate::arguments::{Common, UndoOptions};
use crate::edits::{self, MadeEdit};
use crate::ending::Ending;
use crate::failure::Failure;
use crate::shape::shape;
use crate::store::Held;
use crate::terminal::{Columns, Terminal, counted, faint, plain};

#[derive(JsonSchema, Serialize)]
pub struct Report<'r> {
    /// The file of orders.
    file: PathBuf,
    /// Whether anything was changed.
    changed: bool,
    /// The edits that were taken back, or with --list those that can be; the last first.
    edits: Vec<Row<'r>>,
}

#[derive(JsonSchema, Serialize)]
struct Row<'r> {
    time: &'r str,
    by: &'r str,
    /// The command line that made it.
    command: &'r str,
}

shape!(Report<'_> => "undo");

fn row(edit: &MadeEdit) -> Row<'_> {
    Row { time: &edit.time, by: &edit.by, command: &edit.command }
}

pub fn run(common: &Common, options: &UndoOptions, terminal: &Terminal) -> Result<Ending, Failure> {
    let path = common.orders_path();
    let held = Held::open(path)?;
    let real = held.real_path()?;
    let mut kept = edits::kept(&real)?;
    // Noted, and not made: neither counted nor in the way.
    while kept.last().is_some_and(|edit| is_undone(&held, edit)) {
        kept.pop();
    }
    if options.list {
        list(&kept, path.to_owned(), terminal);
        return Ok(Ending::Fine);
    }
    let wanted = options.edits as usize;
    if wanted > kept.len() {
        return Err(Failure::Argument {
            message: match kept.len() {
                0 => format!("no edit of {} is kept that could be taken back", path.display()),
                n => format!("only {} can be taken back", counted(n, "edit", "edits")),
            },
            help: "See them with `tipstaff undo --list`; what was in force before is in \
                   `tipstaff history`."
                .into(),
        });
    }
    let undone = kept.split_off(kept.len() - wanted);
    let texts = before(&held, &undone)?;
    held.write_without_note(&texts)?;
    edits::keep(&real, &kept)?;
    let rows = undone.iter().rev().map(row).collect();
    if terminal.json {
        terminal.json(&Report { file: path.to_owned(), changed: true, edits: rows });
        return Ok(Ending::Fine);
    }
    terminal.heading(&format!("taken back in {}", path.display()));
    for row in rows {
        terminal.line(format!("  tipstaff {}", row.command));
    }
    terminal.note("  Saved. Run `tipstaff post` to put it in force.");
    Ok(Ending::Fine)
}

/// Whether nothing is left of an edit.
fn is_undone(held: &Held, edit: &MadeEdit) -> bool {
    edit.files.iter().all(|file| file.is_as_before(held.text_of(file.part.as_deref())))
}

/// The texts before these edits, the oldest first; nothing, where somebody else changed a
/// file since.
fn before(held: &Held, undone: &[MadeEdit]) -> Result<Vec<NewText>, Failure> {
    let mut texts: Vec<NewText> = Vec::new();
    for edit in undone.iter().rev() {
        for file in &edit.files {
            let known = texts.iter().position(|new| new.part == file.part);
            let now = match known {
                Some(at) => texts[at].text.as_str(),
                None => held.text_of(file.part.as_deref()),
            };
            if file.is_as_before(now) {
                continue;
            }
            if !file.left(now) {
                let path = held.path_of(file.part.as_deref());
                return Err(Failure::Argument {
                    message: format!(
                        "{} was changed otherwise since `tipstaff {}`; nothing was taken back",
                        path.display(),
                        edit.command
                    ),
                    help: "Change it in an editor, or with the commands that edit.".into(),
                });
            }
            let new = NewText { part: file.part.clone(), text: file.before.clone() };
            match known {
                Some(at) => texts[at] = new,
                None => texts.push(new),
            }
        }
    }
    Ok(texts)
}

fn list(kept: &[MadeEdit], file: PathBuf, terminal: &Terminal) {
    if terminal.json {
        let edits = kept.iter().rev().map(row).collect();
        return terminal.json(&Report { file, changed: false, edits });
    }
    terminal.heading(&format!("{} can be taken back", counted(kept.len(), "edit", "edits")));
    if kept.is_empty() {
        return;
    }
    let mut table = Columns::new(["", "when", "by", "tipstaff"]);
    for (n, edit) in kept.iter().rev().enumerate() {
        let time: Result<jiff::Timestamp, _> = edit.time.parse();
        let when =
            time.map_or_else(|_| edit.time.clone(), |at| crate::terminal::moment(at.as_second()));
        table.row([faint(n + 1), plain(when), plain(&edit.by), plain(&edit.command)]);
    }
    terminal.table(&table);
}
