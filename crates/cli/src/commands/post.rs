//! `post`: check the orders, show what they mean, put them in force at once.

use std::io::IsTerminal;
use std::os::fd::AsFd;
use std::time::Duration;

use nix::poll::{PollFd, PollFlags, PollTimeout, poll};
use schemars::JsonSchema;
use serde::Serialize;
use tipstaff_core::analysis::compare::{Change, Comparison};
use tipstaff_core::analysis::exposure::{Breadth, Exposure};
use tipstaff_core::analysis::remarks::{Remark, program_remarks, remarks};
use tipstaff_core::brief::Brief;
use tipstaff_core::host::connection::Connection;
use tipstaff_core::host::listener::{Listener, Scope};
use tipstaff_core::orders::Inactive;
use tipstaff_core::tables::Tables;
use tipstaff_gate::kernel::{KernelGate, Shortfall, check_support, executables, shortfalls};
use tipstaff_gate::lock::PATIENCE;
use tipstaff_gate::{Gate, GateError, InForce, Posted, Posting, Record, enforceable};
use tipstaff_host::{interfaces, listeners};

use crate::acts::stranded::{self, Stranded};
use crate::acts::{boot_trouble, comparison, confirming, shell as own_shell};
use crate::arguments::{Common, PostOptions};
use crate::chosen::{self, LoadedPolicy, Visible};
use crate::ending::Ending;
use crate::failure::{Failure, system};
use crate::history::{self, History};
use crate::shape::shape;
use crate::terminal::orders_words;
use crate::terminal::{Terminal, counted, spoken};
use tipstaff_core::orders::Origin;

#[derive(JsonSchema, Serialize)]
pub struct Report {
    in_force: bool,
    orders: Origin,
    rules: usize,
    paused: usize,
    standing: tipstaff_core::orders::Standing,
    guarded: Vec<String>,
    vanished: Vec<String>,
    replaced: bool,
    revision: Option<u32>,
    trial_seconds: Option<u64>,
    changes: Vec<Change>,
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
    let judge = match options.revision {
        Some(number) => chosen::of_revision(common, &history.get(number)?)?,
        None => chosen::from_file(common)?,
    };
    enforceable::check(&judge.brief).map_err(GateError::from)?;
    Tables::build(&judge.brief).map_err(GateError::from)?;
    if options.check {
        let (in_force, visible) = chosen::in_force(common)?;
        let meaning = Some(meaning(in_force.as_ref(), visible, &judge, terminal)?);
        show(&judge, None, &Kept { meaning, ..Kept::default() }, terminal);
        return Ok(Ending::Fine);
    }
    check_support()?;
    if let Some(distrust) = &judge.distrust {
        return Err(distrust.clone().into());
    }
    let all = interfaces::list().map_err(system("reading the interfaces"))?;
    let record = record(&judge, common);
    let mut gate = KernelGate::new(&common.run_dir)?;
    let in_force = match gate.in_force() {
        // What another version put up holds until this post takes its place.
        Err(GateError::OtherVersion | GateError::UnreadableRecord(_)) => None,
        in_force => in_force?,
    };
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
    let kept = Kept { revision: Some(prepared.done()?), trial: options.trial, meaning, limits };
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
    /// For so long only, unless it is confirmed.
    pub trial: Option<Duration>,
    /// What it changes, where something was in force before.
    pub meaning: Option<PolicyDiff>,
    /// What the gate cannot promise on this machine.
    pub limits: Vec<Shortfall>,
}

/// What a post changes.
pub struct PolicyDiff {
    /// Against what.
    before: Before,
    /// Which traffic gets another answer.
    comparison: Comparison,
    /// The connections of this moment that would not be let in again.
    stranded: Vec<Stranded>,
    /// What listens where others could come, and nobody may any more.
    closed: Vec<String>,
}

/// What holds before a post.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Before {
    /// Other orders, or the same.
    Orders,
    /// Orders that cannot be read any more.
    Unreadable,
    /// Everything passes.
    Nothing,
    /// Only root may know; compared with everything passing.
    NotVisible,
}

impl Before {
    fn name(self) -> &'static str {
        match self {
            Self::Orders => "orders",
            Self::Unreadable => "unreadable",
            Self::Nothing => "nothing",
            Self::NotVisible => "not-visible",
        }
    }
}

impl PolicyDiff {
    /// What another list changes, for nobody who is connected.
    pub fn between(before: &Brief, after: &Brief) -> Self {
        Self {
            before: Before::Orders,
            comparison: Comparison::between(before, after),
            stranded: Vec::new(),
            closed: Vec::new(),
        }
    }
}

/// What the orders change: against those in force, and for who is connected.
fn meaning(
    in_force: Option<&InForce>,
    visible: Visible,
    judge: &LoadedPolicy,
    terminal: &Terminal,
) -> Result<PolicyDiff, Failure> {
    let stranded = stranded::stranded(&judge.brief)?;
    let open = || judge.brief.nothing_in_force();
    let (before, list) = match (in_force.map(chosen::from_force), visible) {
        (Some(Ok(before)), _) => (Before::Orders, Some(before.brief)),
        // Orders of another version cannot be compared; that stops nobody.
        (Some(Err(e)), _) => {
            terminal.note(&format!("the orders in force cannot be compared: {e}"));
            (Before::Unreadable, None)
        }
        (None, Visible::OnlyToRoot) => (Before::NotVisible, Some(open())),
        (None, Visible::Yes) => (Before::Nothing, Some(open())),
    };
    let comparison = list.map(|list| Comparison::between(&list, &judge.brief)).unwrap_or_default();
    let closed = match before {
        Before::Nothing | Before::NotVisible => closed(&judge.brief)?,
        Before::Orders | Before::Unreadable => Vec::new(),
    };
    Ok(PolicyDiff { before, comparison, stranded, closed })
}

