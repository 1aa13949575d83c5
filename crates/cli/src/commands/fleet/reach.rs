//! `fleet reach`: every host checks every other, each from its own address.

use std::path::{Path, PathBuf};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use tipstaff_core::analysis::fleet::{Matrix, Pair, explain, matrix};
use tipstaff_core::analysis::reach::{self, Changes};
use tipstaff_core::orders::{Host, Origin};
use tipstaff_host::files::{self, Access, MOST_TEXT};

use super::Fleet;
use crate::acts::fleet::message::Request;
use crate::acts::fleet::{Asked, alike, first, named};
use crate::acts::last_check;
use crate::acts::reported::{fleet_page, text};
use crate::arguments::{Common, FleetReachOptions};
use crate::ending::Ending;
use crate::failure::Failure;
use crate::shape::{self, Tagged, shape};
use crate::terminal::{Columns, Terminal, counted, faint, loud, orders_words, plain};

#[derive(JsonSchema, Serialize)]
pub struct Report<'r> {
    orders: &'r Origin,
    #[serde(flatten)]
    matrix: &'r Matrix,
    /// Pairs of hosts that are not as ordered.
    differ: usize,
    /// Pairs that could not be found out.
    unknown: usize,
    /// Since the last such check, by host; null: nobody asked.
    changes: Option<Vec<HostChanges>>,
}

