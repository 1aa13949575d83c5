//! The table for other programs: comma-separated values, RFC 4180.

use std::borrow::Cow;

use super::Row;
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

/// In quotation marks where it has to be (section 2.6 and 2.7).
fn field(text: &str) -> Cow<'_, str> {
    match text.contains([',', '"', '\n', '\r']) {
        true => format!("\"{}\"", text.replace('"', "\"\"")).into(),
        false => text.into(),
    }
}

#[cfg(test)]
mod tests {
    use super::field;

    #[test]
    fn what_separates_is_quoted() {
        assert_eq!(field("rule 1 (plates)"), "rule 1 (plates)");
        assert_eq!(field("a,b"), "\"a,b\"");
        assert_eq!(field("say \"no\""), "\"say \"\"no\"\"\"");
    }
}
