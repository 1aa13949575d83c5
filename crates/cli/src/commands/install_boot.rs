//! `install-boot`: units for systemd, and what to do without it; and whether
//! they are there, for `state`.

use std::path::Path;
use std::process::Command;
use std::{fs, io};

use schemars::JsonSchema;
use serde::Serialize;
use tipstaff_host::files::{self, Access};

use crate::acts::units::{FILES, KEEP, PACKAGED, RUNNING, UNITS, command};
use crate::arguments::{Common, InstallBootOptions};
use crate::ending::Ending;
use crate::failure::{Failure, system};
use crate::history::History;
use crate::shape::shape;
use crate::terminal::Terminal;

#[derive(JsonSchema, Serialize)]
pub struct Report {
    written: Vec<String>,
    /// What was run to make them known and to start them.
    run: Vec<String>,
    /// The revision that the next start puts in force.
    revision: Option<u32>,
    /// What is missing yet.
    missing: Vec<String>,
}

#[derive(JsonSchema, Serialize)]
pub struct Removed {
    removed: Vec<String>,
    /// What was run to stop them.
    run: Vec<String>,
}

shape!(Report => "install-boot", Removed => "install-boot-removal");

pub fn run(
    common: &Common,
    options: &InstallBootOptions,
    terminal: &Terminal,
) -> Result<Ending, Failure> {
    let mut texts = Vec::new();
    for (name, target, verb, text) in FILES {
        let command = command(common, verb).map_err(system("finding the path of this program"))?;
        texts.push((name, target, text.replace(&format!("{PACKAGED} {verb}"), &command)));
    }
    if options.print {
        for (name, _, text) in texts {
            terminal.document(&format!("# /{UNITS}/{name}\n{text}"));
        }
        return Ok(Ending::Fine);
    }
    if options.remove {
        return remove(options, terminal);
    }
    let units = options.root.join(UNITS);
    let mut written = Vec::new();
    for (name, target, text) in texts {
        let path = units.join(name);
        let wants = units.join(format!("{target}.wants"));
        write_unit(&path, &text, &wants.join(name))
            .map_err(|source| Failure::Unwritable { path: path.clone(), source })?;
        written.push(path.display().to_string());
    }
    let managed = options.root.join(RUNNING).exists();
    let mut run = Vec::new();
    if managed && options.root == Path::new("/") {
        // `keep` changes nothing that is decided; `boot` waits for the next start.
        for arguments in [&["daemon-reload"][..], &["restart", KEEP]] {
            systemctl(arguments).map_err(system("reloading the units of systemd"))?;
            run.push(format!("systemctl {}", arguments.join(" ")));
        }
    }
    let (revision, missing) = what_is_missing(common);
    let report = Report { written, run, revision, missing };
    if terminal.json {
        terminal.json(&report);
        return Ok(Ending::Fine);
    }
    terminal.heading("written and enabled");
    report.written.iter().for_each(|path| terminal.line(format!("  {path}")));
    report.run.iter().for_each(|command| terminal.line(format!("  ran {command}")));
    match report.revision {
        Some(number) => terminal.note(&format!(
            "from the next restart on, the orders of the last post (now revision {number}) are \
             in force before the network is up"
        )),
        None => terminal.note(
            "from the next restart on, the orders of the last permanent post are in force before \
             the network is up",
        ),
    }
    report.missing.iter().for_each(|what| terminal.line(format!("  missing: {what}")));
    if !managed {
        terminal.line(
            "  systemd is not running: have your init system run these two, the first before the \
             network",
        );
        terminal.line("    tipstaff boot");
        terminal.line("    tipstaff keep &");
    }
    Ok(Ending::Fine)
}

/// Takes the units away that [`run`] wrote.
fn remove(options: &InstallBootOptions, terminal: &Terminal) -> Result<Ending, Failure> {
    let (units, mut removed, mut run) = (options.root.join(UNITS), Vec::new(), Vec::new());
    // What is not there cannot be stopped.
    let installed = FILES.iter().any(|(name, ..)| units.join(name).exists());
    let managed =
        installed && options.root == Path::new("/") && options.root.join(RUNNING).exists();
    let mut control = |arguments: &[&str]| {
        if managed {
            systemctl(arguments).map_err(system("reloading the units of systemd"))?;
            run.push(format!("systemctl {}", arguments.join(" ")));
        }
        Ok::<_, Failure>(())
    };
    // Stopping it opens nothing.
    control(&["stop", KEEP])?;
    for (name, target, ..) in FILES {
        for path in [units.join(format!("{target}.wants")).join(name), units.join(name)] {
            match fs::remove_file(&path) {
                Ok(()) => removed.push(path.display().to_string()),
                Err(e) if e.kind() == io::ErrorKind::NotFound => {}
                Err(source) => return Err(Failure::Unwritable { path, source }),
            }
        }
    }
    control(&["daemon-reload"])?;
    if terminal.json {
        terminal.json(&Removed { removed, run });
        return Ok(Ending::Fine);
    }
    match removed.is_empty() {
        true => terminal.heading("no units were installed"),
        false => terminal.heading("removed; what is in force stays so until the next restart"),
    }
    removed.iter().for_each(|path| terminal.line(format!("  {path}")));
    run.iter().for_each(|command| terminal.line(format!("  ran {command}")));
    Ok(Ending::Fine)
}

/// What a start would still lack: a program that only root can change, and
/// something that was posted to stay.
fn what_is_missing(common: &Common) -> (Option<u32>, Vec<String>) {
    let mut missing = Vec::new();
    let program = std::env::current_exe().and_then(|path| files::open(&path));
    if let Some(distrust) = program.ok().and_then(|program| program.distrust()) {
        missing.push(format!("a program that only root can change: {distrust}"));
    }
    let revision = match History::from_options(common).last_kept() {
        Ok(Some(last)) => Some(last.number),
        Ok(None) => {
            missing.push("orders posted permanently: tipstaff post".into());
            None
        }
        Err(e) => {
            missing.push(format!("a readable history: {e}"));
            None
        }
    };
    (revision, missing)
}

fn systemctl(arguments: &[&str]) -> io::Result<()> {
    let output = Command::new("systemctl").args(arguments).output()?;
    if output.status.success() {
        return Ok(());
    }
    let told = String::from_utf8_lossy(&output.stderr).trim().to_owned();
    Err(io::Error::other(format!("systemctl {}: {told}", arguments.join(" "))))
}

/// Writes a unit and enables it, as `systemctl enable` would; it works without a running
/// manager too.
fn write_unit(path: &Path, text: &str, link: &Path) -> io::Result<()> {
    files::make_folder(files::folder(link), 0o755)?;
    files::replace(path, text.as_bytes(), Access::Mode(0o644))?;
    match fs::remove_file(link) {
        Err(e) if e.kind() != io::ErrorKind::NotFound => return Err(e),
        _ => {}
    }
    let name = path.file_name().unwrap_or_default();
    std::os::unix::fs::symlink(Path::new("..").join(name), link)?;
    // A machine that loses its power right after is guarded at its next start all the same.
    fs::File::open(files::folder(link))?.sync_all()
}
