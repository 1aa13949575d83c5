//! `ask`: what would happen to a packet, and why.

mod packets;
mod several;
mod why;

use packets::keys_of_text;
pub use several::{ByKinds, Several};
pub use why::{Report, answer};

use std::net::IpAddr;

use tipstaff_core::analysis::reach::{Arrival, Subject, program_at, stranger};
use tipstaff_core::decision::{Decision, RuleQuery, Speaker, decide};
use tipstaff_core::host::interface::Interface;
use tipstaff_core::names::address::Family;
use tipstaff_core::names::traffic::{TCP, TrafficKey, Transport, UDP};
use tipstaff_core::packet::{
    Direction, InterfaceIndex, PacketContext, ProgramIndex, parse_ethernet,
};
use tipstaff_gate::kernel::{Asked, KernelGate};
use tipstaff_host::{interfaces, listeners};
use tipstaff_knock::frames::{self, FIRST_PORT, Knock};
use tipstaff_knock::witness::{self, WitnessFault};
use tipstaff_reach::plan;

use crate::acts::named;
use crate::acts::sources::{STRANGER, members};
use crate::arguments::{AskOptions, Common};
use crate::chosen::{self, LoadedPolicy, Visible};
use crate::ending::Ending;
use crate::failure::{Failure, system};
use crate::terminal::Terminal;

pub fn run(common: &Common, options: &AskOptions, terminal: &Terminal) -> Result<Ending, Failure> {
    let all = interfaces::list().map_err(system("reading the interfaces"))?;
    let mut judge = judge(common, options, &all)?;
    let keys = keys_of_text(&judge, &options.traffic)?;
    if !terminal.json {
        let told = [named::read_as(&options.traffic), named::also_udp(&options.traffic)];
        told.iter().flatten().for_each(|told| terminal.note(told));
    }
    let by_kinds = options.source.is_empty()
        && Direction::from(options.way) == Direction::Inbound
        && options.destination.is_none();
    if by_kinds {
        several::by_kinds(&judge, &keys, terminal);
        return Ok(Ending::Fine);
    }
    let mut asked = Vec::new();
    for (source, stands_for) in sources(&judge, options, &all)? {
        for packet in &keys {
            let key = packet.key(source.or(options.destination));
            let asked_for = AskedFor { key, source, options };
            asked.push((question(&mut judge, &asked_for, &all)?, stands_for.clone()));
        }
    }
    let queries: Vec<RuleQuery> = asked.iter().map(|(query, _)| *query).collect();
    let decisions = match options.in_force {
        true => by_the_gate(common, options, &queries, &all)?,
        false => queries.iter().map(|query| decide(&judge.brief, &facts(query))).collect(),
    };
    let known_by = if options.in_force { "gate" } else { "orders" };
    if let ([query], [decision]) = (queries.as_slice(), decisions.as_slice()) {
        return answer(&judge, query, *decision, known_by, terminal);
    }
    let answers = asked.into_iter().zip(decisions);
    let answers = answers.map(|((query, stands_for), decision)| several::Answered {
        query,
        stands_for,
        decision,
    });
    several::show(&judge, answers.collect(), known_by, terminal);
    Ok(Ending::Fine)
}

/// Who decides: the file, or what is in force.
fn judge(
    common: &Common,
    options: &AskOptions,
    all: &[Interface],
) -> Result<LoadedPolicy, Failure> {
    if !options.in_force {
        let mut judge = chosen::from_file(common)?;
        judge.brief.interfaces =
            all.iter().map(|i| (InterfaceIndex(i.index), i.name.clone())).collect();
        return Ok(judge);
    }
    match chosen::in_force(common)? {
        (Some(in_force), _) => chosen::from_force(&in_force),
        (None, Visible::OnlyToRoot) => Err(tipstaff_gate::GateError::NotRoot.into()),
        (None, Visible::Yes) => Err(tipstaff_gate::GateError::NothingInForce.into()),
    }
}

/// An address, and the name that it stands for; none where this host's own is meant.
type AskedSource = (Option<IpAddr>, Option<String>);

/// The sources that are meant, each with the name that it stands for. None where the address
/// of this host is meant.
fn sources(
    judge: &LoadedPolicy,
    options: &AskOptions,
    all: &[Interface],
) -> Result<Vec<AskedSource>, Failure> {
    let mut found = Vec::new();
    for name in &options.source {
        if let Ok(address) = name.parse::<IpAddr>() {
            found.push((Some(address), None));
            continue;
        }
        let own = plan::own_addresses(all);
        let meant = match name.as_str() {
            STRANGER => Family::BOTH
                .into_iter()
                .filter_map(|family| stranger(&judge.brief, family, &plan::links(all)))
                .collect(),
            group => members(&judge.orders, group, &own, &[])?,
        };
        found.extend(meant.into_iter().map(|address| (Some(address), Some(name.clone()))));
    }
    if found.is_empty() {
        found.push((None, None));
    }
    Ok(found)
}

/// What the gate says.
fn by_the_gate(
    common: &Common,
    options: &AskOptions,
    queries: &[RuleQuery],
    all: &[Interface],
) -> Result<Vec<Decision>, Failure> {
    let gate = KernelGate::new(&common.run_dir)?;
    let decide = |asked: &RuleQuery| by_the_gate_one(&gate, options, asked, all);
    queries.iter().map(decide).collect()
}

fn by_the_gate_one(
    gate: &KernelGate,
    options: &AskOptions,
    asked: &RuleQuery,
    all: &[Interface],
) -> Result<Decision, Failure> {
    let interface = all.iter().find(|i| i.index == asked.interface.0);
    let hardware = interface.and_then(|i| i.hardware).unwrap_or_default();
    let frame = frame(asked, hardware);
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
    Ok(decision)
}

/// What is asked: where the source would come in and what it would knock on,
/// unless the options say so.
fn question(
    judge: &mut LoadedPolicy,
    asked: &AskedFor<'_>,
    all: &[Interface],
) -> Result<RuleQuery, Failure> {
    let AskedFor { key, source, options } = *asked;
    let direction = Direction::from(options.way);
    // The other end: clap sees to it that there is one.
    let (own, other) = match direction {
        Direction::Outbound => (source, options.destination),
        Direction::Inbound | Direction::Transit => (options.destination, source),
    };
    let other = other.ok_or_else(|| Failure::Argument {
        message: "the remote address is missing".into(),
        help: "Give --source, or --destination for outbound traffic.".into(),
    })?;
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

/// What is asked: one packet from one source.
struct AskedFor<'o> {
    key: TrafficKey,
    source: Option<IpAddr>,
    options: &'o AskOptions,
}

/// Any address of the source's family: rules do not look at the destination yet.
fn documentation_address(source: IpAddr) -> IpAddr {
    match Family::of_address(source) {
        Family::V4 => IpAddr::from([198, 51, 100, 20]),
        Family::V6 => IpAddr::from([0x2001, 0xdb8, 0x51, 0, 0, 0, 0, 0x20]),
    }
}
