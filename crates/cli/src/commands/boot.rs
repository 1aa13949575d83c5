//! `boot`: after a restart the orders of the last post are put in force, from
//! the history, which has all that they need. What went wrong is left where
//! `state` finds it.

use tipstaff_core::orders::{OnFailure, SEALED};
use tipstaff_gate::kernel::KernelGate;
use tipstaff_gate::{Gate, GateError, Posting, Record};
use tipstaff_host::files::{self, Access};
use tipstaff_host::interfaces;

use crate::acts::boot_trouble::{Booted, Trouble, made_good, trouble_path};
use crate::acts::posture;
use crate::arguments::Common;
use crate::chosen;
use crate::ending::Ending;
use crate::failure::{Failure, system};
use crate::history::{History, Revision};
use crate::terminal::Terminal;

pub fn run(common: &Common, terminal: &Terminal) -> Result<Ending, Failure> {
    if !nix::unistd::geteuid().is_root() {
        return Err(GateError::NotRoot.into());
    }
    let history = History::from_options(common);
    let mut gate = KernelGate::new(&common.run_dir)?;
    let note = history.last_post();
    let (wanted, why) = match (history.last_kept(), &note) {
        (Ok(Some(last)), Some(note)) if last.number < note.revision => {
            (None, "it is missing from the history".to_owned())
        }
        (Ok(Some(last)), _) => match put_in_force(&mut gate, &last) {
            Ok(()) => {
                made_good(common);
                report(terminal, &format!("revision {} is in force", last.number), None);
                return Ok(Ending::Fine);
            }
            Err(e) => (Some(last), e.to_string()),
        },
        (Ok(None), Some(_)) => (None, "the history is gone".to_owned()),
        // A machine for which nobody ever meant any orders to stay is left alone.
        (Ok(None), None) => {
            made_good(common);
            report(terminal, "nothing has been posted permanently; nothing is in force", None);
            return Ok(Ending::Fine);
        }
        (Err(e), _) => (None, e.to_string()),
    };
    // What its own orders say of such a case; what is noted of them where they cannot be read.
    let orders = wanted.as_ref().and_then(|last| chosen::of_record(&last.record).ok());
    let on_failure = orders.map(|chosen| chosen.orders.boot.on_failure);
    let on_failure = on_failure.or(note.as_ref().map(|note| note.on_failure)).unwrap_or_default();
    let number = wanted.as_ref().map(|last| last.number).or(note.map(|note| note.revision));
    let instead = match on_failure {
        OnFailure::Open => "nothing".to_owned(),
        OnFailure::Closed => sealed(&mut gate)?,
        OnFailure::LastGood => match last_good(&history, &mut gate, number) {
            Some(good) => format!("revision {good}"),
            // Orders were meant to hold here: what cannot be told what to let in lets nothing in.
            None => sealed(&mut gate)?,
        },
    };
    let trouble = Trouble { wanted: number, why, instead };
    let text = serde_json::to_vec(&trouble).map_err(|e| system("writing JSON")(e.into()))?;
    files::make_folder(&common.run_dir, 0o755)
        .and_then(|()| files::replace(&trouble_path(common), &text, Access::Mode(0o644)))
        .map_err(system("recording what went wrong"))?;
    report(terminal, &trouble.to_string(), Some(&trouble));
    Ok(Ending::Differs)
}

fn report(terminal: &Terminal, text: &str, trouble: Option<&Trouble>) {
    match trouble {
        _ if terminal.json => terminal.json(&Booted { trouble }),
        Some(_) => terminal.alarm(text),
        None => terminal.line(text),
    }
}

/// In the posture that its orders want after a restart.
fn put_in_force(gate: &mut KernelGate, revision: &Revision) -> Result<(), Failure> {
    let first = chosen::of_record(&revision.record)?;
    let posture = first.orders.boot.posture.clone().or_else(|| revision.record.posture.clone());
    let record = Record { posture, ..revision.record.clone() };
    let brief = chosen::of_record(&record)?.brief;
    let all = interfaces::list().map_err(system("reading the interfaces"))?;
    gate.post(&Posting { brief: &brief, record }, &all)?;
    Ok(())
}

fn sealed(gate: &mut KernelGate) -> Result<String, Failure> {
    posture::seal_instead(gate)?;
    Ok(SEALED.to_owned())
}

/// The newest revision before the wanted one that was kept and can be put in force.
fn last_good(history: &History, gate: &mut KernelGate, wanted: Option<u32>) -> Option<u32> {
    for revision in history.readable().into_iter().rev() {
        let other = revision.kept && Some(revision.number) != wanted;
        if other && put_in_force(gate, &revision).is_ok() {
            return Some(revision.number);
        }
    }
    None
}
