//! `reach`: which ports are truly reachable, from where, and why that differs
//! from the orders.

use std::collections::BTreeSet;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::time::Duration;

use serde::Serialize;
use tipstaff_core::brief::Brief;
use tipstaff_core::decide::{Decision, decide};
use tipstaff_core::listener::{Listener, Scope};
use tipstaff_core::orders::Action;
use tipstaff_core::packet::{Direction, Facts, InterfaceIndex};
use tipstaff_core::reach::{
    Cell, How, Observed, Outcome, Subject, Vantage, cell, first_packet, let_in, program_at,
    speaker_words, subjects,
};
use tipstaff_gate::GateError;
use tipstaff_gate::kernel::{Asked, KernelGate};
use tipstaff_host::snapshot::Snapshot;
use tipstaff_knock::Reply;
use tipstaff_knock::sockets::{self, Door};
use tipstaff_knock::witness::{self, Approach, Witness, WitnessFault, knockable};

use crate::Ending;
use crate::arguments::{Common, ReachOptions};
use crate::chosen::{self, Chosen, Origin, Visible};
use crate::failure::{Failure, system};
use crate::terminal::{Columns, Terminal, counted, faint, loud, outcome, plain};

/// Knocking on oneself costs nothing, so the patience may be longer.
const LEAST_PATIENCE_HERE: Duration = Duration::from_millis(300);

/// A finished check.
#[derive(Serialize)]
pub struct Report<'r> {
    host: &'r str,
    orders: &'r Origin,
    gate: &'static str,
    vantages: Vec<Vantage>,
    rows: Vec<Row>,
    differences: usize,
    notes: Vec<String>,
}

/// One port and its cells, a cell a vantage.
#[derive(Serialize)]
pub struct Row {
    subject: Subject,
    programs: Vec<String>,
    cells: Vec<Cell>,
}

pub fn run(
    common: &Common,
    options: &ReachOptions,
    terminal: &Terminal,
) -> Result<Ending, Failure> {
    if !options.vantages.is_empty() && !nix::unistd::geteuid().is_root() {
        return Err(GateError::NotRoot.into());
    }
    let snapshot = Snapshot::live().map_err(system("reading what listens"))?;
    let (in_force, visible) = chosen::in_force(common)?;
    let Some(judge) = chosen::choose(common, in_force.as_ref())? else {
        return Err(Failure::NoOrders(common.orders_path().to_owned()));
    };
    let patience = Duration::from_millis(options.patience);
    let mut check = Check::new(&judge, &snapshot);
    let doors = check.here_doors();
    let knocks: Vec<Door> = doors.iter().map(|(_, door)| *door).collect();
    check.here(&doors, &sockets::knock(&knocks, patience.max(LEAST_PATIENCE_HERE)));
    let kernel = KernelGate::new(&common.run_dir)?;
    let in_force_brief = match &in_force {
        Some(in_force) => Some(chosen::from_force(in_force)?.brief),
        None => None,
    };
    for source in options.vantages.iter().copied().collect::<BTreeSet<_>>() {
        check.look_as(source, in_force_brief.as_ref().map(|brief| (&kernel, brief)), patience)?;
    }
    let gate = match (visible, &in_force) {
        (Visible::OnlyToRoot, _) => "unknown",
        (_, Some(_)) => "up",
        (_, None) => "down",
    };
    Ok(check.show(gate, terminal))
}

/// What the gate said of a door, and who spoke there, in words.
type Said = (Decision, String);

/// Asks the loaded gate about every door by test run.
fn ask(
    gate: &KernelGate,
    brief: &Brief,
    approach: &Approach,
    doors: &[(Subject, IpAddr)],
) -> Result<Vec<Said>, GateError> {
    let index = InterfaceIndex(approach.interface.index);
    let question = |(subject, target): &(Subject, IpAddr)| Asked {
        interface: index,
        program: None,
        frame: witness::question(approach, *subject, *target),
    };
    let questions: Vec<Asked> = doors.iter().map(question).collect();
    let decisions = gate.ask_all(Direction::Inbound, &questions)?;
    Ok(decisions.into_iter().map(|d| (d, speaker_words(brief, d.speaker))).collect())
}

