//! `fleet state`: which hosts have which orders, and whether all is well there.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use tipstaff_core::orders::{Host, OrdersHash, Origin};

use super::{Fleet, clock_words};
use crate::acts::fleet::message::{Answer, Request};
use crate::acts::fleet::{Asked, Fault, alike, first, named};
use crate::acts::last_check::LastCheck;
use crate::chosen;
use crate::ending::Ending;
use crate::failure::Failure;
use crate::shape::shape;
use crate::terminal::{Columns, Terminal, counted, faint, loud, orders_words, plain};

#[derive(JsonSchema, Serialize)]
pub struct Report<'r> {
    orders: &'r Origin,
    hosts: Vec<Row>,
    /// Hosts where all is well.
    well: usize,
    /// Hosts where something is not.
    not_well: usize,
    /// Hosts that could not be asked.
    unknown: usize,
}

shape!(Report<'_> => "fleet-state");

/// How a host is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum How {
    /// As the orders have it.
    Well,
    /// Not so.
    NotWell,
    /// It could not be asked.
    Unknown,
}

/// One host.
#[derive(JsonSchema, Serialize)]
pub struct Row {
    host: String,
    /// What ssh calls it.
    ssh: String,
    how: How,
    /// up, edited, drift, down, other-version; null where it could not be asked.
    state: Option<String>,
    /// The version of tipstaff there.
    version: Option<String>,
    /// The orders in force.
    orders: Option<OrdersHash>,
    /// Their number in the history there.
    revision: Option<u32>,
    /// As which host they were posted.
    posted_as: Option<String>,
    /// Whether its list is the one that these orders give it.
    is_this_list: Option<bool>,
    /// Whether it is in force again after a restart.
    after_restart: Option<bool>,
    /// Of a trial.
    seconds_left: Option<u64>,
    last_check: Option<LastCheck>,
    /// What is not as it should be, in words.
    troubles: Vec<String>,
    /// What else is to be known.
    notes: Vec<String>,
    /// What to do about it.
    help: Option<String>,
}

/// What a host's `state --json` says, as far as it is looked at here.
#[derive(Debug, Deserialize)]
pub struct Seen {
    pub state: String,
    pub orders: Option<Origin>,
    pub host: Option<String>,
    pub posture: Option<String>,
    pub revision: Option<u32>,
    pub list: Option<OrdersHash>,
    pub seconds_left: Option<u64>,
    pub drift: Vec<Told>,
    pub edited: Option<Told>,
    pub restart: Option<Restart>,
    pub last_check: Option<LastCheck>,
}

#[derive(Debug, Deserialize)]
pub struct Told {
    pub what: String,
}

#[derive(Debug, Deserialize)]
pub struct Restart {
    pub in_force: Option<bool>,
    pub why: String,
}

/// The request that [`Seen::of`] reads the answer of.
pub fn request() -> Request<'static> {
    Request::new(vec![vec!["state".into(), "--json".into()]])
}

impl Seen {
    /// Reads the first command's output.
    pub fn of(answer: &Answer) -> Result<Self, Fault> {
        first(answer)?.json("state").map_err(Fault::Refused)
    }

    /// Whether its list is the one that orders give a host.
    pub fn has_list_of(&self, fleet: &Fleet, host: &Host) -> Option<bool> {
        let orders = &fleet.orders;
        // The same orders give the same list; to work it out takes a while where it is long.
        let same = self.orders.as_ref().map(Origin::hash) == Some(fleet.origin.hash());
        if same && self.host.as_ref() == Some(&host.name) {
            return Some(true);
        }
        let wanted = chosen::list_on(orders, Some(&host.name), self.posture.as_deref());
        self.list.map(|list| list == wanted)
    }
}

pub fn run(fleet: &Fleet, selectors: &[String], terminal: &Terminal) -> Result<Ending, Failure> {
    let hosts = fleet.hosts(selectors)?;
    let asked: Vec<Asked<'_>> = hosts.iter().map(|host| Asked::new(host, request())).collect();
    let answers = fleet.crowd.ask(&asked, "asking for the state", terminal);
    let rows: Vec<Row> = hosts
        .iter()
        .zip(answers)
        .map(|(host, answer)| {
            let seen = answer.and_then(|answer| Ok((Seen::of(&answer)?, answer)));
            match seen {
                Ok((seen, answer)) => {
                    let clock = clock_words(answer.clock_off);
                    row(fleet, host, &seen, &answer, clock)
                }
                Err(fault) => silent(host, &fault),
            }
        })
        .collect();
    let count = |how: How| rows.iter().filter(|row| row.how == how).count();
    let (well, not_well) = (count(How::Well), count(How::NotWell));
    let unknown = count(How::Unknown);
    let report = Report { orders: &fleet.origin, hosts: rows, well, not_well, unknown };
    match terminal.json {
        true => terminal.json(&report),
        false => show(&report, terminal),
    }
    Ok(match (not_well, unknown) {
        (0, 0) => Ending::Fine,
        (0, _) => Ending::Unknown,
        _ => Ending::Differs,
    })
}

/// A host that could not be asked.
fn silent(host: &Host, fault: &Fault) -> Row {
    Row {
        host: host.name.clone(),
        ssh: host.ssh_name().to_owned(),
        how: How::Unknown,
        state: None,
        version: None,
        orders: None,
        revision: None,
        posted_as: None,
        is_this_list: None,
        after_restart: None,
        seconds_left: None,
        last_check: None,
        troubles: vec![fault.to_string()],
        notes: Vec::new(),
        help: fault.help(host.ssh_name()),
    }
}

