//! The one ordered list that this host obeys.

use serde::{Deserialize, Serialize};

use crate::interface::Interface;
use crate::names::spans::Spans;
use crate::orders::{FoundationSwitches, InterfaceCondition, Orders, Rule, Standing};
use crate::packet::InterfaceIndex;

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
    /// The host's interfaces, by which interface conditions are resolved.
    pub interfaces: Vec<(InterfaceIndex, String)>,
}

impl Brief {
    /// The list that these orders mean for a host without interfaces: rules
    /// that name one never speak there.
    pub fn of(orders: &Orders) -> Self {
        Self::on(orders, &[])
    }

    /// The list that these orders mean for a host with these interfaces.
    pub fn on(orders: &Orders, interfaces: &[Interface]) -> Self {
        Self {
            standing: orders.standing,
            foundations: orders.foundations,
            rules: orders.rules.clone(),
            interfaces: interfaces
                .iter()
                .map(|i| (InterfaceIndex(i.index), i.name.clone()))
                .collect(),
        }
    }

    /// The name of an interface.
    pub fn interface_name(&self, index: InterfaceIndex) -> Option<&str> {
        self.interfaces.iter().find(|(i, _)| *i == index).map(|(_, name)| name.as_str())
    }

    /// The indexes of the interfaces that a condition means; `None` is any.
    pub fn interfaces_of(&self, condition: &InterfaceCondition) -> Option<Spans<u32>> {
        let meant = || self.interfaces.iter().filter(|(_, name)| condition.holds(name));
        (!condition.is_any())
            .then(|| Spans::from_ranges(meant().map(|(index, _)| (index.0, index.0))))
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
