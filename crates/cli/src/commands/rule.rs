//! `rule …`: change one rule in the file, in place.

use schemars::JsonSchema;
use serde::Serialize;
use tipstaff_core::analysis::remarks::{Remark, remarks_of};
use tipstaff_core::orders::edit::{Destination, Edit, Edited, NewRule, Which, edit};
use tipstaff_core::orders::{Action, Inactive, Rule};

use crate::arguments::{AddOptions, Common, PlaceOptions, RuleCommand};
use crate::chosen;
use crate::ending::Ending;
use crate::failure::Failure;
use crate::shape::shape;
use crate::store::Held;
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

shape!(Report<'_> => "rule-edit");

pub fn run(common: &Common, command: &RuleCommand, terminal: &Terminal) -> Result<Ending, Failure> {
    let path = common.orders_path();
    let wanted = wanted(command)?;
    let held = Held::open(path)?;
    let edited = match edit(held.sheets(), &wanted) {
        Ok(edited) => edited,
        Err(fault) => return Err(held.not_edited(path, fault)),
    };
    let removed = matches!(wanted, Edit::Remove(_));
    if let RuleCommand::Remove { yes: false, .. } = command {
        if !terminal.json {
            terminal.heading("this rule would be removed");
            show(&edited, terminal);
        }
        if !terminal.ask("Remove it?") {
            return Err(Failure::Argument {
                message: "nothing was removed".into(),
                help: "Answer yes when asked, or pass --yes in a script.".into(),
            });
        }
    }
    let path = match &edited.part {
        Some(part) => held.path_of(Some(part)),
        None => path.to_owned(),
    };
    held.replace(edited.part.as_deref(), &edited.text)?;
    let remarks = if removed { Vec::new() } else { remarks_of(&edited.rule, None, chosen::now()) };
    if terminal.json {
        let rule = &edited.rule;
        terminal.json(&Report {
            file: path.display().to_string(),
            changed: true,
            removed,
            position: edited.position,
            name: rule.name.as_str(),
            action: rule.action,
            traffic: &rule.traffic.written,
            source: &rule.source.written,
            enabled: rule.inactive != Some(Inactive::Paused),
            told: &edited.told,
            remarks: &remarks,
        });
        return Ok(Ending::Fine);
    }
    let name = &edited.rule.name;
    terminal.heading(&format!(
        "{name} {} {}",
        if removed { "removed from" } else { "changed in" },
        path.display()
    ));
    if !removed {
        show(&edited, terminal);
    }
    for told in &edited.told {
        terminal.line(format!("  {told}"));
    }
    for remark in &remarks {
        terminal.line(format!("  note: {}", remark.message));
    }
    terminal.note("  Saved. Run `tipstaff post` to put it in force.");
    Ok(Ending::Fine)
}

fn show(edited: &Edited, terminal: &Terminal) {
    let Rule { name, traffic, inactive, note, .. } = edited.rule.as_ref();
    let from = edited.rule.condition_words();
    let said = edited.rule.action;
    let mut table = Columns::new(["", "name", "action", "traffic", "source", "note"]);
    let says = match inactive {
        None => action(said, said),
        Some(inactive) => faint(format!("{said} ({})", inactive.describe())),
    };
    let note = note.clone().unwrap_or_default();
    let traffic = plain(traffic.describe());
    table.row([plain(edited.position), plain(name), says, traffic, plain(from), faint(note)]);
    terminal.table(&table);
}

pub fn wanted(command: &RuleCommand) -> Result<Edit, Failure> {
    Ok(match command {
        RuleCommand::Add(options) => Edit::Add(new_rule(options), destination(&options.place)),
        RuleCommand::Set { rule, keys } => {
            let keys = keys.iter().map(|key| assignment(key)).collect::<Result<_, _>>()?;
            Edit::Set(Which::parse(rule), keys)
        }
        RuleCommand::Move { rule, place } => {
            let destination = destination(place).ok_or_else(|| Failure::Argument {
                message: "move it where?".into(),
                help: "Give one of --before RULE, --after RULE, --first, --last.".into(),
            })?;
            Edit::Move(Which::parse(rule), destination)
        }
        RuleCommand::SwapAction { rule } => Edit::SwapAction(Which::parse(rule)),
        RuleCommand::Pause { rule } => Edit::Pause(Which::parse(rule)),
        RuleCommand::Resume { rule } => Edit::Resume(Which::parse(rule)),
        RuleCommand::Remove { rule, .. } => Edit::Remove(Which::parse(rule)),
        RuleCommand::Copy { rule, name, place } => {
            Edit::Copy(Which::parse(rule), name.clone(), destination(place))
        }
    })
}

fn new_rule(options: &AddOptions) -> NewRule {
    NewRule {
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
            ("until", &options.until),
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
    }
}

fn destination(place: &PlaceOptions) -> Option<Destination> {
    let before = place.before.as_deref().map(|rule| Destination::Before(Which::parse(rule)));
    let after = place.after.as_deref().map(|rule| Destination::After(Which::parse(rule)));
    let first = place.first.then_some(Destination::First);
    before.or(after).or(first).or(place.last.then_some(Destination::Last))
}

fn assignment(text: &str) -> Result<(String, String), Failure> {
    text.split_once('=').map(|(key, value)| (key.trim().into(), value.trim().into())).ok_or_else(
        || Failure::Argument {
            message: format!("`{text}` sets nothing"),
            help: "Write key=value, such as source=observatory,203.0.113.9".into(),
        },
    )
}
