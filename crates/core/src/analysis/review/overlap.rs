//! Rules that contradict each other in part.

use std::sync::Arc;

use crate::brief::{Brief, RuleIndex};
use crate::names::address::{AddressRange, AddressSet};
use crate::names::range_set::{Point, RangeSet};
use crate::names::traffic::TrafficKey;
use crate::orders::{Action, AddressCondition, Rule};

/// So many pairs are looked at closely for one list; most are told apart at a glance.
const MOST_PAIRS: usize = 300_000;

/// What a rule is about, worked out once for all pairs.
struct RuleConditions<'r> {
    traffic: Option<&'r RangeSet<TrafficKey>>,
    sources: Option<Arc<AddressSet>>,
    destinations: Option<Arc<AddressSet>>,
    interfaces: Option<RangeSet<u32>>,
    programs: Option<RangeSet<u32>>,
}

impl<'r> RuleConditions<'r> {
    fn from_rule(brief: &Brief, rule: &'r Rule) -> Self {
        Self {
            traffic: rule.traffic.keys.as_ref(),
            sources: of_family(rule, &rule.source),
            destinations: of_family(rule, &rule.destination),
            interfaces: brief.interfaces_of(&rule.interface),
            programs: brief.programs_meant(rule),
        }
    }

    /// Whether two rules have something in common, and each something that the
    /// other has not.
    fn crosses(&self, other: &Self) -> bool {
        let all = [
            of_spans(self.traffic, other.traffic),
            of_addresses(self.sources.as_deref(), other.sources.as_deref()),
            of_addresses(self.destinations.as_deref(), other.destinations.as_deref()),
            of_spans(self.interfaces.as_ref(), other.interfaces.as_ref()),
            of_spans(self.programs.as_ref(), other.programs.as_ref()),
        ];
        all.iter().all(|one| one.meets)
            && !all.iter().all(|one| one.within)
            && !all.iter().all(|one| one.around)
    }
}

/// Where a rule's traffic and sources lie, for a glance.
struct Extent {
    traffic: (TrafficKey, TrafficKey),
    four: Option<(u32, u32)>,
    six: Option<(u128, u128)>,
}

impl Extent {
    fn from_rule(rule: &Rule) -> Self {
        let keys = rule.traffic.keys.as_ref();
        let traffic = keys.map_or((TrafficKey::LEAST, TrafficKey::GREATEST), |keys| {
            ends(keys).unwrap_or((TrafficKey::GREATEST, TrafficKey::LEAST))
        });
        let (mut four, mut six) = (None::<(u32, u32)>, None::<(u128, u128)>);
        match &rule.source.addresses {
            None => (four, six) = (Some((0, u32::MAX)), Some((0, u128::MAX))),
            Some(set) => {
                for range in set.ranges() {
                    match range {
                        AddressRange::V4(a, b) => {
                            four = Some(four.map_or((a, b), |(x, y)| (x.min(a), y.max(b))));
                        }
                        AddressRange::V6(a, b) => {
                            six = Some(six.map_or((a, b), |(x, y)| (x.min(a), y.max(b))));
                        }
                    }
                }
            }
        }
        Self { traffic, four, six }
    }

    /// Whether they may have anything in common.
    fn may_meet(&self, other: &Self) -> bool {
        fn meet<T: Ord + Copy>(a: Option<(T, T)>, b: Option<(T, T)>) -> bool {
            a.zip(b).is_some_and(|((a, b), (x, y))| a <= y && x <= b)
        }
        meet(Some(self.traffic), Some(other.traffic))
            && (meet(self.four, other.four) || meet(self.six, other.six))
    }
}

fn ends<T: Point>(spans: &RangeSet<T>) -> Option<(T, T)> {
    let ranges = spans.ranges();
    Some((ranges.first()?.0, ranges.last()?.1))
}

/// How a condition of one rule stands to that of another.
#[derive(Clone, Copy, PartialEq, Eq)]
struct Relation {
    meets: bool,
    /// The first is within the second.
    within: bool,
    /// The second is within the first.
    around: bool,
}

fn relation<S>(
    a: Option<&S>,
    b: Option<&S>,
    nothing_left: impl Fn(&S, &S) -> bool,
    meets: impl Fn(&S, &S) -> bool,
) -> Relation {
    match (a, b) {
        (None, None) => Relation { meets: true, within: true, around: true },
        (None, Some(_)) => Relation { meets: true, within: false, around: true },
        (Some(_), None) => Relation { meets: true, within: true, around: false },
        (Some(a), Some(b)) => {
            Relation { meets: meets(a, b), within: nothing_left(a, b), around: nothing_left(b, a) }
        }
    }
}

fn of_spans<T: Point>(a: Option<&RangeSet<T>>, b: Option<&RangeSet<T>>) -> Relation {
    relation(a, b, RangeSet::is_within, RangeSet::meets)
}

fn of_addresses(a: Option<&AddressSet>, b: Option<&AddressSet>) -> Relation {
    relation(a, b, AddressSet::is_within, AddressSet::meets)
}

/// For each rule that is contradicted in part: the first rule before it that
/// says the opposite of something of it, and of something else too. A narrower
/// rule before a wider one is an exception, and nothing is said of it. `false`
/// beside them: there were too many pairs, and some were not looked at.
pub(super) fn contradicted(
    brief: &Brief,
    decides: impl Fn(RuleIndex) -> bool,
) -> (Vec<(RuleIndex, RuleIndex)>, bool) {
    let rules: Vec<(RuleIndex, &Rule, Extent, RuleConditions<'_>)> = brief
        .indexed()
        .filter(|(index, rule)| rule.is_active() && decides(*index))
        .map(|(index, rule)| {
            (index, rule, Extent::from_rule(rule), RuleConditions::from_rule(brief, rule))
        })
        .collect();
    let (mut found, mut pairs) = (Vec::new(), 0);
    for (at, (index, rule, extent, meant)) in rules.iter().enumerate() {
        for (other, before, further, said) in &rules[..at] {
            let opposite = (rule.action == Action::Allow) != (before.action == Action::Allow);
            if !opposite || rule.direction != before.direction || !extent.may_meet(further) {
                continue;
            }
            pairs += 1;
            if pairs > MOST_PAIRS {
                return (found, false);
            }
            if said.crosses(meant) {
                found.push((*index, *other));
                break;
            }
        }
    }
    (found, true)
}

/// The addresses of a condition, of the rule's family; `None` is any.
fn of_family(rule: &Rule, condition: &AddressCondition) -> Option<Arc<AddressSet>> {
    match (rule.family, &condition.addresses) {
        (None, addresses) => addresses.clone(),
        (Some(family), Some(set)) => Some(Arc::new(set.only(family))),
        (Some(family), None) => Some(Arc::new(AddressSet::full().only(family))),
    }
}