shape!(Report<'_> => "fleet-reach");

/// What has opened or closed on a host.
#[derive(JsonSchema, Serialize)]
struct HostChanges {
    host: String,
    changes: Changes,
}

/// What the last check kept.
#[derive(JsonSchema, Serialize, Deserialize)]
struct Kept {
    hosts: Vec<reach::Report>,
}

shape!(Kept => "kept-fleet-reach");

/// More pairs than these nobody asks for by leaving out the selectors.
const MOST_PAIRS: usize = 10_000;
/// A table with more columns is nothing for a terminal.
const WIDE: usize = 12;

pub fn run(
    common: &Common,
    fleet: &Fleet,
    options: &FleetReachOptions,
    terminal: &Terminal,
) -> Result<Ending, Failure> {
    let (from, to) = (fleet.hosts(&options.from)?, fleet.hosts(&options.to)?);
    if from.len() * to.len() > MOST_PAIRS {
        return Err(Failure::Argument {
            message: format!("{} hosts would check {} hosts each", from.len(), to.len()),
            help: "Choose some by --from and --to.".into(),
        });
    }
    let asked: Vec<Asked<'_>> = from
        .iter()
        .map(|host| {
            let others = to.iter().filter(|other| other.name != host.name);
            let commands = others.map(|other| check_of(host, other)).collect();
            Asked::new(host, Request::new(commands).with_orders(&fleet.sheets))
        })
        .collect();
    let answers = fleet.crowd.ask(&asked, "checking", terminal);
    let seen = from
        .iter()
        .zip(answers)
        .map(|(host, answer)| {
            let mut ran =
                answer.as_ref().map(|answer| answer.ran.iter()).map_err(ToString::to_string);
            to.iter()
                .map(|other| {
                    if other.name == host.name {
                        return None;
                    }
                    Some(match &mut ran {
                        Err(why) => Err(why.clone()),
                        Ok(ran) => match ran.next() {
                            None => Err("an empty answer".into()),
                            Some(ran) => {
                                ran.json::<reach::Report>("reach").and_then(last_check::possible)
                            }
                        },
                    })
                })
                .collect()
        })
        .collect();
    fn names(hosts: &[&Host]) -> Vec<String> {
        hosts.iter().map(|host| host.name.clone()).collect()
    }
    let mut matrix = matrix(names(&from), names(&to), seen).map_err(|fault| Failure::Argument {
        message: format!("these reports cannot be merged: {fault}"),
        help: "A host answers for another one; look at their names.".into(),
    })?;
    explained(fleet, &to, &mut matrix, terminal);
    let before = if options.changes { kept(common) } else { None };
    if options.changes && before.is_none() {
        terminal.warning("there is no earlier check of the fleet to compare with");
    }
    let changes = before.as_ref().map(|before| changes(before, &matrix.hosts));
    keep(common, &matrix, options.changes, terminal);
    let (differ, unknown) = matrix.counts();
    if terminal.json {
        let orders = &fleet.origin;
        terminal.json(&Report { orders, matrix: &matrix, differ, unknown, changes });
    } else if let (Some(before), Some(changes)) = (&before, &changes) {
        show_changes(before, changes, &matrix, terminal);
    } else {
        show(&fleet.origin, &matrix, terminal);
    }
    if let Some(path) = &options.html {
        let text = fleet_page::html(&matrix);
        let written = files::replace(path, text.as_bytes(), Access::Usual);
        written.map_err(|source| Failure::Unwritable { path: path.clone(), source })?;
    }
    Ok(match (differ, unknown, before.is_some()) {
        (0, 0, false) => Ending::Fine,
        (0, _, false) => Ending::Unknown,
        (_, _, false) => Ending::Differs,
        // Who asks what has changed has heard of the rest.
        (..) => match changed_nothing(&before, &matrix) {
            true => Ending::Fine,
            false => Ending::Differs,
        },
    })
}

/// Others see only that something is not as ordered: asks each such host why, with the
/// witness in the place of those who saw it.
fn explained(fleet: &Fleet, to: &[&Host], matrix: &mut Matrix, terminal: &Terminal) {
    let unclear: Vec<usize> =
        (0..matrix.hosts.len()).filter(|nth| matrix.hosts[*nth].differences > 0).collect();
    let asked: Vec<Asked<'_>> = unclear
        .iter()
        .filter_map(|nth| {
            let report = &matrix.hosts[*nth];
            let host = to.iter().find(|host| host.name == report.host)?;
            let words = ["reach", "--json", "--host", &host.name].map(str::to_owned);
            let sources = Matrix::sources(report).into_iter();
            let played = sources.flat_map(|source| ["--as".to_owned(), source.to_string()]);
            let request = Request::new(vec![words.into_iter().chain(played).collect()]);
            Some(Asked::new(host, request.with_orders(&fleet.sheets)))
        })
        .collect();
    let answers = fleet.crowd.ask(&asked, "asking why", terminal);
    for (nth, answer) in unclear.into_iter().zip(answers) {
        let within = answer.ok().and_then(|answer| {
            let report: reach::Report = first(&answer).ok()?.json("reach").ok()?;
            last_check::possible(report).ok()
        });
        // Without it the reason stays what others can tell.
        if let Some(within) = within {
            explain(&mut matrix.hosts[nth], &within);
        }
    }
}

fn check_of(host: &Host, other: &Host) -> Vec<String> {
    let words = ["reach", "--target", &other.name, "--host", &host.name, "--json"];
    words.map(str::to_owned).to_vec()
}

fn changes(before: &Kept, now: &[reach::Report]) -> Vec<HostChanges> {
    let both = now.iter().filter_map(|now| Some((report_of(&before.hosts, &now.host)?, now)));
    let all = both.map(|(before, now)| (now, reach::changes(before, now)));
    all.filter(|(_, changes)| !changes.is_empty())
        .map(|(now, changes)| HostChanges { host: now.host.clone(), changes })
        .collect()
}

fn report_of<'r>(reports: &'r [reach::Report], host: &str) -> Option<&'r reach::Report> {
    reports.iter().find(|report| report.host == host)
}

fn changed_nothing(before: &Option<Kept>, matrix: &Matrix) -> bool {
    before.as_ref().is_some_and(|before| changes(before, &matrix.hosts).is_empty())
}

fn place(common: &Common) -> Option<PathBuf> {
    Some(last_check::folder(common)?.join("fleet-reach.json"))
}

/// What the last checks kept; `None`: nothing that can be read.
fn kept(common: &Common) -> Option<Kept> {
    let path = place(common).filter(|path| path.exists())?;
    let text = files::text(&path, 8 * MOST_TEXT).ok()?;
    shape::check(&text, <Kept as shape::Shape>::NAME).ok()?;
    serde_json::from_str(&text).ok()
}

