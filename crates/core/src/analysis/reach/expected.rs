//! What is to be checked, and what the orders mean each port to do.

use std::collections::BTreeSet;
use std::net::{IpAddr, SocketAddr};

use super::list::List;
use super::{Cell, CellContext, How, Observed, Outcome, Subject, Vantage, Why, why};
use crate::brief::{Brief, RuleIndex};
use crate::decision::{Mismatch, RuleQuery, Speaker, first_mismatch};
use crate::host::listener::{Listener, taker};
use crate::moment::Moment;
use crate::names::address::Family;
use crate::names::range_set::RangeSet;
use crate::names::traffic::{Term, TrafficKey, Transport};
use crate::orders::{Action, Code, Rule};
use crate::packet::{
    Direction, InterfaceIndex, IpPacket, Packet, PacketContext, Payload, ProgramIndex, TcpFlags,
};

/// What is to be checked: every listener; every port that a rule names, and of
/// a range that nothing listens in the first one; echo requests where a rule
/// names them; and a port of each transport that is left to the standing answer.
pub fn subjects(brief: &Brief, listeners: &[Listener]) -> BTreeSet<Subject> {
    let mut subjects: BTreeSet<Subject> =
        listeners.iter().map(|l| Subject::Port(l.transport, l.port)).collect();
    for rule in brief.rules().filter(|r: &&Rule| r.is_active_in(Direction::Inbound)) {
        let Some(keys) = &rule.traffic.keys else { continue };
        if keys.contains(Subject::Echo.key(Family::V4)) {
            subjects.insert(Subject::Echo);
        }
        for item in &rule.traffic.items {
            let Term::Ports(transport, first, last) = *item else { continue };
            if first == last || first > 0 && !heard(listeners, keys, *item) {
                let first = first_of(keys, transport, first, last);
                subjects.extend(first.map(|port| Subject::Port(transport, port)));
            }
        }
    }
    subjects.extend(sample(brief, listeners));
    subjects
}

/// One port of each transport that nobody listens on and no rule names: they
/// show what the standing answer does.
fn sample(brief: &Brief, listeners: &[Listener]) -> impl Iterator<Item = Subject> {
    const TRIED: [u16; 8] = [23, 445, 161, 3389, 5900, 69, 1900, 9];
    let named = move |subject: &Subject| {
        let Subject::Port(transport, port) = *subject else { return true };
        let key = transport.key(port);
        listeners.iter().any(|l| Subject::Port(l.transport, l.port) == *subject)
            || brief.rules().any(|rule| rule.is_active() && rule.names(key))
    };
    [Transport::Tcp, Transport::Udp].into_iter().filter_map(move |transport| {
        TRIED
            .into_iter()
            .map(move |port| Subject::Port(transport, port))
            .find(|subject| !named(subject))
    })
}

/// The first port of a range that a rule's keys have: exceptions may begin it.
fn first_of(
    keys: &RangeSet<TrafficKey>,
    transport: Transport,
    first: u16,
    last: u16,
) -> Option<u16> {
    let found = keys.first_from(transport.key(first))?;
    (found <= transport.key(last)).then(|| found.low())
}

/// Whether something listens on a port of a range that a rule's keys have.
fn heard(listeners: &[Listener], keys: &RangeSet<TrafficKey>, range: Term) -> bool {
    let Term::Ports(transport, first, last) = range else { return false };
    listeners
        .iter()
        .filter(|l| l.transport == transport && (first..=last).contains(&l.port))
        .any(|l| keys.contains(transport.key(l.port)))
}

/// The facts of a first packet, at a time when nothing has expired yet that the
/// list does not silence ([`Brief::expire`]), about `subject` from an outside source.
pub fn first_packet(
    subject: Subject,
    source: IpAddr,
    target: IpAddr,
    interface: InterfaceIndex,
) -> PacketContext {
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
    PacketContext {
        interface,
        direction: Direction::Inbound,
        program: ProgramIndex::OTHER,
        is_reply: false,
        now: Moment::default(),
        packet: Packet::Ip(IpPacket::whole(source, target, payload)),
    }
}

/// Where packets of a vantage come in.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Arrival {
    /// The address that they are for.
    pub target: IpAddr,
    /// The interface that they arrive at.
    pub interface: InterfaceIndex,
}

/// The program that takes packets to `subject`, as the list counts it.
pub fn program_at(
    brief: &Brief,
    listeners: &[Listener],
    subject: Subject,
    at: Arrival,
) -> ProgramIndex {
    let Subject::Port(transport, port) = subject else { return ProgramIndex::OTHER };
    let arrives = brief.interface_name(at.interface);
    let listener = taker(listeners, transport, port, at.target, arrives);
    listener.and_then(Listener::path).map_or(ProgramIndex::OTHER, |path| brief.program_index(path))
}

