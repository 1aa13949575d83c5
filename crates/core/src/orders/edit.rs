//! Editing a rule in place: text in, text out, everything else untouched.
//! What would not read without a fault is not an edit but a refusal.

use std::collections::BTreeSet;
use std::fmt;
use std::ops::Range;
use std::sync::Arc;

use toml_edit::{Array, DocumentMut, Item, Table, value};

use super::action::Action;
use super::attachments::Sheets;
use super::blocks::Blocks;
use super::fault::Faults;
use super::hosts::Silence;
use super::model::{Orders, Rule};
use super::read::{read_all, read_for_an_edit};
use super::resolve::nearest;

/// Which rule: by its name or by its position, from 1.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Which {
    /// By name.
    Name(String),
    /// By position.
    Position(usize),
}

impl Which {
    /// Digits alone are a position, everything else is a name.
    pub fn parse(text: &str) -> Self {
        text.parse().map_or_else(|_| Self::Name(text.to_owned()), Self::Position)
    }
}

impl fmt::Display for Which {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Name(name) => write!(f, "`{name}`"),
            Self::Position(position) => write!(f, "at position {position}"),
        }
    }
}

/// Where a rule goes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Destination {
    /// Before everything.
    First,
    /// Behind everything.
    Last,
    /// Before a rule.
    Before(Which),
    /// Behind a rule.
    After(Which),
}

/// A rule that is to be added.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NewRule {
    /// Its name; made up from the content when absent.
    pub name: Option<String>,
    /// Why it is there.
    pub note: Option<String>,
    /// `allow` or `deny`, as written.
    pub action: String,
    /// What it is about, as written.
    pub traffic: Vec<String>,
    /// From whom, as written; any when empty.
    pub source: Vec<String>,
    /// Further keys and their values, as for [`Edit::Set`].
    pub further: Vec<(String, String)>,
}

/// One edit.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Edit {
    /// A new rule; without a destination before the first catch-all deny.
    Add(NewRule, Option<Destination>),
    /// Keys of a rule; an empty value takes the key out.
    Set(Which, Vec<(String, String)>),
    /// Another place.
    Move(Which, Destination),
    /// Allow becomes deny, deny becomes allow.
    SwapAction(Which),
    /// It keeps its place but never speaks.
    Pause(Which),
    /// It speaks again.
    Resume(Which),
    /// Gone.
    Remove(Which),
    /// The same once more under another name, right behind it unless told otherwise.
    Copy(Which, Option<String>, Option<Destination>),
}

/// What an edit made of a text.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Edited {
    /// The included file that was edited; `None` for the orders' own.
    pub part: Option<String>,
    /// The new text of that file.
    pub text: String,
    /// The rule as it is now; as it was for a removal.
    pub rule: Arc<Rule>,
    /// Its position now; the one it had for a removal.
    pub position: usize,
    /// What happened, and to the positions of others, a sentence each.
    pub told: Vec<String>,
}

/// Why nothing was edited.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum EditFault {
    /// The text has faults before the edit.
    #[error("the orders already have errors; fix them first")]
    Unsound(Faults),
    /// The text would have faults after it.
    #[error("the change would make the orders invalid; the file was not modified")]
    WouldBeUnsound {
        /// The included file it is; `None` for the orders' own.
        part: Option<String>,
        /// The text that was not written.
        text: String,
        /// What would be wrong with it.
        faults: Faults,
    },
    /// No such rule; perhaps the other one was meant.
    #[error("no rule {0}")]
    NoSuchRule(Which, Option<String>),
    /// No such group of rules.
    #[error("no rule group `{0}`")]
    NoSuchGroup(String),
    /// `rules = [...]` on one line.
    #[error("the rules are not written as [[rules]] tables; only those can be edited in place")]
    NotTables,
    /// A rule cannot stand before or behind itself.
    #[error("a rule cannot be moved next to itself")]
    NextToItself,
    /// Two files cannot be written as one.
    #[error("the rule is in {from}, and its new position is in {to}")]
    AcrossFiles {
        /// The file it is in.
        from: String,
        /// The file it would go to.
        to: String,
    },
    /// It is so already.
    #[error("{0}")]
    NothingToDo(String),
}