/// Keeps what was seen for the next `--changes`: of hosts that were not checked, and by those
/// that did not check, what was seen before.
fn keep(common: &Common, matrix: &Matrix, is_asked_for: bool, terminal: &Terminal) {
    let mut hosts = kept(common).map(|kept| kept.hosts).unwrap_or_default();
    for new in &matrix.hosts {
        let place = hosts.iter().position(|old| old.host == new.host);
        let old = place.map(|place| hosts.swap_remove(place));
        let is_part = old
            .as_ref()
            .is_some_and(|old| old.vantages.iter().any(|vantage| !new.vantages.contains(vantage)));
        let both = old.filter(|_| is_part).and_then(|old| reach::merge(&[old, new.clone()]).ok());
        hosts.push(both.unwrap_or_else(|| new.clone()));
    }
    let kept = Kept { hosts };
    let write = |path: &Path| {
        files::make_folder(files::folder(path), 0o700)?;
        let text = serde_json::to_vec(&Tagged::new(&kept)).map_err(std::io::Error::other)?;
        files::replace(path, &text, Access::Mode(0o600))
    };
    let written = match place(common) {
        Some(path) => write(&path),
        None => Err(std::io::Error::other("this account has no home directory")),
    };
    if let (Err(e), true) = (written, is_asked_for) {
        terminal.warning(&format!("this check cannot be saved for the next --changes: {e}"));
    }
}

fn show(orders: &Origin, matrix: &Matrix, terminal: &Terminal) {
    let (differ, unknown) = matrix.counts();
    let all: usize = matrix.pairs.iter().flatten().filter(|pair| **pair != Pair::Itself).count();
    let mut words = vec![counted(all, "pair of hosts", "pairs of hosts")];
    words.extend((differ > 0).then(|| format!("{differ} not as ordered")));
    words.extend((unknown > 0).then(|| format!("{unknown} unknown")));
    words.extend((differ + unknown == 0).then(|| "all as ordered".to_owned()));
    terminal.heading(&words.join(", "));
    terminal.note(&orders_words(orders));
    if matrix.to.len() <= WIDE || terminal.is_csv() {
        let heads = std::iter::once("from").chain(matrix.to.iter().map(String::as_str));
        let mut table = Columns::new(heads);
        for (from, pairs) in matrix.from.iter().zip(&matrix.pairs) {
            let cells = pairs.iter().map(|pair| match pair {
                Pair::Itself => faint("·"),
                Pair::AsOrdered { .. } => plain("as ordered"),
                Pair::Differs { differences } => loud(format!("{differences} differ")),
                Pair::Unknown { .. } => loud("unknown"),
            });
            table.row(std::iter::once(plain(from)).chain(cells));
        }
        terminal.table(&table);
    }
    for report in matrix.hosts.iter().filter(|report| report.differences > 0) {
        terminal.heading(&format!("reach of {}", report.host));
        text::print_differences(report, terminal);
    }
    unknown_pairs(matrix, terminal);
}

fn unknown_pairs(matrix: &Matrix, terminal: &Terminal) {
    let mut pairs = Vec::new();
    for (from, row) in matrix.from.iter().zip(&matrix.pairs) {
        for (to, pair) in matrix.to.iter().zip(row) {
            if let Pair::Unknown { why } = pair {
                pairs.push((format!("{from} to {to}"), why));
            }
        }
    }
    for (why, names) in alike(pairs.iter().map(|(name, why)| (name.as_str(), why, why))) {
        terminal.line(format!("\nunknown: {}", named(&names)));
        terminal.line(format!("  {why}"));
    }
}

fn show_changes(before: &Kept, all: &[HostChanges], matrix: &Matrix, terminal: &Terminal) {
    if all.is_empty() {
        terminal.heading("nothing has opened or closed since the last check of the fleet");
    }
    for HostChanges { host, changes } in all {
        terminal.heading(host);
        let pair = (report_of(&before.hosts, host), report_of(&matrix.hosts, host));
        if let (Some(before), Some(now)) = pair {
            text::changed(changes, before, now.complete, terminal);
        }
    }
    unknown_pairs(matrix, terminal);
}
