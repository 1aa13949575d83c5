//! Findings in orders: what is sound, and probably not meant.
//!
//! Coverage is exact ([`mod@coverage`]); everything else looks at one rule at a
//! time, with what listens on the host where that is known.

pub mod coverage;
mod findings;
mod fix;
mod listeners;
mod overlap;
mod rows;

use std::collections::{BTreeMap, HashMap, HashSet};

use crate::analysis::log::Wanted;
use crate::brief::{Brief, RuleIndex};
use crate::host::listener::Listener;
use crate::host::programs::ProgramNote;
use crate::moment::Moment;
use crate::names::address::{AddressSet, Family};
use crate::names::services::CATALOGUE;
use crate::names::traffic::{TCP, Term, TrafficKey};
use crate::orders::{Action, Inactive, NameKind, Orders, Rule};
use crate::packet::Direction;
pub use findings::{Finding, GAVE_UP, Review};
pub(crate) use listeners::is_a_slip;

use crate::orders::Code;
use coverage::{Coverage, coverage};
pub use fix::{Fix, fix};
use overlap::contradicted;

/// Services that strangers try first.
const SENSITIVE: [&str; 12] = [
    "ssh",
    "telnet",
    "ms-wbt-server",
    "mysql",
    "postgresql",
    "redis",
    "ldap",
    "nfs",
    "snmp",
    "amqp",
    "mqtt",
    "ipp",
];
const SHELL: TrafficKey = TrafficKey::new(TCP, 22);

/// What is known beside a list.
#[derive(Clone, Copy, Debug, Default)]
pub struct ReviewContext<'a> {
    /// What listens where it is obeyed.
    pub listeners: Option<&'a [Listener]>,
    /// What stands where its programs should be; empty where nobody looked.
    pub programs: &'a [ProgramNote],
    /// The orders that it was made of, for their names.
    pub orders: Option<&'a Orders>,
    /// That the shell of who asks would not be let in again: what, and the help.
    pub cut_off: Option<(&'a str, &'a str)>,
    /// Rules that nothing has matched, by their names, and since when they are counted.
    pub unmatched: &'a [(String, Moment)],
    /// Ports that were asked for in the last days, and nobody was let in to.
    pub wanted: &'a [Wanted],
    /// When.
    pub now: Moment,
}

/// So long a rule is left in peace: some things happen once a month.
const LATELY: u32 = 35 * 86_400;

