//! What a change of orders means: which traffic gets another answer, exactly.
//!
//! Both lists are walked together, one dimension after the other (direction,
//! family, traffic, source, destination, interface, program). In each, the
//! values that the same rules of both lists still mean are taken together, and
//! where the rules that are left say the same in the same order, nothing
//! further is looked at. What remains are the pieces of traffic whose answer
//! differs, merged again where they differ in one dimension only. A foundation
//! that is switched is told beside them. Rules count as they are active at this moment.

mod conditions;
pub(crate) mod lanes;
mod walk;
mod words;

use std::collections::BTreeSet;
use std::net::IpAddr;
use std::sync::Arc;

use schemars::JsonSchema;
use serde::Serialize;

use crate::brief::{Brief, RuleIndex};
use crate::decision::RuleQuery;
use crate::names::address::Family;
use crate::names::range_set::RangeSet;
use crate::orders::{Action, RuleName, Sharing};
use crate::packet::{Direction, ProgramIndex};
pub use words::Line;

/// The dimensions behind direction and family, in their order.
pub(crate) const AXES: usize = 5;
const TRAFFIC: usize = 0;
const SOURCE: usize = 1;
const DESTINATION: usize = 2;
const INTERFACE: usize = 3;
const PROGRAM: usize = 4;

/// A set of values of a dimension; `None`: all.
pub(crate) type Values = Option<Arc<RangeSet<u128>>>;

/// What a list says of a piece of traffic.
#[derive(Clone, Debug, PartialEq, Eq, Hash, JsonSchema, Serialize)]
pub struct Said {
    /// The answer.
    pub action: Action,
    /// The rule that gives it; `None` for the standing answer.
    pub rule: Option<RuleName>,
    /// Its place.
    pub position: Option<usize>,
    /// How often it lets something in, in words.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub at_most: Option<String>,
    #[serde(skip)]
    rate: Option<Rate>,
}

/// What matters of a limit.
type Rate = (u64, u64, bool, Action);

/// How an answer changes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Kind {
    /// It was kept out, and is let through.
    LetIn,
    /// It was let through, and is dropped in silence.
    Denied,
    /// It was let through, and is kept out with an answer.
    Refused,
    /// It is let through as before, but less or more often.
    Rate,
    /// It was kept out in silence, and is with an answer.
    Answered,
    /// It was kept out with an answer, and is in silence.
    Silenced,
}

/// A piece of traffic whose answer changes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Change {
    /// How.
    pub kind: Kind,
    /// Which way.
    pub direction: Direction,
    /// Of one family, or of both alike.
    pub family: Option<Family>,
    /// What the first list says.
    pub before: Said,
    /// What the second one says.
    pub after: Said,
    axes: [Values; AXES],
    /// The programs that the numbers of the last axis mean; 0 is any other, and
    /// the number behind the last one whoever cannot be identified.
    programs: Vec<String>,
    interfaces: Vec<(u32, String)>,
}

/// All of them.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Comparison {
    /// The pieces, what is let in first.
    pub changes: Vec<Change>,
    /// Whether there was too much to look at to name them all: there are at least
    /// these.
    pub cut_off: bool,
    /// Address assignment (DHCP, DHCPv6) is a foundation now (`true`), or is
    /// left to the rules now; `None`: as before.
    pub address_assignment: Option<bool>,
}

/// Pieces beyond this number are not looked for.
pub const MOST_PIECES: usize = 20_000;

/// Nor are more ranges kept than this in the pieces of one direction and family: a
/// long list is in each piece that it bounds.
const MOST_RANGES: usize = 200_000;

/// What a boundary costs beside the rules that are held there, in words of rules:
/// it is sorted and copied.
const BOUNDARY: usize = 8;

/// So many words of rules are looked at, which takes less than two seconds; what a
/// change means is never worth waiting for longer.
const MOST_WORK: usize = 120_000_000;

