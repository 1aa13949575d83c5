//! Everything that is printed goes through here: words first, colour as an
//! aid, JSON for scripts. Colour ends where NO_COLOR or a pipe says so.

// The one place where it may be done.
#![allow(clippy::disallowed_macros)]

mod columns;
pub mod csv;
mod fit;
mod pager;
mod timing;

use std::borrow::Cow;
use std::cell::RefCell;
use std::io::{self, BufRead, IsTerminal, Write};

use crate::journal::Priority;
use crate::shape::{Shape, Tagged};
use anstyle::{AnsiColor, Style};
pub use columns::Columns;
use comfy_table::{Attribute, Cell, Color};
use fit::fitted;
use serde::Serialize;
use tipstaff_core::analysis::reach::Outcome;
use tipstaff_core::orders::Action;
use tipstaff_core::orders::Origin;
use tipstaff_core::visible::{visible, visible_json, visible_lines};

/// Where commands print. Whatever they print, nothing of it moves a cursor or
/// turns the direction of a line: programs, files and interfaces have names that
/// others chose.
pub struct Terminal {
    /// JSON instead of text.
    pub json: bool,
    /// What is said in passing is left out.
    quiet: bool,
    /// Everything but errors is left out.
    silent: bool,
    /// Tables are written as comma-separated values, and nothing else is.
    csv: bool,
    /// Why nothing more is written; the command goes on with its work.
    lost: RefCell<Option<io::Error>>,
    /// Only ASCII is written.
    is_ascii: bool,
    /// What is kept for a pager; `None` where everything is written at once.
    kept: RefCell<Option<String>>,
}

const BOLD: Style = Style::new().bold();
const DIM: Style = Style::new().dimmed();
const RED: Style = AnsiColor::Red.on_default().bold();

impl Terminal {
    /// A terminal on stdout and stderr.
    pub fn new(json: bool) -> Self {
        let (lost, kept) = (RefCell::new(None), RefCell::new(None));
        let is_ascii = !json && fit::is_ascii();
        Self { json, quiet: false, silent: false, csv: false, lost, is_ascii, kept }
    }

    /// Only what needs attention is written. `acts`: the command does something, and says
    /// nothing where that goes well.
    pub fn quieten(&mut self, acts: bool) {
        self.quiet = true;
        self.silent = acts && !self.json;
    }

    /// From now on only tables are written, as comma-separated values.
    pub fn only_tables(&mut self) {
        self.csv = true;
    }

    /// Whether only tables are written.
    pub fn is_csv(&self) -> bool {
        self.csv
    }

    /// Whether nothing is to be written where nothing needs attention.
    pub fn is_quiet(&self) -> bool {
        self.quiet
    }

    /// Whether only ASCII is to be written.
    pub fn is_ascii(&self) -> bool {
        self.is_ascii
    }

    /// It is said what is done and how long it takes.
    pub fn tell_time(&self) {
        timing::tell();
    }

    /// From now on what is written is kept, and shown at the end: by a pager where it is longer
    /// than the terminal. Nothing is kept for a pipe.
    pub fn page(&self) {
        if self.is_seen() && io::stdin().is_terminal() {
            *self.kept.borrow_mut() = Some(String::new());
        }
    }

    /// Shows what is kept for a pager.
    pub fn show_kept(&self) {
        let Some(text) = self.kept.borrow_mut().take() else { return };
        let rows = fit::size().map_or(usize::MAX, |(_, rows)| rows);
        let colour = anstream::AutoStream::choice(&io::stdout()) != anstream::ColorChoice::Never;
        let shown = match colour {
            true => Cow::Borrowed(text.as_str()),
            false => Cow::Owned(anstream::adapter::strip_str(&text).to_string()),
        };
        if text.lines().count() < rows || !pager::show(&shown) {
            self.write_now(text.trim_end_matches('\n'));
        }
    }

    /// Writes a line that is fit to be seen.
    fn write(&self, text: &str) {
        if self.csv {
            return;
        }
        let text = match self.is_ascii {
            true => Cow::Owned(fit::ascii(text)),
            false => Cow::Borrowed(text),
        };
        self.write_as_it_is(&text);
    }

    /// The same of what another program may read: whatever the locale, nothing of it changes.
    fn write_as_it_is(&self, text: &str) {
        if self.silent {
            return;
        }
        if let Some(kept) = self.kept.borrow_mut().as_mut() {
            kept.push_str(text);
            kept.push('\n');
            return;
        }
        self.write_now(text);
    }

    fn write_now(&self, text: &str) {
        let mut lost = self.lost.borrow_mut();
        if lost.is_none() {
            *lost = writeln!(anstream::stdout(), "{text}").err();
        }
    }

