//! `state`: is the gate up, with which orders, and did anything drift?

mod check;
mod drift;
mod others;

pub use check::Checked;

use std::time::Duration;

use schemars::JsonSchema;
use serde::Serialize;
use tipstaff_core::analysis::remarks::{Remark, program_remarks};
use tipstaff_core::host::interface::Interface;
use tipstaff_core::orders::{NO_POSTURE, Orders, OrdersHash, Origin};
use tipstaff_gate::kernel::{KernelGate, Other, Shortfall, executables, shortfalls};
use tipstaff_gate::{Gate, GateError, Pending, Record, Rehearsal};
use tipstaff_host::interfaces;

use crate::acts::boot_trouble;
use crate::acts::last_check::{self, LastCheck};
use crate::acts::rehearsing::{self, Rehearsed};
use crate::acts::units::{self, Restart};
use crate::arguments::{Common, StateOptions};
use crate::chosen::{self, LoadedPolicy};
use crate::commands::state::drift::{Drift, Loaded};
use crate::ending::Ending;
use crate::failure::{Failure, system};
use crate::history::History;
use crate::shape::shape;
use crate::terminal::{Terminal, moment, spoken};

#[derive(JsonSchema, Serialize)]
pub struct Report {
    state: &'static str,
    /// Those in force.
    orders: Option<Origin>,
    posted_by: Option<String>,
    /// Of a trial, or of a withdrawal for a time.
    seconds_left: Option<u64>,
    guarded: Vec<String>,
    unguarded: Vec<String>,
    drift: Vec<Drift>,
    /// That the file has been changed since it was posted, which is no drift.
    edited: Option<Drift>,
    /// As which host of the orders they were posted.
    host: Option<String>,
    /// The posture that is taken up.
    posture: Option<String>,
    /// Their number in the history.
    revision: Option<u32>,
    /// Tells this host's list from others, whatever the files around it say.
    list: Option<OrdersHash>,
    /// The last `reach` of this host's own ports that was kept here.
    last_check: Option<LastCheck>,
    /// Whether they are in force again after a restart.
    restart: Option<Restart>,
    /// What the gate cannot promise on this machine.
    limits: Vec<Shortfall>,
    /// Programs of others that decide about packets as well, and who sees one first.
    others: Vec<Other>,
    /// Whether a reach check runs: its programs are among the others for as long.
    reach_is_running: bool,
    /// About the programs that rules name.
    remarks: Vec<Remark>,
    /// Orders that decide beside them and stop nothing.
    rehearsal: Option<Rehearsed>,
}

impl Report {
    /// Of a machine where nothing is in force that could be told more of.
    fn empty(state: &'static str, left: Option<Duration>) -> Self {
        Self {
            state,
            orders: None,
            posted_by: None,
            seconds_left: left.map(|left| left.as_secs()),
            guarded: Vec::new(),
            unguarded: Vec::new(),
            drift: Vec::new(),
            edited: None,
            host: None,
            posture: None,
            revision: None,
            list: None,
            last_check: None,
            restart: None,
            limits: Vec::new(),
            others: Vec::new(),
            reach_is_running: false,
            remarks: Vec::new(),
            rehearsal: None,
        }
    }
}

/// A gate is up, and this version cannot read it.
fn other_version(terminal: &Terminal) -> Ending {
    if terminal.json {
        terminal.json(&Report::empty("other-version", None));
    } else {
        terminal.heading("up, posted by another version of Tipstaff, which this one cannot read");
        terminal.note(
            "it stays in force; `tipstaff post` replaces it with this version, `tipstaff \
             withdraw` removes it",
        );
    }
    Ending::Drift
}

shape!(Report => "state");

pub fn run(
    common: &Common,
    options: &StateOptions,
    terminal: &Terminal,
) -> Result<Ending, Failure> {
    match options.check {
        true => Ok(check::run(common, terminal)),
        false => show(common, terminal),
    }
}

