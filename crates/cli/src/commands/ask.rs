//! `ask`: what would happen to a packet, and why.

use std::net::IpAddr;

use schemars::JsonSchema;
use serde::Serialize;
use tipstaff_core::analysis::reach::{Arrival, Subject, program_at, speaker_words};
use tipstaff_core::brief::RuleIndex;
use tipstaff_core::decision::{Decision, Mismatch, RuleQuery, Speaker, decide, first_mismatch};
use tipstaff_core::host::interface::Interface;
use tipstaff_core::host::programs::ProgramNote;
use tipstaff_core::names::address::Family;
use tipstaff_core::names::traffic::{ICMP, ICMPV6, TCP, Term, TrafficKey, Transport, UDP};
use tipstaff_core::orders::{Action, Rule};
use tipstaff_core::packet::{
    Direction, InterfaceIndex, PacketContext, ProgramIndex, parse_ethernet,
};
use tipstaff_gate::kernel::{Asked, KernelGate};
use tipstaff_host::{interfaces, listeners};
use tipstaff_knock::frames::{self, FIRST_PORT, Knock};
use tipstaff_knock::witness::{self, WitnessFault};

use crate::arguments::{AskOptions, Common};
use crate::chosen::{self, LoadedPolicy, Visible};
use crate::ending::Ending;
use crate::failure::{Failure, system};
use crate::shape::shape;
use crate::terminal::orders_words;
use crate::terminal::{Columns, Terminal, action, counted, faint, plain};
use tipstaff_core::orders::Origin;

#[derive(JsonSchema, Serialize)]
pub struct Report<'r> {
    direction: Direction,
    traffic: String,
    source: IpAddr,
    destination: IpAddr,
    interface: String,
    program: Option<&'r str>,
    verdict: Action,
    by: String,
    speaker: Speaker,
    known_by: &'static str,
    orders: &'r Origin,
    passed_over: Vec<PassedOver<'r>>,
    /// Programs that these rules name by a link, and the files that they lead to.
    links: Vec<ProgramNote>,
}

#[derive(JsonSchema, Serialize)]
struct PassedOver<'r> {
    position: usize,
    name: &'r str,
    action: Action,
    failed: Mismatch,
    because: String,
}

