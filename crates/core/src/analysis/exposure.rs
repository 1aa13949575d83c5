//! Whom a list lets in to a port: nobody, named groups, everyone. Worked out
//! exactly, as sets of addresses; over all own addresses and interfaces, so
//! that who is let in to one of them counts as let in. Rates do not matter here:
//! who is let in at times is let in.

use std::net::IpAddr;

use schemars::JsonSchema;
use serde::Serialize;

use crate::brief::{Brief, RuleIndex};
use crate::host::listener::Listener;
use crate::moment::Moment;
use crate::names::address::{AddressRange, AddressSet, Family};
use crate::names::traffic::TrafficKey;
use crate::orders::Action;
use crate::packet::{Direction, ProgramIndex};

/// Whom a list lets in to one port.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Exposure {
    /// Every source that is let in.
    pub allowed: AddressSet,
    /// The allow rules that let somebody in, in order.
    pub rules: Vec<RuleIndex>,
    /// Whether the standing answer lets somebody in.
    pub by_standing: bool,
    /// The one family that matters, where the listener hears no other.
    pub only: Option<Family>,
}

/// How wide an exposure is.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, JsonSchema, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Breadth {
    /// No source is let in.
    Nobody,
    /// Some sources.
    Some,
    /// All sources, of both families or of the one that matters.
    Everyone,
}

impl Exposure {
    /// Walks the list with the set of sources that nothing has decided yet.
    /// `program` is the one that listens there; `None` when nobody knows.
    pub fn compute(brief: &Brief, key: TrafficKey, program: Option<ProgramIndex>) -> Self {
        let mut open = AddressSet::full();
        let mut exposure = Self {
            allowed: AddressSet::empty(),
            rules: Vec::new(),
            by_standing: false,
            only: None,
        };
        for (index, rule) in brief.indexed() {
            let about = rule.traffic.keys.as_ref().is_none_or(|keys| keys.contains(key));
            let held = program.is_none_or(|index| brief.program_holds(rule, index));
            let inbound = rule.direction == Direction::Inbound;
            if !inbound || !rule.is_active() || !about || !held || open.is_empty() {
                continue;
            }
            let mut decided = match &rule.source.addresses {
                Some(set) => open.intersection(set),
                None => open.clone(),
            };
            if let Some(family) = rule.family {
                decided = decided.only(family);
            }
            if decided.is_empty() {
                continue;
            }
            // A rule for one address or interface does not match the others: what it
            // allows is let in somewhere, what it denies may come in elsewhere.
            let everywhere = rule.destination.addresses.is_none() && rule.interface.is_any();
            if everywhere && (rule.program.is_any() || program.is_some()) {
                open = open.difference(&decided);
            }
            if rule.action == Action::Allow {
                exposure.allowed = exposure.allowed.union(&decided);
                exposure.rules.push(index);
            }
        }
        if brief.standing.inbound == Action::Allow && !open.is_empty() {
            exposure.by_standing = true;
            exposure.allowed = exposure.allowed.union(&open);
        }
        exposure
    }

    /// The same for a listener: sources of a family that it does not hear are nobody.
    #[must_use]
    pub fn heard_by(mut self, listener: &Listener) -> Self {
        self.only = match listener.address {
            IpAddr::V4(_) => Some(Family::V4),
            IpAddr::V6(address) if !address.is_unspecified() || listener.only_v6 => {
                Some(Family::V6)
            }
            IpAddr::V6(_) => None,
        };
        if let Some(family) = self.only {
            self.allowed = self.allowed.only(family);
        }
        self
    }

    /// All sources that matter.
    fn everyone(&self) -> AddressSet {
        let full = AddressSet::full();
        self.only.map_or_else(|| full.clone(), |family| full.only(family))
    }

    /// Nobody, some or everyone.
    pub fn breadth(&self) -> Breadth {
        if self.allowed.is_empty() {
            Breadth::Nobody
        } else if self.allowed == self.everyone() {
            Breadth::Everyone
        } else {
            Breadth::Some
        }
    }

    /// In words, with the names that the orders use: `observatory, partner`,
    /// `everyone`, `nobody`, `everyone but …`.
    pub fn describe(&self, brief: &Brief) -> String {
        match self.breadth() {
            Breadth::Nobody => "nobody".into(),
            Breadth::Everyone => "everyone".into(),
            Breadth::Some => {
                let shut_out = self.everyone().difference(&self.allowed);
                let mostly_open = self.by_standing || self.has_unlimited_rule(brief);
                if mostly_open {
                    let ranges = shut_out.ranges();
                    let shown: Vec<String> =
                        ranges.iter().take(3).map(ToString::to_string).collect();
                    let more = if ranges.len() > 3 { ", …" } else { "" };
                    return format!("everyone but {}{more}", shown.join(", "));
                }
                let mut names: Vec<String> = Vec::new();
                for rule in self.rules.iter().filter_map(|index| brief.rule(*index)) {
                    let source = &rule.source;
                    let unheard = |family| self.only.is_some_and(|only| only != family);
                    if rule.family.is_some_and(unheard) {
                        continue;
                    }
                    let mut words = match source.except.is_empty() {
                        true => source.written.clone(),
                        false => vec![source.describe()],
                    };
                    if let Some(family) = rule.family {
                        words = vec![format!("{} ({family})", source.describe())];
                    }
                    words.retain(|word| {
                        let literal = AddressRange::parse(word).ok();
                        !names.contains(word)
                            && !literal
                                .is_some_and(|range| unheard(Family::of_address(range.first())))
                    });
                    names.extend(words);
                }
                names.join(", ")
            }
        }
    }

