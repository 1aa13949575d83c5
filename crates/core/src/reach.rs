//! Reach: what each (port, vantage) should do by the orders, and why what was
//! observed differs.

use std::collections::BTreeSet;
use std::fmt;
use std::net::IpAddr;

use serde::{Deserialize, Serialize};

use crate::brief::{Brief, RuleIndex};
use crate::decide::{Decision, Speaker, decide};
use crate::listener::{Listener, Scope};
use crate::moment::Moment;
use crate::names::address::Family;
use crate::names::traffic::{ICMP, ICMPV6, TCP, TrafficKey, Transport, UDP};
use crate::orders::{Action, Rule};
use crate::packet::{
    Direction, Facts, InterfaceIndex, IpPacket, Packet, Payload, ProgramIndex, TcpFlags,
};

/// What is checked: one row of the table.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(into = "String")]
#[serde(try_from = "String")]
pub enum Subject {
    /// A port.
    Port(Transport, u16),
    /// Echo requests.
    Echo,
}

impl Subject {
    /// The key of a first packet about it, for a source of this family.
    pub fn key(self, family: Family) -> TrafficKey {
        match (self, family) {
            (Self::Port(transport, port), _) => transport.key(port),
            (Self::Echo, Family::V4) => TrafficKey::new(ICMP, 0x0800),
            (Self::Echo, Family::V6) => TrafficKey::new(ICMPV6, 0x8000),
        }
    }
}

impl fmt::Display for Subject {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Port(transport, port) => write!(f, "{transport}/{port}"),
            Self::Echo => f.write_str("icmp/echo"),
        }
    }
}

impl From<Subject> for String {
    fn from(subject: Subject) -> Self {
        subject.to_string()
    }
}

impl TryFrom<String> for Subject {
    type Error = String;

    fn try_from(text: String) -> Result<Self, String> {
        if text == "icmp/echo" {
            return Ok(Self::Echo);
        }
        let (transport, port) = text.split_once('/').ok_or("no slash")?;
        let transport = match transport {
            "tcp" => Transport::Tcp,
            "udp" => Transport::Udp,
            _ => return Err(format!("`{text}` is no port")),
        };
        port.parse()
            .map(|port| Self::Port(transport, port))
            .map_err(|_| format!("`{text}` is no port"))
    }
}

/// Where a check looks from.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum Vantage {
    /// This host itself.
    Here,
    /// An outside source with this address.
    Outside(IpAddr),
}

impl fmt::Display for Vantage {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Here => f.write_str("here"),
            Self::Outside(address) => write!(f, "as {address}"),
        }
    }
}

impl Serialize for Vantage {
    fn serialize<S: serde::Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        s.collect_str(self)
    }
}

/// What a port does when knocked on.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Outcome {
    /// It accepts.
    Answers,
    /// It says no.
    Refuses,
    /// It says nothing.
    Silent,
    /// Nobody could find out.
    Unknown,
}

impl fmt::Display for Outcome {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(match self {
            Self::Answers => "answers",
            Self::Refuses => "refuses",
            Self::Silent => "silent",
            Self::Unknown => "unknown",
        })
    }
}

/// How an outcome is known.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum How {
    /// A real packet went in.
    Wire,
    /// The loaded gate was asked, and the socket table.
    Gate,
    /// Worked out from the orders and the socket table.
    Orders,
}

impl fmt::Display for How {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Wire => "wire",
            Self::Gate => "gate",
            Self::Orders => "orders",
        })
    }
}

/// One observation.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Observed {
    /// What happened.
    pub outcome: Outcome,
    /// How that is known.
    pub how: How,
    /// The local address that was knocked on.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub target: Option<IpAddr>,
    /// The evidence in words: "SYN-ACK in 0.1 ms".
    #[serde(skip_serializing_if = "Option::is_none")]
    pub evidence: Option<String>,
}

/// Why an observation differs from the orders.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case", tag = "reason")]
pub enum Why {
    /// Let in, but no socket is bound to the port.
    NothingListens,
    /// Let in, but the socket is bound to loopback.
    LoopbackOnly,
    /// Let in, but the socket is bound to another address.
    OtherAddress {
        /// That address.
        address: IpAddr,
    },
    /// The gate in force denied it.
    DeniedByGate {
        /// Who spoke there.
        by: String,
    },
    /// The orders deny it, but nothing in force does.
    NotInForce,
    /// The accept queue of the program is full.
    QueueFull,
    /// Let in, something listens, and still no answer came.
    NoAnswer,
}

