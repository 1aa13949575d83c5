//! Editing postures in place.

use toml_edit::{Item, Table, value};

use super::change::EditFault;
use super::hosts::{NO_POSTURE, SEALED};
use super::model::Orders;
use super::resolve::nearest;
use super::sheets::{Sheet, put, users};
use super::values::{replace, set_key};
use crate::packet::Direction;

/// The table of a posture.
fn posture_of<'f>(files: &'f mut [Sheet<'_>], name: &str) -> Option<&'f mut Table> {
    let all = files.iter_mut().filter_map(|sheet| {
        sheet.document.get_mut("postures").and_then(Item::as_array_of_tables_mut)
    });
    all.flat_map(|all| all.iter_mut())
        .find(|posture| posture.get("name").and_then(Item::as_str) == Some(name))
}

/// Sets keys of a posture; directions are its standing answers.
fn set_keys(table: &mut Table, keys: &[(String, String)]) {
    for (key, written) in keys {
        if !Direction::ALL.iter().any(|direction| direction.name() == key) {
            set_key(table, key, written);
            continue;
        }
        if !table.contains_key("standing") {
            let empty = toml_edit::InlineTable::new();
            table.insert("standing", value(empty));
        }
        let Some(standing) = table.get_mut("standing").and_then(Item::as_table_like_mut) else {
            continue;
        };
        match written.as_str() {
            "" => drop(standing.remove(key)),
            written => put(standing, key, value(written)),
        }
        if standing.is_empty() {
            table.remove("standing");
        }
    }
}

pub(super) fn add_posture(
    files: &mut [Sheet<'_>],
    orders: &Orders,
    name: &str,
    keys: &[(String, String)],
) -> Result<Vec<String>, EditFault> {
    if orders.postures.iter().any(|posture| posture.name == name)
        || [SEALED, NO_POSTURE].contains(&name)
    {
        return Err(EditFault::NothingToDo(format!("the posture {name} is there already")));
    }
    let sheet = files.first_mut().ok_or(EditFault::NotTables)?;
    let document = &mut sheet.document;
    let mut table = Table::new();
    replace(&mut table, "name", value(name));
    set_keys(&mut table, keys);
    table.decor_mut().set_prefix("\n");
    if !document.contains_key("postures") {
        document.insert("postures", Item::ArrayOfTables(toml_edit::ArrayOfTables::new()));
    }
    let all = document.get_mut("postures").and_then(Item::as_array_of_tables_mut);
    all.ok_or(EditFault::NotTables)?.push(table);
    Ok(vec![format!("the posture {name} is new")])
}

fn no_posture(orders: &Orders, name: &str) -> EditFault {
    let near = nearest(name, orders.postures.iter().map(|posture| posture.name.as_str()));
    let near = near.map(str::to_owned);
    EditFault::NoSuchName { table: "postures", name: name.to_owned(), near }
}

pub(super) fn set_posture(
    files: &mut [Sheet<'_>],
    orders: &Orders,
    name: &str,
    keys: &[(String, String)],
) -> Result<Vec<String>, EditFault> {
    let table = posture_of(files, name).ok_or_else(|| no_posture(orders, name))?;
    set_keys(table, keys);
    let told = keys.iter().map(|(key, written)| match written.as_str() {
        "" => format!("`{key}` of {name} is removed"),
        written => format!("`{key}` of {name} is now {written}"),
    });
    Ok(told.collect())
}

pub(super) fn remove_posture(
    files: &mut [Sheet<'_>],
    orders: &Orders,
    name: &str,
) -> Result<Vec<String>, EditFault> {
    if !orders.postures.iter().any(|posture| posture.name == name) {
        return Err(no_posture(orders, name));
    }
    let users = users(files, &["postures"], name);
    if !users.is_empty() {
        return Err(EditFault::InUse { name: name.to_owned(), users });
    }
    for sheet in files {
        let all = sheet.document.get_mut("postures").and_then(Item::as_array_of_tables_mut);
        if let Some(all) = all {
            all.retain(|posture| posture.get("name").and_then(Item::as_str) != Some(name));
        }
    }
    Ok(vec![format!("the posture {name} is removed")])
}
