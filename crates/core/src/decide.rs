//! The reference: walk the list, the first rule that holds in all its
//! conditions speaks. It is the definition of truth, and slow on purpose; the
//! tables and the kernel's program must agree with it.

use std::net::IpAddr;

use serde::Serialize;

use crate::brief::{Brief, RuleIndex};
use crate::foundations::{Before, Foundation, before_rules};
use crate::names::traffic::TrafficKey;
use crate::orders::{Action, Rule};
use crate::packet::{Direction, Facts};

/// Who decided.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize)]
#[serde(rename_all = "lowercase", tag = "kind", content = "which")]
pub enum Speaker {
    /// Not IP: nobody was asked.
    Nobody,
    /// A foundation.
    Foundation(Foundation),
    /// A rule.
    Rule(RuleIndex),
    /// The standing answer.
    Standing(Direction),
    /// The kernel's tables were unsound; the packet was dropped.
    Unsound,
}

/// The verdict and who gave it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize)]
pub struct Decision {
    /// Allow or deny.
    pub verdict: Action,
    /// Who spoke.
    pub speaker: Speaker,
}

/// The one condition of a rule that did not hold.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Mismatch {
    /// The rule is paused.
    Paused,
    /// Another traffic.
    Traffic,
    /// Another source.
    Source,
}

/// The first condition of `rule` that fails, in the order paused, traffic,
/// source; `None` when the rule speaks.
pub fn mismatch(rule: &Rule, key: TrafficKey, source: IpAddr) -> Option<Mismatch> {
    if !rule.enabled {
        Some(Mismatch::Paused)
    } else if rule.traffic.keys.as_ref().is_some_and(|keys| !keys.contains(key.0)) {
        Some(Mismatch::Traffic)
    } else if rule.source.addresses.as_ref().is_some_and(|set| !set.contains(source)) {
        Some(Mismatch::Source)
    } else {
        None
    }
}

/// Decides one packet by walking the list.
pub fn decide(brief: &Brief, facts: &Facts) -> Decision {
    decide_with(brief, facts, |key, source| {
        brief.indexed().find(|(_, r)| mismatch(r, key, source).is_none()).map(|(index, _)| index)
    })
}

/// The frame of a decision around any way to find the first rule.
pub(crate) fn decide_with(
    brief: &Brief,
    facts: &Facts,
    first_rule: impl FnOnce(TrafficKey, IpAddr) -> Option<RuleIndex>,
) -> Decision {
    let ip = match before_rules(brief.foundations, facts) {
        Before::NotOurs => return Decision { verdict: Action::Allow, speaker: Speaker::Nobody },
        Before::Speaks(foundation) => {
            return Decision {
                verdict: foundation.action(),
                speaker: Speaker::Foundation(foundation),
            };
        }
        Before::Open(ip) => ip,
    };
    if facts.direction == Direction::Transit {
        return standing(brief, Direction::Transit);
    }
    let index = ip.key().and_then(|key| first_rule(key, ip.source));
    match index.and_then(|index| Some((index, brief.rule(index)?))) {
        Some((index, rule)) => Decision { verdict: rule.action, speaker: Speaker::Rule(index) },
        None => standing(brief, Direction::Inbound),
    }
}

fn standing(brief: &Brief, direction: Direction) -> Decision {
    let verdict = match direction {
        Direction::Inbound => brief.standing.inbound,
        Direction::Transit => brief.standing.transit,
    };
    Decision { verdict, speaker: Speaker::Standing(direction) }
}