impl fmt::Display for Why {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::NothingListens => f.write_str("nothing listens on it"),
            Self::LoopbackOnly => f.write_str("listens on loopback only"),
            Self::OtherAddress { address } => write!(f, "listens on {address} only"),
            Self::DeniedByGate { by } => write!(f, "the gate denied it by {by}"),
            Self::NotInForce => {
                f.write_str("the orders deny it, but no gate that does is in force")
            }
            Self::QueueFull => f.write_str("the program's accept queue is full"),
            Self::NoAnswer => {
                f.write_str("the gate let it in and something listens, but no answer came")
            }
        }
    }
}

/// One cell: what was meant, what was seen, why they differ.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Cell {
    /// Where it was looked from.
    pub vantage: Vantage,
    /// What the orders mean it to do.
    pub expected: Outcome,
    /// Which rule or standing answer says so.
    pub expected_by: String,
    /// What it did.
    pub observed: Observed,
    /// Why they differ; absent where they do not.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub why: Option<Why>,
}

impl Cell {
    /// Whether what was seen is not what was meant. An unknown differs from nothing.
    pub fn differs(&self) -> bool {
        self.observed.outcome != self.expected && self.observed.outcome != Outcome::Unknown
    }
}

/// What is to be checked: every listener; every port that an allow rule names,
/// and of a range that nothing listens in the first one; echo requests where a
/// rule speaks of them.
pub fn subjects(brief: &Brief, listeners: &[Listener]) -> BTreeSet<Subject> {
    let mut subjects: BTreeSet<Subject> =
        listeners.iter().map(|l| Subject::Port(l.transport, l.port)).collect();
    let inbound = |r: &&Rule| r.speaks() && r.direction == Direction::Inbound;
    for rule in brief.rules().filter(inbound) {
        let Some(keys) = &rule.traffic.keys else { continue };
        if keys.contains(Subject::Echo.key(Family::V4).0) {
            subjects.insert(Subject::Echo);
        }
        if rule.action == Action::Allow {
            let unheard = keys.ranges().iter().filter_map(|range| first_port(*range));
            subjects.extend(
                unheard
                    .filter(|(subject, last)| !heard(listeners, *subject, *last))
                    .map(|(s, _)| s),
            );
        }
    }
    subjects
}

/// The first port of a range of keys, and the last one; `None` for whole
/// protocols and those without ports.
fn first_port((first, last): (u32, u32)) -> Option<(Subject, u16)> {
    let transport = match TrafficKey(first).protocol() {
        TCP => Transport::Tcp,
        UDP => Transport::Udp,
        _ => return None,
    };
    let (from, to) = (TrafficKey(first).low(), TrafficKey(last).low());
    (from > 0).then_some((Subject::Port(transport, from), to))
}

/// Whether something listens between a port and a last one.
fn heard(listeners: &[Listener], first: Subject, last: u16) -> bool {
    let Subject::Port(transport, from) = first else { return false };
    listeners.iter().any(|l| l.transport == transport && (from..=last).contains(&l.port))
}

/// The facts of a first packet, at a time when nothing has expired yet that the
/// list does not silence ([`Brief::expire`]), about `subject` from an outside source.
pub fn first_packet(
    subject: Subject,
    source: IpAddr,
    target: IpAddr,
    interface: InterfaceIndex,
) -> Facts {
    let payload = match subject {
        Subject::Port(Transport::Tcp, to) => {
            Payload::Tcp { from: 61_000, to, flags: TcpFlags(TcpFlags::SYN) }
        }
        Subject::Port(Transport::Udp, to) => Payload::Udp { from: 61_000, to },
        Subject::Echo => {
            let kind = if source.is_ipv4() { 8 } else { 128 };
            Payload::Icmp { kind, code: 0, id: 61_000 }
        }
    };
    Facts {
        interface,
        direction: Direction::Inbound,
        program: ProgramIndex::OTHER,
        belongs: false,
        now: Moment::default(),
        packet: Packet::Ip(IpPacket { source, destination: target, payload }),
    }
}

/// The program that takes packets to `subject` at `target`, as the list counts it.
pub fn program_at(
    brief: &Brief,
    listeners: &[Listener],
    subject: Subject,
    target: IpAddr,
) -> ProgramIndex {
    let takes = |l: &&Listener| Subject::Port(l.transport, l.port) == subject && l.takes(target);
    let listener = listeners.iter().find(takes);
    listener.and_then(Listener::path).map_or(ProgramIndex::OTHER, |path| brief.program_index(path))
}

