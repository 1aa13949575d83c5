//! `fleet log`: what hosts have written down, in the order of time; or who came up most
//! over all of them.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use tipstaff_core::analysis::fleet::{Seen, SeenByAll, top};

use super::Fleet;
use super::tally::Missing;
use crate::acts::decisions::{Line, as_text};
use crate::acts::fleet::message::Request;
use crate::acts::fleet::{Asked, Fault, first, named};
use crate::arguments::{DecisionOptions, FleetLogOptions, Top};
use crate::ending::Ending;
use crate::failure::Failure;
use crate::shape::shape;
use crate::terminal::{Columns, Terminal, counted, faint, moment, plain};

/// Lines of each host where nobody says how many.
const LINES: usize = 100;
/// Rows of `--top`, likewise.
const TOP: usize = 10;
/// So many rows of `--top` are asked of each host, so that who is low on each list and high
/// on all is found.
const ASKED: usize = 10_000;

/// One decision of one host: a line of JSON.
#[derive(JsonSchema, Serialize)]
pub struct Decisions<'r> {
    host: &'r str,
    #[serde(flatten)]
    line: &'r Line,
}

/// Who came up most.
#[derive(JsonSchema, Serialize)]
pub struct Tops {
    rows: Vec<SeenByAll>,
    /// Rows that `--count` leaves out.
    more: usize,
    /// Hosts that could not be asked.
    missing: Vec<Missing>,
}

