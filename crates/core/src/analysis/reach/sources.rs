//! From which addresses to look: one that stands for a group, a stranger, and
//! the fewest that tell all rules apart.

use std::collections::{BTreeMap, BTreeSet, HashMap};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

use super::{Arrival, Subject, first_packet, program_at};
use crate::brief::{Brief, RuleIndex};
use crate::decision::{Speaker, decide};
use crate::host::listener::Listener;
use crate::names::address::{AddressRange, AddressSet, Family};
use crate::names::range_set::Point;
use crate::names::traffic::{ICMP, ICMPV6, TCP, TrafficKey, Transport, UDP};
use crate::orders::Rule;
use crate::packet::{Direction, PacketContext};
use crate::tables::Tables;

/// Lists with more rules are not shown one by one.
pub const MOST_RULES: usize = 2_000;

/// Of up to so many kinds of sources the fewest are found for certain.
const FEW: usize = 14;

/// Addresses that never belong to anybody: documentation (RFC 5737, RFC 3849,
/// RFC 9637) and benchmarking (RFC 2544, RFC 5180).
const NOBODYS: [&str; 9] = [
    "192.0.2.66",
    "203.0.113.66",
    "198.51.100.66",
    "198.18.0.66",
    "198.19.255.66",
    "2001:db8::66",
    "2001:db8:ffff::66",
    "3fff::66",
    "2001:2::66",
];

/// Whether a packet may come from there at all.
fn can_come_from(address: IpAddr) -> bool {
    match address {
        IpAddr::V4(a) => {
            !(a.is_unspecified()
                || a.is_loopback()
                || a.is_multicast()
                || a.is_broadcast()
                || a.octets()[0] >= 240
                || a.octets()[0] == 0)
        }
        IpAddr::V6(a) => {
            !(a.is_unspecified()
                || a.is_loopback()
                || a.is_multicast()
                || a.is_unicast_link_local()
                || a.to_ipv4_mapped().is_some())
        }
    }
}

/// One address of a range that stands for it: one of `known`, who are there,
/// else one from its middle. Never one of `own`.
fn member(range: AddressRange, own: &[IpAddr], known: &[IpAddr]) -> Option<IpAddr> {
    let fits = |address: &IpAddr| can_come_from(*address) && !own.contains(address);
    if let Some(there) = known
        .iter()
        .filter(|address| {
            range.first() <= **address
                && **address <= range.last()
                && Family::of_address(**address) == Family::of_address(range.first())
        })
        .find(|address| fits(address))
    {
        return Some(*there);
    }
    let tried: Vec<IpAddr> = match range {
        AddressRange::V4(a, b) => {
            let middle = a + (b - a) / 2;
            [middle, middle.saturating_add(1).min(b), a.saturating_add(1).min(b), a, b]
                .map(|n| Ipv4Addr::from(n).into())
                .to_vec()
        }
        AddressRange::V6(a, b) => {
            // Of a wide network the first host of its first subnet, which reads well.
            [a.saturating_add(9).min(b), a + (b - a) / 2, a.saturating_add(1).min(b), a, b]
                .map(|n| Ipv6Addr::from(n).into())
                .to_vec()
        }
    };
    tried.into_iter().find(fits)
}

/// A member of each range of a set.
pub fn typical(set: &AddressSet, own: &[IpAddr], known: &[IpAddr]) -> Vec<IpAddr> {
    set.ranges().into_iter().filter_map(|range| member(range, own, known)).collect()
}

/// An address that no rule names, or that as few as possible do. `links`: the
/// networks that this host itself is in.
pub fn stranger(brief: &Brief, family: Family, links: &[AddressRange]) -> Option<IpAddr> {
    fn within(address: IpAddr, range: &AddressRange) -> bool {
        Family::of_address(range.first()) == Family::of_address(address)
            && range.first() <= address
            && address <= range.last()
    }
    let naming = |address: IpAddr| {
        brief
            .rules()
            .filter_map(|rule| rule.source.addresses.as_ref())
            .filter(|set| !set.is_full() && set.contains(address))
            .count()
    };
    NOBODYS
        .iter()
        .filter_map(|text| text.parse().ok())
        .filter(|address| Family::of_address(*address) == family)
        .filter(|address| !links.iter().any(|range| within(*address, range)))
        .min_by_key(|address| naming(*address))
}

/// Where and on what to knock so that every rule decides once.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Plan {
    /// The sources, the one that shows most first.
    pub sources: Vec<IpAddr>,
    /// Which rule, `None` for the standing answer, is shown by whom, where and on what.
    pub shown: Vec<(Option<RuleIndex>, Showing)>,
    /// Which rules are not, and why.
    pub not_shown: Vec<(RuleIndex, &'static str)>,
}