/// What listens where others could come, and nobody may come to by a list.
fn closed(brief: &Brief) -> Result<Vec<String>, Failure> {
    let all = interfaces::list().map_err(system("reading the interfaces"))?;
    let found = listeners::list(&all).map_err(system("reading what listens"))?;
    fn words(listener: &Listener) -> String {
        let who = listener.program().map_or(listener.owner.account.as_str(), |p| p.name.as_str());
        format!("{}/{} ({who})", listener.transport, listener.port)
    }
    let mut words: Vec<String> = found
        .listeners
        .iter()
        .filter(|listener| {
            let program = listener.path().map(|path| brief.program_index(path));
            let key = listener.transport.key(listener.port);
            let exposure = Exposure::compute(brief, key, program).heard_by(listener);
            listener.scope() != Scope::Loopback && exposure.breadth() == Breadth::Nobody
        })
        .map(words)
        .collect();
    words.dedup();
    Ok(words)
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

/// The part of the report about what changes.
fn show_meaning(judge: &LoadedPolicy, meaning: &PolicyDiff, terminal: &Terminal) {
    let heading = match meaning.before {
        Before::Orders => Some("what changes:"),
        Before::Nothing => Some("what changes, compared with no gate:"),
        Before::NotVisible => {
            Some("what it means, compared with no gate (only root can see what is in force):")
        }
        Before::Unreadable => None,
    };
    if let Some(heading) = heading {
        terminal.line(format!("  {heading}"));
        comparison::show(&meaning.comparison, "    ", terminal);
    }
    if !meaning.closed.is_empty() {
        let (shown, rest) = meaning.closed.split_at(meaning.closed.len().min(STRANDED_SHOWN));
        let more = match rest.len() {
            0 => String::new(),
            more => format!(" and {more} more"),
        };
        terminal.line(format!("  no longer reachable by anybody: {}{more}", shown.join(", ")));
    }
    let stranded = &meaning.stranded;
    if !stranded.is_empty() {
        let open = counted(stranded.len(), "open connection", "open connections");
        terminal.line(format!("  {open} would no longer be let in (`tipstaff cut` ends them):"));
        for stranded in stranded.iter().take(STRANDED_SHOWN) {
            terminal.line(format!("    {}", stranded.describe(&judge.brief)));
        }
        if stranded.len() > STRANDED_SHOWN {
            terminal.line(format!("    … and {} more", stranded.len() - STRANDED_SHOWN));
        }
    }
}

/// So many connections are named.
const STRANDED_SHOWN: usize = 8;

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

/// What is kept with the revision.
fn record(judge: &LoadedPolicy, common: &Common) -> Record {
    let path = std::path::absolute(common.orders_path());
    let path = path.as_deref().unwrap_or(common.orders_path());
    Record {
        orders: judge.text.clone(),
        path: path.display().to_string(),
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
            in_force: posted.is_some(),
            orders: judge.origin.clone(),
            rules: brief.rules.len(),
            paused,
            standing: brief.standing,
            guarded: posted.map(|p| p.guarded.clone()).unwrap_or_default(),
            vanished: posted.map(|p| p.vanished.clone()).unwrap_or_default(),
            replaced: posted.is_some_and(|p| p.replaced),
            revision: kept.revision,
            trial_seconds: kept.trial.map(|time| time.as_secs()),
            changes: kept.meaning.as_ref().map_or(Vec::new(), |m| m.comparison.changes.clone()),
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
    terminal.heading(match posted {
        Some(_) if kept.trial.is_some() => "in force, on trial",
        Some(posted) if posted.replaced => "in force, replacing the previous orders",
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
    terminal.line(format!("  {}", orders_words(&judge.origin)));
    if let Some(files) = judge.files() {
        terminal.line(format!("  {files}"));
    }
    terminal.line(format!(
        "  {rules}{paused}; then inbound {}, transit {}, outbound {}",
        standing.inbound, standing.transit, standing.outbound
    ));
    for Remark { rule, message } in all_remarks(brief) {
        terminal.line(format!("  note on {rule}: {message}"));
    }
    if let Some(meaning) = &kept.meaning {
        show_meaning(judge, meaning, terminal);
    }
    if let Some(posted) = posted {
        terminal.line(format!("  guarded: {}", posted.guarded.join(", ")));
        if !posted.vanished.is_empty() {
            terminal.line(format!("  gone meanwhile: {}", posted.vanished.join(", ")));
        }
        for limit in &kept.limits {
            terminal.line(format!("  limit: {limit}"));
        }
        terminal.note("  open connections continue; only new ones are filtered");
        if let Some(time) = kept.trial {
            let to = match posted.replaced {
                true => "the previous orders",
                false => "nothing in force",
            };
            terminal.line(format!(
                "  rolls back in {}, to {to}, unless you run `tipstaff confirm`",
                spoken(time)
            ));
        }
    }
}