/// The state as it is shown.
fn show(common: &Common, terminal: &Terminal) -> Result<Ending, Failure> {
    let gate = KernelGate::new(&common.run_dir)?;
    match found(common, &gate)? {
        Found::OtherVersion => Ok(other_version(terminal)),
        Found::Down(found) => {
            let Down { pending, rehearsal } = *found;
            down(common, pending, rehearsal.as_ref(), terminal);
            Ok(Ending::Down)
        }
        Found::Up(up) => {
            let Up { report, ending, record, pending, rehearsal, orders } = *up;
            match terminal.json {
                true => {
                    // To be looked up and worked out only for who reads it.
                    let (host, posture) = (record.host.as_deref(), record.posture.as_deref());
                    terminal.json(&Report {
                        revision: History::from_options(common).number_of(&record),
                        list: Some(chosen::list_on(&orders, host, posture)),
                        last_check: last_check::summary(common, &record),
                        ..report
                    });
                }
                false => {
                    print(&report, &record, pending, terminal);
                    print_rehearsal(rehearsal.as_ref(), terminal);
                }
            }
            Ok(ending)
        }
    }
}

/// What was found.
enum Found {
    OtherVersion,
    Down(Box<Down>),
    Up(Box<Up>),
}

/// Nothing is in force.
struct Down {
    pending: Option<Pending>,
    rehearsal: Option<Rehearsal>,
}

/// What is in force, looked at.
struct Up {
    report: Report,
    ending: Ending,
    record: Record,
    pending: Option<Pending>,
    rehearsal: Option<Rehearsal>,
    orders: Orders,
}

fn found(common: &Common, gate: &KernelGate) -> Result<Found, Failure> {
    let pending = match gate.pending() {
        Err(GateError::NotRoot) => None,
        pending => pending?,
    };
    let in_force = match gate.in_force() {
        Err(GateError::OtherVersion) => return Ok(Found::OtherVersion),
        in_force => in_force?,
    };
    let rehearsal = rehearsing::here(common)?;
    let Some(in_force) = in_force else {
        return Ok(Found::Down(Box::new(Down { pending, rehearsal })));
    };
    let all = interfaces::list().map_err(system("reading the interfaces"))?;
    let (guarded, unguarded): (Vec<&Interface>, Vec<&Interface>) =
        all.iter().partition(|i| in_force.guarded.iter().any(|g| g.0 == i.index));
    let LoadedPolicy { orders, brief, .. } = chosen::from_force(&in_force)?;
    // One may begin or end meanwhile.
    let checked = gate.is_checked();
    let others = gate.others(&all)?;
    let checked = checked || gate.is_checked();
    let loaded = Loaded {
        gate,
        in_force: &in_force,
        brief: &brief,
        interfaces: &all,
        others: &others,
        checked,
        is_pending: pending.is_some(),
    };
    let drift = drift::drift(common, &loaded)?;
    let edited = drift::edited(common, &in_force.record);
    let mut limits = shortfalls(&in_force, &all);
    let seconds = gate.clock_is_off()?;
    if seconds != 0 && brief.rules().any(|rule| rule.until.is_some()) {
        limits.push(Shortfall::ClockMoved { seconds });
    }
    let record = &in_force.record;
    let (state, ending) = match (drift.is_empty(), &edited) {
        (false, _) => ("drift", Ending::Drift),
        (true, Some(_)) => ("edited", Ending::Edited),
        (true, None) => ("up", Ending::Fine),
    };
    let report = Report {
        state,
        orders: Some(chosen::origin_of(record)),
        posted_by: Some(record.posted_by.clone()),
        seconds_left: pending.as_ref().map(|pending| pending.left.as_secs()),
        guarded: names(&guarded),
        unguarded: names(&unguarded),
        drift,
        edited,
        host: record.host.clone(),
        posture: record.posture.clone(),
        revision: None,
        list: None,
        last_check: None,
        restart: Some(units::restart(common)),
        limits,
        others,
        reach_is_running: checked,
        remarks: program_remarks(&brief, &executables::notes(&brief)),
        rehearsal: rehearsal.as_ref().map(Rehearsed::of),
    };
    let record = record.clone();
    Ok(Found::Up(Box::new(Up { report, ending, record, pending, rehearsal, orders })))
}

fn names(interfaces: &[&Interface]) -> Vec<String> {
    interfaces.iter().map(|i| i.name.clone()).collect()
}

