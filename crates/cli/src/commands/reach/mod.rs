//! `reach`: which ports are truly reachable, from where, and why that differs
//! from the orders.

mod crossing;
mod far;
mod pace;
mod wanted;

use std::collections::{BTreeSet, HashMap};
use std::net::IpAddr;
use std::path::{Path, PathBuf};
use std::time::Duration;

pub use crossing::Report as Crossings;
use pace::Pace;
use tipstaff_core::analysis::reach::{
    Arrival, Plan, Report, SEVERAL, Vantage, changes, merge, subjects,
};
use tipstaff_core::packet::InterfaceIndex;
use tipstaff_gate::kernel::KernelGate;
use tipstaff_host::files::{self, Access};
use tipstaff_host::listeners;
use tipstaff_host::snapshot::Snapshot;
use tipstaff_knock::sockets::{self, Door};
use tipstaff_knock::witness;
use tipstaff_reach::{Check, GateInForce, Place, plan};

use crate::acts::last_check::{self, Output};
use crate::acts::rehearsing;
use crate::acts::reported::{page, text};
use crate::arguments::{Common, ReachCommand, ReachOptions};
use crate::chosen::{self, LoadedPolicy, Visible};
use crate::ending::Ending;
use crate::failure::{Failure, system};
use crate::terminal::Terminal;

/// Knocking on oneself costs nothing, so the patience may be longer.
const LEAST_PATIENCE_HERE: Duration = Duration::from_millis(300);
/// From more sources than these the orders are shown a place at a time.
const MANY: usize = 8;
/// What `--changes` without a file compares with.
const LAST: &str = "last";

pub fn run(
    common: &Common,
    options: &ReachOptions,
    terminal: &Terminal,
) -> Result<Ending, Failure> {
    if let Some(ReachCommand::Merge { files, markdown, html }) = &options.command {
        let reports =
            files.iter().map(|path| last_check::read(path)).collect::<Result<Vec<_>, _>>()?;
        let merged = merge(&reports).map_err(|fault| Failure::Argument {
            message: format!("these reports cannot be merged: {fault}"),
            help: "Merge reports of one host; each machine writes its own with --json.".into(),
        })?;
        let form = Form { markdown: *markdown, why: false, html: html.as_deref() };
        return print(form, &merged, None, &[], terminal);
    }
    if !options.outbound.is_empty() || !options.through.is_empty() {
        return crossing::run(common, options, terminal);
    }
    // What cannot be read should be known before anybody is knocked on.
    let named = match options.changes.as_deref() {
        Some(LAST) | None => None,
        Some(path) => Some(last_check::read(Path::new(path))?),
    };
    let (mut report, listeners) = match &options.target {
        Some(name) => (far::look(common, options, name, terminal.json)?, Vec::new()),
        None => near(common, options, terminal)?,
    };
    if options.target.is_none() {
        report.notes.extend(rehearsing::aside(common)?);
    }
    if options.all_ports || !options.ports.is_empty() {
        report.gather(SEVERAL);
    }
    let place = last_check::place(common, &report.host);
    let before = match (named, options.changes.is_some(), &place) {
        (Some(report), ..) => Some(report),
        (None, true, Some(path)) if path.exists() => last_check::read_own(path, &mut report.notes)?,
        (None, true, _) => {
            report.notes.push("there is no earlier check to compare with".into());
            None
        }
        (None, false, _) => None,
    };
    if options.why.is_none() && report.complete {
        keep(place, &mut report, options.changes.is_some());
    }
    let form = Form {
        markdown: options.markdown,
        why: options.why.is_some(),
        html: options.html.as_deref(),
    };
    print(form, &report, before.as_ref(), &listeners, terminal)
}

