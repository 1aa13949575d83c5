//! What is to be checked, and what the orders mean each port to do.

use std::collections::BTreeSet;
use std::net::IpAddr;

use super::list::List;
use super::{Cell, Circumstances, Observed, Outcome, Subject, Vantage, Why, why};
use crate::brief::{Brief, RuleIndex};
use crate::decision::{Mismatch, Question, Speaker, mismatch};
use crate::host::listener::{Listener, taker};
use crate::moment::Moment;
use crate::names::address::Family;
use crate::names::spans::Spans;
use crate::names::traffic::{Term, TrafficKey, Transport};
use crate::orders::{Action, Code, Rule};
use crate::packet::{
    Direction, Facts, InterfaceIndex, IpPacket, Packet, Payload, ProgramIndex, TcpFlags,
};

/// What is to be checked: every listener; every port that a rule names, and of
/// a range that nothing listens in the first one; echo requests where a rule
/// speaks of them; and a port of each transport that is left to the standing answer.
pub fn subjects(brief: &Brief, listeners: &[Listener]) -> BTreeSet<Subject> {
    let mut subjects: BTreeSet<Subject> =
        listeners.iter().map(|l| Subject::Port(l.transport, l.port)).collect();
    for rule in brief.rules().filter(|r: &&Rule| r.speaks() && r.direction == Direction::Inbound) {
        let Some(keys) = &rule.traffic.keys else { continue };
        if keys.contains(Subject::Echo.key(Family::V4)) {
            subjects.insert(Subject::Echo);
        }
        for item in &rule.traffic.items {
            let Term::Ports(transport, first, last) = *item else { continue };
            if first == last || first > 0 && !heard(listeners, keys, *item) {
                let first = first_of(keys, transport, (first, last));
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
        let speaks = |rule: &Rule| {
            rule.speaks() && rule.traffic.keys.as_ref().is_some_and(|keys| keys.contains(key))
        };
        let bound = |l: &Listener| Subject::Port(l.transport, l.port) == *subject;
        listeners.iter().any(bound) || brief.rules().any(speaks)
    };
    let of = |transport| TRIED.into_iter().map(move |port| Subject::Port(transport, port));
    [Transport::Tcp, Transport::Udp]
        .into_iter()
        .filter_map(move |transport| of(transport).find(|subject| !named(subject)))
}

/// The first port of a range that a rule's keys have: exceptions may begin it.
fn first_of(
    keys: &Spans<TrafficKey>,
    transport: Transport,
    (first, last): (u16, u16),
) -> Option<u16> {
    let found = keys.first_from(transport.key(first))?;
    (found <= transport.key(last)).then(|| found.low())
}

/// Whether something listens on a port of a range that a rule's keys have.
fn heard(listeners: &[Listener], keys: &Spans<TrafficKey>, range: Term) -> bool {
    let Term::Ports(transport, first, last) = range else { return false };
    let within = |l: &&Listener| l.transport == transport && (first..=last).contains(&l.port);
    listeners.iter().filter(within).any(|l| keys.contains(transport.key(l.port)))
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
        packet: Packet::Ip(IpPacket::whole(source, target, payload)),
    }
}

/// The program that takes packets to `subject` at `target`, as the list counts it.
/// `interface`: where they arrive.
pub fn program_at(
    brief: &Brief,
    listeners: &[Listener],
    subject: Subject,
    (target, interface): (IpAddr, InterfaceIndex),
) -> ProgramIndex {
    let Subject::Port(transport, port) = subject else { return ProgramIndex::OTHER };
    let arrives = brief.interface_name(interface);
    let listener = taker(listeners, (transport, port), target, arrives);
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
    place: (IpAddr, InterfaceIndex),
) -> (Outcome, String) {
    let list = List { brief, tables: None };
    let meant = meant(list, listeners, subject, vantage, place);
    (meant.outcome, meant.by)
}

/// What the orders mean a port to do.
struct Meant<'b> {
    outcome: Outcome,
    /// Who says so, in words.
    by: String,
    /// Whether an outside source is let in.
    let_in: bool,
    /// The rule that says so.
    rule: Option<&'b Rule>,
}

