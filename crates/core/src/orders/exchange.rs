//! A group of rules as a TOML fragment: its rules and the names that they use,
//! taken out of one file of orders and put into another.

use std::collections::{BTreeMap, BTreeSet};

use toml_edit::{DocumentMut, Item, Table, Value};

use super::attachments::Documents;
use super::edit::EditFault;
use super::model::{Orders, Rule};
use super::read::read_all;

/// Tables of names that a group may use.
const NAMES: [&str; 3] = ["services", "programs", "addresses"];

/// The fragment of a group: names it uses, the group itself, its rules.
///
/// # Errors
/// [`EditFault::WrongOrders`], [`EditFault::NoSuchGroup`], [`EditFault::NotTables`].
pub fn export_group<'t>(sheets: impl Into<Documents<'t>>, name: &str) -> Result<String, EditFault> {
    let sheets = sheets.into();
    let orders = read_all(sheets).map_err(EditFault::WrongOrders)?;
    if !orders.rule_groups.iter().any(|group| group.name == name) {
        return Err(EditFault::NoSuchGroup(name.to_owned()));
    }
    let documents = documents(sheets)?;
    let rules: Vec<&Rule> =
        orders.rules().filter(|rule| rule.group.as_deref() == Some(name)).collect();
    let mut fragment = DocumentMut::new();
    let traffic = rules.iter().flat_map(|r| r.traffic.written.iter().chain(&r.traffic.except));
    take_names(&documents, &mut fragment, "services", &traffic.cloned().collect());
    let programs = rules.iter().flat_map(|r| r.program.written.iter().chain(&r.program.except));
    take_names(&documents, &mut fragment, "programs", &programs.cloned().collect());
    let addresses = rules.iter().flat_map(|r| {
        let (source, destination) = (&r.source, &r.destination);
        [&source.written, &source.except, &destination.written, &destination.except]
    });
    let addresses = addresses.flatten().cloned().collect();
    let addresses = with_inner_groups(&documents, addresses);
    take_names(&documents, &mut fragment, "addresses", &addresses);
    take_tables(&documents, &mut fragment, "groups", |table| text_at(table, "name") == Some(name));
    take_tables(&documents, &mut fragment, "rules", |table| text_at(table, "group") == Some(name));
    Ok(fragment.to_string().trim_start().to_owned())
}

/// All files, in the order of their rules.
fn documents(sheets: Documents<'_>) -> Result<Vec<DocumentMut>, EditFault> {
    let parts = sheets.parts().into_iter().map(|part| part.text.as_str());
    let texts = parts.chain([sheets.text]);
    texts.map(|text| text.parse().map_err(|_| EditFault::NotTables)).collect()
}

fn text_at<'t>(table: &'t Table, key: &str) -> Option<&'t str> {
    table.get(key).and_then(Item::as_str)
}

fn take_names(from: &[DocumentMut], to: &mut DocumentMut, kind: &str, used: &BTreeSet<String>) {
    let mut table = Table::new();
    let all = from.iter().filter_map(|d| d.get(kind)?.as_table()).flat_map(Table::iter);
    for (name, item) in all.filter(|(name, _)| used.contains(*name)) {
        table.insert(name, item.clone());
    }
    if !table.is_empty() {
        to.insert(kind, Item::Table(table));
    }
}

/// Groups of addresses may hold others, and those others again.
fn with_inner_groups(documents: &[DocumentMut], mut used: BTreeSet<String>) -> BTreeSet<String> {
    let tables = documents.iter().filter_map(|d| d.get("addresses")?.as_table());
    let all: BTreeMap<&str, &Item> = tables.flat_map(Table::iter).collect();
    loop {
        let inner: BTreeSet<String> = all
            .iter()
            .filter(|(name, _)| used.contains(**name))
            .flat_map(|(_, item)| words_of(item))
            .filter(|word| all.contains_key(word.as_str()) && !used.contains(word))
            .collect();
        if inner.is_empty() {
            return used;
        }
        used.extend(inner);
    }
}

fn words_of(item: &Item) -> Vec<String> {
    match item.as_value() {
        Some(Value::String(word)) => vec![word.value().clone()],
        Some(Value::Array(list)) => {
            list.iter().filter_map(|v| v.as_str().map(str::to_owned)).collect()
        }
        _ => Vec::new(),
    }
}

