//! What `reach` writes, and where the last check is kept: for `--changes`, and for
//! metrics.

use std::io;
use std::path::{Path, PathBuf};

use schemars::JsonSchema;
use serde::Serialize;
use tipstaff_core::analysis::reach::{Changes, Report};
use tipstaff_core::moment::Moment;
use tipstaff_gate::Record;
use tipstaff_host::files::{self, Access};

use crate::arguments::Common;
use crate::failure::Failure;
use crate::shape::{self, Shape, Tagged, WrongSchema, shape};

/// A check as JSON.
#[derive(JsonSchema, Serialize)]
pub struct Output<'r> {
    #[serde(flatten)]
    pub report: &'r Report,
    /// Since the last check, or the report that was named; null: nobody asked.
    pub changes: Option<&'r Changes>,
}

shape!(Output<'_> => "reach");

/// The file of the last check of a host: root's beside the history, anybody
/// else's at home (the XDG base directory specification's state).
pub fn place(common: &Common, host: &str) -> Option<PathBuf> {
    // A host's name is one part of a file name, whatever it is.
    let plain: String = host
        .chars()
        .map(|c| if c.is_alphanumeric() || "-_".contains(c) { c } else { '_' })
        .collect();
    Some(folder(common)?.join(format!("reach-{plain}.json")))
}

/// Where the last checks are kept, and the last roll-out.
pub fn folder(common: &Common) -> Option<PathBuf> {
    if nix::unistd::geteuid().is_root() {
        return Some(common.history.clone());
    }
    fn named(name: &str) -> Option<PathBuf> {
        std::env::var_os(name).filter(|v| !v.is_empty()).map(PathBuf::from)
    }
    let state = named("XDG_STATE_HOME").or_else(|| Some(named("HOME")?.join(".local/state")))?;
    Some(state.join("tipstaff"))
}

/// A report of 65,535 ports from a dozen addresses has some 150 MiB.
const MOST: u64 = 512 << 20;

/// Keeps a report, whole or not at all.
pub fn keep(path: &Path, report: &Report) -> io::Result<()> {
    files::make_folder(files::folder(path), 0o700)?;
    let output = Output { report, changes: None };
    let text = serde_json::to_vec(&Tagged::new(&output)).map_err(io::Error::other)?;
    files::replace(path, &text, Access::Mode(0o600))
}

/// Why a text is no report.
#[derive(Debug, thiserror::Error)]
enum NoReport {
    #[error(transparent)]
    Schema(#[from] WrongSchema),
    #[error("its row {0} is impossible")]
    Row(String),
}

fn parse(text: &str) -> Result<Report, NoReport> {
    shape::check(text, Output::NAME)?;
    let report: Report = serde_json::from_str(text).map_err(WrongSchema::from)?;
    match report.impossible_row() {
        Some(row) => Err(NoReport::Row(row.describe())),
        None => Ok(report),
    }
}

fn text_of(path: &Path) -> Result<String, Failure> {
    files::text(path, MOST).map_err(|source| Failure::Unreadable { path: path.to_owned(), source })
}

fn no_report(path: &Path, why: &NoReport) -> Failure {
    Failure::Argument {
        message: format!("{} is not a reach report: {why}", path.display()),
        help: "Write one with: tipstaff reach --json > FILE".into(),
    }
}

/// A report of another machine may be anything: one that a check can make.
///
/// # Errors
/// Which of its rows no check makes.
pub fn possible(report: Report) -> Result<Report, String> {
    match report.impossible_row() {
        Some(row) => Err(NoReport::Row(row.describe()).to_string()),
        None => Ok(report),
    }
}

/// What the last check found, in numbers.
#[derive(Clone, Debug, PartialEq, Eq, JsonSchema, Serialize, serde::Deserialize)]
pub struct LastCheck {
    /// When.
    pub at: Moment,
    /// Cells that are not as they should be.
    pub differences: usize,
    /// Cells that nobody could find out.
    pub unknown: usize,
    /// Whether it was judged by the orders in force.
    pub is_of_these: bool,
}

/// The last check of the host whose orders are in force.
pub fn summary(common: &Common, in_force: &Record) -> Option<LastCheck> {
    let own = nix::unistd::gethostname().unwrap_or_default().to_string_lossy().into_owned();
    let host = in_force.host.clone().unwrap_or(own);
    let path = place(common, &host).filter(|path| path.exists())?;
    let report = parse(&text_of(&path).ok()?).ok()?;
    Some(LastCheck {
        at: report.at,
        differences: report.differences,
        unknown: report.unknown,
        is_of_these: report.orders.hash() == in_force.hash(),
    })
}

/// Reads a report that a check wrote as JSON.
pub fn read(path: &Path) -> Result<Report, Failure> {
    parse(&text_of(path)?).map_err(|why| no_report(path, &why))
}

/// Reads the report that the last check kept. One that an earlier version kept is no
/// use, which is noted.
pub fn read_own(path: &Path, notes: &mut Vec<String>) -> Result<Option<Report>, Failure> {
    match parse(&text_of(path)?) {
        Err(NoReport::Schema(WrongSchema::Unnamed)) => {
            notes.push(
                "the previous check was saved by an earlier version of Tipstaff, so there \
                 is nothing to compare with"
                    .into(),
            );
            Ok(None)
        }
        other => other.map(Some).map_err(|why| no_report(path, &why)),
    }
}
