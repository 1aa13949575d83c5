//! The one ordered list that this host obeys.

use serde::{Deserialize, Serialize};

use crate::orders::{FoundationSwitches, Orders, Rule, Standing};

/// Place of a rule in the list, from 0. People see [`RuleIndex::position`].
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(transparent)]
pub struct RuleIndex(pub u32);

impl RuleIndex {
    /// Counted from 1.
    pub fn position(self) -> usize {
        self.0 as usize + 1
    }
}

/// Standing answers and rules of one host. Paused rules keep their place, so
/// that positions are those of the orders.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Brief {
    /// Answers for traffic that no rule speaks for.
    pub standing: Standing,
    /// Foundations that can be switched off.
    pub foundations: FoundationSwitches,
    /// The rules in order.
    pub rules: Vec<Rule>,
}

impl Brief {
    /// The list that these orders mean for this host.
    pub fn of(orders: &Orders) -> Self {
        Self {
            standing: orders.standing,
            foundations: orders.foundations,
            rules: orders.rules.clone(),
        }
    }

    /// A rule by its place.
    pub fn rule(&self, index: RuleIndex) -> Option<&Rule> {
        self.rules.get(index.0 as usize)
    }

    /// All rules with their places.
    pub fn indexed(&self) -> impl DoubleEndedIterator<Item = (RuleIndex, &Rule)> {
        self.rules.iter().enumerate().map(|(at, rule)| (RuleIndex(at as u32), rule))
    }
}