fn take_tables(
    from: &[DocumentMut],
    to: &mut DocumentMut,
    kind: &str,
    wanted: impl Fn(&Table) -> bool,
) {
    let mut list = toml_edit::ArrayOfTables::new();
    let all = from.iter().filter_map(|d| d.get(kind)?.as_array_of_tables());
    for table in all.flat_map(|tables| tables.iter()).filter(|table| wanted(table)) {
        let mut table = table.clone();
        table.set_position(None);
        list.push(table);
    }
    to.insert(kind, Item::ArrayOfTables(list));
}

/// What stands in the way of an import, a sentence each.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum ImportFault {
    /// Either text cannot be edited.
    #[error(transparent)]
    Edit(#[from] EditFault),
    /// The fragment is no fragment of a group.
    #[error("this is not an exported group: {0}")]
    NoFragment(String),
    /// Names that both have, with different content. Nothing is overwritten.
    #[error("{}", .0.join("; "))]
    Collisions(Vec<String>),
}

/// Puts a fragment into the orders' own file: names that are new, the group, its rules
/// before the first deny of everything.
///
/// # Errors
/// [`ImportFault`]; then there is no new text.
pub fn import_group<'t>(
    sheets: impl Into<Documents<'t>>,
    fragment: &str,
) -> Result<String, ImportFault> {
    let sheets = sheets.into();
    let (text, orders) = (sheets.text, read_all(sheets).map_err(EditFault::WrongOrders)?);
    let mut document: DocumentMut = text.parse().map_err(|_| EditFault::NotTables)?;
    let new: DocumentMut = fragment
        .parse()
        .map_err(|e: toml_edit::TomlError| ImportFault::NoFragment(e.message().to_owned()))?;
    for (key, _) in new.iter() {
        if !NAMES.contains(&key) && !matches!(key, "groups" | "rules") {
            return Err(ImportFault::NoFragment(format!("it contains `{key}`")));
        }
    }
    let collisions = collisions(&documents(sheets)?, &new, &orders);
    if !collisions.is_empty() {
        return Err(ImportFault::Collisions(collisions));
    }
    let others = documents(sheets)?;
    for kind in NAMES {
        let Some(names) = new.get(kind).and_then(Item::as_table) else { continue };
        let known = |name: &str| {
            let sheets = others.iter().filter_map(|d| d.get(kind)?.as_table());
            sheets.into_iter().any(|table| table.contains_key(name))
        };
        let names: Vec<_> = names.iter().filter(|(name, _)| !known(name)).collect();
        if names.is_empty() {
            continue;
        }
        let own = document.entry(kind).or_insert(Item::Table(Table::new()));
        let own = own.as_table_mut().ok_or(EditFault::NotTables)?;
        for (name, item) in names {
            own.insert(name, item.clone());
        }
    }
    // What is left are whole blocks: they go in as text, rules where they can match.
    let text = document.to_string();
    let (groups, rules) = (tables_text(&new, "groups"), tables_text(&new, "rules"));
    let place = place_of_rules(&text, &orders)?;
    let (head, tail) = text.split_at(place);
    let gap = if head.is_empty() || head.ends_with("\n\n") { "" } else { "\n" };
    let end = if tail.is_empty() { "" } else { "\n" };
    let whole = format!("{head}{gap}{}\n{}{end}{tail}", groups.trim(), rules.trim_start());
    match read_all(Documents { text: &whole, ..sheets }) {
        Ok(_) => Ok(whole),
        Err(faults) => Err(EditFault::WouldBeUnsound { part: None, text: whole, faults }.into()),
    }
}

fn tables_text(document: &DocumentMut, kind: &str) -> String {
    let mut only = DocumentMut::new();
    if let Some(item) = document.get(kind) {
        only.insert(kind, item.clone());
    }
    only.to_string()
}

fn collisions(old: &[DocumentMut], new: &DocumentMut, orders: &Orders) -> Vec<String> {
    let mut found = Vec::new();
    for kind in NAMES {
        let Some(theirs) = new.get(kind).and_then(Item::as_table) else { continue };
        for (name, item) in theirs.iter() {
            let ours = old.iter().filter_map(|d| d.get(kind)?.as_table());
            if let Some(own) = ours.into_iter().find_map(|table| table.get(name))
                && words_of(own) != words_of(item)
            {
                found.push(format!("{kind}.{name} means something else here"));
            }
        }
    }
    let names = |kind: &str| -> Vec<String> {
        let tables = new.get(kind).and_then(Item::as_array_of_tables);
        tables
            .into_iter()
            .flat_map(|t| t.iter())
            .filter_map(|t| text_at(t, "name").map(str::to_owned))
            .collect()
    };
    let groups = names("groups");
    let taken = groups.iter().filter(|n| orders.rule_groups.iter().any(|g| g.name == **n));
    found.extend(taken.map(|name| format!("a group `{name}` already exists here")));
    let rules = names("rules");
    let taken = rules.iter().filter(|n| orders.rules.iter().any(|r| r.name.as_str() == n.as_str()));
    found.extend(taken.map(|name| format!("a rule `{name}` already exists here")));
    found
}