/// A knock that one rule decides.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Showing {
    /// Who knocks.
    pub source: IpAddr,
    /// On what.
    pub subject: Subject,
    /// On which own address.
    pub target: IpAddr,
}

/// What one source shows: which rule, in which family, on what.
type Shows = BTreeMap<(Option<RuleIndex>, Family), Showing>;

/// Finds the fewest sources that let every inbound rule decide, in each family in
/// which one can. `way`: where a
/// source would come in and on which own address it would knock, `None` where
/// it cannot come. `own`: this host's addresses; `known`: who is there.
pub fn plan(
    brief: &Brief,
    listeners: &[Listener],
    way: &mut dyn FnMut(IpAddr) -> Option<Arrival>,
    own: &[IpAddr],
    known: &[IpAddr],
) -> Plan {
    let inbound: Vec<(RuleIndex, &Rule)> =
        brief.indexed().filter(|(_, rule)| rule.is_active_in(Direction::Inbound)).collect();
    let tables = Tables::build(brief).ok();
    let subjects = subjects_apart(&inbound, listeners);
    let mut shows: Vec<(IpAddr, Shows)> = Vec::new();
    for source in sources_apart(&inbound, own, known) {
        let Some(Arrival { target: usual, interface }) = way(source) else { continue };
        let family = Family::of_address(source);
        let mut showing = Shows::new();
        for target in targets_apart(&inbound, usual, own) {
            for subject in &subjects {
                let program = program_at(brief, listeners, *subject, Arrival { target, interface });
                let facts = first_packet(*subject, source, target, interface);
                let facts = PacketContext { program, ..facts };
                let decision = match &tables {
                    Some(tables) => tables.decide(&facts),
                    None => decide(brief, &facts),
                };
                let spoke = match decision.speaker {
                    Speaker::Rule(index) | Speaker::Beyond(index) => Some(index),
                    Speaker::Standing(_) => None,
                    _ => continue,
                };
                let knock = Showing { source, subject: *subject, target };
                // Where somebody listens, more can be seen.
                let heard = |s: Subject| {
                    listeners
                        .iter()
                        .any(|l| Subject::Port(l.transport, l.port) == s && l.takes(target))
                };
                showing
                    .entry((spoke, family))
                    .and_modify(|known: &mut Showing| {
                        if !heard(known.subject) && heard(*subject) {
                            *known = knock;
                        }
                    })
                    .or_insert(knock);
            }
        }
        shows.push((source, showing));
    }
    let mut plan = Plan::default();
    let mut done: BTreeSet<(Option<RuleIndex>, Family)> = BTreeSet::new();
    for at in fewest(&shows) {
        let (source, showing) = &shows[at];
        plan.sources.push(*source);
        for (key, knock) in showing {
            if done.insert(*key) {
                plan.shown.push((key.0, *knock));
            }
        }
    }
    plan.shown
        .sort_by_key(|(index, knock)| (index.is_none(), *index, Family::of_address(knock.source)));
    for (index, rule) in inbound {
        if !Family::BOTH.into_iter().any(|family| done.contains(&(Some(index), family))) {
            plan.not_shown.push((index, why_not(rule, &subjects)));
        }
    }
    plan
}

/// The fewest that show all there is to show. Of many the one that shows most
/// new rules is taken again and again, which may be one or two too many.
fn fewest(shows: &[(IpAddr, Shows)]) -> Vec<usize> {
    let all: BTreeSet<_> = shows.iter().flat_map(|(_, showing)| showing.keys()).collect();
    let mut chosen: Vec<usize> = Vec::new();
    let mut left = all.clone();
    while !left.is_empty() {
        // The first of several that show as much.
        let Some(best) = (0..shows.len())
            .rev()
            .max_by_key(|at| shows[*at].1.keys().filter(|key| left.contains(key)).count())
        else {
            break;
        };
        left.retain(|key| !shows[best].1.contains_key(key));
        chosen.push(best);
    }
    if shows.len() > FEW {
        return chosen;
    }
    // All ways to choose fewer, the fewest first.
    let better = (1..1u32 << shows.len())
        .filter(|set| (set.count_ones() as usize) < chosen.len())
        .filter(|set| {
            let shown = |key| {
                (0..shows.len()).any(|at| set >> at & 1 == 1 && shows[at].1.contains_key(key))
            };
            all.iter().all(|key| shown(*key))
        })
        .min_by_key(|set| set.count_ones());
    match better {
        Some(set) => (0..shows.len()).filter(|at| set >> at & 1 == 1).collect(),
        None => chosen,
    }
}

