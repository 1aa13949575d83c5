//! `names`: services and groups, what they hold, which rules use them; and
//! what a port or an address is called.

use std::net::IpAddr;

use schemars::JsonSchema;
use serde::Serialize;
use tipstaff_core::names::services::{ALSO, CATALOGUE, find};
use tipstaff_core::names::traffic::{Term, keys_of};

use crate::acts::{editing, named};
use crate::arguments::{Common, NameKind, NamedItems, NamesCommand, NamesOptions};
use crate::chosen::{self, LoadedPolicy};
use crate::ending::Ending;
use crate::failure::Failure;
use crate::shape::shape;
use crate::terminal::orders_words;
use crate::terminal::{Columns, Terminal, counted, faint, plain};
use tipstaff_core::orders::edit_tables::TableEdit;
use tipstaff_core::orders::{NameKind as Named, Origin};

#[derive(JsonSchema, Serialize)]
pub struct Report<'r> {
    orders: &'r Origin,
    names: Vec<Row>,
}

#[derive(JsonSchema, Serialize)]
struct Row {
    name: String,
    kind: Kind,
    holds: Vec<String>,
    used_by: Vec<String>,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case")]
enum Kind {
    Service,
    BuiltInService,
    Group,
    Programs,
}

impl Kind {
    fn describe(self) -> &'static str {
        match self {
            Self::Service => "service",
            Self::BuiltInService => "service, built in",
            Self::Group => "group",
            Self::Programs => "programs",
        }
    }
}

shape!(Report<'_> => "names");

pub fn run(
    common: &Common,
    options: &NamesOptions,
    terminal: &Terminal,
) -> Result<Ending, Failure> {
    if let Some(command) = &options.command {
        return editing::apply(common, &edit_of(command), false, terminal);
    }
    let judge = chosen::from_file(common)?;
    let mut rows = all_names(&judge);
    match &options.wanted {
        Some(wanted) => {
            let named = rows.iter().any(|row| row.name == *wanted);
            let found: Vec<String> =
                if named { vec![wanted.clone()] } else { called(&judge, wanted)? };
            rows.retain(|row| found.contains(&row.name));
        }
        None if options.all => {}
        // Of the built-in names only those that some rule uses.
        None => rows.retain(|row| row.kind != Kind::BuiltInService || !row.used_by.is_empty()),
    }
    if terminal.json {
        terminal.json(&Report { orders: &judge.origin, names: rows });
        return Ok(Ending::Fine);
    }
    if let (Some(wanted), true) = (&options.wanted, rows.is_empty()) {
        terminal.heading(&format!("{wanted} is not named"));
        terminal.note("Name it with `tipstaff names add addresses|services|programs NAME …`.");
        return Ok(Ending::Fine);
    }
    terminal.heading(&counted(rows.len(), "name", "names"));
    terminal.note(&orders_words(&judge.origin));
    let mut table = Columns::new(["name", "kind", "holds", "used by"]);
    for row in &rows {
        let users = match row.used_by.as_slice() {
            [] => faint("nobody"),
            users => plain(users.join(", ")),
        };
        table.row([plain(&row.name), faint(row.kind.describe()), plain(cut(&row.holds)), users]);
    }
    terminal.table(&table);
    Ok(Ending::Fine)
}

fn edit_of(command: &NamesCommand) -> TableEdit {
    fn of(kind: &NameKind) -> Named {
        match kind {
            NameKind::Addresses => Named::Addresses,
            NameKind::Services => Named::Service,
            NameKind::Programs => Named::Programs,
        }
    }
    match command {
        NamesCommand::Add(NamedItems { kind, name, items }) => {
            TableEdit::AddToName(of(kind), name.clone(), items.clone())
        }
        NamesCommand::Set(NamedItems { kind, name, items }) => {
            TableEdit::SetName(of(kind), name.clone(), items.clone())
        }
        NamesCommand::Remove { kind, name, items } => {
            TableEdit::RemoveName(of(kind), name.clone(), items.clone())
        }
        NamesCommand::Rename { kind, name, new } => {
            TableEdit::RenameName(of(kind), name.clone(), new.clone())
        }
    }
}

fn cut(holds: &[String]) -> String {
    const MOST: usize = 6;
    let more = holds.len().saturating_sub(MOST);
    let shown = holds.iter().take(MOST).cloned().collect::<Vec<_>>().join(", ");
    if more > 0 { format!("{shown} and {more} more") } else { shown }
}

/// Every name: the orders' own services, groups, the catalogue.
fn all_names(judge: &LoadedPolicy) -> Vec<Row> {
    let rules = &judge.brief.rules;
    let users_of = |name: &str, kind: Kind| {
        let uses = |lists: &[&Vec<String>]| lists.iter().any(|l| l.iter().any(|w| w == name));
        let using = rules.iter().filter(|rule| {
            let (traffic, source, to) = (&rule.traffic, &rule.source, &rule.destination);
            match kind {
                Kind::Service | Kind::BuiltInService => uses(&[&traffic.written, &traffic.except]),
                Kind::Group => uses(&[&source.written, &source.except, &to.written, &to.except]),
                Kind::Programs => uses(&[&rule.program.written, &rule.program.except]),
            }
        });
        using.map(|rule| rule.name.to_string()).collect::<Vec<_>>()
    };
    fn words(terms: &[Term]) -> Vec<String> {
        terms.iter().map(ToString::to_string).collect()
    }
    let own = &judge.orders.services;
    let mut rows: Vec<Row> = own
        .iter()
        .map(|(name, terms)| Row {
            name: name.clone(),
            kind: Kind::Service,
            holds: words(terms),
            used_by: users_of(name, Kind::Service),
        })
        .collect();
    rows.extend(judge.orders.groups.iter().map(|(name, set)| Row {
        name: name.clone(),
        kind: Kind::Group,
        holds: set.ranges().iter().map(ToString::to_string).collect(),
        used_by: users_of(name, Kind::Group),
    }));
    rows.extend(judge.orders.programs.iter().map(|(name, paths)| Row {
        name: name.clone(),
        kind: Kind::Programs,
        holds: paths.clone(),
        used_by: users_of(name, Kind::Programs),
    }));
    let built_in = CATALOGUE.iter().filter(|service| !own.contains_key(service.name));
    let also = ALSO.iter().filter(|(word, _)| !own.contains_key(*word));
    let also = also.filter_map(|(word, _)| Some((*word, find(word)?)));
    rows.extend(built_in.map(|service| (service.name, service)).chain(also).map(
        |(name, service)| Row {
            name: name.to_owned(),
            kind: Kind::BuiltInService,
            holds: words(service.terms),
            used_by: users_of(name, Kind::BuiltInService),
        },
    ));
    rows
}

/// The names that a port or an address goes by.
fn called(judge: &LoadedPolicy, wanted: &str) -> Result<Vec<String>, Failure> {
    if let Ok(address) = wanted.parse::<IpAddr>() {
        let groups = judge.orders.groups.iter().filter(|(_, set)| set.contains(address));
        return Ok(groups.map(|(name, _)| name.clone()).collect());
    }
    let keys = named::traffic(judge, wanted)?;
    let about =
        |terms: &[Term]| keys_of(terms).is_some_and(|own| !own.intersection(&keys).is_empty());
    let own = judge.orders.services.iter().filter(|(_, terms)| about(terms));
    let built_in = CATALOGUE.iter().filter(|service| about(service.terms));
    let names = own.map(|(name, _)| name.clone());
    Ok(names.chain(built_in.map(|service| service.name.to_owned())).collect())
}
