//! `post`: check the orders, show what they mean, put them in force at once.

use std::io::IsTerminal;
use std::os::fd::AsFd;
use std::time::Duration;

use nix::poll::{PollFd, PollFlags, PollTimeout, poll};
use nix::unistd::{User, geteuid};
use serde::Serialize;
use tipstaff_core::orders::{OrdersHash, Remark, Silence, remarks};
use tipstaff_core::tables::Tables;
use tipstaff_gate::kernel::{KernelGate, check_ground};
use tipstaff_gate::{Gate, GateError, Posted, Posting, Record, enforceable};
use tipstaff_host::interfaces;

use crate::Ending;
use crate::arguments::{Common, PostOptions};
use crate::chosen::{self, Chosen};
use crate::commands::confirm;
use crate::failure::{Failure, system};
use crate::history::{self, History};
use crate::terminal::{Terminal, counted};

#[derive(Serialize)]
struct Report {
    in_force: bool,
    orders: String,
    hash: OrdersHash,
    rules: usize,
    paused: usize,
    standing: tipstaff_core::orders::Standing,
    guarded: Vec<String>,
    vanished: Vec<String>,
    replaced: bool,
    revision: Option<u32>,
    trial_seconds: Option<u64>,
    remarks: Vec<Remark>,
}

pub fn run(common: &Common, options: &PostOptions, terminal: &Terminal) -> Result<Ending, Failure> {
    let history = History::of(common);
    let judge = match options.revision {
        Some(number) => chosen::of_revision(common, &history.get(number)?)?,
        None => chosen::from_file(common)?,
    };
    enforceable::check(&judge.brief).map_err(GateError::from)?;
    Tables::build(&judge.brief).map_err(GateError::from)?;
    if options.check {
        show(&judge, None, &Kept::default(), terminal);
        return Ok(Ending::Fine);
    }
    check_ground()?;
    if options.revision.is_none() {
        history::check_owner(common.orders_path())?;
    }
    let all = interfaces::list().map_err(system("reading the interfaces"))?;
    let record = record(&judge, common);
    let mut gate = KernelGate::new(&common.run_dir)?;
    // A full disk stops the post, and not its memory.
    let prepared = history.prepare(&record, options.reason.as_deref(), options.trial.is_none())?;
    let posting = Posting { brief: &judge.brief, record };
    let posted = match options.trial {
        Some(time) => gate.try_out(&posting, &all, time)?,
        None => gate.post(&posting, &all)?,
    };
    let kept = Kept { revision: Some(prepared.done()?), trial: options.trial };
    show(&judge, Some(&posted), &kept, terminal);
    if options.trial.is_some() && !terminal.json && std::io::stdin().is_terminal() {
        return ask(common, &mut gate, terminal);
    }
    Ok(Ending::Fine)
}

/// How long what was posted holds, and where it is written down.
#[derive(Default)]
pub struct Kept {
    /// Its number in the history.
    pub revision: Option<u32>,
    /// For so long only, unless it is confirmed.
    pub trial: Option<Duration>,
}

/// Asks whether the trial is to stay, as long as it runs. Where nobody
/// answers, because there is nobody any more, the kernel answers.
fn ask(common: &Common, gate: &mut KernelGate, terminal: &Terminal) -> Result<Ending, Failure> {
    let input = std::io::stdin();
    while let Some(pending) = gate.pending()? {
        anstream::eprint!("\rkeep? [y/N] {:>4} s ", pending.left.as_secs());
        let mut waiting = [PollFd::new(input.as_fd(), PollFlags::POLLIN)];
        match poll(&mut waiting, PollTimeout::from(1_000u16)) {
            Ok(0) | Err(nix::errno::Errno::EINTR) => continue,
            Ok(_) => {}
            Err(e) => return Err(system("waiting for an answer")(e.into())),
        }
        let mut answer = String::new();
        let length = input.read_line(&mut answer).map_err(system("reading an answer"))?;
        if length == 0 {
            terminal.line("nobody answers any more; the kernel goes back when the time is over");
            return Ok(Ending::Fine);
        }
        if matches!(answer.trim(), "y" | "yes") {
            confirm::keep(common, gate, terminal)?;
        } else {
            confirm::told_reverted(gate.revert()?.as_ref(), terminal);
        }
        return Ok(Ending::Fine);
    }
    Err(GateError::TrialOver.into())
}

