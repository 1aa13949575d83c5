//! `log`: what was decided, from the files that `keep` writes.

mod follow;
mod read;
mod when;

use std::borrow::Cow;
use std::io;
use std::path::Path;

use jiff::Timestamp;
use jiff::tz::TimeZone;
use schemars::JsonSchema;
use serde::Serialize;
use tipstaff_core::analysis::log::{Entry, GroupBy, LogFilter, Read, Row, read_line};

use crate::acts::csv::field;
use crate::acts::decisions::{as_text, filter, log_file, log_files};
use crate::arguments::{Common, LogOptions, Piece, Top};
use crate::chosen;
use crate::ending::Ending;
use crate::failure::Failure;
use crate::shape::shape;
use crate::terminal::{Columns, Terminal, plain};

use read::{Counted, Counts};

/// Rows of `--top` where nobody says how many.
const TOP: usize = 10;

/// Counts, for scripts.
#[derive(JsonSchema, Serialize)]
pub struct Report<'r> {
    by: GroupBy,
    rows: &'r [Row<'r>],
    /// Rows that `--count` leaves out.
    more: usize,
    #[serde(flatten)]
    counts: Counts,
}

shape!(Report<'_> => "log-counts");

pub fn run(common: &Common, options: &LogOptions, terminal: &Terminal) -> Result<Ending, Failure> {
    let now = Timestamp::now();
    // Names of the orders in force, or else of the file; whoever may read neither has none.
    let in_force = chosen::in_force(common).map(|(in_force, _)| in_force).unwrap_or_default();
    let orders = chosen::choose(common, in_force.as_ref()).ok().flatten().map(|c| c.orders);
    let mut filter = filter(&options.decisions, orders.as_ref())?;
    filter.since = options.since.as_deref().map(|text| when::read(text, now)).transpose()?;
    filter.until = options.until.as_deref().map(|text| when::read(text, now)).transpose()?;
    let current = log_file(common);
    let files = match log_files(&current) {
        Err(e) if e.kind() == io::ErrorKind::NotFound => Vec::new(),
        Err(source) => return Err(Failure::Unreadable { path: common.log_dir.clone(), source }),
        Ok(files) => files,
    };
    if files.is_empty() && !options.follow {
        terminal.warning(&format!(
            "there is no log at {}; `tipstaff keep` writes it, and `tipstaff install-boot` \
             installs that as a service",
            current.display()
        ));
    }
    if let Some(by) = by(options) {
        let counted = Counted::of(&files, &filter, by)?;
        return Ok(print_counts(counted, by, options, terminal));
    }
    let mut lines =
        Lines { filter: &filter, terminal, csv: options.csv, counts: Counts::default() };
    if options.csv {
        terminal.line(HEAD);
    }
    lines.print(&files, options.count)?;
    if options.follow {
        return follow::run(&current, &mut lines);
    }
    lines.counts.tell(terminal);
    Ok(Ending::Fine)
}

fn by(options: &LogOptions) -> Option<GroupBy> {
    let top = options.top.map(|top| match top {
        Top::Sources => GroupBy::Sources,
        Top::Ports => GroupBy::Ports,
        Top::Rules => GroupBy::Rules,
        Top::Programs => GroupBy::Programs,
    });
    top.or(options.by.map(|piece| match piece {
        Piece::Hour => GroupBy::Hour,
        Piece::Day => GroupBy::Day,
    }))
}

fn print_counts(
    counted: Counted,
    by: GroupBy,
    options: &LogOptions,
    terminal: &Terminal,
) -> Ending {
    let mut rows = counted.rows;
    let most = options.count.unwrap_or(if by.is_time() { usize::MAX } else { TOP });
    let more = rows.len().saturating_sub(most);
    match by.is_time() {
        true => drop(rows.drain(..more)),
        false => rows.truncate(most),
    }
    if terminal.json {
        terminal.json(&Report { by, rows: &rows, more, counts: counted.counts });
        return Ending::Fine;
    }
    if options.csv {
        terminal.line("name,turned_away,allowed,first,last");
        for row in &rows {
            let Row { name, turned_away, allowed, first, last } = row;
            terminal.line(format!("{},{turned_away},{allowed},{first},{last}", field(name)));
        }
        return Ending::Fine;
    }
    let heading = match by {
        GroupBy::Sources => "source",
        GroupBy::Ports => "traffic",
        GroupBy::Rules => "decided by",
        GroupBy::Programs => "program",
        GroupBy::Hour => "hour (UTC)",
        GroupBy::Day => "day (UTC)",
    };
    let mut table = Columns::new([heading, "turned away", "let in", "first", "last"]);
    for row in &rows {
        let name = match by {
            GroupBy::Hour => row.name.replace('T', " "),
            _ => row.name.to_string(),
        };
        table.row([
            plain(name),
            plain(row.turned_away),
            plain(row.allowed),
            plain(local(&row.first)),
            plain(local(&row.last)),
        ]);
    }
    match rows.is_empty() {
        true => terminal.line("Nothing like that is in the log."),
        false => terminal.table(&table),
    }
    if more > 0 {
        let which = if by.is_time() { "earlier" } else { "further" };
        terminal.note(&format!("{more} {which} ones; --count shows more"));
    }
    counted.counts.tell(terminal);
    Ending::Fine
}

/// A moment by the administrator's clock, to the second.
fn local(time: &str) -> String {
    let zoned = time.parse::<Timestamp>().map(|time| time.to_zoned(TimeZone::system()));
    zoned.map_or_else(|_| time.to_owned(), |zoned| zoned.strftime("%Y-%m-%d %H:%M:%S").to_string())
}

const HEAD: &str =
    "time,verdict,direction,interface,traffic,source,destination,program,rule,position,by";

/// Lines on their way to whoever reads them.
struct Lines<'l> {
    filter: &'l LogFilter,
    terminal: &'l Terminal,
    csv: bool,
    counts: Counts,
}

