//! The checks of a fleet as one page that needs nothing else: who reaches whom as
//! ordered, and below it each host with what others saw of it.

use std::fmt::Write;

use tipstaff_core::analysis::fleet::{Matrix, Pair};
use tipstaff_core::analysis::reach::Report;

use super::page::{STYLE, escaped, list, word};
use super::text::differences;
use crate::terminal::{counted, moment};

/// The page.
pub fn html(matrix: &Matrix) -> String {
    let (differ, unknown) = matrix.counts();
    let summary = match (differ, unknown) {
        (0, 0) => "Every host reaches every other as ordered".to_owned(),
        (0, n) => format!("Nothing observed differs from the orders; {n} unknown"),
        (n, m) => {
            let pairs = counted(n, "pair of hosts is", "pairs of hosts are");
            format!("{pairs} not as ordered, {m} unknown")
        }
    };
    let at = matrix.hosts.iter().map(|report| report.at.0).max();
    let at = at.map(|at| format!("checked on {}", moment(i64::from(at)))).unwrap_or_default();
    let hosts = counted(matrix.to.len(), "host", "hosts");
    let mut page = format!(
        "<!doctype html>\n<html lang=\"en\">\n<head>\n<meta charset=\"utf-8\">\n\
         <meta name=\"viewport\" content=\"width=device-width, initial-scale=1\">\n\
         <title>Reach of {hosts}</title>\n<style>\n{STYLE}</style>\n</head>\n<body>\n\
         <header>\n<h1>Reach of {hosts}</h1>\n<p>{at}</p>\n<p class=\"sum\">{summary}</p>\n\
         </header>\n<main>\n<div class=\"wide\" role=\"region\" aria-label=\"Who reaches whom\" \
         tabindex=\"0\">\n<table id=\"matrix\">\n<thead><tr><th scope=\"col\">from</th>"
    );
    for to in &matrix.to {
        let _ = write!(page, "<th scope=\"col\">{}</th>", escaped(to));
    }
    page.push_str("</tr></thead>\n<tbody>\n");
    for (from, pairs) in matrix.from.iter().zip(&matrix.pairs) {
        let _ = write!(page, "<tr><th scope=\"row\">{}</th>", escaped(from));
        for (to, pair) in matrix.to.iter().zip(pairs) {
            let cell = match pair {
                Pair::Itself => "·".to_owned(),
                Pair::AsOrdered { ports } => {
                    format!("as ordered ({})", counted(*ports, "port", "ports"))
                }
                Pair::Differs { differences } => {
                    format!("<a href=\"#{}\">≠ {differences} differ</a>", escaped(to))
                }
                Pair::Unknown { why } => format!("unknown: {}", escaped(why)),
            };
            let _ = write!(page, "<td>{cell}</td>");
        }
        page.push_str("</tr>\n");
    }
    page.push_str("</tbody>\n</table></div>\n");
    matrix.hosts.iter().for_each(|report| host(&mut page, report));
    page.push_str("</main>\n</body>\n</html>\n");
    page
}

/// One host, and what others saw of it.
fn host(page: &mut String, report: &Report) {
    let name = escaped(&report.host);
    let _ = write!(page, "<section id=\"{name}\">\n<h2>{name}</h2>\n");
    let told = differences(report);
    if !told.is_empty() {
        list(page, &told);
    }
    let seen = counted(report.vantages.len(), "place", "places");
    let _ = write!(
        page,
        "<details><summary>{}, seen from {seen}</summary>\n<div class=\"wide\" role=\"region\" \
         aria-label=\"Ports of {name}\" tabindex=\"0\">\n<table>\n<thead><tr><th \
         scope=\"col\">port</th>",
        counted(report.rows.len(), "port", "ports"),
    );
    for vantage in &report.vantages {
        let _ = write!(page, "<th scope=\"col\">{}</th>", escaped(&vantage.to_string()));
    }
    page.push_str("</tr></thead>\n<tbody>\n");
    for row in &report.rows {
        let _ = write!(page, "<tr><th scope=\"row\">{}</th>", escaped(&row.describe()));
        for cell in &row.cells {
            let _ = write!(page, "<td>{}</td>", escaped(&word(cell.as_ref())));
        }
        page.push_str("</tr>\n");
    }
    page.push_str("</tbody>\n</table></div></details>\n</section>\n");
}
