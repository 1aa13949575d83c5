//! `tally`: packets and bytes by rule, and how sources stand with a rate.

use std::cmp::Reverse;
use std::collections::HashMap;

use schemars::JsonSchema;
use serde::Serialize;
use tipstaff_core::analysis::log::{GroupBy, LogFilter};
use tipstaff_core::analysis::reach::speaker_words_by;
use tipstaff_core::brief::RuleIndex;
use tipstaff_core::decision::Speaker;
use tipstaff_core::decision::foundations::Foundation;
use tipstaff_core::decision::rates::SourceState;
use tipstaff_core::moment::Moment;
use tipstaff_core::orders::edit::Which;
use tipstaff_core::orders::{Action, Origin};
use tipstaff_core::packet::Direction;
use tipstaff_gate::kernel::KernelGate;
use tipstaff_gate::{Gate, GateError, InForce, RuleCounted, Tally, Unrecorded};

use crate::acts::decisions::{Counted, logged};
use crate::acts::{named, rehearsing};
use crate::arguments::{Common, TallyOptions, TallySort};
use crate::chosen::{self, LoadedPolicy, Visible};
use crate::ending::Ending;
use crate::failure::Failure;
use crate::shape::shape;
use crate::terminal::orders_words;
use crate::terminal::{Columns, Terminal, bytes, faint, moment, packets, plain};

mod csv;
mod mark;
mod metrics;
mod rates;

pub use mark::Marked;
pub use rates::Rates;

#[derive(JsonSchema, Serialize)]
pub struct Report<'r> {
    orders: &'r Origin,
    /// Whether the orders file is another one than what is in force and counted; null: it
    /// cannot be read.
    file_differs: Option<bool>,
    /// When the mark was set that is counted from; null: each from its own `since` on.
    since_mark: Option<Moment>,
    rows: Vec<Row>,
    /// What sources took of the rule's rate, where a rule was named.
    sources: Option<Vec<SourceState>>,
    /// Whom that rate turned away how often, as far as the log has it; likewise.
    turned_away: Option<Vec<TurnedAway>>,
    unrecorded: Unrecorded,
}

#[derive(Clone, JsonSchema, Serialize)]
struct Row {
    by: String,
    /// The name of the rule.
    name: Option<String>,
    #[serde(flatten)]
    speaker: Speaker,
    #[serde(flatten)]
    tally: Tally,
    /// Packets beyond the rule's rate.
    beyond: u64,
    /// Since when it is counted: a rule that means something else begins anew. Null:
    /// nobody knows.
    since: Option<Moment>,
}

/// A source beyond a rate.
#[derive(JsonSchema, Serialize)]
struct TurnedAway {
    source: String,
    times: u64,
}

shape!(Report<'_> => "tally");

/// What rows are called: by what the gate itself notes of the rules that it counts. To read
/// the orders takes four times as long as everything else.
struct Known {
    origin: Origin,
    rules: Vec<RuleCounted>,
}

impl Known {
    fn new(in_force: &InForce, gate: &KernelGate) -> Result<Self, Failure> {
        let rules = match gate.counted_rules()? {
            Some(rules) => rules,
            None => {
                let brief = chosen::from_force(in_force)?.brief;
                brief.rules().map(RuleCounted::from).collect()
            }
        };
        Ok(Self { origin: chosen::origin_of(&in_force.record), rules })
    }

    fn rule(&self, RuleIndex(index): RuleIndex) -> Option<&RuleCounted> {
        self.rules.get(index as usize)
    }

    fn words(&self, speaker: Speaker) -> String {
        speaker_words_by(|index| self.rule(index).map(|rule| rule.name.as_str()), speaker)
    }

    /// Whether it is a rule that packets may match, and none has.
    fn is_unmatched(&self, row: &Row) -> bool {
        let Speaker::Rule(index) = row.speaker else { return false };
        let may_match = self.rule(index).is_some_and(|rule| rule.is_active);
        may_match && row.tally.packets + row.beyond == 0
    }

    fn has_rates(&self) -> bool {
        self.rules.iter().any(|rule| rule.has_rate)
    }
}

/// The gate, what is in force, and what of it is wanted.
struct Asked<'a> {
    gate: KernelGate,
    known: Known,
    wanted: Option<RuleIndex>,
    options: &'a TallyOptions,
}

