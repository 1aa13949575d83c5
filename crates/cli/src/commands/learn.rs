//! `learn`: what was denied and no rule covers, a question each; nothing is written before
//! the end.

use std::collections::BTreeSet;
use std::io::{IsTerminal, stdin};
use std::os::fd::AsFd;

use jiff::{Span, Timestamp};
use nix::poll::{PollFd, PollFlags, PollTimeout, poll};
use nix::sys::signal::{SigSet, Signal};
use nix::sys::signalfd::{SfdFlags, SignalFd};
use rustix::termios::{
    InputModes, LocalModes, OptionalActions, SpecialCodeIndex, Termios, tcgetattr, tcsetattr,
};
use schemars::JsonSchema;
use serde::Serialize;
use tipstaff_core::analysis::compare::{Change, Comparison};
use tipstaff_core::analysis::log::LogFilter;
use tipstaff_core::analysis::proposal::Proposal;
use tipstaff_core::analysis::questions::{Choice, Question, questions};
use tipstaff_core::orders::edit::{Edit, NewRule, edit_all};
use tipstaff_core::orders::{Action, Origin};
use tipstaff_core::packet::Direction;

use crate::acts::decisions::{Counts, logged, moment, no_log};
use crate::acts::{comparison, requests, when};
use crate::arguments::{Answer, Common, LearnOptions};
use crate::chosen::{self, LoadedPolicy};
use crate::ending::Ending;
use crate::failure::{Failure, system};
use crate::shape::shape;
use crate::store::Held;
use crate::terminal::{Terminal, counted};

/// So many days of the log are looked at where nobody says how many.
const DAYS: i64 = 7;

#[derive(JsonSchema, Serialize)]
pub struct Report<'r> {
    orders: &'r Origin,
    /// The log was looked at up to this moment: given back as `--until`, the questions have the
    /// same names.
    until: String,
    questions: Vec<Asked>,
    /// What the answers change.
    changes: Vec<Change>,
    /// Whether the file was changed.
    written: bool,
    #[serde(flatten)]
    counts: Counts,
}

