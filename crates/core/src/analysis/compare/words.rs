//! Pieces of traffic in words.

use std::borrow::Cow;
use std::collections::HashMap;
use std::hash::Hash;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

use schemars::{JsonSchema, Schema, SchemaGenerator};
use serde::{Serialize, Serializer};

use super::{Change, Comparison, DESTINATION, INTERFACE, Kind, PROGRAM, SOURCE, Said, TRAFFIC};
use crate::names::address::{AddressRange, AddressSet, Family};
use crate::names::range_set::RangeSet;
use crate::names::traffic::{TCP, Term, TrafficKey, Transport, UDP};
use crate::packet::Direction;

/// Stands for sockets whose program cannot be identified.
const UNIDENTIFIED: &str = "?";
/// So many ranges are written out in a line.
const SHOWN: usize = 4;

impl Change {
    /// `tcp/7410` and `udp/7420-7423`; or `any but tcp/22, tcp/80` in one piece.
    pub fn traffic(&self) -> Vec<String> {
        match self.terms() {
            (true, others) => vec![format!("any but {}", others.join(", "))],
            (false, meant) => meant,
        }
    }

    /// The terms that are meant, or with `true` those that are not.
    fn terms(&self) -> (bool, Vec<String>) {
        let Some(keys) = &self.axes[TRAFFIC] else { return (false, vec!["any".into()]) };
        let keys = RangeSet::from_ranges(
            keys.ranges()
                .iter()
                .map(|(a, b)| (TrafficKey::from_bits(*a), TrafficKey::from_bits(*b))),
        );
        let (meant, others) = (terms(&keys), terms(&keys.complement()));
        if others.len() < meant.len() { (true, others) } else { (false, meant) }
    }

    fn addresses(&self, axis: usize) -> Option<AddressSet> {
        let values = self.axes[axis].as_ref()?;
        let families = match self.family {
            Some(family) => vec![family],
            None => Family::BOTH.to_vec(),
        };
        let ranges: Vec<AddressRange> = families
            .into_iter()
            .flat_map(|family| {
                values.ranges().iter().filter_map(move |(first, last)| {
                    AddressRange::between(address(family, *first), address(family, *last)).ok()
                })
            })
            .collect();
        Some(AddressSet::from_ranges(&ranges))
    }

    /// The sources; `None`: all.
    pub fn sources(&self) -> Option<AddressSet> {
        self.addresses(SOURCE)
    }

    /// The destinations; `None`: all.
    pub fn destinations(&self) -> Option<AddressSet> {
        self.addresses(DESTINATION)
    }

    /// The interfaces; `None`: all.
    pub fn interfaces(&self) -> Option<Vec<&str>> {
        let values = self.axes[INTERFACE].as_ref()?;
        let meant = self.interfaces.iter().filter(|(index, _)| values.contains((*index).into()));
        Some(meant.map(|(_, name)| name.as_str()).collect())
    }

    /// The programs; `None`: all. The empty string stands for any that no rule
    /// names, a question mark for sockets whose program cannot be identified.
    pub fn programs(&self) -> Option<Vec<&str>> {
        let values = self.axes[PROGRAM].as_ref()?;
        let meant = (0..=self.programs.len() + 1).filter(|number| values.contains(*number as u128));
        Some(
            meant
                .map(|number| match number.checked_sub(1) {
                    Some(at) => self.programs.get(at).map_or(UNIDENTIFIED, String::as_str),
                    None => "",
                })
                .collect(),
        )
    }

    /// The piece in a line: `tcp/7410 from 203.0.113.0/24 on lan0`.
    pub fn describe(&self) -> String {
        in_words(&[self])
    }

    /// Equal for two pieces that differ in nothing but the family and its addresses.
    fn beside_family(&self) -> impl Eq + Hash + '_ {
        let axes = [TRAFFIC, INTERFACE, PROGRAM].map(|axis| &self.axes[axis]);
        let whole = [SOURCE, DESTINATION].map(|axis| self.axes[axis].is_none());
        (self.kind, self.direction, &self.before, &self.after, axes, whole)
    }
}

/// What changes, in a line.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Line {
    /// How.
    pub kind: Kind,
    /// Which way.
    pub direction: Direction,
    /// `tcp/7410 from 203.0.113.0/24, 2001:db8:113::/48`.
    pub text: String,
    /// Who says it now.
    pub by: String,
    /// Who said it before.
    pub before: String,
}

