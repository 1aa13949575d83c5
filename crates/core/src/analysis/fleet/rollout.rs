//! A roll-out as a machine of states: what became of each host so far says what is done
//! next. Whoever drives it asks for the next step, does it and says how it ended; whatever
//! happens, no host keeps orders that nobody checked, and a wave begins only when the one
//! before is confirmed.

use std::ops::Range;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// Where a host is in the roll-out.
#[derive(Clone, Debug, PartialEq, Eq, Hash, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "phase")]
pub enum Phase {
    /// It has what it had before; nothing was done yet.
    Waiting,
    /// It could not be asked, and is left out.
    Away {
        /// Why.
        why: String,
    },
    /// It had these orders before.
    Already,
    /// The new orders are on trial there, and nothing is known of them yet.
    OnTrial,
    /// On trial, and found as ordered.
    Checked,
    /// They stay.
    Confirmed,
    /// Nothing was changed there.
    Refused {
        /// Why.
        why: String,
    },
    /// They were on trial, something is wrong with them, and they must go.
    Failed {
        /// What.
        why: String,
    },
    /// It has what it had before, again.
    Back {
        /// Why they did not stay.
        why: String,
    },
    /// They were on trial and are not confirmed: it has what it had before again when the
    /// trial is over, though nobody could be asked.
    Lapses {
        /// Why they were not confirmed.
        why: String,
    },
    /// Whether they stay is not known: the answer did not come.
    Unknown {
        /// What was tried.
        why: String,
    },
}

impl Phase {
    /// Whether the new orders stay there.
    pub fn has_them(&self) -> bool {
        matches!(self, Self::Already | Self::Confirmed)
    }

    /// Whether the roll-out has nothing to do there: it was away, or had the orders before.
    pub fn is_passed_over(&self) -> bool {
        matches!(self, Self::Already | Self::Away { .. })
    }

    /// Whether nothing more is to be done for the roll-out to go on.
    fn stops(&self) -> bool {
        matches!(
            self,
            Self::Refused { .. }
                | Self::Failed { .. }
                | Self::Back { .. }
                | Self::Lapses { .. }
                | Self::Unknown { .. }
        )
    }
}

/// How a step ended on one host.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Progress {
    /// As it should.
    Done,
    /// The host says no: nothing changed by this step.
    Refused(String),
    /// The host could not be asked, or its answer did not come.
    Lost(String),
}

/// What is to be done next, on these hosts at once.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Next {
    /// Put the new orders on trial.
    Try(Vec<usize>),
    /// Check them: over a new connection, from within, from others.
    Check(Vec<usize>),
    /// Confirm them.
    Confirm(Vec<usize>),
    /// End the trial.
    Revert(Vec<usize>),
    /// Put back what was in force before the roll-out.
    PutBack(Vec<usize>),
    /// Nothing.
    End,
}

/// A roll-out.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RollOut {
    phases: Vec<Phase>,
    waves: Vec<Range<usize>>,
    all_or_nothing: bool,
    at_once: usize,
    /// Hosts that did not take back what they had before: not asked again.
    given_up: Vec<bool>,
    /// The host that failed first.
    stopped_by: Option<usize>,
}

impl RollOut {
    /// One over hosts that are each [`Phase::Waiting`], [`Phase::Away`] or
    /// [`Phase::Already`] now.
    pub fn new(phases: Vec<Phase>, waves: Vec<Range<usize>>, all_or_nothing: bool) -> Self {
        let given_up = vec![false; phases.len()];
        let stopped_by = phases.iter().position(Phase::stops);
        Self { phases, waves, all_or_nothing, at_once: usize::MAX, given_up, stopped_by }
    }

    /// At most so many hosts are on trial at a time, one at least: a larger wave is done in
    /// parts, each confirmed before the next begins. A trial must outlast the steps of all
    /// that are on trial with it.
    pub fn at_once(self, most: usize) -> Self {
        Self { at_once: most.max(1), ..self }
    }

    /// Where each host is.
    pub fn phases(&self) -> &[Phase] {
        &self.phases
    }

    /// Its waves.
    pub fn waves(&self) -> &[Range<usize>] {
        &self.waves
    }

    /// The wave that a host belongs to, from 0.
    pub fn wave_of(&self, host: usize) -> Option<usize> {
        self.waves.iter().position(|wave| wave.contains(&host))
    }

    /// The hosts of a wave, from 0, without those that are passed over.
    pub fn hosts_of(&self, wave: usize) -> Vec<usize> {
        let range = self.waves.get(wave).cloned().unwrap_or_default();
        range.filter(|nth| !self.phases[*nth].is_passed_over()).collect()
    }

