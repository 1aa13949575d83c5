//! Reads and writes down, for `keep`.

use std::io;
use std::os::fd::BorrowedFd;
use std::time::{Duration, SystemTime};

use nix::poll::{PollFd, PollFlags, PollTimeout, poll};
use tipstaff_core::orders::Log;

use super::files::{Files, log_file};
use super::line::Told;
use super::outlets::Outlets;
use super::reader::{Reader, Step};
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
}

impl<'c> Recorder<'c> {
    /// Nothing is opened yet.
    pub fn new(common: &'c Common) -> Self {
        let files = Files::new(log_file(common));
        Self { common, reader: None, files, outlets: Outlets::new() }
    }

    /// Reads until `end` can be read. What does not work is told, and tried again.
    pub fn run(&mut self, end: BorrowedFd<'_>, terminal: &Terminal) {
        let mut trouble = Trouble::default();
        loop {
            let done = self.go_on(end);
            let failed = done.is_err();
            trouble.tell(done, terminal);
            let pause = if failed { 1_000 } else { 0u16 };
            let mut waiting = [PollFd::new(end, PollFlags::POLLIN)];
            if poll(&mut waiting, PollTimeout::from(pause)).is_ok_and(|ready| ready > 0) {
                // What came meanwhile.
                trouble.tell(self.go_on(end), terminal);
                return;
            }
        }
    }

    fn go_on(&mut self, end: BorrowedFd<'_>) -> Result<(), Failure> {
        if self.reader.is_none() {
            ask_to_hand_over(&self.common.run_dir);
            self.reader = Reader::begin(self.common, PATIENCE)?;
        }
        let Some(reader) = &mut self.reader else {
            return Err(Failure::Argument {
                message: "another process reads the decisions, and they are not logged".into(),
                help: "Stop it; only one `tipstaff keep` may run.".into(),
            });
        };
        let step = match reader.step(Some(end)) {
            Ok(step) => step,
            Err(failure) => {
                self.reader = None;
                return Err(failure);
            }
        };
        let log = reader.log().cloned();
        if let Some(log) = log {
            self.write(&step.told, &log)?;
        }
        self.warn(step)
    }

    fn write(&mut self, told: &[Told], log: &Log) -> Result<(), Failure> {
        let taken = told.iter().filter(|told| self.outlets.tell(told, log)).count();
        let path = log_file(self.common);
        let written = self.files.write(told, log, SystemTime::now());
        written.map_err(|source| Failure::Unwritable { path, source })?;
        if taken < told.len() {
            let nobody = io::Error::other("nobody there takes it");
            return Err(system("telling the journal or the syslog of a decision")(nobody));
        }
        Ok(())
    }

    fn warn(&self, step: Step) -> Result<(), Failure> {
        match step.warning {
            Some(message) => Err(Failure::Argument { message, help: String::new() }),
            None => Ok(()),
        }
    }
}