impl Comparison {
    /// All changes, those of both families that are alike in one line.
    pub fn lines(&self) -> Vec<Line> {
        // Each with its twin, where the first of the two stands.
        let mut waiting: HashMap<_, Vec<usize>> = HashMap::new();
        let mut pairs: Vec<Vec<&Change>> = Vec::new();
        for change in &self.changes {
            let alike = waiting.entry(change.beside_family()).or_default();
            match alike.iter().position(|at| pairs[*at][0].family != change.family) {
                Some(nth) => pairs[alike.remove(nth)].push(change),
                None => {
                    alike.push(pairs.len());
                    pairs.push(vec![change]);
                }
            }
        }
        pairs
            .iter()
            .map(|alike| Line {
                kind: alike[0].kind,
                direction: alike[0].direction,
                text: in_words(alike),
                by: alike[0].after.by(),
                before: alike[0].before.by(),
            })
            .collect()
    }
}

/// Pieces that differ in family and addresses only.
fn in_words(alike: &[&Change]) -> String {
    let Some(first) = alike.first() else { return String::new() };
    let (but, terms) = first.terms();
    let but = if but { "any but " } else { "" };
    let mut words = vec![format!("{but}{}", shown(&terms))];
    let family = first.family.filter(|_| alike.len() == 1);
    let only = family.map(|family| format!(" ({family})")).unwrap_or_default();
    let all = |of: fn(&Change) -> Option<AddressSet>| {
        let sets: Vec<String> = alike
            .iter()
            .filter_map(|change| Some(set_in_words(&of(change)?, change.family)))
            .collect();
        // "anyone but" of both families is said once.
        let but = "anyone but ";
        let rest: Option<Vec<&str>> = sets.iter().map(|set| set.strip_prefix(but)).collect();
        match rest {
            Some(rest) if rest.len() > 1 => Some(format!("{but}{}", rest.join(", "))),
            _ => (!sets.is_empty()).then(|| sets.join(", ")),
        }
    };
    match all(Change::sources) {
        Some(sources) => words.push(format!("from {sources}")),
        None if first.direction == Direction::Inbound => words.push(format!("from anyone{only}")),
        None => {}
    }
    match all(Change::destinations) {
        Some(destinations) => words.push(format!("to {destinations}")),
        None if first.direction != Direction::Inbound => words.push(format!("to anyone{only}")),
        None => {}
    }
    if let Some(interfaces) = first.interfaces() {
        words.push(format!("on {}", interfaces.join(", ")));
    }
    if let Some(programs) = first.programs() {
        let told = programs.iter().map(|name| match *name {
            "" => "others",
            UNIDENTIFIED => "unidentified ones",
            name => name,
        });
        let told: Vec<&str> = told.collect();
        words.push(format!("of {}", told.join(", ")));
    }
    words.join(" ")
}

impl Kind {
    /// `let in`, `let out`, `denied` …
    pub fn describe(self, direction: Direction) -> &'static str {
        match (self, direction) {
            (Self::LetIn, Direction::Inbound) => "let in",
            (Self::LetIn, Direction::Outbound) => "let out",
            (Self::LetIn, Direction::Transit) => "let through",
            (Self::Denied, Direction::Inbound) => "denied",
            (Self::Denied, Direction::Outbound) => "denied outbound",
            (Self::Denied, Direction::Transit) => "denied in transit",
            (Self::Refused, Direction::Inbound) => "refused",
            (Self::Refused, Direction::Outbound) => "refused outbound",
            (Self::Refused, Direction::Transit) => "refused in transit",
            (Self::Rate, _) => "another rate",
            (Self::Answered, _) => "refused with an answer, no longer dropped silently",
            (Self::Silenced, _) => "dropped silently, no longer refused with an answer",
        }
    }
}

fn shown(words: &[String]) -> String {
    let more = words.len().saturating_sub(SHOWN);
    let first = words[..words.len().min(SHOWN)].join(", ");
    if more > 0 { format!("{first} and {more} more") } else { first }
}

