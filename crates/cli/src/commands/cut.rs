//! `cut`: end connections that the orders in force would not let in again.

use serde::Serialize;
use tipstaff_core::analysis::reach::speaker_words;
use tipstaff_core::brief::Brief;
use tipstaff_core::decision::{Decision, Speaker};
use tipstaff_core::host::connection::Connection;
use tipstaff_gate::GateError;
use tipstaff_gate::kernel::KernelGate;
use tipstaff_host::{SocketKey, connections};

use crate::Ending;
use crate::arguments::{Common, CutOptions};
use crate::chosen::{self, Visible};
use crate::failure::{Failure, system};
use crate::terminal::{Terminal, counted};

/// A connection that would not be let in again.
pub struct Stranded {
    pub connection: Connection,
    pub said: Decision,
    key: SocketKey,
}

#[derive(Serialize)]
struct Row<'s> {
    #[serde(flatten)]
    connection: &'s Connection,
    by: String,
    cut: bool,
}

impl Stranded {
    /// `203.0.113.9:50022 → 198.51.100.20:22 (shelld), by rule 2 (no-shell)`.
    pub fn words(&self, brief: &Brief) -> String {
        let Connection { local, remote, owner, .. } = &self.connection;
        let program = owner.programs.first().map_or("an unknown program", |p| p.name.as_str());
        let by = speaker_words(brief, self.said.speaker);
        let (from, to) = match self.connection.direction {
            tipstaff_core::packet::Direction::Outbound => (local, remote),
            _ => (remote, local),
        };
        format!("{from} → {to} ({program}), by {by}")
    }
}

/// The connections of this moment that a list would not let in again.
pub fn stranded(brief: &Brief) -> Result<Vec<Stranded>, Failure> {
    let now = chosen::now();
    let all = connections::list().map_err(system("reading the connections"))?;
    let shut_out = |(connection, key): (Connection, SocketKey)| {
        let said = connection.shut_out_by(brief, now)?;
        Some(Stranded { connection, said, key })
    };
    Ok(all.into_iter().filter_map(shut_out).collect())
}

/// Ends them; how many there still were.
pub fn end(all: &[Stranded]) -> Result<usize, Failure> {
    let mut ended = 0;
    for stranded in all {
        ended += usize::from(stranded.key.destroy().map_err(system("ending a connection"))?);
    }
    Ok(ended)
}

pub fn run(common: &Common, options: &CutOptions, terminal: &Terminal) -> Result<Ending, Failure> {
    let judge = match chosen::in_force(common)? {
        (Some(in_force), _) => chosen::from_force(&in_force)?,
        (None, Visible::OnlyToRoot) => return Err(GateError::NotRoot.into()),
        (None, Visible::Yes) => return Err(GateError::NothingInForce.into()),
    };
    if let Some(pending) = KernelGate::new(&common.run_dir)?.pending()?
        && !options.dry_run
    {
        // What is cut cannot be brought back when the trial ends.
        return Err(GateError::TrialRunning(pending.left).into());
    }
    let brief = &judge.brief;
    let rule = match &options.rule {
        Some(wanted) => Some(super::tally::find(&judge, wanted)?),
        None => None,
    };
    let mut all = stranded(brief)?;
    all.retain(|stranded| {
        let Stranded { connection, said, .. } = stranded;
        let of_program = |wanted: &String| {
            let mut programs = connection.owner.programs.iter();
            programs.any(|p| p.name == *wanted || p.path.as_ref() == Some(wanted))
        };
        rule.is_none_or(|index| said.speaker == Speaker::Rule(index))
            && options.peer.is_none_or(|peer| connection.remote.ip() == peer)
            && options.program.as_ref().is_none_or(of_program)
    });
    if !terminal.json {
        terminal.heading(&format!(
            "{} that the orders in force would not let in again",
            counted(all.len(), "connection", "connections")
        ));
        all.iter().for_each(|stranded| terminal.line(format!("  {}", stranded.words(brief))));
    }
    let agreed = || options.yes || terminal.json || terminal.ask("end them?");
    let cut = !options.dry_run && !all.is_empty();
    if cut && !agreed() {
        return Err(Failure::Argument {
            message: "nothing was ended".into(),
            mend: "Say yes when asked, or give --yes in a script.".into(),
        });
    }
    if cut {
        let ended = end(&all)?;
        if !terminal.json {
            terminal.line(format!("{} ended", counted(ended, "connection", "connections")));
        }
    }
    if terminal.json {
        let row = |s: &Stranded| {
            serde_json::to_value(Row {
                connection: &s.connection,
                by: speaker_words(brief, s.said.speaker),
                cut,
            })
        };
        let rows: Result<Vec<_>, _> = all.iter().map(row).collect();
        terminal.json(&rows.map_err(|e| system("writing JSON")(e.into()))?);
    }
    Ok(Ending::Fine)
}