/// Keeps the report for the next `--changes`; where that fails, who asked for
/// it hears of it.
fn keep(place: Option<PathBuf>, report: &mut Report, asked: bool) {
    let kept = match &place {
        Some(path) => last_check::keep(path, report),
        None => Err(std::io::Error::other("this account has no home directory")),
    };
    if let (Err(e), true) = (kept, asked) {
        report.notes.push(format!("this check cannot be saved for the next --changes: {e}"));
    }
}

/// The way in which a report is asked for.
struct Form<'o> {
    markdown: bool,
    /// One port with all its evidence.
    why: bool,
    /// The page beside it.
    html: Option<&'o Path>,
}

/// Shows a report in the way that was asked for.
fn print(
    form: Form<'_>,
    report: &Report,
    before: Option<&Report>,
    listeners: &[tipstaff_core::host::listener::Listener],
    terminal: &Terminal,
) -> Result<Ending, Failure> {
    let found = before.map(|before| changes(before, report));
    if terminal.json {
        terminal.json(&Output { report, changes: found.as_ref() });
    } else if form.markdown {
        terminal.document(&page::markdown(report));
    } else if form.why {
        text::why(report, listeners, terminal);
    } else if let (Some(found), Some(before)) = (&found, before) {
        if !terminal.is_quiet() || !found.is_empty() || !report.complete {
            text::changed(found, before, report.complete, terminal);
        }
    } else if !terminal.is_quiet() || !report.is_fine() {
        text::show(report, terminal);
    }
    // What was found is told, whatever becomes of the file.
    if let Some(path) = form.html {
        let written = files::replace(path, page::html(report).as_bytes(), Access::Usual);
        written.map_err(|source| Failure::Unwritable { path: path.to_owned(), source })?;
    }
    // Who asks what has changed has heard of the rest.
    let fine = match found {
        Some(found) => found.is_empty() && report.complete,
        None => report.is_fine(),
    };
    Ok(if fine { Ending::Fine } else { Ending::Differs })
}

/// Checks this host.
fn near(
    common: &Common,
    options: &ReachOptions,
    terminal: &Terminal,
) -> Result<(Report, Vec<tipstaff_core::host::listener::Listener>), Failure> {
    let snapshot = Snapshot::live().map_err(system("reading what listens"))?;
    let (in_force, visible) = chosen::in_force(common)?;
    let Some(judge) = chosen::choose(common, in_force.as_ref())? else {
        return Err(Failure::NoOrders(common.orders_path().to_owned()));
    };
    let mut notes: Vec<String> = judge.links().iter().map(ToString::to_string).collect();
    let mut vantages = wanted::vantages(options, &judge, &snapshot, &mut notes)?;
    // What cannot be played at all is said before anybody is knocked on.
    for vantage in &vantages {
        if let Vantage::Outside { source, via, .. } = vantage {
            witness::approach(*source, via.as_deref(), &snapshot.interfaces)?;
        }
    }
    let shows_all = match options.from_orders {
        true => Some(wanted::from_orders(&judge, &snapshot)?),
        false => None,
    };
    let scope = scope(options, &judge, &snapshot, shows_all.as_ref(), &mut vantages)?;

    let patience = Duration::from_millis(options.patience);
    let mut check = Check::at(judge.basis(), &snapshot, scope.places);
    check.notes = notes;
    check.only = scope.only;
    check.other_orders =
        in_force.as_ref().is_some_and(|in_force| in_force.record.hash() != judge.origin.hash());
    let doors = check.here_doors();
    let knocks: Vec<Door> = doors.iter().map(|(_, door)| *door).collect();
    let in_all = knocks.len() + vantages.len() * check.rows();
    let mut pace = Pace::new(in_all, options.pace, terminal.json)?;
    let patience_here = patience.max(LEAST_PATIENCE_HERE);
    check.add_own_column(&doors, &sockets::knock(&knocks, patience_here, &mut |_| pace.go_on()));
    let kernel = KernelGate::new(&common.run_dir)?;
    let _told = kernel.begin_check();
    let in_force_brief = match &in_force {
        Some(in_force) => Some(chosen::from_force(in_force)?.brief),
        None => None,
    };
    let gate: Option<GateInForce<'_>> = in_force_brief.as_ref().map(|brief| (&kernel, brief));
    let root = nix::unistd::geteuid().is_root();
    for vantage in vantages {
        if root && !pace.is_over() {
            check.look_as(vantage, gate, patience, &mut |_| pace.go_on())?;
            continue;
        }
        let why = match root {
            true => "the check ended first",
            false => "only root can probe from another source",
        };
        if let Vantage::Outside { source, via, .. } = &vantage {
            let approach = witness::approach(*source, via.as_deref(), &snapshot.interfaces)?;
            let interface = InterfaceIndex(approach.interface.index);
            check.unknown(vantage, why, Arrival { target: approach.target, interface });
        }
    }
    if pace.is_over() {
        check.complete = false;
    }
    drop(pace);
    let after = listeners::list(&snapshot.interfaces).map_err(system("reading what listens"))?;
    let gate = match (visible, &in_force) {
        (Visible::OnlyToRoot, _) => "unknown",
        (_, Some(_)) => "up",
        (_, None) => "down",
    };
    let mut report = check.finish(gate, Some(&after.listeners), chosen::now());
    // Where --from-orders found nobody to probe as, its own notes say why.
    if report.is_of_itself() && !options.from_orders {
        report.notes.push(of_others(gate).to_owned());
    }
    if let Some(shows_all) = &shows_all {
        report.rules = plan::shown(shows_all, &judge.brief, &report);
    }
    Ok((report, snapshot.listeners.clone()))
}

