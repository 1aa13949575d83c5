//! `rule …`: change one rule in the file, in place.

use std::path::Path;

use schemars::JsonSchema;
use serde::Serialize;
use tipstaff_core::analysis::remarks::{Remark, remarks_of};
use tipstaff_core::orders::edit::{
    Destination, Edit, EditFault, Edited, NewRule, Which, block_of, edit_all,
};
use tipstaff_core::orders::{Action, Inactive, Rule};

use crate::acts::editor::{self, Written};
use crate::acts::{editing, named, when};
use crate::arguments::{AddOptions, Common, PlaceOptions, RuleCommand};
use crate::chosen;
use crate::ending::Ending;
use crate::failure::Failure;
use crate::shape::shape;
use crate::store::{Held, not_edited};
use crate::terminal::{Columns, Terminal, action, faint, plain};

#[derive(JsonSchema, Serialize)]
pub struct Report<'r> {
    file: String,
    changed: bool,
    removed: bool,
    position: usize,
    name: &'r str,
    action: Action,
    traffic: &'r [String],
    source: &'r [String],
    enabled: bool,
    told: &'r [String],
    remarks: &'r [Remark],
}

shape!(Report<'_> => "rule-edit", Several<'_> => "rule-edits");

/// Several edits of one command.
#[derive(JsonSchema, Serialize)]
pub struct Several<'r> {
    file: String,
    changed: bool,
    /// Each edit that changed something.
    edits: Vec<Report<'r>>,
    /// Why others did not: it is so already.
    already: &'r [String],
}

pub fn run(common: &Common, command: &RuleCommand, terminal: &Terminal) -> Result<Ending, Failure> {
    let path = common.orders_path();
    let held = Held::open(path)?;
    let mut by_hand = None;
    let wanted = match command {
        RuleCommand::Edit { rule } => {
            let written = by_hand.insert(written(&held, path, rule)?);
            vec![Edit::Replace(Which::parse(rule), written.text.clone())]
        }
        _ => wanted(command)?,
    };
    let several = wanted.len() > 1;
    let edited = match edit_all(held.sheets(), wanted) {
        Ok(edited) => edited,
        Err(EditFault::NothingToDo(why)) => {
            by_hand.into_iter().for_each(Written::forget);
            return Ok(editing::nothing_to_do(common, why, terminal));
        }
        Err(fault) => {
            by_hand.iter().for_each(|written| written.tell_where(terminal));
            return Err(held.not_edited(path, fault));
        }
    };
    let removed = matches!(command, RuleCommand::Remove { .. });
    if let RuleCommand::Remove { yes: false, .. } = command {
        if !terminal.json {
            let many = if several { "these rules" } else { "this rule" };
            terminal.heading(&format!("{many} would be removed"));
            show(&edited.edits, terminal);
        }
        if !terminal.ask(if several { "Remove them?" } else { "Remove it?" }) {
            return Err(Failure::Argument {
                message: "nothing was removed".into(),
                help: "Answer yes when asked, or pass --yes in a script.".into(),
            });
        }
    }
    let files: Vec<String> = edited
        .texts
        .iter()
        .map(|new| held.path_of(new.part.as_deref()).display().to_string())
        .collect();
    let file_of = |one: &Edited| held.path_of(one.part.as_deref()).display().to_string();
    let edits: Vec<(String, &Edited)> = edited.edits.iter().map(|e| (file_of(e), e)).collect();
    let replaced = held.replace_all(&edited.texts);
    match replaced.is_ok() {
        true => by_hand.into_iter().for_each(Written::forget),
        false => by_hand.iter().for_each(|written| written.tell_where(terminal)),
    }
    replaced?;
    let remarks: Vec<Vec<Remark>> = edited
        .edits
        .iter()
        .map(|one| match removed {
            true => Vec::new(),
            false => remarks_of(&one.rule, None, chosen::now()),
        })
        .collect();
    if terminal.json {
        let reports = edits
            .iter()
            .zip(&remarks)
            .map(|((file, edited), remarks)| report(file.clone(), removed, edited, remarks));
        let mut reports: Vec<Report<'_>> = reports.collect();
        match (several, reports.pop()) {
            (false, Some(only)) => terminal.json(&only),
            (_, last) => {
                reports.extend(last);
                let (file, already) = (files.join(", "), edited.already.as_slice());
                terminal.json(&Several { file, changed: true, edits: reports, already });
            }
        }
        return Ok(Ending::Fine);
    }
    let names: Vec<&str> = edited.edits.iter().map(|one| one.rule.name.as_str()).collect();
    let how = if removed { "removed from" } else { "changed in" };
    terminal.heading(&format!("{} {how} {}", names.join(", "), files.join(", ")));
    if !removed {
        show(&edited.edits, terminal);
    }
    for one in &edited.edits {
        let name = if several { format!("{}: ", one.rule.name) } else { String::new() };
        one.told.iter().for_each(|told| terminal.line(format!("  {name}{told}")));
    }
    edited.already.iter().for_each(|why| terminal.line(format!("  {why}")));
    for remark in remarks.iter().flatten() {
        terminal.line(format!("  note: {}", remark.message));
    }
    terminal
        .note("  Saved. Run `tipstaff post` to put it in force, `tipstaff undo` to take it back.");
    Ok(Ending::Fine)
}

