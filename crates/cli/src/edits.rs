//! The last edits of a file of orders, kept beside it so that they can be taken back.

use std::io;
use std::path::{Path, PathBuf};

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use tipstaff_core::orders::OrdersHash;
use tipstaff_host::files::{self, Access, MOST_TEXT};

use crate::failure::Failure;

/// So many edits are kept,
const MOST: usize = 20;
/// and so many bytes of earlier texts: what is older goes.
const MOST_BYTES: usize = 8 << 20;

/// An edit that was made.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize, JsonSchema, Serialize)]
pub struct MadeEdit {
    /// When, as RFC 3339 has it.
    pub time: String,
    /// Who.
    pub by: String,
    /// The command line that made it.
    pub command: String,
    /// The files that it changed.
    pub files: Vec<ChangedFile>,
}

/// A file before and after an edit.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize, JsonSchema, Serialize)]
pub struct ChangedFile {
    /// The included file; null for the orders' own.
    pub part: Option<String>,
    /// Its text before.
    #[serde(default)]
    pub before: String,
    /// The hash of its text after: it is taken back only as long as nobody else changed it.
    pub after: String,
}

impl ChangedFile {
    /// A file that gets another text.
    pub fn new(part: Option<&str>, before: &str, after: &str) -> Self {
        let (part, before) = (part.map(str::to_owned), before.to_owned());
        Self { part, before, after: hash(after) }
    }

    /// Whether a text is the one from before: the edit was cut off, or taken back.
    pub fn is_as_before(&self, text: &str) -> bool {
        self.before == text
    }

    /// Whether a text is the one that the edit left behind.
    pub fn left(&self, text: &str) -> bool {
        hash(text) == self.after
    }
}

fn hash(text: &str) -> String {
    OrdersHash::digest(text).to_string()
}

/// Where the edits of a file are kept; `real`: the file itself, no link to it.
fn place(real: &Path) -> PathBuf {
    let name = real.file_name().unwrap_or_default().to_string_lossy();
    real.with_file_name(format!(".{name}.edits"))
}

/// The edits that are kept, the oldest first.
///
/// # Errors
/// What cannot be read. A text that is no such list holds no edits.
pub fn kept(real: &Path) -> Result<Vec<MadeEdit>, Failure> {
    let path = place(real);
    match files::text(&path, MOST_TEXT) {
        Ok(text) => Ok(serde_json::from_str(&text).unwrap_or_default()),
        Err(e) if e.kind() == io::ErrorKind::NotFound => Ok(Vec::new()),
        Err(source) => Err(Failure::Unreadable { path, source }),
    }
}

/// Notes an edit that is about to be made.
///
/// # Errors
/// What cannot be written.
pub fn note(real: &Path, by: String, files: Vec<ChangedFile>) -> Result<(), Failure> {
    let mut all = kept(real)?;
    let words = std::env::args().skip(1);
    let command = shell_words::join(words);
    all.push(MadeEdit { time: Timestamp::now().to_string(), by, command, files });
    let bytes = |edit: &MadeEdit| edit.files.iter().map(|f| f.before.len()).sum::<usize>();
    let mut left = MOST_BYTES;
    let newest = all.iter().rev().take(MOST).take_while(|edit| {
        left = left.saturating_sub(bytes(edit));
        left > 0
    });
    let kept = newest.count();
    keep(real, &all[all.len() - kept..])
}

/// Keeps these edits instead of those that are kept.
///
/// # Errors
/// What cannot be written.
pub fn keep(real: &Path, edits: &[MadeEdit]) -> Result<(), Failure> {
    let path = place(real);
    let text = serde_json::to_string(edits).unwrap_or_default();
    // Earlier orders are nobody else's business than the orders are.
    let access = if path.exists() { Access::AsBefore } else { Access::Mode(0o600) };
    files::replace(&path, text.as_bytes(), access)
        .map_err(|source| Failure::Unwritable { path, source })
}
