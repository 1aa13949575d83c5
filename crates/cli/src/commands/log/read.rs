//! Reading the files, by both halves of each at once.

use std::path::{Path, PathBuf};
use std::{fs, io, thread};

use schemars::JsonSchema;
use serde::Serialize;
use tipstaff_core::analysis::log::{Entry, GroupBy, LogFilter, Read, Row, Summary, read_line};

use crate::failure::Failure;
use crate::terminal::{Terminal, counted};

/// What the log does not have, and what of it cannot be read.
#[derive(Clone, Copy, Debug, Default, JsonSchema, Serialize)]
pub struct Counts {
    /// Decisions in that time that are not in the log: not sampled, lost, not written.
    missing: u64,
    /// Lines that were cut, are damaged, or of a later version.
    unreadable: u64,
}

impl Counts {
    /// The decision in a line.
    pub fn entry<'t>(&mut self, line: &'t str, filter: &LogFilter) -> Option<Entry<'t>> {
        match read_line(line) {
            Read::Entry(entry) => return Some(entry),
            Read::Gap(gap) if filter.is_in_time(&gap.time) => self.missing += gap.total(),
            Read::Gap(_) => {}
            Read::Unreadable => self.unreadable += u64::from(!line.is_empty()),
        }
        None
    }

    fn add(&mut self, other: Self) {
        self.missing += other.missing;
        self.unreadable += other.unreadable;
    }

    /// Says on stderr what is not there.
    pub fn tell(self, terminal: &Terminal) {
        if self.missing > 0 {
            let decisions = usize::try_from(self.missing).unwrap_or(usize::MAX);
            terminal.warning(&format!(
                "{} of that time {} not in the log (sampled, lost or not written)",
                counted(decisions, "decision", "decisions"),
                if self.missing == 1 { "is" } else { "are" }
            ));
        }
        if self.unreadable > 0 {
            let lines = usize::try_from(self.unreadable).unwrap_or(usize::MAX);
            terminal.warning(&format!(
                "{} could not be read: cut, damaged, or of a later version",
                counted(lines, "line", "lines")
            ));
        }
    }
}

/// A file of the log as text; bytes that are none spoil their line alone. One that was
/// removed meanwhile is empty.
pub fn text(path: &Path) -> Result<String, Failure> {
    match fs::read(path) {
        Ok(bytes) => Ok(String::from_utf8(bytes)
            .unwrap_or_else(|e| String::from_utf8_lossy(e.as_bytes()).into_owned())),
        Err(e) if e.kind() == io::ErrorKind::NotFound => Ok(String::new()),
        Err(source) => Err(Failure::Unreadable { path: path.to_owned(), source }),
    }
}

/// Counts of all files.
pub struct Counted {
    pub rows: Vec<Row<'static>>,
    pub counts: Counts,
}

impl Counted {
    /// Counts what is meant.
    pub fn of(files: &[PathBuf], filter: &LogFilter, by: GroupBy) -> Result<Self, Failure> {
        let (mut summary, mut counts) = (Summary::new(by), Counts::default());
        for file in files {
            let text = text(file)?;
            let middle = text.len() / 2;
            let middle = text.as_bytes()[middle..].iter().position(|byte| *byte == b'\n');
            let middle = middle.map_or(text.len(), |at| text.len() / 2 + at + 1);
            let (first, second) = text.split_at(middle);
            let (mut one, other) = thread::scope(|scope| {
                let other = scope.spawn(|| part(second, filter, by));
                let one = part(first, filter, by);
                (one, other.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)))
            });
            one.0.merge(other.0);
            counts.add(one.1);
            counts.add(other.1);
            summary.merge(one.0.into_owned());
        }
        Ok(Self { rows: summary.rows(), counts })
    }
}

fn part<'t>(text: &'t str, filter: &LogFilter, by: GroupBy) -> (Summary<'t>, Counts) {
    let (mut summary, mut counts) = (Summary::new(by), Counts::default());
    for line in text.lines() {
        if let Some(entry) = counts.entry(line, filter)
            && filter.shows(&entry)
        {
            summary.add(&entry);
        }
    }
    (summary, counts)
}
