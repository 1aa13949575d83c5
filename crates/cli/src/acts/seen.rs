//! What was seen here lately, for the review: rules that nothing matches, and ports that are
//! asked for. What cannot be read is left out: the review is about orders first.

use std::collections::{HashMap, HashSet};

use jiff::{Span, Timestamp};
use tipstaff_core::analysis::log::{Demand, LogFilter, Wanted};
use tipstaff_core::brief::Brief;
use tipstaff_core::decision::Speaker;
use tipstaff_core::moment::Moment;
use tipstaff_gate::Gate;
use tipstaff_gate::kernel::KernelGate;

use crate::acts::decisions::{gather, log_file, log_files, moment};
use crate::arguments::Common;
use crate::chosen;

/// So many days of the log are looked at.
const DAYS: i64 = 7;

/// What was seen.
#[derive(Default)]
pub struct Seen {
    /// Rules of these orders that nothing matches, and since when they are counted.
    pub unmatched: Vec<(String, Moment)>,
    /// Ports that nobody was let in to, and somebody asked for.
    pub wanted: Vec<Wanted>,
}

/// Looks at the gate's counts and at the log.
pub fn here(common: &Common, brief: &Brief) -> Seen {
    Seen {
        unmatched: unmatched(common, brief).unwrap_or_default(),
        wanted: wanted(common).unwrap_or_default(),
    }
}

/// A count belongs to what a rule means: only rules that mean the same in force are told of.
fn unmatched(common: &Common, brief: &Brief) -> Option<Vec<(String, Moment)>> {
    let in_force = chosen::from_force(&chosen::in_force(common).ok()?.0?).ok()?.brief;
    let gate = KernelGate::new(&common.run_dir).ok()?;
    let since: HashMap<_, _> = gate.counted_since().ok()?.into_iter().collect();
    let tallies = gate.tallies().ok()?.into_iter().filter(|(_, tally)| tally.packets > 0);
    let matched: HashSet<Speaker> = tallies.map(|(speaker, _)| speaker).collect();
    let meant: HashSet<(&str, u64)> =
        brief.rules().zip(brief.meanings()).map(|(rule, m)| (rule.name.as_str(), m)).collect();
    let rules = in_force.indexed().zip(in_force.meanings());
    let quiet = rules.filter(|((index, rule), meaning)| {
        let counted = [Speaker::Rule(*index), Speaker::Beyond(*index)];
        !counted.iter().any(|speaker| matched.contains(speaker))
            && meant.contains(&(rule.name.as_str(), *meaning))
    });
    let told = quiet.filter_map(|((index, rule), _)| {
        let since = since.get(&Speaker::Rule(index)).copied().flatten()?;
        Some((rule.name.to_string(), since))
    });
    Some(told.collect())
}

fn wanted(common: &Common) -> Option<Vec<Wanted>> {
    let since = Timestamp::now().checked_sub(Span::new().hours(24 * DAYS)).ok()?;
    let filter = LogFilter { since: Some(moment(since)), ..LogFilter::in_force() };
    let files = log_files(&log_file(common)).ok()?;
    let (all, _) = gather(&files, &filter, Demand::default, Demand::add, Demand::merge).ok()?;
    Some(all.wanted())
}
