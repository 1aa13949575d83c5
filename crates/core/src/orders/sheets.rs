//! The files of the orders as documents that are edited, and their tables.

use std::collections::BTreeSet;

use toml_edit::{DocumentMut, Item, Table, TableLike};

use super::change::EditFault;
use super::values::strings;

/// One file while it is edited.
pub(super) struct Sheet<'t> {
    pub(super) part: Option<&'t str>,
    pub(super) before: &'t str,
    pub(super) document: DocumentMut,
}

/// The index of the file that defines a name.
pub(super) fn file_of(files: &[Sheet<'_>], table: &str, name: &str) -> Option<usize> {
    files.iter().position(|sheet| {
        let table = sheet.document.get(table).and_then(Item::as_table_like);
        table.is_some_and(|table| table.contains_key(name))
    })
}

/// A table of a file; made where it is not there.
pub(super) fn table_of<'f>(
    files: &'f mut [Sheet<'_>],
    at: usize,
    name: &str,
) -> Result<&'f mut dyn TableLike, EditFault> {
    let document = &mut files.get_mut(at).ok_or(EditFault::NotTables)?.document;
    if !document.contains_key(name) {
        let mut table = Table::new();
        // Behind the standing answers rather than behind the last rule.
        let standing = document.get("standing").and_then(Item::as_table);
        table.set_position(standing.and_then(Table::position));
        table.decor_mut().set_prefix("\n");
        document.insert(name, Item::Table(table));
    }
    document.get_mut(name).and_then(Item::as_table_like_mut).ok_or(EditFault::NotTables)
}

/// Writes a value, keeping a comment behind the old one.
pub(super) fn put(table: &mut dyn TableLike, key: &str, mut item: Item) {
    let decor = table.get(key).and_then(Item::as_value).map(|old| old.decor().clone());
    if let (Some(decor), Some(new)) = (decor, item.as_value_mut()) {
        *new.decor_mut() = decor;
    }
    table.insert(key, item);
}

/// The rules that say a name under one of these keys.
pub(super) fn users(files: &[Sheet<'_>], keys: &[&str], name: &str) -> Vec<String> {
    let rules = files.iter().filter_map(|s| s.document.get("rules")?.as_array_of_tables());
    let using = rules.flatten().filter(|rule| {
        let lists = keys.iter().filter_map(|key| rule.get(key));
        lists.into_iter().any(|item| strings(item).iter().any(|word| word == name))
    });
    let names: BTreeSet<String> =
        using.filter_map(|rule| Some(format!("rule {}", rule.get("name")?.as_str()?))).collect();
    names.into_iter().collect()
}