impl Meant<'_> {
    fn plainly(outcome: Outcome, by: impl Into<String>) -> Self {
        Self { outcome, by: by.into(), let_in: false, rule: None }
    }
}

/// The reason for which a rule accepts that what it lets in to does not answer.
fn accepted(rule: &Rule, cell: &Cell, why: &Why) -> Option<String> {
    let nobody = matches!(why, Why::NothingListens { .. });
    let holds = |code| code == Code::NotReached || code == Code::NothingListens && nobody;
    let found = rule.accepted.iter().find(|accepted| holds(accepted.code));
    found.filter(|_| cell.expected == Outcome::Answers).map(|accepted| accepted.why.clone())
}

fn meant<'b>(
    list: List<'b>,
    listeners: Option<&[Listener]>,
    subject: Subject,
    vantage: &Vantage,
    (target, interface): (IpAddr, InterfaceIndex),
) -> Meant<'b> {
    let brief = list.brief;
    let elsewhere = listeners.is_none();
    let listeners = listeners.unwrap_or_default();
    let bound = |l: &&Listener| Subject::Port(l.transport, l.port) == subject;
    let source = match vantage.source() {
        None => {
            let names = |(_, rule): &(RuleIndex, &Rule)| {
                rule.action == Action::Allow && is_meant(rule, listeners, subject, Family::V4)
            };
            let mut about = list.about(Direction::Inbound, subject.key(Family::V4));
            let rule = about.find(names).map(|(index, _)| index);
            let bound = listeners.iter().any(|l| bound(&l));
            return match rule {
                Some(index) => Meant {
                    rule: brief.rule(index),
                    ..Meant::plainly(Outcome::Answers, speaker_words(brief, Speaker::Rule(index)))
                },
                None if subject == Subject::Echo => {
                    Meant::plainly(Outcome::Answers, "the kernel itself")
                }
                None if bound => Meant::plainly(Outcome::Answers, "its own listener"),
                None => Meant::plainly(Outcome::Refuses, "nobody"),
            };
        }
        Some(source) => source,
    };
    let program = program_at(brief, listeners, subject, (target, interface));
    let packet = Facts { program, ..first_packet(subject, source, target, interface) };
    let decision = list.decide(&packet);
    let by = speaker_words(brief, decision.speaker);
    if elsewhere && let Some(rule) = depends_on_the_place(list, &packet, decision.speaker) {
        let by = format!("{rule} depends on interfaces or programs there");
        return Meant::plainly(Outcome::Unknown, by);
    }
    let named = |index: RuleIndex| {
        let family = Family::of(source);
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
    Meant { outcome, by, let_in: decision.verdict == Action::Allow, rule }
}

