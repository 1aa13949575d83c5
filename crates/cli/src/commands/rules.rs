//! `rules`: the ordered list, what each rule has counted, the standing answers.

use serde::Serialize;
use tipstaff_core::brief::RuleIndex;
use tipstaff_core::decide::Speaker;
use tipstaff_core::foundations::Foundation;
use tipstaff_core::orders::{Action, FoundationSwitches, Rule};
use tipstaff_core::packet::Direction;
use tipstaff_gate::kernel::KernelGate;
use tipstaff_gate::{Gate, Tally};

use crate::Ending;
use crate::arguments::{Common, RulesOptions};
use crate::chosen::{self, Chosen, Origin, Visible};
use crate::failure::Failure;
use crate::terminal::{Columns, Terminal, action, bytes, counted, faint, plain};

#[derive(Serialize)]
struct Report<'r> {
    orders: &'r Origin,
    foundations: Vec<FoundationRow>,
    rules: Vec<RuleRow<'r>>,
    standing: Vec<StandingRow>,
}

#[derive(Serialize)]
struct FoundationRow {
    name: &'static str,
    action: Action,
    meaning: &'static str,
    enabled: bool,
    tally: Option<Tally>,
}

#[derive(Serialize)]
struct RuleRow<'r> {
    position: usize,
    name: &'r str,
    note: Option<&'r str>,
    action: Action,
    traffic: &'r [String],
    source: &'r [String],
    enabled: bool,
    line: usize,
    tally: Option<Tally>,
}

#[derive(Serialize)]
struct StandingRow {
    direction: &'static str,
    action: Action,
    tally: Option<Tally>,
}

pub fn run(
    common: &Common,
    options: &RulesOptions,
    terminal: &Terminal,
) -> Result<Ending, Failure> {
    let (in_force, visible) = chosen::in_force(common)?;
    let from_file = !options.in_force && (common.orders.is_some() || common.orders_path().exists());
    let judge = match &in_force {
        _ if from_file => chosen::from_file(common.orders_path())?,
        Some(in_force) => chosen::from_force(in_force)?,
        None if options.in_force && visible == Visible::OnlyToRoot => {
            return Err(tipstaff_gate::GateError::NotRoot.into());
        }
        None if options.in_force => return Err(tipstaff_gate::GateError::NothingInForce.into()),
        None => return Err(Failure::NoOrders(common.orders_path().to_owned())),
    };
    let counts = match &in_force {
        Some(in_force) => {
            let tallies = KernelGate::new(&common.run_dir)?.tallies()?;
            Counts::new(&judge, &chosen::from_force(in_force)?, tallies)
        }
        None => Counts::default(),
    };
    show(&judge, &counts, options.all, terminal);
    Ok(Ending::Fine)
}

/// Tallies of what is in force, found by the rules' names: the file may have
/// moved on since.
#[derive(Default)]
pub struct Counts(Vec<(Speaker, Tally)>);

impl Counts {
    /// Brings the tallies of the orders in force to the places of `shown`.
    pub fn new(shown: &Chosen, in_force: &Chosen, tallies: Vec<(Speaker, Tally)>) -> Self {
        let place = |speaker| match speaker {
            Speaker::Rule(index) => {
                let name = &in_force.brief.rule(index)?.name;
                let found = shown.brief.indexed().find(|(_, rule)| rule.name == *name);
                found.map(|(index, _)| Speaker::Rule(index))
            }
            other => Some(other),
        };
        Self(tallies.into_iter().filter_map(|(s, t)| Some((place(s)?, t))).collect())
    }

    fn of(&self, speaker: Speaker) -> Option<Tally> {
        self.0.iter().find(|(s, _)| *s == speaker).map(|(_, tally)| *tally)
    }
}

/// Prints the list.
pub fn show(judge: &Chosen, counts: &Counts, all: bool, terminal: &Terminal) {
    let brief = &judge.brief;
    let foundations: Vec<FoundationRow> = if all {
        Foundation::ALL.iter().map(|f| foundation_row(*f, brief.foundations, counts)).collect()
    } else {
        Vec::new()
    };
    let rules: Vec<RuleRow<'_>> =
        brief.indexed().map(|(index, rule)| rule_row(index, rule, counts)).collect();
    let standing = [
        ("inbound", brief.standing.inbound, Some(Direction::Inbound)),
        ("outbound", brief.standing.outbound, None),
        ("transit", brief.standing.transit, Some(Direction::Transit)),
    ]
    .map(|(direction, action, counted)| StandingRow {
        direction,
        action,
        tally: counted.and_then(|d| counts.of(Speaker::Standing(d))),
    });
    if terminal.json {
        let standing = standing.into_iter().collect();
        terminal.json(&Report { orders: &judge.origin, foundations, rules, standing });
        return;
    }
    terminal.heading(&counted(rules.len(), "rule", "rules"));
    terminal.note(&format!("{}; the first that matches speaks", judge.origin.words()));
    let mut table = Columns::new(["", "name", "says", "traffic", "source", "packets", "bytes"]);
    for row in &foundations {
        let says = if row.enabled { row.action.to_string() } else { "off".into() };
        let [packets, size] = tally_cells(row.tally);
        let says = action(row.action, says);
        table.row([
            faint("·"),
            faint(row.name),
            says,
            faint(row.meaning),
            plain(""),
            packets,
            size,
        ]);
    }
    for row in &rules {
        let [packets, size] = tally_cells(row.tally);
        let says = if row.enabled {
            action(row.action, row.action)
        } else {
            faint(format!("{} (paused)", row.action))
        };
        let source = if row.source.is_empty() { "any".into() } else { row.source.join(", ") };
        let name = plain(row.name);
        let traffic = plain(row.traffic.join(", "));
        table.row([plain(row.position), name, says, traffic, plain(source), packets, size]);
    }
    for row in &standing {
        let [packets, size] = tally_cells(row.tally);
        let name = format!("standing {}", row.direction);
        let says = action(row.action, row.action);
        table.row([
            faint("–"),
            plain(name),
            says,
            faint("whatever is left"),
            plain(""),
            packets,
            size,
        ]);
    }
    terminal.table(&table);
    if counts.0.is_empty() {
        terminal.note("nothing is counted: no gate is up, or this account may not look");
    }
}

fn foundation_row(f: Foundation, switches: FoundationSwitches, counts: &Counts) -> FoundationRow {
    FoundationRow {
        name: f.name(),
        action: f.action(),
        meaning: f.meaning(),
        enabled: f != Foundation::AddressAssignment || switches.address_assignment,
        tally: counts.of(Speaker::Foundation(f)),
    }
}

fn rule_row<'r>(index: RuleIndex, rule: &'r Rule, counts: &Counts) -> RuleRow<'r> {
    RuleRow {
        position: index.position(),
        name: rule.name.as_str(),
        note: rule.note.as_deref(),
        action: rule.action,
        traffic: &rule.traffic.written,
        source: &rule.source.written,
        enabled: rule.enabled,
        line: rule.line,
        tally: counts.of(Speaker::Rule(index)),
    }
}

fn tally_cells(tally: Option<Tally>) -> [comfy_table::Cell; 2] {
    let right = comfy_table::CellAlignment::Right;
    match tally {
        Some(tally) => [
            plain(tally.packets).set_alignment(right),
            plain(bytes(tally.bytes)).set_alignment(right),
        ],
        None => [faint("–").set_alignment(right), faint("–").set_alignment(right)],
    }
}