impl Lines<'_> {
    /// The lines that are meant; `last`: only the last so many.
    fn print(&mut self, files: &[impl AsRef<Path>], last: Option<usize>) -> Result<(), Failure> {
        let Some(last) = last else {
            for file in files {
                read::text(file.as_ref())?.lines().for_each(|line| self.line(line));
            }
            return Ok(());
        };
        let mut kept: Vec<String> = Vec::new();
        for file in files.iter().rev() {
            let text = read::text(file.as_ref())?;
            for line in text.lines().rev() {
                let Some(entry) = self.counts.entry(line, self.filter) else { continue };
                if kept.len() < last && self.filter.shows(&entry) {
                    kept.push(line.to_owned());
                }
            }
            if kept.len() == last {
                break;
            }
        }
        for line in kept.iter().rev() {
            if let Read::Entry(entry) = read_line(line) {
                self.show(line, &entry);
            }
        }
        Ok(())
    }

    fn line(&mut self, line: &str) {
        if let Some(entry) = self.counts.entry(line, self.filter)
            && self.filter.shows(&entry)
        {
            self.show(line, &entry);
        }
    }

    fn show(&self, line: &str, entry: &Entry<'_>) {
        match (self.terminal.json, self.csv) {
            (true, _) => self.terminal.document(line),
            (_, true) => self.terminal.line(row(entry)),
            _ => self.terminal.line(as_text(&local(&entry.time), entry)),
        }
    }
}

fn row(entry: &Entry<'_>) -> String {
    let position = entry.position.map(|position| position.to_string()).unwrap_or_default();
    let (verdict, direction) = (entry.verdict.to_string(), entry.direction.to_string());
    let cells: [&str; 11] = [
        &entry.time,
        &verdict,
        &direction,
        &entry.interface,
        &entry.traffic,
        &entry.source,
        &entry.destination,
        entry.program.as_deref().unwrap_or_default(),
        entry.rule.as_deref().unwrap_or_default(),
        &position,
        &entry.by,
    ];
    cells.map(field).map(Cow::into_owned).join(",")
}
