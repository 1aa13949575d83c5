//! Why an observation differs from the orders, and what to do next.

use std::fmt;
use std::net::IpAddr;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::list::List;
use super::{Arrival, Cell, Outcome, Subject, Vantage};
use crate::analysis::review::is_a_slip;
use crate::brief::Brief;
use crate::decision::{Decision, Speaker};
use crate::host::listener::{Listener, Scope, taker};
use crate::orders::Action;
use crate::packet::Direction;
use crate::tables::Tables;

/// Why an observation differs from the orders.
#[derive(Clone, Debug, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "reason")]
pub enum Why {
    /// Let in, but no socket is bound to the port.
    NothingListens {
        /// Where the program that was probably meant listens instead: `domed on tcp/7401`.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        instead: Option<String>,
    },
    /// Let in, but the socket is bound to loopback.
    LoopbackOnly,
    /// Let in, but the socket is bound to another address.
    OtherAddress {
        /// That address.
        address: IpAddr,
    },
    /// Let in, but the socket is bound to another interface.
    OtherDevice {
        /// That interface.
        device: String,
    },
    /// The gate in force denied it.
    DeniedByGate {
        /// What decided there.
        by: String,
    },
    /// The gate in force refused it.
    RefusedByGate {
        /// What decided there.
        by: String,
    },
    /// The source has used up a rate.
    BeyondRate {
        /// Whose rate.
        by: String,
    },
    /// What is in force are other orders than these, and they say otherwise.
    OtherOrders {
        /// What decided in them.
        by: String,
    },
    /// The same orders are in force, and the gate decides otherwise than they mean.
    DecidesOtherwise {
        /// What decided there.
        by: String,
    },
    /// The orders deny it, but nothing in force does.
    NotInForce,
    /// Another program at the interface stopped it.
    StoppedByAnother {
        /// The names of those there are.
        programs: Vec<String>,
    },
    /// Another program at the interface let it in before the gate was asked.
    PassedByAnother {
        /// The names of those there are.
        programs: Vec<String>,
    },
    /// The accept queue of the program is full.
    QueueFull,
    /// It came in where the way back does not lead out, and the kernel checks that.
    NotTheWayBack,
    /// It listened when the check began, and no longer does.
    Stopped,
    /// It should have been refused, and no refusal came back.
    RefusalLost,
    /// Nothing listened when the check began, and something does now.
    Started,
    /// Let in, something listens, and still it does not answer.
    NoAnswer,
    /// A listener on another machine is not there, or a filter on the way; from
    /// outside nobody can tell.
    NotFromHere,
}

impl fmt::Display for Why {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fn named(programs: &[String]) -> String {
            match programs {
                [] => "another program".to_owned(),
                names => format!("the program {}", names.join(", ")),
            }
        }
        match self {
            Self::NothingListens { instead: None } => f.write_str("nothing listens on it"),
            Self::NothingListens { instead: Some(other) } => {
                write!(f, "nothing listens on it; {other} does")
            }
            Self::LoopbackOnly => f.write_str("listens on loopback only"),
            Self::OtherAddress { address } => write!(f, "listens on {address} only"),
            Self::OtherDevice { device } => write!(f, "listens on the interface {device} only"),
            Self::DeniedByGate { by } => write!(f, "the gate denied it by {by}"),
            Self::RefusedByGate { by } => write!(f, "the gate refused it by {by}"),
            Self::BeyondRate { by } => write!(f, "this source has exceeded {by}"),
            Self::OtherOrders { by } => {
                write!(f, "other orders are in force, in which {by} decides")
            }
            Self::DecidesOtherwise { by } => {
                write!(f, "the gate has these orders, but decides by {by}")
            }
            Self::NotInForce => f.write_str("denied by the orders, but the gate is not loaded"),
            Self::StoppedByAnother { programs } => {
                write!(f, "{} at the interface stopped it, not the gate", named(programs))
            }
            Self::PassedByAnother { programs } => {
                write!(f, "{} at the interface let it in before the gate", named(programs))
            }
            Self::QueueFull => f.write_str("the program's accept queue is full"),
            Self::NotTheWayBack => f.write_str(
                "the kernel drops it there: the return route to that source uses another interface",
            ),
            Self::Stopped => f.write_str("it listened when the check began, and no longer does"),
            Self::RefusalLost => f.write_str("it is refused, but the refusal did not come back"),
            Self::Started => {
                f.write_str("nothing listened when the check began; something does now")
            }
            Self::NoAnswer => f.write_str("nothing stopped it, but it does not answer"),
            Self::NotFromHere => {
                f.write_str("no more can be seen from another machine; check on the host itself")
            }
        }
    }
}

