//! Text of others, and whether any of it reaches a terminal as it is.

// Not every test that has this module uses all of it.
#![allow(dead_code)]

use tipstaff_core::visible::is_hidden;

/// What somebody would put into a name: a cleared screen (7 bits and 8 bits),
/// a line that looks like one of ours, a turned direction, a mark of none.
pub const ODD: &str = "x\u{1b}[2J\u{9b}31m\u{7}\nok\u{202e}\u{2066}\u{feff}";
/// What is hidden in an output beside line ends and the colours of ours.
fn hidden_in(output: &str) -> Option<String> {
    let mut rest = output;
    let mut plain = String::new();
    while let Some(at) = rest.find("\u{1b}[") {
        plain.push_str(&rest[..at]);
        let code = &rest[at + 2..];
        let end = code.find(|c: char| !c.is_ascii_digit() && c != ';')?;
        match &code[end..=end] {
            // The style of a heading, a note, a cell.
            "m" if code[..end].split(';').all(|n| n != FOREIGN) => rest = &code[end + 1..],
            _ => return Some(format!("{:?}", &rest[at..at + 8])),
        }
    }
    plain.push_str(rest);
    let plain = plain.replace("\r\n", "\n");
    let at = plain.char_indices().find(|(_, c)| is_hidden(*c) && !matches!(c, '\n' | '\t'))?.0;
    let before = plain[..at].char_indices().rev().nth(30).map_or(0, |(at, _)| at);
    let after = plain[at..].char_indices().nth(30).map_or(plain.len(), |(n, _)| at + n);
    Some(format!("{:?}", &plain[before..after]))
}

/// A colour that we never use.
const FOREIGN: &str = "95";

pub fn check(arguments: &[&str], output: &str) {
    if let Some(hidden) = hidden_in(output) {
        panic!("{arguments:?} shows {hidden}");
    }
}

/// The places of all strings in a value, as RFC 6901 writes them.
pub fn strings_of(value: &serde_json::Value, at: &str, places: &mut Vec<String>) {
    use serde_json::Value;
    match value {
        Value::String(_) => places.push(at.to_owned()),
        Value::Array(list) => {
            for (n, item) in list.iter().enumerate() {
                strings_of(item, &format!("{at}/{n}"), places);
            }
        }
        Value::Object(map) => {
            for (key, item) in map {
                strings_of(item, &format!("{at}/{key}"), places);
            }
        }
        _ => {}
    }
}
