//! `post`: check the orders, show what they mean, put them in force at once.

mod meaning;

use std::io::IsTerminal;
use std::os::fd::AsFd;
use std::path::Path;
use std::time::Duration;

use nix::poll::{PollFd, PollFlags, PollTimeout, poll};
use schemars::JsonSchema;
use serde::Serialize;
use tipstaff_core::analysis::compare::Change;
use tipstaff_core::analysis::remarks::{Remark, program_remarks, remarks};
use tipstaff_core::brief::Brief;
use tipstaff_core::host::connection::Connection;
use tipstaff_core::orders::Inactive;
use tipstaff_core::tables::Tables;
use tipstaff_gate::kernel::{KernelGate, Shortfall, check_support, executables, shortfalls};
use tipstaff_gate::lock::PATIENCE;
use tipstaff_gate::{Gate, GateError, InForce, Posted, Posting, Record, enforceable};
use tipstaff_host::interfaces;

use crate::acts::decisions::is_recorded;
use crate::acts::{boot_trouble, comparison, confirming, shell as own_shell, stranded};
use crate::arguments::{Common, PostOptions};
use crate::chosen::{self, LoadedPolicy, Visible};
use crate::ending::Ending;
use crate::failure::{Failure, system};
use crate::history::{self, History};
use crate::shape::shape;
use crate::terminal::{Terminal, counted, orders_words, spoken};
use tipstaff_core::orders::Origin;

pub use meaning::PolicyDiff;
use meaning::{meaning, show_meaning};

#[derive(JsonSchema, Serialize)]
pub struct Report {
    in_force: bool,
    /// Whether other orders were in force before, another host's, another posture or none;
    /// with --check, whether a post would change that.
    changed: bool,
    orders: Origin,
    rules: usize,
    paused: usize,
    standing: tipstaff_core::orders::Standing,
    guarded: Vec<String>,
    vanished: Vec<String>,
    replaced: bool,
    revision: Option<u32>,
    trial_seconds: Option<u64>,
    /// Whether they are rehearsed: they decide beside what is in force, and stop nothing.
    rehearsed: bool,
    /// For so long; null: until that is ended, or they are not rehearsed.
    rehearsal_seconds: Option<u64>,
    changes: Vec<Change>,
    /// The same in words, a line each.
    changes_in_words: Vec<String>,
    changes_cut_off: bool,
    address_assignment: Option<bool>,
    stranded: Vec<Connection>,
    /// What listens where others could come, and nobody may any more.
    closed: Vec<String>,
    /// What `changes` are compared with: orders, nothing, not-visible, unreadable.
    against: Option<&'static str>,
    remarks: Vec<Remark>,
    /// What the gate cannot promise on this machine.
    limits: Vec<Shortfall>,
}

shape!(Report => "post");

