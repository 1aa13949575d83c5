//! `rules`: the ordered list, what each rule has counted, the standing answers.

mod wanted;

use std::collections::HashMap;

use schemars::JsonSchema;
use serde::Serialize;
use tipstaff_core::brief::RuleIndex;
use tipstaff_core::decision::Speaker;
use tipstaff_core::decision::foundations::Foundation;
use tipstaff_core::names::address::Family;
use tipstaff_core::names::traffic::{TCP, TrafficKey, UDP};
use tipstaff_core::orders::edit::Which;
use tipstaff_core::orders::{Action, FoundationSwitches, Inactive, Over, Rule, Selector};
use tipstaff_core::packet::Direction;
use tipstaff_gate::kernel::KernelGate;
use tipstaff_gate::{Gate, Tally};

use crate::acts::{named, rehearsing};
use crate::arguments::{Common, RulesOptions, RulesOrder};
use crate::chosen::{self, LoadedPolicy, Visible};
use crate::ending::Ending;
use crate::failure::Failure;
use crate::shape::shape;
use crate::terminal::orders_words;
use crate::terminal::{Columns, Terminal, action, bytes, counted, faint, packets, plain};
use tipstaff_core::orders::Origin;
use wanted::Wanted;

#[derive(JsonSchema, Serialize)]
pub struct Report<'r> {
    orders: &'r Origin,
    /// The orders that counted, where they are not those shown.
    counted_by: Option<&'r Origin>,
    foundations: Vec<FoundationRow>,
    rules: Vec<RuleRow<'r>>,
    standing: Vec<StandingRow>,
}

#[derive(JsonSchema, Serialize)]
struct FoundationRow {
    name: &'static str,
    action: Action,
    meaning: &'static str,
    enabled: bool,
    tally: Option<Tally>,
}

#[derive(JsonSchema, Serialize)]
pub struct RuleRow<'r> {
    position: usize,
    name: &'r str,
    note: Option<&'r str>,
    action: Action,
    direction: Direction,
    traffic: &'r [String],
    traffic_except: &'r [String],
    source: &'r [String],
    source_except: &'r [String],
    destination: &'r [String],
    destination_except: &'r [String],
    interface: &'r [String],
    interface_except: &'r [String],
    program: &'r [String],
    program_except: &'r [String],
    family: Option<Family>,
    until: Option<String>,
    at_most: Option<String>,
    over: Option<Over>,
    log: bool,
    enabled: bool,
    #[serde(rename = "silence")]
    inactive: Option<Inactive>,
    group: Option<&'r str>,
    hosts: &'r [Selector],
    file: Option<&'r str>,
    line: usize,
    #[serde(skip)]
    rule: &'r Rule,
    tally: Option<Tally>,
}

#[derive(JsonSchema, Serialize)]
struct StandingRow {
    direction: Direction,
    action: Action,
    tally: Option<Tally>,
}

/// One rule, with what its names stand for.
#[derive(JsonSchema, Serialize)]
pub struct OneRule<'r> {
    orders: &'r Origin,
    rule: RuleRow<'r>,
    traffic_means: Vec<String>,
    source_means: Vec<String>,
}

shape!(Report<'_> => "rules", OneRule<'_> => "rule");

