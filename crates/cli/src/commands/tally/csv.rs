//! The table for other programs: comma-separated values, RFC 4180.

use super::Row;
use crate::acts::csv::field;
use crate::ending::Ending;
use crate::failure::Failure;
use crate::terminal::Terminal;

pub(super) fn print(rows: &[Row], terminal: &Terminal) -> Result<Ending, Failure> {
    terminal.line("by,packets,bytes,beyond,since");
    for row in rows {
        let since = row.since.map(|since| since.to_string()).unwrap_or_default();
        let (packets, bytes) = (row.tally.packets, row.tally.bytes);
        terminal.line(format!("{},{packets},{bytes},{},{since}", field(&row.by), row.beyond));
    }
    Ok(Ending::Fine)
}