/// Nothing is in force: for good, or for a time.
fn down(
    common: &Common,
    pending: Option<Pending>,
    rehearsal: Option<&Rehearsal>,
    terminal: &Terminal,
) {
    if terminal.json {
        let empty = Report::empty("down", pending.map(|pending| pending.left));
        terminal.json(&Report { rehearsal: rehearsal.map(Rehearsed::of), ..empty });
        return;
    }
    if let Some(Pending { left, then: Some(record), .. }) = pending {
        terminal.heading(&format!("down for {}: everything passes", spoken(left)));
        let next = record.hash().short();
        terminal.line(format!("  then the kernel puts orders {next} in force again"));
        terminal.note("  `tipstaff confirm --revert` does so now");
        print_rehearsal(rehearsal, terminal);
        return;
    }
    terminal.heading(match rehearsal {
        Some(_) => "down: everything passes; orders are rehearsed",
        None => "down: no gate is loaded, everything passes",
    });
    print_rehearsal(rehearsal, terminal);
    if let Some(trouble) = boot_trouble::trouble(common) {
        terminal.line(format!("  after the restart {trouble}"));
    }
    terminal.note("put orders in force with `tipstaff post`");
}

fn print_rehearsal(rehearsal: Option<&Rehearsal>, terminal: &Terminal) {
    if let Some(rehearsal) = rehearsal {
        terminal.line(format!("  rehearsal {}", rehearsing::words(rehearsal)));
        terminal
            .note("            it stops nothing; `tipstaff rehearse report` tells what it would");
    }
}

fn print(report: &Report, record: &Record, pending: Option<Pending>, terminal: &Terminal) {
    let but = match report.state {
        "drift" => ", but drifted",
        "edited" => ", and the file differs",
        _ => "",
    };
    terminal.heading(&format!("up since {}{but}", moment(record.posted_at)));
    let (hash, by) = (record.hash().short(), &record.posted_by);
    terminal.line(match &record.path {
        Some(path) => format!("  orders   {hash} from {path}, posted by {by}"),
        None => format!("  orders   {hash}, built in, put in force by {by}"),
    });
    if let Some(host) = &record.host {
        terminal.line(format!("  host     {host}"));
    }
    if let Some(posture) = &record.posture {
        terminal.line(format!("  posture  {posture}"));
    }
    if let Some(pending) = pending {
        print_pending(&pending, record, terminal);
    }
    terminal.line(format!("  guarded  {}", report.guarded.join(", ")));
    if let Some(restart) = &report.restart {
        let after = match restart.in_force {
            Some(true) => "in force again",
            Some(false) => "NOT in force again",
            None => "not known",
        };
        terminal.line(format!("  restart  {after}: {}", restart.why));
    }
    for (word, Drift { what, help }) in (report.edited.iter().map(|edited| ("edited", edited)))
        .chain(report.drift.iter().map(|drift| ("drift", drift)))
    {
        terminal.line(format!("  {word:<8} {what}"));
        terminal.note(&format!("           help: {help}"));
    }
    for limit in &report.limits {
        terminal.line(format!("  limit    {limit}"));
    }
    for other in others::lines(&report.others, report.reach_is_running) {
        terminal.line(format!("  others   {other}"));
    }
    for Remark { rule, message } in &report.remarks {
        terminal.line(format!("  note     on {rule}: {message}"));
    }
}

/// What comes after the orders on trial, or the posture for a time.
fn print_pending(Pending { left, then, .. }: &Pending, record: &Record, terminal: &Terminal) {
    let left = spoken(*left);
    if let Some(then) = then.as_ref().filter(|then| then.hash() == record.hash()) {
        let posture = then.posture.as_deref().unwrap_or(NO_POSTURE);
        terminal.line(format!("           for {left} more; then posture {posture}"));
        terminal.note("           at once: tipstaff confirm --revert");
        return;
    }
    let then = match then {
        Some(record) => format!("orders {} are in force again", record.hash().short()),
        None => "nothing is in force".into(),
    };
    terminal.line(format!("  on trial for {left} more; then {then}"));
    terminal.note("           keep them: tipstaff confirm");
}