fn why_not(rule: &Rule, subjects: &[Subject]) -> &'static str {
    if !subjects.iter().any(|subject| {
        Family::BOTH.into_iter().any(|family| {
            rule.traffic.keys.as_ref().is_none_or(|keys| keys.contains(subject.key(family)))
        })
    }) {
        "its traffic cannot be probed"
    } else if !rule.program.is_any() {
        "no program that it names listens there"
    } else if !rule.interface.is_any() {
        "it names an interface that no source is routed through; probe it with --via"
    } else {
        "rules above it already match everything that could be tried, or none of its sources can \
         reach this host"
    }
}

/// Sources that different rules are about: a member of each kind, both families.
fn sources_apart(inbound: &[(RuleIndex, &Rule)], own: &[IpAddr], known: &[IpAddr]) -> Vec<IpAddr> {
    let mut sources = Vec::new();
    for family in Family::BOTH {
        let sets: Vec<&AddressSet> =
            inbound.iter().filter_map(|(_, rule)| rule.source.addresses.as_deref()).collect();
        let ranges = sets.iter().flat_map(|set| set.ranges());
        let of_family = ranges.filter(|range| Family::of_address(range.first()) == family);
        let mut kinds: HashMap<Vec<u64>, (bool, IpAddr)> = HashMap::new();
        let mut order = Vec::new();
        let nobodys = NOBODYS.iter().filter_map(|text| text.parse::<IpAddr>().ok());
        let outside = nobodys
            .filter(|address| Family::of_address(*address) == family)
            .map(AddressRange::single);
        for piece in outside.chain(pieces(of_family)) {
            let Some(member) = member(piece, own, known) else { continue };
            let signature = bits(sets.iter().map(|set| set.contains(member)));
            let there = known.contains(&member);
            match kinds.get_mut(&signature) {
                // Who is there can be knocked for on the wire.
                Some(kind) if there && !kind.0 => *kind = (true, member),
                Some(_) => {}
                None => {
                    order.push(signature.clone());
                    kinds.insert(signature, (there, member));
                }
            }
        }
        sources.extend(order.iter().filter_map(|kind| kinds.get(kind)).map(|(_, member)| *member));
    }
    sources
}

/// The pieces that ranges of one family cut each other into.
fn pieces(ranges: impl Iterator<Item = AddressRange>) -> Vec<AddressRange> {
    let mut begins: BTreeSet<IpAddr> = BTreeSet::new();
    let mut ends: BTreeSet<IpAddr> = BTreeSet::new();
    let mut all = Vec::new();
    for range in ranges {
        begins.insert(range.first());
        ends.insert(range.last());
        if let Some(after) = next(range.last()) {
            begins.insert(after);
        }
        if let Some(before) = previous(range.first()) {
            ends.insert(before);
        }
        all.push(range);
    }
    let mut ends = ends.into_iter().peekable();
    for begin in begins {
        while ends.next_if(|end| *end < begin).is_some() {}
        if let Some(end) = ends.peek()
            && let Ok(piece) = AddressRange::between(begin, *end)
        {
            all.push(piece);
        }
    }
    // The pieces, before the ranges that they are cut from.
    all.reverse();
    all
}

fn next(address: IpAddr) -> Option<IpAddr> {
    match address {
        IpAddr::V4(a) => u32::from(a).checked_add(1).map(|n| Ipv4Addr::from(n).into()),
        IpAddr::V6(a) => u128::from(a).checked_add(1).map(|n| Ipv6Addr::from(n).into()),
    }
}

fn previous(address: IpAddr) -> Option<IpAddr> {
    match address {
        IpAddr::V4(a) => u32::from(a).checked_sub(1).map(|n| Ipv4Addr::from(n).into()),
        IpAddr::V6(a) => u128::from(a).checked_sub(1).map(|n| Ipv6Addr::from(n).into()),
    }
}

/// Yes and no as bits.
fn bits(all: impl Iterator<Item = bool>) -> Vec<u64> {
    let mut words = Vec::new();
    for (at, yes) in all.enumerate() {
        if at % 64 == 0 {
            words.push(0);
        }
        if let Some(last) = words.last_mut() {
            *last |= u64::from(yes) << (at % 64);
        }
    }
    words
}