/// A check in the making: vantage after vantage adds a column.
pub struct Check<'c> {
    judge: &'c Chosen,
    snapshot: &'c Snapshot,
    subjects: Vec<Subject>,
    vantages: Vec<Vantage>,
    columns: Vec<Vec<Cell>>,
    /// What is said once, below the table.
    pub notes: Vec<String>,
}

impl<'c> Check<'c> {
    /// Nothing looked at yet.
    pub fn new(judge: &'c Chosen, snapshot: &'c Snapshot) -> Self {
        let subjects = subjects(&judge.brief, &snapshot.listeners).into_iter().collect();
        let (vantages, columns, notes) = (Vec::new(), Vec::new(), Vec::new());
        Self { judge, snapshot, subjects, vantages, columns, notes }
    }

    /// What this host knocks on by itself: loopback of both families and the
    /// own addresses that something is bound to.
    pub fn here_doors(&self) -> Vec<(Subject, Door)> {
        let mut doors = Vec::new();
        for subject in &self.subjects {
            let Subject::Port(transport, port) = *subject else { continue };
            for target in self.own_targets(*subject) {
                let to = SocketAddr::new(target, port);
                doors.push((*subject, Door { transport, to, from: None, local: true }));
            }
        }
        doors
    }

    /// Adds the column of this host itself, from the replies to
    /// [`Check::here_doors`].
    pub fn here(&mut self, doors: &[(Subject, Door)], replies: &[Reply]) {
        let mut column = Vec::new();
        for subject in &self.subjects {
            // The best of all own addresses: a port that answers on one of them answers here.
            let mine = doors.iter().zip(replies).filter(|((s, _), _)| s == subject);
            let best = mine.min_by_key(|(_, reply)| match reply.outcome() {
                Outcome::Answers => 0,
                Outcome::Refuses => 1,
                Outcome::Silent => 2,
                Outcome::Unknown => 3,
            });
            let observed = match best {
                Some(((_, door), reply)) => Observed {
                    outcome: reply.outcome(),
                    how: How::Wire,
                    target: Some(door.to.ip()),
                    evidence: Some(reply.to_string()),
                },
                // An echo to oneself is the kernel's own answer.
                None => Observed {
                    outcome: Outcome::Answers,
                    how: How::Orders,
                    target: None,
                    evidence: Some("the kernel answers itself over loopback".into()),
                },
            };
            column.push(self.cell(
                *subject,
                Vantage::Here,
                observed,
                InterfaceIndex::LOOPBACK,
                None,
            ));
        }
        self.vantages.push(Vantage::Here);
        self.columns.push(column);
    }

    /// Adds the column of an outside source that the witness plays. `gate`: the
    /// one in force, with its list.
    pub fn look_as(
        &mut self,
        source: IpAddr,
        gate: Option<(&KernelGate, &Brief)>,
        patience: Duration,
    ) -> Result<(), Failure> {
        let approach = witness::approach(source, &self.snapshot.interfaces)?;
        let doors = self.doors(&approach);
        let asked = gate.map(|(gate, brief)| ask(gate, brief, &approach, &doors)).transpose()?;
        let replies = match Witness::open(approach.clone()) {
            Ok(mut witness) => {
                let knocked: Vec<(Subject, IpAddr)> =
                    doors.iter().copied().filter(|(subject, _)| knockable(*subject)).collect();
                let replies =
                    witness.knock(&knocked, patience).map_err(system("knocking as the witness"))?;
                knocked.into_iter().map(|(subject, _)| subject).zip(replies).collect()
            }
            Err(fault @ WitnessFault::NoNextHop { .. }) => {
                self.notes.push(format!("{fault}; known by the gate, not by the wire"));
                Vec::new()
            }
            Err(fault) => return Err(fault.into()),
        };
        self.outside(&approach, &doors, &replies, asked.as_deref());
        Ok(())
    }

    fn own_targets(&self, subject: Subject) -> BTreeSet<IpAddr> {
        let mut targets: BTreeSet<IpAddr> =
            [Ipv4Addr::LOCALHOST.into(), Ipv6Addr::LOCALHOST.into()].into();
        let bound = self
            .snapshot
            .listeners
            .iter()
            .filter(|l| Subject::Port(l.transport, l.port) == subject);
        targets.extend(bound.filter(|l| l.scope() == Scope::One).map(|l| l.address));
        targets
    }