impl Why {
    /// What to do next. `rule`: the name of the one that says what was meant.
    pub fn next(&self, subject: Subject, rule: Option<&str>) -> String {
        match self {
            Self::NothingListens { instead: None } => match rule {
                Some(rule) => format!("start the program, or tipstaff rule pause {rule}"),
                None => "start the program".into(),
            },
            Self::NothingListens { instead: Some(_) } => match rule {
                Some(rule) => format!(
                    "change the program's port, or the rule's: tipstaff rule set {rule} traffic=…"
                ),
                None => "change the program's port".into(),
            },
            Self::LoopbackOnly => {
                format!("make the program listen on an address that others can reach, on {subject}")
            }
            Self::OtherAddress { address } => {
                format!("check {address}, or make the program listen on all addresses")
            }
            Self::OtherDevice { device } => {
                format!("connect through {device}, or make the program listen on all interfaces")
            }
            Self::DeniedByGate { .. }
            | Self::RefusedByGate { .. }
            | Self::DecidesOtherwise { .. } => {
                "tipstaff ask, with this port and source, shows the rules one by one".into()
            }
            Self::BeyondRate { .. } => {
                let rule = rule.unwrap_or("RULE");
                format!("tipstaff tally {rule} --sources shows when it has room again")
            }
            Self::OtherOrders { .. } => {
                "tipstaff compare in-force shows what differs, tipstaff post puts these in force"
                    .into()
            }
            Self::NotInForce => "tipstaff post puts the orders in force".into(),
            Self::StoppedByAnother { .. } | Self::PassedByAnother { .. } => {
                "tipstaff state names the programs at each interface".into()
            }
            Self::QueueFull => "the program accepts nothing: investigate or restart it".into(),
            Self::NotTheWayBack => {
                "check the routes, and net.ipv4.conf.*.rp_filter of that interface".into()
            }
            Self::Stopped => "check the program's own log".into(),
            Self::RefusalLost => {
                "a program at the interface may have stopped it: tipstaff state names them".into()
            }
            Self::Started => "tipstaff reach again".into(),
            Self::NoAnswer if subject == Subject::Echo => {
                "check net.ipv4.icmp_echo_ignore_all and net.ipv6.icmp.echo_ignore_all".into()
            }
            Self::NoAnswer => "check the program; the gate is not the cause".into(),
            Self::NotFromHere => "tipstaff reach, on that host".into(),
        }
    }
}

/// What the gate in force says of a knock, and what decides there, in words.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Said {
    /// Its decision.
    pub decision: Decision,
    /// What decided.
    pub by: String,
}

/// What is known around one knock.
#[derive(Clone, Copy, Debug)]
pub struct CellContext<'c> {
    /// The list that is judged by.
    pub brief: &'c Brief,
    /// Its tables, where there are many rules: the same, sooner.
    pub tables: Option<&'c Tables<'c>>,
    /// What listens; `None`: that is another machine's.
    pub listeners: Option<&'c [Listener]>,
    /// What no longer listened when the check was over.
    pub stopped: &'c [Subject],
    /// What nobody listened on before, and somebody when the check was over.
    pub started: &'c [Subject],
    /// What this host passes on to somebody else: its own loopback has no part in it.
    pub published: &'c [Subject],
    /// What the gate in force says.
    pub gate: Option<&'c Said>,
    /// Whether the gate in force holds other orders than those judged by.
    pub other_orders: bool,
    /// Whether the knock came past everything at the interface; `None`: not known.
    pub came_in: Option<bool>,
    /// Other programs at the interface.
    pub others: &'c [String],
    /// Whether it came in elsewhere than its answers go out.
    pub not_the_way_back: bool,
}

impl<'c> CellContext<'c> {
    /// Only the list and what listens.
    pub fn plain(brief: &'c Brief, listeners: Option<&'c [Listener]>) -> Self {
        Self {
            brief,
            tables: None,
            listeners,
            stopped: &[],
            started: &[],
            published: &[],
            gate: None,
            other_orders: false,
            came_in: None,
            others: &[],
            not_the_way_back: false,
        }
    }

    pub(super) fn list(&self) -> List<'c> {
        List { brief: self.brief, tables: self.tables }
    }
}

/// Why a cell that differs does so. `let_in`: whether the orders let an outside source in.
///
/// The knock and the question to the gate are two moments, and a post or a rate may change
/// what holds in between: the wire is believed before the gate, the gate before the socket table.
pub(super) fn why(
    cell: &Cell,
    let_in: bool,
    subject: Subject,
    vantage: &Vantage,
    at: Arrival,
    around: &CellContext<'_>,
) -> Why {
    if let Some(why) = around.gate.and_then(|said| of_the_gate(cell, let_in, said, around)) {
        return why;
    }
    if around.listeners.is_none() {
        return Why::NotFromHere;
    }
    // To this host itself nothing is denied.
    let denied = !let_in && *vantage != Vantage::Here;
    match (cell.expected, cell.observed.outcome) {
        (Outcome::Refuses | Outcome::Silent, _) if denied => Why::NotInForce,
        (Outcome::Refuses, Outcome::Answers) => Why::Started,
        (_, Outcome::Silent) if around.came_in == Some(false) => {
            Why::StoppedByAnother { programs: around.others.to_vec() }
        }
        (_, Outcome::Silent) if around.not_the_way_back => Why::NotTheWayBack,
        (Outcome::Refuses, _) => Why::RefusalLost,
        _ => of_the_service(subject, vantage, at, around),
    }
}

