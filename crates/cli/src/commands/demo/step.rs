//! How a step begins.

use crate::terminal::Terminal;

/// Its number, its command, and what it is for.
pub(super) fn step(terminal: &Terminal, number: usize, command: &str, text: &str) {
    terminal.heading(&format!("── {number} · tipstaff {command} ──"));
    terminal.line(text);
}