    /// What an outside source knocks on: each subject at the address of the
    /// approach, or at the one that its listener is bound to.
    pub fn doors(&self, approach: &Approach) -> Vec<(Subject, IpAddr)> {
        let own: Vec<IpAddr> = approach.interface.addresses_of(approach.source.is_ipv6()).collect();
        let target_of = |subject: Subject| {
            let bound = |l: &&Listener| Subject::Port(l.transport, l.port) == subject;
            let listeners = || self.snapshot.listeners.iter().filter(bound);
            if listeners().any(|l| l.takes(approach.target)) {
                return approach.target;
            }
            let elsewhere = listeners().map(|l| l.address).find(|address| own.contains(address));
            elsewhere.unwrap_or(approach.target)
        };
        self.subjects.iter().map(|subject| (*subject, target_of(*subject))).collect()
    }

    /// Adds the column of an outside source. What no reply came for was not
    /// knocked on: there the gate's word and the socket table are the evidence.
    /// `asked`: what the gate in force said of each door, and who spoke;
    /// `None` when no gate is in force.
    pub fn outside(
        &mut self,
        approach: &Approach,
        doors: &[(Subject, IpAddr)],
        replies: &[(Subject, Reply)],
        asked: Option<&[Said]>,
    ) {
        let vantage = Vantage::Outside(approach.source);
        let mut column = Vec::new();
        for (nth, (subject, target)) in doors.iter().enumerate() {
            let gate = asked.and_then(|asked| asked.get(nth));
            let knocked = replies.iter().find(|(s, _)| s == subject);
            let observed = match knocked {
                Some((_, reply)) => Observed {
                    outcome: reply.outcome(),
                    how: How::Wire,
                    target: Some(*target),
                    evidence: Some(reply.to_string()),
                },
                None => self.by_gate(*subject, *target, gate),
            };
            let arrives = InterfaceIndex(approach.interface.index);
            column.push(self.cell(*subject, vantage, observed, arrives, gate));
        }
        self.vantages.push(vantage);
        self.columns.push(column);
    }

    fn by_gate(&self, subject: Subject, target: IpAddr, gate: Option<&Said>) -> Observed {
        let listeners = &self.snapshot.listeners;
        let (outcome, evidence) = match gate {
            Some((Decision { verdict: Action::Deny, .. }, by)) => {
                (Outcome::Silent, format!("denied by {by}"))
            }
            Some((Decision { verdict: Action::Refuse, .. }, by)) => {
                (Outcome::Refuses, format!("refused by {by}"))
            }
            Some((_, by)) => (let_in(listeners, subject, target), format!("let in by {by}")),
            None => (let_in(listeners, subject, target), "no gate is up".into()),
        };
        Observed { outcome, how: How::Gate, target: Some(target), evidence: Some(evidence) }
    }

    /// Adds a column that is only worked out from the orders.
    pub fn worked_out(&mut self, source: IpAddr, target: IpAddr, arrives: InterfaceIndex) {
        let vantage = Vantage::Outside(source);
        let listeners = &self.snapshot.listeners;
        let column = self
            .subjects
            .iter()
            .map(|subject| {
                let brief = &self.judge.brief;
                let program = program_at(brief, listeners, *subject, target);
                let facts = first_packet(*subject, source, target, arrives);
                let decision = decide(brief, &Facts { program, ..facts });
                let outcome = match decision.verdict {
                    Action::Deny => Outcome::Silent,
                    Action::Refuse => Outcome::Refuses,
                    Action::Allow => let_in(listeners, *subject, target),
                };
                let observed =
                    Observed { outcome, how: How::Orders, target: Some(target), evidence: None };
                self.cell(*subject, vantage, observed, arrives, None)
            })
            .collect();
        self.vantages.push(vantage);
        self.columns.push(column);
    }

    fn cell(
        &self,
        subject: Subject,
        vantage: Vantage,
        observed: Observed,
        arrives: InterfaceIndex,
        gate: Option<&Said>,
    ) -> Cell {
        let (brief, listeners) = (&self.judge.brief, &self.snapshot.listeners);
        let gate = gate.map(|(d, by)| (*d, by.as_str()));
        cell(brief, listeners, subject, vantage, observed, arrives, gate)
    }