/// The first rule before the one that spoke which would speak on another
/// interface, or for another program.
fn depends_on_the_place(list: List<'_>, facts: &Facts, speaker: Speaker) -> Option<String> {
    let Packet::Ip(ip) = facts.packet else { return None };
    let question = Question::of(facts, &ip)?;
    let spoke = match speaker {
        Speaker::Rule(index) => index,
        _ => RuleIndex(u32::MAX),
    };
    let open = |(_, rule): &(RuleIndex, &Rule)| {
        matches!(
            mismatch(list.brief, rule, &question),
            Some(Mismatch::Interface | Mismatch::Program)
        )
    };
    let mut about = list.about(question.direction, question.key);
    let (index, _) = about.by_ref().take_while(|(index, _)| *index < spoke).find(open)?;
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
    let listens = || listeners.iter().any(|l| (l.transport, l.port) == (transport, port));
    rule.traffic.items.iter().any(|item| match *item {
        Term::Ports(of, first, last) if of == transport && (first..=last).contains(&port) => {
            first == last
                || first > 0
                    && (listens()
                        || first_of(keys, transport, (first, last)) == Some(port)
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
            if taker(listeners, (transport, port), target, arrives).is_none() =>
        {
            Outcome::Refuses
        }
        _ => Outcome::Answers,
    }
}

/// Puts a cell together and says why it differs. `target` and `interface`:
/// what was knocked on, and where the vantage's packets arrive.
pub fn cell(
    (subject, vantage): (Subject, &Vantage),
    (target, interface): (IpAddr, InterfaceIndex),
    observed: Observed,
    around: &Circumstances<'_>,
) -> Cell {
    let place = (target, interface);
    let Meant { outcome: expected, by: expected_by, let_in, rule } =
        meant(around.list(), around.listeners, subject, vantage, place);
    let mut cell = Cell { expected, expected_by, observed, why: None, next: None, accepted: None };
    if cell.differs() {
        let why = why::why(&cell, (subject, vantage), place, around);
        cell.accepted = rule.and_then(|rule| accepted(rule, &cell, &why));
        let name = rule.map(|rule| rule.name.as_str());
        cell.next = cell.accepted.is_none().then(|| why.next(subject, name));
        cell.why = Some(why);
    } else if let_in && cell.observed.outcome == Outcome::Refuses {
        // Nothing differs; still, whoever looks at this port may have meant more.
        let arrives = around.brief.interface_name(interface);
        cell.why = why::bound_elsewhere(around.listeners, subject, target, arrives);
    }
    cell
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
        Speaker::Unsound => "its guard against corrupt tables".into(),
    }
}

#[cfg(test)]
mod tests {
    use super::super::{How, Said};
    use super::*;
    use crate::decision::Decision;
    use crate::host::listener::Owner;
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
        let target = Some(OWN.parse().unwrap());
        Observed { outcome, how: How::Wire, target, ..Observed::unknown("") }
    }

    #[test]
    fn subjects_are_listeners_named_ports_and_a_sample() {
        let brief = Brief::of(&read(ORDERS).unwrap());
        let names = |listeners: &[Listener]| -> Vec<String> {
            subjects(&brief, listeners).iter().map(ToString::to_string).collect()
        };
        let all = ["tcp/22", "tcp/23", "tcp/7410", "udp/23", "udp/7420", "icmp/echo"];
        assert_eq!(names(&[listener(22, "::")]), all);
        // A range is not accused of its unused ports.
        let mut camera = listener(7422, "::");
        camera.transport = Transport::Udp;
        assert_eq!(names(&[camera]), ["tcp/23", "tcp/7410", "udp/23", "udp/7422", "icmp/echo"]);
    }

    #[test]
    fn neighbours_are_meant_each_and_of_a_range_what_listens() {
        let expected = |traffic: &str, port: u16, listeners: &[Listener]| {
            let brief = Brief::of(&read(&ORDERS.replace("\"tcp/7410\"", traffic)).unwrap());
            let vantage = Vantage::of("198.51.100.23".parse().unwrap());
            let place = (OWN.parse().unwrap(), InterfaceIndex(2));
            let subject = Subject::Port(Transport::Tcp, port);
            assert!(subjects(&brief, listeners).contains(&subject) || port == 7412, "{traffic}");
            super::expected(&brief, Some(listeners), subject, &vantage, place).0
        };
        use Outcome::{Answers, Refuses};
        let loopback = [listener(7410, "127.0.0.1"), listener(7411, "0.0.0.0")];
        for port in [7410, 7411] {
            assert_eq!(expected(r#""tcp/7410", "tcp/7411""#, port, &loopback), Answers);
            assert_eq!(expected(r#""tcp/7410-7411""#, port, &loopback), Answers);
        }
        assert_eq!(expected(r#""tcp/7410-7412""#, 7412, &loopback), Refuses);
        assert_eq!(expected(r#""tcp/*""#, 7410, &loopback), Refuses);
        assert_eq!(expected(r#""tcp/7410-7412""#, 7410, &[]), Answers);
        assert_eq!(expected(r#""tcp/7410-7412""#, 7412, &[]), Refuses);
    }

    const DOME: Subject = Subject::Port(Transport::Tcp, 7410);

    fn words(source: &str, outcome: Outcome, around: &Circumstances<'_>) -> String {
        let vantage = Vantage::of(source.parse().unwrap());
        let place = (OWN.parse().unwrap(), InterfaceIndex(2));
        let cell = cell((DOME, &vantage), place, seen(outcome), around);
        assert_eq!(cell.why.is_some(), cell.next.is_some());
        cell.why.map(|w| w.to_string()).unwrap_or_default()
    }

    #[test]
    fn what_listens_elsewhere_or_nowhere_is_told_apart() {
        let brief = Brief::of(&read(ORDERS).unwrap());
        let refused = |listeners: &[Listener]| {
            words("198.51.100.23", Outcome::Refuses, &Circumstances::plain(&brief, Some(listeners)))
        };
        assert_eq!(refused(&[]), "nothing listens on it");
        let mut slip = listener(7401, "0.0.0.0");
        let path = Some("/usr/sbin/domed".to_owned());
        slip.owner.programs =
            vec![crate::host::listener::Program { pid: 7, name: "domed".into(), path }];
        assert_eq!(refused(&[slip]), "nothing listens on it; domed on tcp/7401 does");
        assert_eq!(refused(&[listener(7410, "127.0.0.1")]), "listens on loopback only");
        assert_eq!(refused(&[listener(7410, "198.51.100.21")]), "listens on 198.51.100.21 only");
        let mut device = listener(7410, "0.0.0.0");
        device.device = Some("lan9".into());
        assert_eq!(refused(&[device]), "listens on the interface lan9 only");
    }

    #[test]
    fn what_a_rule_accepts_is_no_difference() {
        let accepting = |code: &str| {
            let accepted = format!("accepted = [\"{code}: spare ports\"]\nsource =");
            Brief::of(&read(&ORDERS.replace("source =", &accepted)).unwrap())
        };
        let seen_by = |brief: &Brief, source: &str, listeners: &[Listener], outcome| {
            let around = Circumstances::plain(brief, Some(listeners));
            let vantage = Vantage::of(source.parse().unwrap());
            let place = (OWN.parse().unwrap(), InterfaceIndex(2));
            cell((DOME, &vantage), place, seen(outcome), &around)
        };
        let (friend, stranger) = ("198.51.100.23", "192.0.2.66");
        let inside = [listener(7410, "127.0.0.1")];
        let all = accepting("not-reached");
        let refused = seen_by(&all, friend, &inside, Outcome::Refuses);
        assert!(!refused.differs() && refused.next.is_none(), "{refused:?}");
        assert_eq!(refused.accepted.as_deref(), Some("spare ports"));
        // Only that it does not answer is accepted, not that strangers are.
        assert!(seen_by(&all, stranger, &inside, Outcome::Answers).differs());
        let nobody = accepting("nothing-listens");
        assert!(!seen_by(&nobody, friend, &[], Outcome::Refuses).differs());
        assert!(seen_by(&nobody, friend, &inside, Outcome::Refuses).differs());
    }

    #[test]
    fn what_is_let_in_and_bound_elsewhere_is_told_though_nothing_differs() {
        let open = ORDERS.replace("inbound = \"deny\"", "inbound = \"allow\"");
        let brief = Brief::of(&read(&open.replace("tcp/7410", "tcp/7411-7419")).unwrap());
        let vantage = Vantage::of("192.0.2.66".parse().unwrap());
        let why = |outcome, listeners: &[Listener]| {
            let around = Circumstances::plain(&brief, Some(listeners));
            let place = (OWN.parse().unwrap(), InterfaceIndex(2));
            let cell = cell((DOME, &vantage), place, seen(outcome), &around);
            assert!(!cell.differs());
            cell.why
        };
        let inside = listener(7410, "127.0.0.1");
        assert_eq!(
            why(Outcome::Refuses, std::slice::from_ref(&inside)),
            Some(super::super::Why::LoopbackOnly)
        );
        assert_eq!(why(Outcome::Refuses, &[]), None);
        assert_eq!(why(Outcome::Answers, &[inside, listener(7410, OWN)]), None);
    }

    #[test]
    fn every_difference_has_its_reason() {
        const FRIEND: &str = "198.51.100.23";
        const STRANGER: &str = "192.0.2.66";
        use Outcome::{Answers, Refuses, Silent, Unknown};
        let brief = Brief::of(&read(ORDERS).unwrap());
        let said = |verdict, speaker, by: &str| Said {
            decision: Decision { verdict, speaker },
            by: by.to_owned(),
        };
        let standing = Speaker::Standing(Direction::Inbound);
        let denied = said(Action::Deny, standing, "the standing answer inbound");
        let beyond = Speaker::Beyond(RuleIndex(0));
        let used_up = said(Action::Deny, beyond, "the rate of rule 1 (dome)");
        let allowed = said(Action::Allow, Speaker::Rule(RuleIndex(0)), "rule 1 (dome)");
        let everywhere = [listener(7410, "0.0.0.0")];
        let plain = Circumstances::plain(&brief, Some(&everywhere));
        let cases: [(&str, Outcome, Circumstances<'_>, &str); 11] = [
            (FRIEND, Answers, plain, ""),
            (STRANGER, Silent, plain, ""),
            (STRANGER, Unknown, plain, ""),
            (
                FRIEND,
                Silent,
                Circumstances { gate: Some(&denied), ..plain },
                "the gate denied it by the standing answer inbound",
            ),
            (
                FRIEND,
                Silent,
                Circumstances { gate: Some(&denied), other_orders: true, ..plain },
                "other orders are in force, in which the standing answer inbound decides",
            ),
            (
                FRIEND,
                Silent,
                Circumstances { gate: Some(&used_up), ..plain },
                "this source has exceeded the rate of rule 1 (dome)",
            ),
            (
                FRIEND,
                Silent,
                Circumstances {
                    gate: Some(&allowed),
                    came_in: Some(false),
                    others: &["sieve".to_owned()],
                    ..plain
                },
                "the program sieve at the interface stopped it, not the gate",
            ),
            (
                STRANGER,
                Answers,
                Circumstances { gate: Some(&denied), ..plain },
                "another program at the interface let it in before the gate",
            ),
            (STRANGER, Answers, plain, "denied by the orders, but the gate is not loaded"),
            (STRANGER, Refuses, plain, "denied by the orders, but the gate is not loaded"),
            (
                FRIEND,
                Refuses,
                Circumstances { stopped: &[DOME], ..plain },
                "it listened when the check began, and no longer does",
            ),
        ];
        for (source, outcome, around, expected) in cases {
            assert_eq!(words(source, outcome, &around), expected);
        }
        let mut full = listener(7410, "0.0.0.0");
        full.queue = Some((129, 128));
        let full = [full];
        let full = Circumstances::plain(&brief, Some(&full));
        assert_eq!(words(FRIEND, Silent, &full), "the program's accept queue is full");
        let astray = Circumstances { not_the_way_back: true, ..full };
        assert!(words(FRIEND, Silent, &astray).contains("uses another interface"));
        let far = Circumstances { listeners: None, ..plain };
        assert!(words(FRIEND, Refuses, &far).contains("from another machine"));
    }

    #[test]
    fn of_another_machine_only_what_the_orders_say_is_expected() {
        let by_interface = ORDERS.replace(
            "[[rules]]",
            "[[rules]]\nname = \"inside\"\naction = \"deny\"\ntraffic = \"tcp/7410\"\ninterface \
             = \"lan1\"\n[[rules]]",
        );
        let machine =
            Vantage::Machine { name: "desk-3".into(), source: "198.51.100.23".parse().unwrap() };
        let place = (OWN.parse().unwrap(), InterfaceIndex(0));
        let expected =
            |text: &str| expected(&Brief::of(&read(text).unwrap()), None, DOME, &machine, place).0;
        assert_eq!(expected(ORDERS), Outcome::Answers);
        assert_eq!(expected(&by_interface), Outcome::Unknown);
        let open = ORDERS.replace("inbound = \"deny\"", "inbound = \"allow\"");
        assert_eq!(expected(&open.replace("tcp/7410", "tcp/7411")), Outcome::Unknown);
    }
}
