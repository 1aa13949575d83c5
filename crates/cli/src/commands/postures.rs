//! `postures`: the postures that the orders know, and changes of them.

use schemars::JsonSchema;
use serde::Serialize;
use tipstaff_core::orders::edit_tables::TableEdit;
use tipstaff_core::orders::{Origin, Posture};
use tipstaff_core::packet::Direction;

use crate::acts::{editing, named};
use crate::arguments::{Common, PosturesCommand, PosturesOptions};
use crate::chosen;
use crate::ending::Ending;
use crate::failure::Failure;
use crate::shape::shape;
use crate::terminal::{Columns, Terminal, counted, faint, orders_words, plain};

#[derive(JsonSchema, Serialize)]
pub struct Report<'r> {
    orders: &'r Origin,
    postures: Vec<Row<'r>>,
}

#[derive(JsonSchema, Serialize)]
struct Row<'r> {
    #[serde(flatten)]
    posture: &'r Posture,
    /// The rules that apply in some postures only, this one among them.
    rules: Vec<&'r str>,
}

shape!(Report<'_> => "postures-of-orders");

pub fn run(
    common: &Common,
    options: &PosturesOptions,
    terminal: &Terminal,
) -> Result<Ending, Failure> {
    let edit = match &options.command {
        None => return list(common, terminal),
        Some(PosturesCommand::Add { name, keys }) => {
            TableEdit::AddPosture(name.clone(), named::assignments(keys)?)
        }
        Some(PosturesCommand::Set { name, keys }) => {
            TableEdit::SetPosture(name.clone(), named::assignments(keys)?)
        }
        Some(PosturesCommand::Remove { name }) => TableEdit::RemovePosture(name.clone()),
    };
    editing::apply(common, &edit, false, terminal)
}

fn list(common: &Common, terminal: &Terminal) -> Result<Ending, Failure> {
    let (orders, origin) = chosen::orders_of_file(common.orders_path())?;
    let rows = orders.postures.iter().map(|posture| {
        let own = orders.rules().filter(|rule| {
            let group = orders.rule_groups.iter().find(|g| Some(&g.name) == rule.group.as_ref());
            let postures = match (rule.postures.as_slice(), group) {
                ([], Some(group)) => &group.postures,
                _ => &rule.postures,
            };
            postures.contains(&posture.name)
        });
        Row { posture, rules: own.map(|rule| rule.name.as_str()).collect() }
    });
    let rows: Vec<Row<'_>> = rows.collect();
    if terminal.json {
        terminal.json(&Report { orders: &origin, postures: rows });
        return Ok(Ending::Fine);
    }
    terminal.heading(&counted(rows.len(), "posture", "postures"));
    terminal.note(&orders_words(&origin));
    if rows.is_empty() {
        terminal.note("Add one with `tipstaff postures add NAME inbound=deny`.");
        return Ok(Ending::Fine);
    }
    let mut table =
        Columns::new(["name", "inbound", "outbound", "transit", "recognised by", "rules", "note"]);
    for Row { posture, rules } in &rows {
        let answers = Direction::ALL
            .map(|way| posture.standing.of(way).map_or_else(|| faint("as usual"), plain));
        let recognised = &posture.recognition;
        let by = [
            ("interface", recognised.interface.clone()),
            ("network", recognised.network.clone()),
            ("gateway", recognised.gateway.clone()),
        ];
        let by = by.into_iter().filter_map(|(what, value)| Some(format!("{what} {}", value?)));
        let by: Vec<String> = by.collect();
        let [inbound, outbound, transit] = answers;
        table.row([
            plain(&posture.name),
            inbound,
            outbound,
            transit,
            faint(by.join(", ")),
            plain(rules.len()),
            faint(posture.note.clone().unwrap_or_default()),
        ]);
    }
    terminal.table(&table);
    Ok(Ending::Fine)
}
