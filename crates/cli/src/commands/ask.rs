//! `ask`: what would happen to a packet, and why.

use std::net::IpAddr;

use serde::Serialize;
use tipstaff_core::brief::RuleIndex;
use tipstaff_core::decide::{Decision, Mismatch, Speaker, decide, mismatch};
use tipstaff_core::names::address::Family;
use tipstaff_core::names::traffic::{ICMP, ICMPV6, Term, TrafficKey};
use tipstaff_core::orders::{Action, Rule};
use tipstaff_core::packet::{Direction, Facts, InterfaceIndex, parse_ethernet};
use tipstaff_core::reach::speaker_words;
use tipstaff_gate::Gate;
use tipstaff_gate::kernel::KernelGate;
use tipstaff_host::interfaces;
use tipstaff_knock::frames::{self, FIRST_PORT, Knock};
use tipstaff_knock::witness::{self, WitnessFault};

use crate::Ending;
use crate::arguments::{AskOptions, Common};
use crate::chosen::{self, Chosen, Origin, Visible};
use crate::failure::{Failure, system};
use crate::terminal::{Columns, Terminal, action, faint, plain};

#[derive(Serialize)]
struct Report<'r> {
    traffic: String,
    source: IpAddr,
    verdict: Action,
    by: String,
    speaker: Speaker,
    known_by: &'static str,
    orders: &'r Origin,
    passed_over: Vec<PassedOver<'r>>,
}

#[derive(Serialize)]
struct PassedOver<'r> {
    position: usize,
    name: &'r str,
    action: Action,
    failed: Mismatch,
    because: String,
}

pub fn run(common: &Common, options: &AskOptions, terminal: &Terminal) -> Result<Ending, Failure> {
    if !options.in_force {
        let judge = chosen::from_file(common.orders_path())?;
        let key = key_of(&judge, &options.traffic, options.source)?;
        let decision = by_reference(&judge, key, options.source);
        return answer(&judge, key, options.source, decision, "orders", terminal);
    }
    let (in_force, visible) = chosen::in_force(common)?;
    let in_force = match (in_force, visible) {
        (Some(in_force), _) => in_force,
        (None, Visible::OnlyToRoot) => return Err(tipstaff_gate::GateError::NotRoot.into()),
        (None, Visible::Yes) => return Err(tipstaff_gate::GateError::NothingInForce.into()),
    };
    let judge = chosen::from_force(&in_force)?;
    let key = key_of(&judge, &options.traffic, options.source)?;
    let all = interfaces::list().map_err(system("reading the interfaces"))?;
    let (interface, target) = match witness::approach(options.source, &all) {
        Ok(approach) => (approach.interface, approach.target),
        // Nobody with that address could get an answer; what the gate says of it is asked all the same.
        Err(WitnessFault::NoWayBack(_) | WitnessFault::NoTarget { .. }) => {
            let guarded = all.into_iter().find(|i| !i.is_loopback());
            let guarded = guarded.ok_or(WitnessFault::NoWayBack(options.source))?;
            (guarded, documentation_address(options.source))
        }
        Err(fault) => return Err(fault.into()),
    };
    let knock = Knock { source: options.source, target, from: FIRST_PORT };
    let frame = frames::about(key, knock, interface.hardware.unwrap_or_default());
    let gate = KernelGate::new(&common.run_dir)?;
    let decision = gate.ask(InterfaceIndex(interface.index), &frame)?;
    answer(&judge, key, options.source, decision, "gate", terminal)
}

