//! `log`: what was decided, from the files that `keep` writes.

mod follow;

use std::borrow::Cow;
use std::collections::VecDeque;
use std::path::{Path, PathBuf};

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::Serialize;
use tipstaff_core::analysis::log::{Entry, GroupBy, LogFilter, Row};
use tipstaff_core::orders::Orders;

use crate::acts::decisions::{
    Counted, Counts, as_text, each, filter, log_file, logged, no_log, scan,
};
use crate::acts::when;
use crate::arguments::{Common, DecisionOptions, LogOptions, Piece, Top};
use crate::chosen;
use crate::ending::Ending;
use crate::failure::Failure;
use crate::shape::shape;
use crate::terminal::csv::field;
use crate::terminal::{Columns, Terminal, moment, plain};

/// Rows of `--top` where nobody says how many.
const TOP: usize = 10;

/// Counts, for scripts.
#[derive(JsonSchema, Serialize)]
pub struct Report<'r> {
    by: GroupBy,
    rows: &'r [&'r Row],
    /// Rows that `--count` leaves out.
    more: usize,
    #[serde(flatten)]
    counts: Counts,
}

shape!(Report<'_> => "log-counts");

pub fn run(common: &Common, options: &LogOptions, terminal: &Terminal) -> Result<Ending, Failure> {
    let now = Timestamp::now();
    let orders = orders(common, &options.decisions);
    let mut filter = filter(&options.decisions, orders.as_ref())?;
    // What was rehearsed turned nobody away.
    filter.rehearsed = Some(options.decisions.rehearsed);
    filter.since = options.since.as_deref().map(|text| when::read(text, now)).transpose()?;
    filter.until = options.until.as_deref().map(|text| when::read(text, now)).transpose()?;
    let current = log_file(common);
    let files = logged(common)?;
    if files.is_empty() && !options.follow {
        terminal.warning(&no_log(common));
    }
    if let Some(by) = by(options) {
        let counted = Counted::of(&files, &filter, by)?;
        return Ok(print_counts(counted, by, options, terminal));
    }
    let form = match (terminal.json, terminal.is_csv()) {
        (true, _) => Form::Json,
        (_, true) => Form::Csv,
        _ => Form::Text,
    };
    let mut lines = Lines { filter: &filter, terminal, form, counts: Counts::default() };
    if form == Form::Csv {
        terminal.record(HEAD);
    }
    let read = lines.print(&files, options.count)?;
    if options.follow {
        let read = if files.last() == Some(&current) { read } else { 0 };
        return follow::run(&current, read, &mut lines);
    }
    lines.counts.tell(terminal);
    Ok(Ending::Fine)
}

/// The orders in force, or else of the file, where names of theirs may be asked for: of
/// groups and services. Whoever may read neither has none.
fn orders(common: &Common, options: &DecisionOptions) -> Option<Orders> {
    let DecisionOptions { sources, destinations, traffic, .. } = options;
    if [sources, destinations, traffic].iter().all(|named| named.is_empty()) {
        return None;
    }
    let in_force = chosen::in_force(common).map(|(in_force, _)| in_force).unwrap_or_default();
    chosen::choose(common, in_force.as_ref()).ok().flatten().map(|chosen| chosen.orders)
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
    let mut rows = counted.summary.rows();
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
    if terminal.is_csv() {
        terminal.record("name,turned_away,allowed,first,last");
        for row in &rows {
            let Row { name, turned_away, allowed, first, last } = row;
            terminal.record(format!("{},{turned_away},{allowed},{first},{last}", field(name)));
        }
        return Ending::Fine;
    }
    table(&rows, by, terminal);
    if more > 0 {
        let earlier = if by.is_time() { " before these" } else { "" };
        terminal.note(&format!("{more} more{earlier}; --count shows more"));
    }
    counted.counts.tell(terminal);
    Ending::Fine
}

/// Who or what came up how often.
pub fn table(rows: &[&Row], by: GroupBy, terminal: &Terminal) {
    let heading = match by {
        GroupBy::Sources => "source",
        GroupBy::Ports => "traffic",
        GroupBy::Rules => "decided by",
        GroupBy::Programs => "program",
        GroupBy::Hour => "hour (UTC)",
        GroupBy::Day => "day (UTC)",
    };
    let mut table = Columns::new([heading, "turned away", "let in", "first", "last"]);
    for row in rows {
        let name = match by {
            GroupBy::Hour => row.name.replace('T', " "),
            _ => row.name.clone(),
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
}

/// A moment by the administrator's clock.
fn local(time: &str) -> String {
    time.parse::<Timestamp>().map_or_else(|_| time.to_owned(), |time| moment(time.as_second()))
}

const HEAD: &str =
    "time,verdict,direction,interface,traffic,source,destination,program,rule,position,by";

/// Lines on their way to whoever reads them.
struct Lines<'l> {
    filter: &'l LogFilter,
    terminal: &'l Terminal,
    form: Form,
    counts: Counts,
}

impl Lines<'_> {
    /// The lines that are meant; `last`: only the last so many. What is told: how many bytes
    /// were read of the newest file.
    fn print(&mut self, files: &[PathBuf], last: Option<usize>) -> Result<u64, Failure> {
        let mut read = 0;
        let Some(last) = last else {
            for file in files {
                let show =
                    |lines: &Self, found: Vec<String>| found.iter().for_each(|l| lines.show(l));
                read = self.scan(file, show)?;
            }
            return Ok(read);
        };
        let mut kept: VecDeque<String> = VecDeque::new();
        for (n, file) in files.iter().rev().enumerate() {
            let mut newest: VecDeque<String> = VecDeque::new();
            let bytes = self.scan(file, |_, found| {
                newest.extend(found);
                newest.drain(..newest.len().saturating_sub(last - kept.len()));
            })?;
            if n == 0 {
                read = bytes;
            }
            newest.into_iter().rev().for_each(|line| kept.push_front(line));
            if kept.len() == last {
                break;
            }
        }
        kept.iter().for_each(|line| self.show(line));
        Ok(read)
    }

    /// Gives the shown form of all that is meant in a file, piece by piece.
    fn scan(
        &mut self,
        file: &Path,
        mut take: impl FnMut(&Self, Vec<String>),
    ) -> Result<u64, Failure> {
        let (filter, form) = (self.filter, self.form);
        let work = |text: &str| {
            let (mut found, mut counts) = (Vec::new(), Counts::default());
            each(text, filter, &mut counts, |line, entry| found.push(form.of(line, entry)));
            (found, counts)
        };
        scan(file, work, |(found, counts)| {
            self.counts.add(counts);
            take(self, found);
            Ok(())
        })
    }

    /// Shows what is meant in a text.
    fn text(&mut self, text: &str) {
        let (mut counts, form) = (Counts::default(), self.form);
        each(text, self.filter, &mut counts, |line, entry| self.show(&form.of(line, entry)));
        self.counts.add(counts);
    }

    fn show(&self, line: &str) {
        match self.form {
            Form::Json => self.terminal.document(line),
            Form::Csv => self.terminal.record(line),
            Form::Text => self.terminal.line(line),
        }
    }
}

/// How a decision is written.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Form {
    Json,
    Csv,
    Text,
}

impl Form {
    fn of(self, line: &str, entry: &Entry<'_>) -> String {
        match self {
            Self::Json => line.to_owned(),
            Self::Csv => row(entry),
            Self::Text => as_text(&local(&entry.time), entry),
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
