//! Every key of the orders as a page shows it, made of the same lists that the reader checks
//! against.

use std::fmt::Write;

use super::keys::{Key, Kind, ORDERS, PART};

/// What may stand behind a key, in words.
fn value(kind: &Kind) -> String {
    match kind {
        Kind::Version => "`1`".into(),
        Kind::Text => "text".into(),
        Kind::Words => "text, or a list of texts".into(),
        Kind::Traffic => "traffic, or a list of it".into(),
        Kind::Addresses => "an address, or a list of them".into(),
        Kind::Programs => "an absolute path or a name of `[programs]`, or a list of them".into(),
        Kind::Switch => "`true` or `false`".into(),
        Kind::Number(least, most) => format!("{least} to {most}"),
        Kind::Moment => "a date-time with an offset".into(),
        Kind::Rate => "a rate".into(),
        Kind::OneOf(words) => {
            words().iter().map(|word| format!("`{word}`")).collect::<Vec<_>>().join(", ")
        }
        Kind::Table(_) => "a table, below".into(),
        Kind::Tables(_) => "tables, below".into(),
        Kind::Names(kind) => format!("a table of names: {}", value(kind)),
    }
}

/// What a key means, and what holds where it is left out: `[…]` at the end of its meaning.
fn meaning(key: &Key) -> (&'static str, &'static str) {
    let split = key.meaning.strip_suffix(']').and_then(|text| text.rsplit_once(" ["));
    match split {
        Some((meaning, default)) => (meaning, default),
        None if key.required => (key.meaning, "**must be there**"),
        None => (key.meaning, ""),
    }
}

/// A table of keys, and the tables that stand in it.
fn table(heading: &str, keys: &[Key], path: &str, page: &mut String) {
    // A String takes all that is written to it.
    let _ = write!(
        page,
        "\n### {heading}\n\n| key | value | meaning | left out |\n|---|---|---|---|\n"
    );
    for key in keys {
        let (meaning, default) = meaning(key);
        let cells = [value(&key.kind), meaning.to_owned(), default.to_owned()];
        let [value, meaning, default] = cells.map(|cell| cell.replace('|', "\\|"));
        let _ = writeln!(page, "| `{}` | {value} | {meaning} | {default} |", key.name);
    }
    for key in keys {
        let name = format!("{path}{}", key.name);
        match &key.kind {
            Kind::Table(keys) if path.is_empty() => {
                table(&format!("`[{name}]`"), keys, &name, page)
            }
            Kind::Table(keys) => table(&format!("`{name} = {{ … }}`"), keys, &name, page),
            Kind::Tables(keys) => {
                table(&format!("`[[{name}]]`"), keys, &format!("{name}."), page);
            }
            _ => {}
        }
    }
}

/// Markdown: a table for each table of the orders.
pub fn reference() -> String {
    let mut page = String::new();
    table("The file", ORDERS, "", &mut page);
    let part: Vec<_> = PART.iter().map(|key| format!("`{key}`")).collect();
    let _ = write!(page, "\nAn included file may have {}.\n", part.join(", "));
    page
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_table_and_key_is_there() {
        let page = reference();
        for heading in ["[standing]", "[[rules]]", "[boot]", "hosts.standing = { … }"] {
            assert!(page.contains(&format!("\n### `{heading}`\n")), "{heading}");
        }
        assert!(page.contains("| `action` | `allow`, `deny`, `refuse` |"));
        assert!(page.contains("| `max_days` | 1 to 3650 | Older files are removed | 30 |"));
        assert!(page.contains("**must be there**") && !page.contains(" [30]"));
    }
}