shape!(Report<'_> => "ask");

pub fn run(common: &Common, options: &AskOptions, terminal: &Terminal) -> Result<Ending, Failure> {
    let all = interfaces::list().map_err(system("reading the interfaces"))?;
    if !options.in_force {
        let mut judge = chosen::from_file(common)?;
        judge.brief.interfaces =
            all.iter().map(|i| (InterfaceIndex(i.index), i.name.clone())).collect();
        let asked = question(&mut judge, options, &all)?;
        let decision = decide(&judge.brief, &facts(&asked));
        return answer(&judge, &asked, decision, "orders", terminal);
    }
    let (in_force, visible) = chosen::in_force(common)?;
    let in_force = match (in_force, visible) {
        (Some(in_force), _) => in_force,
        (None, Visible::OnlyToRoot) => return Err(tipstaff_gate::GateError::NotRoot.into()),
        (None, Visible::Yes) => return Err(tipstaff_gate::GateError::NothingInForce.into()),
    };
    let mut judge = chosen::from_force(&in_force)?;
    let asked = question(&mut judge, options, &all)?;
    let interface = all.iter().find(|i| i.index == asked.interface.0);
    let hardware = interface.and_then(|i| i.hardware).unwrap_or_default();
    let frame = frame(&asked, hardware);
    let gate = KernelGate::new(&common.run_dir)?;
    // Who listens the gate knows by itself; who sends it is told.
    let program = (options.program.is_some() || asked.direction == Direction::Outbound)
        .then_some(asked.program);
    let way = match asked.direction {
        Direction::Outbound => Direction::Outbound,
        Direction::Inbound | Direction::Transit => Direction::Inbound,
    };
    let question = [Asked { interface: asked.interface, program, frame }];
    let decisions = gate.ask_all(way, &question)?;
    let decision = decisions.first().copied().ok_or(tipstaff_gate::GateError::NothingInForce)?;
    // Which of the two it is says the routing table.
    let through = decision.speaker != Speaker::Standing(Direction::Inbound);
    if asked.direction == Direction::Transit && !through {
        return Err(Failure::Argument {
            message: format!("this host would not forward a packet to {}", asked.destination),
            help: "Check its routes, and whether forwarding is enabled.".into(),
        });
    }
    answer(&judge, &asked, decision, "gate", terminal)
}

/// What is asked: where the source would come in and what it would knock on,
/// unless the options say so.
fn question(
    judge: &mut LoadedPolicy,
    options: &AskOptions,
    all: &[Interface],
) -> Result<RuleQuery, Failure> {
    let direction = Direction::from(options.way);
    // The other end: clap sees to it that there is one.
    let (own, other) = match direction {
        Direction::Outbound => (options.source, options.destination),
        Direction::Inbound | Direction::Transit => (options.destination, options.source),
    };
    let other = other.ok_or_else(|| Failure::Argument {
        message: "the remote address is missing".into(),
        help: "Give --source, or --destination for outbound traffic.".into(),
    })?;
    let key = key_of(judge, &options.traffic, other)?;
    let approach = match witness::approach(other, None, all) {
        Ok(approach) => Some(approach),
        Err(fault @ WitnessFault::Own(_)) if options.in_force => return Err(fault.into()),
        // Nobody with that address could get an answer; what would be said of it is asked all the same.
        Err(_) => None,
    };
    let own = match own {
        Some(address) if address.is_ipv4() != other.is_ipv4() => {
            return Err(Failure::Argument {
                message: format!("{other} and {address} belong to different address families"),
                help: "Give --source and --destination of the same family.".into(),
            });
        }
        Some(address) => address,
        None => approach.as_ref().map_or_else(|| documentation_address(other), |a| a.target),
    };
    let interface = match &options.interface {
        Some(name) => interface_called(judge, options, all, name)?,
        None => {
            let outside = all.iter().find(|i| !i.is_loopback()).map(|i| i.index);
            if options.in_force && outside.is_none() {
                return Err(Failure::Argument {
                    message:
                        "this machine has only a loopback interface, where no packet is filtered"
                            .into(),
                    help: "Omit --in-force to ask the orders instead of the gate.".into(),
                });
            }
            let outside = outside.unwrap_or(2);
            InterfaceIndex(approach.as_ref().map_or(outside, |a| a.interface.index))
        }
    };
    let now = chosen::now();
    let (source, destination) = match direction {
        Direction::Outbound => (own, other),
        Direction::Inbound | Direction::Transit => (other, own),
    };
    let program = match &options.program {
        Some(path) => judge.brief.program_index(path),
        None if direction == Direction::Inbound && !judge.brief.programs.is_empty() => {
            listening(judge, key, Arrival { target: destination, interface }, all)?
        }
        None => ProgramIndex::OTHER,
    };
    Ok(RuleQuery { direction, key, source, destination, interface, program, now })
}

/// The program that listens to what is asked about, as the list counts it.
fn listening(
    judge: &LoadedPolicy,
    key: TrafficKey,
    at: Arrival,
    interfaces: &[Interface],
) -> Result<ProgramIndex, Failure> {
    let transport = match key.protocol() {
        TCP => Transport::Tcp,
        UDP => Transport::Udp,
        _ => return Ok(ProgramIndex::OTHER),
    };
    let found = listeners::list(interfaces).map_err(system("reading the sockets"))?;
    let subject = Subject::Port(transport, key.low());
    Ok(program_at(&judge.brief, &found.listeners, subject, at))
}

/// The index of an interface. The file may be about another machine: there a
/// name that this one does not have is as good as any.
fn interface_called(
    judge: &mut LoadedPolicy,
    options: &AskOptions,
    all: &[Interface],
    name: &str,
) -> Result<InterfaceIndex, Failure> {
    /// Above any index that a kernel gives.
    const MADE_UP: InterfaceIndex = InterfaceIndex(u32::MAX);
    match all.iter().find(|i| i.name == name) {
        Some(interface) => Ok(InterfaceIndex(interface.index)),
        None if options.in_force => Err(Failure::Argument {
            message: format!("no interface `{name}` on this machine"),
            help: "Name an existing interface, or ask the file instead of the gate.".into(),
        }),
        None => {
            judge.brief.interfaces.push((MADE_UP, name.to_owned()));
            Ok(MADE_UP)
        }
    }
}

fn frame(asked: &RuleQuery, hardware: [u8; 6]) -> Vec<u8> {
    let knock = Knock { source: asked.source, target: asked.destination, from: FIRST_PORT, tag: 1 };
    frames::about(asked.key, knock, hardware)
}

fn facts(asked: &RuleQuery) -> PacketContext {
    PacketContext {
        interface: asked.interface,
        direction: asked.direction,
        program: asked.program,
        is_reply: false,
        now: asked.now,
        packet: parse_ethernet(&frame(asked, [0; 6])),
    }
}

/// The one key that a traffic text means for a source of this family.
fn key_of(judge: &LoadedPolicy, text: &str, source: IpAddr) -> Result<TrafficKey, Failure> {
    fn wrong(message: String, help: &str) -> Failure {
        Failure::Argument { message, help: help.to_owned() }
    }
    let one =
        "Ask about one packet: tcp/22, udp/7420, icmp/echo, protocol/47, or a service such as ssh.";
    let terms = match judge.orders.terms(text) {
        Some(Ok(terms)) => terms,
        Some(Err(fault)) => return Err(wrong(format!("invalid traffic `{text}`: {fault}"), one)),
        None => return Err(wrong(format!("unknown service `{text}`"), one)),
    };
    match terms.as_slice() {
        [Term::Ports(transport, first, last)] if first == last => Ok(transport.key(*first)),
        [Term::Echo] if source.is_ipv4() => Ok(TrafficKey::new(ICMP, 0x0800)),
        [Term::Echo] => Ok(TrafficKey::new(ICMPV6, 0x8000)),
        [Term::Protocol(number)] => Ok(TrafficKey::new(*number, 0)),
        several => {
            let names: Vec<String> = several.iter().map(ToString::to_string).collect();
            Err(wrong(
                format!("`{text}` covers more than one kind of packet: {}", names.join(", ")),
                one,
            ))
        }
    }
}

/// Any address of the source's family: rules do not look at the destination yet.
fn documentation_address(source: IpAddr) -> IpAddr {
    match Family::of_address(source) {
        Family::V4 => IpAddr::from([198, 51, 100, 20]),
        Family::V6 => IpAddr::from([0x2001, 0xdb8, 0x51, 0, 0, 0, 0, 0x20]),
    }
}

/// Prints the verdict and why each rule before the speaker was passed over.
pub fn answer(
    judge: &LoadedPolicy,
    asked: &RuleQuery,
    decision: Decision,
    known_by: &'static str,
    terminal: &Terminal,
) -> Result<Ending, Failure> {
    let RuleQuery { direction, key, source, destination, interface, program, .. } = *asked;
    let (end, looked_at) = match decision.speaker {
        Speaker::Rule(RuleIndex(index)) => (index as usize, index as usize + 1),
        Speaker::Standing(_) => (judge.brief.rules.len(), judge.brief.rules.len()),
        _ => (0, 0),
    };
    // Of this direction, up to the rule that decides: what a link leads to matters there.
    let mut links = judge.links();
    links.retain(|link| {
        let before = judge.brief.rules.iter().take(looked_at);
        before.into_iter().any(|r| r.direction == direction && r.program.names(&link.path))
    });
    let report = Report {
        direction,
        program: judge.brief.program(program),
        traffic: key.to_string(),
        source,
        destination,
        interface: judge.brief.interface_name(interface).unwrap_or("unknown").to_owned(),
        verdict: decision.verdict,
        by: speaker_words(&judge.brief, decision.speaker),
        speaker: decision.speaker,
        known_by,
        orders: &judge.origin,
        passed_over: passed_over(judge, asked, end),
        links,
    };
    match terminal.json {
        true => terminal.json(&report),
        false => print(&report, judge, terminal),
    }
    Ok(Ending::Fine)
}

/// The first `end` rules, each with what of the packet it does not match.
fn passed_over<'j>(judge: &'j LoadedPolicy, asked: &RuleQuery, end: usize) -> Vec<PassedOver<'j>> {
    let program = judge.brief.program(asked.program);
    let arrives = judge.brief.interface_name(asked.interface).unwrap_or("unknown");
    let rules = judge.brief.indexed().take(end);
    let passed_over = rules.filter_map(|(index, rule)| {
        let failed = first_mismatch(&judge.brief, rule, asked)?;
        Some(PassedOver {
            position: index.position(),
            name: rule.name.as_str(),
            action: rule.action,
            failed,
            because: because(rule, failed, asked, arrives, program),
        })
    });
    passed_over.collect()
}

