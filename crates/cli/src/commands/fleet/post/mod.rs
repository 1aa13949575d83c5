//! `fleet post`: the same orders on many hosts, in waves, each on trial and checked before
//! it is confirmed.

mod drive;
mod kept;
mod plan;
mod told;

use std::collections::BTreeMap;

use tipstaff_core::analysis::fleet::{Phase, RollOut, Waves};
use tipstaff_core::analysis::review::{ReviewContext, review};
use tipstaff_core::brief::Brief;
use tipstaff_core::orders::{Host, Severity};
use tipstaff_core::tables::Tables;
use tipstaff_gate::GateError;

use super::Fleet;
use crate::acts::fleet::{alike, delivery, named};
use crate::arguments::{Common, FleetPostOptions};
use crate::chosen::{self, setting};
use crate::ending::Ending;
use crate::failure::Failure;
use crate::terminal::Terminal;

use drive::Drive;
use kept::Kept;
use plan::Planned;
pub use told::Report;

pub fn run(
    common: &Common,
    fleet: &Fleet,
    options: &FleetPostOptions,
    terminal: &Terminal,
) -> Result<Ending, Failure> {
    delivery::can_be_sent(&fleet.sheets)?;
    let resumed = match options.resume {
        true => Some(Kept::read(common)?),
        false => None,
    };
    let selectors = match &resumed {
        Some(kept) => kept.open_hosts(fleet)?,
        None => options.hosts.clone(),
    };
    let hosts = fleet.hosts(&selectors)?;
    check_lists(fleet, &hosts)?;
    let planned = plan::ask(fleet, &hosts, options, terminal);
    if !terminal.json {
        told::plan(&fleet.origin, &planned, terminal);
    }
    let wrong = planned.iter().any(|one| one.problem.is_some());
    let phases: Vec<Phase> = planned.iter().map(Planned::phase).collect();
    let waves = in_waves(&phases, &options.waves);
    let rollout = RollOut::new(phases, waves, options.all_or_nothing).at_once(fleet.crowd.parallel);
    let waits = rollout.phases().contains(&Phase::Waiting);
    let only_checked = options.check || wrong || !waits;
    if only_checked {
        told::end(fleet, &planned, &rollout, !wrong && !options.check, terminal);
        return Ok(match (wrong, options.check) {
            (true, _) => Ending::Differs,
            (false, true) => Ending::Fine,
            (false, false) => told::ending(&rollout),
        });
    }
    if !options.yes && !terminal.ask("Put them in force there, in these waves?") {
        return Err(Failure::Argument {
            message: "nothing was changed: not confirmed".into(),
            help: "Answer y, or give --yes where nobody can be asked.".into(),
        });
    }
    let mut drive = Drive::new(common, fleet, options, &planned, rollout);
    drive.run(terminal);
    told::end(fleet, &planned, &drive.rollout, true, terminal);
    Ok(told::ending(&drive.rollout))
}

/// Every host's list is built before anybody is asked for anything, and read for mistakes.
fn check_lists(fleet: &Fleet, hosts: &[&Host]) -> Result<(), Failure> {
    let mut errors: BTreeMap<String, Vec<&str>> = BTreeMap::new();
    let lists = hosts.iter().map(|host| {
        let mut brief = Brief::on(&fleet.orders, &setting(&fleet.orders, Some(&host.name), None));
        brief.expire(chosen::now());
        (host.name.as_str(), brief.digest(), brief)
    });
    // Hosts with the same list have the same mistakes.
    for (brief, names) in alike(lists) {
        Tables::build(&brief).map_err(GateError::from)?;
        let around = ReviewContext {
            unmatched: &[],
            wanted: &[],
            programs: &[],
            listeners: None,
            orders: Some(&fleet.orders),
            cut_off: None,
            now: chosen::now(),
        };
        for finding in review(&brief, &around).findings {
            if finding.severity == Severity::Error {
                errors.entry(finding.what).or_default().extend(&names);
            }
        }
    }
    let Some((what, hosts)) = errors.iter().next() else { return Ok(()) };
    let more = match errors.len() {
        1 => String::new(),
        n => format!("; and {} more", n - 1),
    };
    Err(Failure::Argument {
        message: format!("the review finds an error ({}): {what}{more}", named(hosts)),
        help: "See them all with `tipstaff review --elsewhere --host NAME`; nothing was sent."
            .into(),
    })
}

/// The waves of those who wait; the others are in none.
fn in_waves(phases: &[Phase], waves: &Waves) -> Vec<std::ops::Range<usize>> {
    let waiting: Vec<usize> = phases
        .iter()
        .enumerate()
        .filter(|(_, phase)| **phase == Phase::Waiting)
        .map(|(nth, _)| nth)
        .collect();
    // A wave reaches from its first host to its last; who lies between and does not wait is
    // passed over.
    let cut = waves.cut(waiting.len());
    cut.into_iter().map(|wave| waiting[wave.start]..waiting[wave.end - 1] + 1).collect()
}
