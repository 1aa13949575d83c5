//! What is known of each host before anything is changed.

use serde::Deserialize;
use tipstaff_core::analysis::fleet::Phase;
use tipstaff_core::orders::Host;

use super::super::state::{Seen, request};
use super::super::{Fleet, clock_words};
use crate::acts::fleet::message::{Answer, Request};
use crate::acts::fleet::{Asked, Fault, first};
use crate::arguments::FleetPostOptions;
use crate::terminal::{Terminal, counted};

/// One host, as it was found.
pub struct Planned<'o> {
    pub host: &'o Host,
    /// What would change, in words; what is the same for several hosts is told once.
    pub changes: Vec<String>,
    /// What is to be known beside.
    pub notes: Vec<String>,
    /// Why it is left out.
    pub away: Option<String>,
    /// Why nothing is done anywhere.
    pub problem: Option<String>,
    /// What helps.
    pub help: Option<String>,
    /// Whether it has these orders, in force and on disk.
    pub has_them: bool,
    /// The posture that is kept.
    pub posture: Option<String>,
    /// What can be put back.
    pub before: Before,
}

/// What was in force on a host before the roll-out.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Before {
    /// A revision of its history.
    Revision(u32),
    /// Nothing.
    Nothing,
    /// Something that is in no history.
    Lost,
}

/// What `post --check --json` says, as far as it is looked at here.
#[derive(Deserialize)]
struct Checked {
    changed: bool,
    changes_in_words: Vec<String>,
    changes_cut_off: bool,
    against: Option<String>,
    closed: Vec<String>,
    stranded: Vec<serde_json::Value>,
    remarks: Vec<Remark>,
}

#[derive(Deserialize)]
struct Remark {
    rule: String,
    message: String,
}

impl Planned<'_> {
    /// Where it stands in the roll-out.
    pub fn phase(&self) -> Phase {
        match (&self.away, &self.problem) {
            (Some(why), _) => Phase::Away { why: why.clone() },
            (None, Some(why)) => Phase::Refused { why: why.clone() },
            (None, None) if self.has_them => Phase::Already,
            (None, None) => Phase::Waiting,
        }
    }
}

/// Asks every host how it is and what these orders would change there.
pub fn ask<'o>(
    fleet: &Fleet,
    hosts: &[&'o Host],
    options: &FleetPostOptions,
    terminal: &Terminal,
) -> Vec<Planned<'o>> {
    let asked: Vec<Asked<'_>> = hosts.iter().map(|host| Asked::new(host, request())).collect();
    let states = fleet.crowd.ask(&asked, "asking for the state", terminal);
    let seen: Vec<Result<(Seen, Answer), Fault>> = states
        .into_iter()
        .map(|answer| answer.and_then(|answer| Ok((Seen::of(&answer)?, answer))))
        .collect();
    let asked: Vec<Asked<'_>> = hosts
        .iter()
        .zip(&seen)
        .filter_map(|(host, seen)| {
            let (seen, _) = seen.as_ref().ok()?;
            let mut words = vec!["post", "--check", "--json", "--host", &host.name];
            let posture = posture_kept(fleet, seen);
            if let Some(posture) = &posture {
                words.extend(["--posture", posture]);
            }
            let words = words.into_iter().map(str::to_owned).collect();
            let request = Request::new(vec![words]);
            Some(Asked::new(host, request.with_orders(&fleet.sheets)))
        })
        .collect();
    let mut checks = fleet.crowd.ask(&asked, "asking what would change", terminal).into_iter();
    hosts
        .iter()
        .zip(seen)
        .map(|(host, seen)| {
            let known = seen.and_then(|(seen, answer)| {
                let check = checks.next().unwrap_or(Err(Fault::Cut))?;
                let checked: Checked = first(&check)?.json("post").map_err(Fault::Refused)?;
                Ok((seen, answer, checked))
            });
            match known {
                Ok((seen, answer, checked)) => {
                    let clock = clock_words(answer.clock_off);
                    planned(fleet, host, options, &seen, &answer, checked, clock)
                }
                Err(fault) => unreached(host, &fault),
            }
        })
        .collect()
}

/// A posture that was taken up stays, where the new orders have it.
fn posture_kept(fleet: &Fleet, seen: &Seen) -> Option<String> {
    let posture = seen.posture.clone()?;
    let known = posture == tipstaff_core::orders::SEALED
        || fleet.orders.postures.iter().any(|known| known.name == posture);
    known.then_some(posture)
}

fn unreached<'o>(host: &'o Host, fault: &Fault) -> Planned<'o> {
    let why = fault.to_string();
    let (away, problem) = match fault.is_away() {
        true => (Some(why), None),
        false => (None, Some(why)),
    };
    Planned {
        host,
        changes: Vec::new(),
        notes: Vec::new(),
        away,
        problem,
        help: fault.help(host.ssh_name()),
        has_them: false,
        posture: None,
        before: Before::Lost,
    }
}

fn planned<'o>(
    fleet: &Fleet,
    host: &'o Host,
    options: &FleetPostOptions,
    seen: &Seen,
    answer: &Answer,
    checked: Checked,
    clock: Option<String>,
) -> Planned<'o> {
    let new = fleet.origin.hash();
    let in_force = seen.orders.as_ref().map(tipstaff_core::orders::Origin::hash);
    let own_elsewhere = answer.file.is_some_and(|file| Some(file) != in_force && file != new);
    let (mut problem, mut help) = (None, None);
    if seen.seconds_left.is_some() {
        problem = Some(
            "a trial or a posture for a time is active there: someone else may be working on it"
                .into(),
        );
        help = Some("Wait until it is confirmed or expires.".to_owned());
    } else if own_elsewhere && !options.replace_edited {
        problem = Some("its own orders file was edited and not posted".into());
        help = Some(format!(
            "Save what is worth keeping on {}, then use --replace-edited.",
            host.name
        ));
    }
    let mut notes: Vec<String> = clock.into_iter().collect();
    if answer.version != env!("CARGO_PKG_VERSION") {
        notes.push(format!(
            "tipstaff {} there, {} here",
            answer.version,
            env!("CARGO_PKG_VERSION")
        ));
    }
    if let (Some(posture), None) = (&seen.posture, posture_kept(fleet, seen)) {
        notes.push(format!("it leaves the posture {posture}, which these orders do not have"));
    }
    let remarks = checked.remarks.iter();
    notes.extend(remarks.map(|Remark { rule, message }| format!("on {rule}: {message}")));
    let mut changes = checked.changes_in_words;
    if checked.changes_cut_off {
        changes.push("… at least these: the lists are too complex to compare all traffic".into());
    }
    if !checked.closed.is_empty() {
        changes.push(format!("no longer reachable by anybody: {}", checked.closed.join(", ")));
    }
    match (checked.against.as_deref(), seen.state.as_str()) {
        (Some("nothing"), _) => changes.insert(0, "compared with no gate:".into()),
        (Some("unreadable"), _) => {
            changes.insert(0, "what is in force there cannot be compared".into());
        }
        _ => {}
    }
    if !checked.stranded.is_empty() {
        let open = counted(checked.stranded.len(), "open connection", "open connections");
        notes.push(format!("{open} would not be let in again"));
    }
    Planned {
        host,
        changes,
        notes,
        away: None,
        problem,
        help,
        has_them: !checked.changed && answer.file == Some(new) && seen.seconds_left.is_none(),
        posture: posture_kept(fleet, seen),
        before: match (seen.state.as_str(), seen.revision) {
            ("down", _) => Before::Nothing,
            (_, Some(revision)) => Before::Revision(revision),
            (_, None) => Before::Lost,
        },
    }
}