pub fn run(common: &Common, options: &PostOptions, terminal: &Terminal) -> Result<Ending, Failure> {
    let history = History::from_options(common);
    let revision = options.revision.map(|number| history.get(number)).transpose()?;
    let judge = match &revision {
        Some(revision) => chosen::of_revision(common, revision)?,
        None => chosen::from_file(common)?,
    };
    let path = match (&options.recorded_as, &revision) {
        (None, Some(revision)) => revision.record.path.clone(),
        (told, _) => Some(absolute(told.as_deref().unwrap_or(common.orders_path()))),
    };
    let record = record(&judge, path);
    enforceable::check(&judge.brief).map_err(GateError::from)?;
    Tables::build(&judge.brief).map_err(GateError::from)?;
    if options.check {
        let (in_force, visible) = chosen::in_force(common)?;
        let meaning = Some(meaning(in_force.as_ref(), visible, &judge, terminal)?);
        let same = were_in_force(in_force.as_ref(), &record);
        show(&judge, None, &Kept { meaning, same, ..Kept::default() }, terminal);
        return Ok(Ending::Fine);
    }
    check_support()?;
    if let Some(distrust) = &judge.distrust {
        return Err(distrust.clone().into());
    }
    let all = interfaces::list().map_err(system("reading the interfaces"))?;
    let mut gate = KernelGate::new(&common.run_dir)?;
    let in_force = match gate.in_force() {
        // What another version put up holds until this post takes its place.
        Err(GateError::OtherVersion | GateError::UnreadableRecord(_)) => None,
        in_force => in_force?,
    };
    let same = were_in_force(in_force.as_ref(), &record);
    if options.rehearse {
        let posting = Posting { brief: &judge.brief, record };
        let posted = gate.rehearse(&posting, &all, options.time)?;
        let meaning = meaning(in_force.as_ref(), Visible::Yes, &judge, terminal).ok();
        let how = Put::Rehearsed(options.time);
        show(&judge, Some(&posted), &Kept { how, meaning, same, ..Kept::default() }, terminal);
        rehearsed_too(common, &judge.brief, terminal)?;
        return Ok(Ending::Fine);
    }
    if !options.even_if_i_am_cut_off {
        shell_stays(&judge.brief)?;
    }
    // A full disk stops the post, and not its memory.
    let kept = options.trial.is_none();
    let prepared = history.prepare(&record, options.reason.as_deref(), kept, PATIENCE)?;
    let posting = Posting { brief: &judge.brief, record };
    let posted = match options.trial {
        Some(time) => gate.try_out(&posting, &all, time)?,
        None => gate.post(&posting, &all)?,
    };
    boot_trouble::made_good(common);
    // Nothing waits for it, and nothing is undone where it cannot be told.
    let meaning = match meaning(in_force.as_ref(), Visible::Yes, &judge, terminal) {
        Ok(meaning) => Some(meaning),
        Err(why) => {
            terminal.note(&format!("cannot tell what changed: {why}"));
            None
        }
    };
    let limits = gate.in_force()?.map_or(Vec::new(), |now| shortfalls(&now, &all));
    let how = options.trial.map_or(Put::InForce, Put::OnTrial);
    let kept = Kept { revision: Some(prepared.done()?), same, how, meaning, limits };
    show(&judge, Some(&posted), &kept, terminal);
    if options.cut && options.trial.is_none() {
        end_stranded(&judge.brief, terminal)?;
    }
    if options.trial.is_some() && !terminal.json && std::io::stdin().is_terminal() {
        return ask(common, &mut gate, options.cut.then_some(&judge.brief), terminal);
    }
    Ok(Ending::Fine)
}

/// How long what was posted holds, and where it is written down.
#[derive(Default)]
pub struct Kept {
    /// Its number in the history.
    pub revision: Option<u32>,
    /// Whether the same orders were in force before.
    pub same: bool,
    /// How long, and whether it stops anything.
    pub how: Put,
    /// What it changes, where something was in force before.
    pub meaning: Option<PolicyDiff>,
    /// What the gate cannot promise on this machine.
    pub limits: Vec<Shortfall>,
}

/// Whether two posts are of the same orders, for the same host in the same posture.
fn is_same(before: &Record, now: &Record) -> bool {
    (before.hash(), &before.host, &before.posture) == (now.hash(), &now.host, &now.posture)
}

fn were_in_force(before: Option<&InForce>, now: &Record) -> bool {
    before.is_some_and(|before| is_same(&before.record, now))
}

/// How orders are put into the gate.
#[derive(Clone, Copy, Default)]
pub enum Put {
    /// In force.
    #[default]
    InForce,
    /// In force for so long only, unless that is confirmed.
    OnTrial(Duration),
    /// Beside what is in force, stopping nothing; for so long, or until it is ended.
    Rehearsed(Option<Duration>),
}

/// Stops where the orders would not let the shell in again that this is typed in.
fn shell_stays(brief: &Brief) -> Result<(), Failure> {
    match own_shell::shut_out(brief)? {
        Some((message, help)) => Err(Failure::Argument {
            message,
            help: format!("{help}; or post anyway with --even-if-i-am-cut-off"),
        }),
        None => Ok(()),
    }
}