/// Reads a list for mistakes.
pub fn review(brief: &Brief, around: &ReviewContext<'_>) -> Review {
    let ReviewContext { listeners, programs, orders, cut_off, unmatched, wanted, now } = *around;
    let covered = coverage(brief);
    let mut review = Review { gave_up: covered.gave_up, ..Review::default() };
    if !brief.foundations.address_assignment {
        let what = "address assignment (DHCP and DHCPv6) is left to the rules".to_owned();
        let help = "Set `address_assignment = true`, or make sure that this host uses no DHCP \
                    lease.";
        review.findings.push(Finding {
            line: orders.and_then(|orders| orders.foundations_line),
            ..Finding::about_all(Code::FoundationOff, what, help)
        });
    }
    if let Some((what, help)) = cut_off {
        review.findings.push(Finding::about_all(Code::CutsYouOff, what.to_owned(), help));
    }
    let (crossed, all) =
        contradicted(brief, |index| covered.gave_up || covered.rules[index.0 as usize].decides);
    review.gave_up |= !all;
    let crossed: BTreeMap<RuleIndex, RuleIndex> = crossed.into_iter().collect();
    // Where each meaning stands for the first time, and how often.
    let mut meanings = Meanings::default();
    let numbers: Vec<usize> = brief.rules().map(|rule| meanings.number(rule)).collect();
    let mut known: HashMap<usize, (RuleIndex, usize)> = HashMap::new();
    for (index, _) in brief.indexed().filter(|(_, rule)| rule.is_active()) {
        known.entry(numbers[index.0 as usize]).or_insert((index, 0)).1 += 1;
    }
    for (index, rule) in brief.indexed() {
        if rule.inactive == Some(Inactive::Expired) || rule.until.is_some_and(|end| end <= now) {
            let help = "Remove it, or give it a later `until`.";
            review.add(rule, index, Code::Expired, "it has expired".into(), help);
            continue;
        }
        if !rule.is_active() {
            continue;
        }
        let (first, times) = known.get(&numbers[index.0 as usize]).copied().unwrap_or((index, 1));
        let known = &covered.rules[index.0 as usize];
        let twin = (first != index).then_some(first);
        if twin.is_some() || times == 1 {
            review.coverage(brief, rule, index, known, twin);
        }
        if twin.is_none() && (known.decides || covered.gave_up) {
            review.reach_of(rule, index);
            review.against(brief, rule, index, crossed.get(&index).copied());
            if let Some(listeners) = listeners {
                review.listeners(brief, rule, index, listeners);
            }
        }
        for note in programs.iter().filter(|n| n.is_doubtful() && rule.program.names(&n.path)) {
            let help = format!(
                "Install it, or name the executable: tipstaff rule set {} program=…",
                rule.name
            );
            review.add(rule, index, Code::ProgramNotFound, note.to_string(), &help);
        }
        let unmatched = unmatched.iter().find(|(name, _)| rule.name.as_str() == name);
        if let Some((_, since)) = unmatched
            && now.0.saturating_sub(since.0) > LATELY
        {
            let days = (now.0 - since.0) / 86_400;
            let what = format!("nothing has matched it for {days} days, since {since}");
            let help = format!("If nobody needs it any more: tipstaff rule pause {}", rule.name);
            review.add(rule, index, Code::NotMatchedLately, what, &help);
        }
        if rule.note.is_none() {
            let help = format!("tipstaff rule set {} note=\"why it exists\"", rule.name);
            review.add(rule, index, Code::NoNote, "no note says why it exists".into(), &help);
        }
    }
    if let Some(listeners) = listeners {
        review.nobody_may_come(brief, listeners, wanted);
    }
    if let Some(orders) = orders {
        review.unused_names(orders);
    }
    review
}

/// Numbers for rules that say the same of the same.
#[derive(Default)]
struct Meanings<'r> {
    /// Long lists are shared, and looked at once.
    seen: HashMap<*const AddressSet, usize>,
    sets: HashMap<&'r AddressSet, usize>,
    known: HashMap<String, usize>,
}

impl<'r> Meanings<'r> {
    fn set(&mut self, set: Option<&'r AddressSet>) -> Option<usize> {
        let (set, next) = (set?, self.sets.len());
        let sets = &mut self.sets;
        Some(*self.seen.entry(set).or_insert_with(|| *sets.entry(set).or_insert(next)))
    }

    /// Of everything of a rule that decides.
    fn number(&mut self, rule: &'r Rule) -> usize {
        let sources = self.set(rule.source.addresses.as_deref());
        let destinations = self.set(rule.destination.addresses.as_deref());
        let text = format!(
            "{:?} {:?} {:?} {sources:?} {destinations:?} {:?} {:?} {:?} {:?} {:?} {:?}",
            rule.action,
            rule.direction,
            rule.traffic.keys,
            rule.interface,
            rule.program,
            rule.family,
            rule.until,
            rule.at_most,
            rule.over
        );
        let next = self.known.len();
        *self.known.entry(text).or_insert(next)
    }
}

fn named(brief: &Brief, indexes: impl Iterator<Item = RuleIndex>) -> String {
    let names: Vec<String> = indexes
        .filter_map(|index| {
            Some(format!("rule {} ({})", index.position(), brief.rule(index)?.name))
        })
        .collect();
    let shown = names.iter().take(4).cloned().collect::<Vec<_>>().join(", ");
    if names.len() > 4 { format!("{shown} and {} more", names.len() - 4) } else { shown }
}