impl Asked<'_> {
    /// Other orders may be in force by now: their places are of other rules.
    fn keep_up(&mut self, common: &Common) -> Result<(), Failure> {
        let (in_force, _) = chosen::in_force(common)?;
        let in_force = in_force.ok_or(GateError::NothingInForce)?;
        if in_force.record.hash() != self.known.origin.hash() {
            self.known = Known::new(&in_force, &self.gate)?;
            self.wanted = wanted(self.options, &self.known)?;
        }
        Ok(())
    }

    /// All rows, in their order.
    fn whole(&self) -> Result<Vec<Row>, Failure> {
        Ok(rows(&self.known, &self.gate.tallies()?, &self.gate.counted_since()?, self.wanted))
    }

    /// The rows to be shown, in the order that was asked for.
    fn chosen(&self, mut rows: Vec<Row>) -> Vec<Row> {
        if self.wanted.is_none() && !self.options.all {
            rows.retain(|row| row.tally.packets + row.beyond > 0);
        }
        match self.options.sort {
            TallySort::Position => {}
            TallySort::Packets => rows.sort_by_key(|row| Reverse(row.tally.packets)),
            TallySort::Bytes => rows.sort_by_key(|row| Reverse(row.tally.bytes)),
            TallySort::Connections => rows.sort_by_key(|row| Reverse(row.tally.connections)),
            TallySort::Beyond => rows.sort_by_key(|row| Reverse(row.beyond)),
        }
        rows
    }
}

/// The rule that is asked for.
fn wanted(options: &TallyOptions, known: &Known) -> Result<Option<RuleIndex>, Failure> {
    let Some(wanted) = &options.rule else { return Ok(None) };
    let names = known.rules.iter().map(|rule| rule.name.as_str());
    named::rule_among(names, wanted).map(Some)
}

pub fn run(
    common: &Common,
    options: &TallyOptions,
    terminal: &Terminal,
) -> Result<Ending, Failure> {
    if let Some(file) = &options.openmetrics {
        return metrics::write(common, file, terminal);
    }
    let (in_force, visible) = chosen::in_force(common)?;
    let in_force = match (in_force, visible) {
        (Some(in_force), _) => in_force,
        (None, Visible::OnlyToRoot) => return Err(GateError::NotRoot.into()),
        (None, Visible::Yes) => return Err(GateError::NothingInForce.into()),
    };
    let gate = KernelGate::new(&common.run_dir)?;
    let known = Known::new(&in_force, &gate)?;
    let wanted = wanted(options, &known)?;
    let asked = Asked { gate, known, wanted, options };
    if let Some(every) = options.every {
        return rates::show(common, asked, every, terminal);
    }
    let whole = asked.whole()?;
    if options.mark {
        return mark::set(common, &whole, terminal);
    }
    let (whole, since_mark) = match options.since_mark {
        true => mark::since(common, whole).map(|(rows, mark)| (rows, Some(mark)))?,
        false => (whole, None),
    };
    let unmatched: Vec<Row> =
        whole.iter().filter(|row| asked.known.is_unmatched(row)).cloned().collect();
    let rows = asked.chosen(whole);
    if terminal.is_csv() {
        return csv::print(&rows, terminal);
    }
    let sources = match wanted {
        Some(index) if options.sources => {
            let judge = chosen::from_force(&in_force)?;
            let states = states(&judge, &asked.gate, index)?;
            Some((states, turned_away(common, &asked.known.rules, index)?, judge))
        }
        _ => None,
    };
    let unrecorded = asked.gate.unrecorded()?;
    let file_differs =
        chosen::is_unchanged(common.orders_path(), &in_force.record).map(|same| !same);
    let known = &asked.known;
    if terminal.json {
        let orders = &known.origin;
        let (sources, turned_away) = sources.map(|(states, away, _)| (states, away)).unzip();
        terminal.json(&Report {
            orders,
            file_differs,
            since_mark,
            rows,
            sources,
            turned_away,
            unrecorded,
        });
        return Ok(Ending::Fine);
    }
    terminal.heading(&match wanted {
        Some(index) => known.words(Speaker::Rule(index)),
        None => packets(rows.iter().map(|r| r.tally.packets).sum()),
    });
    terminal.note(&orders_words(&known.origin));
    if file_differs == Some(true) {
        let path = common.orders_path().display();
        terminal.note(&format!("{path} differs from them; counted is what is in force"));
    }
    terminal.note(&match since_mark {
        Some(mark) => format!("counted since the mark of {}", at(mark)),
        None => since_words(&rows),
    });
    show(known, &rows, terminal);
    if wanted.is_none() && !options.all && !unmatched.is_empty() {
        terminal.note(&unmatched_words(&unmatched, since_mark));
    }
    let Unrecorded { left_out, lost } = unrecorded;
    if wanted.is_none() && left_out + lost > 0 {
        terminal.note(&format!(
            "of the events for `watch`, {left_out} were not sampled and {lost} were lost because \
             nobody read them"
        ));
    }
    if let (Some((sources, away, judge)), Some(index)) = (sources, wanted) {
        show_sources(&judge, index, &sources, terminal);
        show_turned_away(&away, terminal);
    }
    rehearsing::note(common, terminal)?;
    Ok(Ending::Fine)
}