/// A new text of one file of the orders.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NewText {
    /// The included file; `None` for the orders' own.
    pub part: Option<String>,
    /// Its new text.
    pub text: String,
}

/// Lets the rules of a group keep their positions but do not apply, or apply again.
///
/// # Errors
/// [`EditFault`]; then there is no new text.
pub fn enable_group<'t>(
    sheets: impl Into<Sheets<'t>>,
    name: &str,
    enabled: bool,
) -> Result<NewText, EditFault> {
    let sheets = sheets.into();
    let orders = read_all(sheets).map_err(EditFault::Unsound)?;
    let group = orders.rule_groups.iter().find(|group| group.name == name);
    let group = group.ok_or_else(|| EditFault::NoSuchGroup(name.to_owned()))?;
    if group.enabled == enabled {
        let is = if enabled { "is not paused" } else { "is paused already" };
        return Err(EditFault::NothingToDo(format!("the group {name} {is}")));
    }
    let mut beside = orders.rule_groups.iter().filter(|other| other.part == group.part);
    let at = beside.position(|other| other.name == name).ok_or(EditFault::NotTables)?;
    let part = group.part.as_ref().map(ToString::to_string);
    let named = sheets.parts().into_iter().find(|p| Some(&p.name) == part.as_ref());
    let text = named.map_or(sheets.text, |part| part.text.as_str());
    let blocks = Blocks::of(text).ok_or(EditFault::NotTables)?;
    let range = blocks.groups.get(at).cloned().ok_or(EditFault::NotTables)?;
    let block = changed_block(&text[range.clone()], "groups", |table| {
        if enabled {
            table.remove("enabled");
        } else {
            replace(table, "enabled", value(false));
        }
    })?;
    let new = format!("{}{block}{}", &text[..range.start], &text[range.end..]);
    Ok(NewText { part, text: with_line_ends_of(text, new) })
}

/// Changes keys of the one table in a block and nothing else of it.
fn changed_block(
    block: &str,
    kind: &str,
    change: impl FnOnce(&mut Table),
) -> Result<String, EditFault> {
    let mut document: DocumentMut = block.parse().map_err(|_| EditFault::NotTables)?;
    let table = document[kind].as_array_of_tables_mut().and_then(|all| all.get_mut(0));
    change(table.ok_or(EditFault::NotTables)?);
    Ok(document.to_string())
}

/// Applies an edit to the one file that it concerns.
///
/// # Errors
/// [`EditFault`]; then there is no new text.
pub fn edit<'t>(sheets: impl Into<Sheets<'t>>, edit: &Edit) -> Result<Edited, EditFault> {
    let sheets = sheets.into();
    let (orders, blocks) = read_for_an_edit(sheets).map_err(EditFault::Unsound)?;
    let page = Page { files: files_of(sheets, &orders, blocks)?, orders };
    let changed = match edit {
        Edit::Add(rule, destination) => page.add(rule, destination.as_ref()),
        Edit::Set(which, keys) => page.set(which, keys),
        Edit::Move(which, destination) => page.move_to(which, destination),
        Edit::SwapAction(which) => page.swap_action(which),
        Edit::Pause(which) => page.enable(which, false),
        Edit::Resume(which) => page.enable(which, true),
        Edit::Remove(which) => page.remove(which),
        Edit::Copy(which, name, destination) => {
            page.copy(which, name.as_deref(), destination.as_ref())
        }
    }?;
    let PageFile { name, text, .. } = page.files[changed.file];
    let changed = Changed { text: with_line_ends_of(text, changed.text), ..changed };
    let part = name.map(str::to_owned);
    let (main, attachments) = sheets.with(part.as_deref(), &changed.text);
    let new = read_all(Sheets { text: &main, attachments: &attachments }).map_err(|faults| {
        EditFault::WouldBeUnsound { part: part.clone(), text: changed.text.clone(), faults }
    })?;
    let rule = match edit {
        Edit::Remove(_) => page.orders.rules.get(changed.at).cloned(),
        _ => new.rules.get(changed.at).cloned(),
    };
    let rule = rule.ok_or(EditFault::NotTables)?;
    let Changed { text, at, told, .. } = changed;
    Ok(Edited { part, text, rule, position: at + 1, told })
}

