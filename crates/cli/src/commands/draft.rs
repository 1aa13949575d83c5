//! `draft`: first orders for this machine, from its survey.

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::Serialize;
use std::net::IpAddr;
use std::path::Path;
use std::{fs, io};

use tipstaff_core::analysis::draft::{Shell, draft};
use tipstaff_core::analysis::log::LogFilter;
use tipstaff_host::shell;
use tipstaff_host::snapshot::Snapshot;

use crate::acts::decisions::{logged, no_log};
use crate::acts::{beginning, requests, when};
use crate::arguments::{Common, DraftOptions};
use crate::ending::Ending;
use crate::failure::{Failure, system};
use crate::shape::shape;
use crate::terminal::{Terminal, counted};

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

pub fn run(
    common: &Common,
    options: &DraftOptions,
    terminal: &Terminal,
) -> Result<Ending, Failure> {
    if let Some(folder) = &options.example {
        return example(folder, terminal);
    }
    let shell = shell::find();
    let Drafted { text, from, notes, missing } = drafted(common, options, shell)?;
    missing.iter().for_each(|what| terminal.warning(what));
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
    beginning::write_new(path, &text)?;
    if !terminal.json {
        terminal.heading(&format!("drafted {}", path.display()));
        terminal.line(format!("  from {from}"));
        notes.iter().for_each(|note| terminal.note(&format!("  {note}")));
    }
    Ok(Ending::Fine)
}

/// Orders, and where they come from.
struct Drafted {
    text: String,
    from: String,
    /// What must be known to judge them.
    notes: Vec<String>,
    /// What could not be read.
    missing: Vec<String>,
}

fn drafted(
    common: &Common,
    options: &DraftOptions,
    shell: Option<Shell>,
) -> Result<Drafted, Failure> {
    let host = nix::unistd::gethostname().unwrap_or_default().to_string_lossy().into_owned();
    if let Some(path) = &options.from_capture {
        let (seen, end) = requests::seen_in_capture(path, &options.own)?;
        let from = format!("the capture {}", path.display());
        let notes = vec!["what was not answered there is left out".to_owned()];
        let missing = end.words().into_iter().collect();
        return Ok(Drafted { text: seen.orders(&host, &from, shell), from, notes, missing });
    }
    if options.from_log || options.from_rehearsal {
        let since = options.since.as_deref().map(|text| when::read(text, Timestamp::now()));
        let rehearsed = Some(options.from_rehearsal);
        let filter = LogFilter { since: since.transpose()?, rehearsed, ..LogFilter::default() };
        let (seen, counts) = requests::seen_in_log(common, &filter)?;
        let from = match options.from_rehearsal {
            true => "what was rehearsed",
            false => "the log of decisions",
        };
        let notes = vec!["everything may leave, by the standing answer".to_owned()];
        let mut missing = counts.words();
        missing.extend(logged(common)?.is_empty().then(|| no_log(common)));
        let from = from.to_owned();
        return Ok(Drafted { text: seen.orders(&host, &from, shell), from, notes, missing });
    }
    if options.since.is_some() {
        return Err(Failure::Argument {
            message: "--since is about the log".into(),
            help: "Use it with --from-log or --from-rehearsal.".into(),
        });
    }
    let snapshot = Snapshot::live().map_err(system("reading what listens"))?;
    let text = draft(&snapshot.host, &snapshot.listeners, shell);
    let mut notes = Vec::new();
    if snapshot.unseen_programs > 0 {
        notes.push("run it as root to see every program's name".to_owned());
    }
    let from = format!(
        "{}; nothing is allowed yet except your shell, if you are logged in remotely",
        counted(snapshot.listeners.len(), "listener", "listeners")
    );
    Ok(Drafted { text, from, notes, missing: Vec::new() })
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
        beginning::write_new(&path, text)?;
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