fn row(fleet: &Fleet, host: &Host, seen: &Seen, answer: &Answer, clock: Option<String>) -> Row {
    let is_this_list = seen.has_list_of(fleet, host);
    let mut troubles = Vec::new();
    let mut help = None;
    match seen.state.as_str() {
        "down" => {
            troubles.push("nothing is in force: everything passes".to_owned());
            help = Some("`tipstaff fleet post` puts these orders in force".to_owned());
        }
        "other-version" => {
            troubles.push("another version of tipstaff posted what is in force".to_owned());
            help = Some("`tipstaff fleet post` replaces it".to_owned());
        }
        _ => {}
    }
    if let Some(posted) = seen.host.as_ref().filter(|posted| **posted != host.name) {
        troubles.push(format!("posted as {posted}"));
    } else if is_this_list == Some(false) {
        troubles.push("its rules differ from these orders".to_owned());
        help = Some("`tipstaff fleet post --check` shows what differs".to_owned());
    }
    troubles.extend(seen.drift.iter().map(|drift| drift.what.clone()));
    if let Some(seconds) = seen.seconds_left {
        let left = crate::terminal::spoken(std::time::Duration::from_secs(seconds));
        troubles.push(format!("in force for {left} only: on trial, or for a time"));
    }
    if let Some(Restart { in_force: Some(false), why }) = &seen.restart {
        troubles.push(format!("not in force again after a restart: {why}"));
    }
    let last = seen.last_check.as_ref().filter(|check| check.is_of_these);
    if let Some(check) = last.filter(|check| check.differences > 0) {
        let found = counted(check.differences, "difference", "differences");
        troubles.push(format!("its last reach check found {found}"));
    }
    let mut notes: Vec<String> = clock.into_iter().collect();
    notes.extend(seen.edited.iter().map(|edited| edited.what.clone()));
    if answer.version != env!("CARGO_PKG_VERSION") {
        notes.push(format!(
            "tipstaff {} there, {} here",
            answer.version,
            env!("CARGO_PKG_VERSION")
        ));
    }
    Row {
        host: host.name.clone(),
        ssh: host.ssh_name().to_owned(),
        how: if troubles.is_empty() { How::Well } else { How::NotWell },
        state: Some(seen.state.clone()),
        version: Some(answer.version.clone()),
        orders: seen.orders.as_ref().map(Origin::hash),
        revision: seen.revision,
        posted_as: seen.host.clone(),
        is_this_list,
        after_restart: seen.restart.as_ref().and_then(|restart| restart.in_force),
        seconds_left: seen.seconds_left,
        last_check: seen.last_check.clone(),
        troubles,
        notes,
        help,
    }
}

fn show(report: &Report<'_>, terminal: &Terminal) {
    let Report { orders, hosts, well, not_well, unknown } = report;
    let mut words = vec![format!("{well} as ordered")];
    words.extend((*not_well > 0).then(|| format!("{not_well} need attention")));
    words.extend((*unknown > 0).then(|| format!("{unknown} unknown")));
    let all = counted(hosts.len(), "host", "hosts");
    terminal.heading(&format!("{all}: {}", words.join(", ")));
    terminal.note(&orders_words(orders));
    let mut table = Columns::new([
        "host",
        "state",
        "orders",
        "revision",
        "same rules",
        "restart",
        "checked",
        "version",
    ]);
    for row in hosts {
        let state = row.state.as_deref().unwrap_or("unknown");
        let checked = row.last_check.as_ref().map(|check| match check.differences {
            _ if !check.is_of_these => faint("by other orders"),
            0 if check.unknown == 0 => plain("as ordered"),
            0 => plain(format!("{} unknown", check.unknown)),
            n => loud(format!("{n} differ")),
        });
        table.row([
            if row.how == How::Well { plain(&row.host) } else { loud(&row.host) },
            if row.how == How::Well { plain(state) } else { loud(state) },
            faint(row.orders.map(|hash| hash.short()).unwrap_or_default()),
            plain(row.revision.map(|number| number.to_string()).unwrap_or_default()),
            yes(row.is_this_list),
            yes(row.after_restart),
            checked.unwrap_or_else(|| faint("–")),
            faint(row.version.as_deref().unwrap_or_default()),
        ]);
    }
    terminal.table(&table);
    let told = hosts.iter().filter(|row| !row.troubles.is_empty() || !row.notes.is_empty());
    let said = told.map(|row| {
        // Another host's name in the same sentence is no difference.
        let words = [row.troubles.join("\n"), row.notes.join("\n")].join("\n");
        let words = words.replace(&row.ssh, "").replace(&row.host, "");
        (row.host.as_str(), words, row)
    });
    for (Row { troubles, notes, help, .. }, names) in alike(said) {
        terminal.line(format!("\n{}", named(&names)));
        troubles.iter().for_each(|trouble| terminal.line(format!("  {trouble}")));
        notes.iter().for_each(|note| terminal.line(format!("  note: {note}")));
        if let Some(help) = help {
            terminal.note(&format!("  {help}"));
        }
    }
}

/// Whether something is so.
fn yes(answer: Option<bool>) -> comfy_table::Cell {
    match answer {
        Some(true) => plain("yes"),
        Some(false) => loud("no"),
        None => faint("–"),
    }
}
