//! A text in the editor of whoever sits at the terminal.

use std::io::Write;
use std::path::PathBuf;
use std::process::Command;
use std::{fs, io};

use crate::failure::{Failure, system};
use crate::terminal::Terminal;

/// The editor that is used when nobody names one.
const USUAL: &str = "vi";

/// What somebody wrote, in a file that stays until it is forgotten: nothing of it is lost where
/// it is refused.
pub struct Written {
    /// The text.
    pub text: String,
    path: PathBuf,
}

impl Written {
    /// It was taken, and its file goes.
    pub fn forget(self) {
        let _ = fs::remove_file(self.path);
    }

    /// It was not taken.
    pub fn tell_where(&self, terminal: &Terminal) {
        terminal.warning(&format!("what was written is in {}", self.path.display()));
    }
}

/// The text as it is when the editor has ended.
pub fn changed(text: &str) -> Result<Written, Failure> {
    let named = ["VISUAL", "EDITOR"].into_iter().filter_map(|name| std::env::var(name).ok());
    let editor = named.into_iter().find(|editor| !editor.trim().is_empty());
    let editor = editor.unwrap_or_else(|| USUAL.to_owned());
    let words = shell_words::split(&editor).unwrap_or_else(|_| vec![editor.clone()]);
    let mut file = tempfile::Builder::new()
        .prefix("tipstaff-rule-")
        .suffix(".toml")
        .tempfile()
        .map_err(system("making a file to edit"))?;
    file.write_all(text.as_bytes()).map_err(system("writing a file to edit"))?;
    let (_, path) = file.keep().map_err(|e| system("writing a file to edit")(e.error))?;
    let mut command = Command::new(words.first().map_or(USUAL, String::as_str));
    let ended = command.args(words.get(1..).unwrap_or_default()).arg(&path).status();
    let read = match ended {
        Ok(status) if status.success() => fs::read_to_string(&path),
        Ok(status) => Err(io::Error::other(format!("it ended with {status}"))),
        Err(e) => Err(e),
    };
    match read {
        Ok(text) => Ok(Written { text, path }),
        Err(e) => Err(Failure::Argument {
            message: format!(
                "the editor `{editor}` did not end well: {e}; nothing was changed, and the text \
                 is in {}",
                path.display()
            ),
            help: "Name another one in EDITOR; sudo drops it without --preserve-env=EDITOR.".into(),
        }),
    }
}
