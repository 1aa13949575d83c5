//! Which rules are shown.

use std::net::IpAddr;

use tipstaff_core::names::range_set::RangeSet;
use tipstaff_core::names::traffic::TrafficKey;
use tipstaff_core::orders::{Action, Inactive, Rule};
use tipstaff_core::packet::Direction;

use crate::acts::named;
use crate::arguments::{RulesOptions, RulesOrder};
use crate::chosen::LoadedPolicy;
use crate::failure::Failure;

/// Which rules are shown, and in which order.
pub struct Wanted {
    pub keys: Option<RangeSet<TrafficKey>>,
    pub source: Option<IpAddr>,
    pub group: Option<String>,
    pub direction: Option<Direction>,
    pub action: Option<Action>,
    pub text: Option<String>,
    pub paused: bool,
    pub notes: bool,
    pub sort: RulesOrder,
}

impl Wanted {
    pub fn everything() -> Self {
        let sort = RulesOrder::Position;
        Self {
            keys: None,
            source: None,
            group: None,
            direction: None,
            action: None,
            text: None,
            paused: false,
            notes: false,
            sort,
        }
    }

    pub fn new(judge: &LoadedPolicy, options: &RulesOptions) -> Result<Self, Failure> {
        let keys = match &options.traffic {
            Some(text) => Some(named::traffic(judge, text)?),
            None => None,
        };
        let group = options.group.clone();
        let direction = options.way.map(Direction::from);
        let (action, text) = (options.action.map(Action::from), options.text.as_ref());
        let text = text.map(|text| text.to_lowercase());
        let RulesOptions { source, paused, notes, sort, .. } = *options;
        Ok(Self { keys, source, group, direction, action, text, paused, notes, sort })
    }

    pub fn shows(&self, rule: &Rule) -> bool {
        self.keys.as_ref().is_none_or(|keys| {
            rule.traffic.keys.as_ref().is_none_or(|own| !own.intersection(keys).is_empty())
        }) && self.source.is_none_or(|address| {
            rule.source.addresses.as_ref().is_none_or(|set| set.contains(address))
        }) && self.group.as_ref().is_none_or(|group| rule.group.as_ref() == Some(group))
            && self.direction.is_none_or(|direction| rule.direction == direction)
            && self.action.is_none_or(|action| rule.action == action)
            && self.text.as_ref().is_none_or(|text| says(rule, text))
            && (!self.paused || rule.inactive == Some(Inactive::Paused))
    }

    /// Whether what says so is shown, where only some actions are.
    pub fn says(&self, action: Action) -> bool {
        self.action.is_none_or(|wanted| action == wanted)
    }

    pub fn shows_all(&self) -> bool {
        self.keys.is_none()
            && self.source.is_none()
            && self.group.is_none()
            && self.direction.is_none()
            && self.action.is_none()
            && self.text.is_none()
            && !self.paused
    }
}

/// Whether a text, in small letters, stands in the name or the note of a rule.
fn says(rule: &Rule, text: &str) -> bool {
    let note = rule.note.as_deref().unwrap_or_default();
    [rule.name.as_str(), note].iter().any(|own| own.to_lowercase().contains(text))
}
