//! Decisions as they happen: one process reads the gate's records, gives them their names,
//! and shows them to any number of others; `keep` also writes them down.

mod feed;
mod files;
mod line;
mod names;
mod outlets;
mod read;
mod reader;
mod recorder;
mod viewers;
mod wanted;

pub use feed::{Feed, Next};
pub use files::{log_file, log_files, logged, no_log};
#[cfg(test)]
pub use line::example;
pub use line::{GapLine, Line, Told, as_text, moment, said};
pub use read::{Counted, Counts, each, gather, scan};
pub use recorder::{Recorder, Reopens};
pub use viewers::is_recorded;
pub use wanted::filter;
