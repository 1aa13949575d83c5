//! Fields of comma-separated values, RFC 4180.

use std::borrow::Cow;

/// In quotation marks where it has to be (section 2.6 and 2.7).
pub fn field(text: &str) -> Cow<'_, str> {
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
