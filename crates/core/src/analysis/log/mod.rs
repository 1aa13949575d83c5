//! The log of decisions: a line each, which of them are meant, and who comes up how often.

mod demand;
mod entry;
mod filter;
mod recent;
mod summary;

pub use demand::{Demand, Wanted};
#[cfg(test)]
pub(super) use entry::example;
pub use entry::{Entry, Gap, Read, Text, read_line, schema};
pub use filter::LogFilter;
pub use recent::{Decider, PIECES, Recent};
pub use summary::{GroupBy, Row, Summary};
