//! One packet from one source: the verdict, and why each rule before was passed over.

use std::net::IpAddr;

use schemars::JsonSchema;
use serde::Serialize;
use tipstaff_core::analysis::reach::speaker_words;
use tipstaff_core::brief::RuleIndex;
use tipstaff_core::decision::{Decision, Mismatch, RuleQuery, Speaker, first_mismatch};
use tipstaff_core::host::programs::ProgramNote;
use tipstaff_core::orders::{Action, Origin, Rule};
use tipstaff_core::packet::Direction;

use crate::chosen::LoadedPolicy;
use crate::ending::Ending;
use crate::failure::Failure;
use crate::shape::shape;
use crate::terminal::{Columns, Terminal, action, counted, faint, orders_words, plain};

#[derive(JsonSchema, Serialize)]
pub struct Report<'r> {
    direction: Direction,
    traffic: String,
    source: IpAddr,
    destination: IpAddr,
    interface: String,
    program: Option<&'r str>,
    verdict: Action,
    by: String,
    speaker: Speaker,
    known_by: &'static str,
    orders: &'r Origin,
    passed_over: Vec<PassedOver<'r>>,
    /// Programs that these rules name by a link, and the files that they lead to.
    links: Vec<ProgramNote>,
}

#[derive(JsonSchema, Serialize)]
struct PassedOver<'r> {
    position: usize,
    name: &'r str,
    action: Action,
    failed: Mismatch,
    because: String,
}

shape!(Report<'_> => "ask");

/// Prints the verdict and why each rule before the speaker was passed over.
pub fn answer(
    judge: &LoadedPolicy,
    asked: &RuleQuery,
    decision: Decision,
    known_by: &'static str,
    terminal: &Terminal,
) -> Result<Ending, Failure> {
    let RuleQuery { direction, key, source, destination, interface, program, .. } = *asked;
    let (end, looked_at) = match decision.speaker {
        Speaker::Rule(RuleIndex(index)) => (index as usize, index as usize + 1),
        Speaker::Standing(_) => (judge.brief.rules.len(), judge.brief.rules.len()),
        _ => (0, 0),
    };
    // Of this direction, up to the rule that decides: what a link leads to matters there.
    let mut links = judge.links();
    links.retain(|link| {
        let before = judge.brief.rules.iter().take(looked_at);
        before.into_iter().any(|r| r.direction == direction && r.program.names(&link.path))
    });
    let report = Report {
        direction,
        program: judge.brief.program(program),
        traffic: key.to_string(),
        source,
        destination,
        interface: judge.brief.interface_name(interface).unwrap_or("unknown").to_owned(),
        verdict: decision.verdict,
        by: speaker_words(&judge.brief, decision.speaker),
        speaker: decision.speaker,
        known_by,
        orders: &judge.origin,
        passed_over: passed_over(judge, asked, end),
        links,
    };
    match terminal.json {
        true => terminal.json(&report),
        false => print(&report, judge, terminal),
    }
    Ok(Ending::Fine)
}

/// The first `end` rules, each with what of the packet it does not match.
fn passed_over<'j>(judge: &'j LoadedPolicy, asked: &RuleQuery, end: usize) -> Vec<PassedOver<'j>> {
    let program = judge.brief.program(asked.program);
    let arrives = judge.brief.interface_name(asked.interface).unwrap_or("unknown");
    let rules = judge.brief.indexed().take(end);
    let passed_over = rules.filter_map(|(index, rule)| {
        let failed = first_mismatch(&judge.brief, rule, asked)?;
        Some(PassedOver {
            position: index.position(),
            name: rule.name.as_str(),
            action: rule.action,
            failed,
            because: because(rule, failed, asked, arrives, program),
        })
    });
    passed_over.collect()
}

