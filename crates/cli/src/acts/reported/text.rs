//! A finished check for people: the table, what differs and what to do, one
//! port in all detail, and what has changed.

use std::collections::HashMap;

use tipstaff_core::analysis::reach::{
    Cell, Change, Changes, Outcome, Report, Row, Subject, Vantage,
};
use tipstaff_core::host::listener::Listener;
use tipstaff_core::visible::visible;

use crate::terminal::orders_words;
use crate::terminal::{Columns, Terminal, counted, faint, loud, moment, outcome, plain};

/// A table with more columns is nothing for a terminal.
const WIDE: usize = 16;
/// So many changes of a kind are told; JSON has all.
const TOLD: usize = 30;

/// The whole report.
pub fn show(report: &Report, terminal: &Terminal) {
    terminal.heading(&format!("reach of {}", report.host));
    terminal.note(&heading(report));
    if report.vantages.len() > WIDE {
        let vantages = report.vantages.len();
        terminal
            .note(&format!("checked from {vantages} places: see --html or --json for the table"));
    } else {
        table(report, terminal);
    }
    for (row, cell) in remarks(report) {
        terminal.note(&format!("* {}: {cell}", row.describe()));
    }
    for note in report.notes.iter().chain(&unknown(report)) {
        terminal.note(note);
    }
    rules(report, terminal);
    if !report.complete {
        terminal.line("The check is incomplete: what was not checked is unknown.");
    }
    for note in accepted(report) {
        terminal.note(&note);
    }
    match (report.differences, report.unknown) {
        (0, 0) => {
            let other = if report.accepted > 0 { "other " } else { "" };
            let of = if report.is_of_itself() { ", seen from this host only" } else { "" };
            terminal.heading(&format!("every {other}port behaves as ordered{of}"));
        }
        (0, _) => terminal.heading("nothing observed differs from the orders"),
        (differences, _) => {
            // What several vantages see alike is told once.
            let cases = self::differences(report).len();
            let cases = match cases == differences {
                true => String::new(),
                false => format!(", {}", counted(cases, "case", "cases")),
            };
            let differ = counted(differences, "difference", "differences");
            terminal.heading(&format!("{differ}{cases}"));
            print_differences(report, terminal);
        }
    }
}

fn table(report: &Report, terminal: &Terminal) {
    // Two short lines need less room than one long one.
    let column =
        |v: &Vantage| visible(&v.to_string()).replace(" (", "\n(").replace(" via ", "\nvia ");
    let vantages: Vec<String> = report.vantages.iter().map(column).collect();
    let headings = ["port", "program"].into_iter().chain(vantages.iter().map(String::as_str));
    let mut table = Columns::new(headings);
    for row in &report.rows {
        let program = match who(report, row).as_str() {
            words if row.programs.is_empty() => faint(words),
            words => plain(words),
        };
        let cells = row.cells.iter().map(|cell| match cell {
            None => faint("not looked"),
            Some(cell) => {
                let mark = if cell.observed.remark.is_some() { " *" } else { "" };
                let word = format!("{} ({}){mark}", cell.observed.outcome, cell.observed.how);
                match (cell.differs(), &cell.accepted) {
                    (true, _) => loud(format!("≠ {word}")),
                    (false, Some(_)) => faint(format!("{word}, accepted")),
                    (false, None) => outcome(cell.observed.outcome, word),
                }
            }
        });
        table.row([plain(row.describe()), program].into_iter().chain(cells));
    }
    terminal.table(&table);
}

/// Where the expectation comes from, and how the gate stands.
pub fn heading(report: &Report) -> String {
    let gate = match report.gate.as_str() {
        "unknown" => "not visible from here",
        other => other,
    };
    format!("expected: by the {}; the gate is {gate}", orders_words(&report.orders))
}

/// Who listens, in words.
pub fn who(report: &Report, row: &Row) -> String {
    match row.programs.as_slice() {
        // What listens on another machine nobody knows here.
        [] if !report
            .vantages
            .iter()
            .any(|vantage| !matches!(vantage, Vantage::Machine { .. })) =>
        {
            "not visible".into()
        }
        [] if row.subject == Subject::Echo => "the kernel".into(),
        [] if row.heard => "not visible".into(),
        [] if outcome_from_here(row) == Some(Outcome::Answers) => "not visible".into(),
        [] => "nobody".into(),
        names => names.join(", "),
    }
}

fn outcome_from_here(row: &Row) -> Option<Outcome> {
    row.cells.first()?.as_ref().map(|cell| cell.observed.outcome)
}

/// Each remark once a port.
pub fn remarks(report: &Report) -> Vec<(&Row, &str)> {
    let of = |row: &'_ Row| {
        row.cells.iter().flatten().find_map(|cell| cell.observed.remark.clone()).is_some()
    };
    let rows = report.rows.iter().filter(|row| of(row));
    rows.filter_map(|row| {
        let remark = row.cells.iter().flatten().find_map(|c| c.observed.remark.as_deref());
        Some((row, remark?))
    })
    .collect()
}

