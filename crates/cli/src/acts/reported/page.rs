//! A report as Markdown, and as a page that needs nothing else: no network, no
//! other file.

use std::collections::HashMap;
use std::fmt::Write;

use serde::Serialize;
use tipstaff_core::analysis::reach::{Cell, Outcome, Report, Row, Vantage};
use tipstaff_core::visible::visible;

use super::text::{
    Told, accepted, differences, evidence, heading, remarks, sentence, unknown, who,
};
use crate::terminal::{counted, moment};

pub(super) const STYLE: &str = include_str!("page.css");
const SCRIPT: &str = include_str!("page.js");

/// The table and what differs, as CommonMark with tables.
pub fn markdown(report: &Report) -> String {
    let mut text = format!("# Reach of {}\n\n", plain(&report.host));
    let _ = writeln!(
        text,
        "{}; checked on {}.\n",
        plain(&heading(report)),
        moment(i64::from(report.at.0))
    );
    let vantages: Vec<String> = report.vantages.iter().map(|v| plain(&v.to_string())).collect();
    let _ = writeln!(text, "| port | program | {} |", vantages.join(" | "));
    let _ = writeln!(text, "|---|---|{}", "---|".repeat(vantages.len()));
    for row in &report.rows {
        let cells: Vec<String> = row.cells.iter().map(|cell| plain(&word(cell.as_ref()))).collect();
        let _ = writeln!(
            text,
            "| {} | {} | {} |",
            row.describe(),
            plain(&who(report, row)),
            cells.join(" | ")
        );
    }
    let mut aside: Vec<String> = report.notes.clone();
    aside.extend(accepted(report).into_iter().chain(unknown(report)));
    aside.extend(
        remarks(report).iter().map(|(row, remark)| format!("{}: {remark}", row.describe())),
    );
    if !aside.is_empty() {
        text.push('\n');
        for note in &aside {
            let _ = writeln!(text, "- {}", plain(note));
        }
    }
    if !report.rules.is_empty() {
        text.push_str("\n## The rules\n\n| rule | shown by | seen | true |\n|---|---|---|---|\n");
        for rule in &report.rules {
            let (by, seen) = (rule.by.clone().unwrap_or_default(), rule.outcome);
            let seen = seen.map(|outcome| outcome.to_string()).unwrap_or_default();
            let truth = truth(rule.holds, rule.why.as_deref());
            let cells = [&rule.rule, &by, &seen, &truth].map(|cell| plain(cell));
            let _ = writeln!(text, "| {} |", cells.join(" | "));
        }
    }
    let _ = write!(text, "\n## {}\n", summary(report));
    for told in differences(report) {
        let why = told.cell.why.as_ref().map(ToString::to_string).unwrap_or_default();
        let _ =
            write!(text, "\n- **{}** {}; {}.", told.ports(), plain(&why), plain(&sentence(&told)));
        if let Some(next) = &told.cell.next {
            let _ = write!(text, " Next: {}.", plain(next));
        }
    }
    text.trim_end().to_owned()
}

fn summary(report: &Report) -> String {
    match (report.differences, report.unknown, report.complete) {
        (_, _, false) => format!(
            "{}; the check is incomplete",
            counted(report.differences, "difference", "differences")
        ),
        (0, 0, true) if report.is_of_itself() => {
            "Every port behaves as ordered, seen from this host only".into()
        }
        (0, 0, true) => "Every port behaves as ordered".into(),
        (0, _, true) => "Nothing observed differs from the orders".into(),
        (n, ..) => counted(n, "difference", "differences"),
    }
}

fn truth(holds: Option<bool>, why: Option<&str>) -> String {
    let why = why.unwrap_or_default();
    match holds {
        Some(true) => "yes".into(),
        Some(false) => format!("no: {why}"),
        None => format!("not shown: {why}"),
    }
}

pub(super) fn word(cell: Option<&Cell>) -> String {
    match cell {
        None => "not looked".into(),
        Some(cell) => {
            let mark = if cell.differs() { "≠ " } else { "" };
            let accepted = if cell.accepted.is_some() { ", accepted" } else { "" };
            format!("{mark}{} ({}){accepted}", cell.observed.outcome, cell.observed.how)
        }
    }
}

/// Without what would be read as markup.
fn plain(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in visible(text).chars() {
        match c {
            '|' | '*' | '_' | '`' | '<' | '[' | '\\' => out.extend(['\\', c]),
            c => out.push(c),
        }
    }
    out
}