/// What was counted of each, by what it is known by.
type Counts = HashMap<(String, Option<Moment>), (Tally, u64)>;

/// The rows without what was counted before. What began anew since then counts since
/// another moment, and is whole.
fn without(mut rows: Vec<Row>, before: &Counts) -> Vec<Row> {
    for row in &mut rows {
        if let Some((tally, beyond)) = before.get(&(row.known_by(), row.since)) {
            row.tally.packets = row.tally.packets.saturating_sub(tally.packets);
            row.tally.bytes = row.tally.bytes.saturating_sub(tally.bytes);
            row.tally.connections = row.tally.connections.saturating_sub(tally.connections);
            row.beyond = row.beyond.saturating_sub(*beyond);
        }
    }
    rows
}

impl Row {
    /// What it is known by from one post to the next: places of rules change.
    fn known_by(&self) -> String {
        self.name.as_ref().map_or_else(|| self.by.clone(), |name| format!("rule {name}"))
    }
}

/// As the administrator's clock shows it.
fn at(Moment(seconds): Moment) -> String {
    moment(i64::from(seconds))
}

/// Since when the rows count, where that is the same for all.
fn since_words(rows: &[Row]) -> String {
    let mut times: Vec<Moment> = rows.iter().filter_map(|row| row.since).collect();
    times.sort_unstable();
    match (times.first(), times.last()) {
        (Some(first), Some(last)) if first == last => format!("counted since {}", at(*first)),
        (Some(first), Some(last)) => {
            format!("counted since {}, the latest since {}", at(*first), at(*last))
        }
        _ => "nobody knows since when these are counted".into(),
    }
}

/// Rules that nothing has matched, and for how long.
fn unmatched_words(rows: &[Row], mark: Option<Moment>) -> String {
    const NAMED: usize = 4;
    let words = rows.iter().take(NAMED).map(|row| match (mark, row.since) {
        (None, Some(since)) => format!("{} since {}", row.by, at(since)),
        _ => row.by.clone(),
    });
    let words = words.collect::<Vec<_>>().join(", ");
    let more = match rows.len().saturating_sub(NAMED) {
        0 => String::new(),
        more => format!(" and {more} more"),
    };
    format!("nothing has matched {words}{more}; --all shows all rules")
}

fn states(
    judge: &LoadedPolicy,
    gate: &KernelGate,
    index: RuleIndex,
) -> Result<Vec<SourceState>, Failure> {
    let rule = judge.brief.rule(index);
    match rule.and_then(|rule| rule.limit()) {
        Some(limit) => Ok(gate.sources(&limit)?),
        None => Err(Failure::Argument {
            message: "the rule has no rate limit, so sources are not counted".into(),
            help: "Name a rule with `at_most`.".into(),
        }),
    }
}

/// Whom the rate of a rule turned away how often: as far as the log has it, the most first.
fn turned_away(
    common: &Common,
    rules: &[RuleCounted],
    RuleIndex(index): RuleIndex,
) -> Result<Vec<TurnedAway>, Failure> {
    let Some(RuleCounted { name, .. }) = rules.get(index as usize) else { return Ok(Vec::new()) };
    let filter = LogFilter {
        rules: vec![Which::Name(name.clone())],
        verdicts: vec![Action::Deny, Action::Refuse],
        ..LogFilter::in_force()
    };
    let counted = Counted::of(&logged(common)?, &filter, GroupBy::Sources)?;
    let rows = counted.summary.rows().into_iter();
    Ok(rows.map(|row| TurnedAway { source: row.name.clone(), times: row.turned_away }).collect())
}

