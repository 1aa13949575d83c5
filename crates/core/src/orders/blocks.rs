//! Where each rule stands in the text: from its own comment lines to the
//! begin of what follows. Edits move and change whole blocks, so that every
//! other byte of the file stays as its author wrote it.

use std::ops::Range;

use toml::de::{DeTable, DeValue};

/// The blocks of a text.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Blocks {
    /// One a rule, in the order of the text.
    pub(super) rules: Vec<Range<usize>>,
    /// One a group of rules.
    pub(super) groups: Vec<Range<usize>>,
}

impl Blocks {
    /// Finds them; `None` when `rules` is not written as `[[rules]]` tables.
    pub(super) fn find(text: &str) -> Option<Self> {
        let (root, _) = DeTable::parse_recoverable(text);
        Self::of_tree(text, root.get_ref())
    }

    /// The same, of a text that has been parsed already.
    pub(super) fn of_tree(text: &str, root: &DeTable<'_>) -> Option<Self> {
        let mut values = Vec::new();
        collect_values(root, &mut values);
        let headers: Vec<Header> = headers(text, &values);
        let blocks = |kind: Kind| -> Vec<Range<usize>> {
            let end = |at: usize| headers.get(at + 1).map_or(text.len(), |h| h.begin);
            let ours = headers.iter().enumerate().filter(|(_, header)| header.kind == kind);
            ours.map(|(at, header)| header.begin..end(at)).collect()
        };
        let (rules, groups) = (blocks(Kind::Rule), blocks(Kind::Group));
        let counted = match root.get("rules").map(|v| v.get_ref()) {
            // `rules = []` cannot be continued by [[rules]].
            Some(DeValue::Array(list)) if list.is_empty() => return None,
            Some(DeValue::Array(list)) => list.len(),
            Some(_) => return None,
            None => 0,
        };
        (counted == rules.len()).then_some(Self { rules, groups })
    }
}

struct Header {
    /// Of its own comment lines, where it has some.
    begin: usize,
    kind: Kind,
}

#[derive(Clone, Copy, PartialEq, Eq)]
enum Kind {
    Rule,
    Group,
    Other,
}

/// Ranges of strings and lists: a line inside one of them is no header.
fn collect_values(table: &DeTable<'_>, values: &mut Vec<Range<usize>>) {
    for (_, value) in table.iter() {
        match value.get_ref() {
            DeValue::Table(table) => collect_values(table, values),
            DeValue::Array(list) => {
                let tables: Vec<_> = list.iter().filter_map(|v| v.get_ref().as_table()).collect();
                if tables.is_empty() {
                    values.push(value.span());
                }
                tables.into_iter().for_each(|table| collect_values(table, values));
            }
            DeValue::String(_) => values.push(value.span()),
            _ => {}
        }
    }
}

fn headers(text: &str, values: &[Range<usize>]) -> Vec<Header> {
    let mut headers = Vec::new();
    let (mut offset, mut comment) = (0, None);
    let mut values: Vec<Range<usize>> = values.to_vec();
    values.sort_by_key(|v| v.start);
    // Values do not overlap and lines come in order: one walk over both.
    let mut values = values.into_iter().peekable();
    let mut inside = |at: usize| {
        while values.next_if(|v| v.end <= at).is_some() {}
        values.peek().is_some_and(|v| v.start < at)
    };
    for line in text.split_inclusive('\n') {
        let words = line.trim();
        if inside(offset) {
            comment = None;
        } else if words.starts_with('#') {
            comment = comment.or(Some(offset));
        } else if words.starts_with('[') {
            let compact: String = words.chars().filter(|c| !c.is_whitespace()).collect();
            let kind = match &compact {
                c if c.starts_with("[[rules]]") => Kind::Rule,
                c if c.starts_with("[[groups]]") => Kind::Group,
                _ => Kind::Other,
            };
            headers.push(Header { begin: comment.take().unwrap_or(offset), kind });
        } else {
            comment = None;
        }
        offset += line.len();
    }
    headers
}