shape!(Report<'_> => "learn");

#[derive(JsonSchema, Serialize)]
struct Asked {
    #[serde(flatten)]
    proposal: Proposal,
    /// What can be answered: `--answer NAME=CHOICE`.
    choices: Vec<Offered>,
    /// What was answered; null: it is left.
    answer: Option<Choice>,
}

#[derive(JsonSchema, Serialize)]
struct Offered {
    choice: Choice,
    meaning: String,
}

pub fn run(
    common: &Common,
    options: &LearnOptions,
    terminal: &Terminal,
) -> Result<Ending, Failure> {
    let judge = chosen::from_file(common)?;
    let now = Timestamp::now();
    let until = match &options.until {
        Some(text) => when::read(text, now)?,
        None => moment(now),
    };
    let since = match &options.since {
        Some(text) => when::read(text, now)?,
        None => moment(now.checked_sub(Span::new().hours(24 * DAYS)).unwrap_or_default()),
    };
    let filter = LogFilter {
        since: Some(since),
        until: Some(until.clone()),
        rehearsed: Some(options.from_rehearsal),
        ..LogFilter::default()
    };
    let (evidence, counts) = requests::of_log(common, &filter, |entry| {
        entry.verdict != Action::Allow && entry.a_rule_could_let_it_in()
    })?;
    if logged(common)?.is_empty() {
        terminal.warning(&no_log(common));
    }
    let mut all = questions(evidence, &judge.brief, chosen::now());
    if !options.every_source {
        // Whom no program here takes is a stranger to everybody.
        all.retain(|q| q.proposal.direction != Direction::Inbound || q.proposal.program.is_some());
    }
    let asks = options.answers.is_empty() && !terminal.json && stdin().is_terminal();
    let answers = match asks {
        true => asked(&all, terminal)?,
        false => given(&all, &options.answers)?,
    };
    let rules = all.iter().zip(&answers).filter_map(|(q, answer)| q.rule((*answer)?));
    let rules = with_new_names(&judge, rules.collect());
    let how = How { asks, only_shows: options.check };
    let (changes, written) = match rules.is_empty() {
        // Who only looks need not be allowed to write.
        true => (Comparison::default(), false),
        false => write(common, &judge, rules, how, terminal)?,
    };
    if terminal.json {
        let questions = all.iter().zip(answers).map(|(question, answer)| Asked {
            proposal: question.proposal.clone(),
            choices: offered(question),
            answer,
        });
        let questions = questions.collect();
        let (orders, changes) = (&judge.origin, changes.changes);
        terminal.json(&Report { orders, until, questions, changes, written, counts });
        return Ok(Ending::Fine);
    }
    if !asks {
        list(&all, &answers, terminal);
    }
    match (written, all.is_empty()) {
        (true, _) => terminal.note("Saved. Run `tipstaff post` to put it in force."),
        (false, true) => {
            terminal.line("Nothing to decide: rules cover everything that was denied.")
        }
        (false, false) => terminal.note("nothing was written"),
    }
    counts.tell(terminal);
    Ok(Ending::Fine)
}

/// Whether questions are asked at a terminal, and whether anything is to be written.
#[derive(Clone, Copy)]
struct How {
    asks: bool,
    only_shows: bool,
}

/// Adds the rules to the file, where that is wanted. What changes, and whether it was written.
fn write(
    common: &Common,
    judge: &LoadedPolicy,
    rules: Vec<NewRule>,
    how: How,
    terminal: &Terminal,
) -> Result<(Comparison, bool), Failure> {
    let path = common.orders_path();
    let held = Held::open(path)?;
    let added = rules.into_iter().map(|rule| Edit::Add(rule, None)).collect();
    let texts = match edit_all(held.sheets(), added) {
        Ok(edited) => edited.texts,
        Err(fault) => return Err(held.not_edited(path, fault)),
    };
    let changes = comparison::of_edit(judge, &texts)?;
    if how.asks {
        terminal.heading("what that changes");
        comparison::show(&changes, "  ", terminal);
    }
    let writes =
        !how.only_shows && (!how.asks || terminal.ask(&format!("Write it to {}?", path.display())));
    if writes {
        held.replace_all(&texts)?;
    }
    Ok((changes, writes))
}

fn offered(question: &Question) -> Vec<Offered> {
    let offered = Choice::ALL.into_iter().filter(|choice| question.rule(*choice).is_some());
    offered.map(|choice| Offered { choice, meaning: question.words(choice) }).collect()
}

/// The questions, for who is not at a terminal.
fn list(all: &[Question], answers: &[Option<Choice>], terminal: &Terminal) {
    for (question, answer) in all.iter().zip(answers) {
        let name = &question.proposal.name;
        terminal.heading(&format!("{name}: {}", what(&question.proposal)));
        match answer {
            Some(choice) => terminal.line(format!("  {}", question.words(*choice))),
            None => {
                for Offered { choice, meaning } in offered(question) {
                    terminal.line(format!("  --answer {name}={}   {meaning}", choice.name()));
                }
            }
        }
    }
}

/// What was asked for, how often.
fn what(proposal: &Proposal) -> String {
    let Proposal { traffic, direction, .. } = proposal;
    format!("{} {direction}, {}", traffic.join(", "), proposal.evidence())
}

/// The answers of the command line, in the order of the questions.
fn given(all: &[Question], answers: &[Answer]) -> Result<Vec<Option<Choice>>, Failure> {
    let mut given = vec![None; all.len()];
    for Answer { name, choice } in answers {
        let at = all.iter().position(|question| question.proposal.name == *name);
        let Some((at, question)) = at.and_then(|at| Some((at, all.get(at)?))) else {
            let names: Vec<&str> = all.iter().map(|q| q.proposal.name.as_str()).collect();
            return Err(Failure::Argument {
                message: format!("there is no question `{name}`"),
                help: match names.as_slice() {
                    [] => "Rules cover everything that was denied in that time.".into(),
                    names => format!("There are {}.", names.join(", ")),
                },
            });
        };
        if let Some(choice) = choice.filter(|choice| question.rule(*choice).is_none()) {
            let offered: Vec<&str> = offered(question).iter().map(|o| o.choice.name()).collect();
            return Err(Failure::Argument {
                message: format!("{name} cannot be answered by `{}`", choice.name()),
                help: format!("It can by {}.", offered.join(", ")),
            });
        }
        given[at] = *choice;
    }
    Ok(given)
}

/// The rules, under names that no rule of the orders has.
fn with_new_names(judge: &LoadedPolicy, mut rules: Vec<NewRule>) -> Vec<NewRule> {
    let mut taken: BTreeSet<String> =
        judge.orders.rules().map(|rule| rule.name.to_string()).collect();
    for name in rules.iter_mut().filter_map(|rule| rule.name.as_mut()) {
        let plain = name.clone();
        let mut n = 1;
        while !taken.insert(name.clone()) {
            n += 1;
            *name = format!("{plain}-{n}");
        }
    }
    rules
}

/// Asks one by one, a key each.
fn asked(all: &[Question], terminal: &Terminal) -> Result<Vec<Option<Choice>>, Failure> {
    let mut answers = vec![None; all.len()];
    if all.is_empty() {
        return Ok(answers);
    }
    let keys = Keys::new()?;
    let n = counted(all.len(), "request", "requests");
    terminal.heading(&format!("{n} that no rule covers"));
    let mut at = 0;
    while let Some(question) = all.get(at) {
        let offered = offered(question);
        terminal.heading(&format!("{} of {}: {}", at + 1, all.len(), what(&question.proposal)));
        let Proposal { program, direction, .. } = &question.proposal;
        match (program, direction) {
            (Some(program), Direction::Outbound) => terminal.line(format!("  sent by {program}")),
            (Some(program), _) => terminal.line(format!("  {program} listens there")),
            (None, _) => terminal.note("  nobody is known to listen there"),
        }
        for Offered { choice, meaning } in &offered {
            let key = choice.name().chars().next().unwrap_or_default();
            terminal.line(format!("  {key}  {meaning}"));
        }
        terminal.note("  l  leave it    b  back    q  no more questions");
        loop {
            let key = keys.next()?;
            let chosen =
                offered.iter().find(|o| key.is_some_and(|k| o.choice.name().starts_with(k)));
            match (chosen, key) {
                (Some(Offered { choice, meaning }), _) => {
                    terminal.line(format!("  → {meaning}"));
                    answers[at] = Some(*choice);
                    at += 1;
                }
                (None, Some('l')) => {
                    terminal.line("  → left");
                    answers[at] = None;
                    at += 1;
                }
                (None, Some('b')) => at = at.saturating_sub(1),
                // Ctrl-C and Ctrl-D too: what was answered is shown, and asked for once more.
                (None, None | Some('q' | '\u{3}' | '\u{4}')) => return Ok(answers),
                (None, Some(_)) => continue,
            }
            break;
        }
    }
    Ok(answers)
}

/// Keys, one at a time, also those that are pressed while a question is written: in between,
/// the terminal would take Ctrl-C and Ctrl-D for itself. It is as before when this goes.
struct Keys {
    signals: SignalFd,
    before: Termios,
}

impl Keys {
    fn new() -> Result<Self, Failure> {
        let signals = SigSet::from_iter([Signal::SIGTERM, Signal::SIGINT, Signal::SIGHUP]);
        signals.thread_block().map_err(|e| system("waiting for signals")(e.into()))?;
        let signals = SignalFd::with_flags(&signals, SfdFlags::SFD_CLOEXEC);
        let signals = signals.map_err(|e| system("waiting for signals")(e.into()))?;
        let before = tcgetattr(stdin()).map_err(|e| system("waiting for a key")(e.into()))?;
        // Not raw: lines are still written as lines.
        let mut keys = before.clone();
        keys.local_modes -= LocalModes::ICANON | LocalModes::ECHO | LocalModes::ISIG;
        keys.input_modes -= InputModes::IXON;
        keys.special_codes[SpecialCodeIndex::VMIN] = 1;
        keys.special_codes[SpecialCodeIndex::VTIME] = 0;
        tcsetattr(stdin(), OptionalActions::Now, &keys)
            .map_err(|e| system("waiting for a key")(e.into()))?;
        Ok(Self { signals, before })
    }

    /// The next one; `None`: a signal came, or the terminal is gone.
    fn next(&self) -> Result<Option<char>, Failure> {
        let input = stdin();
        let mut all = [
            PollFd::new(input.as_fd(), PollFlags::POLLIN),
            PollFd::new(self.signals.as_fd(), PollFlags::POLLIN),
        ];
        poll(&mut all, PollTimeout::NONE).map_err(|e| system("waiting for a key")(e.into()))?;
        if all[1].any().unwrap_or(false) {
            return Ok(None);
        }
        let mut byte = [0];
        // Not through the buffer of `stdin`: what is in that no poll sees.
        let read = nix::unistd::read(input.as_fd(), &mut byte);
        let read = read.map_err(|e| system("waiting for a key")(e.into()))?;
        Ok((read > 0).then_some(byte[0] as char))
    }
}

impl Drop for Keys {
    fn drop(&mut self) {
        let _ = tcsetattr(stdin(), OptionalActions::Now, &self.before);
    }
}