/// One of the files without some of its rules, which are given by their indexes
/// among all; what is not in that file stays.
///
/// # Errors
/// [`EditFault`]; then there is no new text.
pub fn without_rules(
    sheets: Sheets<'_>,
    part: Option<&str>,
    rules: &BTreeSet<usize>,
) -> Result<NewText, EditFault> {
    let (orders, blocks) = read_for_an_edit(sheets).map_err(EditFault::Unsound)?;
    let files = files_of(sheets, &orders, blocks)?;
    let file = files.iter().find(|file| file.name == part).ok_or(EditFault::NotTables)?;
    let mut text = String::with_capacity(file.text.len());
    let mut from = 0;
    for (at, block) in file.blocks.rules.iter().enumerate() {
        if rules.contains(&(file.first + at)) {
            text.push_str(&file.text[from..block.start]);
            from = block.end;
        }
    }
    text.push_str(&file.text[from..]);
    Ok(NewText { part: part.map(str::to_owned), text })
}

/// One file: where its rules stand in it, and among all.
struct PageFile<'t> {
    name: Option<&'t str>,
    text: &'t str,
    blocks: Blocks,
    /// Index of its first rule among all.
    first: usize,
}

/// The files in the order of their rules: the orders' own is the last.
fn files_of<'t>(
    sheets: Sheets<'t>,
    orders: &Orders,
    blocks: Vec<Option<Blocks>>,
) -> Result<Vec<PageFile<'t>>, EditFault> {
    let parts = sheets.parts().into_iter().map(|p| (Some(p.name.as_str()), p.text.as_str()));
    let mut files: Vec<PageFile<'t>> = Vec::new();
    let mut first = 0;
    for ((name, text), blocks) in parts.chain([(None, sheets.text)]).zip(blocks) {
        let blocks = blocks.ok_or(EditFault::NotTables)?;
        let count = blocks.rules.len();
        files.push(PageFile { name, text, blocks, first });
        first += count;
    }
    if first == orders.rules.len() { Ok(files) } else { Err(EditFault::NotTables) }
}

struct Page<'t> {
    files: Vec<PageFile<'t>>,
    orders: Orders,
}

struct Changed {
    /// Which file.
    file: usize,
    text: String,
    at: usize,
    told: Vec<String>,
}

/// Where a rule goes: the index of the rule that will stand behind it, and the
/// place in a file.
struct Spot {
    before: usize,
    file: usize,
    offset: usize,
}

