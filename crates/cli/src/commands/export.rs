//! `export`: the rules of a host in a form that other equipment reads.

use std::path::Path;

use tipstaff_core::analysis::access_lists::export;
use tipstaff_host::files::{self, Access};

use crate::arguments::{Common, ExportOptions};
use crate::chosen;
use crate::ending::Ending;
use crate::failure::Failure;
use crate::terminal::{Terminal, counted};

pub fn run(
    common: &Common,
    options: &ExportOptions,
    terminal: &Terminal,
) -> Result<Ending, Failure> {
    let judge = chosen::from_file(common)?;
    let exported = export(&judge.brief);
    exported.unfit.iter().chain(&exported.inactive).for_each(|what| terminal.warning(what));
    match &options.to {
        None => terminal.foreign_json(&exported.lists),
        Some(path) => {
            write(path, &exported.lists)?;
            let entries = counted(exported.entries, "entry", "entries");
            terminal.line(format!("wrote {}: {entries} and the standing answers", path.display()));
        }
    }
    Ok(if exported.unfit.is_empty() { Ending::Fine } else { Ending::Differs })
}

fn write(path: &Path, lists: &impl serde::Serialize) -> Result<(), Failure> {
    let unwritable = |source| Failure::Unwritable { path: path.to_owned(), source };
    let text = serde_json::to_string_pretty(lists).map_err(|e| unwritable(e.into()))?;
    files::replace(path, format!("{text}\n").as_bytes(), Access::Usual).map_err(unwritable)
}