/// Before the first deny of everything, else at the end.
fn place_of_rules(text: &str, orders: &Orders) -> Result<usize, EditFault> {
    let blocks = super::blocks::Blocks::find(text).ok_or(EditFault::NotTables)?;
    let mut own = orders.rules().filter(|rule| rule.part.is_none());
    let catch_all = own.position(Rule::catches_all);
    let before = catch_all.and_then(|at| blocks.rules.get(at)).map(|range| range.start);
    let end = blocks.rules.last().map(|range| range.end);
    Ok(before.or(end).unwrap_or(text.len()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::orders::read;

    const HEAD: &str =
        "version = 1\n[standing]\ninbound = \"deny\"\noutbound = \"allow\"\ntransit = \"deny\"\n";

    fn house() -> String {
        format!(
            r#"{HEAD}
[addresses]
desks = "198.51.100.0/25"
house = ["desks", "2001:db8:51::/48"]
stranger = "192.0.2.66"
[services]
plates = "tcp/7410"
weather = "tcp/7430"
[[groups]]
name = "archive"
note = "The plates"
[[rules]]
name = "plates" # since spring
group = "archive"
action = "allow"
traffic = ["plates", "ssh"]
source = "house"
[[rules]]
name = "weather"
action = "allow"
traffic = "weather"
[[rules]]
name = "nothing-else"
action = "deny"
traffic = "any"
"#
        )
    }

    #[test]
    fn a_group_goes_out_with_the_names_that_it_uses_and_comes_in_again() {
        let fragment = export_group(&house(), "archive").unwrap();
        for held in ["desks", "house", "plates = \"tcp/7410\"", "# since spring", "[[groups]]"] {
            assert!(fragment.contains(held), "{held} in\n{fragment}");
        }
        for other in ["stranger", "weather", "nothing-else", "standing"] {
            assert!(!fragment.contains(other), "{other} in\n{fragment}");
        }
        let catch_all =
            "# the end\n[[rules]]\nname = \"rest\"\naction = \"deny\"\ntraffic = \"any\"\n";
        let target = format!(
            "{HEAD}\n# ours\n[addresses]\ndesks = [\"198.51.100.0/25\"] # same\n\n{catch_all}"
        );
        let merged = import_group(&target, &fragment).unwrap();
        let orders = read(&merged).unwrap();
        let names: Vec<&str> = orders.rules.iter().map(|r| r.name.as_str()).collect();
        assert_eq!(names, ["plates", "rest"], "{merged}");
        assert!(
            merged.contains("# ours\n")
                && merged.contains("# same")
                && merged.contains("# the end")
        );
        assert_eq!(orders.rules[0].group.as_deref(), Some("archive"));
        assert!(!merged.contains("\n\n\n") && merged.contains("]\n\n[[groups]]"), "{merged}");
        // What would not read with the rest does not come in.
        let wrong = fragment.replace("\"ssh\"", "\"shh\"");
        match import_group(&target, &wrong) {
            Err(ImportFault::Edit(EditFault::WouldBeUnsound { text, .. })) => {
                assert!(text.contains("\"shh\""), "{text}");
            }
            other => panic!("{other:?}"),
        }
    }

    #[test]
    fn collisions_are_told_all_at_once_and_nothing_is_overwritten() {
        let fragment = export_group(&house(), "archive").unwrap();
        let other =
            house().replace("tcp/7410", "tcp/7411").replace("198.51.100.0/25", "198.51.100.0/24");
        let Err(ImportFault::Collisions(found)) = import_group(&other, &fragment) else { panic!() };
        assert_eq!(
            found,
            [
                "services.plates means something else here",
                "addresses.desks means something else here",
                "a group `archive` already exists here",
                "a rule `plates` already exists here"
            ]
        );
        assert!(matches!(import_group(&house(), HEAD), Err(ImportFault::NoFragment(_))));
        assert_eq!(export_group(&house(), "desks"), Err(EditFault::NoSuchGroup("desks".into())));
    }
}