pub(super) fn escaped(text: &str) -> String {
    let mut out = String::with_capacity(text.len());
    for c in visible(text).chars() {
        match c {
            '&' => out.push_str("&amp;"),
            '<' => out.push_str("&lt;"),
            '>' => out.push_str("&gt;"),
            '"' => out.push_str("&quot;"),
            '\'' => out.push_str("&#39;"),
            c => out.push(c),
        }
    }
    out
}

fn name(outcome: Outcome) -> &'static str {
    match outcome {
        Outcome::Answers => "answers",
        Outcome::Refuses => "refuses",
        Outcome::Silent => "silent",
        Outcome::Unknown => "unknown",
    }
}

/// What differs, why, and what to do about it.
pub(super) fn list(page: &mut String, all: &[Told<'_>]) {
    page.push_str("<dl>\n");
    for told in all {
        let why = told.cell.why.as_ref().map(ToString::to_string).unwrap_or_default();
        let _ = write!(
            page,
            "<dt>{} <span>{}</span></dt>\n<dd>{}.",
            escaped(&told.ports()),
            escaped(&why),
            escaped(&sentence(told)),
        );
        if let Some(next) = &told.cell.next {
            let _ = write!(page, "<br><b>Next:</b> {}.", escaped(next));
        }
        page.push_str("</dd>\n");
    }
    page.push_str("</dl>\n");
}

/// The page.
pub fn html(report: &Report) -> String {
    let host = escaped(&report.host);
    let mut page = format!(
        "<!doctype html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n\
         <meta name=\"viewport\" content=\"width=device-width, initial-scale=1\">\n\
         <title>Reach of {host}</title>\n<style>\n{STYLE}</style>\n</head>\n<body>\n\
         <header>\n<h1>Reach of {host}</h1>\n<p>{}; checked on {}</p>\n<p class=\"sum\">{}</p>\n</header>\n<main>\n",
        escaped(&heading(report)),
        escaped(&moment(i64::from(report.at.0))),
        escaped(&summary(report)),
    );
    page.push_str(FILTERS);
    page.push_str(
        "<div class=\"wide\" role=\"region\" aria-label=\"Ports and who reaches them\" tabindex=\"0\">\
         <table id=\"matrix\">\n<thead><tr><th \
                   scope=\"col\">port</th><th scope=\"col\">program</th>",
    );
    for vantage in &report.vantages {
        let _ = write!(page, "<th scope=\"col\">{}</th>", escaped(&vantage.to_string()));
    }
    page.push_str("</tr></thead>\n<tbody>\n");
    let mut drawn = Drawn::default();
    for rows in report.rows.chunk_by(|a, b| are_alike(report, a, b)) {
        line(&mut page, rows, report);
        drawn.add(rows, &report.vantages);
    }
    page.push_str("</tbody>\n</table></div>\n<p id=\"none\" hidden>No port matches.</p>\n");
    rules(&mut page, report);
    let told = differences(report);
    if !told.is_empty() {
        page.push_str("<section>\n<h2>What differs, and what to do</h2>\n");
        list(&mut page, &told);
        page.push_str("</section>\n");
    }
    let mut notes: Vec<String> = report.notes.clone();
    notes.extend(accepted(report).into_iter().chain(unknown(report)));
    if !notes.is_empty() {
        page.push_str("<section>\n<h2>Notes</h2>\n<ul>\n");
        for note in &notes {
            let _ = writeln!(page, "<li>{}</li>", escaped(note));
        }
        page.push_str("</ul>\n</section>\n");
    }
    let _ = write!(
        page,
        "</main>\n{WORDS}<script type=\"application/json\" id=\"data\">{}</script>\n\
         <script>\n{SCRIPT}</script>\n</body>\n</html>\n",
        drawn.json()
    );
    page
}

const FILTERS: &str = "<form id=\"filters\" hidden aria-label=\"What is shown\">\n\
<label>Show <select id=\"kind\">\
<option value=\"\">everything</option>\
<option value=\"differs\">what differs</option>\
<option value=\"answers\">what answers somebody</option>\
<option value=\"refuses\">what refuses somebody</option>\
<option value=\"silent\">what is silent to somebody</option>\
<option value=\"unknown\">what is unknown</option>\
</select></label>\n\
<label>Port or program <input id=\"word\" type=\"search\" placeholder=\"tcp/7410, plated\"></label>\n\
<button type=\"button\" id=\"all\">Show all evidence</button>\n</form>\n";

const WORDS: &str = "<footer>\n<p><b>answers</b>: it accepts. <b>refuses</b>: it says no. <b>silent</b>: it says nothing. \
<b>≠</b>: not what the orders mean. <b>wire</b>: a real packet went in. <b>gate</b>: the loaded gate decided it, and the socket table says who listens. \
<b>orders</b>: worked out.</p>\n</footer>\n";

/// Whether two rows say the same of the same program: they are folded to one.
fn are_alike(report: &Report, one: &Row, other: &Row) -> bool {
    let words = |row: &Row| row.cells.iter().map(|cell| word(cell.as_ref())).collect::<Vec<_>>();
    who(report, one) == who(report, other) && words(one) == words(other)
}

/// Evidence, which the page draws where somebody asks for it: every text stands there once.
#[derive(Default, Serialize)]
struct Drawn {
    words: Vec<String>,
    /// Labels and texts by turns, as places in `words`.
    evidence: Vec<Vec<usize>>,
    /// For each row of the page its ports, and the evidence of their cells; of one that was not
    /// looked at `None`.
    rows: Vec<Vec<(String, Vec<Option<usize>>)>>,
    #[serde(skip)]
    places: HashMap<String, usize>,
    #[serde(skip)]
    known: HashMap<Vec<usize>, usize>,
}

impl Drawn {
    fn add(&mut self, rows: &[Row], vantages: &[Vantage]) {
        let ports = rows.iter().map(|row| {
            let cells = row.cells.iter().zip(vantages);
            let cells = cells.map(|(cell, vantage)| Some(self.cell(cell.as_ref()?, vantage)));
            (visible(&row.describe()).into_owned(), cells.collect())
        });
        let ports = ports.collect();
        self.rows.push(ports);
    }

    fn cell(&mut self, cell: &Cell, vantage: &Vantage) -> usize {
        let lines = evidence(cell, vantage);
        let words = lines.into_iter().flat_map(|(label, text)| [label.to_owned(), text]);
        let places: Vec<usize> = words.map(|word| self.word(&visible(&word))).collect();
        let next = self.evidence.len();
        let place = *self.known.entry(places.clone()).or_insert(next);
        if place == next {
            self.evidence.push(places);
        }
        place
    }

    fn word(&mut self, word: &str) -> usize {
        if let Some(place) = self.places.get(word) {
            return *place;
        }
        self.places.insert(word.to_owned(), self.words.len());
        self.words.push(word.to_owned());
        self.words.len() - 1
    }

    /// Nothing of it ends the element that it stands in (HTML, 13.2.5.4).
    fn json(&self) -> String {
        serde_json::to_string(self).unwrap_or_default().replace('<', "\\u003c")
    }
}

fn line(page: &mut String, rows: &[Row], report: &Report) {
    let Some((row, others)) = rows.split_first() else { return };
    let _ = write!(page, "<tr><th scope=\"row\">{}", escaped(&row.describe()));
    if !others.is_empty() {
        let names: Vec<String> = others.iter().map(|row| escaped(&row.describe())).collect();
        let _ = write!(page, "<small>{}</small>", names.join(", "),);
    }
    let _ = write!(page, "</th><td>{}</td>", escaped(&who(report, row)));
    for cell in &row.cells {
        let Some(cell) = cell else {
            page.push_str("<td class=\"none\">not looked</td>");
            continue;
        };
        let class = if cell.differs() { " differs" } else { "" };
        let _ = write!(
            page,
            "<td class=\"{}{class}\">{}</td>",
            name(cell.observed.outcome),
            escaped(&word(Some(cell))),
        );
    }
    page.push_str("</tr>\n");
}

fn rules(page: &mut String, report: &Report) {
    if report.rules.is_empty() {
        return;
    }
    page.push_str(
        "<section>\n<h2>The rules</h2>\n<table>\n<thead><tr><th scope=\"col\">rule</th><th scope=\"col\">shown by</th>\
         <th scope=\"col\">seen</th><th scope=\"col\">true</th></tr></thead>\n<tbody>\n",
    );
    for rule in &report.rules {
        let seen = rule.outcome.map(name).unwrap_or_default();
        let class = if rule.holds == Some(false) { "differs" } else { "" };
        let _ = writeln!(
            page,
            "<tr><th scope=\"row\">{}</th><td>{}</td><td>{seen}</td><td \
             class=\"{class}\">{}</td></tr>",
            escaped(&rule.rule),
            escaped(rule.by.as_deref().unwrap_or_default()),
            escaped(&truth(rule.holds, rule.why.as_deref())),
        );
    }
    page.push_str("</tbody>\n</table>\n</section>\n");
}

#[cfg(test)]
mod tests {
    use super::*;
    use tipstaff_core::analysis::reach::{How, Observed, Subject, Why};
    use tipstaff_core::moment::Moment;
    use tipstaff_core::names::traffic::Transport;
    use tipstaff_core::orders::{OrdersHash, Origin};

    fn report() -> Report {
        let cell = |outcome, why: Option<Why>| {
            let next = why.as_ref().map(|w| w.next(Subject::Echo, None));
            Some(Cell {
                expected: Outcome::Answers,
                expected_by: "rule 1 (<plates|>)".into(),
                observed: Observed { outcome, how: How::Wire, ..Observed::unknown("in 0.1 ms") },
                why,
                next,
                accepted: None,
            })
        };
        Report {
            host: "archive".into(),
            orders: Origin::File { path: "orders.toml".into(), hash: OrdersHash::digest("") },
            gate: "up".into(),
            at: Moment(0),
            vantages: vec![Vantage::Here, Vantage::outside("203.0.113.9".parse().unwrap())],
            rows: vec![Row {
                subject: Subject::Port(Transport::Tcp, 7410),
                last: None,
                at: None,
                programs: vec!["plated".into()],
                heard: true,
                cells: vec![
                    cell(Outcome::Answers, None),
                    cell(Outcome::Silent, Some(Why::QueueFull)),
                ],
            }],
            rules: vec![],
            differences: 1,
            accepted: 0,
            unknown: 0,
            notes: vec!["a & b".into()],
            complete: true,
        }
    }

    #[test]
    fn markdown_tells_the_table_and_the_next_step() {
        let mut report = report();
        report.at = Moment(1_800_000_000);
        let text = markdown(&report);
        assert!(
            text.contains("| tcp/7410 | plated | answers (wire) | ≠ silent (wire) |"),
            "{text}"
        );
        assert!(text.contains("by rule 1 (\\<plates\\|>), but is silent as 203.0.113.9"), "{text}");
        assert!(text.contains("Next: the program accepts nothing"), "{text}");
    }

    #[test]
    fn the_page_needs_nothing_else_and_says_nothing_unescaped() {
        let page = html(&report());
        for outside in ["http:", "https:", "src=", "@import", "url("] {
            assert!(!page.contains(outside), "{outside}");
        }
        assert!(page.contains("rule 1 (\\u003cplates|>)") && page.contains("a &amp; b"));
        assert!(page.contains("<td class=\"silent differs\">≠ silent (wire)</td>"));
        for tag in ["table", "tr", "td", "th", "main", "section", "dl", "dd", "dt", "ul", "li"] {
            let opened = page.matches(&format!("<{tag}>")).count()
                + page.matches(&format!("<{tag} ")).count();
            assert_eq!(opened, page.matches(&format!("</{tag}>")).count(), "{tag}");
        }
    }

    /// A report of 500 ports and 12 vantages; `distinct`: no two ports are alike.
    fn large(distinct: bool) -> Report {
        let mut report = report();
        let source = |n: u8| Vantage::outside(std::net::Ipv4Addr::new(203, 0, 113, n).into());
        report.vantages = (1..=12).map(source).collect();
        let row = report.rows[0].clone();
        report.rows = (0..500u16)
            .map(|n| {
                let mut row = row.clone();
                row.subject = Subject::Port(Transport::Tcp, 7_000 + n);
                if distinct {
                    row.programs = vec![format!("plated-{n}")];
                }
                row.cells = (0..12usize)
                    .map(|at| {
                        let mut cell = row.cells[(usize::from(n) + at) % 2].clone();
                        if let Some(cell) = &mut cell {
                            let took = format!("a reset in {}.{} ms", n % 7, at);
                            cell.observed.evidence = Some(took);
                        }
                        cell
                    })
                    .collect();
                row
            })
            .collect();
        report
    }

    #[test]
    fn rows_that_say_the_same_are_folded_and_a_large_page_stays_small() {
        let page = html(&large(true));
        assert_eq!(page.matches("<tr><th scope=\"row\">tcp/").count(), 500);
        assert!(page.len() <= 500_000, "{} bytes", page.len());
        let mut report = large(false);
        for row in &mut report.rows {
            row.cells.iter_mut().for_each(|cell| *cell = self::report().rows[0].cells[0].clone());
        }
        let page = html(&report);
        assert_eq!(page.matches("<tr><th scope=\"row\">tcp/").count(), 1);
        assert!(page.contains("<small>tcp/7001, ") && page.contains("tcp/7499</small>"));
    }
}
