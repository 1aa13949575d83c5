//! Access lists as orders.

use std::collections::BTreeSet;

use ipnet::IpNet;
use toml_edit::{ArrayOfTables, DocumentMut, Item, Table, value};

use super::{AccessLists, Ace, Acl, Icmp, Network, Ported, Ports, Rest};
use crate::names::address::Family;
use crate::names::traffic::{ICMP, ICMPV6, TCP, UDP};
use crate::orders::Action;
use crate::packet::Direction;
use crate::visible::visible;

/// What is taken where no list says what happens to the rest.
const USUAL: [(Direction, Action); 3] = [
    (Direction::Inbound, Action::Deny),
    (Direction::Outbound, Action::Allow),
    (Direction::Transit, Action::Deny),
];

/// Orders, and what they do not say.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Imported {
    /// The orders: one file.
    pub text: String,
    /// Entries that these orders have no words for: they are left out, each with the reason.
    pub unfit: Vec<String>,
    /// What was taken where the lists say nothing.
    pub notes: Vec<String>,
}

/// A rule to be written.
#[derive(Clone, Debug)]
struct Draft {
    name: String,
    action: Action,
    traffic: String,
    except: Option<String>,
    source: Option<String>,
    destination: Option<String>,
    interface: Option<String>,
    family: Option<Family>,
    log: bool,
}

impl Draft {
    /// Whether it is about everything of its family.
    fn is_rest(&self) -> bool {
        let about = [&self.source, &self.destination, &self.interface, &self.except];
        self.traffic == "any" && about.iter().all(|part| part.is_none()) && !self.log
    }

    fn is_about(&self, family: Family) -> bool {
        self.family.is_none_or(|of| of == family)
    }
}

/// The orders that say what these lists say. A list that is attached to an interface is about
/// what comes in there, or leaves; one that is not, about what its name begins with
/// (`outbound`, `transit`), else about what comes in.
pub fn import(lists: &AccessLists) -> Imported {
    let (mut unfit, mut notes) = (Vec::new(), Vec::new());
    let mut document = DocumentMut::new();
    document.insert("version", value(1));
    let (mut standing, mut tables) = (Table::new(), ArrayOfTables::new());
    let mut names = BTreeSet::new();
    for (direction, usual) in USUAL {
        let mut drafts = Vec::new();
        for acl in &lists.acls.acl {
            for interface in attached(lists, acl, direction) {
                for ace in &acl.aces.ace {
                    match read(acl, ace, interface.as_deref()) {
                        Ok(draft) => drafts.push(draft),
                        Err(reasons) => unfit.push(format!(
                            "entry {} of {} is left out: {}",
                            ace.name,
                            acl.name,
                            reasons.join(", ")
                        )),
                    }
                }
            }
        }
        let rest = take_rest(&mut drafts);
        let action = rest.unwrap_or(usual);
        if rest.is_none() {
            notes.push(format!("no list says what happens {direction} to the rest: {action}"));
        }
        standing.insert(direction.name(), value(action.to_string()));
        for draft in drafts {
            tables.push(table(draft, direction, &mut names));
        }
    }
    document.insert("standing", Item::Table(standing));
    if !tables.is_empty() {
        document.insert("rules", Item::ArrayOfTables(tables));
    }
    // Nothing but a comment, whatever the entries are called.
    let left: String = unfit.iter().map(|what| format!("# {}\n", visible(what))).collect();
    Imported { text: format!("{left}{document}"), unfit, notes }
}

/// Where a list holds in a direction: `None` is every interface.
fn attached(lists: &AccessLists, acl: &Acl, direction: Direction) -> Vec<Option<String>> {
    let points = lists.acls.attachment_points.iter().flat_map(|points| &points.interface);
    let has = |sets: &super::Sets| sets.acl_sets.acl_set.iter().any(|set| set.name == acl.name);
    let ingress: Vec<_> = points.clone().filter(|point| has(&point.ingress)).collect();
    let egress: Vec<_> = points.filter(|point| has(&point.egress)).collect();
    if ingress.is_empty() && egress.is_empty() {
        let named = [Direction::Outbound, Direction::Transit];
        let named = named.into_iter().find(|way| acl.name.starts_with(way.name()));
        return match named.unwrap_or(Direction::Inbound) == direction {
            true => vec![None],
            false => Vec::new(),
        };
    }
    let points = match direction {
        Direction::Inbound => ingress,
        Direction::Outbound => egress,
        Direction::Transit => Vec::new(),
    };
    points.into_iter().map(|point| Some(point.interface_id.clone())).collect()
}

