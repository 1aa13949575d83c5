//! What a revision counts, and since when. It stands in the record, so that a post can
//! go on counting where nothing has changed what is counted.

use std::collections::HashMap;

use serde::{Deserialize, Serialize};
use tipstaff_core::brief::{Brief, RuleIndex};
use tipstaff_core::decision::Speaker;
use tipstaff_core::decision::foundations::Foundation;
use tipstaff_core::moment::Moment;
use tipstaff_core::orders::Action;
use tipstaff_core::packet::Direction;

use crate::contract::RuleCounted;

/// A rule as it is counted.
#[derive(Clone, Debug, Deserialize, Serialize)]
struct CountedRule {
    name: String,
    /// [`Brief::meanings`].
    meaning: u64,
    since: Moment,
    /// Whether it has a rate; `None`: an earlier version posted it.
    #[serde(default)]
    limited: Option<bool>,
    /// Whether packets may match it; `None`: likewise.
    #[serde(default)]
    active: Option<bool>,
}

impl CountedRule {
    fn key(&self) -> (&str, u64) {
        (&self.name, self.meaning)
    }
}

/// A standing answer as it is counted.
#[derive(Clone, Copy, Debug, Deserialize, Serialize)]
struct CountedAnswer {
    action: Action,
    since: Moment,
}

/// All that a revision counts.
#[derive(Clone, Debug, Default, Deserialize, Serialize)]
pub(crate) struct Counted {
    /// In their places.
    #[serde(default)]
    counted_rules: Vec<CountedRule>,
    /// In the order of [`Direction::ALL`].
    #[serde(default)]
    counted_answers: Vec<CountedAnswer>,
    /// Of foundations.
    #[serde(default)]
    counted_since: Option<Moment>,
}

impl Counted {
    /// What a list counts from `now` on; `old`: what was counted up to now.
    pub(crate) fn of(brief: &Brief, old: Option<&Self>, now: Moment) -> Self {
        let known: HashMap<(&str, u64), Moment> = old
            .iter()
            .flat_map(|old| &old.counted_rules)
            .map(|rule| (rule.key(), rule.since))
            .collect();
        let rules = brief.rules().zip(brief.meanings()).map(|(rule, meaning)| {
            let name = rule.name.as_str();
            let since = known.get(&(name, meaning)).copied().unwrap_or(now);
            let limited = Some(rule.at_most.is_some());
            let active = Some(rule.is_active());
            CountedRule { name: name.to_owned(), meaning, since, limited, active }
        });
        let answers = Direction::ALL.map(|direction| {
            let action = brief.standing.of(direction);
            let before = old.and_then(|old| old.counted_answers.get(direction as usize));
            let since = before.filter(|before| before.action == action).map(|b| b.since);
            CountedAnswer { action, since: since.unwrap_or(now) }
        });
        Self {
            counted_rules: rules.collect(),
            counted_answers: answers.to_vec(),
            counted_since: old.and_then(|old| old.counted_since).or(Some(now)),
        }
    }

    /// The rules by their names and meanings.
    pub(crate) fn places(&self) -> HashMap<(&str, u64), RuleIndex> {
        let all = self.counted_rules.iter().enumerate();
        all.map(|(at, rule)| (rule.key(), RuleIndex(at as u32))).collect()
    }

    /// Where that is counted here which `speaker` has been in another revision;
    /// `None` where it begins anew.
    pub(crate) fn place(
        &self,
        places: &HashMap<(&str, u64), RuleIndex>,
        old: &Self,
        speaker: Speaker,
    ) -> Option<Speaker> {
        let rule = |RuleIndex(index): RuleIndex| {
            places.get(&old.counted_rules.get(index as usize)?.key()).copied()
        };
        match speaker {
            Speaker::Rule(index) => rule(index).map(Speaker::Rule),
            Speaker::Beyond(index) => rule(index).map(Speaker::Beyond),
            Speaker::Standing(direction) => {
                let at = direction as usize;
                let (new, old) = (self.counted_answers.get(at)?, old.counted_answers.get(at)?);
                (new.action == old.action).then_some(speaker)
            }
            other => Some(other),
        }
    }

    /// Since when each is counted; of a revision that an earlier version posted nobody
    /// knows.
    pub(crate) fn since(&self, speaker: Speaker) -> Option<Moment> {
        match speaker {
            Speaker::Rule(RuleIndex(index)) | Speaker::Beyond(RuleIndex(index)) => {
                self.counted_rules.get(index as usize).map(|rule| rule.since)
            }
            Speaker::Standing(direction) => {
                self.counted_answers.get(direction as usize).map(|answer| answer.since)
            }
            _ => self.counted_since,
        }
    }

    /// The rules in their places; `None`: an earlier version posted them.
    pub(crate) fn rules(&self) -> Option<Vec<RuleCounted>> {
        let rules = self.counted_rules.iter().map(|rule| {
            Some(RuleCounted {
                name: rule.name.clone(),
                has_rate: rule.limited?,
                is_active: rule.active?,
            })
        });
        rules.collect()
    }

    /// All rules, standing answers and foundations that are counted.
    pub(crate) fn speakers(&self) -> impl Iterator<Item = Speaker> {
        let rules = (0..self.counted_rules.len() as u32).map(|at| Speaker::Rule(RuleIndex(at)));
        let foundations = Foundation::ALL.map(Speaker::Foundation);
        rules.chain(Direction::ALL.map(Speaker::Standing)).chain(foundations)
    }
}
