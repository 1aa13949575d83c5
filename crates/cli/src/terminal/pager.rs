//! A text that is longer than the terminal, shown by the program that people have for that.

use std::io::{self, Write};
use std::process::{Command, Stdio};

/// Shows a text; `false` where there is no pager, or it could not be started.
pub(super) fn show(text: &str) -> bool {
    let named = std::env::var("PAGER").ok();
    // Set and empty: none is wanted.
    let Some(words) = words_of(named.as_deref()) else { return false };
    let Some((program, rest)) = words.split_first() else { return false };
    let mut command = Command::new(program);
    command.args(rest).stdin(Stdio::piped());
    if std::env::var_os("LESS").is_none() {
        // It ends by itself where all fits, shows colours, and leaves the text on the screen.
        command.env("LESS", "FRX");
    }
    let Ok(mut child) = command.spawn() else { return false };
    if let Some(mut input) = child.stdin.take() {
        // Whoever has seen enough closes it.
        let _: io::Result<()> = input.write_all(text.as_bytes());
    }
    child.wait().is_ok()
}

/// The words of a pager's command line.
fn words_of(named: Option<&str>) -> Option<Vec<String>> {
    match named {
        None => Some(vec!["less".to_owned()]),
        Some(line) => {
            let words = shell_words::split(line).ok()?;
            let is_plain = matches!(words.first().map(String::as_str), None | Some("cat"));
            (!is_plain).then_some(words)
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_pager_is_a_command_line() {
        let words = |line| words_of(line).map(|words| words.join("|"));
        assert_eq!(words(None).unwrap(), "less");
        assert_eq!(words(Some("less -S 'a b'")).unwrap(), "less|-S|a b");
        assert_eq!((words(Some("")), words(Some("cat")), words(Some("a 'b"))), (None, None, None));
    }
}
