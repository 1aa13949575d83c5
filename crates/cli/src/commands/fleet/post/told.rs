//! What is said of a roll-out: what would change where, how the waves go, how it ended.

use schemars::JsonSchema;
use serde::Serialize;
use tipstaff_core::analysis::fleet::{Phase, RollOut};
use tipstaff_core::orders::{Host, Origin};

use super::super::Fleet;
use super::plan::Planned;
use crate::acts::fleet::{alike, named};
use crate::ending::Ending;
use crate::shape::shape;
use crate::terminal::{Terminal, counted, orders_words};

#[derive(JsonSchema, Serialize)]
pub struct Report<'r> {
    orders: &'r Origin,
    /// Whether other orders are in force anywhere than before.
    changed: bool,
    hosts: Vec<Row<'r>>,
}

shape!(Report<'_> => "fleet-post");

#[derive(JsonSchema, Serialize)]
struct Row<'r> {
    host: &'r str,
    /// Its wave, from 1; null: it was in none.
    wave: Option<usize>,
    #[serde(flatten)]
    phase: &'r Phase,
    /// What would change, or has changed, in words.
    changes: &'r [String],
    notes: &'r [String],
    help: Option<&'r str>,
}

/// The names of some hosts.
pub fn names(hosts: &[usize], planned: &[Planned<'_>]) -> String {
    let names: Vec<&str> = hosts.iter().map(|nth| planned[*nth].host.name.as_str()).collect();
    named(&names)
}

/// What would change where; hosts with the same change are told together.
pub fn plan(orders: &Origin, planned: &[Planned<'_>], terminal: &Terminal) {
    terminal.heading(&format!("to be put in force on {}", hosts_words(planned.len())));
    terminal.note(&orders_words(orders));
    let said = planned.iter().map(|one| {
        let lines = lines_of(one);
        (one.host.name.as_str(), lines.clone(), (lines, one.help.as_deref()))
    });
    for ((lines, help), names) in alike(said) {
        let count =
            if names.len() > 1 { format!("{}: ", hosts_words(names.len())) } else { String::new() };
        terminal.line(format!("\n{count}{}", named(&names)));
        let (shown, rest) = lines.split_at(lines.len().min(SHOWN));
        shown.iter().for_each(|line| terminal.line(format!("  {line}")));
        if !rest.is_empty() {
            terminal.line(format!("  … and {} more; --json has all", rest.len()));
        }
        if let Some(help) = help {
            terminal.note(&format!("  {help}"));
        }
    }
}

/// What would change on a host, and what is to be known of it.
fn lines_of(one: &Planned<'_>) -> Vec<String> {
    let mut lines: Vec<String> = match (&one.away, &one.problem) {
        (Some(why), _) => vec![format!("skipped: {why}")],
        (None, Some(why)) => vec![format!("cannot take them: {why}")],
        (None, None) if one.has_them => vec!["already has these orders".to_owned()],
        (None, None) if one.changes.is_empty() => {
            vec!["every packet gets the same answer; its orders file changes".to_owned()]
        }
        (None, None) => one.changes.clone(),
    };
    lines.extend(one.notes.iter().map(|note| format!("note: {note}")));
    lines
}

/// So many lines of a change are shown.
const SHOWN: usize = 24;

fn hosts_words(n: usize) -> String {
    counted(n, "host", "hosts")
}

/// A wave begins, or a part of it.
pub fn wave(rollout: &RollOut, hosts: &[usize], planned: &[Planned<'_>], terminal: &Terminal) {
    if terminal.json {
        return;
    }
    let wave = hosts.first().and_then(|nth| rollout.wave_of(*nth)).unwrap_or_default();
    let of = rollout.waves().len();
    let all = rollout.hosts_of(wave);
    let begin = all.iter().position(|nth| hosts.first() == Some(nth)).unwrap_or_default();
    let part = match hosts.len() < all.len() {
        true => format!(", hosts {}–{} of {}", begin + 1, begin + hosts.len(), all.len()),
        false => String::new(),
    };
    terminal.heading(&format!("wave {} of {of}{part}: {}", wave + 1, names(hosts, planned)));
}

/// What is to be known of a host beside.
pub fn notes(host: &Host, notes: &[String], terminal: &Terminal) {
    if terminal.json {
        notes.iter().for_each(|note| terminal.warning(&format!("{}: {note}", host.name)));
        return;
    }
    notes.iter().for_each(|note| terminal.line(format!("  {}: note: {note}", host.name)));
}

/// The wave is checked and confirmed.
pub fn confirmed(rollout: &RollOut, hosts: &[usize], planned: &[Planned<'_>], terminal: &Terminal) {
    let stay: Vec<usize> =
        hosts.iter().copied().filter(|nth| rollout.phases()[*nth] == Phase::Confirmed).collect();
    if !terminal.json && !stay.is_empty() {
        terminal.line(format!("  checked and confirmed: {}", names(&stay, planned)));
    }
}

/// Something failed.
pub fn stopped(rollout: &RollOut, hosts: &[usize], planned: &[Planned<'_>], terminal: &Terminal) {
    if terminal.json {
        return;
    }
    for (one, phase) in planned.iter().zip(rollout.phases()) {
        if let Phase::Failed { why } | Phase::Refused { why } | Phase::Unknown { why } = phase {
            terminal.line(format!("  {}: {why}", one.host.name));
        }
    }
    terminal.line(format!("  stopped; rolling back: {}", names(hosts, planned)));
}

/// Which orders a host has, in words and with the reason.
fn ended(phase: &Phase) -> (&'static str, Option<&str>) {
    match phase {
        Phase::Waiting => ("old orders, not reached yet", None),
        Phase::Away { why } => ("skipped", Some(why)),
        Phase::Already => ("had these orders before", None),
        Phase::OnTrial => ("new orders, on trial", None),
        Phase::Checked => ("new orders, on trial and checked", None),
        Phase::Confirmed => ("new orders", None),
        Phase::Refused { why } => ("old orders, not changed", Some(why)),
        Phase::Failed { why } => ("new orders, on trial and not as they should be", Some(why)),
        Phase::Back { why } => ("old orders again", Some(why)),
        Phase::Lapses { why } => {
            ("on trial until it expires; the rollback could not be verified", Some(why))
        }
        Phase::Unknown { why } => ("unknown", Some(why)),
    }
}

/// How it ended, host by host. `is_done`: something was tried, or needed nothing.
pub fn end(
    fleet: &Fleet,
    planned: &[Planned<'_>],
    rollout: &RollOut,
    is_done: bool,
    terminal: &Terminal,
) {
    if terminal.json {
        let hosts = planned.iter().zip(rollout.phases()).enumerate();
        let hosts = hosts.map(|(nth, (one, phase))| Row {
            host: &one.host.name,
            wave: rollout.wave_of(nth).filter(|_| !phase.is_passed_over()).map(|wave| wave + 1),
            phase,
            changes: &one.changes,
            notes: &one.notes,
            help: one.help.as_deref(),
        });
        let changed = rollout.phases().contains(&Phase::Confirmed);
        terminal.json(&Report { orders: &fleet.origin, changed, hosts: hosts.collect() });
        return;
    }
    if !is_done {
        let problem = planned.iter().any(|one| one.problem.is_some());
        terminal.heading(match problem {
            true => "nothing was changed: some hosts cannot take these orders",
            false => "checked; nothing was changed",
        });
        if problem {
            terminal.note("fix those hosts, or select only the others");
        } else {
            let waves = rollout.waves().iter().enumerate().map(|(wave, range)| {
                let hosts = range.clone().filter(|nth| rollout.phases()[*nth] == Phase::Waiting);
                let hosts: Vec<usize> = hosts.collect();
                format!("  wave {}: {}", wave + 1, names(&hosts, planned))
            });
            waves.for_each(|line| terminal.line(line));
        }
        return;
    }
    let have = rollout.phases().iter().filter(|phase| phase.has_them()).count();
    let all = planned.len();
    terminal.heading(&match have == all {
        true => format!("{} these orders", counted(all, "host has", "hosts have")),
        false => {
            let verb = if have == 1 { "has" } else { "have" };
            format!("{have} of {} {verb} these orders", hosts_words(all))
        }
    });
    let ends = planned.iter().zip(rollout.phases());
    let ends = ends.map(|(one, phase)| (one.host.name.as_str(), phase, phase));
    for (phase, names) in alike(ends) {
        let (how, why) = ended(phase);
        terminal.line(format!("  {how}: {}", named(&names)));
        if let Some(why) = why {
            terminal.line(format!("    {why}"));
        }
    }
    if have < all {
        terminal.note("`tipstaff fleet post --resume` continues with the rest");
    }
}

/// All have them; some do not; or only some could not be asked.
pub fn ending(rollout: &RollOut) -> Ending {
    let without: Vec<&Phase> = rollout.phases().iter().filter(|phase| !phase.has_them()).collect();
    fn is_away(phase: &&Phase) -> bool {
        matches!(phase, Phase::Away { .. })
    }
    match without.is_empty() {
        true => Ending::Fine,
        false if without.iter().all(is_away) => Ending::Unknown,
        false => Ending::Differs,
    }
}