fn set_in_words(set: &AddressSet, family: Option<Family>) -> String {
    let whole = match family {
        Some(family) => AddressSet::full().only(family),
        None => AddressSet::full(),
    };
    fn texts(set: &AddressSet) -> Vec<String> {
        set.ranges().iter().map(ToString::to_string).collect::<Vec<_>>()
    }
    let (meant, others) = (texts(set), texts(&whole.difference(set)));
    if others.len() < meant.len() {
        format!("anyone but {}", shown(&others))
    } else {
        shown(&meant)
    }
}

/// Keys as terms that orders could have.
fn terms(keys: &RangeSet<TrafficKey>) -> Vec<String> {
    let mut left = keys.clone();
    let mut words = Vec::new();
    for term in [Term::Icmp, Term::Echo] {
        let of_term = RangeSet::from_ranges(term.keys().unwrap_or_default());
        if !of_term.is_empty() && of_term.difference(&left).is_empty() {
            left = left.difference(&of_term);
            words.push(term.to_string());
        }
    }
    fn keys_of(term: Term) -> RangeSet<TrafficKey> {
        RangeSet::from_ranges(term.keys().unwrap_or_default())
    }
    let beside_echo = keys_of(Term::Icmp).difference(&keys_of(Term::Echo));
    if beside_echo.difference(&left).is_empty() {
        left = left.difference(&beside_echo);
        words.push("icmp/* but icmp/echo".to_owned());
    }
    let mut others: Vec<String> = Vec::new();
    for (first, last) in left.ranges() {
        let (low, high) = (*first, *last);
        let mut whole: Option<(u8, u8)> = None;
        for protocol in low.protocol()..=high.protocol() {
            let from = if protocol == low.protocol() { low.low() } else { 0 };
            let to = if protocol == high.protocol() { high.low() } else { u16::MAX };
            let is_whole = (from, to) == (0, u16::MAX);
            match protocol {
                TCP => others.push(Term::Ports(Transport::Tcp, from, to).to_string()),
                UDP => others.push(Term::Ports(Transport::Udp, from, to).to_string()),
                _ if is_whole => {
                    whole =
                        Some(whole.map_or((protocol, protocol), |(first, _)| (first, protocol)));
                    continue;
                }
                _ => {
                    let part = format!("a part of protocol/{protocol}");
                    // Of one protocol there may be many pieces that have no name.
                    if others.last() != Some(&part) {
                        others.push(part);
                    }
                }
            }
        }
        if let Some((first, last)) = whole {
            others.push(match first == last {
                true => Term::Protocol(first).to_string(),
                false => format!("protocols {first} to {last}"),
            });
        }
    }
    words.extend(others);
    words
}

/// A change as it is written.
#[derive(JsonSchema, Serialize)]
struct Written<'c> {
    kind: Kind,
    direction: Direction,
    /// `ipv4`, `ipv6`; null: both.
    family: Option<String>,
    /// As orders write traffic.
    traffic: Vec<String>,
    /// Ranges of addresses; null: everybody.
    sources: Option<Vec<String>>,
    /// Ranges of addresses; null: all.
    destinations: Option<Vec<String>>,
    /// Names, or numbers of interfaces that are not there; null: all.
    interfaces: Option<Vec<&'c str>>,
    /// Paths; null: all.
    programs: Option<Vec<&'c str>>,
    before: &'c Said,
    after: &'c Said,
}

impl Serialize for Change {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        fn ranges(set: Option<AddressSet>) -> Option<Vec<String>> {
            set.map(|set| set.ranges().iter().map(ToString::to_string).collect::<Vec<_>>())
        }
        let written = Written {
            kind: self.kind,
            direction: self.direction,
            family: self.family.map(|family| family.to_string().to_lowercase()),
            traffic: self.traffic(),
            sources: ranges(self.sources()),
            destinations: ranges(self.destinations()),
            interfaces: self.interfaces(),
            programs: self.programs(),
            before: &self.before,
            after: &self.after,
        };
        written.serialize(serializer)
    }
}

impl JsonSchema for Change {
    fn schema_name() -> Cow<'static, str> {
        "Change".into()
    }

    fn json_schema(generator: &mut SchemaGenerator) -> Schema {
        Written::json_schema(generator)
    }
}

/// The address that a number on an axis of a family stands for.
fn address(family: Family, number: u128) -> IpAddr {
    match family {
        Family::V4 => IpAddr::V4(Ipv4Addr::from(number as u32)),
        Family::V6 => IpAddr::V6(Ipv6Addr::from(number)),
    }
}