fn print(report: &Report<'_>, judge: &LoadedPolicy, terminal: &Terminal) {
    let Report { direction, source, destination, .. } = report;
    let verdict = match (report.verdict, direction) {
        (Action::Allow, Direction::Inbound) => "let in",
        (Action::Allow, Direction::Outbound) => "let out",
        (Action::Allow, Direction::Transit) => "let through",
        (Action::Deny, _) => "dropped silently",
        (Action::Refuse, _) => "refused",
    };
    let who = match direction {
        Direction::Inbound => format!("from {source}"),
        Direction::Outbound => format!("to {destination}"),
        Direction::Transit => format!("from {source} to {destination}"),
    };
    terminal.heading(&format!("{} {who}: {verdict} by {}", report.traffic, report.by));
    terminal.note(&match report.known_by {
        "gate" => format!("answered by the gate in force; {}", orders_words(&judge.origin)),
        _ => format!("computed from the {}", orders_words(&judge.origin)),
    });
    if let Speaker::Rule(index) = report.speaker
        && let Some(rule) = judge.brief.rule(index)
    {
        if let Some(note) = &rule.note {
            terminal.line(format!("  note: {note}"));
        }
        if let Some(at_most) = &rule.at_most {
            let above = Action::from(rule.over);
            terminal.line(format!("  up to {at_most}; above that: {above}"));
        }
    }
    print_passed_over(report, judge, terminal);
    for link in &report.links {
        terminal.note(&link.to_string());
    }
}