    /// The host that failed first, so that no further wave begins.
    pub fn stopped_by(&self) -> Option<usize> {
        self.stopped_by
    }

    fn turns(&mut self, host: usize, phase: Phase) {
        if phase.stops() {
            self.stopped_by.get_or_insert(host);
        }
        self.phases[host] = phase;
    }

    fn hosts(&self, is_meant: impl Fn(&Phase) -> bool) -> Vec<usize> {
        let all = self.phases.iter().enumerate().filter(|(nth, _)| !self.given_up[*nth]);
        all.filter(|(_, phase)| is_meant(phase)).map(|(nth, _)| nth).collect()
    }

    /// What is to be done next.
    pub fn next(&self) -> Next {
        let failed = self.hosts(|phase| matches!(phase, Phase::Failed { .. }));
        let on_trial = self.hosts(|phase| *phase == Phase::OnTrial);
        let checked = self.hosts(|phase| *phase == Phase::Checked);
        if self.stopped_by.is_some() {
            let ends: Vec<usize> = [failed, on_trial, checked].concat();
            if !ends.is_empty() {
                return Next::Revert(ends);
            }
            let confirmed = self.hosts(|phase| *phase == Phase::Confirmed);
            return match self.all_or_nothing && !confirmed.is_empty() {
                true => Next::PutBack(confirmed),
                false => Next::End,
            };
        }
        if !on_trial.is_empty() {
            return Next::Check(on_trial);
        }
        if !checked.is_empty() {
            return Next::Confirm(checked);
        }
        for wave in &self.waves {
            let waiting = wave.clone().filter(|nth| self.phases.get(*nth) == Some(&Phase::Waiting));
            let waiting: Vec<usize> = waiting.take(self.at_once).collect();
            if !waiting.is_empty() {
                return Next::Try(waiting);
            }
        }
        Next::End
    }

    /// Says how [`Next::Try`] ended on a host.
    pub fn tried(&mut self, host: usize, how: Progress) {
        let phase = match how {
            Progress::Done => Phase::OnTrial,
            Progress::Refused(why) => Phase::Refused { why },
            // Perhaps they are on trial there.
            Progress::Lost(why) => Phase::Failed { why },
        };
        self.turns(host, phase);
    }

    /// Says how [`Next::Check`] ended on a host.
    pub fn checked(&mut self, host: usize, how: Progress) {
        let phase = match how {
            Progress::Done => Phase::Checked,
            Progress::Refused(why) | Progress::Lost(why) => Phase::Failed { why },
        };
        self.turns(host, phase);
    }

    /// Says how [`Next::Confirm`] ended on a host.
    pub fn confirmed(&mut self, host: usize, how: Progress) {
        let phase = match how {
            Progress::Done => Phase::Confirmed,
            Progress::Refused(why) => Phase::Failed { why },
            Progress::Lost(why) => Phase::Unknown { why },
        };
        self.turns(host, phase);
    }

    /// Says how [`Next::Revert`] ended on a host. `others`: why, where nothing was wrong
    /// with the host itself.
    pub fn reverted(&mut self, host: usize, how: Progress, others: &str) {
        let why = match &self.phases[host] {
            Phase::Failed { why } => why.clone(),
            _ => others.to_owned(),
        };
        self.phases[host] = match how {
            Progress::Done => Phase::Back { why },
            Progress::Refused(_) | Progress::Lost(_) => Phase::Lapses { why },
        };
    }

    /// Says that the trial of a host is over, and what it had before is in force again.
    pub fn lapsed(&mut self, host: usize) {
        if let Phase::Lapses { why } = &self.phases[host] {
            self.phases[host] = Phase::Back { why: why.clone() };
        }
    }

