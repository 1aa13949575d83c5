//! `fleet tally`: what the rules of all hosts have counted, added up and by host.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use tipstaff_core::analysis::fleet::{Counts, Sum, add_up};
use tipstaff_core::orders::Origin;

use super::Fleet;
use crate::acts::fleet::message::Request;
use crate::acts::fleet::{Asked, Fault, alike, first, named};
use crate::ending::Ending;
use crate::failure::Failure;
use crate::shape::shape;
use crate::terminal::{Columns, Terminal, bytes, counted, faint, orders_words, packets, plain};

#[derive(JsonSchema, Serialize)]
pub struct Report<'r> {
    orders: &'r Origin,
    /// Hosts that were added up.
    hosts: Vec<&'r str>,
    rows: Vec<Sum>,
    /// Hosts that could not be asked.
    missing: Vec<Missing>,
}

shape!(Report<'_> => "fleet-tally");

/// A host that could not be asked.
#[derive(Clone, Debug, PartialEq, Eq, JsonSchema, Serialize)]
pub struct Missing {
    pub host: String,
    pub why: String,
}

impl Missing {
    pub fn new(host: &str, why: impl ToString) -> Self {
        Self { host: host.to_owned(), why: why.to_string() }
    }

    /// Tells of those who are missing, the same reason once.
    pub fn tell(all: &[Self], terminal: &Terminal) {
        let said = all.iter().map(|one| (one.host.as_str(), &one.why, &one.why));
        for (why, hosts) in alike(said) {
            terminal.line(format!("not included: {}: {why}", named(&hosts)));
        }
    }
}

/// What a host's `tally --json` says, as far as it is looked at here.
#[derive(Deserialize)]
struct Counted {
    rows: Vec<Row>,
}

#[derive(Deserialize)]
struct Row {
    by: String,
    name: Option<String>,
    #[serde(flatten)]
    counts: Counts,
}

impl Row {
    /// Rules stand at other places on other hosts; their names are the same.
    fn known_by(self) -> (String, Counts) {
        (self.name.map_or(self.by, |name| format!("rule {name}")), self.counts)
    }
}

pub fn run(
    fleet: &Fleet,
    selectors: &[String],
    by_host: bool,
    all: bool,
    terminal: &Terminal,
) -> Result<Ending, Failure> {
    let hosts = fleet.hosts(selectors)?;
    let words = ["tally", "--json"].into_iter().chain(all.then_some("--all"));
    let request = Request::new(vec![words.map(str::to_owned).collect()]);
    let asked: Vec<Asked<'_>> =
        hosts.iter().map(|host| Asked::new(host, request.clone())).collect();
    let answers = fleet.crowd.ask(&asked, "asking for the counts", terminal);
    let (mut found, mut missing) = (Vec::new(), Vec::new());
    for (host, answer) in hosts.iter().zip(answers) {
        let rows = answer.and_then(|answer| {
            let counted: Counted = first(&answer)?.json("tally").map_err(Fault::Refused)?;
            Ok(counted.rows.into_iter().map(Row::known_by).collect::<Vec<_>>())
        });
        match rows {
            Ok(rows) => found.push((host.name.as_str(), rows)),
            Err(fault) => missing.push(Missing::new(&host.name, fault)),
        }
    }
    let known: Vec<&str> = found.iter().map(|(host, _)| *host).collect();
    let rows = add_up(found);
    let ending = if missing.is_empty() { Ending::Fine } else { Ending::Unknown };
    let report = Report { orders: &fleet.origin, hosts: known, rows, missing };
    match terminal.json {
        true => terminal.json(&report),
        false => show(&report, by_host, terminal),
    }
    Ok(ending)
}

fn show(report: &Report<'_>, by_host: bool, terminal: &Terminal) {
    let packets = packets(report.rows.iter().map(|row| row.counts.packets).sum());
    let hosts = counted(report.hosts.len(), "host", "hosts");
    terminal.heading(&format!("{packets} on {hosts}"));
    terminal.note(&orders_words(report.orders));
    let mut table =
        Columns::new(["decided by", "host", "packets", "bytes", "connections", "beyond its rate"]);
    fn some(n: u64) -> comfy_table::Cell {
        if n == 0 { faint("–") } else { plain(n) }
    }
    fn cells(counts: Counts) -> [comfy_table::Cell; 4] {
        [
            plain(counts.packets),
            plain(bytes(counts.bytes)),
            some(counts.connections),
            some(counts.beyond),
        ]
    }
    for Sum { by, counts, hosts } in &report.rows {
        let of = match by_host {
            true => "all".to_owned(),
            false => counted(hosts.len(), "host", "hosts"),
        };
        table.row([plain(by), plain(of)].into_iter().chain(cells(*counts)));
        for one in hosts.iter().filter(|one| by_host && !one.counts.is_empty()) {
            table.row([faint(""), plain(&one.host)].into_iter().chain(cells(one.counts)));
        }
    }
    match report.rows.is_empty() {
        true => terminal.line("Nothing was counted."),
        false => terminal.table(&table),
    }
    Missing::tell(&report.missing, terminal);
}
