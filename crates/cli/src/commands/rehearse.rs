//! `rehearse`: what orders that are rehearsed would have denied, and the end of that.

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::Serialize;
use tipstaff_core::analysis::log::LogFilter;
use tipstaff_core::analysis::proposal::Proposal;
use tipstaff_core::analysis::reach::speaker_words;
use tipstaff_core::decision::Speaker;
use tipstaff_core::orders::{Action, Origin};
use tipstaff_gate::kernel::KernelGate;
use tipstaff_gate::{GateError, Tally};

use crate::acts::decisions::{Counts, is_recorded, moment};
use crate::acts::rehearsing::{self, Rehearsed};
use crate::acts::requests;
use crate::arguments::{Common, RehearseCommand};
use crate::chosen;
use crate::ending::Ending;
use crate::failure::Failure;
use crate::shape::shape;
use crate::terminal::{Columns, Terminal, action, bytes, packets, plain};

/// Rules that are proposed where nobody says how many.
const SHOWN: usize = 20;

#[derive(JsonSchema, Serialize)]
pub struct Report {
    rehearsal: Rehearsed,
    /// Packets by what would have decided them; without those that would have passed.
    denied: Vec<Denied>,
    /// Packets that would have passed.
    allowed: u64,
    /// What was recorded of those that would not: the most wanted first.
    requests: Vec<Request>,
    #[serde(flatten)]
    counts: Counts,
}

#[derive(JsonSchema, Serialize)]
struct Denied {
    by: String,
    verdict: Action,
    packets: u64,
    bytes: u64,
}

/// Somebody who would be turned away, and the rule that would let them in.
#[derive(JsonSchema, Serialize)]
struct Request {
    #[serde(flatten)]
    proposal: Proposal,
    command: String,
}

#[derive(JsonSchema, Serialize)]
pub struct Ended {
    ended: Origin,
}

shape!(Report => "rehearse-report", Ended => "rehearse-end");

pub fn run(
    common: &Common,
    command: RehearseCommand,
    terminal: &Terminal,
) -> Result<Ending, Failure> {
    match command {
        RehearseCommand::Report { count } => report(common, count.unwrap_or(SHOWN), terminal),
        RehearseCommand::End => end(common, terminal),
    }
}

fn end(common: &Common, terminal: &Terminal) -> Result<Ending, Failure> {
    let record = KernelGate::new(&common.run_dir)?.end_rehearsal()?;
    if terminal.json {
        terminal.json(&Ended { ended: chosen::origin_of(&record) });
        return Ok(Ending::Fine);
    }
    terminal.heading(&format!("the rehearsal of orders {} has ended", record.hash().short()));
    terminal.note("  what is in force is as it was; `tipstaff log --rehearsed` still shows it");
    Ok(Ending::Fine)
}

fn report(common: &Common, most: usize, terminal: &Terminal) -> Result<Ending, Failure> {
    let gate = KernelGate::new(&common.run_dir)?;
    let rehearsal = gate.rehearsal()?.ok_or(GateError::NoRehearsal)?;
    let judge = chosen::of_record(&rehearsal.record)?;
    let tallies = gate.rehearsed_tallies()?.into_iter().filter(|(_, tally)| tally.packets > 0);
    let (mut denied, mut allowed) = (Vec::new(), 0);
    for (speaker, tally) in tallies {
        match verdict_of(&judge.brief, speaker) {
            Action::Allow => allowed += tally.packets,
            verdict => {
                let (by, Tally { packets, bytes, .. }) =
                    (speaker_words(&judge.brief, speaker), tally);
                denied.push(Denied { by, verdict, packets, bytes });
            }
        }
    }
    denied.sort_by_key(|denied| std::cmp::Reverse(denied.packets));
    let since = Timestamp::from_second(rehearsal.record.posted_at).unwrap_or_default();
    let filter =
        LogFilter { since: Some(moment(since)), rehearsed: Some(true), ..LogFilter::default() };
    let (evidence, counts) = requests::of_log(common, &filter, |entry| {
        entry.verdict != Action::Allow && entry.a_rule_could_let_it_in()
    })?;
    let proposals = evidence.proposals_by_network();
    if terminal.json {
        let requests = proposals.into_iter();
        let requests = requests.map(|proposal| {
            let command = requests::command(&proposal);
            Request { proposal, command }
        });
        let requests = requests.collect();
        let rehearsal = Rehearsed::of(&rehearsal);
        terminal.json(&Report { rehearsal, denied, allowed, requests, counts });
        return Ok(Ending::Fine);
    }
    terminal.heading(&format!("rehearsed: {}", rehearsing::words(&rehearsal)));
    if denied.is_empty() {
        terminal.line("  nothing that passed would have been denied");
    } else {
        let mut table = Columns::new(["would have decided", "answer", "packets", "bytes"]);
        for Denied { by, verdict, packets, bytes: n } in &denied {
            table.row([plain(by), action(*verdict, verdict), plain(packets), plain(bytes(*n))]);
        }
        terminal.table(&table);
    }
    terminal.line(format!("  {} would have passed", packets(allowed)));
    requests::show(&proposals, most, terminal);
    counts.tell(terminal);
    if proposals.is_empty() && !denied.is_empty() && !is_recorded(&common.run_dir) {
        terminal.note(
            "who that was is not known: `tipstaff keep` writes it to the log while it runs, and it \
             does not",
        );
    }
    Ok(Ending::Fine)
}

/// What somebody says who was counted.
fn verdict_of(brief: &tipstaff_core::brief::Brief, speaker: Speaker) -> Action {
    match speaker {
        Speaker::Rule(index) => brief.rule(index).map_or(Action::Deny, |rule| rule.action),
        Speaker::Beyond(index) => brief.rule(index).map_or(Action::Deny, |rule| rule.over.into()),
        Speaker::Standing(direction) => brief.standing.of(direction),
        Speaker::Foundation(foundation) => foundation.action(),
        Speaker::CorruptTables => Action::Deny,
        Speaker::Nobody => Action::Allow,
    }
}
