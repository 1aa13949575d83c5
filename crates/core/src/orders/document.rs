//! The files of the orders with the places of their rules, and what edits make of them.

use std::ops::Range;

use toml_edit::{DocumentMut, Item, Table, value};

use super::action::Action;
use super::attachments::Documents;
use super::blocks::Blocks;
use super::change::{Destination, EditFault, NewRule, Which};
use super::hosts::Inactive;
use super::model::Orders;
use super::resolve::nearest;
use super::values::{list, remaining, replace, set_key};
use crate::names::spelling;

/// One file: where its rules stand in it, and among all.
pub(super) struct DocumentFile<'t> {
    pub(super) name: Option<&'t str>,
    pub(super) text: &'t str,
    pub(super) blocks: Blocks,
    /// Index of its first rule among all.
    pub(super) first: usize,
}

/// The files in the order of their rules: the orders' own is the last.
pub(super) fn files_of<'t>(
    sheets: Documents<'t>,
    orders: &Orders,
    blocks: Vec<Option<Blocks>>,
) -> Result<Vec<DocumentFile<'t>>, EditFault> {
    let parts = sheets.parts().into_iter().map(|p| (Some(p.name.as_str()), p.text.as_str()));
    let mut files: Vec<DocumentFile<'t>> = Vec::new();
    let mut first = 0;
    for ((name, text), blocks) in parts.chain([(None, sheets.text)]).zip(blocks) {
        let blocks = blocks.ok_or(EditFault::NotTables)?;
        let count = blocks.rules.len();
        files.push(DocumentFile { name, text, blocks, first });
        first += count;
    }
    if first == orders.rules.len() { Ok(files) } else { Err(EditFault::NotTables) }
}

pub(super) struct Document<'t> {
    pub(super) files: Vec<DocumentFile<'t>>,
    pub(super) orders: Orders,
}

pub(super) struct Changed {
    /// Which file.
    pub(super) file: usize,
    pub(super) text: String,
    pub(super) at: usize,
    pub(super) told: Vec<String>,
}

/// Where a rule goes: the index of the rule that will stand behind it, and the
/// place in a file.
pub(super) struct InsertAt {
    pub(super) before: usize,
    pub(super) file: usize,
    pub(super) offset: usize,
}

