//! Values of keys as edits write them.

use toml_edit::{Array, Item, Table, Value, value};

use crate::names::spelling;

/// The strings of a value, which is one or a list.
pub(super) fn strings(item: &Item) -> Vec<String> {
    match item.as_value() {
        Some(Value::String(one)) => vec![one.value().clone()],
        Some(Value::Array(all)) => {
            all.iter().filter_map(Value::as_str).map(str::to_owned).collect()
        }
        _ => Vec::new(),
    }
}

pub(super) fn list(words: &[String]) -> Item {
    match words {
        [one] => value(one),
        several => value(Array::from_iter(several)),
    }
}

/// Writes a key in place, keeping a comment behind the old value.
pub(super) fn replace(table: &mut Table, key: &str, mut item: Item) {
    let decor = table.get(key).and_then(Item::as_value).map(|old| old.decor().clone());
    if let (Some(decor), Some(new)) = (decor, item.as_value_mut()) {
        *new.decor_mut() = decor;
    }
    table[key] = item;
}

/// Keys whose values are lists, and so are those with `_except` behind them.
pub(super) const LISTS: [&str; 7] =
    ["traffic", "source", "destination", "interface", "program", "hosts", "postures"];

/// The items of a list as it is written with commas.
fn words_of(key: &str, written: &str) -> Vec<String> {
    match key.trim_end_matches("_except") {
        "traffic" => spelling::items(written),
        _ => written.split(',').map(|w| w.trim().to_owned()).collect(),
    }
}

/// What is left of a list without some items.
pub(super) fn remaining(table: &Table, key: &str, written: &str) -> Vec<String> {
    let gone = words_of(key, written);
    let mut words = table.get(key).map(strings).unwrap_or_default();
    words.retain(|word| !gone.contains(word));
    words
}

/// Adds items to a list (`+`), or takes them out of it (`-`); a list without any goes.
fn change_list(table: &mut Table, key: &str, sign: char, written: &str) {
    let before = table.get(key).map(strings).unwrap_or_default();
    let words = match sign {
        '-' => remaining(table, key, written),
        _ => {
            let new = words_of(key, written).into_iter().filter(|word| !before.contains(word));
            before.iter().cloned().chain(new).collect()
        }
    };
    match words.as_slice() {
        unchanged if unchanged == before => {}
        [] => drop(table.remove(key)),
        words => replace(table, key, list(words)),
    }
}

/// `true` and `false` are switches; lists are written with commas, and `key+` adds to one,
/// `key-` takes from it.
pub(super) fn set_key(table: &mut Table, key: &str, written: &str) {
    for sign in ['+', '-'] {
        if let Some(list) = key.strip_suffix(sign) {
            return change_list(table, list.trim_end(), sign, written);
        }
    }
    match written {
        "" => drop(table.remove(key)),
        "true" | "false" if matches!(key, "enabled" | "log") => {
            replace(table, key, value(written == "true"))
        }
        written if LISTS.contains(&key.trim_end_matches("_except")) => {
            replace(table, key, list(&words_of(key, written)));
        }
        written => replace(table, key, value(written)),
    }
}
