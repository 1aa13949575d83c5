//! Reading the files, by two at once.

use std::fs::File;
use std::io::{self, Read};
use std::path::{Path, PathBuf};
use std::thread;

use schemars::JsonSchema;
use serde::Serialize;
use tipstaff_core::analysis::log::{
    Entry, GroupBy, LogFilter, Read as ReadLine, Summary, read_line,
};

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
    /// With those of another part.
    pub fn add(&mut self, other: Self) {
        self.missing += other.missing;
        self.unreadable += other.unreadable;
    }

    /// What is not there, in words.
    pub fn words(self) -> Vec<String> {
        let mut words = Vec::new();
        if self.missing > 0 {
            let decisions = usize::try_from(self.missing).unwrap_or(usize::MAX);
            words.push(format!(
                "{} of that time {} not in the log (sampled, lost or not written)",
                counted(decisions, "decision", "decisions"),
                if self.missing == 1 { "is" } else { "are" }
            ));
        }
        if self.unreadable > 0 {
            let lines = usize::try_from(self.unreadable).unwrap_or(usize::MAX);
            words.push(format!(
                "{} could not be read: cut, damaged, or of a later version",
                counted(lines, "line", "lines")
            ));
        }
        words
    }

    /// Says that on stderr.
    pub fn tell(self, terminal: &Terminal) {
        self.words().iter().for_each(|words| terminal.warning(words));
    }
}

/// Bytes that are read at once, by two.
const SEGMENT: usize = 16 << 20;

/// Reads a file in pieces of whole lines, each worked on by two at once, in their order.
/// Bytes that are no text spoil their line alone. A file that was removed meanwhile is
/// empty. What is told: how many bytes its whole lines had.
pub fn scan<T: Send>(
    path: &Path,
    work: impl Fn(&str) -> T + Sync,
    mut take: impl FnMut(T) -> Result<(), Failure>,
) -> Result<u64, Failure> {
    let failed = |source| Failure::Unreadable { path: path.to_owned(), source };
    let mut file = match File::open(path) {
        Err(e) if e.kind() == io::ErrorKind::NotFound => return Ok(0),
        file => file.map_err(failed)?,
    };
    let work = |bytes: &[u8]| work(&String::from_utf8_lossy(bytes));
    let mut buffer = Vec::with_capacity(SEGMENT);
    let mut done = 0;
    loop {
        let room = (SEGMENT - buffer.len().min(SEGMENT)).max(SEGMENT / 2);
        let read = Read::by_ref(&mut file).take(room as u64).read_to_end(&mut buffer);
        let is_end = read.map_err(failed)? == 0;
        let whole = match is_end {
            true => buffer.len(),
            false => line_end(&buffer, 0, true),
        };
        let (first, second) =
            buffer[..whole].split_at(line_end(&buffer[..whole], whole / 2, false));
        let (one, other) = thread::scope(|scope| {
            let other = scope.spawn(|| work(second));
            let one = work(first);
            (one, other.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)))
        });
        take(one)?;
        take(other)?;
        let lines = line_end(&buffer[..whole], 0, true);
        buffer.drain(..whole);
        done += lines as u64;
        if is_end {
            return Ok(done);
        }
    }
}

/// Behind the last end of a line, or the first one from a place on; 0 or all where there is
/// none.
fn line_end(bytes: &[u8], from: usize, last: bool) -> usize {
    let mut places = bytes[from..].iter();
    match last {
        true => places.rposition(|byte| *byte == b'\n').map_or(0, |at| from + at + 1),
        false => places.position(|byte| *byte == b'\n').map_or(bytes.len(), |at| from + at + 1),
    }
}

/// Counts of all files.
pub struct Counted {
    pub summary: Summary,
    pub counts: Counts,
}

impl Counted {
    /// Counts what is meant.
    pub fn of(files: &[PathBuf], filter: &LogFilter, by: GroupBy) -> Result<Self, Failure> {
        let new = || Summary::new(by);
        let (summary, counts) = gather(files, filter, new, Summary::add, Summary::merge)?;
        Ok(Self { summary, counts })
    }
}

/// Takes the decisions of all files that are meant together: in parts, which `new` begins, `add`
/// fills and `merge` takes together.
pub fn gather<T: Send>(
    files: &[PathBuf],
    filter: &LogFilter,
    new: impl Fn() -> T + Sync,
    add: impl Fn(&mut T, &Entry<'_>) + Sync,
    merge: impl Fn(&mut T, T),
) -> Result<(T, Counts), Failure> {
    let (mut all, mut counts) = (new(), Counts::default());
    for file in files {
        let part = |text: &str| {
            let mut part = (new(), Counts::default());
            each(text, filter, &mut part.1, |_, entry| add(&mut part.0, entry));
            part
        };
        scan(file, part, |(part, missing)| {
            merge(&mut all, part);
            counts.add(missing);
            Ok(())
        })?;
    }
    Ok((all, counts))
}

/// The decisions of a text that are meant, each with its line.
pub fn each(
    text: &str,
    filter: &LogFilter,
    counts: &mut Counts,
    mut take: impl FnMut(&str, &Entry<'_>),
) {
    for line in text.lines() {
        match read_line(line) {
            ReadLine::Entry(entry) if filter.shows(&entry) => take(line, &entry),
            ReadLine::Entry(_) => {}
            ReadLine::Gap(gap) if filter.is_in_time(&gap.time) => counts.missing += gap.total(),
            ReadLine::Gap(_) => {}
            ReadLine::Unreadable => counts.unreadable += u64::from(!line.is_empty()),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_line_is_read_once_however_long_the_file_is() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("decisions.jsonl");
        for (lines, ends) in [(0, true), (1, false), (3, true), (700_000, true), (700_001, false)] {
            let mut text: String = (0..lines).map(|n| format!("{n:060}\n")).collect();
            if !ends {
                text.pop();
            }
            std::fs::write(&path, &text).unwrap();
            let mut next = 0_usize;
            let numbers = |text: &str| -> Vec<usize> {
                text.lines().map(|line| line.parse().unwrap()).collect()
            };
            scan(&path, numbers, |found| {
                for n in found {
                    assert_eq!(n, next);
                    next += 1;
                }
                Ok(())
            })
            .unwrap();
            assert_eq!(next, lines);
        }
    }
}
