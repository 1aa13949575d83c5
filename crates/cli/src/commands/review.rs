//! `review`: read orders for mistakes, without traffic.

use serde::Serialize;
use tipstaff_core::review::{Finding, Review, Severity, review};
use tipstaff_host::{interfaces, listeners};

use crate::Ending;
use crate::arguments::{Common, Level, ReviewOptions};
use crate::chosen::{self, Origin};
use crate::failure::{Failure, system};
use crate::terminal::{Terminal, counted};

#[derive(Serialize)]
struct Report<'r> {
    orders: &'r Origin,
    #[serde(flatten)]
    review: &'r Review,
}

pub fn run(
    common: &Common,
    options: &ReviewOptions,
    terminal: &Terminal,
) -> Result<Ending, Failure> {
    let path = options.file.as_deref().unwrap_or(common.orders_path());
    let judge = chosen::of_file_at(common, path)?;
    let heard = match options.elsewhere {
        true => None,
        false => {
            let all = interfaces::list().map_err(system("reading the interfaces"))?;
            Some(listeners::list(&all).map_err(system("reading the sockets"))?.listeners)
        }
    };
    let found = review(&judge.brief, heard.as_deref(), chosen::now());
    let least = match options.fail_on {
        Level::Note => Severity::Note,
        Level::Warning => Severity::Warning,
        Level::Error => Severity::Error,
    };
    let fails = found.findings.iter().any(|finding| finding.severity >= least);
    if terminal.json {
        terminal.json(&Report { orders: &judge.origin, review: &found });
    } else {
        show(&judge.origin, path, &found, terminal);
    }
    Ok(if fails { Ending::Differs } else { Ending::Fine })
}

fn show(origin: &Origin, path: &std::path::Path, review: &Review, terminal: &Terminal) {
    let Review { findings, accepted, gave_up } = review;
    terminal.heading(&counted(findings.len(), "finding", "findings"));
    terminal.note(&origin.words());
    for severity in [Severity::Error, Severity::Warning, Severity::Note] {
        for finding in findings.iter().filter(|finding| finding.severity == severity) {
            tell(path, finding, terminal);
        }
    }
    if *accepted > 0 {
        terminal.note(&format!("{accepted} more are accepted, with a reason in the orders"));
    }
    if *gave_up {
        terminal.line(
            "the list is too tangled to know all of what never speaks or would not be missed",
        );
    }
}

fn tell(path: &std::path::Path, finding: &Finding, terminal: &Terminal) {
    let Finding { code, severity, rule, position, file, line, what, mend } = finding;
    let level = match severity {
        Severity::Error => "error",
        Severity::Warning => "warning",
        Severity::Note => "note",
    };
    let subject = match (rule, position) {
        (Some(rule), Some(position)) => format!("rule {position} ({rule}): "),
        _ => String::new(),
    };
    terminal.line(format!("\n  {level:<8} {:<19} {subject}{what}", code.name()));
    let shown = file.clone().unwrap_or_else(|| path.display().to_string());
    let place = line.map(|line| format!(" ({shown}:{line})")).unwrap_or_default();
    terminal.note(&format!("           {}{place}", code.why()));
    terminal.line(format!("           {mend}"));
}