impl Said {
    fn new(brief: &Brief, index: Option<RuleIndex>, direction: Direction) -> Self {
        let Some((index, rule)) = index.and_then(|i| Some((i, brief.rule(i)?))) else {
            let action = brief.standing.of(direction);
            return Self { action, rule: None, position: None, at_most: None, rate: None };
        };
        Self {
            action: rule.action,
            rule: Some(rule.name.clone()),
            position: Some(index.position()),
            at_most: rule.at_most.as_ref().map(ToString::to_string),
            rate: rule.limit().map(|limit| {
                let per_source = limit.sharing == Sharing::PerSource;
                (limit.increment, limit.tolerance, per_source, Action::from(limit.over))
            }),
        }
    }

    /// Who says it: `rule 3 (plates)`, `the standing answer`.
    pub fn by(&self) -> String {
        match (&self.rule, self.position) {
            (Some(name), Some(position)) => format!("rule {position} ({name})"),
            _ => "the standing answer".into(),
        }
    }
}

impl Kind {
    /// All, in the order in which they are shown.
    pub const ALL: [Self; 6] =
        [Self::LetIn, Self::Rate, Self::Denied, Self::Refused, Self::Answered, Self::Silenced];

    fn between(before: &Said, after: &Said) -> Option<Self> {
        Some(match (before.action, after.action) {
            (Action::Allow, Action::Allow) => {
                return (before.rate != after.rate).then_some(Self::Rate);
            }
            (_, Action::Allow) => Self::LetIn,
            (Action::Allow, Action::Deny) => Self::Denied,
            (Action::Allow, Action::Refuse) => Self::Refused,
            (Action::Deny, Action::Refuse) => Self::Answered,
            (Action::Refuse, Action::Deny) => Self::Silenced,
            (Action::Deny, Action::Deny) | (Action::Refuse, Action::Refuse) => return None,
        })
    }
}

impl Comparison {
    /// Compares what two lists say on one host.
    pub fn between(before: &Brief, after: &Brief) -> Self {
        let now = after.foundations.address_assignment;
        let changed = before.foundations.address_assignment != now;
        let address_assignment = changed.then_some(now);
        Self { address_assignment, ..walk::compare(before, after) }
    }

    /// Whether nothing changes.
    pub fn is_empty(&self) -> bool {
        self.changes.is_empty() && !self.cut_off && self.address_assignment.is_none()
    }

    /// The change that a packet meets; `program` is the file of the one that
    /// listens or sends, which the lists may count otherwise.
    pub fn met_by(&self, question: &RuleQuery, program: Option<&str>) -> Option<&Change> {
        self.changes.iter().find(|change| change.holds(question, program))
    }
}

impl Change {
    /// Whether a packet belongs to this piece.
    pub fn holds(&self, question: &RuleQuery, program: Option<&str>) -> bool {
        fn number(address: IpAddr) -> u128 {
            match address {
                IpAddr::V4(a) => u128::from(u32::from(a)),
                IpAddr::V6(a) => u128::from(a),
            }
        }
        let listed = match question.program {
            ProgramIndex::UNKNOWN => Some(self.programs.len()),
            _ => self.programs.iter().position(|known| Some(known.as_str()) == program),
        };
        let point = [
            u128::from(question.key),
            number(question.source),
            number(question.destination),
            u128::from(question.interface.0),
            listed.map_or(0, |at| at as u128 + 1),
        ];
        let family = Family::of_address(question.source);
        self.direction == question.direction
            && self.family.is_none_or(|of| of == family)
            && self
                .axes
                .iter()
                .zip(point)
                .all(|(values, point)| values.as_ref().is_none_or(|values| values.contains(point)))
    }
}

/// The programs that either list names.
fn programs_of_both(before: &Brief, after: &Brief) -> Vec<String> {
    let both: BTreeSet<&String> = before.programs.iter().chain(&after.programs).collect();
    both.into_iter().cloned().collect()
}
