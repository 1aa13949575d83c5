//! Which rules of a list ever match, and which of them would be missed:
//! exactly, over all traffic, with what several rules cover together.
//!
//! The walk goes through the dimensions as [`crate::analysis::compare`] does. A branch in
//! which nothing can be learnt any more is left out, so that lists whose rules
//! are about different things cost little.

use std::collections::BTreeSet;

use super::rows::rows;
use crate::analysis::compare::lanes::{AXES, Lane, Values, lanes};
use crate::brief::{Brief, RuleIndex};
use crate::orders::Action;

/// What is looked at for one list, in boundaries and words of rules, which takes
/// about a second; what is open then stays open.
const MOST_WORK: usize = 60_000_000;

/// What is known of a rule.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Coverage {
    /// Whether there is traffic for which it decides.
    pub decides: bool,
    /// Whether some of that traffic would get another answer without it.
    pub needed: bool,
    /// Where it never matches: the rules above it that already match all of its traffic.
    pub covered_by: BTreeSet<RuleIndex>,
}

/// What a whole list comes to.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Covered {
    /// One for each rule, silent ones too (which do not match).
    pub rules: Vec<Coverage>,
    /// Whether the walk was given up: then "never" and "not needed" are not known.
    pub gave_up: bool,
}

/// An answer as far as it can be told apart from outside.
#[derive(Clone, Copy, PartialEq, Eq)]
struct Answer {
    action: Action,
    /// Rates and records make an answer one of its own.
    own: Option<RuleIndex>,
}

struct Walk<'b, 'c> {
    brief: &'b Brief,
    lane: Lane,
    standing: Action,
    covered: &'c mut Covered,
    /// What may still be looked at: [`MOST_WORK`].
    work: usize,
    /// Look for who takes everything of this one.
    wanted: Option<usize>,
}

/// Works it out.
pub fn coverage(brief: &Brief) -> Covered {
    let mut covered =
        Covered { rules: vec![Coverage::default(); brief.rules.len()], gave_up: false };
    let mut work = MOST_WORK;
    for (direction, lane) in lanes(brief) {
        let standing = match direction {
            crate::packet::Direction::Inbound => brief.standing.inbound,
            crate::packet::Direction::Outbound => brief.standing.outbound,
            crate::packet::Direction::Transit => brief.standing.transit,
        };
        let all: Vec<usize> = (0..lane.len()).collect();
        let mut walk = Walk { brief, lane, standing, covered: &mut covered, work, wanted: None };
        walk.narrow(0, all.clone());
        // Who covers those that never match in this lane.
        for step in all {
            let index = walk.lane.index(step);
            if !walk.covered.rules[index.0 as usize].decides && !walk.covered.gave_up {
                walk.wanted = Some(step);
                walk.narrow(0, (0..=step).collect());
                walk.wanted = None;
            }
        }
        work = walk.work;
    }
    covered
}

impl Walk<'_, '_> {
    fn answer(&self, step: usize) -> Answer {
        let index = self.lane.index(step);
        let rule = self.brief.rule(index);
        let own = rule.is_some_and(|rule| rule.at_most.is_some() || rule.log);
        let action = rule.map_or(Action::Deny, |rule| rule.action);
        Answer { action, own: own.then_some(index) }
    }

    /// Whether a branch with these rules can still tell anything new.
    fn tells(&self, steps: &[usize]) -> bool {
        match self.wanted {
            Some(wanted) => steps.contains(&wanted),
            None => steps.iter().any(|step| {
                let known = &self.covered.rules[self.lane.index(*step).0 as usize];
                !known.decides || !known.needed
            }),
        }
    }

    fn narrow(&mut self, axis: usize, steps: Vec<usize>) {
        self.work = self.work.saturating_sub(1 + steps.len());
        self.covered.gave_up |= self.work == 0;
        let steps = match self.wanted {
            // The one in question comes last, and must not end the list before its time.
            Some(_) => steps,
            None => self.lane.two_deep(axis, steps),
        };
        if self.covered.gave_up || !self.tells(&steps) {
            return;
        }
        if axis == AXES {
            self.leaf(&steps);
            return;
        }
        for steps in self.classes(axis, &steps) {
            self.narrow(axis + 1, steps);
        }
    }

    fn leaf(&mut self, steps: &[usize]) {
        let Some(first) = steps.first().copied() else { return };
        let index = self.lane.index(first);
        if let Some(wanted) = self.wanted {
            let covered = self.lane.index(wanted);
            self.covered.rules[covered.0 as usize].covered_by.insert(index);
            return;
        }
        let next =
            steps.get(1).map_or(Answer { action: self.standing, own: None }, |s| self.answer(*s));
        let differs = self.answer(first) != next;
        let known = &mut self.covered.rules[index.0 as usize];
        known.decides = true;
        known.needed |= differs;
    }

    /// The rules that hold together, for each kind of values of an axis.
    fn classes(&mut self, axis: usize, steps: &[usize]) -> Vec<Vec<usize>> {
        let conditions: Vec<&Values> =
            steps.iter().map(|step| self.lane.condition(*step, axis)).collect();
        if conditions.iter().all(|condition| condition.is_none()) {
            return vec![steps.to_vec()];
        }
        let (rows, work) = rows(&conditions, self.lane.whole(axis));
        self.work = self.work.saturating_sub(work);
        if self.work == 0 {
            self.covered.gave_up = true;
        }
        rows.iter().map(|row| row.iter().map(|at| steps[*at]).collect()).collect()
    }
}
