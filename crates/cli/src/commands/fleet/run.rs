//! `fleet run`: any command of tipstaff on many hosts.

use schemars::JsonSchema;
use serde::Serialize;

use super::Fleet;
use crate::acts::fleet::message::{Ran, Request};
use crate::acts::fleet::{Asked, alike, first, named};
use crate::ending::Ending;
use crate::failure::Failure;
use crate::shape::shape;
use crate::terminal::Terminal;

#[derive(JsonSchema, Serialize)]
pub struct Report<'r> {
    /// The command and its arguments.
    command: &'r [String],
    hosts: Vec<Row<'r>>,
}

shape!(Report<'_> => "fleet-run");

#[derive(JsonSchema, Serialize)]
struct Row<'r> {
    host: &'r str,
    /// How it ended there; null where the host could not be asked, or refused.
    #[serde(flatten)]
    ran: Option<Ran>,
    /// Why it was not run.
    fault: Option<String>,
}

pub fn run(
    fleet: &Fleet,
    selectors: &[String],
    command: &[String],
    terminal: &Terminal,
) -> Result<Ending, Failure> {
    let hosts = fleet.hosts(selectors)?;
    let mut words = command.to_vec();
    if terminal.json && !words.iter().any(|word| word == "--json") {
        words.push("--json".into());
    }
    let request = Request::new(vec![words]);
    let asked: Vec<Asked<'_>> =
        hosts.iter().map(|host| Asked::new(host, request.clone())).collect();
    let answers = fleet.crowd.ask(&asked, "running it", terminal);
    let rows: Vec<Row<'_>> = hosts
        .iter()
        .zip(answers)
        .map(|(host, answer)| match answer.and_then(|answer| first(&answer).cloned()) {
            Ok(ran) => Row { host: &host.name, ran: Some(ran), fault: None },
            Err(fault) => Row { host: &host.name, ran: None, fault: Some(fault.to_string()) },
        })
        .collect();
    let unknown = rows.iter().any(|row| row.ran.is_none());
    let failed = rows.iter().filter_map(|row| row.ran.as_ref()).any(|ran| ran.exit_code != Some(0));
    match terminal.json {
        true => terminal.json(&Report { command, hosts: rows }),
        false => show(&rows, terminal),
    }
    Ok(match (failed, unknown) {
        (true, _) => Ending::Differs,
        (false, true) => Ending::Unknown,
        (false, false) => Ending::Fine,
    })
}

fn show(rows: &[Row<'_>], terminal: &Terminal) {
    for (row, names) in alike(rows.iter().map(|row| (row.host, (&row.ran, &row.fault), row))) {
        let how = match &row.ran {
            Some(Ran { exit_code: Some(0), .. }) => String::new(),
            Some(Ran { exit_code: Some(code), .. }) => format!(" (exit code {code})"),
            Some(Ran { exit_code: None, .. }) => " (ended by a signal)".into(),
            None => " (not run)".into(),
        };
        terminal.heading(&format!("{}{how}", named(&names)));
        if let Some(fault) = &row.fault {
            terminal.line(format!("  {fault}"));
        }
        let ran = row.ran.iter().flat_map(|ran| ran.output.lines().chain(ran.errors.lines()));
        ran.skip_while(|line| line.trim().is_empty())
            .for_each(|line| terminal.line(format!("  {line}")));
    }
}