/// What the orders mean a port to do, and who says so.
///
/// A rule that names the port means it to answer, whether or not something
/// listens. A standing allow, or a rule about any traffic, means nothing in
/// particular: then the listeners say what is to be expected.
///
/// `listeners`: `None` for another machine, of which nothing but the orders is
/// known; what depends on its listeners or interfaces is unknown then.
pub fn expected(
    brief: &Brief,
    listeners: Option<&[Listener]>,
    subject: Subject,
    vantage: &Vantage,
    at: Arrival,
) -> (Outcome, String) {
    let list = List { brief, tables: None };
    let meant = meant(list, listeners, subject, vantage, at);
    (meant.outcome, meant.by)
}

/// What the orders mean a port to do.
struct Expectation<'b> {
    outcome: Outcome,
    /// Who says so, in words.
    by: String,
    /// Whether an outside source is let in.
    let_in: bool,
    /// The rule that says so.
    rule: Option<&'b Rule>,
}

impl Expectation<'_> {
    fn plainly(outcome: Outcome, by: impl Into<String>) -> Self {
        Self { outcome, by: by.into(), let_in: false, rule: None }
    }
}

/// The reason for which a rule accepts that what it lets in to does not answer.
fn accepted(rule: &Rule, cell: &Cell, why: &Why) -> Option<String> {
    let nobody = matches!(why, Why::NothingListens { .. });
    let found = rule.accepted.iter().find(|accepted| {
        accepted.code == Code::NotReached || accepted.code == Code::NothingListens && nobody
    });
    found.filter(|_| cell.expected == Outcome::Answers).map(|accepted| accepted.why.clone())
}

fn meant<'b>(
    list: List<'b>,
    listeners: Option<&[Listener]>,
    subject: Subject,
    vantage: &Vantage,
    at: Arrival,
) -> Expectation<'b> {
    let brief = list.brief;
    let Arrival { target, interface } = at;
    let elsewhere = listeners.is_none();
    let listeners = listeners.unwrap_or_default();
    let source = match vantage.source() {
        None => {
            let mut about = list.about(Direction::Inbound, subject.key(Family::V4));
            let rule = about
                .find(|(_, rule)| {
                    rule.action == Action::Allow && is_meant(rule, listeners, subject, Family::V4)
                })
                .map(|(index, _)| index);
            let bound = listeners.iter().any(|l| Subject::Port(l.transport, l.port) == subject);
            return match rule {
                Some(index) => Expectation {
                    rule: brief.rule(index),
                    ..Expectation::plainly(
                        Outcome::Answers,
                        speaker_words(brief, Speaker::Rule(index)),
                    )
                },
                None if subject == Subject::Echo => {
                    Expectation::plainly(Outcome::Answers, "the kernel itself")
                }
                None if bound => Expectation::plainly(Outcome::Answers, "its own listener"),
                None => Expectation::plainly(Outcome::Refuses, "nobody"),
            };
        }
        Some(source) => source,
    };
    let program = program_at(brief, listeners, subject, at);
    let packet = PacketContext { program, ..first_packet(subject, source, target, interface) };
    let decision = list.decide(&packet);
    let by = speaker_words(brief, decision.speaker);
    if elsewhere && let Some(rule) = depends_on_the_place(list, &packet, decision.speaker) {
        let by = format!("{rule} depends on interfaces or programs there");
        return Expectation::plainly(Outcome::Unknown, by);
    }
    let named = |index: RuleIndex| {
        let family = Family::of_address(source);
        brief.rule(index).is_some_and(|rule| is_meant(rule, listeners, subject, family))
    };
    let outcome = match (decision.verdict, decision.speaker) {
        (Action::Deny, _) => Outcome::Silent,
        (Action::Refuse, _) => Outcome::Refuses,
        (Action::Allow, Speaker::Rule(index)) if named(index) => Outcome::Answers,
        (Action::Allow, _) if elsewhere => Outcome::Unknown,
        (Action::Allow, _) => let_in(listeners, subject, target, brief.interface_name(interface)),
    };
    let rule = match decision.speaker {
        Speaker::Rule(index) => brief.rule(index),
        _ => None,
    };
    Expectation { outcome, by, let_in: decision.verdict == Action::Allow, rule }
}

/// The first rule before the one that decided which would match on another
/// interface, or for another program.
fn depends_on_the_place(list: List<'_>, facts: &PacketContext, speaker: Speaker) -> Option<String> {
    let Packet::Ip(ip) = facts.packet else { return None };
    let question = RuleQuery::from_packet(facts, &ip)?;
    let spoke = match speaker {
        Speaker::Rule(index) => index,
        _ => RuleIndex(u32::MAX),
    };
    let mut about = list.about(question.direction, question.key);
    let (index, _) = about.by_ref().take_while(|(index, _)| *index < spoke).find(|(_, rule)| {
        matches!(
            first_mismatch(list.brief, rule, &question),
            Some(Mismatch::Interface | Mismatch::Program)
        )
    })?;
    Some(speaker_words(list.brief, Speaker::Rule(index)))
}

