//! What is wrong with a policy file: where, what, and the help.

use std::fmt;
use std::ops::Range;

use schemars::JsonSchema;
use serde::Serialize;

/// A place in a text, both counted from 1; the column in characters.
#[derive(Clone, Copy, Debug, PartialEq, Eq, JsonSchema, Serialize)]
pub struct Place {
    /// Line.
    pub line: usize,
    /// Column in characters.
    pub column: usize,
}

impl Place {
    /// The place of a byte offset in `text`.
    pub fn at_offset(text: &str, offset: usize) -> Self {
        let before = text.get(..offset.min(text.len())).unwrap_or(text);
        let line_start = before.rfind('\n').map_or(0, |at| at + 1);
        Self {
            line: before.matches('\n').count() + 1,
            column: before[line_start..].chars().count() + 1,
        }
    }
}

/// The places of offsets that come in their order, in one walk over the text.
pub(super) struct Places<'t> {
    text: &'t str,
    offset: usize,
    place: Place,
}

impl<'t> Places<'t> {
    pub(super) fn new(text: &'t str) -> Self {
        Self { text, offset: 0, place: Place { line: 1, column: 1 } }
    }

    /// The place of a byte offset; none before the last that was asked for.
    pub(super) fn at(&mut self, offset: usize) -> Place {
        let offset = offset.clamp(self.offset, self.text.len());
        let between = self.text.get(self.offset..offset).unwrap_or_default();
        for letter in between.chars() {
            match letter {
                '\n' => self.place = Place { line: self.place.line + 1, column: 1 },
                _ => self.place.column += 1,
            }
        }
        self.offset += between.len();
        self.place
    }
}

/// One thing that is wrong.
#[derive(Clone, Debug, PartialEq, Eq, JsonSchema, Serialize)]
pub struct Fault {
    /// The included file that it is in; `None` for the orders' own.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub file: Option<String>,
    /// The key it is about, as a path: `rules[3].traffic`.
    pub key: String,
    /// What is wrong, one sentence without a full stop.
    pub message: String,
    /// How to fix it, one sentence.
    #[serde(rename = "help")]
    pub help: String,
    /// Bytes of the text it is about.
    pub span: Range<usize>,
    /// Where that begins.
    pub place: Place,
}

/// Everything that is wrong with one text, in the order of the text.
#[derive(Clone, Debug, PartialEq, Eq, JsonSchema, Serialize)]
pub struct Faults(pub Vec<Fault>);

impl fmt::Display for Faults {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        for (n, fault) in self.0.iter().enumerate() {
            let separator = if n == 0 { "" } else { "\n" };
            let Place { line, column } = fault.place;
            let file = fault.file.as_ref().map(|file| format!("{file}:")).unwrap_or_default();
            write!(
                f,
                "{separator}{file}{line}:{column}: {}: {}. {}",
                fault.key, fault.message, fault.help
            )?;
        }
        Ok(())
    }
}

impl std::error::Error for Faults {}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn places_count_characters_not_bytes() {
        let text = "a = 1\nnote = \"Wärme\" x\n";
        let at = text.find('x').unwrap();
        assert_eq!(Place::at_offset(text, at), Place { line: 2, column: 16 });
        assert_eq!(Place::at_offset(text, 0), Place { line: 1, column: 1 });
        assert_eq!(Place::at_offset(text, 10_000).line, 3);
        let mut places = Places::new(text);
        let offsets = (0..=text.len()).filter(|at| text.is_char_boundary(*at));
        assert!(offsets.into_iter().all(|at| places.at(at) == Place::at_offset(text, at)));
    }
}