/// What is not as it should be and accepted, by the rules and their reasons.
pub fn accepted(report: &Report) -> Vec<String> {
    let mut reasons: Vec<((&str, &str), usize)> = Vec::new();
    for row in &report.rows {
        for cell in row.cells.iter().flatten() {
            let Some(why) = cell.accepted.as_deref() else { continue };
            let key = (cell.expected_by.as_str(), why);
            match reasons.iter_mut().find(|(known, _)| *known == key) {
                Some((_, times)) => *times += row.ports(),
                None => reasons.push((key, row.ports())),
            }
        }
    }
    reasons
        .into_iter()
        .map(|((by, why), times)| {
            format!(
                "{} accepted by {by}: {why}",
                counted(times, "difference is", "differences are")
            )
        })
        .collect()
}

/// What is unknown, and why, each reason once.
pub fn unknown(report: &Report) -> Vec<String> {
    let mut reasons: Vec<(String, usize)> = Vec::new();
    for row in &report.rows {
        for cell in row.cells.iter().flatten().filter(|c| c.observed.outcome == Outcome::Unknown) {
            let why = cell.observed.evidence.clone().unwrap_or_default();
            match reasons.iter_mut().find(|(known, _)| *known == why) {
                Some((_, times)) => *times += row.ports(),
                None => reasons.push((why, row.ports())),
            }
        }
    }
    reasons
        .into_iter()
        .map(|(why, times)| format!("{} unknown: {why}", counted(times, "cell is", "cells are")))
        .collect()
}

fn rules(report: &Report, terminal: &Terminal) {
    if report.rules.is_empty() {
        return;
    }
    let held = report.rules.iter().filter(|rule| rule.holds == Some(true)).count();
    terminal.heading(&format!("{held} of {} confirmed", report.rules.len()));
    let mut table = Columns::new(["rule", "shown by", "seen", "true"]);
    for rule in &report.rules {
        let why = rule.why.clone().unwrap_or_default();
        let seen = rule.outcome.map(|outcome| outcome.to_string()).unwrap_or_default();
        let truth = match rule.holds {
            Some(true) => plain("yes"),
            Some(false) => loud(format!("no: {why}")),
            None => faint(format!("not shown: {why}")),
        };
        let by = rule.by.clone().unwrap_or_default();
        table.row([plain(&rule.rule), plain(by), plain(seen), truth]);
    }
    terminal.table(&table);
}

/// A difference, the ports it is about, and the vantages that see the same.
pub struct Told<'r> {
    pub rows: Vec<&'r Row>,
    pub cell: &'r Cell,
    pub vantages: Vec<String>,
}

impl Told<'_> {
    /// The ports.
    pub fn ports(&self) -> String {
        self.rows.iter().map(|row| row.describe()).collect::<Vec<_>>().join(", ")
    }
}

/// Differences: what several vantages see alike, and several ports show alike, is told once.
pub fn differences(report: &Report) -> Vec<Told<'_>> {
    let mut all: Vec<Told<'_>> = Vec::new();
    let mut places = HashMap::new();
    for row in &report.rows {
        let mut told: Vec<Told<'_>> = Vec::new();
        for (cell, vantage) in row.cells.iter().zip(&report.vantages) {
            let Some(cell) = cell.as_ref().filter(|cell| cell.differs()) else { continue };
            let same = |other: &Cell| {
                (&other.why, &other.expected_by, other.observed.outcome)
                    == (&cell.why, &cell.expected_by, cell.observed.outcome)
            };
            match told.iter_mut().find(|one| same(one.cell)) {
                Some(one) => one.vantages.push(vantage.to_string()),
                None => {
                    told.push(Told { rows: vec![row], cell, vantages: vec![vantage.to_string()] })
                }
            }
        }
        for one in told {
            let why = one.cell.why.as_ref().map(ToString::to_string);
            let place = *places.entry((why, sentence(&one), &one.cell.next)).or_insert(all.len());
            match all.get_mut(place) {
                Some(known) => known.rows.push(row),
                None => all.push(one),
            }
        }
    }
    all
}

/// `should answer by rule 1 (web), but is silent as 203.0.113.9`.
pub fn sentence(told: &Told<'_>) -> String {
    let (meant, by) = (meant(told.cell.expected), &told.cell.expected_by);
    let (seen, from) = (verb(told.cell.observed.outcome), told.vantages.join(", "));
    format!("{meant} by {by}, but {seen} {from}")
}

/// What differs, why, and what to do about it.
pub fn print_differences(report: &Report, terminal: &Terminal) {
    for told in differences(report) {
        let why = told.cell.why.as_ref().map(ToString::to_string).unwrap_or_default();
        terminal.line(format!("  {:<9}  {why}", told.ports()));
        terminal.note(&format!("{:13}{}", "", sentence(&told)));
        if let Some(next) = &told.cell.next {
            terminal.line(format!("{:13}next: {next}", ""));
        }
    }
}

