//! `tally`: packets and bytes by rule, and how sources stand with a rate.

use schemars::JsonSchema;
use serde::Serialize;
use tipstaff_core::analysis::reach::speaker_words;
use tipstaff_core::brief::RuleIndex;
use tipstaff_core::decision::Speaker;
use tipstaff_core::decision::rates::SourceState;
use tipstaff_core::packet::Direction;
use tipstaff_gate::kernel::KernelGate;
use tipstaff_gate::{Gate, GateError, Tally, Unrecorded};

use crate::acts::named;
use crate::arguments::{Common, TallyOptions};
use crate::chosen::{self, LoadedPolicy, Visible};
use crate::ending::Ending;
use crate::failure::Failure;
use crate::shape::shape;
use crate::terminal::orders_words;
use crate::terminal::{Columns, Terminal, bytes, counted, faint, plain};
use tipstaff_core::orders::Origin;

#[derive(JsonSchema, Serialize)]
pub struct Report<'r> {
    orders: &'r Origin,
    rows: Vec<Row>,
    /// What sources took of the rule's rate, where a rule was named.
    sources: Option<Vec<SourceState>>,
    unrecorded: Unrecorded,
}

#[derive(JsonSchema, Serialize)]
struct Row {
    by: String,
    #[serde(flatten)]
    speaker: Speaker,
    #[serde(flatten)]
    tally: Tally,
    /// Packets beyond the rule's rate.
    beyond: u64,
}

shape!(Report<'_> => "tally");

pub fn run(
    common: &Common,
    options: &TallyOptions,
    terminal: &Terminal,
) -> Result<Ending, Failure> {
    let (in_force, visible) = chosen::in_force(common)?;
    let in_force = match (in_force, visible) {
        (Some(in_force), _) => in_force,
        (None, Visible::OnlyToRoot) => return Err(GateError::NotRoot.into()),
        (None, Visible::Yes) => return Err(GateError::NothingInForce.into()),
    };
    let judge = chosen::from_force(&in_force)?;
    let gate = KernelGate::new(&common.run_dir)?;
    let tallies = gate.tallies()?;
    let wanted = match &options.rule {
        Some(rule) => Some(named::rule(&judge, rule)?),
        None => None,
    };
    let sources = match wanted {
        Some(index) if options.sources => Some(states(&judge, &gate, index)?),
        _ => None,
    };
    let rows = rows(&judge, &tallies, wanted, options.all);
    let unrecorded = gate.unrecorded()?;
    if terminal.json {
        terminal.json(&Report { orders: &judge.origin, rows, sources, unrecorded });
        return Ok(Ending::Fine);
    }
    terminal.heading(&match wanted {
        Some(index) => speaker_words(&judge.brief, Speaker::Rule(index)),
        None => counted(rows.iter().map(|r| r.tally.packets as usize).sum(), "packet", "packets"),
    });
    terminal.note(&orders_words(&judge.origin));
    show(&judge, &rows, terminal);
    let Unrecorded { left_out, lost } = unrecorded;
    if wanted.is_none() && left_out + lost > 0 {
        terminal.note(&format!(
            "of the events for `watch`, {left_out} were not sampled and {lost} were lost because \
             nobody read them"
        ));
    }
    if let (Some(sources), Some(index)) = (sources, wanted) {
        show_sources(&judge, index, &sources, terminal);
    }
    Ok(Ending::Fine)
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

fn rows(
    judge: &LoadedPolicy,
    tallies: &[(Speaker, Tally)],
    wanted: Option<RuleIndex>,
    all: bool,
) -> Vec<Row> {
    let of = |speaker| {
        let found = tallies.iter().find(|(s, _)| *s == speaker);
        found.map(|(_, tally)| *tally).unwrap_or_default()
    };
    let row = |speaker| {
        let beyond = match speaker {
            Speaker::Rule(index) => of(Speaker::Beyond(index)).packets,
            _ => 0,
        };
        Row { by: speaker_words(&judge.brief, speaker), speaker, tally: of(speaker), beyond }
    };
    if let Some(index) = wanted {
        return vec![row(Speaker::Rule(index))];
    }
    let rules = judge.brief.indexed().map(|(index, _)| Speaker::Rule(index));
    let standing = Direction::ALL.map(Speaker::Standing);
    let others = tallies.iter().map(|(speaker, _)| *speaker);
    let foundations = others.filter(|s| matches!(s, Speaker::Foundation(_)));
    let rows = foundations.chain(rules).chain(standing).map(row);
    rows.filter(|row| all || row.tally.packets + row.beyond > 0).collect()
}

fn show(judge: &LoadedPolicy, rows: &[Row], terminal: &Terminal) {
    if rows.is_empty() {
        terminal.line("No rule has matched yet; --all shows all of them.");
        return;
    }
    fn right(text: String) -> comfy_table::Cell {
        plain(text).set_alignment(comfy_table::CellAlignment::Right)
    }
    let with_rates = judge.brief.rules().any(|rule| rule.at_most.is_some());
    let mut headings = vec!["by", "packets", "bytes"];
    headings.extend(with_rates.then_some("beyond its rate"));
    let mut table = Columns::new(headings);
    for row in rows {
        let mut cells = vec![
            plain(&row.by),
            right(row.tally.packets.to_string()),
            right(bytes(row.tally.bytes)),
        ];
        cells.extend(with_rates.then(|| match row.beyond {
            0 => faint("–").set_alignment(comfy_table::CellAlignment::Right),
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