/// What the orders mean a port to do, and who says so.
///
/// A rule that names the port means it to answer, whether or not something
/// listens. A standing allow, or a rule about any traffic, means nothing in
/// particular: then the listeners say what is to be expected.
pub fn expected(
    brief: &Brief,
    listeners: &[Listener],
    subject: Subject,
    vantage: Vantage,
    (target, interface): (IpAddr, InterfaceIndex),
) -> (Outcome, String) {
    let bound = |l: &&Listener| Subject::Port(l.transport, l.port) == subject;
    let source = match vantage {
        Vantage::Here => {
            let names = |r: &Rule| {
                let keys = r.traffic.keys.as_ref();
                let named = keys.is_some_and(|k| k.contains(subject.key(Family::V4).0));
                let inbound = r.direction == Direction::Inbound;
                r.speaks() && inbound && r.action == Action::Allow && named
            };
            let rule = brief.indexed().find(|(_, rule)| names(rule)).map(|(index, _)| index);
            let bound = listeners.iter().any(|l| bound(&l));
            return match rule {
                Some(index) => (Outcome::Answers, speaker_words(brief, Speaker::Rule(index))),
                None if subject == Subject::Echo => (Outcome::Answers, "the kernel itself".into()),
                None if bound => (Outcome::Answers, "its own listener".into()),
                None => (Outcome::Refuses, "nobody".into()),
            };
        }
        Vantage::Outside(source) => source,
    };
    let program = program_at(brief, listeners, subject, target);
    let packet = Facts { program, ..first_packet(subject, source, target, interface) };
    let decision = decide(brief, &packet);
    let by = speaker_words(brief, decision.speaker);
    let named =
        |index: RuleIndex| brief.rule(index).is_some_and(|r: &Rule| r.traffic.keys.is_some());
    let outcome = match (decision.verdict, decision.speaker) {
        (Action::Deny, _) => Outcome::Silent,
        (Action::Refuse, _) => Outcome::Refuses,
        (Action::Allow, Speaker::Rule(index)) if named(index) => Outcome::Answers,
        (Action::Allow, _) => let_in(listeners, subject, target),
    };
    (outcome, by)
}

/// What a port does when nothing denies: it answers where a socket takes the
/// address, and refuses elsewhere.
pub fn let_in(listeners: &[Listener], subject: Subject, target: IpAddr) -> Outcome {
    let takes = |l: &Listener| Subject::Port(l.transport, l.port) == subject && l.takes(target);
    if subject == Subject::Echo || listeners.iter().any(takes) {
        Outcome::Answers
    } else {
        Outcome::Refuses
    }
}

/// Puts a cell together and says why it differs. `interface`: where the
/// vantage's packets arrive. `gate` is what the gate in
/// force said of the same packet when it was asked, and who spoke, in words.
pub fn cell(
    brief: &Brief,
    listeners: &[Listener],
    subject: Subject,
    vantage: Vantage,
    observed: Observed,
    interface: InterfaceIndex,
    gate: Option<(Decision, &str)>,
) -> Cell {
    let target = observed.target.unwrap_or(IpAddr::from([0, 0, 0, 0]));
    let (expected, expected_by) = expected(brief, listeners, subject, vantage, (target, interface));
    let mut cell = Cell { vantage, expected, expected_by, observed, why: None };
    if cell.differs() {
        cell.why = Some(why(listeners, subject, target, &cell, gate));
    }
    cell
}

fn why(
    listeners: &[Listener],
    subject: Subject,
    target: IpAddr,
    cell: &Cell,
    gate: Option<(Decision, &str)>,
) -> Why {
    let bound: Vec<&Listener> =
        listeners.iter().filter(|l| Subject::Port(l.transport, l.port) == subject).collect();
    if let Some((decision, by)) = gate
        && decision.verdict == Action::Deny
        && cell.observed.outcome == Outcome::Silent
    {
        return Why::DeniedByGate { by: by.to_owned() };
    }
    if matches!(
        (cell.expected, cell.observed.outcome),
        (Outcome::Silent, _) | (Outcome::Refuses, Outcome::Answers)
    ) {
        return Why::NotInForce;
    }
    match bound.iter().find(|l| l.takes(target)).or(bound.first()) {
        None => Why::NothingListens,
        Some(l) if l.takes(target) => match l.queue {
            Some((waiting, room)) if waiting > room => Why::QueueFull,
            _ => Why::NoAnswer,
        },
        Some(_) if bound.iter().all(|l| l.scope() == Scope::Loopback) => Why::LoopbackOnly,
        Some(l) => Why::OtherAddress { address: l.address },
    }
}

