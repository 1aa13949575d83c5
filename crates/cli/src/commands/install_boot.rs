//! `install-boot`: units for systemd, and what to do without it; and whether
//! they are there, for `state`.

use std::path::Path;
use std::process::Command;
use std::{fs, io};

use serde::Serialize;
use tipstaff_host::files::{self, Access};

use crate::Ending;
use crate::arguments::{Common, InstallBootOptions};
use crate::failure::{Failure, system};
use crate::history::History;
use crate::terminal::Terminal;

const UNITS: &str = "etc/systemd/system";
/// Where units are looked for: the administrator's own, and those of packages
/// (systemd.unit(5)).
const SEARCHED: [&str; 3] =
    ["/etc/systemd/system", "/usr/lib/systemd/system", "/lib/systemd/system"];
/// There while systemd runs (sd_booted(3)).
const RUNNING: &str = "run/systemd/system";
/// What the units in contrib/ run.
const PACKAGED: &str = "/usr/sbin/tipstaff";
const KEEP: &str = "tipstaff-keep.service";
const BOOT: (&str, &str) = ("tipstaff-boot.service", "sysinit.target");
/// Name, the target that wants it, the command, text.
const FILES: [(&str, &str, &str, &str); 2] = [
    (BOOT.0, BOOT.1, "boot", include_str!("../../../../contrib/tipstaff-boot.service")),
    (KEEP, "multi-user.target", "keep", include_str!("../../../../contrib/tipstaff-keep.service")),
];

#[derive(Serialize)]
struct Report {
    written: Vec<String>,
    /// What was run to make them known and to start them.
    run: Vec<String>,
    /// The revision that the next start puts in force.
    revision: Option<u32>,
    /// What is missing yet.
    missing: Vec<String>,
}