/// What a check without other sources leaves open.
fn of_others(gate: &str) -> &'static str {
    match gate {
        "down" => {
            "probed from this host only; the gate is not loaded, so nothing is denied to anyone: \
             tipstaff post puts the orders in force"
        }
        _ => {
            "probed from this host only, whose own traffic is not filtered: \
             tipstaff reach --from-orders also probes as other sources"
        }
    }
}

/// What is knocked on.
struct Scope {
    places: BTreeSet<Place>,
    /// From these sources only on these places.
    only: HashMap<IpAddr, BTreeSet<Place>>,
}

/// Adds the sources that show every rule to `vantages`, where that is asked for.
fn scope(
    options: &ReachOptions,
    judge: &LoadedPolicy,
    snapshot: &Snapshot,
    shows_all: Option<&Plan>,
    vantages: &mut Vec<Vantage>,
) -> Result<Scope, Failure> {
    let mut places: BTreeSet<Place> = match &options.why {
        Some(port) => wanted::subjects(&judge.orders, port)?.into_iter().map(Place::from).collect(),
        None => {
            let usual = subjects(&judge.brief, &snapshot.listeners);
            usual.into_iter().map(Place::from).collect()
        }
    };
    let mut only = HashMap::new();
    if let Some(shows_all) = shows_all {
        let of_plan = plan::places_of(shows_all, snapshot);
        if options.why.is_none() {
            places.extend(of_plan.values().flatten());
        }
        let known: BTreeSet<_> = vantages.iter().filter_map(Vantage::source).collect();
        let new = shows_all.sources.iter().filter(|source| !known.contains(source));
        vantages.extend(new.map(|source| Vantage::outside(*source)));
        // Many sources each look at what they show alone.
        if shows_all.sources.len() > MANY && options.why.is_none() {
            only = of_plan;
            only.retain(|source, _| !known.contains(source));
        }
    }
    places.extend(wanted::ports(judge, &options.ports)?);
    if options.all_ports {
        places.extend(Place::all_ports());
    }
    Ok(Scope { places, only })
}

/// Prints a check that was made by other means: the demo's.
pub fn show(check: Check<'_>, gate: &str, terminal: &Terminal) {
    let report = check.finish(gate, None, chosen::now());
    if terminal.json {
        terminal.json(&Output { report: &report, changes: None });
    } else {
        text::show(&report, terminal);
    }
}