/// Takes out what says, in both families, what happens to the rest.
fn take_rest(drafts: &mut Vec<Draft>) -> Option<Action> {
    let last = Family::BOTH.map(|family| {
        let at = drafts.iter().position(|draft| draft.is_rest() && draft.is_about(family))?;
        let later = drafts.get(at + 1..)?;
        (!later.iter().any(|draft| draft.is_about(family))).then_some(at)
    });
    let [Some(four), Some(six)] = last else { return None };
    let action = drafts.get(four)?.action;
    if drafts.get(six)?.action != action {
        return None;
    }
    drafts.remove(four.max(six));
    if four != six {
        drafts.remove(four.min(six));
    }
    Some(action)
}

/// What an entry says; or why these orders have no words for it.
fn read(acl: &Acl, ace: &Ace, attached: Option<&str>) -> Result<Draft, Vec<String>> {
    let mut reasons = Vec::new();
    let (matches, actions) = (&ace.matches, &ace.actions);
    unknown(&matches.rest, &mut reasons);
    unknown(&actions.rest, &mut reasons);
    let action = match bare(&actions.forwarding) {
        "accept" => Action::Allow,
        "drop" => Action::Deny,
        "reject" => Action::Refuse,
        other => {
            reasons.push(format!("forwarding is {other}"));
            Action::Deny
        }
    };
    let family = family(acl, ace, &mut reasons);
    let network = matches.ipv4.as_ref().or(matches.ipv6.as_ref()).cloned().unwrap_or_default();
    unknown(&network.rest, &mut reasons);
    let Network { protocol, source_four, destination_four, source_six, destination_six, .. } =
        network;
    let mut prefix = |text: Option<String>| prefix(text?, &mut reasons);
    let (source, destination) =
        (prefix(source_four.or(source_six)), prefix(destination_four.or(destination_six)));
    let (traffic, except) = traffic(ace, protocol, &mut reasons);
    let interface = [
        attached.map(str::to_owned),
        matches.ingress_interface.clone(),
        matches.egress_interface.clone(),
    ];
    let mut interfaces = interface.into_iter().flatten();
    let interface = interfaces.next();
    if interfaces.any(|other| Some(&other) != interface.as_ref()) {
        reasons.push("it names two interfaces".into());
    }
    if !reasons.is_empty() {
        return Err(reasons);
    }
    let log = actions.logging.as_deref().is_some_and(|logging| bare(logging) != "log-none");
    let name = ace.name.clone();
    Ok(Draft { name, action, traffic, except, source, destination, interface, family, log })
}

/// A leaf that is not known here cannot be kept.
fn unknown(rest: &Rest, reasons: &mut Vec<String>) {
    reasons.extend(rest.keys().map(|key| format!("{key} is not known here")));
}

/// An identity without the name of its module (RFC 7951 section 6.8).
fn bare(identity: &str) -> &str {
    identity.rsplit_once(':').map_or(identity, |(_, name)| name)
}

fn family(acl: &Acl, ace: &Ace, reasons: &mut Vec<String>) -> Option<Family> {
    let by_kind = match acl.kind.as_deref().map(bare) {
        Some("ipv4-acl-type") => Some(Family::V4),
        Some("ipv6-acl-type") => Some(Family::V6),
        _ => None,
    };
    let by_entry = match (&ace.matches.ipv4, &ace.matches.ipv6) {
        (Some(_), Some(_)) => {
            reasons.push("it is about both families".into());
            None
        }
        (Some(_), None) => Some(Family::V4),
        (None, Some(_)) => Some(Family::V6),
        (None, None) => None,
    };
    if let (Some(kind), Some(entry)) = (by_kind, by_entry)
        && kind != entry
    {
        reasons.push("its list is of the other family".into());
    }
    by_entry.or(by_kind)
}

/// A prefix as orders write it; the one of all addresses is no condition.
fn prefix(text: String, reasons: &mut Vec<String>) -> Option<String> {
    match text.parse::<IpNet>() {
        Ok(net) if net.prefix_len() == 0 => None,
        Ok(net) if net.prefix_len() == net.max_prefix_len() => Some(net.addr().to_string()),
        Ok(net) => Some(net.trunc().to_string()),
        Err(_) => {
            reasons.push(format!("{text} is no prefix"));
            None
        }
    }
}