/// What whoever rehearses has to know.
fn rehearsed_too(common: &Common, brief: &Brief, terminal: &Terminal) -> Result<(), Failure> {
    if terminal.json {
        return Ok(());
    }
    if let Some((message, _)) = own_shell::shut_out(brief)? {
        terminal.warning(&format!("in force, {message}"));
    }
    if !is_recorded(&common.run_dir) {
        terminal.warning(
            "nobody writes down who would be denied: `tipstaff keep` does, and `tipstaff \
             install-boot` installs it; until then only packets by rule are counted",
        );
    }
    Ok(())
}

/// Ends what would not be let in again, and tells.
fn end_stranded(brief: &Brief, terminal: &Terminal) -> Result<(), Failure> {
    let stranded = stranded::stranded(brief)?;
    let ended = stranded::end(&stranded)?;
    if !terminal.json {
        for stranded in &stranded {
            terminal.line(format!("  ended: {}", stranded.describe(brief)));
        }
        terminal.line(format!("  {} ended", counted(ended, "connection", "connections")));
    }
    Ok(())
}

/// Asks whether the trial is to stay, as long as it runs. Where nobody
/// answers, because there is nobody any more, the kernel answers.
fn ask(
    common: &Common,
    gate: &mut KernelGate,
    cut: Option<&Brief>,
    terminal: &Terminal,
) -> Result<Ending, Failure> {
    let input = std::io::stdin();
    while let Some(pending) = gate.pending()? {
        terminal.waiting(&format!("keep? [y/N] {:>12}", spoken(pending.left)));
        let mut waiting = [PollFd::new(input.as_fd(), PollFlags::POLLIN)];
        match poll(&mut waiting, PollTimeout::from(1_000u16)) {
            Ok(0) | Err(nix::errno::Errno::EINTR) => continue,
            Ok(_) => {}
            Err(e) => return Err(system("waiting for an answer")(e.into())),
        }
        let mut answer = String::new();
        let length = input.read_line(&mut answer).map_err(system("reading an answer"))?;
        if length == 0 {
            terminal.line("no answer can come any more; the kernel rolls back when the time is up");
            return Ok(Ending::Fine);
        }
        if matches!(answer.trim(), "y" | "yes") {
            confirming::keep(common, gate, terminal)?;
            if let Some(brief) = cut {
                end_stranded(brief, terminal)?;
            }
        } else {
            confirming::told_reverted(gate.revert()?.as_ref(), terminal);
        }
        return Ok(Ending::Fine);
    }
    Err(GateError::TrialOver.into())
}

fn absolute(path: &Path) -> String {
    std::path::absolute(path).as_deref().unwrap_or(path).display().to_string()
}

/// What is kept with the revision; `path`: where the orders were read.
fn record(judge: &LoadedPolicy, path: Option<String>) -> Record {
    Record {
        orders: judge.text.clone(),
        path,
        posted_at: jiff::Timestamp::now().as_second(),
        posted_by: history::account(),
        host: judge.host.clone(),
        posture: judge.posture.clone(),
        attachments: judge.attachments.clone(),
    }
}

/// What is odd about rules here, and about the programs that they name.
pub fn all_remarks(brief: &Brief) -> Vec<Remark> {
    let mut all = remarks(brief, chosen::now());
    all.extend(program_remarks(brief, &executables::notes(brief)));
    all
}

