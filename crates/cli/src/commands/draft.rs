//! `draft`: first orders for this machine, from its survey.

use schemars::JsonSchema;
use serde::Serialize;
use std::net::IpAddr;
use std::path::Path;
use std::{fs, io};

use tipstaff_core::analysis::draft::draft;
use tipstaff_host::snapshot::Snapshot;
use tipstaff_host::{files, shell};

use crate::arguments::{Common, DraftOptions};
use crate::ending::Ending;
use crate::failure::{Failure, system};
use crate::shape::shape;
use crate::terminal::Terminal;

/// The orders of a made-up observatory, by file.
const EXAMPLE: [(&str, &str); 4] = [
    ("orders.toml", include_str!("../../demo/larkfield/orders.toml")),
    ("groups/open-day.toml", include_str!("../../demo/larkfield/groups/open-day.toml")),
    ("lists/unwanted.txt", include_str!("../../demo/larkfield/lists/unwanted.txt")),
    ("lists/feed.csv", include_str!("../../demo/larkfield/lists/feed.csv")),
];

#[derive(JsonSchema, Serialize)]
pub struct Report<'r> {
    /// The orders; null for the example, which is several files.
    text: Option<&'r str>,
    /// The file of the orders; null: they were only shown.
    written_to: Option<&'r Path>,
    /// Whence the shell comes in that this was typed in.
    shell_from: Option<IpAddr>,
}

shape!(Report<'_> => "draft");

pub fn run(_: &Common, options: &DraftOptions, terminal: &Terminal) -> Result<Ending, Failure> {
    if let Some(folder) = &options.example {
        return example(folder, terminal);
    }
    let snapshot = Snapshot::live().map_err(system("reading what listens"))?;
    let shell = shell::find();
    let text = draft(&snapshot.host, &snapshot.listeners, shell);
    if terminal.json {
        terminal.json(&Report {
            text: Some(&text),
            written_to: options.to.as_deref(),
            shell_from: shell.map(|s| s.from),
        });
    }
    let Some(path) = &options.to else {
        if !terminal.json {
            terminal.document(&text);
        }
        return Ok(Ending::Fine);
    };
    write_new(path, &text).map_err(|source| match source.kind() {
        io::ErrorKind::AlreadyExists => Failure::Argument {
            message: format!("{} already exists and was not modified", path.display()),
            help: "Name a file that does not exist yet.".into(),
        },
        _ => Failure::Unwritable { path: path.clone(), source },
    })?;
    if !terminal.json {
        terminal.heading(&format!("drafted {}", path.display()));
        let open = snapshot.listeners.len();
        terminal.line(format!(
            "  from {open} listeners; nothing is allowed yet except your \
                               shell, if you are logged in remotely"
        ));
        if snapshot.unseen_programs > 0 {
            terminal.note("  run it as root to see every program's name");
        }
    }
    Ok(Ending::Fine)
}

fn example(folder: &Path, terminal: &Terminal) -> Result<Ending, Failure> {
    fs::create_dir(folder).map_err(|source| match source.kind() {
        io::ErrorKind::AlreadyExists => Failure::Argument {
            message: format!("{} already exists and was not modified", folder.display()),
            help: "Name a directory that does not exist yet.".into(),
        },
        _ => Failure::Unwritable { path: folder.to_owned(), source },
    })?;
    for (name, text) in EXAMPLE {
        let path = folder.join(name);
        write_new(&path, text)
            .map_err(|source| Failure::Unwritable { path: path.clone(), source })?;
    }
    let orders = folder.join("orders.toml");
    if terminal.json {
        terminal.json(&Report { text: None, written_to: Some(&orders), shell_from: None });
        return Ok(Ending::Fine);
    }
    terminal.heading(&format!("wrote the orders of Larkfield Observatory to {}", folder.display()));
    terminal.line("  every key appears there once, with a comment");
    terminal.note(&format!("  tipstaff brief archive --orders {}", orders.display()));
    Ok(Ending::Fine)
}

/// Writes a file that is not there yet, with the folders above it.
fn write_new(path: &Path, text: &str) -> io::Result<()> {
    files::make_folder(files::folder(path), 0o755)?;
    files::create(path, text.as_bytes(), 0o644)
}