/// The traffic, and what is taken out of it.
fn traffic(ace: &Ace, protocol: Option<u8>, reasons: &mut Vec<String>) -> (String, Option<String>) {
    let matches = &ace.matches;
    let named = [
        (matches.tcp.is_some(), TCP),
        (matches.udp.is_some(), UDP),
        (matches.icmp.is_some() && matches.ipv6.is_none(), ICMP),
        (matches.icmp.is_some() && matches.ipv6.is_some(), ICMPV6),
    ];
    let mut named = named.into_iter().filter_map(|(is_there, number)| is_there.then_some(number));
    let number = named.next();
    if named.next().is_some() || (protocol.is_some() && number.is_some() && protocol != number) {
        reasons.push("it is about two protocols".into());
    }
    match (&matches.tcp, &matches.udp, &matches.icmp) {
        (Some(ported), ..) => ports("tcp", ported, reasons),
        (_, Some(ported), _) => ports("udp", ported, reasons),
        (.., Some(icmp)) => (message(icmp, matches.ipv6.is_some(), reasons), None),
        _ => match protocol {
            None => ("any".into(), None),
            Some(TCP) => ("tcp/*".into(), None),
            Some(UDP) => ("udp/*".into(), None),
            Some(number) => (format!("protocol/{number}"), None),
        },
    }
}

fn ports(kind: &str, ported: &Ported, reasons: &mut Vec<String>) -> (String, Option<String>) {
    unknown(&ported.rest, reasons);
    let Some(Ports { lower_port, upper_port, operator, port }) = &ported.destination_port else {
        return (format!("{kind}/*"), None);
    };
    let operator = operator.as_deref().map_or("eq", bare);
    match (operator, *port, *lower_port, *upper_port) {
        ("eq", Some(port), None, None) => in_words(kind, port, port),
        ("neq", Some(port @ 1..), None, None) => {
            (format!("{kind}/*"), Some(format!("{kind}/{port}")))
        }
        ("neq", Some(0), None, None) => in_words(kind, 1, u16::MAX),
        ("lte", Some(port), None, None) => in_words(kind, 0, port),
        ("gte", Some(port), None, None) => in_words(kind, port, u16::MAX),
        (_, None, Some(first), Some(last)) if first <= last => in_words(kind, first, last),
        _ => {
            reasons.push("its ports cannot be read".into());
            (format!("{kind}/*"), None)
        }
    }
}

/// A range of ports, and what is taken out of it: orders count ports from 1, so port 0 is
/// written as what is left of all.
fn in_words(kind: &str, first: u16, last: u16) -> (String, Option<String>) {
    match (first, last) {
        (0, u16::MAX) => (format!("{kind}/*"), None),
        (0, last) => (format!("{kind}/*"), Some(format!("{kind}/{}-{}", last + 1, u16::MAX))),
        (first, last) if first == last => (format!("{kind}/{first}"), None),
        (first, last) => (format!("{kind}/{first}-{last}"), None),
    }
}

/// Of messages, orders name echo requests alone.
fn message(icmp: &Icmp, is_six: bool, reasons: &mut Vec<String>) -> String {
    unknown(&icmp.rest, reasons);
    match (icmp.kind, icmp.code, is_six) {
        (None, None, false) => format!("protocol/{ICMP}"),
        (None, None, true) => format!("protocol/{ICMPV6}"),
        (Some(8), None, false) | (Some(128), None, true) => "icmp/echo".into(),
        _ => {
            reasons.push("of ICMP orders name echo requests alone".into());
            String::new()
        }
    }
}

/// A name that a rule can have, and no other rule has.
fn named(wanted: &str, names: &mut BTreeSet<String>) -> String {
    let allowed = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.');
    let name: String = wanted.chars().map(|c| if allowed(c) { c } else { '-' }).take(60).collect();
    let name = name.trim_matches('-');
    let name = match name.contains(|c: char| c.is_ascii_alphabetic()) {
        true => name.to_owned(),
        false => format!("entry-{name}"),
    };
    let numbered = (2..).map(|n| format!("{name}-{n}"));
    let free = std::iter::once(name.clone()).chain(numbered).find(|name| !names.contains(name));
    let free = free.unwrap_or(name);
    names.insert(free.clone());
    free
}

fn table(draft: Draft, direction: Direction, names: &mut BTreeSet<String>) -> Table {
    let mut table = Table::new();
    table.insert("name", value(named(&draft.name, names)));
    table.insert("action", value(draft.action.to_string()));
    if direction != Direction::Inbound {
        table.insert("direction", value(direction.name()));
    }
    table.insert("traffic", value(draft.traffic));
    let further = [
        ("traffic_except", draft.except),
        ("source", draft.source),
        ("destination", draft.destination),
        ("interface", draft.interface),
        ("family", draft.family.map(|family| family.to_string().to_lowercase())),
    ];
    for (key, text) in further {
        if let Some(text) = text {
            table.insert(key, value(text));
        }
    }
    if draft.log {
        table.insert("log", value(true));
    }
    table
}