/// `rule 3 (web)`, `the standing answer`, `foundation malformed`.
pub fn speaker_words(brief: &Brief, speaker: Speaker) -> String {
    match speaker {
        Speaker::Nobody => "nobody: it is not IP".into(),
        Speaker::Foundation(foundation) => format!("foundation {foundation}"),
        Speaker::Rule(index) => match brief.rule(index) {
            Some(rule) => format!("rule {} ({})", index.position(), rule.name),
            None => format!("rule {}", index.position()),
        },
        Speaker::Beyond(index) => {
            format!("the rate of {}", speaker_words(brief, Speaker::Rule(index)))
        }
        Speaker::Standing(direction) => format!("the standing answer {direction}"),
        Speaker::Unsound => "its guard against unsound tables".into(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::listener::Owner;
    use crate::orders::read;

    const ORDERS: &str = r#"version = 1
[standing]
inbound = "deny"
outbound = "allow"
transit = "deny"
[[rules]]
name = "dome"
action = "allow"
traffic = ["tcp/7410", "udp/7420-7423", "icmp/echo"]
source = "198.51.100.0/24"
"#;
    const OWN: &str = "198.51.100.20";

    fn listener(port: u16, address: &str) -> Listener {
        Listener {
            transport: Transport::Tcp,
            port,
            address: address.parse().unwrap(),
            only_v6: false,
            device: None,
            queue: Some((0, 128)),
            owner: Owner { uid: 0, account: "root".into(), programs: vec![] },
        }
    }

    fn seen(outcome: Outcome) -> Observed {
        Observed { outcome, how: How::Wire, target: Some(OWN.parse().unwrap()), evidence: None }
    }

    #[test]
    fn subjects_are_listeners_and_named_ports() {
        let brief = Brief::of(&read(ORDERS).unwrap());
        let names: Vec<String> =
            subjects(&brief, &[listener(22, "::")]).iter().map(ToString::to_string).collect();
        assert_eq!(names, ["tcp/22", "tcp/7410", "udp/7420", "icmp/echo"]);
        // A range is not accused of its unused ports.
        let mut camera = listener(7422, "::");
        camera.transport = Transport::Udp;
        let names: Vec<String> =
            subjects(&brief, &[camera]).iter().map(ToString::to_string).collect();
        assert_eq!(names, ["tcp/7410", "udp/7422", "icmp/echo"]);
    }

    #[test]
    fn every_difference_has_its_reason() {
        let brief = Brief::of(&read(ORDERS).unwrap());
        let friend = Vantage::Outside("198.51.100.23".parse().unwrap());
        let stranger = Vantage::Outside("192.0.2.66".parse().unwrap());
        let dome = Subject::Port(Transport::Tcp, 7410);
        let denied =
            Decision { verdict: Action::Deny, speaker: Speaker::Standing(Direction::Inbound) };
        let words = |listeners: &[Listener], vantage, outcome, gate: Option<Decision>| {
            let gate = gate.map(|d| (d, "the standing answer inbound"));
            let cell =
                cell(&brief, listeners, dome, vantage, seen(outcome), InterfaceIndex(2), gate);
            cell.why.map(|w| w.to_string()).unwrap_or_default()
        };
        let everywhere = [listener(7410, "0.0.0.0")];
        assert_eq!(words(&everywhere, friend, Outcome::Answers, None), "");
        assert_eq!(words(&everywhere, stranger, Outcome::Silent, None), "");
        assert_eq!(words(&[], friend, Outcome::Refuses, None), "nothing listens on it");
        assert_eq!(
            words(&[listener(7410, "127.0.0.1")], friend, Outcome::Refuses, None),
            "listens on loopback only"
        );
        assert_eq!(
            words(&[listener(7410, "198.51.100.21")], friend, Outcome::Refuses, None),
            "listens on 198.51.100.21 only"
        );
        assert_eq!(
            words(&everywhere, friend, Outcome::Silent, Some(denied)),
            "the gate denied it by the standing answer inbound"
        );
        assert_eq!(
            words(&everywhere, stranger, Outcome::Answers, None),
            "the orders deny it, but no gate that does is in force"
        );
        let mut full = listener(7410, "0.0.0.0");
        full.queue = Some((129, 128));
        assert_eq!(
            words(&[full], friend, Outcome::Silent, None),
            "the program's accept queue is full"
        );
        assert_eq!(words(&everywhere, stranger, Outcome::Unknown, None), "");
    }
}