/// What different rules are about: ports, and echo requests.
fn subjects_apart(inbound: &[(RuleIndex, &Rule)], listeners: &[Listener]) -> Vec<Subject> {
    let sets: Vec<_> = inbound.iter().filter_map(|(_, r)| r.traffic.keys.as_ref()).collect();
    let heard = listeners.iter().map(|l| l.transport.key(l.port));
    let mut tried: Vec<TrafficKey> = heard.collect();
    for (first, last) in sets.iter().flat_map(|set| set.ranges()) {
        tried.extend([Some(*first), last.next(), first.previous()].into_iter().flatten());
    }
    // Left to the standing answer, most often.
    tried.extend([Transport::Tcp.key(9), Transport::Udp.key(9), TrafficKey::new(ICMP, 0x0800)]);
    let mut kinds: HashMap<(u8, Vec<u64>), ()> = HashMap::new();
    let mut subjects = BTreeSet::new();
    for key in tried {
        // Port 0 stands for the ports behind it.
        let key = match key.protocol() {
            TCP | UDP if key.low() == 0 => TrafficKey::new(key.protocol(), 1),
            _ => key,
        };
        let subject = match key.protocol() {
            TCP if key.low() > 0 => Subject::Port(Transport::Tcp, key.low()),
            UDP if key.low() > 0 => Subject::Port(Transport::Udp, key.low()),
            ICMP | ICMPV6 => Subject::Echo,
            _ => continue,
        };
        let signature = bits(sets.iter().map(|set| set.contains(key)));
        let listened = listeners.iter().any(|l| Subject::Port(l.transport, l.port) == subject);
        // Every listener counts for itself: a program may be a condition.
        if kinds.insert((key.protocol(), signature), ()).is_none() || listened {
            subjects.insert(subject);
        }
    }
    subjects.into_iter().collect()
}

/// Own addresses that different rules are about, first the usual one.
fn targets_apart(inbound: &[(RuleIndex, &Rule)], usual: IpAddr, own: &[IpAddr]) -> Vec<IpAddr> {
    let sets: Vec<&AddressSet> =
        inbound.iter().filter_map(|(_, rule)| rule.destination.addresses.as_deref()).collect();
    let mut kinds = BTreeSet::new();
    let family = Family::of_address(usual);
    let others = own.iter().copied().filter(|address| {
        Family::of_address(*address) == family && can_come_from(*address) && *address != usual
    });
    std::iter::once(usual)
        .chain(others)
        .filter(|target| kinds.insert(bits(sets.iter().map(|set| set.contains(*target)))))
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::orders::read;

    const OWN: &str = "198.51.100.20";

    fn ip(text: &str) -> IpAddr {
        text.parse().unwrap()
    }

    fn brief(rules: &str) -> Brief {
        let head = "version = 1\n[standing]\ninbound = \"deny\"\noutbound = \"allow\"\ntransit = \
                    \"deny\"\n";
        Brief::unplaced(&read(&format!("{head}{rules}")).unwrap())
    }

    #[test]
    fn a_member_stands_for_its_range_and_is_never_the_host_itself() {
        let own = [ip("198.51.100.7")];
        let of = |text: &str| member(AddressRange::parse(text).unwrap(), &own, &[]);
        assert_eq!(of("198.51.100.7"), None);
        assert_eq!(of("198.51.100.6-198.51.100.7"), Some(ip("198.51.100.6")));
        assert_eq!(of("203.0.113.0/24"), Some(ip("203.0.113.127")));
        assert_eq!(of("2001:db8:51::/48"), Some(ip("2001:db8:51::9")));
        assert_eq!(of("127.0.0.0/8"), None);
        assert_eq!(of("224.0.0.0/4"), None);
        let range = AddressRange::parse("203.0.113.0/24").unwrap();
        assert_eq!(member(range, &own, &[ip("203.0.113.9")]), Some(ip("203.0.113.9")));
    }

    #[test]
    fn a_stranger_is_named_by_no_rule_and_is_no_neighbour() {
        let brief = brief(
            "[[rules]]\nname = \"a\"\naction = \"allow\"\ntraffic = \"ssh\"\nsource = \
             \"192.0.2.0/24\"\n",
        );
        let links = [AddressRange::parse("203.0.113.0/24").unwrap()];
        assert_eq!(stranger(&brief, Family::V4, &links), Some(ip("198.51.100.66")));
        assert_eq!(stranger(&brief, Family::V6, &links), Some(ip("2001:db8::66")));
    }

    #[test]
    fn the_fewest_are_found_where_taking_the_most_first_is_one_too_many() {
        let knock = Showing { source: ip(OWN), subject: Subject::Echo, target: ip(OWN) };
        let shows = |rules: &[u32]| {
            let showing =
                rules.iter().map(|n| ((Some(RuleIndex(*n)), Family::V4), knock)).collect();
            (ip(OWN), showing)
        };
        let all = [shows(&[0, 1, 2, 3]), shows(&[0, 1, 4]), shows(&[2, 3, 5])];
        assert_eq!(fewest(&all), [1, 2]);
        assert_eq!(fewest(&all[..1]), [0]);
        assert_eq!(fewest(&[]), [0usize; 0]);
    }
}
