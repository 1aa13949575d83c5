//! What a terminal has room for, and which letters it knows.

use std::borrow::Cow;
use std::io::{self, IsTerminal};

/// Fewer columns are no size of a terminal.
const NARROWEST: u16 = 20;
/// Columns and rows of a terminal that does not say.
const USUAL: (usize, usize) = (80, 24);

/// Columns and rows of the terminal that standard output is; `None` where it is none.
pub(super) fn size() -> Option<(usize, usize)> {
    if !io::stdout().is_terminal() {
        return None;
    }
    // A serial console says that it has no columns at all.
    let told = rustix::termios::tcgetwinsize(io::stdout()).ok();
    let told = told.filter(|size| size.ws_col >= NARROWEST);
    Some(told.map_or(USUAL, |size| (size.ws_col.into(), size.ws_row.into())))
}

/// As it fits the terminal, broken between words; elsewhere as it is. A command that is to
/// be copied stays in one piece.
pub(super) fn fitted(text: &str) -> Cow<'_, str> {
    match size().filter(|_| !text.contains("tipstaff ")) {
        Some((width, _)) if text.chars().count() > width => wrapped(text, width).into(),
        _ => text.into(),
    }
}

/// Breaks a line between words. What follows stands below the text, not below the labels
/// before it: behind the last gap of two spaces in the first half.
pub(super) fn wrapped(text: &str, width: usize) -> String {
    let leading = text.len() - text.trim_start().len();
    let words = text.match_indices(|c: char| c != ' ').map(|(at, _)| at);
    let begin = words.rev().find(|at| *at <= width / 2 && text[..*at].ends_with("  "));
    let indent = begin.unwrap_or(leading);
    let mut out = text[..indent].to_owned();
    let mut used = text[..indent].chars().count();
    let indent = " ".repeat(used);
    for (n, word) in text[begin.unwrap_or(leading)..].split(' ').enumerate() {
        let long = word.chars().count();
        if n > 0 && used + 1 + long > width {
            out.push('\n');
            out.push_str(&indent);
            used = indent.len();
        } else if n > 0 {
            out.push(' ');
            used += 1;
        }
        out.push_str(word);
        used += long;
    }
    out
}

/// Whether only ASCII is understood: the locale names another encoding than UTF-8, or a
/// terminal has no locale at all (locale(7): the first of these that is set counts).
pub(super) fn is_ascii() -> bool {
    let set =
        ["LC_ALL", "LC_CTYPE", "LANG"].into_iter().filter_map(|name| std::env::var(name).ok());
    let locale = set.into_iter().find(|locale| !locale.is_empty());
    knows_ascii_alone(locale.as_deref(), io::stdout().is_terminal())
}

fn knows_ascii_alone(locale: Option<&str>, is_terminal: bool) -> bool {
    match locale {
        Some(locale) => {
            let encoding = locale.to_ascii_lowercase().replace('-', "");
            !encoding.contains("utf8")
        }
        None => is_terminal,
    }
}

/// The same in ASCII: signs by what looks like them, other letters by their numbers.
pub(super) fn ascii(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for letter in text.chars() {
        match letter {
            '–' | '—' | '−' | '─' => out.push('-'),
            '…' => out.push_str("..."),
            '→' => out.push_str("->"),
            '←' => out.push_str("<-"),
            '·' | '•' => out.push('*'),
            '×' => out.push('x'),
            '≥' => out.push_str(">="),
            '≤' => out.push_str("<="),
            '’' | '‘' => out.push('\''),
            '“' | '”' | '„' => out.push('"'),
            letter if letter.is_ascii() => out.push(letter),
            letter => out.extend(letter.escape_unicode()),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_long_line_is_broken_between_words_below_its_text() {
        let line = "  error    never-matches   rule 8 (night): rule 5 matches all of its traffic";
        assert_eq!(
            wrapped(line, 61),
            "  error    never-matches   rule 8 (night): rule 5 matches all\n\
             \u{20}                          of its traffic"
        );
        assert_eq!(wrapped("    one two", 8), "    one\n    two");
        let long = "2001:db8:51:ffff:ffff:ffff:ffff:ffff";
        assert_eq!(wrapped(long, 20), long);
    }

    #[test]
    fn the_locale_tells_which_letters_are_known() {
        for (locale, ascii) in [
            (Some("en_US.UTF-8"), false),
            (Some("C.utf8"), false),
            (Some("C"), true),
            (Some("POSIX"), true),
            (Some("de_DE.ISO-8859-1"), true),
        ] {
            for is_terminal in [true, false] {
                assert_eq!(knows_ascii_alone(locale, is_terminal), ascii, "{locale:?}");
            }
        }
        assert!(knows_ascii_alone(None, true) && !knows_ascii_alone(None, false));
        assert_eq!(ascii("a → b – c… Wä"), "a -> b - c... W\\u{e4}");
    }
}
