//! Everything that is printed goes through here: words first, colour as an
//! aid, JSON for scripts. Colour ends where NO_COLOR or a pipe says so.

// The one place where it may be done.
#![allow(clippy::disallowed_macros)]

use std::borrow::Cow;
use std::cell::RefCell;
use std::io::{self, BufRead, IsTerminal, Write};

use crate::journal::Priority;
use crate::shape::{Shape, Tagged};
use anstyle::{AnsiColor, Style};
use comfy_table::{Attribute, Cell, Color, ContentArrangement, Table};
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
    /// Why nothing more is written; the command goes on with its work.
    lost: RefCell<Option<io::Error>>,
}

const BOLD: Style = Style::new().bold();
const DIM: Style = Style::new().dimmed();
const RED: Style = AnsiColor::Red.on_default().bold();

impl Terminal {
    /// A terminal on stdout and stderr.
    pub fn new(json: bool) -> Self {
        Self { json, lost: RefCell::new(None) }
    }

    /// Writes a line that is fit to be seen.
    fn write(&self, text: &str) {
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
        let lost = self.lost.borrow_mut().take();
        let flushed = lost.or_else(|| io::stdout().flush().err());
        flushed.filter(|e| e.kind() != io::ErrorKind::BrokenPipe)
    }

    /// One line; room above it where it begins with line ends.
    pub fn line(&self, text: impl AsRef<str>) {
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
            false => self.write(text),
        }
    }

    /// Whether somebody looks at it, who has no need of what a script reads.
    pub fn is_seen(&self) -> bool {
        !self.json && io::stdout().is_terminal()
    }

    /// A heading with room above it.
    pub fn heading(&self, text: &str) {
        self.write(&format!("\n{BOLD}{}{BOLD:#}", visible(text)));
    }

    /// Something that is said in passing.
    pub fn note(&self, text: &str) {
        self.write(&format!("{DIM}{}{DIM:#}", fitted(&visible(text))));
    }

    /// Asks for a yes; anything else, and no terminal to ask on, is a no.
    pub fn ask(&self, question: &str) -> bool {
        if !io::stdin().is_terminal() {
            return false;
        }
        anstream::eprint!("{} [y/N] ", visible(question));
        let mut answer = String::new();
        let read = io::stdin().lock().read_line(&mut answer);
        read.is_ok() && matches!(answer.trim(), "y" | "yes")
    }

    /// Says on stderr how a wait goes on, in the line that says so already.
    pub fn waiting(&self, text: &str) {
        anstream::eprint!("\r{} ", visible(text));
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
            "" => self.line(text),
            prefix => anstream::eprintln!("{prefix}{}", visible(text)),
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
        self.write(&format!("\n{}", table.render()));
    }
}

/// As it fits the terminal, broken between words; elsewhere as it is. A command that is to
/// be copied stays in one piece.
fn fitted(text: &str) -> Cow<'_, str> {
    let width = match io::stdout().is_terminal() && !text.contains("tipstaff ") {
        true => Table::new().width().filter(|width| *width >= NARROWEST),
        false => None,
    };
    match width {
        Some(width) if text.chars().count() > usize::from(width) => {
            wrapped(text, width.into()).into()
        }
        _ => text.into(),
    }
}

/// Breaks a line between words. What follows stands below the text, not below the labels
/// before it: behind the last gap of two spaces in the first half.
fn wrapped(text: &str, width: usize) -> String {
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

/// Fewer columns are no size of a terminal.
const NARROWEST: u16 = 20;
/// Columns of a terminal that does not say.
const USUAL: u16 = 80;

/// A table: a header and rows, columns kept apart by space alone.
pub struct Columns {
    table: Table,
}

impl Columns {
    /// A table with these headings, in lines where they have line ends.
    pub fn new<'h>(headings: impl IntoIterator<Item = &'h str>) -> Self {
        let mut table = Table::new();
        table.load_style(comfy_table::presets::NOTHING);
        table.set_content_arrangement(ContentArrangement::Dynamic);
        // A serial console says that it has no columns at all.
        if table.width().is_some_and(|width| width < NARROWEST) {
            table.set_width(USUAL);
        }
        table.enforce_styling();
        table.set_header(
            headings
                .into_iter()
                .map(|h| Cell::new(visible_lines(h)).add_attribute(Attribute::Underlined)),
        );
        Self { table }
    }

    /// Adds a row.
    pub fn row(&mut self, cells: impl IntoIterator<Item = Cell>) {
        self.table.add_row(cells.into_iter().collect::<Vec<_>>());
    }

    fn render(&self) -> String {
        let text = self.table.to_string();
        let lines: Vec<&str> = text.lines().map(str::trim_end).collect();
        lines.join("\n")
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

/// A moment for people: `2026-11-23 09:15:02`, local time.
pub fn moment(seconds: i64) -> String {
    let zone = jiff::tz::TimeZone::system();
    match jiff::Timestamp::from_second(seconds) {
        Ok(at) => at.to_zoned(zone).strftime("%Y-%m-%d %H:%M:%S").to_string(),
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
    }

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
}