shape!(Decisions<'_> => "fleet-decision", Tops => "fleet-log-counts");

/// What a host's `log --top --json` says.
#[derive(Deserialize)]
struct Counted {
    rows: Vec<Seen>,
}

pub fn run(
    fleet: &Fleet,
    options: &FleetLogOptions,
    terminal: &Terminal,
) -> Result<Ending, Failure> {
    let hosts = fleet.hosts(&options.hosts)?;
    let request = Request::new(vec![words(options)]);
    let asked: Vec<Asked<'_>> =
        hosts.iter().map(|host| Asked::new(host, request.clone())).collect();
    let answers = fleet.crowd.ask(&asked, "asking for the log", terminal);
    let (mut found, mut missing) = (Vec::new(), Vec::new());
    for (host, answer) in hosts.iter().zip(answers) {
        let ran = answer.and_then(|answer| match first(&answer)? {
            ran if ran.exit_code != Some(0) => Err(Fault::Refused(ran.why())),
            ran => Ok(ran.clone()),
        });
        match ran {
            Ok(ran) => {
                // It has no log, or there are gaps in it, and it says so.
                let said = ran.errors.lines().filter(|line| !line.trim().is_empty());
                let said = said.map(|line| line.trim_start_matches("tipstaff: "));
                missing.extend(said.map(|line| Missing::new(&host.name, line)));
                found.push((host.name.as_str(), ran));
            }
            Err(fault) => missing.push(Missing::new(&host.name, fault)),
        }
    }
    if let Some(of) = options.top {
        let mut counts = Vec::new();
        for (host, ran) in &found {
            match ran.json::<Counted>("log-counts") {
                Ok(counted) => counts.push((*host, counted.rows)),
                Err(why) => missing.push(Missing::new(host, why)),
            }
        }
        let is_whole = missing.is_empty();
        let mut rows = top(counts);
        let most = options.count.unwrap_or(TOP);
        let more = rows.len().saturating_sub(most);
        rows.truncate(most);
        match terminal.json {
            true => terminal.json(&Tops { rows, more, missing }),
            false => show_top(&rows, more, of, &missing, terminal),
        }
        return Ok(ending(is_whole));
    }
    let mut lines: Vec<(&str, Line)> = Vec::new();
    for (host, ran) in &found {
        let mut unread = 0;
        for text in ran.output.lines().filter(|line| !line.trim().is_empty()) {
            match serde_json::from_str(text) {
                Ok(line) => lines.push((*host, line)),
                // A gap is no decision.
                Err(_) if text.contains("\"tipstaff.log-gap/") => {}
                Err(_) => unread += 1,
            }
        }
        if unread > 0 {
            let lines = counted(unread, "line", "lines");
            missing.push(Missing::new(host, format!("{lines} of another form")));
        }
    }
    // RFC 3339 in UTC sorts as text; what one host wrote stays in its order.
    lines.sort_by(|(_, a), (_, b)| a.time.cmp(&b.time));
    show_lines(&lines, &missing, terminal);
    Ok(ending(missing.is_empty()))
}

fn ending(is_whole: bool) -> Ending {
    if is_whole { Ending::Fine } else { Ending::Unknown }
}

/// The command that each host runs.
fn words(options: &FleetLogOptions) -> Vec<String> {
    let mut words: Vec<String> = vec!["log".into(), "--json".into()];
    let mut option = |name: &str, value: &str| words.extend([name.to_owned(), value.to_owned()]);
    for (name, value) in [("--since", &options.since), ("--until", &options.until)] {
        if let Some(value) = value {
            option(name, value);
        }
    }
    fn word(value: impl clap::ValueEnum) -> String {
        value.to_possible_value().map(|value| value.get_name().to_owned()).unwrap_or_default()
    }
    match options.top {
        Some(of) => {
            option("--top", &word(of));
            option("--count", &ASKED.to_string());
        }
        None => option("--count", &options.count.unwrap_or(LINES).to_string()),
    }
    let DecisionOptions {
        rules,
        verdicts,
        sources,
        destinations,
        traffic,
        programs,
        ways,
        interfaces,
        rehearsed,
    } = &options.decisions;
    let verdicts: Vec<String> = verdicts.iter().copied().map(word).collect();
    let ways: Vec<String> = ways.iter().copied().map(word).collect();
    for (name, values) in [
        ("--rule", rules),
        ("--verdict", &verdicts),
        ("--source", sources),
        ("--destination", destinations),
        ("--traffic", traffic),
        ("--program", programs),
        ("--direction", &ways),
        ("--interface", interfaces),
    ] {
        values.iter().for_each(|value| option(name, value));
    }
    words.extend(rehearsed.then(|| "--rehearsed".to_owned()));
    words
}

fn local(time: &str) -> String {
    let read = time.parse::<jiff::Timestamp>();
    read.map_or_else(|_| time.to_owned(), |time| moment(time.as_second()))
}

fn show_lines(lines: &[(&str, Line)], missing: &[Missing], terminal: &Terminal) {
    if terminal.json {
        lines.iter().for_each(|(host, line)| terminal.json_line(&Decisions { host, line }));
        missing.iter().for_each(|one| terminal.warning(&format!("{}: {}", one.host, one.why)));
        return;
    }
    if terminal.is_csv() {
        let heads =
            ["host", "time", "verdict", "direction", "traffic", "source", "destination", "by"];
        let mut table = Columns::new(heads);
        for (host, line) in lines {
            let (verdict, way) = (line.verdict.to_string(), line.direction.to_string());
            let cells = [
                *host,
                &line.time,
                &verdict,
                &way,
                &line.traffic,
                &line.source,
                &line.destination,
                &line.by,
            ];
            table.row(cells.map(plain));
        }
        terminal.table(&table);
        return;
    }
    let wide = lines.iter().map(|(host, _)| host.len()).max().unwrap_or_default();
    for (host, line) in lines {
        terminal.line(format!("{host:wide$}  {}", as_text(&local(&line.time), &line.entry())));
    }
    if lines.is_empty() {
        terminal.line("Nothing like that is in the logs.");
    }
    Missing::tell(missing, terminal);
}

fn show_top(rows: &[SeenByAll], more: usize, of: Top, missing: &[Missing], terminal: &Terminal) {
    let heading = match of {
        Top::Sources => "source",
        Top::Ports => "traffic",
        Top::Rules => "decided by",
        Top::Programs => "program",
    };
    let mut table = Columns::new([heading, "turned away", "let in", "first", "last", "hosts"]);
    for SeenByAll { seen, hosts } in rows {
        let hosts: Vec<&str> = hosts.iter().map(String::as_str).collect();
        table.row([
            plain(&seen.name),
            plain(seen.turned_away),
            plain(seen.allowed),
            plain(local(&seen.first)),
            plain(local(&seen.last)),
            faint(named(&hosts)),
        ]);
    }
    match rows.is_empty() {
        true => terminal.line("Nothing like that is in the logs."),
        false => terminal.table(&table),
    }
    if more > 0 {
        terminal.note(&format!("{more} more; --count shows more"));
    }
    Missing::tell(missing, terminal);
}
