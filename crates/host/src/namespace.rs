//! Entering a network namespace by name or path.

use std::fs::File;
use std::io;
use std::path::{Path, PathBuf};

use nix::sched::{CloneFlags, setns};

/// Where named namespaces are kept by convention.
const NAMED: &str = "/run/netns";

/// Why a namespace was not entered.
#[derive(Debug, thiserror::Error)]
pub enum NamespaceFault {
    /// It does not exist.
    #[error("there is no network namespace `{name}` ({})", path.display())]
    Unknown {
        /// As it was given.
        name: String,
        /// Where it was looked for.
        path: PathBuf,
    },
    /// It exists and cannot be entered.
    #[error("the network namespace `{name}` cannot be entered: {source}")]
    Closed {
        /// As it was given.
        name: String,
        /// What the kernel said.
        source: io::Error,
    },
}

/// Moves the calling thread into the namespace `name`: a path when it has a
/// slash in it, else a name below /run/netns.
///
/// # Errors
/// [`NamespaceFault`].
pub fn enter(name: &str) -> Result<(), NamespaceFault> {
    let path = if name.contains('/') { PathBuf::from(name) } else { Path::new(NAMED).join(name) };
    let file = File::open(&path).map_err(|source| match source.kind() {
        io::ErrorKind::NotFound => NamespaceFault::Unknown { name: name.to_owned(), path },
        _ => NamespaceFault::Closed { name: name.to_owned(), source },
    })?;
    setns(file, CloneFlags::CLONE_NEWNET)
        .map_err(|e| NamespaceFault::Closed { name: name.to_owned(), source: e.into() })
}