    /// Prints everything.
    pub fn show(self, gate: &'static str, terminal: &Terminal) -> Ending {
        let mut columns: Vec<_> = self.columns.into_iter().map(Vec::into_iter).collect();
        let rows: Vec<Row> = self
            .subjects
            .iter()
            .map(|subject| Row {
                subject: *subject,
                programs: programs(&self.snapshot.listeners, *subject),
                cells: columns.iter_mut().filter_map(Iterator::next).collect(),
            })
            .collect();
        let differences = rows.iter().flat_map(|r| &r.cells).filter(|c| c.differs()).count();
        let ending = if differences == 0 { Ending::Fine } else { Ending::Differs };
        let report = Report {
            host: &self.snapshot.host,
            orders: &self.judge.origin,
            gate,
            vantages: self.vantages,
            rows,
            differences,
            notes: self.notes,
        };
        if terminal.json {
            terminal.json(&report);
        } else {
            print(&report, terminal);
        }
        ending
    }
}

fn programs(listeners: &[Listener], subject: Subject) -> Vec<String> {
    let bound = listeners.iter().filter(|l| Subject::Port(l.transport, l.port) == subject);
    let names: BTreeSet<String> =
        bound.flat_map(|l| l.owner.programs.iter().map(|p| p.name.clone())).collect();
    names.into_iter().collect()
}

fn print(report: &Report<'_>, terminal: &Terminal) {
    terminal.heading(&format!("reach of {}", report.host));
    terminal.note(&format!(
        "expected: by the {}; the gate is {}",
        report.orders.words(),
        match report.gate {
            "unknown" => "visible only to root",
            other => other,
        }
    ));
    let vantages: Vec<String> = report.vantages.iter().map(ToString::to_string).collect();
    let headings = ["port", "program"].into_iter().chain(vantages.iter().map(String::as_str));
    let mut table = Columns::new(headings);
    for row in &report.rows {
        let program = match row.programs.as_slice() {
            [] if row.subject == Subject::Echo => faint("the kernel"),
            [] if row.is_bound() => faint("not visible"),
            [] => faint("nobody"),
            names => plain(names.join(", ")),
        };
        let cells = row.cells.iter().map(|cell| {
            let word = format!("{} ({})", cell.observed.outcome, cell.observed.how);
            match cell.differs() {
                true => loud(format!("≠ {word}")),
                false => outcome(cell.observed.outcome, word),
            }
        });
        table.row([plain(row.subject), program].into_iter().chain(cells));
    }
    terminal.table(&table);
    for note in &report.notes {
        terminal.note(note);
    }
    if report.differences == 0 {
        terminal.heading("every port does what the orders mean it to do");
        return;
    }
    terminal.heading(&counted(report.differences, "difference", "differences"));
    for row in &report.rows {
        let mut told: Vec<(&Cell, Vec<String>)> = Vec::new();
        for cell in row.cells.iter().filter(|c| c.differs()) {
            let same = |other: &Cell| {
                (&other.why, &other.expected_by, other.observed.outcome)
                    == (&cell.why, &cell.expected_by, cell.observed.outcome)
            };
            match told.iter_mut().find(|(other, _)| same(other)) {
                Some((_, vantages)) => vantages.push(cell.vantage.to_string()),
                None => told.push((cell, vec![cell.vantage.to_string()])),
            }
        }
        for (cell, vantages) in told {
            let why = cell.why.as_ref().map(ToString::to_string).unwrap_or_default();
            let (meant, by) = (meant(cell.expected), &cell.expected_by);
            let (seen, from) = (verb(cell.observed.outcome), vantages.join(", "));
            terminal.line(format!("  {:<9}  {why}", row.subject.to_string()));
            terminal.note(&format!("{:13}{meant} by {by}, but {seen} {from}", ""));
        }
    }
}

fn verb(outcome: Outcome) -> &'static str {
    match outcome {
        Outcome::Answers => "answers",
        Outcome::Refuses => "refuses",
        Outcome::Silent => "is silent",
        Outcome::Unknown => "is unknown",
    }
}

fn meant(expected: Outcome) -> &'static str {
    match expected {
        Outcome::Answers => "should answer",
        Outcome::Refuses => "should refuse",
        Outcome::Silent => "should be silent",
        Outcome::Unknown => "is unknown",
    }
}

impl Row {
    fn is_bound(&self) -> bool {
        let here = self.cells.iter().find(|c| c.vantage == Vantage::Here);
        here.is_some_and(|c| c.observed.outcome == Outcome::Answers)
    }
}
