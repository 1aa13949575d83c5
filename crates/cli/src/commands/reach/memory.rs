//! Where the last check is kept, for `--changes`.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};

use tipstaff_core::reach::Report;

use crate::arguments::Common;
use crate::failure::Failure;

/// The file of the last check of a host: root's beside the history, anybody
/// else's at home (the XDG base directory specification's state).
pub fn place(common: &Common, host: &str) -> Option<PathBuf> {
    // A host's name is one part of a file name, whatever it is.
    let plain: String = host
        .chars()
        .map(|c| if c.is_alphanumeric() || "-_".contains(c) { c } else { '_' })
        .collect();
    let name = format!("reach-{plain}.json");
    if nix::unistd::geteuid().is_root() {
        return Some(common.history.join(name));
    }
    let named = |name: &str| std::env::var_os(name).filter(|v| !v.is_empty()).map(PathBuf::from);
    let state = named("XDG_STATE_HOME").or_else(|| Some(named("HOME")?.join(".local/state")))?;
    Some(state.join("tipstaff").join(name))
}

/// Keeps a report, whole or not at all.
pub fn keep(path: &Path, report: &Report) -> io::Result<()> {
    use std::os::unix::fs::DirBuilderExt;
    let folder = path.parent().unwrap_or(Path::new("."));
    fs::DirBuilder::new().recursive(true).mode(0o700).create(folder)?;
    let text = serde_json::to_vec(report).map_err(io::Error::other)?;
    write(path, &text, 0o600)
}

/// Writes a file whole or not at all: beside its place, then renamed.
pub fn write(path: &Path, bytes: &[u8], mode: u32) -> io::Result<()> {
    use std::os::unix::fs::PermissionsExt;
    let folder = path.parent().filter(|f| !f.as_os_str().is_empty()).unwrap_or(Path::new("."));
    let permissions = fs::Permissions::from_mode(mode);
    let mut file = tempfile::Builder::new().permissions(permissions).tempfile_in(folder)?;
    io::Write::write_all(&mut file, bytes)?;
    file.persist(path).map_err(|e| e.error)?;
    Ok(())
}

/// Reads a report that a check wrote as JSON.
pub fn read(path: &Path) -> Result<Report, Failure> {
    let unreadable = |source| Failure::Unreadable { path: path.to_owned(), source };
    let text = fs::read_to_string(path).map_err(unreadable)?;
    serde_json::from_str(&text).map_err(|e| Failure::Argument {
        message: format!("{} is no report of a reach check: {e}", path.display()),
        mend: "Write one with: tipstaff reach --json > FILE".into(),
    })
}