pub fn run(
    common: &Common,
    options: &RulesOptions,
    terminal: &Terminal,
) -> Result<Ending, Failure> {
    let (in_force, visible) = chosen::in_force(common)?;
    let from_file = !options.in_force && (common.orders.is_some() || common.orders_path().exists());
    let judge = match &in_force {
        _ if from_file => chosen::from_file(common)?,
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
    if let Some(wanted) = &options.rule {
        return one(&judge, &counts, wanted, terminal);
    }
    let wanted = Wanted::new(&judge, options)?;
    if let Some(told) = options.traffic.as_deref().and_then(named::read_as)
        && !terminal.json
    {
        terminal.note(&told);
    }
    show_some(&judge, &counts, options.all, &wanted, terminal);
    rehearsing::note(common, terminal)?;
    Ok(Ending::Fine)
}

/// One rule whole, with what its names stand for.
fn one(
    judge: &LoadedPolicy,
    counts: &Counts,
    wanted: &str,
    terminal: &Terminal,
) -> Result<Ending, Failure> {
    let which = Which::parse(wanted);
    let found = judge.brief.indexed().find(|(index, rule)| match &which {
        Which::Name(name) => rule.name.as_str() == name,
        Which::Position(position) => index.position() == *position,
    });
    let (index, rule) = found.ok_or_else(|| Failure::Argument {
        message: format!("no rule {which}"),
        help: "See their names and positions with `tipstaff rules`.".into(),
    })?;
    let row = rule_row(index, rule, counts);
    let traffic = match &rule.traffic.keys {
        Some(keys) => keys.ranges().iter().map(|range| traffic_words(*range)).collect(),
        None => vec!["any".to_owned()],
    };
    let sources: Vec<String> = match &rule.source.addresses {
        Some(set) => set.ranges().iter().map(ToString::to_string).collect(),
        None => vec!["any".to_owned()],
    };
    if terminal.json {
        terminal.json(&OneRule {
            orders: &judge.origin,
            rule: row,
            traffic_means: traffic,
            source_means: sources,
        });
        return Ok(Ending::Fine);
    }
    terminal.heading(&format!("rule {}: {}", row.position, row.name));
    let file = rule.part.as_ref().map(|part| format!(" of {part}")).unwrap_or_default();
    terminal.note(&format!("{}, line {}{file}", orders_words(&judge.origin), row.line));
    let paused = match row.inactive {
        Some(inactive) => format!(" ({}: not active here)", inactive.describe()),
        None => String::new(),
    };
    let mut lines = vec![("action", format!("{}{paused}", row.action))];
    lines.extend(row.note.map(|note| ("note", note.to_owned())));
    lines.push(("traffic", format!("{}: {}", rule.traffic.describe(), cut(&traffic))));
    lines.push((
        "source",
        match &rule.source.addresses {
            Some(_) => format!("{}: {}", rule.source.describe(), cut(&sources)),
            None => "any".to_owned(),
        },
    ));
    let further = rule.further_words();
    lines.extend((!further.is_empty()).then_some(("only", further)));
    lines.extend(rule.group.clone().map(|group| ("group", group)));
    let hosts: Vec<String> = rule.hosts.iter().map(ToString::to_string).collect();
    lines.extend((!hosts.is_empty()).then(|| ("hosts", hosts.join(", "))));
    lines.extend(
        row.tally.map(|t| ("tally", format!("{}, {}", packets(t.packets), bytes(t.bytes)))),
    );
    for (what, text) in lines {
        terminal.line(format!("  {what:<8} {text}"));
    }
    Ok(Ending::Fine)
}

fn cut(words: &[String]) -> String {
    const MOST: usize = 12;
    let more = words.len().saturating_sub(MOST);
    let shown = words.iter().take(MOST).cloned().collect::<Vec<_>>().join(", ");
    if more > 0 { format!("{shown} and {more} more") } else { shown }
}

/// A range of keys as orders would write it.
pub fn traffic_words((a, b): (TrafficKey, TrafficKey)) -> String {
    match (a.protocol(), a.low(), b.low()) {
        _ if a.protocol() != b.protocol() => {
            format!("protocols {} to {}", a.protocol(), b.protocol())
        }
        (TCP, 0, u16::MAX) => "tcp/*".into(),
        (UDP, 0, u16::MAX) => "udp/*".into(),
        (TCP | UDP, from, to) if from < to => format!("{a}-{to}"),
        _ => a.to_string(),
    }
}

/// Tallies of what is in force, found by the rules' names: the file may have
/// moved on since. A rule that decides something else now has no count.
#[derive(Default)]
pub struct Counts {
    tallies: HashMap<Speaker, Tally>,
    /// The orders that counted, where they are not those shown.
    others: Option<Origin>,
}

impl Counts {
    /// Brings the tallies of the orders in force to the places of `shown`.
    pub fn new(
        shown: &LoadedPolicy,
        in_force: &LoadedPolicy,
        tallies: Vec<(Speaker, Tally)>,
    ) -> Self {
        let places: HashMap<&str, (RuleIndex, &Rule)> =
            shown.brief.indexed().map(|(at, rule)| (rule.name.as_str(), (at, rule))).collect();
        let moved = |index| {
            let counted = in_force.brief.rule(index)?;
            let (at, rule) = places.get(counted.name.as_str())?;
            rule.decides_like(counted).then_some(*at)
        };
        let place = |speaker| match speaker {
            Speaker::Rule(index) => moved(index).map(Speaker::Rule),
            Speaker::Beyond(index) => moved(index).map(Speaker::Beyond),
            Speaker::Standing(direction) => {
                let said = |chosen: &LoadedPolicy| chosen.brief.standing.of(direction);
                (said(shown) == said(in_force)).then_some(speaker)
            }
            other => Some(other),
        };
        let others =
            (shown.origin.hash() != in_force.origin.hash()).then(|| in_force.origin.clone());
        let tallies = tallies.into_iter().filter_map(|(s, t)| Some((place(s)?, t))).collect();
        Self { tallies, others }
    }

    fn tally(&self, speaker: Speaker) -> Option<Tally> {
        self.tallies.get(&speaker).copied()
    }
}

/// Prints the whole list.
pub fn show(judge: &LoadedPolicy, counts: &Counts, all: bool, terminal: &Terminal) {
    show_some(judge, counts, all, &Wanted::everything(), terminal);
}

fn show_some(
    judge: &LoadedPolicy,
    counts: &Counts,
    all: bool,
    wanted: &Wanted,
    terminal: &Terminal,
) {
    let brief = &judge.brief;
    let foundations: Vec<FoundationRow> = if all {
        let shown = Foundation::ALL.iter().filter(|f| wanted.says(f.action()));
        shown.map(|f| foundation_row(*f, brief.foundations, counts)).collect()
    } else {
        Vec::new()
    };
    let shown = brief.indexed().filter(|(_, rule)| wanted.shows(rule));
    let mut rules: Vec<RuleRow<'_>> =
        shown.map(|(index, rule)| rule_row(index, rule, counts)).collect();
    match wanted.sort {
        RulesOrder::Position => {}
        RulesOrder::Name => rules.sort_by_key(|row| row.name),
        RulesOrder::Tally => {
            rules.sort_by_key(|row| std::cmp::Reverse(row.tally.map_or(0, |t| t.packets)));
        }
    }
    let standing = [
        (Direction::Inbound, brief.standing.inbound),
        (Direction::Outbound, brief.standing.outbound),
        (Direction::Transit, brief.standing.transit),
    ]
    .map(|(direction, action)| StandingRow {
        direction,
        action,
        tally: counts.tally(Speaker::Standing(direction)),
    });
    let standing: Vec<StandingRow> =
        standing.into_iter().filter(|row| wanted.says(row.action)).collect();
    if terminal.json {
        let counted_by = counts.others.as_ref();
        terminal.json(&Report { orders: &judge.origin, counted_by, foundations, rules, standing });
        return;
    }
    let everything = counted(brief.rules.len(), "rule", "rules");
    terminal.heading(&match wanted.shows_all() {
        true => everything,
        false => format!("{} of {everything}", rules.len()),
    });
    terminal.note(&format!("{}; the first matching rule decides", orders_words(&judge.origin)));
    if let Some(others) = &counts.others {
        terminal.note(&format!(
            "counted by the {}; rules changed since then have no count",
            orders_words(others)
        ));
    }
    if let Some(files) = judge.files() {
        terminal.note(&files);
    }
    terminal.table(&table(&foundations, &rules, &standing, wanted.notes));
    if counts.tallies.is_empty() {
        terminal.note("No counters: the gate is not loaded, or root is needed to read them");
    }
}

/// All rows, in the order in which packets meet them.
fn table(
    foundations: &[FoundationRow],
    rules: &[RuleRow<'_>],
    standing: &[StandingRow],
    notes: bool,
) -> Columns {
    let mut headings = vec!["", "name", "action", "traffic", "source", "packets", "bytes"];
    headings.extend(notes.then_some("note"));
    let mut table = Columns::new(headings);
    for row in foundations {
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
    for row in rules {
        let [packets, size] = tally_cells(row.tally);
        let says = match row.inactive {
            None => action(row.action, row.action),
            Some(inactive) => faint(format!("{} ({})", row.action, inactive.describe())),
        };
        let source = row.rule.condition_words();
        let name = plain(row.name);
        let traffic = plain(row.rule.traffic.describe());
        let note = notes.then(|| faint(row.note.unwrap_or_default()));
        let cells = [plain(row.position), name, says, traffic, plain(source), packets, size];
        table.row(cells.into_iter().chain(note));
    }
    for row in standing {
        let [packets, size] = tally_cells(row.tally);
        let name = format!("standing {}", row.direction);
        let says = action(row.action, row.action);
        table.row([
            faint("–"),
            plain(name),
            says,
            faint("everything else"),
            plain(""),
            packets,
            size,
        ]);
    }
    table
}

fn foundation_row(f: Foundation, switches: FoundationSwitches, counts: &Counts) -> FoundationRow {
    FoundationRow {
        name: f.name(),
        action: f.action(),
        meaning: f.meaning(),
        enabled: f != Foundation::AddressAssignment || switches.address_assignment,
        tally: counts.tally(Speaker::Foundation(f)),
    }
}

fn rule_row<'r>(index: RuleIndex, rule: &'r Rule, counts: &Counts) -> RuleRow<'r> {
    RuleRow {
        position: index.position(),
        name: rule.name.as_str(),
        note: rule.note.as_deref(),
        action: rule.action,
        direction: rule.direction,
        traffic: &rule.traffic.written,
        traffic_except: &rule.traffic.except,
        source: &rule.source.written,
        source_except: &rule.source.except,
        destination: &rule.destination.written,
        destination_except: &rule.destination.except,
        interface: &rule.interface.written,
        interface_except: &rule.interface.except,
        program: &rule.program.written,
        program_except: &rule.program.except,
        family: rule.family,
        until: rule.until.map(|until| until.to_string()),
        at_most: rule.at_most.map(|at_most| at_most.to_string()),
        over: rule.at_most.map(|_| rule.over),
        log: rule.log,
        enabled: rule.inactive != Some(Inactive::Paused),
        inactive: rule.inactive,
        group: rule.group.as_deref(),
        hosts: &rule.hosts,
        file: rule.part.as_deref(),
        line: rule.line,
        rule,
        tally: counts.tally(Speaker::Rule(index)),
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
