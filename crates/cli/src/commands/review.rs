//! `review`: read orders for mistakes, without traffic.

use std::collections::HashMap;

use schemars::JsonSchema;
use serde::Serialize;
use tipstaff_core::analysis::review::{Finding, GAVE_UP, Review, ReviewContext, fix, review};
use tipstaff_core::orders::Severity;
use tipstaff_gate::kernel::executables;
use tipstaff_host::{interfaces, listeners};

use crate::acts::seen::{self, Seen};
use crate::acts::shell;
use crate::arguments::{Common, Level, ReviewOptions};
use crate::chosen;
use crate::ending::Ending;
use crate::failure::{Failure, system};
use crate::sarif;
use crate::shape::shape;
use crate::store::Held;
use crate::terminal::orders_words;
use crate::terminal::{Terminal, counted};
use tipstaff_core::orders::Origin;

#[derive(JsonSchema, Serialize)]
pub struct Report<'r> {
    orders: &'r Origin,
    fixed: Vec<Finding>,
    #[serde(flatten)]
    review: &'r Review,
}

shape!(Report<'_> => "review");

pub fn run(
    common: &Common,
    options: &ReviewOptions,
    terminal: &Terminal,
) -> Result<Ending, Failure> {
    let path = options.file.as_deref().unwrap_or(common.orders_path());
    let fixed = if options.fix { help(common, path)? } else { Vec::new() };
    let judge = chosen::of_file_at(common, path)?;
    let heard = match options.elsewhere {
        true => None,
        false => {
            let all = interfaces::list().map_err(system("reading the interfaces"))?;
            Some(listeners::list(&all).map_err(system("reading the sockets"))?.listeners)
        }
    };
    let cut_off = match options.elsewhere {
        true => None,
        false => shell::shut_out(&judge.brief)?,
    };
    let notes = match options.elsewhere {
        true => Vec::new(),
        false => executables::notes(&judge.brief),
    };
    let seen = match options.elsewhere {
        true => Seen::default(),
        false => seen::here(common, &judge.brief),
    };
    let around = ReviewContext {
        unmatched: &seen.unmatched,
        wanted: &seen.wanted,
        programs: &notes,
        listeners: heard.as_deref(),
        orders: Some(&judge.orders),
        cut_off: cut_off.as_ref().map(|(what, help)| (what.as_str(), help.as_str())),
        now: chosen::now(),
    };
    let reviewing = tracing::info_span!("reviewing the rules").entered();
    let found = review(&judge.brief, &around);
    drop(reviewing);
    let least = match options.fail_on {
        Level::Note => Severity::Note,
        Level::Warning => Severity::Warning,
        Level::Error => Severity::Error,
    };
    let grave = found.findings.iter().any(|finding| finding.severity >= least);
    // What was not looked at may be anything.
    let fails = grave || found.gave_up;
    if options.sarif {
        terminal.foreign_json(&sarif::log(path, &found));
    } else if terminal.json {
        terminal.json(&Report { orders: &judge.origin, fixed, review: &found });
    } else {
        if options.fix {
            show_fixed(path, &fixed, terminal);
        }
        show(&judge.origin, path, &found, terminal);
    }
    Ok(if fails { Ending::Differs } else { Ending::Fine })
}

/// Takes out what changes nothing anywhere; each file is a whole edit.
fn help(common: &Common, path: &std::path::Path) -> Result<Vec<Finding>, Failure> {
    let mut fixed = Vec::new();
    loop {
        // What cannot be read is told as any other command tells it.
        let judge = chosen::of_file_at(common, path)?;
        let held = Held::open(path)?;
        let Some(fix) = fix(held.sheets(), &judge.brief, chosen::now()) else {
            return Ok(fixed);
        };
        held.replace(fix.edited.part.as_deref(), &fix.edited.text)?;
        fixed.extend(fix.findings);
    }
}

fn show_fixed(path: &std::path::Path, fixed: &[Finding], terminal: &Terminal) {
    terminal.heading(&counted(fixed.len(), "rule taken out", "rules taken out"));
    for Finding { code, rule, what, file, .. } in fixed {
        let file = file.clone().unwrap_or_else(|| path.display().to_string());
        let rule = rule.as_deref().unwrap_or_default();
        terminal.line(format!("  {rule} ({}): {what}", code.name()));
        terminal.note(&format!("    was in {file}; without it every packet gets the same answer"));
    }
}

/// Tells what was found.
pub fn show(origin: &Origin, path: &std::path::Path, review: &Review, terminal: &Terminal) {
    let Review { findings, accepted, gave_up } = review;
    terminal.heading(&counted(findings.len(), "finding", "findings"));
    terminal.note(&orders_words(origin));
    for severity in [Severity::Error, Severity::Warning, Severity::Note] {
        // The same of many rules is told once.
        let mut groups: Vec<Vec<&Finding>> = Vec::new();
        let mut known = HashMap::new();
        for finding in findings.iter().filter(|finding| finding.severity == severity) {
            let same = finding.rule.is_some().then_some((finding.code, &finding.what));
            match same.and_then(|same| known.get(&same)) {
                Some(at) => {
                    let group: &mut Vec<&Finding> = &mut groups[*at];
                    group.push(finding);
                }
                None => {
                    known.extend(same.map(|same| (same, groups.len())));
                    groups.push(vec![finding]);
                }
            }
        }
        groups.iter().for_each(|group| tell(path, group, terminal));
    }
    if *accepted > 0 {
        terminal.note(&format!("{accepted} more are accepted, with a reason in the orders"));
    }
    if *gave_up {
        terminal.line(format!("not everything was checked: {GAVE_UP}"));
    }
}

/// So many rules are named of those that one finding is about.
const NAMED: usize = 6;

/// Tells a finding, or the same of several rules.
fn tell(path: &std::path::Path, findings: &[&Finding], terminal: &Terminal) {
    let [Finding { code, severity, file, line, what, help, .. }, rest @ ..] = findings else {
        return;
    };
    let level = match severity {
        Severity::Error => "error",
        Severity::Warning => "warning",
        Severity::Note => "note",
    };
    let named =
        |finding: &&Finding| Some(format!("{} ({})", finding.position?, finding.rule.as_ref()?));
    let names: Vec<String> = findings.iter().filter_map(named).collect();
    let subject = match names.as_slice() {
        [] => String::new(),
        [one] => format!("rule {one}: "),
        several => {
            let more = match several.len().saturating_sub(NAMED) {
                0 => String::new(),
                more => format!(" and {more} more"),
            };
            format!("rules {}{more}: ", several[..several.len().min(NAMED)].join(", "))
        }
    };
    terminal.line(format!("\n  {level:<8} {:<19} {subject}{what}", code.name()));
    let shown = file.clone().unwrap_or_else(|| path.display().to_string());
    let from = if rest.is_empty() { "" } else { "from " };
    let place = line.map(|line| format!(" ({from}{shown}:{line})")).unwrap_or_default();
    terminal.note(&format!("           {}{place}", code.why()));
    let each = if rest.is_empty() { "" } else { "Each: " };
    terminal.line(format!("           {each}{help}"));
}