impl Review {
    fn add(&mut self, rule: &Rule, index: RuleIndex, code: Code, what: String, help: &str) {
        if rule.accepted.iter().any(|accepted| accepted.code == code) {
            self.accepted += 1;
            return;
        }
        self.findings.push(Finding {
            rule: Some(rule.name.to_string()),
            position: Some(index.position()),
            file: rule.part.as_ref().map(ToString::to_string),
            line: Some(rule.line),
            ..Finding::about_all(code, what, help)
        });
    }

    fn coverage(
        &mut self,
        brief: &Brief,
        rule: &Rule,
        index: RuleIndex,
        known: &Coverage,
        twin: Option<RuleIndex>,
    ) {
        let out = format!("tipstaff rule remove {}", rule.name);
        if let Some(twin) = twin {
            let what = format!("it duplicates {}", named(brief, [twin].into_iter()));
            self.add(rule, index, Code::Duplicate, what, &out);
        } else if self.gave_up {
            // "Never" and "nothing" are not known then.
        } else if !known.decides {
            let others = known.covered_by.iter().copied().filter(|by| *by != index);
            let by = named(brief, others);
            if by.is_empty() {
                let what = "no packet on this machine can match all of its conditions now".into();
                let help = "Check its interface and its addresses; `keep` follows interfaces.";
                self.add(rule, index, Code::NotHere, what, help);
                return;
            }
            let all = known
                .covered_by
                .iter()
                .find(|by| brief.rule(**by).is_some_and(Rule::is_about_everything));
            if let Some(all) = all {
                let what = format!(
                    "{} above it already matches everything",
                    named(brief, [*all].into_iter())
                );
                let help = format!("tipstaff rule move {} --before {}", rule.name, all.position());
                self.add(rule, index, Code::AfterCatchAll, what, &help);
                return;
            }
            let matches = if known.covered_by.len() == 1 { "matches" } else { "match" };
            let what = format!("{by} above it already {matches} all of its traffic");
            let help = format!("Move it above them, or remove it: {out}");
            self.add(rule, index, Code::NeverMatches, what, &help);
        } else if !known.needed {
            let what = "redundant: without it, the rules after it give the same answer".into();
            self.add(rule, index, Code::Redundant, what, &out);
        }
    }

    /// What other rules say of the same.
    fn against(&mut self, brief: &Brief, rule: &Rule, index: RuleIndex, by: Option<RuleIndex>) {
        if let Some(by) = by {
            let does = match brief.rule(by).map_or(Action::Deny, |other| other.action) {
                Action::Allow => "allows",
                Action::Deny => "denies",
                Action::Refuse => "refuses",
            };
            let above = named(brief, [by].into_iter());
            let what = format!("{above} above it {does} part of its traffic");
            let help = format!(
                "If this rule should decide that part too: tipstaff rule move {} --before {}",
                rule.name,
                by.position()
            );
            self.add(rule, index, Code::PartlyContradicted, what, &help);
        }
        if rule.direction != Direction::Outbound || rule.action != Action::Allow {
            return;
        }
        let other_half = brief.indexed().find(|(_, other)| {
            other.is_active()
                && other.direction == Direction::Inbound
                && other.action == Action::Allow
                && other.traffic.keys.is_some()
                && other.traffic.keys == rule.traffic.keys
                && other.source.addresses == rule.destination.addresses
        });
        if let Some((other, _)) = other_half {
            let what = format!(
                "answers to what {} lets in are sent without a rule",
                named(brief, [other].into_iter())
            );
            let help = format!(
                "Unless this host connects there itself: tipstaff rule remove {}",
                rule.name
            );
            self.add(rule, index, Code::OutboundHalf, what, &help);
        }
    }

