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
pub use files::{log_file, log_files};
#[cfg(test)]
pub use line::example;
pub use line::{GapLine, Line, Told, as_text, moment};
pub use read::{Counted, Counts, each, scan};
pub use recorder::Recorder;
pub use wanted::filter;
