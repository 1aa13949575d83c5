//! The mutants, as cargo-mutants lists them.

use std::fs;
use std::path::{Path, PathBuf};

use anyhow::{Context, Result};
use serde::Deserialize;

/// A place in a file; both count from 1, columns in characters.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Deserialize)]
pub struct Place {
    pub line: usize,
    pub column: usize,
}

/// From the first character to behind the last.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
pub struct Span {
    pub start: Place,
    pub end: Place,
}

/// What kind of change it is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Deserialize)]
pub enum Genre {
    FnValue,
    BinaryOperator,
    UnaryOperator,
    MatchArm,
    MatchArmGuard,
    StructField,
}

/// A change of the source that a test should notice.
#[derive(Clone, Debug, Deserialize)]
pub struct Mutant {
    /// File, place and change, as cargo-mutants tells them.
    pub name: String,
    pub file: PathBuf,
    pub span: Span,
    pub genre: Genre,
    /// What stands there instead.
    pub replacement: String,
}

/// Reads what `cargo mutants --list --json` wrote.
pub fn read(path: &Path) -> Result<Vec<Mutant>> {
    let text = fs::read_to_string(path).with_context(|| path.display().to_string())?;
    serde_json::from_str(&text).context("what cargo-mutants lists is not as expected")
}