    /// Whether nobody reads any more: a command without an end ends then.
    pub fn is_closed(&self) -> bool {
        self.lost.borrow().is_some()
    }

    /// Why what was printed is not all there: a disk that is full. A reader that
    /// went away has seen what it wanted.
    pub fn failed(&self) -> Option<io::Error> {
        self.show_kept();
        let lost = self.lost.borrow_mut().take();
        let flushed = lost.or_else(|| io::stdout().flush().err());
        flushed.filter(|e| e.kind() != io::ErrorKind::BrokenPipe)
    }

    /// One line for people; room above it where it begins with line ends. Where JSON is asked
    /// for nothing else is written.
    pub fn line(&self, text: impl AsRef<str>) {
        if self.json {
            return;
        }
        let text = text.as_ref();
        let rest = text.trim_start_matches('\n');
        let room = "\n".repeat(text.len() - rest.len());
        self.write(&format!("{room}{}", fitted(&visible(rest))));
    }

    /// A text of many lines, which another program may read: on a terminal as
    /// it can be seen, elsewhere as it is.
    pub fn document(&self, text: &str) {
        let text = text.trim_end();
        match io::stdout().is_terminal() {
            true => self.write(&visible_lines(text)),
            false => self.write_as_it_is(text),
        }
    }

    /// A row of a table that another program reads.
    pub fn record(&self, text: impl AsRef<str>) {
        self.write_as_it_is(&visible(text.as_ref()));
    }

    /// Whether somebody looks at it, who has no need of what a script reads.
    pub fn is_seen(&self) -> bool {
        !self.json && io::stdout().is_terminal()
    }

    /// A heading with room above it.
    pub fn heading(&self, text: &str) {
        if self.json {
            return;
        }
        self.write(&format!("\n{BOLD}{}{BOLD:#}", visible(text)));
    }

    /// Something that is said in passing.
    pub fn note(&self, text: &str) {
        if self.quiet || self.json {
            return;
        }
        self.write(&format!("{DIM}{}{DIM:#}", fitted(&visible(text))));
    }

    /// Asks for a yes; anything else, and no terminal to ask on, is a no.
    pub fn ask(&self, question: &str) -> bool {
        if !io::stdin().is_terminal() {
            return false;
        }
        self.show_kept();
        anstream::eprint!("{} [y/N] ", visible(question));
        let mut answer = String::new();
        let read = io::stdin().lock().read_line(&mut answer);
        read.is_ok() && matches!(answer.trim(), "y" | "yes")
    }

    /// Says on stderr how a wait goes on, in the line that says so already.
    pub fn waiting(&self, text: &str) {
        anstream::eprint!("\r{} ", visible(text));
    }

    /// Takes away the line that said how a wait goes on.
    pub fn end_of_wait(&self) {
        anstream::eprint!("\r\x1b[K");
    }

    /// A result as JSON, with the name of its schema.
    pub fn json(&self, value: &impl Shape) {
        self.json_text(serde_json::to_string_pretty(&Tagged::new(value)));
    }

    /// JSON of somebody else's form: SARIF, a schema.
    pub fn foreign_json(&self, value: &impl Serialize) {
        self.json_text(serde_json::to_string_pretty(value));
    }

    /// A result as one line of JSON, of many.
    pub fn json_line(&self, value: &impl Shape) {
        self.json_text(serde_json::to_string(&Tagged::new(value)));
    }

    fn json_text(&self, text: serde_json::Result<String>) {
        match text {
            Ok(text) => self.write(&visible_json(&text)),
            Err(e) => self.error(&format!("the result cannot be written as JSON: {e}"), None),
        }
    }

    /// A failure and its help, on stderr.
    pub fn error(&self, message: &str, help: Option<&str>) {
        let prefix = Priority::Error.prefix();
        anstream::eprintln!("{prefix}{RED}tipstaff:{RED:#} {}", visible(message));
        if let Some(help) = help {
            anstream::eprintln!("{prefix}  {}", visible(help));
        }
    }

    /// An outcome that somebody must see: a line, and in the journal an error.
    pub fn alarm(&self, text: &str) {
        match Priority::Error.prefix() {
            "" if !self.silent => self.line(text),
            prefix => anstream::eprintln!("{prefix}{}", visible(text)),
        }
    }

    /// A line that matters although all went well: who wants nothing else gets it on stderr.
    pub fn attention(&self, text: &str) {
        match self.silent {
            true => self.warning(text.trim_start()),
            false => self.line(text),
        }
    }