/// The one key that a traffic text means for a source of this family.
fn key_of(judge: &Chosen, text: &str, source: IpAddr) -> Result<TrafficKey, Failure> {
    let wrong = |message: String, mend: &str| Failure::Argument { message, mend: mend.to_owned() };
    let one =
        "Ask about one packet: tcp/22, udp/7420, icmp/echo, protocol/47, or a service such as ssh.";
    let terms = match judge.orders.terms(text) {
        Some(Ok(terms)) => terms,
        Some(Err(fault)) => return Err(wrong(format!("`{text}` is no traffic: {fault}"), one)),
        None => return Err(wrong(format!("no service is called `{text}`"), one)),
    };
    match terms.as_slice() {
        [Term::Ports(transport, first, last)] if first == last => Ok(transport.key(*first)),
        [Term::Echo] if source.is_ipv4() => Ok(TrafficKey::new(ICMP, 0x0800)),
        [Term::Echo] => Ok(TrafficKey::new(ICMPV6, 0x8000)),
        [Term::Protocol(number)] => Ok(TrafficKey::new(*number, 0)),
        several => {
            let names: Vec<String> = several.iter().map(ToString::to_string).collect();
            Err(wrong(
                format!("`{text}` is more than one kind of packet: {}", names.join(", ")),
                one,
            ))
        }
    }
}

/// Any address of the source's family: rules do not look at the destination yet.
fn documentation_address(source: IpAddr) -> IpAddr {
    match Family::of(source) {
        Family::V4 => IpAddr::from([198, 51, 100, 20]),
        Family::V6 => IpAddr::from([0x2001, 0xdb8, 0x51, 0, 0, 0, 0, 0x20]),
    }
}

/// Asks the reference with a packet as an outside source would send it first.
fn by_reference(judge: &Chosen, key: TrafficKey, source: IpAddr) -> Decision {
    let target = documentation_address(source);
    let frame = frames::about(key, Knock { source, target, from: FIRST_PORT }, [0; 6]);
    let facts = Facts {
        interface: InterfaceIndex(2),
        direction: Direction::Inbound,
        belongs: false,
        packet: parse_ethernet(&frame),
    };
    decide(&judge.brief, &facts)
}

/// Prints the verdict and why each rule before the speaker was passed over.
pub fn answer(
    judge: &Chosen,
    key: TrafficKey,
    source: IpAddr,
    decision: Decision,
    known_by: &'static str,
    terminal: &Terminal,
) -> Result<Ending, Failure> {
    let end = match decision.speaker {
        Speaker::Rule(RuleIndex(index)) => index as usize,
        Speaker::Standing(_) => judge.brief.rules.len(),
        _ => 0,
    };
    let passed_over: Vec<PassedOver<'_>> = judge
        .brief
        .indexed()
        .take(end)
        .filter_map(|(index, rule)| {
            let failed = mismatch(rule, key, source)?;
            Some(PassedOver {
                position: index.position(),
                name: rule.name.as_str(),
                action: rule.action,
                failed,
                because: because(rule, failed, key, source),
            })
        })
        .collect();
    let by = speaker_words(&judge.brief, decision.speaker);
    if terminal.json {
        terminal.json(&Report {
            traffic: key.to_string(),
            source,
            verdict: decision.verdict,
            by,
            speaker: decision.speaker,
            known_by,
            orders: &judge.origin,
            passed_over,
        });
        return Ok(Ending::Fine);
    }
    let word = match decision.verdict {
        Action::Allow => "let in",
        Action::Deny => "denied in silence",
    };
    terminal.heading(&format!("{key} from {source}: {word} by {by}"));
    terminal.note(&match known_by {
        "gate" => format!("the gate in force was asked; {}", judge.origin.words()),
        _ => format!("worked out from the {}", judge.origin.words()),
    });
    if let Speaker::Rule(index) = decision.speaker
        && let Some(note) = judge.brief.rule(index).and_then(|rule| rule.note.as_ref())
    {
        terminal.line(format!("  note: {note}"));
    }
    if !passed_over.is_empty() {
        let mut table = Columns::new(["", "passed over", "says", "because"]);
        for rule in &passed_over {
            let says = action(rule.action, rule.action);
            table.row([faint(rule.position), plain(rule.name), says, plain(&rule.because)]);
        }
        terminal.table(&table);
    }
    Ok(Ending::Fine)
}

fn because(rule: &Rule, failed: Mismatch, key: TrafficKey, source: IpAddr) -> String {
    match failed {
        Mismatch::Paused => "it is paused".into(),
        Mismatch::Traffic => format!("{key} is not in {}", rule.traffic.written.join(", ")),
        Mismatch::Source => format!("{source} is not in {}", rule.source.written.join(", ")),
    }
}
