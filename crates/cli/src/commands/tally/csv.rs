//! The table for other programs: comma-separated values, RFC 4180.

use tipstaff_gate::Tally;

use super::Row;
use crate::ending::Ending;
use crate::failure::Failure;
use crate::terminal::Terminal;
use crate::terminal::csv::field;

pub(super) fn print(rows: &[Row], terminal: &Terminal) -> Result<Ending, Failure> {
    terminal.record("by,packets,bytes,connections,beyond,since");
    for row in rows {
        let since = row.since.map(|since| since.to_string()).unwrap_or_default();
        let Tally { packets, bytes, connections } = row.tally;
        let (by, beyond) = (field(&row.by), row.beyond);
        terminal.record(format!("{by},{packets},{bytes},{connections},{beyond},{since}"));
    }
    Ok(Ending::Fine)
}