    /// Something on stderr that ends nothing.
    pub fn warning(&self, message: &str) {
        anstream::eprintln!("{}tipstaff: {}", Priority::Warning.prefix(), visible(message));
    }

    /// Lines on stderr that stand in a frame already.
    pub fn framed(&self, text: &str) {
        let prefix = Priority::Error.prefix();
        text.split('\n').for_each(|line| anstream::eprintln!("{prefix}{line}"));
    }

    /// A table with room above it.
    pub fn table(&self, table: &Columns) {
        if self.csv {
            table.csv().iter().for_each(|line| self.write_as_it_is(line));
            return;
        }
        self.write(&format!("\n{}", table.render(fit::size().map(|(width, _)| width))));
    }
}

/// Plain text.
pub fn plain(text: impl ToString) -> Cell {
    Cell::new(visible(&text.to_string()))
}

/// Text of lesser weight.
pub fn faint(text: impl ToString) -> Cell {
    Cell::new(visible(&text.to_string())).add_attribute(Attribute::Dim)
}

/// Text that is to be noticed.
pub fn loud(text: impl ToString) -> Cell {
    Cell::new(visible(&text.to_string())).fg(Color::Yellow).add_attribute(Attribute::Bold)
}

/// allow, deny or refuse.
pub fn action(action: Action, text: impl ToString) -> Cell {
    let color = match action {
        Action::Allow => Color::Green,
        Action::Deny => Color::Magenta,
        Action::Refuse => Color::Cyan,
    };
    Cell::new(visible(&text.to_string())).fg(color)
}

/// What a port does.
pub fn outcome(outcome: Outcome, text: impl ToString) -> Cell {
    let cell = Cell::new(visible(&text.to_string()));
    match outcome {
        Outcome::Answers => cell.fg(Color::Green),
        Outcome::Refuses => cell.fg(Color::Cyan),
        Outcome::Silent => cell.fg(Color::Magenta),
        Outcome::Unknown => cell.add_attribute(Attribute::Dim),
    }
}

/// A moment for people, local time with its offset: `2026-11-23 09:15:02 +01:00`.
pub fn moment(seconds: i64) -> String {
    let zone = jiff::tz::TimeZone::system();
    match jiff::Timestamp::from_second(seconds) {
        Ok(at) => at.to_zoned(zone).strftime("%Y-%m-%d %H:%M:%S %:z").to_string(),
        Err(_) => "an unknown moment".into(),
    }
}

/// Which orders, for a heading.
pub fn orders_words(origin: &Origin) -> String {
    let short = origin.hash().short();
    match origin {
        Origin::File { path, .. } => format!("orders {short} from {path}"),
        Origin::InForce { since, .. } => {
            format!("orders {short} in force since {}", moment(i64::from(since.0)))
        }
    }
}

/// `90 s`, `10 min`, `2 h 5 min`.
pub fn spoken(time: std::time::Duration) -> String {
    let seconds = time.as_secs();
    let (minutes, hours) = (seconds / 60, seconds / 3_600);
    match (hours, minutes, seconds % 60) {
        (0, 0 | 1, _) => format!("{seconds} s"),
        (0, minutes, 0) => format!("{minutes} min"),
        (0, minutes, rest) => format!("{minutes} min {rest} s"),
        (hours, minutes, _) if minutes % 60 == 0 => format!("{hours} h"),
        (hours, minutes, _) => format!("{hours} h {} min", minutes % 60),
    }
}

/// `1 rule`, `2 rules`.
pub fn counted(n: usize, one: &str, many: &str) -> String {
    format!("{n} {}", if n == 1 { one } else { many })
}

/// `1 packet`, `2 packets`.
pub fn packets(n: u64) -> String {
    counted(usize::try_from(n).unwrap_or(usize::MAX), "packet", "packets")
}

/// Bytes for people: `640 B`, `12.5 KiB`.
pub fn bytes(n: u64) -> String {
    let mut size = n as f64;
    for unit in ["B", "KiB", "MiB", "GiB"] {
        if size < 1024.0 {
            return if unit == "B" { format!("{n} B") } else { format!("{size:.1} {unit}") };
        }
        size /= 1024.0;
    }
    format!("{size:.1} TiB")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn numbers_read_well() {
        assert_eq!(bytes(640), "640 B");
        assert_eq!(bytes(12_800), "12.5 KiB");
        assert_eq!(counted(1, "rule", "rules"), "1 rule");
        assert_eq!(counted(0, "rule", "rules"), "0 rules");
        assert_eq!((packets(1), packets(2)), ("1 packet".to_owned(), "2 packets".to_owned()));
    }
}
