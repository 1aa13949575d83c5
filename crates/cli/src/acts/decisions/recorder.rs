//! Reads and writes down, for `keep`.

use std::io;
use std::os::fd::BorrowedFd;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::{Duration, SystemTime};

use nix::poll::{PollFd, PollFlags, PollTimeout, poll};

use super::files::{Files, log_file};
use super::outlets::Outlets;
use super::reader::Reader;
use super::viewers::ask_to_hand_over;
use crate::acts::trouble::Trouble;
use crate::arguments::Common;
use crate::failure::{Failure, system};
use crate::terminal::Terminal;

/// A `watch` that reads has so long to end that.
const PATIENCE: Duration = Duration::from_secs(3);

/// Everything that becomes of a decision.
pub struct Recorder<'c> {
    common: &'c Common,
    reader: Option<Reader<'c>>,
    files: Files,
    outlets: Outlets,
    reopens: &'c Reopens,
}

/// Whether the log's file is to be opened again: somebody moved it away.
#[derive(Default)]
pub struct Reopens(AtomicBool);

impl Reopens {
    /// At the next decision.
    pub fn ask(&self) {
        self.0.store(true, Ordering::Relaxed);
    }
}

impl<'c> Recorder<'c> {
    /// Nothing is opened yet.
    pub fn new(common: &'c Common, reopens: &'c Reopens) -> Self {
        let files = Files::new(log_file(common));
        Self { common, reader: None, files, outlets: Outlets::new(), reopens }
    }

    /// Reads until `end` can be read. What does not work is told, and tried again; only where
    /// nothing can be read at all, after a while.
    pub fn run(&mut self, end: BorrowedFd<'_>, terminal: &Terminal) {
        let mut trouble = Trouble::default();
        loop {
            trouble.tell(self.go_on(end), terminal);
            let pause = if self.reader.is_none() { 1_000 } else { 0u16 };
            let mut waiting = [PollFd::new(end, PollFlags::POLLIN)];
            if poll(&mut waiting, PollTimeout::from(pause)).is_ok_and(|ready| ready > 0) {
                // What came meanwhile.
                trouble.tell(self.go_on(end).and_then(|()| self.finish()), terminal);
                return;
            }
        }
    }

    fn go_on(&mut self, end: BorrowedFd<'_>) -> Result<(), Failure> {
        let Self { common, reader, files, outlets, reopens } = self;
        if reader.is_none() {
            ask_to_hand_over(&common.run_dir);
            *reader = Reader::begin(common, PATIENCE)?;
        }
        let Some(reads) = reader else {
            return Err(Failure::Argument {
                message: "another process is reading the decisions, so they are not logged".into(),
                help: "Stop it; only one `tipstaff keep` may run.".into(),
            });
        };
        let step = match reads.step(Some(end)) {
            Ok(step) => step,
            Err(failure) => {
                *reader = None;
                return Err(failure);
            }
        };
        if reopens.0.swap(false, Ordering::Relaxed) {
            files.close();
        }
        if let Some(log) = reads.log() {
            let taken = step.told.iter().filter(|told| outlets.tell(told, log)).count();
            files.write(&step.told, log, SystemTime::now()).map_err(unwritable(common))?;
            if taken < step.told.len() {
                let nobody = io::Error::other("nobody there takes it");
                return Err(system("telling the journal or the syslog of a decision")(nobody));
            }
        }
        match step.warning {
            Some(message) => Err(Failure::Argument { message, help: String::new() }),
            None => Ok(()),
        }
    }

    fn finish(&mut self) -> Result<(), Failure> {
        let Some(log) = self.reader.as_ref().and_then(Reader::log) else { return Ok(()) };
        self.files.finish(log, SystemTime::now()).map_err(unwritable(self.common))
    }
}

fn unwritable(common: &Common) -> impl FnOnce(io::Error) -> Failure {
    |source| Failure::Unwritable { path: log_file(common), source }
}