/// What follows from the word of the gate in force; `None` where it let the packet in, as
/// the orders mean it to.
fn of_the_gate(cell: &Cell, let_in: bool, said: &Said, around: &CellContext<'_>) -> Option<Why> {
    let (meant, seen) = (cell.expected, cell.observed.outcome);
    let by = said.by.clone();
    let otherwise = |by| match around.other_orders {
        true => Why::OtherOrders { by },
        false => Why::DecidesOtherwise { by },
    };
    let beyond = matches!(said.decision.speaker, Speaker::Beyond(_));
    match (said.decision.verdict, seen) {
        (Action::Refuse, Outcome::Silent) if meant == Outcome::Refuses => Some(Why::RefusalLost),
        (Action::Deny, Outcome::Silent) | (Action::Refuse, Outcome::Refuses | Outcome::Silent) => {
            Some(match said.decision.verdict {
                _ if !let_in => otherwise(by),
                _ if beyond => Why::BeyondRate { by },
                _ if around.other_orders => otherwise(by),
                Action::Refuse => Why::RefusedByGate { by },
                _ => Why::DeniedByGate { by },
            })
        }
        // A rate that is used up by now may have had room for the knock.
        (Action::Deny | Action::Refuse, _) if !beyond => {
            Some(Why::PassedByAnother { programs: around.others.to_vec() })
        }
        _ => (!let_in).then(|| otherwise(by)),
    }
}

/// What the socket table says of a port that should answer.
fn of_the_service(
    subject: Subject,
    vantage: &Vantage,
    Arrival { target, interface }: Arrival,
    around: &CellContext<'_>,
) -> Why {
    if around.stopped.contains(&subject) {
        return Why::Stopped;
    }
    let (Subject::Port(transport, port), Some(listeners)) = (subject, around.listeners) else {
        return Why::NoAnswer;
    };
    let arrives = around.brief.interface_name(interface).filter(|_| *vantage != Vantage::Here);
    match taker(listeners, transport, port, target, arrives) {
        Some(Listener { queue: Some((waiting, room)), .. }) if waiting > room => Why::QueueFull,
        // Where it arrives is not known here, and this explains it.
        Some(Listener { device: Some(device), .. })
            if arrives.is_none() && *vantage != Vantage::Here =>
        {
            Why::OtherDevice { device: device.clone() }
        }
        Some(_) => Why::NoAnswer,
        None => bound_elsewhere(Some(listeners), subject, target, arrives).unwrap_or_else(|| {
            Why::NothingListens { instead: instead(around.list(), listeners, subject) }
        }),
    }
}

/// Where a port is bound instead of where a packet to `target` comes; `None` where
/// a socket takes it, or nothing is bound to the port.
pub(super) fn bound_elsewhere(
    listeners: Option<&[Listener]>,
    subject: Subject,
    target: IpAddr,
    arrives: Option<&str>,
) -> Option<Why> {
    let (Subject::Port(transport, port), Some(listeners)) = (subject, listeners) else {
        return None;
    };
    if taker(listeners, transport, port, target, arrives).is_some() {
        return None;
    }
    let bound = || listeners.iter().filter(|l| (l.transport, l.port) == (transport, port));
    let near = bound().find(|l| l.takes(target)).or_else(|| bound().find(|l| !is_loopback(l)));
    match near {
        Some(l) if l.takes(target) => l.device.clone().map(|device| Why::OtherDevice { device }),
        Some(l) => Some(Why::OtherAddress { address: l.address }),
        None => bound().next().map(|_| Why::LoopbackOnly),
    }
}

fn is_loopback(listener: &Listener) -> bool {
    listener.scope() == Scope::Loopback
}

/// Who was probably meant by a port that nobody listens on: the program that
/// the rule names, wherever it listens, or somebody one slip away whom no rule
/// matches.
fn instead(list: List<'_>, listeners: &[Listener], subject: Subject) -> Option<String> {
    let Subject::Port(transport, port) = subject else { return None };
    // A rule about any traffic names no port.
    let about = |port| {
        let rules = list.about(Direction::Inbound, transport.key(port)).map(|(_, rule)| rule);
        rules.filter(|rule| rule.action == Action::Allow && rule.traffic.keys.is_some())
    };
    let named: Vec<&str> = about(port)
        .flat_map(|rule| &rule.program.files)
        .map(|path| list.brief.executable(path))
        .collect();
    let found = listeners
        .iter()
        .find(|l| l.path().is_some_and(|path| named.contains(&path)))
        .or_else(|| {
            listeners.iter().find(|l| {
                l.transport == transport
                    && is_a_slip(l.port, port)
                    && about(l.port).next().is_none()
            })
        })?;
    let name = found.program().map_or("somebody", |program| program.name.as_str());
    Some(format!("{name} on {}/{}", found.transport, found.port))
}
