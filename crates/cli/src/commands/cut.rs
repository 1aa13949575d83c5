//! `cut`: end connections that the orders in force would no longer let in.

use schemars::JsonSchema;
use serde::Serialize;
use tipstaff_core::analysis::reach::speaker_words;
use tipstaff_core::decision::Speaker;
use tipstaff_core::host::connection::Connection;
use tipstaff_gate::GateError;
use tipstaff_gate::kernel::KernelGate;

use crate::acts::named;
use crate::acts::stranded::{Stranded, end, stranded};
use crate::arguments::{Common, CutOptions};
use crate::chosen::{self, Visible};
use crate::ending::Ending;
use crate::failure::Failure;
use crate::shape::shape;
use crate::terminal::{Terminal, counted};

#[derive(JsonSchema, Serialize)]
pub struct Row {
    #[serde(flatten)]
    connection: Connection,
    by: String,
    cut: bool,
}

/// Connections that would not be let in again.
#[derive(JsonSchema, Serialize)]
pub struct Report {
    connections: Vec<Row>,
}

shape!(Report => "cut");

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
        Some(wanted) => Some(named::rule(&judge, wanted)?),
        None => None,
    };
    let mut all = stranded(brief)?;
    all.retain(|stranded| {
        let Stranded { connection, said, .. } = stranded;
        rule.is_none_or(|index| said.speaker == Speaker::Rule(index))
            && options.peer.is_none_or(|peer| connection.remote.ip() == peer)
            && options.program.as_ref().is_none_or(|wanted| {
                let mut programs = connection.owner.programs.iter();
                programs.any(|p| p.name == *wanted || p.path.as_ref() == Some(wanted))
            })
    });
    if !terminal.json {
        terminal.heading(&format!(
            "{} that the orders in force would no longer let in",
            counted(all.len(), "connection", "connections")
        ));
        all.iter().for_each(|stranded| terminal.line(format!("  {}", stranded.describe(brief))));
    }
    let agreed = || options.yes || terminal.json || terminal.ask("end them?");
    let cut = !options.dry_run && !all.is_empty();
    if cut && !agreed() {
        return Err(Failure::Argument {
            message: "nothing was ended".into(),
            help: "Answer yes when asked, or pass --yes in a script.".into(),
        });
    }
    if cut {
        let ended = end(&all)?;
        if !terminal.json {
            terminal.line(format!("{} ended", counted(ended, "connection", "connections")));
        }
    }
    if terminal.json {
        terminal.json(&Report {
            connections: all
                .iter()
                .map(|s| Row {
                    by: speaker_words(brief, s.said.speaker),
                    connection: s.connection.clone(),
                    cut,
                })
                .collect(),
        });
    }
    Ok(Ending::Fine)
}