    /// Says how [`Next::PutBack`] ended on a host. `others`: why they had to go.
    pub fn put_back(&mut self, host: usize, how: Progress, others: &str) {
        match how {
            Progress::Done => self.phases[host] = Phase::Back { why: others.to_owned() },
            // It stays what it is, which is told.
            Progress::Refused(_) => self.given_up[host] = true,
            Progress::Lost(why) => self.phases[host] = Phase::Unknown { why },
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// Drives a roll-out to its end; `how` says how each step ends.
    fn drive(mut all: RollOut, mut how: impl FnMut(&'static str, usize) -> Progress) -> RollOut {
        for _ in 0..1_000 {
            match all.next() {
                Next::Try(hosts) => {
                    assert!(hosts.len() <= all.at_once);
                    let tries = |phase: &Phase| matches!(phase, Phase::OnTrial | Phase::Checked);
                    assert!(!all.phases().iter().any(tries), "one part at a time: {all:?}");
                    // A wave begins only when all before it are done with.
                    let first = hosts[0];
                    let begin = all.waves()[all.wave_of(first).unwrap()].start;
                    for phase in &all.phases()[..begin] {
                        let done = phase.has_them() || matches!(phase, Phase::Away { .. });
                        assert!(done, "{phase:?}");
                    }
                    hosts.into_iter().for_each(|host| all.tried(host, how("try", host)));
                }
                Next::Check(hosts) => {
                    hosts.into_iter().for_each(|host| all.checked(host, how("check", host)));
                }
                Next::Confirm(hosts) => {
                    for host in hosts {
                        // Nobody keeps what was not checked.
                        assert_eq!(all.phases()[host], Phase::Checked);
                        all.confirmed(host, how("confirm", host));
                    }
                }
                Next::Revert(hosts) => {
                    for host in hosts {
                        all.reverted(host, how("revert", host), "another host failed");
                    }
                }
                Next::PutBack(hosts) => {
                    for host in hosts {
                        all.put_back(host, how("put back", host), "another host failed");
                    }
                }
                Next::End => return all,
            }
        }
        panic!("it never ends: {all:?}");
    }

    fn phase(waiting: usize) -> Vec<Phase> {
        vec![Phase::Waiting; waiting]
    }

    #[test]
    fn all_go_well_one_fails_and_all_go_back() {
        let waves = vec![0..1, 1..3, 3..5];
        let well = drive(RollOut::new(phase(5), waves.clone(), false), |_, _| Progress::Done);
        assert!(well.phases().iter().all(|phase| *phase == Phase::Confirmed));
        fn fails(step: &'static str, host: usize) -> Progress {
            match (step, host) {
                ("check", 2) => Progress::Refused("cut off".into()),
                _ => Progress::Done,
            }
        }
        let one = drive(RollOut::new(phase(5), waves.clone(), false), fails);
        fn back(why: &str) -> Phase {
            Phase::Back { why: why.into() }
        }
        let (others, own) = (back("another host failed"), back("cut off"));
        let waiting = Phase::Waiting;
        assert_eq!(
            one.phases(),
            [Phase::Confirmed, others.clone(), own.clone(), waiting.clone(), waiting.clone()]
        );
        let none = drive(RollOut::new(phase(5), waves, true), fails);
        assert_eq!(none.phases(), [others.clone(), others, own, waiting.clone(), waiting]);
    }

    #[test]
    fn who_is_away_or_has_them_is_left_alone() {
        let mut begin = phase(3);
        begin[0] = Phase::Already;
        begin[1] = Phase::Away { why: "no route".into() };
        let mut asked = Vec::new();
        drive(RollOut::new(begin, vec![0..1, 1..3], true), |_, host| {
            asked.push(host);
            Progress::Done
        });
        asked.dedup();
        assert_eq!(asked, [2]);
    }

    proptest! {
        #[test]
        fn whatever_happens_no_host_is_left_between(
            ends in proptest::collection::vec(0u8..12, 200),
            hosts in 1usize..9,
            first in 1usize..9,
            at_once in 0usize..9,
            all_or_nothing: bool,
        ) {
            let first = first.min(hosts);
            let waves = [0..first, first..hosts];
            let waves = waves.into_iter().filter(|wave| !wave.is_empty()).collect();
            let mut ends = ends.into_iter();
            let begin = RollOut::new(phase(hosts), waves, all_or_nothing).at_once(at_once);
            let all = drive(begin, |_, _| match ends.next() {
                Some(0) => Progress::Refused("it says no".into()),
                Some(1) => Progress::Lost("no answer".into()),
                _ => Progress::Done,
            });
            for phase in all.phases() {
                let between =
                    matches!(phase, Phase::OnTrial | Phase::Checked | Phase::Failed { .. });
                prop_assert!(!between, "{all:?}");
            }
            let stays = all.phases().iter().enumerate().filter(|(_, p)| **p == Phase::Confirmed);
            if all_or_nothing && all.stopped_by().is_some() {
                // Only those stay that refused to go back.
                for (host, _) in stays {
                    prop_assert!(all.given_up[host], "{all:?}");
                }
            }
            if all.stopped_by().is_none() {
                prop_assert!(all.phases().iter().all(Phase::has_them), "{all:?}");
            }
        }
    }
}
