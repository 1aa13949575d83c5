//! What replies and the gate say of a knock.

use std::collections::hash_map::Entry;
use std::collections::{BTreeSet, HashMap};
use std::net::IpAddr;

use tipstaff_core::analysis::reach::{How, Observed, Said, Subject, speaker_words};
use tipstaff_core::brief::{Brief, RuleIndex};
use tipstaff_core::decision::rates::one_of_many;
use tipstaff_core::decision::{Decision, Speaker};
use tipstaff_core::host::listener::Listener;
use tipstaff_core::orders::{Action, Over};
use tipstaff_core::packet::{Direction, InterfaceIndex};
use tipstaff_gate::kernel::{Asked, KernelGate};
use tipstaff_gate::{Gate as _, GateError};
use tipstaff_knock::Reply;
use tipstaff_knock::witness::{self, Approach};

/// The gate in force and its list.
pub type GateInForce<'g> = (&'g KernelGate, &'g Brief);

/// What a reply means, with its evidence.
pub(crate) fn of_reply(reply: Reply, target: IpAddr) -> Observed {
    let remark = matches!(reply, Reply::Closed(_)).then(|| {
        "the program accepts and closes at once: its own refusal, not the gate's".to_owned()
    });
    Observed {
        outcome: reply.outcome(),
        how: How::Wire,
        target: Some(target),
        evidence: Some(reply.to_string()),
        gate: None,
        forwarded_to: None,
        remark,
    }
}

/// What the gate said, in words.
pub(crate) fn gate_words(said: &Said) -> String {
    let verb = match said.decision.verdict {
        Action::Allow => "lets it in",
        Action::Deny => "denies it",
        Action::Refuse => "refuses it",
    };
    format!("{verb}, by {}", said.by)
}

/// Asks the loaded gate about every door by test run.
pub(crate) fn ask(
    (gate, brief): GateInForce<'_>,
    approach: &Approach,
    doors: &[(Subject, IpAddr)],
) -> Result<Vec<Said>, GateError> {
    let interface = InterfaceIndex(approach.interface.index);
    let questions: Vec<Asked> = doors
        .iter()
        .map(|(subject, target)| Asked {
            interface,
            program: None,
            frame: witness::question(approach, *subject, *target),
        })
        .collect();
    let decisions = gate.ask_all(Direction::Inbound, &questions)?;
    let mut said = Vec::with_capacity(decisions.len());
    let mut used_up = HashMap::new();
    for decision in decisions {
        let decision = match decision.speaker {
            Speaker::Rule(index) => match used_up.entry(index) {
                Entry::Occupied(known) => *known.get(),
                Entry::Vacant(new) => *new.insert(beyond(gate, brief, index, approach.source)?),
            },
            _ => None,
        }
        .unwrap_or(decision);
        said.push(Said { by: speaker_words(brief, decision.speaker), decision });
    }
    Ok(said)
}

/// What a rule says to a source that has used up its rate; `None` where there
/// is room, or no rate. A question to the gate takes no account of rates.
fn beyond(
    gate: &KernelGate,
    brief: &Brief,
    index: RuleIndex,
    source: IpAddr,
) -> Result<Option<Decision>, GateError> {
    let Some((rule, limit)) = brief.rule(index).and_then(|rule| Some((rule, rule.limit()?))) else {
        return Ok(None);
    };
    let states = gate.sources(&limit)?;
    let used_up = states
        .iter()
        .any(|state| state.source.is_none_or(|s| s == one_of_many(source)) && state.room == 0);
    let verdict = match rule.over {
        Over::Deny => Action::Deny,
        Over::Refuse => Action::Refuse,
    };
    Ok(used_up.then_some(Decision { verdict, speaker: Speaker::Beyond(index) }))
}

/// Who listens, by name.
pub(crate) fn programs(listeners: &[Listener], subject: Subject) -> Vec<String> {
    let bound = listeners.iter().filter(|l| Subject::Port(l.transport, l.port) == subject);
    let names: BTreeSet<String> =
        bound.flat_map(|l| l.owner.programs.iter().map(|p| p.name.clone())).collect();
    names.into_iter().collect()
}