fn print(report: &Report<'_>, judge: &LoadedPolicy, terminal: &Terminal) {
    let Report { direction, source, destination, .. } = report;
    let verdict = match (report.verdict, direction) {
        (Action::Allow, Direction::Inbound) => "let in",
        (Action::Allow, Direction::Outbound) => "let out",
        (Action::Allow, Direction::Transit) => "let through",
        (Action::Deny, _) => "dropped silently",
        (Action::Refuse, _) => "refused",
    };
    let who = match direction {
        Direction::Inbound => format!("from {source}"),
        Direction::Outbound => format!("to {destination}"),
        Direction::Transit => format!("from {source} to {destination}"),
    };
    terminal.heading(&format!("{} {who}: {verdict} by {}", report.traffic, report.by));
    terminal.note(&match report.known_by {
        "gate" => format!("answered by the gate in force; {}", orders_words(&judge.origin)),
        _ => format!("computed from the {}", orders_words(&judge.origin)),
    });
    if let Speaker::Rule(index) = report.speaker
        && let Some(rule) = judge.brief.rule(index)
    {
        if let Some(note) = &rule.note {
            terminal.line(format!("  note: {note}"));
        }
        if let Some(at_most) = &rule.at_most {
            let above = Action::from(rule.over);
            terminal.line(format!("  up to {at_most}; above that: {above}"));
        }
    }
    print_passed_over(report, judge, terminal);
    for link in &report.links {
        terminal.note(&link.to_string());
    }
}

/// Rules of another direction or host were never in question: they are counted.
fn print_passed_over(report: &Report<'_>, judge: &LoadedPolicy, terminal: &Terminal) {
    let (in_question, others): (Vec<_>, Vec<_>) = report.passed_over.iter().partition(|rule| {
        let direction = judge.brief.rules.get(rule.position - 1).map(|rule| rule.direction);
        rule.failed != Mismatch::Host && direction == Some(report.direction)
    });
    if !in_question.is_empty() {
        let mut table = Columns::new(["", "passed over", "action", "because"]);
        for rule in in_question {
            let says = action(rule.action, rule.action);
            table.row([faint(rule.position), plain(rule.name), says, plain(&rule.because)]);
        }
        terminal.table(&table);
    }
    if !others.is_empty() {
        let rules = counted(others.len(), "rule", "rules");
        terminal.note(&format!("{rules} above it for other hosts or directions"));
    }
}

fn because(
    rule: &Rule,
    failed: Mismatch,
    asked: &RuleQuery,
    arrives: &str,
    program: Option<&str>,
) -> String {
    fn outside(what: &dyn std::fmt::Display, written: &[String], except: &[String]) -> String {
        match (written, except) {
            ([], [only]) if *only == what.to_string() => format!("it excepts {what}"),
            ([], except) => format!("{what} is in {}, which it excludes", except.join(", ")),
            (written, []) => format!("{what} is not in {}", written.join(", ")),
            (written, except) => {
                format!("{what} is not in {} without {}", written.join(", "), except.join(", "))
            }
        }
    }
    match failed {
        Mismatch::Paused => "it is paused".into(),
        Mismatch::Group => "its group is paused".into(),
        Mismatch::Posture => "it applies in other postures".into(),
        Mismatch::Host => "it is for other hosts".into(),
        Mismatch::Expired => match rule.until {
            Some(until) => format!("it expired at {until}"),
            None => "it has expired".into(),
        },
        Mismatch::Direction => format!("it is {}", rule.direction),
        Mismatch::Family => format!("{} belongs to the other address family", asked.source),
        Mismatch::Traffic => outside(&asked.key, &rule.traffic.written, &rule.traffic.except),
        Mismatch::Source => outside(&asked.source, &rule.source.written, &rule.source.except),
        Mismatch::Destination => {
            outside(&asked.destination, &rule.destination.written, &rule.destination.except)
        }
        Mismatch::Interface => outside(&arrives, &rule.interface.written, &rule.interface.except),
        Mismatch::Program => outside(
            &program.unwrap_or("the program"),
            &rule.program.files,
            &rule.program.files_except,
        ),
    }
}
