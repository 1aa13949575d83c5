//! The journal of systemd: a line on a stream that leads there may say how urgent it
//! is (sd-daemon(3)).

use std::fs::File;
use std::io;
use std::os::fd::AsFd;
use std::os::unix::fs::MetadataExt;

/// How urgent a line is: syslog(3).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Priority {
    /// What was asked for was not done.
    Error = 3,
    /// Something is not as it should be.
    Warning = 4,
}

impl Priority {
    /// What a line of stderr begins with: nothing but in the journal.
    pub fn prefix(self) -> &'static str {
        match (is_the_journal(&io::stderr()), self) {
            (false, _) => "",
            (true, Self::Error) => "<3>",
            (true, Self::Warning) => "<4>",
        }
    }
}

/// Whether a stream leads to the journal: `JOURNAL_STREAM` names the device and the
/// inode of the one that does (systemd.exec(5)).
fn is_the_journal(stream: &impl AsFd) -> bool {
    let Some(named) = std::env::var("JOURNAL_STREAM").ok() else { return false };
    let Ok(file) = stream.as_fd().try_clone_to_owned().map(File::from) else { return false };
    file.metadata().is_ok_and(|stream| named == format!("{}:{}", stream.dev(), stream.ino()))
}
