//! Which rules of a list ever speak, and which of them would be missed:
//! exactly, over all traffic, with what several rules cover together.
//!
//! The walk goes through the dimensions as [`crate::compare`] does. A branch in
//! which nothing can be learnt any more is left out, so that lists whose rules
//! are about different things cost little.

use std::collections::{BTreeSet, HashMap};

use crate::brief::{Brief, RuleIndex};
use crate::compare::lanes::{AXES, Lane, Values, lanes};
use crate::orders::Action;

/// Steps of the walk that are taken for one list; what is open then stays open.
pub const MOST_STEPS: usize = 3_000_000;

/// What is known of a rule.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Coverage {
    /// Whether there is traffic for which it speaks.
    pub speaks: bool,
    /// Whether some of that traffic would get another answer without it.
    pub needed: bool,
    /// Where it never speaks: the rules before it that take everything.
    pub covered_by: BTreeSet<RuleIndex>,
}

/// What a whole list comes to.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Covered {
    /// One for each rule, silent ones too (which do not speak).
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
    steps: usize,
    /// Look for who takes everything of this one.
    wanted: Option<usize>,
}

/// Works it out.
pub fn coverage(brief: &Brief) -> Covered {
    let mut covered =
        Covered { rules: vec![Coverage::default(); brief.rules.len()], gave_up: false };
    for (direction, lane) in lanes(brief) {
        let standing = match direction {
            crate::packet::Direction::Inbound => brief.standing.inbound,
            crate::packet::Direction::Outbound => brief.standing.outbound,
            crate::packet::Direction::Transit => brief.standing.transit,
        };
        let all: Vec<usize> = (0..lane.len()).collect();
        let mut walk =
            Walk { brief, lane, standing, covered: &mut covered, steps: 0, wanted: None };
        walk.narrow(0, all.clone());
        // Who covers those that never speak in this lane.
        for step in all {
            let index = walk.lane.index(step);
            if !walk.covered.rules[index.0 as usize].speaks && !walk.covered.gave_up {
                walk.wanted = Some(step);
                walk.narrow(0, (0..=step).collect());
                walk.wanted = None;
            }
        }
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
                !known.speaks || !known.needed
            }),
        }
    }

    fn narrow(&mut self, axis: usize, steps: Vec<usize>) {
        self.steps += 1;
        if self.steps > MOST_STEPS {
            self.covered.gave_up = true;
        }
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
        known.speaks = true;
        known.needed |= differs;
    }

    /// The rules that hold together, for each kind of values of an axis.
    fn classes(&self, axis: usize, steps: &[usize]) -> Vec<Vec<usize>> {
        let conditions: Vec<&Values> =
            steps.iter().map(|step| self.lane.condition(*step, axis)).collect();
        if conditions.iter().all(|condition| condition.is_none()) {
            return vec![steps.to_vec()];
        }
        let whole = self.lane.whole(axis);
        let mut toggles: Vec<(u128, usize)> = Vec::new();
        let mut row = vec![0u64; steps.len().div_ceil(64)];
        for (at, condition) in conditions.iter().enumerate() {
            match condition {
                None => row[at / 64] |= 1 << (at % 64),
                Some(spans) => {
                    for (first, last) in spans.ranges() {
                        toggles.push((*first, at));
                        toggles.extend(last.checked_add(1).map(|behind| (behind, at)));
                    }
                }
            }
        }
        toggles.sort_unstable();
        let mut seen: HashMap<Vec<u64>, ()> = HashMap::new();
        let mut order: Vec<Vec<u64>> = Vec::new();
        let mut note = |row: &Vec<u64>, from: u128, to: u128| {
            let meets = whole.ranges().iter().any(|(a, b)| *a <= to && from <= *b);
            if meets && seen.insert(row.clone(), ()).is_none() {
                order.push(row.clone());
            }
        };
        let mut from = 0u128;
        for (at, rule) in toggles {
            if at > from {
                note(&row, from, at - 1);
                from = at;
            }
            row[rule / 64] ^= 1 << (rule % 64);
        }
        note(&row, from, u128::MAX);
        let held = |row: Vec<u64>| {
            let kept =
                steps.iter().enumerate().filter(|(at, _)| row[at / 64] >> (at % 64) & 1 == 1);
            kept.map(|(_, step)| *step).collect()
        };
        order.into_iter().map(held).collect()
    }
}