/// Rules of another direction or host were never in question: they are counted.
fn print_passed_over(report: &Report<'_>, judge: &LoadedPolicy, terminal: &Terminal) {
    let (in_question, others): (Vec<_>, Vec<_>) = report.passed_over.iter().partition(|rule| {
        let direction = judge.brief.rules.get(rule.position - 1).map(|rule| rule.direction);
        rule.failed != Mismatch::Host && direction == Some(report.direction)
    });
    if !in_question.is_empty() {
        let mut table = Columns::new(["", "passed over", "action", "because"]);
        for rule in in_question {
            let says = action(rule.action, rule.action);
            table.row([faint(rule.position), plain(rule.name), says, plain(&rule.because)]);
        }
        terminal.table(&table);
    }
    if !others.is_empty() {
        let rules = counted(others.len(), "rule", "rules");
        terminal.note(&format!("{rules} above it for other hosts or directions"));
    }
}

fn because(
    rule: &Rule,
    failed: Mismatch,
    asked: &RuleQuery,
    arrives: &str,
    program: Option<&str>,
) -> String {
    fn outside(what: &dyn std::fmt::Display, written: &[String], except: &[String]) -> String {
        match (written, except) {
            ([], [only]) if *only == what.to_string() => format!("it excepts {what}"),
            ([], except) => format!("{what} is in {}, which it excludes", except.join(", ")),
            (written, []) => format!("{what} is not in {}", written.join(", ")),
            (written, except) => {
                format!("{what} is not in {} without {}", written.join(", "), except.join(", "))
            }
        }
    }
    match failed {
        Mismatch::Paused => "it is paused".into(),
        Mismatch::Group => "its group is paused".into(),
        Mismatch::Posture => "it applies in other postures".into(),
        Mismatch::Host => "it is for other hosts".into(),
        Mismatch::Expired => match rule.until {
            Some(until) => format!("it expired at {until}"),
            None => "it has expired".into(),
        },
        Mismatch::Direction => format!("it is {}", rule.direction),
        Mismatch::Family => format!("{} belongs to the other address family", asked.source),
        Mismatch::Traffic => outside(&asked.key, &rule.traffic.written, &rule.traffic.except),
        Mismatch::Source => outside(&asked.source, &rule.source.written, &rule.source.except),
        Mismatch::Destination => {
            outside(&asked.destination, &rule.destination.written, &rule.destination.except)
        }
        Mismatch::Interface => outside(&arrives, &rule.interface.written, &rule.interface.except),
        Mismatch::Program => outside(
            &program.unwrap_or("the program"),
            &rule.program.files,
            &rule.program.files_except,
        ),
    }
}