fn report<'r>(
    file: String,
    removed: bool,
    edited: &'r Edited,
    remarks: &'r [Remark],
) -> Report<'r> {
    let rule = &edited.rule;
    Report {
        file,
        changed: true,
        removed,
        position: edited.position,
        name: rule.name.as_str(),
        action: rule.action,
        traffic: &rule.traffic.written,
        source: &rule.source.written,
        enabled: rule.inactive != Some(Inactive::Paused),
        told: &edited.told,
        remarks,
    }
}

/// The rule as somebody writes it in an editor.
fn written(held: &Held, path: &Path, rule: &str) -> Result<Written, Failure> {
    let which = Which::parse(rule);
    match block_of(held.sheets(), &which) {
        Ok(block) => editor::changed(&block),
        Err(fault) => {
            let (text, attachments) = (held.text.clone(), held.attachments.clone());
            Err(not_edited(path, text, attachments, fault))
        }
    }
}

fn show(edits: &[Edited], terminal: &Terminal) {
    let mut table = Columns::new(["", "name", "action", "traffic", "source", "note"]);
    edits.iter().for_each(|edited| add_row(&mut table, edited));
    terminal.table(&table);
}

fn add_row(table: &mut Columns, edited: &Edited) {
    let Rule { name, traffic, inactive, note, .. } = edited.rule.as_ref();
    let from = edited.rule.condition_words();
    let said = edited.rule.action;
    let says = match inactive {
        None => action(said, said),
        Some(inactive) => faint(format!("{said} ({})", inactive.describe())),
    };
    let note = note.clone().unwrap_or_default();
    let traffic = plain(traffic.describe());
    table.row([plain(edited.position), plain(name), says, traffic, plain(from), faint(note)]);
}

pub fn wanted(command: &RuleCommand) -> Result<Vec<Edit>, Failure> {
    fn each(rules: &[String], edit: fn(Which) -> Edit) -> Vec<Edit> {
        rules.iter().map(|rule| edit(Which::parse(rule))).collect()
    }
    Ok(match command {
        RuleCommand::Add(options) => {
            vec![Edit::Add(new_rule(options)?, destination(&options.place))]
        }
        RuleCommand::Set { rule, keys } => {
            let mut keys = named::assignments(keys)?;
            for (_, value) in keys.iter_mut().filter(|(key, _)| key == "until") {
                *value = when::ahead(value)?;
            }
            vec![Edit::Set(Which::parse(rule), keys)]
        }
        // It is read from the editor.
        RuleCommand::Edit { .. } => Vec::new(),
        RuleCommand::Move { rules, place } => moves(rules, place)?,
        RuleCommand::SwapAction { rule } => vec![Edit::SwapAction(Which::parse(rule))],
        RuleCommand::Pause { rules } => each(rules, Edit::Pause),
        RuleCommand::Resume { rules } => each(rules, Edit::Resume),
        RuleCommand::Remove { rules, .. } => each(rules, Edit::Remove),
        RuleCommand::Copy { rule, name, place } => {
            vec![Edit::Copy(Which::parse(rule), name.clone(), destination(place))]
        }
    })
}

/// The first goes where it is told to, each further one behind the one before.
fn moves(rules: &[String], place: &PlaceOptions) -> Result<Vec<Edit>, Failure> {
    let first = destination(place).ok_or_else(|| Failure::Argument {
        message: "move it where?".into(),
        help: "Give one of --before RULE, --after RULE, --position NUMBER, --first, --last.".into(),
    })?;
    let behind = rules.iter().map(|rule| Destination::After(Which::parse(rule)));
    let destinations = [first].into_iter().chain(behind);
    let all = rules.iter().zip(destinations);
    Ok(all.map(|(rule, destination)| Edit::Move(Which::parse(rule), destination)).collect())
}

fn new_rule(options: &AddOptions) -> Result<NewRule, Failure> {
    let until = options.until.as_deref().map(when::ahead).transpose()?;
    Ok(NewRule {
        name: options.name.clone(),
        note: options.note.clone(),
        action: options.action.clone(),
        traffic: options.traffic.clone(),
        source: options.source.clone(),
        further: [
            ("direction", &options.direction),
            ("destination", &options.destination),
            ("interface", &options.interface),
            ("program", &options.program),
            ("family", &options.family),
            ("until", &until),
            ("at_most", &options.at_most),
            ("over", &options.over),
            ("log", &options.log.then(|| "true".to_owned())),
            ("group", &options.group),
            ("hosts", &options.hosts),
            ("postures", &options.postures),
        ]
        .into_iter()
        .filter_map(|(key, value)| Some((key.to_owned(), value.clone()?)))
        .collect(),
    })
}

fn destination(place: &PlaceOptions) -> Option<Destination> {
    let before = place.before.as_deref().map(|rule| Destination::Before(Which::parse(rule)));
    let after = place.after.as_deref().map(|rule| Destination::After(Which::parse(rule)));
    let first = place.first.then_some(Destination::First);
    let at = place.position.map(|position| Destination::At(position as usize));
    before.or(after).or(at).or(first).or(place.last.then_some(Destination::Last))
}