fn show_turned_away(away: &[TurnedAway], terminal: &Terminal) {
    const SHOWN: usize = 10;
    if away.is_empty() {
        return;
    }
    let mut table = Columns::new(["turned away by it", "times"]);
    for TurnedAway { source, times } in away.iter().take(SHOWN) {
        table.row([plain(source), right(times.to_string())]);
    }
    terminal.table(&table);
    let more = away.len().saturating_sub(SHOWN);
    let more = if more > 0 { format!("; {more} more sources") } else { String::new() };
    terminal.note(&format!("as far as the log has it, which `tipstaff keep` writes{more}"));
}

fn rows(
    known: &Known,
    tallies: &[(Speaker, Tally)],
    since: &[(Speaker, Option<Moment>)],
    wanted: Option<RuleIndex>,
) -> Vec<Row> {
    let tallies: HashMap<Speaker, Tally> = tallies.iter().copied().collect();
    let since: HashMap<Speaker, Option<Moment>> = since.iter().copied().collect();
    let row = |speaker| {
        let beyond = match speaker {
            Speaker::Rule(index) => tallies.get(&Speaker::Beyond(index)).map_or(0, |t| t.packets),
            _ => 0,
        };
        let rule = match speaker {
            Speaker::Rule(index) => known.rule(index),
            _ => None,
        };
        Row {
            by: known.words(speaker),
            name: rule.map(|rule| rule.name.clone()),
            speaker,
            tally: tallies.get(&speaker).copied().unwrap_or_default(),
            beyond,
            since: since.get(&speaker).copied().flatten(),
        }
    };
    if let Some(index) = wanted {
        return vec![row(Speaker::Rule(index))];
    }
    let rules = (0..known.rules.len() as u32).map(|at| Speaker::Rule(RuleIndex(at)));
    let foundations = Foundation::ALL.map(Speaker::Foundation).into_iter();
    foundations.chain(rules).chain(Direction::ALL.map(Speaker::Standing)).map(row).collect()
}

fn right(text: String) -> comfy_table::Cell {
    plain(text).set_alignment(comfy_table::CellAlignment::Right)
}

/// Where a number would stand.
fn nothing() -> comfy_table::Cell {
    faint("–").set_alignment(comfy_table::CellAlignment::Right)
}

fn show(known: &Known, rows: &[Row], terminal: &Terminal) {
    if rows.is_empty() {
        terminal.line("No rule has matched yet; --all shows all of them.");
        return;
    }
    let with_rates = known.has_rates();
    let mut headings = vec!["by", "packets", "bytes", "connections"];
    headings.extend(with_rates.then_some("beyond its rate"));
    let mut table = Columns::new(headings);
    for row in rows {
        let mut cells = vec![
            plain(&row.by),
            right(row.tally.packets.to_string()),
            right(bytes(row.tally.bytes)),
            match row.tally.connections {
                0 => nothing(),
                connections => right(connections.to_string()),
            },
        ];
        cells.extend(with_rates.then(|| match row.beyond {
            0 => nothing(),
            beyond => right(beyond.to_string()),
        }));
        table.row(cells);
    }
    terminal.table(&table);
}

fn show_sources(
    judge: &LoadedPolicy,
    index: RuleIndex,
    sources: &[SourceState],
    terminal: &Terminal,
) {
    let rate = judge.brief.rule(index).and_then(|rule| rule.at_most);
    let rate = rate.map(|rate| rate.to_string()).unwrap_or_default();
    if sources.is_empty() {
        terminal.line(format!("\nNo source has used any of it recently: {rate}"));
        return;
    }
    let mut table = Columns::new(["source", "room now", "next after"]);
    for state in sources {
        let source = match state.source {
            None => "all together".to_owned(),
            Some(source) if source.is_ipv6() => format!("{source}/64"),
            Some(source) => source.to_string(),
        };
        let wait = match state.wait {
            0 => "–".to_owned(),
            wait => format!("{:.1} s", wait as f64 / 1e9),
        };
        table.row([plain(source), plain(state.room), plain(wait)]);
    }
    terminal.table(&table);
    terminal.note(&format!("the rate: {rate}"));
}