    /// Names of services, addresses and groups that nothing uses.
    fn unused_names(&mut self, orders: &Orders) {
        let (mut services, mut addresses) = (HashSet::new(), HashSet::new());
        let (mut groups, mut programs) = (HashSet::new(), HashSet::new());
        for rule in orders.rules() {
            programs.extend(rule.program.written.iter().chain(&rule.program.except));
            let (traffic, from, to) = (&rule.traffic, &rule.source, &rule.destination);
            services.extend(traffic.written.iter().chain(&traffic.except));
            addresses.extend(from.written.iter().chain(&from.except));
            addresses.extend(to.written.iter().chain(&to.except));
            groups.extend(&rule.group);
        }
        for name in &orders.names {
            let used = name.inside
                || match name.kind {
                    NameKind::Service => services.contains(&name.name),
                    NameKind::Addresses => addresses.contains(&name.name),
                    NameKind::Group => groups.contains(&name.name),
                    NameKind::Programs => programs.contains(&name.name),
                };
            if used {
                continue;
            }
            let (kind, table) = match name.kind {
                NameKind::Service => ("service", "[services]"),
                NameKind::Addresses => ("group of addresses", "[addresses]"),
                NameKind::Group => ("group", "[[groups]]"),
                NameKind::Programs => ("set of programs", "[programs]"),
            };
            let what = format!("no rule uses the {kind} `{}`", name.name);
            let help = format!("Remove it from {table}, or use it.");
            self.findings.push(Finding {
                file: name.part.as_ref().map(ToString::to_string),
                line: Some(name.line),
                ..Finding::about_all(Code::UnusedName, what, &help)
            });
        }
    }

    /// What it lets in, looked at alone.
    fn reach_of(&mut self, rule: &Rule, index: RuleIndex) {
        if rule.action != Action::Allow || rule.direction != Direction::Inbound {
            return;
        }
        let anyone = rule.source.addresses.as_deref().is_none_or(AddressSet::is_full);
        let about =
            |key: TrafficKey| rule.traffic.keys.as_ref().is_none_or(|keys| keys.contains(key));
        let open: Vec<&str> = SENSITIVE
            .into_iter()
            .filter(|name| {
                let service = CATALOGUE.iter().find(|service| service.name == *name);
                service.is_some_and(|service| {
                    service.terms.iter().any(|term| match term {
                        Term::Ports(transport, first, _) => about(transport.key(*first)),
                        _ => false,
                    })
                })
            })
            .collect();
        let everything = rule.traffic.keys.is_none();
        let placed = rule.destination.addresses.is_some()
            || !rule.interface.is_any()
            || !rule.program.is_any();
        if anyone && about(SHELL) && rule.at_most.is_none() {
            let what = "anyone may try a remote shell, without a rate limit".into();
            let help = format!(
                "tipstaff rule set {} at_most=\"6 per minute per source, burst 3\"",
                rule.name
            );
            self.add(rule, index, Code::ShellWithoutRate, what, &help);
        }
        let others: Vec<&str> = open.into_iter().filter(|name| *name != "ssh").collect();
        if anyone && !others.is_empty() && !everything {
            let what = format!("anyone can reach {}", others.join(", "));
            let help =
                format!("Name the sources that need it: tipstaff rule set {} source=…", rule.name);
            self.add(rule, index, Code::TooWide, what, &help);
        }
        if everything && !placed {
            let who = if anyone { "everyone".to_owned() } else { rule.source.describe() };
            let what = format!("{who} can reach every port");
            let help = format!("Name the traffic: tipstaff rule set {} traffic=…", rule.name);
            self.add(rule, index, Code::AllPorts, what, &help);
        }
        let only = |family: Family| {
            rule.source.addresses.as_ref().is_some_and(|set| {
                set.has(family)
                    && !set.has(if family == Family::V4 { Family::V6 } else { Family::V4 })
            })
        };
        for family in Family::BOTH {
            if rule.family.is_none() && only(family) {
                let what = format!("its sources are {family} only");
                let help = "Add their addresses of the other family, or set `family`.";
                self.add(rule, index, Code::OneFamily, what, help);
            }
        }
    }
}
