//! Editing names of addresses, services and programs in place.

use toml_edit::{Array, Item, Value};

use super::change::EditFault;
use super::model::{NameKind, Orders};
use super::resolve::nearest;
use super::sheets::{Sheet, file_of, put, table_of, users};
use super::values::{list, strings};
use crate::names::spelling;

/// The table of the orders that has names of a kind, and the keys of rules that use them.
fn places_of(kind: NameKind) -> (&'static str, &'static [&'static str]) {
    match kind {
        NameKind::Addresses => {
            ("addresses", &["source", "source_except", "destination", "destination_except"])
        }
        NameKind::Service => ("services", &["traffic", "traffic_except"]),
        NameKind::Programs => ("programs", &["program", "program_except"]),
        NameKind::Group => ("groups", &["group"]),
    }
}

/// The items as orders write them.
fn items_of(kind: NameKind, items: &[String]) -> Vec<String> {
    let all = items.iter().flat_map(|item| match kind {
        NameKind::Service => spelling::items(item),
        _ => item.split(',').map(|part| part.trim().to_owned()).collect(),
    });
    all.filter(|item| !item.is_empty()).collect()
}

pub(super) fn add_to_name(
    files: &mut [Sheet<'_>],
    kind: NameKind,
    name: &str,
    items: &[String],
) -> Result<Vec<String>, EditFault> {
    let (table, _) = places_of(kind);
    let at = file_of(files, table, name);
    let items = items_of(kind, items);
    let Some(at) = at else { return set_name(files, kind, name, &items) };
    let table = table_of(files, at, table)?;
    let held = table.get(name).map(strings).unwrap_or_default();
    let new: Vec<String> = items.into_iter().filter(|item| !held.contains(item)).collect();
    if new.is_empty() {
        return Err(EditFault::NothingToDo(format!("{name} holds that already")));
    }
    match table.get_mut(name).and_then(Item::as_array_mut) {
        Some(array) => new.iter().for_each(|item| push(array, item)),
        None => put(table, name, list(&[&held[..], &new[..]].concat())),
    }
    Ok(vec![format!("{name} also holds {}", new.join(", "))])
}

/// Adds to a list as its last entry stands: on a line of its own, or not.
fn push(array: &mut Array, item: &str) {
    let decor = array.iter().last().map(|last| last.decor().clone());
    array.push(item);
    let at = array.len() - 1;
    if let (Some(decor), Some(new)) = (decor.filter(|_| at > 0), array.get_mut(at)) {
        let first = at == 1 && decor.prefix().and_then(|p| p.as_str()).is_none_or(str::is_empty);
        if !first {
            *new.decor_mut() = decor;
        }
    }
}

pub(super) fn set_name(
    files: &mut [Sheet<'_>],
    kind: NameKind,
    name: &str,
    items: &[String],
) -> Result<Vec<String>, EditFault> {
    let (table, _) = places_of(kind);
    let found = file_of(files, table, name);
    let items = items_of(kind, items);
    let table = table_of(files, found.unwrap_or_default(), table)?;
    put(table, name, list(&items));
    let now = if found.is_some() { "now holds" } else { "is new and holds" };
    Ok(vec![format!("{name} {now} {}", items.join(", "))])
}

/// The file of a name that is there.
fn known(files: &[Sheet<'_>], kind: NameKind, name: &str) -> Result<usize, EditFault> {
    let (table, _) = places_of(kind);
    file_of(files, table, name).ok_or_else(|| {
        let tables = files.iter().filter_map(|s| s.document.get(table)?.as_table_like());
        let names: Vec<String> =
            tables.flat_map(|table| table.iter().map(|(key, _)| key.to_owned())).collect();
        let near = nearest(name, names.iter().map(String::as_str)).map(str::to_owned);
        EditFault::NoSuchName { table, name: name.to_owned(), near }
    })
}

pub(super) fn remove_name(
    files: &mut [Sheet<'_>],
    kind: NameKind,
    name: &str,
    items: &[String],
) -> Result<Vec<String>, EditFault> {
    let at = known(files, kind, name)?;
    let (table, keys) = places_of(kind);
    if items.is_empty() {
        let mut users = users(files, keys, name);
        users.extend(files.iter().flat_map(|sheet| groups_with(sheet, kind, name)));
        return match users.is_empty() {
            true => {
                table_of(files, at, table)?.remove(name);
                Ok(vec![format!("{name} is removed")])
            }
            false => Err(EditFault::InUse { name: name.to_owned(), users }),
        };
    }
    let items = items_of(kind, items);
    let table = table_of(files, at, table)?;
    let held = table.get(name).map(strings).unwrap_or_default();
    if let Some(other) = items.iter().find(|item| !held.contains(item)) {
        return Err(EditFault::NothingToDo(format!(
            "{name} does not hold {other} (it holds {})",
            held.join(", ")
        )));
    }
    match table.get_mut(name).and_then(Item::as_array_mut) {
        Some(array) if items.len() < held.len() => {
            array.retain(|value| value.as_str().is_none_or(|v| !items.iter().any(|i| i == v)));
        }
        _ => {
            let users = users(files, keys, name);
            let told = format!("all of {name}");
            return Err(match users.is_empty() {
                true => EditFault::NothingToDo(format!(
                    "that is {told}; remove the name itself, without an item"
                )),
                false => EditFault::InUse { name: told, users },
            });
        }
    }

    Ok(vec![format!("{name} no longer holds {}", items.join(", "))])
}

/// The groups of addresses that hold a name.
fn groups_with(sheet: &Sheet<'_>, kind: NameKind, name: &str) -> Vec<String> {
    if kind != NameKind::Addresses {
        return Vec::new();
    }
    let groups = sheet.document.get("addresses").and_then(Item::as_table_like);
    let holding = groups.into_iter().flat_map(|table| {
        let all = table.iter().filter(|(_, item)| strings(item).iter().any(|word| word == name));
        all.map(|(group, _)| group.to_owned()).collect::<Vec<_>>()
    });
    holding.collect()
}

pub(super) fn rename(
    files: &mut [Sheet<'_>],
    orders: &Orders,
    (kind, name): (NameKind, &str),
    new: &str,
) -> Result<Vec<String>, EditFault> {
    let at = known(files, kind, name)?;
    let (table, keys) = places_of(kind);
    if orders.names.iter().any(|other| other.kind == kind && other.name == new) {
        return Err(EditFault::NothingToDo(format!("{new} is there already")));
    }
    let defined = table_of(files, at, table)?;
    // In its old place among the others.
    let entries: Vec<(toml_edit::Key, Item)> = {
        let keys: Vec<String> = defined.iter().map(|(key, _)| key.to_owned()).collect();
        let taken = keys.iter().filter_map(|key| {
            let whole = defined.key(key)?.clone();
            Some((whole, defined.remove(key)?))
        });
        taken.collect()
    };
    for (key, item) in entries {
        let is_it = key.get() == name;
        let text = if is_it { new } else { key.get() };
        let (leaf, dotted) = (key.leaf_decor().clone(), key.dotted_decor().clone());
        let key = toml_edit::Key::new(text).with_leaf_decor(leaf).with_dotted_decor(dotted);
        defined.entry_format(&key).or_insert(item);
    }
    let mut used = 0;
    for sheet in files.iter_mut() {
        if kind == NameKind::Addresses
            && let Some(groups) =
                sheet.document.get_mut("addresses").and_then(Item::as_table_like_mut)
        {
            groups.iter_mut().for_each(|(_, item)| used += renamed(item, name, new));
        }
        let rules = sheet.document.get_mut("rules").and_then(Item::as_array_of_tables_mut);
        for rule in rules.into_iter().flat_map(|rules| rules.iter_mut()) {
            for key in keys {
                used += rule.get_mut(key).map_or(0, |item| renamed(item, name, new));
            }
        }
    }
    let places = if used == 1 { "place uses" } else { "places use" };
    Ok(vec![format!("{name} is now called {new}; {used} {places} it")])
}

/// Another word for a name in a value; how often it was there.
fn renamed(item: &mut Item, name: &str, new: &str) -> usize {
    fn one(value: &mut Value, name: &str, new: &str) -> usize {
        if value.as_str() != Some(name) {
            return 0;
        }
        let decor = value.decor().clone();
        *value = Value::from(new);
        *value.decor_mut() = decor;
        1
    }
    match item.as_value_mut() {
        Some(Value::Array(all)) => all.iter_mut().map(|value| one(value, name, new)).sum(),
        Some(value) => one(value, name, new),
        None => 0,
    }
}