/// Whether a rule means this very port to answer: one that it names, and of a
/// range each that something listens on, on whatever address, or else the first.
/// A whole protocol means none in particular.
fn is_meant(rule: &Rule, listeners: &[Listener], subject: Subject, family: Family) -> bool {
    let Some(keys) = &rule.traffic.keys else { return false };
    if !keys.contains(subject.key(family)) {
        return false;
    }
    let Subject::Port(transport, port) = subject else { return true };
    rule.traffic.items.iter().any(|item| match *item {
        Term::Ports(of, first, last) if of == transport && (first..=last).contains(&port) => {
            first == last
                || first > 0
                    && (listeners.iter().any(|l| (l.transport, l.port) == (transport, port))
                        || first_of(keys, transport, first, last) == Some(port)
                            && !heard(listeners, keys, *item))
        }
        _ => false,
    })
}

/// What a port does when nothing denies: it answers where a socket takes the
/// packet, and refuses elsewhere.
pub fn let_in(
    listeners: &[Listener],
    subject: Subject,
    target: IpAddr,
    arrives: Option<&str>,
) -> Outcome {
    match subject {
        Subject::Port(transport, port)
            if taker(listeners, transport, port, target, arrives).is_none() =>
        {
            Outcome::Refuses
        }
        _ => Outcome::Answers,
    }
}

/// Puts a cell together and says why it differs.
pub fn cell(
    subject: Subject,
    vantage: &Vantage,
    at: Arrival,
    observed: Observed,
    around: &CellContext<'_>,
) -> Cell {
    let Expectation { outcome: mut expected, by: expected_by, let_in, rule } =
        meant(around.list(), around.listeners, subject, vantage, at);
    let mut observed = observed;
    if is_published(subject, vantage, at, &observed, around) {
        observed.remark = Some(published(observed.forwarded_to));
        if let_in && observed.outcome == Outcome::Answers {
            expected = Outcome::Answers;
        }
    }
    if *vantage == Vantage::Here
        && around.published.contains(&subject)
        && observed.outcome == Outcome::Refuses
    {
        expected = Outcome::Refuses;
    }
    let mut cell = Cell { expected, expected_by, observed, why: None, next: None, accepted: None };
    if cell.differs() {
        let why = why::why(&cell, let_in, subject, vantage, at, around);
        cell.accepted = rule.and_then(|rule| accepted(rule, &cell, &why));
        let name = rule.map(|rule| rule.name.as_str());
        cell.next = cell.accepted.is_none().then(|| why.next(subject, name));
        cell.why = Some(why);
    } else if let_in && cell.observed.outcome == Outcome::Refuses {
        // Nothing differs; still, whoever looks at this port may have meant more.
        let arrives = around.brief.interface_name(at.interface);
        cell.why = why::bound_elsewhere(around.listeners, subject, at.target, arrives);
    }
    cell
}

/// Whether what came to a port was forwarded to somebody else, or somebody answers an
/// outside source where no socket of this host takes it. The socket table alone would
/// take such a port for closed.
pub fn is_published(
    subject: Subject,
    vantage: &Vantage,
    at: Arrival,
    observed: &Observed,
    around: &CellContext<'_>,
) -> bool {
    let (Subject::Port(transport, port), Some(listeners)) = (subject, around.listeners) else {
        return false;
    };
    let arrives = around.brief.interface_name(at.interface);
    let answered = (observed.outcome, observed.how) == (Outcome::Answers, How::Wire);
    observed.forwarded_to.is_some()
        || *vantage != Vantage::Here
            && answered
            && !around.stopped.contains(&subject)
            && !around.started.contains(&subject)
            && taker(listeners, transport, port, at.target, arrives).is_none()
}

fn published(to: Option<SocketAddr>) -> String {
    match to {
        Some(to) => format!(
            "published: forwarded to {} port {}; no program on this host listens",
            to.ip(),
            to.port()
        ),
        None => "published: no program on this host listens; another machine or network namespace \
                 answers"
            .into(),
    }
}

/// `rule 3 (web)`, `the standing answer`, `foundation malformed`.
pub fn speaker_words(brief: &Brief, speaker: Speaker) -> String {
    speaker_words_by(|index| brief.rule(index).map(|rule| rule.name.as_str()), speaker)
}

/// The same, by the names of the rules alone.
pub fn speaker_words_by<'n>(
    name: impl Fn(RuleIndex) -> Option<&'n str>,
    speaker: Speaker,
) -> String {
    let rule = |index: RuleIndex| match name(index) {
        Some(name) => format!("rule {} ({name})", index.position()),
        None => format!("rule {}", index.position()),
    };
    match speaker {
        Speaker::Nobody => "nobody: it is not IP".into(),
        Speaker::Foundation(foundation) => format!("foundation {foundation}"),
        Speaker::Rule(index) => rule(index),
        Speaker::Beyond(index) => format!("the rate of {}", rule(index)),
        Speaker::Standing(direction) => format!("the standing answer {direction}"),
        Speaker::CorruptTables => "its guard against corrupt tables".into(),
    }
}

#[cfg(test)]
mod tests;
