//! `schema`: the JSON Schema of the orders.

use crate::ending::Ending;
use crate::terminal::Terminal;

/// Always JSON: that is what a schema is written in.
pub fn run(terminal: &Terminal) -> Ending {
    terminal.json(&tipstaff_core::orders::schema());
    Ending::Fine
}