impl Page<'_> {
    fn find(&self, which: &Which) -> Result<usize, EditFault> {
        let rules = &self.orders.rules;
        let found = match which {
            Which::Name(name) => rules.iter().position(|r| r.name.as_str() == name),
            Which::Position(n) => (1..=rules.len()).contains(n).then(|| n - 1),
        };
        found.ok_or_else(|| {
            let near = match which {
                Which::Name(name) => nearest(name, rules.iter().map(|r| r.name.as_str())),
                Which::Position(_) => None,
            };
            EditFault::NoSuchRule(which.clone(), near.map(str::to_owned))
        })
    }

    /// The file of a rule, and the bytes of its block there.
    fn place(&self, at: usize) -> (usize, Range<usize>) {
        let file = self
            .files
            .iter()
            .rposition(|file| file.first <= at && at - file.first < file.blocks.rules.len());
        // Every rule came out of one of the files.
        let file = file.unwrap_or_default();
        let PageFile { blocks, first, .. } = &self.files[file];
        (file, blocks.rules[at - first].clone())
    }

    fn block(&self, at: usize) -> &str {
        let (file, range) = self.place(at);
        &self.files[file].text[range]
    }

    /// The text of a file with one block in place of another.
    fn with_block(&self, at: usize, block: &str) -> (usize, String) {
        let (file, range) = self.place(at);
        let text = self.files[file].text;
        (file, format!("{}{block}{}", &text[..range.start], &text[range.end..]))
    }

    /// Before rule `at`, in its file; behind all in the orders' own.
    fn spot_before(&self, at: usize) -> Spot {
        if at < self.orders.rules.len() {
            let (file, range) = self.place(at);
            return Spot { before: at, file, offset: range.start };
        }
        let file = self.files.len() - 1;
        let PageFile { text, blocks, .. } = &self.files[file];
        let offset = blocks.rules.last().map_or(text.len(), |last| last.end);
        Spot { before: at, file, offset }
    }

    fn spot(&self, destination: &Destination) -> Result<Spot, EditFault> {
        Ok(match destination {
            Destination::First => self.spot_before(0),
            Destination::Last => self.spot_before(self.orders.rules.len()),
            Destination::Before(which) => self.spot_before(self.find(which)?),
            Destination::After(which) => {
                let at = self.find(which)?;
                let (file, range) = self.place(at);
                Spot { before: at + 1, file, offset: range.end }
            }
        })
    }

    /// Changes keys of one rule and nothing else of its block.
    fn with_keys(
        &self,
        at: usize,
        change: impl FnOnce(&mut Table),
    ) -> Result<(usize, String), EditFault> {
        Ok(self.with_block(at, &changed_block(self.block(at), "rules", change)?))
    }

    fn set(&self, which: &Which, keys: &[(String, String)]) -> Result<Changed, EditFault> {
        let at = self.find(which)?;
        let (file, text) = self.with_keys(at, |table| {
            for (key, written) in keys {
                set_key(table, key, written);
            }
        })?;
        let told = keys.iter().map(|(key, written)| match written.as_str() {
            "" => format!("`{key}` is removed"),
            written => format!("`{key}` is now {written}"),
        });
        Ok(Changed { file, text, at, told: told.collect() })
    }

    fn swap_action(&self, which: &Which) -> Result<Changed, EditFault> {
        let at = self.find(which)?;
        let rule = &self.orders.rules[at];
        let new = match rule.action {
            Action::Allow => Action::Deny,
            Action::Deny => Action::Allow,
            // Swapped again, it would deny: that it refused would be lost.
            Action::Refuse => {
                return Err(EditFault::NothingToDo(format!(
                    "{} refuses, which has no opposite; tipstaff rule set {} action=allow, or deny",
                    rule.name, rule.name
                )));
            }
        };
        let (file, text) =
            self.with_keys(at, |table| replace(table, "action", value(new.to_string())))?;
        Ok(Changed { file, text, at, told: vec![format!("its action is now {new}")] })
    }

    fn enable(&self, which: &Which, enabled: bool) -> Result<Changed, EditFault> {
        let at = self.find(which)?;
        let rule = &self.orders.rules[at];
        if (rule.silence != Some(Silence::Paused)) == enabled {
            let is = if enabled { "is not paused" } else { "is paused already" };
            return Err(EditFault::NothingToDo(format!("{} {is}", rule.name)));
        }
        let (file, text) = self.with_keys(at, |table| {
            if enabled {
                table.remove("enabled");
            } else {
                replace(table, "enabled", value(false));
            }
        })?;
        let told =
            if enabled { "it applies again" } else { "it keeps its position but does not apply" };
        Ok(Changed { file, text, at, told: vec![told.to_owned()] })
    }

    fn remove(&self, which: &Which) -> Result<Changed, EditFault> {
        let at = self.find(which)?;
        let (file, text) = self.with_block(at, "");
        let told = shifted(at + 1..self.orders.rules.len(), Shift::Up).into_iter().collect();
        Ok(Changed { file, text, at, told })
    }

    fn move_to(&self, which: &Which, destination: &Destination) -> Result<Changed, EditFault> {
        let from = self.find(which)?;
        let spot = self.spot(destination)?;
        let (before, offset) = (spot.before, spot.offset);
        if let Destination::Before(other) | Destination::After(other) = destination
            && self.find(other)? == from
        {
            return Err(EditFault::NextToItself);
        }
        let (file, range) = self.place(from);
        if spot.file != file {
            let name = |file: usize| self.files[file].name.unwrap_or("the orders' own").to_owned();
            return Err(EditFault::AcrossFiles { from: name(file), to: name(spot.file) });
        }
        if before == from || before == from + 1 {
            let name = &self.orders.rules[from].name;
            return Err(EditFault::NothingToDo(format!("{name} is already there")));
        }
        let block = ended(self.block(from));
        let old = self.files[file].text;
        let (text, at, shift) = if offset <= range.start {
            let (head, middle) = (&old[..offset], &old[offset..range.start]);
            let text = format!("{}{block}{middle}{}", ended(head), &old[range.end..]);
            (text, before, shifted(before..from, Shift::Down))
        } else {
            let (middle, tail) = (&old[range.end..offset], &old[offset..]);
            let text = format!("{}{}{block}{tail}", &old[..range.start], ended(middle));
            (text, before - 1, shifted(from + 1..before, Shift::Up))
        };
        let moved = format!("moved from position {} to {}", from + 1, at + 1);
        let told = std::iter::once(moved).chain(shift).collect();
        Ok(Changed { file, text, at, told })
    }

    fn insert(&self, spot: Spot, block: &str, told: Vec<String>) -> Changed {
        let Spot { before, file, offset } = spot;
        let (head, tail) = self.files[file].text.split_at(offset);
        // An empty line keeps blocks apart, as their authors do.
        let parted = head.is_empty() || head.ends_with("\n\n") || head.ends_with("\r\n\r\n");
        let gap = if parted { "" } else { "\n" };
        let end = if tail.is_empty() { "" } else { "\n" };
        let text = format!("{}{gap}{}{end}{tail}", ended(head), ended(block.trim_end()));
        let shift = shifted(before..self.orders.rules.len(), Shift::Down);
        Changed { file, text, at: before, told: told.into_iter().chain(shift).collect() }
    }

    fn add(&self, new: &NewRule, destination: Option<&Destination>) -> Result<Changed, EditFault> {
        let mut table = Table::new();
        let name = new.name.clone().unwrap_or_else(|| self.made_up_name(new));
        table["name"] = value(&name);
        if let Some(note) = &new.note {
            table["note"] = value(note);
        }
        table["action"] = value(&new.action);
        table["traffic"] = list(&new.traffic);
        if !new.source.is_empty() {
            table["source"] = list(&new.source);
        }
        for (key, written) in &new.further {
            set_key(&mut table, key, written);
        }
        let (spot, why) = match destination {
            Some(destination) => (self.spot(destination)?, None),
            None => {
                let (before, why) = self.usual_place(new);
                (self.spot_before(before), why)
            }
        };
        let before = spot.before;
        let added = match why {
            Some(why) => format!("added at position {}: {why}", before + 1),
            None => format!("added at position {}", before + 1),
        };
        Ok(self.insert(spot, &format!("[[rules]]\n{table}"), vec![added]))
    }

    /// Before the first catch-all deny, behind which nothing ever speaks.
    fn usual_place(&self, new: &NewRule) -> (usize, Option<String>) {
        let itself = new.action != "allow"
            && new.traffic.iter().any(|t| t == "any")
            && new.source.is_empty();
        let direction = new.further.iter().find(|(key, _)| key == "direction");
        let direction = direction.map_or("inbound", |(_, written)| written.as_str());
        let hides = |rule: &Arc<Rule>| rule.catches_all() && rule.direction.name() == direction;
        match self.orders.rules.iter().position(hides) {
            Some(at) if !itself => {
                let name = &self.orders.rules[at].name;
                (at, Some(format!("after `{name}`, which denies everything, it would never match")))
            }
            _ => (self.orders.rules.len(), None),
        }
    }

    fn copy(
        &self,
        which: &Which,
        name: Option<&str>,
        destination: Option<&Destination>,
    ) -> Result<Changed, EditFault> {
        let from = self.find(which)?;
        let original = self.orders.rules[from].name.as_str();
        let name = name.map_or_else(|| self.unused(original), str::to_owned);
        let block = changed_block(self.block(from), "rules", |table| {
            replace(table, "name", value(&name));
        })?;
        let spot = match destination {
            Some(destination) => self.spot(destination)?,
            None => {
                let (file, range) = self.place(from);
                Spot { before: from + 1, file, offset: range.end }
            }
        };
        let told = format!("a copy of `{original}` was added at position {}", spot.before + 1);
        Ok(self.insert(spot, &block, vec![told]))
    }

    fn made_up_name(&self, new: &NewRule) -> String {
        let word = |text: &String| {
            let plain = text.replace(['/', ':', '.', '*'], "-");
            plain.trim_matches('-').to_owned()
        };
        let mut parts = vec![new.action.clone()];
        parts.extend(new.traffic.iter().take(2).map(word));
        if let Some(source) = new.source.first() {
            parts.extend(["from".to_owned(), word(source)]);
        }
        let name: String = parts.join("-").chars().take(56).collect();
        if self.is_used(&name) { self.unused(&name) } else { name }
    }

    fn is_used(&self, name: &str) -> bool {
        self.orders.rules.iter().any(|r| r.name.as_str() == name)
    }

    /// `name-2`, `name-3` and so on, the first that is free.
    fn unused(&self, name: &str) -> String {
        let mut number = 2;
        while self.is_used(&format!("{name}-{number}")) {
            number += 1;
        }
        format!("{name}-{number}")
    }
}