/// What is kept with the revision.
fn record(judge: &Chosen, common: &Common) -> Record {
    let path = std::path::absolute(common.orders_path());
    let path = path.as_deref().unwrap_or(common.orders_path());
    let account = User::from_uid(geteuid()).ok().flatten();
    Record {
        orders: judge.text.clone(),
        path: path.display().to_string(),
        posted_at: jiff::Timestamp::now().as_second(),
        posted_by: account.map_or_else(|| geteuid().to_string(), |user| user.name),
        host: judge.host.clone(),
        posture: judge.posture.clone(),
        attachments: judge.attachments.clone(),
    }
}

/// Prints what is in force now, or would be.
pub fn show(judge: &Chosen, posted: Option<&Posted>, kept: &Kept, terminal: &Terminal) {
    let brief = &judge.brief;
    let paused = brief.rules.iter().filter(|r| r.silence == Some(Silence::Paused)).count();
    let elsewhere = brief.rules.iter().filter(|r| r.silence == Some(Silence::OtherHost)).count();
    if terminal.json {
        let path = match &judge.origin {
            chosen::Origin::File { path, .. } | chosen::Origin::InForce { path, .. } => path,
        };
        terminal.json(&Report {
            in_force: posted.is_some(),
            orders: path.clone(),
            hash: judge.origin.hash(),
            rules: brief.rules.len(),
            paused,
            standing: brief.standing,
            guarded: posted.map(|p| p.guarded.clone()).unwrap_or_default(),
            vanished: posted.map(|p| p.vanished.clone()).unwrap_or_default(),
            replaced: posted.is_some_and(|p| p.replaced),
            revision: kept.revision,
            trial_seconds: kept.trial.map(|time| time.as_secs()),
            remarks: remarks(brief, chosen::now()),
        });
        return;
    }
    terminal.heading(match posted {
        Some(_) if kept.trial.is_some() => "in force, on trial",
        Some(posted) if posted.replaced => "in force, in place of the orders before",
        Some(_) => "in force",
        None => "checked; nothing was put in force",
    });
    let rules = counted(brief.rules.len(), "rule", "rules");
    let mut asides = Vec::new();
    asides.extend((paused > 0).then(|| format!("{paused} paused")));
    asides.extend((elsewhere > 0).then(|| format!("{elsewhere} for other hosts")));
    let paused =
        if asides.is_empty() { String::new() } else { format!(" ({})", asides.join(", ")) };
    if let Some(posture) = &judge.posture {
        terminal.line(format!("  in the posture {posture}"));
    }
    if let Some(host) = &judge.host {
        terminal.line(format!("  this machine is {host}"));
    }
    let standing = brief.standing;
    terminal.line(format!("  {}", judge.origin.words()));
    if let Some(files) = judge.files() {
        terminal.line(format!("  {files}"));
    }
    terminal.line(format!(
        "  {rules}{paused}; then inbound {}, transit {}, outbound {}",
        standing.inbound, standing.transit, standing.outbound
    ));
    for Remark { rule, message } in remarks(brief, chosen::now()) {
        terminal.line(format!("  note on {rule}: {message}"));
    }
    if let Some(posted) = posted {
        terminal.line(format!("  guarded: {}", posted.guarded.join(", ")));
        if !posted.vanished.is_empty() {
            terminal.line(format!("  gone meanwhile: {}", posted.vanished.join(", ")));
        }
        terminal.note("  connections that were open before go on; only new ones are decided");
        if let Some(time) = kept.trial {
            let then = match posted.replaced {
                true => "the orders before come back by themselves",
                false => "nothing is in force again, as before",
            };
            terminal.line(format!(
                "  unless `tipstaff confirm` comes within {} s, {then}",
                time.as_secs()
            ));
        }
    }
}
