//! `boot`: after a restart the orders of the last post are put in force, from
//! the history, which has all that they need. What went wrong is left where
//! `state` finds it. A `boot` that does not come to its end opens nothing either:
//! its unit runs it once more, with `--after-failure`.

use tipstaff_core::orders::{OnFailure, SEALED};
use tipstaff_gate::kernel::KernelGate;
use tipstaff_gate::{Gate, GateError, Posting, Record};
use tipstaff_host::files::{self, Access};
use tipstaff_host::interfaces;

use crate::acts::boot_trouble::{Booted, Trouble, made_good, trouble, trouble_path};
use crate::acts::posture;
use crate::arguments::{BootOptions, Common};
use crate::chosen;
use crate::ending::Ending;
use crate::failure::{Failure, system};
use crate::history::{History, Revision};
use crate::terminal::Terminal;

/// What holds instead of the orders, where they say `open`.
const NOTHING: &str = "nothing";

pub fn run(common: &Common, options: &BootOptions, terminal: &Terminal) -> Result<Ending, Failure> {
    if !nix::unistd::geteuid().is_root() {
        return Err(GateError::NotRoot.into());
    }
    if options.after_failure {
        return after_failure(common, options, terminal);
    }
    let history = History::from_options(common);
    let mut gate = KernelGate::new(&common.run_dir)?;
    let last_post = history.last_post();
    let (wanted, why) = match (history.last_kept(), &last_post) {
        (Ok(Some(last)), Some(posted)) if last.number < posted.revision => {
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
    let on_failure =
        on_failure.or(last_post.as_ref().map(|last| last.on_failure)).unwrap_or_default();
    let number = wanted.as_ref().map(|last| last.number).or(last_post.map(|last| last.revision));
    let instead = instead(on_failure, &history, &mut gate, number)?;
    note(common, terminal, &Trouble { wanted: number, why, instead })
}

/// What the orders say for a start that fails, where nothing holds. Their last revision may be
/// what `boot` did not survive: it is not looked at again.
fn after_failure(
    common: &Common,
    options: &BootOptions,
    terminal: &Terminal,
) -> Result<Ending, Failure> {
    // Only stopped: what is in force, or not, is so on purpose.
    if options.service_result.as_deref() == Some("success") {
        return Ok(Ending::Fine);
    }
    let mut gate = KernelGate::new(&common.run_dir)?;
    let is_open_on_purpose = trouble(common).is_some_and(|trouble| trouble.instead == NOTHING);
    if is_open_on_purpose || gate.in_force()?.is_some() {
        return Ok(Ending::Fine);
    }
    let history = History::from_options(common);
    let last_post = history.last_post();
    if last_post.is_none() && matches!(history.last_kept(), Ok(None)) {
        return Ok(Ending::Fine);
    }
    let wanted = last_post.as_ref().map(|last| last.revision);
    let on_failure = last_post.map(|last| last.on_failure).unwrap_or_default();
    let instead = instead(on_failure, &history, &mut gate, wanted)?;
    note(common, terminal, &Trouble { wanted, why: why(options), instead })
}

/// How `boot` ended, of systemd's results (systemd.exec(5), `$SERVICE_RESULT`).
fn why(options: &BootOptions) -> String {
    let status = options.exit_status.as_deref().unwrap_or("unknown");
    match options.service_result.as_deref() {
        Some("timeout") => "`boot` took longer than its unit allows".to_owned(),
        Some("oom-kill") => "`boot` was killed: out of memory".to_owned(),
        Some("signal" | "core-dump" | "watchdog") => format!("`boot` was killed: {status}"),
        Some("exit-code") => format!("`boot` ended with exit code {status}"),
        _ => "`boot` failed".to_owned(),
    }
}

/// Leaves what went wrong where `state` finds it, and tells it.
fn note(common: &Common, terminal: &Terminal, trouble: &Trouble) -> Result<Ending, Failure> {
    let text = serde_json::to_vec(trouble).map_err(|e| system("writing JSON")(e.into()))?;
    files::make_folder(&common.run_dir, 0o755)
        .and_then(|()| files::replace(&trouble_path(common), &text, Access::Mode(0o644)))
        .map_err(system("recording what went wrong"))?;
    report(terminal, &trouble.to_string(), Some(trouble));
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

/// Puts in force what the orders say for a start that fails; in words.
fn instead(
    on_failure: OnFailure,
    history: &History,
    gate: &mut KernelGate,
    wanted: Option<u32>,
) -> Result<String, Failure> {
    if on_failure == OnFailure::Open {
        return Ok(NOTHING.to_owned());
    }
    // Closed first: earlier orders may take long to put in force, and be cut short as well.
    // Where there are none, what cannot be told what to let in lets nothing in.
    posture::seal_instead(gate)?;
    let good = match on_failure {
        OnFailure::LastGood => last_good(history, gate, wanted),
        OnFailure::Closed | OnFailure::Open => None,
    };
    Ok(good.map_or_else(|| SEALED.to_owned(), |number| format!("revision {number}")))
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