impl Document<'_> {
    pub(super) fn find(&self, which: &Which) -> Result<usize, EditFault> {
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
    pub(super) fn place(&self, at: usize) -> (usize, Range<usize>) {
        let file = self
            .files
            .iter()
            .rposition(|file| file.first <= at && at - file.first < file.blocks.rules.len());
        // Every rule came out of one of the files.
        let file = file.unwrap_or_default();
        let DocumentFile { blocks, first, .. } = &self.files[file];
        (file, blocks.rules[at - first].clone())
    }

    pub(super) fn block(&self, at: usize) -> &str {
        let (file, range) = self.place(at);
        &self.files[file].text[range]
    }

    /// The text of a file with one block in place of another.
    pub(super) fn with_block(&self, at: usize, block: &str) -> (usize, String) {
        let (file, range) = self.place(at);
        let text = self.files[file].text;
        (file, format!("{}{block}{}", &text[..range.start], &text[range.end..]))
    }

    /// Before rule `at`, in its file; behind all in the orders' own.
    pub(super) fn spot_before(&self, at: usize) -> InsertAt {
        if at < self.orders.rules.len() {
            let (file, range) = self.place(at);
            return InsertAt { before: at, file, offset: range.start };
        }
        let file = self.files.len() - 1;
        let DocumentFile { text, blocks, .. } = &self.files[file];
        let offset = blocks.rules.last().map_or(text.len(), |last| last.end);
        InsertAt { before: at, file, offset }
    }

    pub(super) fn spot(&self, destination: &Destination) -> Result<InsertAt, EditFault> {
        Ok(match destination {
            Destination::First => self.spot_before(0),
            Destination::Last => self.spot_before(self.orders.rules.len()),
            Destination::Before(which) => self.spot_before(self.find(which)?),
            Destination::After(which) => {
                let at = self.find(which)?;
                let (file, range) = self.place(at);
                InsertAt { before: at + 1, file, offset: range.end }
            }
            // Behind the last is a position, too.
            Destination::At(n) if *n == self.orders.rules.len() + 1 => self.spot_before(n - 1),
            Destination::At(n) => self.spot_before(self.find(&Which::Position(*n))?),
        })
    }

    /// Changes keys of one rule and nothing else of its block.
    pub(super) fn with_keys(
        &self,
        at: usize,
        change: impl FnOnce(&mut Table),
    ) -> Result<(usize, String), EditFault> {
        Ok(self.with_block(at, &changed_block(self.block(at), "rules", change)?))
    }

    pub(super) fn set(
        &self,
        which: &Which,
        keys: &[(String, String)],
    ) -> Result<Changed, EditFault> {
        let at = self.find(which)?;
        self.leaves_some(at, keys)?;
        let (file, text) = self.with_keys(at, |table| {
            for (key, written) in keys {
                set_key(table, key, written);
            }
        })?;
        if text == self.files[file].text {
            let name = &self.orders.rules[at].name;
            return Err(EditFault::NothingToDo(format!("{name} says that already")));
        }
        let told = keys.iter().map(|(key, written)| match written.as_str() {
            written if key.ends_with('+') => {
                format!("`{}` also has {written}", key.trim_end_matches('+'))
            }
            written if key.ends_with('-') => {
                format!("`{}` no longer has {written}", key.trim_end_matches('-'))
            }
            "" => format!("`{key}` is removed"),
            written if key.trim_end_matches("_except") == "traffic" => {
                format!("`{key}` is now {}", spelling::items(written).join(", "))
            }
            written => format!("`{key}` is now {written}"),
        });
        Ok(Changed { file, text, at, told: told.collect() })
    }

    /// A list without items means anybody and anything: nobody comes to that by taking the last
    /// one out, nor leaves it by adding one.
    fn leaves_some(&self, at: usize, keys: &[(String, String)]) -> Result<(), EditFault> {
        let document = self.block(at).parse::<DocumentMut>().map_err(|_| EditFault::NotTables)?;
        let table = document.get("rules").and_then(Item::as_array_of_tables);
        let table = table.and_then(|all| all.get(0)).ok_or(EditFault::NotTables)?;
        for (key, written) in keys.iter().filter(|(key, _)| key.ends_with(['+', '-'])) {
            let list = key.trim_end_matches(['+', '-']).trim_end();
            let is_there = table.contains_key(list);
            match key.ends_with('+') {
                _ if list.ends_with("_except") => {}
                true if !is_there => return Err(EditFault::HasNone { key: list.to_owned() }),
                false if is_there && remaining(table, list, written).is_empty() => {
                    return Err(EditFault::LeavesNone { key: list.to_owned() });
                }
                _ => {}
            }
        }
        Ok(())
    }

    pub(super) fn swap_action(&self, which: &Which) -> Result<Changed, EditFault> {
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

    pub(super) fn enable(&self, which: &Which, enabled: bool) -> Result<Changed, EditFault> {
        let at = self.find(which)?;
        let rule = &self.orders.rules[at];
        if (rule.inactive != Some(Inactive::Paused)) == enabled {
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

    pub(super) fn replace_block(&self, which: &Which, block: &str) -> Result<Changed, EditFault> {
        let at = self.find(which)?;
        if block == self.block(at) {
            let name = &self.orders.rules[at].name;
            return Err(EditFault::NothingToDo(format!("{name} was left as it is")));
        }
        let (file, text) = self.with_block(at, &ended(block));
        Ok(Changed { file, text, at, told: Vec::new() })
    }

    pub(super) fn remove(&self, which: &Which) -> Result<Changed, EditFault> {
        let at = self.find(which)?;
        let (file, text) = self.with_block(at, "");
        let told = shifted(at + 1..self.orders.rules.len(), Shift::Up).into_iter().collect();
        Ok(Changed { file, text, at, told })
    }

    pub(super) fn move_to(
        &self,
        which: &Which,
        destination: &Destination,
    ) -> Result<Changed, EditFault> {
        let from = self.find(which)?;
        let behind = match destination {
            // What stands between moves up.
            Destination::At(n) if *n > from + 1 => Some(Destination::After(Which::Position(*n))),
            _ => None,
        };
        let destination = behind.as_ref().unwrap_or(destination);
        if *destination == Destination::At(from + 1) {
            let name = &self.orders.rules[from].name;
            return Err(EditFault::NothingToDo(format!("{name} is already there")));
        }
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

    pub(super) fn insert(&self, spot: InsertAt, block: &str, told: Vec<String>) -> Changed {
        let InsertAt { before, file, offset } = spot;
        let (head, tail) = self.files[file].text.split_at(offset);
        // An empty line keeps blocks apart, as their authors do.
        let parted = head.is_empty() || head.ends_with("\n\n") || head.ends_with("\r\n\r\n");
        let gap = if parted { "" } else { "\n" };
        let end = if tail.is_empty() { "" } else { "\n" };
        let text = format!("{}{gap}{}{end}{tail}", ended(head), ended(block.trim_end()));
        let shift = shifted(before..self.orders.rules.len(), Shift::Down);
        Changed { file, text, at: before, told: told.into_iter().chain(shift).collect() }
    }

    pub(super) fn add(
        &self,
        new: &NewRule,
        destination: Option<&Destination>,
    ) -> Result<Changed, EditFault> {
        let traffic: Vec<String> =
            new.traffic.iter().flat_map(|text| spelling::items(text)).collect();
        let read = (traffic != new.traffic).then(|| format!("read as {}", traffic.join(", ")));
        let new = &NewRule { traffic, ..new.clone() };
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
        let told = read.into_iter().chain([added]).collect();
        Ok(self.insert(spot, &format!("[[rules]]\n{table}"), told))
    }

    /// Before the first catch-all deny, behind which nothing ever matches.
    pub(super) fn usual_place(&self, new: &NewRule) -> (usize, Option<String>) {
        let itself = new.action != "allow"
            && new.traffic.iter().any(|t| t == "any")
            && new.source.is_empty();
        let direction = new.further.iter().find(|(key, _)| key == "direction");
        let direction = direction.map_or("inbound", |(_, written)| written.as_str());
        match self
            .orders
            .rules
            .iter()
            .position(|rule| rule.catches_all() && rule.direction.name() == direction)
        {
            Some(at) if !itself => {
                let name = &self.orders.rules[at].name;
                (at, Some(format!("after `{name}`, which denies everything, it would never match")))
            }
            _ => (self.orders.rules.len(), None),
        }
    }

    pub(super) fn copy(
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
                InsertAt { before: from + 1, file, offset: range.end }
            }
        };
        let told = format!("a copy of `{original}` was added at position {}", spot.before + 1);
        Ok(self.insert(spot, &block, vec![told]))
    }

    pub(super) fn made_up_name(&self, new: &NewRule) -> String {
        fn word(text: &str) -> String {
            let plain = text.replace(['/', ':', '.', '*'], "-");
            plain.trim_matches('-').to_owned()
        }
        let mut parts = vec![new.action.clone()];
        parts.extend(new.traffic.iter().take(2).map(|text| word(text)));
        if let Some(source) = new.source.first() {
            parts.extend(["from".to_owned(), word(source)]);
        }
        let name: String = parts.join("-").chars().take(56).collect();
        if self.is_used(&name) { self.unused(&name) } else { name }
    }

    pub(super) fn is_used(&self, name: &str) -> bool {
        self.orders.rules.iter().any(|r| r.name.as_str() == name)
    }

    /// `name-2`, `name-3` and so on, the first that is free.
    pub(super) fn unused(&self, name: &str) -> String {
        let mut number = 2;
        while self.is_used(&format!("{name}-{number}")) {
            number += 1;
        }
        format!("{name}-{number}")
    }
}

/// With a line's end at its end, unless it is empty.
pub(super) fn ended(text: &str) -> String {
    if text.is_empty() || text.ends_with('\n') { text.to_owned() } else { format!("{text}\n") }
}

/// A new text with lines that end as all of the old one's do, where those end in
/// a carriage return and a line feed.
pub(super) fn with_line_ends_of(old: &str, new: String) -> String {
    let ends = old.matches("\r\n").count();
    if ends == 0 || ends != old.matches('\n').count() {
        return new;
    }
    new.replace("\r\n", "\n").replace('\n', "\r\n")
}

#[derive(Clone, Copy)]
pub(super) enum Shift {
    Up,
    Down,
}

/// What happened to the positions of the rules with these old indexes; the
/// positions told are those after the change.
pub(super) fn shifted(old: Range<usize>, shift: Shift) -> Option<String> {
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

/// Changes keys of the one table in a block and nothing else of it.
pub(super) fn changed_block(
    block: &str,
    kind: &str,
    change: impl FnOnce(&mut Table),
) -> Result<String, EditFault> {
    let mut document: DocumentMut = block.parse().map_err(|_| EditFault::NotTables)?;
    let table = document[kind].as_array_of_tables_mut().and_then(|all| all.get_mut(0));
    change(table.ok_or(EditFault::NotTables)?);
    Ok(document.to_string())
}
