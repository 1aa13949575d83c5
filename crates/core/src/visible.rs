//! Text of others as people may see it: names of programs and files, notes,
//! interfaces, reports of other machines. Whoever chose it may have put
//! characters in that move a cursor, end a line or turn its direction round
//! (Unicode Standard Annex 9; Unicode Technical Report 36, section 3).

use std::borrow::Cow;
use std::fmt::Write;

/// Whether a character shows nothing by itself and changes what others show:
/// controls, line and paragraph separators, marks of direction, tags.
pub fn is_hidden(c: char) -> bool {
    c.is_control()
        || matches!(c,
            '\u{ad}' | '\u{61c}' | '\u{180e}' | '\u{200b}' | '\u{200e}' | '\u{200f}'
            | '\u{2028}'..='\u{202e}' | '\u{2060}'..='\u{206f}' | '\u{feff}'
            | '\u{fff9}'..='\u{fffb}' | '\u{1bca0}'..='\u{1bca3}' | '\u{1d173}'..='\u{1d17a}'
            | '\u{e0000}'..='\u{e007f}')
}

/// A text in one line, each hidden character written out: `\n`, `\u{1b}`.
pub fn visible(text: &str) -> Cow<'_, str> {
    if !text.contains(is_hidden) {
        return Cow::Borrowed(text);
    }
    let mut shown = String::with_capacity(text.len() + 16);
    for c in text.chars() {
        match c {
            '\n' => shown.push_str("\\n"),
            '\t' => shown.push_str("\\t"),
            '\r' => shown.push_str("\\r"),
            c if is_hidden(c) => {
                // Writing to a String does not fail.
                let _ = write!(shown, "\\u{{{:x}}}", u32::from(c));
            }
            c => shown.push(c),
        }
    }
    Cow::Owned(shown)
}

/// A text of many lines, each hidden character but line ends and tabs written out.
pub fn visible_lines(text: &str) -> Cow<'_, str> {
    if !text.contains(|c: char| is_hidden(c) && !matches!(c, '\n' | '\t')) {
        return Cow::Borrowed(text);
    }
    let lines: Vec<Cow<'_, str>> = text
        .split('\n')
        .map(|line| match line.strip_suffix('\r').unwrap_or(line) {
            line if line.contains('\t') => {
                let cells: Vec<_> = line.split('\t').map(visible).collect();
                Cow::Owned(cells.join("\t"))
            }
            line => visible(line),
        })
        .collect();
    Cow::Owned(lines.join("\n"))
}

/// As many bytes, with something plain where hidden characters stand: for
/// texts that offsets point into.
pub fn same_length(text: &str) -> Cow<'_, str> {
    fn odd(c: char) -> bool {
        is_hidden(c) && !matches!(c, '\n' | '\t')
    }
    if !text.contains(odd) {
        return Cow::Borrowed(text);
    }
    Cow::Owned(
        text.chars()
            .map(|c| match c.len_utf8() {
                _ if !odd(c) => c,
                1 => ' ',
                2 => '\u{b7}',
                3 => char::REPLACEMENT_CHARACTER,
                _ => '\u{1f7d5}',
            })
            .collect(),
    )
}

/// JSON that a terminal can show: hidden characters inside its strings, which
/// RFC 8259 lets stand there, are written as escapes.
pub fn visible_json(json: &str) -> Cow<'_, str> {
    fn odd(c: char) -> bool {
        is_hidden(c) && c != '\n'
    }
    // Mostly there is nothing but plain letters, and this is asked of each line of the log.
    let is_plain = json.bytes().all(|byte| matches!(byte, b' '..=b'~' | b'\n'));
    if is_plain || !json.contains(odd) {
        return Cow::Borrowed(json);
    }
    let mut shown = String::with_capacity(json.len() + 16);
    for c in json.chars() {
        if odd(c) {
            for unit in c.encode_utf16(&mut [0; 2]) {
                let _ = write!(shown, "\\u{unit:04x}");
            }
        } else {
            shown.push(c);
        }
    }
    Cow::Owned(shown)
}

#[cfg(test)]
mod tests {
    use super::*;

    const ODD: &str = "a\u{1b}[2J\u{9b}1m\u{202e}b\u{2066}\n\tc\r\u{7f}\u{e0041}\u{feff}ü";

    #[test]
    fn nothing_hidden_is_left() {
        assert_eq!(
            visible(ODD),
            "a\\u{1b}[2J\\u{9b}1m\\u{202e}b\\u{2066}\\n\\tc\\r\\u{7f}\\u{e0041}\\u{feff}ü"
        );
        for c in (0..=u32::from(char::MAX)).filter_map(char::from_u32) {
            let text = format!("x{c}y");
            assert!(!visible(&text).contains(is_hidden));
            assert!(!visible_lines(&text).contains(|c| is_hidden(c) && !matches!(c, '\n' | '\t')));
            assert_eq!(same_length(&text).len(), text.len());
            let json = serde_json::to_string(&text).unwrap();
            assert!(!visible_json(&json).contains(is_hidden));
            assert_eq!(serde_json::from_str::<String>(&visible_json(&json)).unwrap(), text);
        }
    }

    #[test]
    fn what_is_plain_stays_as_it_is() {
        for text in ["Wärme", "dome-1", "名前", "شمس", "a\u{200c}b", "👩\u{200d}🚀"] {
            assert!(matches!(visible(text), Cow::Borrowed(_)), "{text}");
        }
        assert_eq!(visible_lines("a\r\nb\tc\u{1b}\n"), "a\nb\tc\\u{1b}\n");
    }
}