/// Prints what is in force now, or would be.
pub fn show(judge: &LoadedPolicy, posted: Option<&Posted>, kept: &Kept, terminal: &Terminal) {
    let brief = &judge.brief;
    let paused = brief.rules.iter().filter(|r| r.inactive == Some(Inactive::Paused)).count();
    let elsewhere = brief.rules.iter().filter(|r| r.inactive == Some(Inactive::OtherHost)).count();
    if terminal.json {
        terminal.json(&Report {
            in_force: posted.is_some() && !matches!(kept.how, Put::Rehearsed(_)),
            changed: !kept.same,
            orders: judge.origin.clone(),
            rules: brief.rules.len(),
            paused,
            standing: brief.standing,
            guarded: posted.map(|p| p.guarded.clone()).unwrap_or_default(),
            vanished: posted.map(|p| p.vanished.clone()).unwrap_or_default(),
            replaced: posted.is_some_and(|p| p.replaced),
            revision: kept.revision,
            trial_seconds: match kept.how {
                Put::OnTrial(time) => Some(time.as_secs()),
                Put::InForce | Put::Rehearsed(_) => None,
            },
            rehearsed: matches!(kept.how, Put::Rehearsed(_)),
            rehearsal_seconds: match kept.how {
                Put::Rehearsed(time) => time.map(|time| time.as_secs()),
                Put::InForce | Put::OnTrial(_) => None,
            },
            changes: kept.meaning.as_ref().map_or(Vec::new(), |m| m.comparison.changes.clone()),
            changes_in_words: kept
                .meaning
                .as_ref()
                .map_or(Vec::new(), |m| comparison::in_words(&m.comparison)),
            changes_cut_off: kept.meaning.as_ref().is_some_and(|m| m.comparison.cut_off),
            address_assignment: kept.meaning.as_ref().and_then(|m| m.comparison.address_assignment),
            closed: kept.meaning.as_ref().map_or(Vec::new(), |m| m.closed.clone()),
            against: kept.meaning.as_ref().map(|m| m.before.name()),
            stranded: kept
                .meaning
                .iter()
                .flat_map(|m| m.stranded.iter().map(|s| s.connection.clone()))
                .collect(),
            remarks: all_remarks(brief),
            limits: kept.limits.clone(),
        });
        return;
    }
    terminal.heading(match (posted, kept.how) {
        (Some(_), Put::OnTrial(_)) => "in force, on trial",
        (Some(_), Put::Rehearsed(_)) => "rehearsed: they decide and count, and stop nothing",
        (Some(_), _) if kept.same => "in force; the same orders were before",
        (Some(posted), _) if posted.replaced => "in force, replacing the previous orders",
        (Some(_), _) => "in force",
        (None, _) if kept.same => "checked; the same orders are in force",
        (None, _) => "checked; nothing was put in force",
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
    terminal.line(format!("  {}", orders_words(&judge.origin)));
    if let Some(files) = judge.files() {
        terminal.line(format!("  {files}"));
    }
    terminal.line(format!(
        "  {rules}{paused}; then inbound {}, transit {}, outbound {}",
        standing.inbound, standing.transit, standing.outbound
    ));
    for Remark { rule, message } in all_remarks(brief) {
        terminal.attention(&format!("  note on {rule}: {message}"));
    }
    if let Some(meaning) = &kept.meaning {
        show_meaning(judge, meaning, terminal);
    }
    if let Some(posted) = posted {
        terminal.line(format!("  guarded: {}", posted.guarded.join(", ")));
        if !posted.vanished.is_empty() {
            terminal.attention(&format!("  gone meanwhile: {}", posted.vanished.join(", ")));
        }
        for limit in &kept.limits {
            terminal.attention(&format!("  limit: {limit}"));
        }
        show_term(posted, kept.how, terminal);
    }
}

/// How long it holds.
fn show_term(posted: &Posted, how: Put, terminal: &Terminal) {
    match how {
        Put::Rehearsed(time) => {
            let until = time.map_or_else(
                || "until `tipstaff rehearse end`, a post or a restart".into(),
                |time| format!("for {}", spoken(time)),
            );
            terminal.line(format!("  {until}; `tipstaff rehearse report` tells more"));
            return;
        }
        Put::InForce | Put::OnTrial(_) => {
            terminal.note("  open connections continue; only new ones are filtered");
        }
    }
    if let Put::OnTrial(time) = how {
        let to = if posted.replaced { "the previous orders" } else { "nothing in force" };
        terminal.line(format!(
            "  rolls back in {}, to {to}, unless you run `tipstaff confirm`",
            spoken(time)
        ));
    }
}