fn verb(outcome: Outcome) -> &'static str {
    match outcome {
        Outcome::Answers => "answers",
        Outcome::Refuses => "refuses",
        Outcome::Silent => "is silent",
        Outcome::Unknown => "is unknown",
    }
}

fn meant(expected: Outcome) -> &'static str {
    match expected {
        Outcome::Answers => "should answer",
        Outcome::Refuses => "should refuse",
        Outcome::Silent => "should be silent",
        Outcome::Unknown => "is unknown",
    }
}

/// One port, cell by cell, with all there is to know.
pub fn why(report: &Report, listeners: &[Listener], terminal: &Terminal) {
    for row in &report.rows {
        terminal.heading(&format!("{} of {}", row.describe(), report.host));
        terminal.note(&heading(report));
        for line in bound(row, listeners) {
            terminal.line(format!("  {line}"));
        }
        for (cell, vantage) in row.cells.iter().zip(&report.vantages) {
            let Some(cell) = cell else { continue };
            terminal.line(format!("\n  {vantage}"));
            for (what, words) in evidence(cell, vantage) {
                terminal.line(format!("    {what:<7} {words}"));
            }
        }
    }
    for note in &report.notes {
        terminal.note(note);
    }
}

/// What is behind a cell: a word for each line, and the line.
pub fn evidence(cell: &Cell, vantage: &Vantage) -> Vec<(&'static str, String)> {
    let mut lines = vec![("meant", format!("{}, by {}", cell.expected, cell.expected_by))];
    let seen = &cell.observed;
    let words = seen.evidence.as_deref().map(|e| format!(": {e}")).unwrap_or_default();
    let target = match (seen.target, vantage) {
        (Some(target), _) if !target.is_unspecified() => format!(" on {target}"),
        _ => String::new(),
    };
    lines.push(("seen", format!("{}, by the {}{target}{words}", seen.outcome, seen.how)));
    if let Some(gate) = &seen.gate {
        lines.push(("gate", gate.clone()));
    }
    if let Some(remark) = &seen.remark {
        lines.push(("beside", remark.clone()));
    }
    match (&cell.why, cell.differs()) {
        (Some(why), _) => lines.push(("why", why.to_string())),
        (None, true) => {}
        (None, false) => {
            if seen.outcome != Outcome::Unknown && cell.expected != Outcome::Unknown {
                lines.push(("so", "as it should be".into()));
            }
        }
    }
    if let Some(reason) = &cell.accepted {
        lines.push(("so", format!("accepted by the orders: {reason}")));
    }
    if let Some(next) = &cell.next {
        lines.push(("next", next.clone()));
    }
    lines
}

fn bound(row: &Row, listeners: &[Listener]) -> Vec<String> {
    let lines: Vec<String> = listeners
        .iter()
        .filter(|l: &&Listener| Subject::Port(l.transport, l.port) == row.subject)
        .map(|l| {
            let who = match l.program() {
                Some(program) => format!("{} (process {})", program.name, program.pid),
                None => format!("a program of {}", l.owner.account),
            };
            let device = l.device.as_ref().map(|d| format!(" on {d} only")).unwrap_or_default();
            let queue = l
                .queue
                .map(|(waiting, room)| format!(", {waiting} of {room} wait to be accepted"))
                .unwrap_or_default();
            format!("{who} listens on {}{device}{queue}", l.address)
        })
        .collect();
    match (lines.is_empty(), row.subject) {
        (true, Subject::Echo) => vec!["the kernel itself answers echo requests".into()],
        (true, _) => vec!["nothing listens on it here".into()],
        (false, _) => lines,
    }
}

/// What has changed since another check.
pub fn changed(changes: &Changes, before: &Report, complete: bool, terminal: &Terminal) {
    if !complete {
        terminal.line("The check is incomplete: what was not checked is unknown.");
    }
    if changes.is_empty() && changes.not_compared.is_empty() {
        let since = moment(i64::from(before.at.0));
        terminal.line(format!("nothing has opened or closed since the check of {since}"));
        return;
    }
    terminal.heading(&format!("since the check of {}", moment(i64::from(before.at.0))));
    fn line(change: &Change) -> String {
        fn words(outcome: Option<Outcome>) -> String {
            outcome.map_or_else(|| "not looked at".to_owned(), |outcome| outcome.to_string())
        }
        let (before, now) = (words(change.before), words(change.now));
        format!("{} {}: {before}, now {now}", change.describe(), change.vantage)
    }
    let kinds =
        [("opened", &changes.opened), ("closed", &changes.closed), ("changed", &changes.others)];
    for (kind, list) in kinds {
        for change in list.iter().take(TOLD) {
            terminal.line(format!("  {kind:<8} {}", line(change)));
        }
        if list.len() > TOLD {
            terminal.note(&format!("  {kind:<8} and {} more; --json has all", list.len() - TOLD));
        }
    }
    if changes.is_empty() {
        terminal.line("  nothing has opened or closed");
    }
    for vantage in &changes.not_compared {
        terminal.note(&format!("  not compared, only one of the two checks covered it: {vantage}"));
    }
}