/// With a line's end at its end, unless it is empty.
fn ended(text: &str) -> String {
    if text.is_empty() || text.ends_with('\n') { text.to_owned() } else { format!("{text}\n") }
}

/// A new text with lines that end as all of the old one's do, where those end in
/// a carriage return and a line feed.
fn with_line_ends_of(old: &str, new: String) -> String {
    let ends = old.matches("\r\n").count();
    if ends == 0 || ends != old.matches('\n').count() {
        return new;
    }
    new.replace("\r\n", "\n").replace('\n', "\r\n")
}

fn list(words: &[String]) -> Item {
    match words {
        [one] => value(one),
        several => value(Array::from_iter(several)),
    }
}

/// Writes a key in place, keeping a comment behind the old value.
fn replace(table: &mut Table, key: &str, mut item: Item) {
    let decor = table.get(key).and_then(Item::as_value).map(|old| old.decor().clone());
    if let (Some(decor), Some(new)) = (decor, item.as_value_mut()) {
        *new.decor_mut() = decor;
    }
    table[key] = item;
}

/// Keys whose values are lists, and so are those with `_except` behind them.
const LISTS: [&str; 7] =
    ["traffic", "source", "destination", "interface", "program", "hosts", "postures"];

/// `true` and `false` are switches; lists are written with commas.
fn set_key(table: &mut Table, key: &str, written: &str) {
    match written {
        "" => drop(table.remove(key)),
        "true" | "false" if matches!(key, "enabled" | "log") => {
            replace(table, key, value(written == "true"))
        }
        written if LISTS.contains(&key.trim_end_matches("_except")) => {
            let words: Vec<String> = written.split(',').map(|w| w.trim().to_owned()).collect();
            replace(table, key, list(&words));
        }
        written => replace(table, key, value(written)),
    }
}

#[derive(Clone, Copy)]
enum Shift {
    Up,
    Down,
}

/// What happened to the positions of the rules with these old indexes; the
/// positions told are those after the change.
fn shifted(old: Range<usize>, shift: Shift) -> Option<String> {
    let (step, way): (fn(usize) -> usize, _) = match shift {
        Shift::Up => (|index| index, "up"),
        Shift::Down => (|index| index + 2, "down"),
    };
    match old.len() {
        0 => None,
        1 => Some(format!("rule {} moved {way} by one", step(old.start))),
        _ => Some(format!("rules {}–{} moved {way} by one", step(old.start), step(old.end - 1))),
    }
}