pub fn run(
    common: &Common,
    options: &InstallBootOptions,
    terminal: &Terminal,
) -> Result<Ending, Failure> {
    let mut texts = Vec::new();
    for (name, target, verb, text) in FILES {
        let command = command(common, verb).map_err(system("finding out where this program is"))?;
        texts.push((name, target, text.replace(&format!("{PACKAGED} {verb}"), &command)));
    }
    if options.print {
        for (name, _, text) in texts {
            terminal.document(&format!("# /{UNITS}/{name}\n{text}"));
        }
        return Ok(Ending::Fine);
    }
    let units = options.root.join(UNITS);
    let mut written = Vec::new();
    for (name, target, text) in texts {
        let path = units.join(name);
        let wants = units.join(format!("{target}.wants"));
        let write = || {
            files::make_folder(&wants, 0o755)?;
            files::replace(&path, text.as_bytes(), Access::Mode(0o644))?;
            // What `systemctl enable` would do; it works without a running manager too.
            let link = wants.join(name);
            match fs::remove_file(&link) {
                Err(e) if e.kind() != io::ErrorKind::NotFound => return Err(e),
                _ => {}
            }
            std::os::unix::fs::symlink(Path::new("..").join(name), &link)
        };
        write().map_err(|source| Failure::Unwritable { path: path.clone(), source })?;
        written.push(path.display().to_string());
    }
    let managed = options.root.join(RUNNING).exists();
    let mut run = Vec::new();
    if managed && options.root == Path::new("/") {
        // `keep` changes nothing that is decided; `boot` waits for the next start.
        for arguments in [&["daemon-reload"][..], &["restart", KEEP]] {
            systemctl(arguments).map_err(system("making the units known to systemd"))?;
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
            "from the next restart on the orders of the last post, now revision {number}, are in force before the network is up"
        )),
        None => terminal.note(
            "from the next restart on the orders of the last post that is to stay are in force before the network is up",
        ),
    }
    report.missing.iter().for_each(|what| terminal.line(format!("  missing: {what}")));
    if !managed {
        terminal.line(
            "  no systemd runs here: let your own init run these two, the first before the network",
        );
        terminal.line("    tipstaff boot");
        terminal.line("    tipstaff keep &");
    }
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
    let revision = match History::of(common).last_kept() {
        Ok(Some(last)) => Some(last.number),
        Ok(None) => {
            missing.push("orders that are to stay: tipstaff post".into());
            None
        }
        Err(e) => {
            missing.push(format!("a history that can be read: {e}"));
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

/// This very program with the options that it was given, as a unit writes it.
fn command(common: &Common, verb: &str) -> io::Result<String> {
    let mut words = vec![std::env::current_exe()?.display().to_string(), verb.to_owned()];
    let mut option = |name: &str, value: String| words.extend([name.to_owned(), value]);
    let absolute =
        |path: &Path| Ok::<_, io::Error>(std::path::absolute(path)?.display().to_string());
    if let Some(orders) = &common.orders {
        option("--orders", absolute(orders)?);
    }
    if common.history != Path::new(Common::HISTORY) {
        option("--history", absolute(&common.history)?);
    }
    if common.run_dir != Path::new(Common::RUN) {
        option("--run-dir", absolute(&common.run_dir)?);
    }
    if let Some(host) = &common.host {
        option("--host", host.clone());
    }
    Ok(words.iter().map(|word| quoted(word)).collect::<Vec<_>>().join(" "))
}

/// A word as ExecStart= has it (systemd.service(5)).
fn quoted(word: &str) -> String {
    let plain = |c: char| c.is_alphanumeric() || "/._-+:@=,".contains(c);
    if !word.is_empty() && word.chars().all(plain) {
        return word.to_owned();
    }
    let mut out = String::from("\"");
    for c in word.chars() {
        match c {
            '"' | '\\' => out.extend(['\\', c]),
            '%' | '$' => out.extend([c, c]),
            c => out.push(c),
        }
    }
    out.push('"');
    out
}

/// Whether what is in force will be so again after a restart.
#[derive(Debug, Serialize)]
pub struct Restart {
    /// `None`: nobody can tell here.
    pub in_force: Option<bool>,
    /// By what, or why not.
    pub why: String,
}

/// Looks at the units, and at what was posted to stay.
pub fn restart(common: &Common) -> Restart {
    let no = |why: String| Restart { in_force: Some(false), why };
    let found = SEARCHED.iter().map(|folder| Path::new(folder).join(BOOT.0)).find(|p| p.exists());
    let Some(unit) = found else {
        if !Path::new("/").join(RUNNING).exists() {
            let why = "no systemd runs here; your own init must run `tipstaff boot`".to_owned();
            return Restart { in_force: None, why };
        }
        return no("there is no unit for it: tipstaff install-boot".to_owned());
    };
    let enabled = SEARCHED.iter().any(|folder| {
        Path::new(folder).join(format!("{}.wants", BOOT.1)).join(BOOT.0).symlink_metadata().is_ok()
    });
    if !enabled {
        return no(format!("{} is not enabled: tipstaff install-boot", BOOT.0));
    }
    let text = files::text(&unit, files::MOST_TEXT).unwrap_or_default();
    let runs = text.lines().find_map(|line| line.strip_prefix("ExecStart=")).unwrap_or_default();
    match command(common, "boot") {
        Ok(own) if own != runs => {
            return no(format!(
                "{} runs `{runs}`, not `{own}`: tipstaff install-boot",
                unit.display()
            ));
        }
        _ => {}
    }
    match History::of(common).last_kept() {
        Ok(Some(last)) => Restart {
            in_force: Some(true),
            why: format!("by {}, revision {}", BOOT.0, last.number),
        },
        Ok(None) => no("nothing was posted to stay".to_owned()),
        Err(e) => no(format!("the history cannot be read: {e}")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_of_a_unit_are_quoted_where_they_must_be() {
        assert_eq!(quoted("/usr/sbin/tipstaff"), "/usr/sbin/tipstaff");
        assert_eq!(quoted("/srv/the orders/50%\""), "\"/srv/the orders/50%%\\\"\"");
        assert_eq!(quoted(""), "\"\"");
    }

    #[test]
    fn the_units_run_the_two_commands() {
        for (_, _, verb, text) in FILES {
            assert_eq!(text.matches(&format!("ExecStart={PACKAGED} {verb}\n")).count(), 1);
        }
    }
}
