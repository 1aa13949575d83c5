//! Editing a rule in place: text in, text out, everything else untouched.
//! What would not read without a fault is not an edit but a refusal.

use std::collections::BTreeSet;

use toml_edit::value;

use super::attachments::Documents;
use super::blocks::Blocks;
pub use super::change::{
    Destination, Edit, EditFault, Edited, EditedRules, NewRule, NewText, Which,
};
use super::document::{
    Changed, Document, DocumentFile, changed_block, files_of, with_line_ends_of,
};
use super::read::{read_all, read_for_an_edit};
use super::values::replace;

/// Pauses the rules of a group, or resumes them.
///
/// # Errors
/// [`EditFault`]; then there is no new text.
pub fn enable_group<'t>(
    sheets: impl Into<Documents<'t>>,
    name: &str,
    enabled: bool,
) -> Result<NewText, EditFault> {
    let sheets = sheets.into();
    let orders = read_all(sheets).map_err(EditFault::WrongOrders)?;
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
    let blocks = Blocks::find(text).ok_or(EditFault::NotTables)?;
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

/// Applies an edit to the one file that it concerns.
///
/// # Errors
/// [`EditFault`]; then there is no new text.
pub fn edit<'t>(sheets: impl Into<Documents<'t>>, edit: &Edit) -> Result<Edited, EditFault> {
    let sheets = sheets.into();
    let (orders, blocks) = read_for_an_edit(sheets).map_err(EditFault::WrongOrders)?;
    let page = Document { files: files_of(sheets, &orders, blocks)?, orders };
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
        Edit::Replace(which, block) => page.replace_block(which, block),
    }?;
    let DocumentFile { name, text, .. } = page.files[changed.file];
    let changed = Changed { text: with_line_ends_of(text, changed.text), ..changed };
    let part = name.map(str::to_owned);
    let (main, attachments) = sheets.with(part.as_deref(), &changed.text);
    let new = read_all(Documents { text: &main, attachments: &attachments }).map_err(|faults| {
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

/// Applies edits one after the other. The rules that they name are those of the orders before:
/// a position is where a rule stands now.
///
/// # Errors
/// [`EditFault`]; then there are no new texts. [`EditFault::NothingToDo`] where all is so already.
pub fn edit_all<'t>(
    sheets: impl Into<Documents<'t>>,
    edits: Vec<Edit>,
) -> Result<EditedRules, EditFault> {
    let sheets = sheets.into();
    if let [one] = edits.as_slice() {
        // Nothing moves in between.
        let edited = edit(sheets, one)?;
        let text = NewText { part: edited.part.clone(), text: edited.text.clone() };
        return Ok(EditedRules { texts: vec![text], edits: vec![edited], already: Vec::new() });
    }
    let orders = read_all(sheets).map_err(EditFault::WrongOrders)?;
    let (mut main, mut attachments) = (sheets.text.to_owned(), sheets.attachments.clone());
    let mut done = EditedRules { texts: Vec::new(), edits: Vec::new(), already: Vec::new() };
    let mut named = edits;
    for which in named.iter_mut().flat_map(Edit::named_mut) {
        if let Which::Position(position) = which
            && let Some(rule) = position.checked_sub(1).and_then(|at| orders.rules.get(at))
        {
            *which = Which::Name(rule.name.to_string());
        }
    }
    for one in &named {
        let now = Documents { text: &main, attachments: &attachments };
        match edit(now, one) {
            Ok(edited) => {
                (main, attachments) = now.with(edited.part.as_deref(), &edited.text);
                done.texts.retain(|new| new.part != edited.part);
                done.texts.push(NewText { part: edited.part.clone(), text: edited.text.clone() });
                done.edits.push(edited);
            }
            Err(EditFault::NothingToDo(why)) => done.already.push(why),
            Err(fault) => return Err(fault),
        }
    }
    // An edit may have moved the rules of those before it.
    let now = Documents { text: &main, attachments: &attachments };
    let orders = read_all(now).map_err(EditFault::WrongOrders)?;
    for (edited, one) in done.edits.iter_mut().zip(&named) {
        let at = orders.rules.iter().position(|rule| rule.name == edited.rule.name);
        if let (Some(at), false) = (at, matches!(one, Edit::Remove(_))) {
            edited.position = at + 1;
        }
    }
    match done.edits.is_empty() {
        true => Err(EditFault::NothingToDo(done.already.join("; "))),
        false => Ok(done),
    }
}

/// The text of a rule with its comments, as it stands in its file.
///
/// # Errors
/// [`EditFault`].
pub fn block_of<'t>(sheets: impl Into<Documents<'t>>, which: &Which) -> Result<String, EditFault> {
    let sheets = sheets.into();
    let (orders, blocks) = read_for_an_edit(sheets).map_err(EditFault::WrongOrders)?;
    let page = Document { files: files_of(sheets, &orders, blocks)?, orders };
    Ok(page.block(page.find(which)?).to_owned())
}

/// One of the files without some of its rules, which are given by their indexes
/// among all; what is not in that file stays.
///
/// # Errors
/// [`EditFault`]; then there is no new text.
pub fn without_rules(
    sheets: Documents<'_>,
    part: Option<&str>,
    rules: &BTreeSet<usize>,
) -> Result<NewText, EditFault> {
    let (orders, blocks) = read_for_an_edit(sheets).map_err(EditFault::WrongOrders)?;
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
