//! `import`: orders from access lists of other equipment.

use std::fs::File;
use std::io::{self, BufReader, Read};
use std::path::Path;

use schemars::JsonSchema;
use serde::Serialize;
use tipstaff_core::analysis::access_lists::{AccessLists, import};
use tipstaff_core::orders::read;

use crate::acts::beginning;
use crate::arguments::ImportOptions;
use crate::ending::Ending;
use crate::failure::Failure;
use crate::shape::shape;
use crate::terminal::Terminal;

#[derive(JsonSchema, Serialize)]
pub struct Report<'r> {
    /// The orders.
    text: &'r str,
    /// The file of the orders; null: they were only shown.
    written_to: Option<&'r Path>,
    /// Entries that orders have no words for, each with the reason.
    left_out: &'r [String],
    /// What was taken where the lists say nothing.
    notes: &'r [String],
}

shape!(Report<'_> => "import");

pub fn run(options: &ImportOptions, terminal: &Terminal) -> Result<Ending, Failure> {
    let lists = lists(&options.file)?;
    let imported = import(&lists);
    // What would not be read again is no orders.
    if let Err(faults) = read(&imported.text) {
        let fault = faults.0.first().map(|fault| fault.message.clone()).unwrap_or_default();
        return Err(Failure::Argument {
            message: format!("{}: its entries make no orders: {fault}", options.file.display()),
            help: "Mend the entry in the access lists.".into(),
        });
    }
    imported.unfit.iter().for_each(|what| terminal.warning(what));
    if terminal.json {
        terminal.json(&Report {
            text: &imported.text,
            written_to: options.to.as_deref(),
            left_out: &imported.unfit,
            notes: &imported.notes,
        });
    }
    match &options.to {
        Some(path) => {
            beginning::write_new(path, &imported.text)?;
            if !terminal.json {
                terminal.heading(&format!("wrote {}", path.display()));
            }
        }
        None if !terminal.json => terminal.document(&imported.text),
        None => {}
    }
    if !terminal.json && options.to.is_some() {
        imported.notes.iter().for_each(|note| terminal.note(&format!("  {note}")));
    }
    Ok(if imported.unfit.is_empty() { Ending::Fine } else { Ending::Differs })
}

fn lists(path: &Path) -> Result<AccessLists, Failure> {
    let input: Box<dyn Read> = match path == Path::new("-") {
        true => Box::new(io::stdin()),
        false => Box::new(File::open(path).map_err(Failure::unreadable(path))?),
    };
    serde_json::from_reader(BufReader::new(input)).map_err(|fault| match fault.classify() {
        serde_json::error::Category::Io => Failure::unreadable(path)(fault.into()),
        _ => Failure::Argument {
            message: format!("{}: no access lists of RFC 8519 in JSON: {fault}", path.display()),
            help: "The document begins with ietf-access-control-list:acls.".into(),
        },
    })
}
