//! `install-boot`: units for systemd, and what to do without it.

use std::fs;
use std::path::Path;

use serde::Serialize;
use tipstaff_host::files::{self, Access};

use crate::Ending;
use crate::arguments::InstallBootOptions;
use crate::failure::Failure;
use crate::terminal::Terminal;

const UNITS: &str = "etc/systemd/system";
/// Name, the target that wants it, text.
const FILES: [(&str, &str, &str); 2] = [
    (
        "tipstaff-boot.service",
        "sysinit.target",
        include_str!("../../../../contrib/tipstaff-boot.service"),
    ),
    (
        "tipstaff-keep.service",
        "multi-user.target",
        include_str!("../../../../contrib/tipstaff-keep.service"),
    ),
];

#[derive(Serialize)]
struct Report {
    written: Vec<String>,
}

pub fn run(options: &InstallBootOptions, terminal: &Terminal) -> Result<Ending, Failure> {
    if options.print {
        for (name, _, text) in FILES {
            terminal.document(&format!("# /{UNITS}/{name}\n{text}"));
        }
        return Ok(Ending::Fine);
    }
    let units = options.root.join(UNITS);
    let mut written = Vec::new();
    for (name, target, text) in FILES {
        let path = units.join(name);
        let wants = units.join(format!("{target}.wants"));
        let write = || {
            files::make_folder(&wants, 0o755)?;
            files::replace(&path, text.as_bytes(), Access::Mode(0o644))?;
            // What `systemctl enable` would do; it works without a running manager too.
            let link = wants.join(name);
            match fs::remove_file(&link) {
                Err(e) if e.kind() != std::io::ErrorKind::NotFound => return Err(e),
                _ => {}
            }
            std::os::unix::fs::symlink(Path::new("..").join(name), &link)
        };
        write().map_err(|source| Failure::Unwritable { path: path.clone(), source })?;
        written.push(path.display().to_string());
    }
    if terminal.json {
        terminal.json(&Report { written });
        return Ok(Ending::Fine);
    }
    terminal.heading("written and enabled");
    written.iter().for_each(|path| terminal.line(format!("  {path}")));
    terminal.note("from the next restart on the orders of the last post are in force before the network is up");
    if !options.root.join("run/systemd/system").exists() {
        terminal.line(
            "  no systemd runs here: let your own init run these two, the first before the network",
        );
        terminal.line("    tipstaff boot");
        terminal.line("    tipstaff keep &");
    }
    Ok(Ending::Fine)
}
