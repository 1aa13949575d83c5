//! What orders name beside their own file: further files of orders and lists
//! of addresses. Core reads no files: their texts are passed in.

use std::collections::BTreeSet;

use serde::{Deserialize, Serialize};
use toml::de::{DeTable, DeValue};

use super::lists::{FILE, Lists};

/// A further file of orders.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Part {
    /// Its name, relative to the folder of the orders.
    pub name: String,
    /// Its text.
    pub text: String,
}

/// The texts of all files that orders name.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Attachments {
    /// What each pattern of `include` stands for, in their order
    /// ([`includes_named`]), or why that cannot be read.
    #[serde(default)]
    pub included: Vec<(String, Result<Vec<Part>, String>)>,
    /// Lists of addresses and feeds; `None` when nobody looked. Then a list
    /// holds nothing, which is enough for an edit and not for a decision.
    #[serde(default)]
    pub lists: Option<Lists>,
}

static NONE: Attachments = Attachments { included: Vec::new(), lists: None };

/// The text of a file of orders and what it names.
#[derive(Clone, Copy, Debug)]
pub struct Documents<'t> {
    /// The file itself.
    pub text: &'t str,
    /// What it names.
    pub attachments: &'t Attachments,
}

impl<'t> From<&'t str> for Documents<'t> {
    fn from(text: &'t str) -> Self {
        Self { text, attachments: &NONE }
    }
}

impl<'t> From<&'t String> for Documents<'t> {
    fn from(text: &'t String) -> Self {
        text.as_str().into()
    }
}

impl<'t> Documents<'t> {
    /// The included files in their order: that of the patterns, and under one
    /// pattern that of the names. A file that two patterns mean comes once.
    pub fn parts(&self) -> Vec<&'t Part> {
        let mut seen = BTreeSet::new();
        let found = self.attachments.included.iter().flat_map(|(_, parts)| parts);
        found.flatten().filter(|part| seen.insert(part.name.as_str())).collect()
    }

    /// The same with another text in place of one file's; `None` is the main one.
    /// What lists are named is not looked at anew.
    pub fn with(&self, part: Option<&str>, text: &str) -> (String, Attachments) {
        let mut attachments = self.attachments.clone();
        let Some(name) = part else { return (text.to_owned(), attachments) };
        let parts = attachments.included.iter_mut().flat_map(|(_, parts)| parts).flatten();
        parts.filter(|part| part.name == name).for_each(|part| text.clone_into(&mut part.text));
        (self.text.to_owned(), attachments)
    }
}

/// The patterns of `include`, in their order, without reading any file.
pub fn includes_named(text: &str) -> Vec<String> {
    // The whole text is parsed only where there can be one: it may be long.
    if !text.contains("include") {
        return Vec::new();
    }
    let (root, _) = DeTable::parse_recoverable(text);
    fn word(value: &DeValue<'_>) -> Option<String> {
        value.as_str().map(str::to_owned)
    }
    match root.get_ref().get("include").map(|v| v.get_ref()) {
        Some(DeValue::Array(list)) => list.iter().filter_map(|v| word(v.get_ref())).collect(),
        Some(value) => word(value).into_iter().collect(),
        None => Vec::new(),
    }
}

/// The names of all lists and feeds that a text names, without reading any.
pub fn lists_named(text: &str) -> Vec<String> {
    // As above.
    if !text.contains(FILE) && !text.contains("feed") {
        return Vec::new();
    }
    let (root, _) = DeTable::parse_recoverable(text);
    let mut names = BTreeSet::new();
    let feed = root.get_ref().get("areas").and_then(|v| v.get_ref().as_table()?.get("feed"));
    names.extend(feed.and_then(|v| v.get_ref().as_str()).map(str::to_owned));
    collect(root.get_ref(), &mut names);
    names.into_iter().collect()
}

/// The feed that a text names, without reading it.
pub fn feed_named(text: &str) -> Option<String> {
    let (root, _) = DeTable::parse_recoverable(text);
    let feed = root.get_ref().get("areas")?.get_ref().as_table()?.get("feed")?;
    feed.get_ref().as_str().map(str::to_owned)
}

fn collect(table: &DeTable<'_>, names: &mut BTreeSet<String>) {
    for (_, value) in table.iter() {
        collect_value(value.get_ref(), names);
    }
}

fn collect_value(value: &DeValue<'_>, names: &mut BTreeSet<String>) {
    match value {
        DeValue::String(text) => {
            names.extend(text.strip_prefix(FILE).map(str::to_owned));
        }
        DeValue::Array(list) => list.iter().for_each(|v| collect_value(v.get_ref(), names)),
        DeValue::Table(table) => collect(table, names),
        _ => {}
    }
}

/// Why a pattern of `include` is none; `None` when it stays in the folder of the orders.
pub(super) fn escape(pattern: &str) -> Option<&'static str> {
    if pattern.is_empty() {
        Some("the file name is empty")
    } else if pattern.starts_with('/') {
        Some("absolute paths are not allowed here; name a file in the directory of the orders")
    } else if pattern.split('/').any(|part| part == "..") {
        Some("`..` is not allowed here; name a file in the directory of the orders")
    } else {
        None
    }
}
