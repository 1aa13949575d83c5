//! How a step begins.

use std::sync::Arc;
use std::sync::atomic::{AtomicUsize, Ordering};

use crate::terminal::Terminal;

/// The steps of the demo. They count themselves, as which there are depends on where it
/// is played; a copy in another thread goes on with the same count.
#[derive(Clone, Default)]
pub(super) struct Steps(Arc<AtomicUsize>);

impl Steps {
    /// The next one: its number, its command, and what it is for.
    pub(super) fn next(&self, terminal: &Terminal, command: &str, text: &str) {
        let number = self.0.fetch_add(1, Ordering::Relaxed) + 1;
        terminal.heading(&format!("── {number} · tipstaff {command} ──"));
        terminal.line(text);
    }
}