    fn has_unlimited_rule(&self, brief: &Brief) -> bool {
        let rules = self.rules.iter().filter_map(|index| brief.rule(*index));
        rules.into_iter().any(|r| r.source.addresses.is_none() && r.family.is_none())
    }
}

/// What some sources are answered.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct AnsweredSources {
    /// All of them.
    pub sources: AddressSet,
    /// The answer.
    pub action: Action,
    /// The rule that gives it; `None` for the standing answer.
    pub rule: Option<RuleIndex>,
    /// Whether that hangs on more than the source: the rule looks at the destination, the
    /// interface or the program, or has a rate. Then the same sources are answered further down,
    /// too.
    pub only_partly: bool,
}

/// Who is answered what to one key on the way in at a moment, exactly, in the order of the rules; all
/// sources are in it.
pub fn answered_sources(brief: &Brief, key: TrafficKey, now: Moment) -> Vec<AnsweredSources> {
    let mut open = AddressSet::full();
    let mut answered = Vec::new();
    for (index, rule) in brief.indexed() {
        let about = rule.is_active_in(Direction::Inbound) && rule.is_about(key);
        let is_over = rule.until.is_some_and(|until| until <= now);
        if !about || is_over || open.is_empty() {
            continue;
        }
        let of_rule = rule.source.addresses.as_deref();
        let mut sources = of_rule.map_or_else(|| open.clone(), |set| open.intersection(set));
        if let Some(family) = rule.family {
            sources = sources.only(family);
        }
        if sources.is_empty() {
            continue;
        }
        let everywhere = rule.destination.addresses.is_none()
            && rule.interface.is_any()
            && rule.program.is_any();
        if everywhere {
            open = open.difference(&sources);
        }
        let only_partly = !everywhere || rule.at_most.is_some();
        answered.push(AnsweredSources {
            sources,
            action: rule.action,
            rule: Some(index),
            only_partly,
        });
    }
    if !open.is_empty() {
        let action = brief.standing.inbound;
        answered.push(AnsweredSources { sources: open, action, rule: None, only_partly: false });
    }
    answered
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::names::traffic::Transport;
    use crate::orders::read;

    fn described(rules: &str, standing: &str) -> String {
        let text = format!(
            "version = 1\n[standing]\ninbound = \"{standing}\"\noutbound = \"allow\"\ntransit = \"deny\"\n\
             [addresses]\nobservatory = [\"198.51.100.0/24\", \"2001:db8:51::/48\"]\n{rules}"
        );
        let brief = Brief::unplaced(&read(&text).unwrap());
        Exposure::compute(&brief, Transport::Tcp.key(22), None).describe(&brief)
    }

    #[test]
    fn a_program_matters_where_it_is_known() {
        let rules = "[[rules]]\nname = \"a\"\naction = \"allow\"\ntraffic = \"ssh\"\nprogram = \"/usr/sbin/plated\"\n";
        let text = format!(
            "version = 1\n[standing]\ninbound = \"deny\"\noutbound = \"allow\"\ntransit = \"deny\"\n{rules}"
        );
        let brief = Brief::unplaced(&read(&text).unwrap());
        let described =
            |program| Exposure::compute(&brief, Transport::Tcp.key(22), program).describe(&brief);
        assert_eq!(described(Some(brief.program_index("/usr/sbin/plated"))), "everyone");
        assert_eq!(described(Some(brief.program_index("/usr/sbin/skycam"))), "nobody");
        assert_eq!(described(None), "everyone");
    }

    #[test]
    fn says_whom_a_list_lets_in() {
        let allow = "[[rules]]\nname = \"a\"\naction = \"allow\"\ntraffic = \"ssh\"\n";
        let deny = "[[rules]]\nname = \"d\"\naction = \"deny\"\ntraffic = \"any\"\nsource = \"203.0.113.0/24\"\n";
        assert_eq!(described("", "deny"), "nobody");
        assert_eq!(described("", "allow"), "everyone");
        assert_eq!(described(allow, "deny"), "everyone");
        assert_eq!(described(&format!("{allow}source = \"observatory\"\n"), "deny"), "observatory");
        assert_eq!(described(&format!("{deny}{allow}"), "deny"), "everyone but 203.0.113.0/24");
        assert_eq!(described(&format!("{allow}enabled = false\n"), "deny"), "nobody");
        assert_eq!(
            described(&format!("{allow}source_except = \"observatory\"\n"), "deny"),
            "any but observatory"
        );
        assert_eq!(described(&format!("{allow}family = \"ipv6\"\n"), "deny"), "any (IPv6)");
        for other in ["outbound", "transit"] {
            assert_eq!(described(&format!("{allow}direction = \"{other}\"\n"), "deny"), "nobody");
        }
        // The deny is wider than the allow behind it: that one never matches.
        let behind = format!("{deny}{allow}source = \"203.0.113.9\"\n");
        assert_eq!(described(&behind, "deny"), "nobody");
    }
}
