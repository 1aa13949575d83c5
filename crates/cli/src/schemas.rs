//! `schema`: the JSON Schema of the orders, or of an output.

use serde_json::Value;

use crate::acts::fleet::message;
use crate::acts::{boot_trouble, confirming, decisions, editing, last_check};
use crate::arguments::SchemaOptions;
use crate::commands::{
    areas, ask, brief, compare, cut, draft, fleet, group, history, hosts, import, install_boot,
    keep, learn, log, names, post, posture, postures, reach, rehearse, replay, review, rule, rules,
    standing, state, survey, tally, undo, watch, withdraw,
};
use crate::ending::Ending;
use crate::failure;
use crate::shape::{Shape, schema_of};
use crate::terminal::Terminal;

/// A schema that can be asked for.
type Known = (&'static str, fn() -> Value);

fn entry<S: Shape>() -> Known {
    (S::NAME, schema_of::<S>)
}

/// All outputs, by their names.
pub fn all() -> Vec<Known> {
    let mut all = vec![
        entry::<areas::Report>(),
        entry::<ask::Report<'_>>(),
        entry::<ask::Several<'_>>(),
        entry::<ask::ByKinds<'_>>(),
        entry::<boot_trouble::Booted<'_>>(),
        entry::<brief::Difference<'_>>(),
        entry::<brief::Report<'_>>(),
        entry::<compare::Report<'_>>(),
        entry::<confirming::Report>(),
        entry::<cut::Report>(),
        entry::<draft::Report<'_>>(),
        entry::<editing::Report>(),
        entry::<failure::Told<'_>>(),
        entry::<message::Answer>(),
        entry::<fleet::Decisions<'_>>(),
        entry::<fleet::Posted<'_>>(),
        entry::<fleet::Ran<'_>>(),
        entry::<fleet::Reached<'_>>(),
        entry::<fleet::State<'_>>(),
        entry::<fleet::Tallied<'_>>(),
        entry::<fleet::Tops>(),
        entry::<group::Edited<'_>>(),
        entry::<group::Exported<'_>>(),
        entry::<history::Pruned>(),
        entry::<history::Report<'_>>(),
        entry::<history::Whole<'_>>(),
        entry::<hosts::Report<'_>>(),
        entry::<import::Report<'_>>(),
        entry::<install_boot::Report>(),
        entry::<install_boot::Removed>(),
        entry::<keep::Line>(),
        entry::<keep::Recognised<'_>>(),
        entry::<learn::Report<'_>>(),
        entry::<decisions::Line>(),
        entry::<decisions::GapLine>(),
        entry::<log::Report<'_>>(),
        entry::<names::Report<'_>>(),
        entry::<post::Report>(),
        entry::<posture::Postures<'_>>(),
        entry::<posture::Report<'_>>(),
        entry::<postures::Report<'_>>(),
        entry::<reach::Crossings<'_>>(),
        entry::<last_check::Output<'_>>(),
        entry::<rehearse::Ended>(),
        entry::<rehearse::Report>(),
        entry::<replay::Report<'_>>(),
        entry::<review::Report<'_>>(),
        entry::<rule::Report<'_>>(),
        entry::<rule::Several<'_>>(),
        entry::<rules::OneRule<'_>>(),
        entry::<rules::Report<'_>>(),
        entry::<standing::Report<'_>>(),
        entry::<state::Report>(),
        entry::<state::Checked<'_>>(),
        entry::<survey::Report<'_>>(),
        entry::<tally::Report<'_>>(),
        entry::<tally::Rates<'_>>(),
        entry::<tally::Marked>(),
        entry::<undo::Report<'_>>(),
        entry::<watch::Watched<'_>>(),
        entry::<withdraw::Report>(),
    ];
    all.push(("orders", tipstaff_core::orders::schema));
    all.push(("orders-part", tipstaff_core::orders::part_schema));
    all.sort_unstable_by_key(|(name, _)| *name);
    all
}

/// Always JSON: that is what a schema is written in.
pub fn run(options: &SchemaOptions, terminal: &Terminal) -> Result<Ending, failure::Failure> {
    let all = all();
    let wanted = options.name.as_deref().unwrap_or("orders");
    let Some((_, schema)) = all.iter().find(|(name, _)| *name == wanted) else {
        let names: Vec<&str> = all.iter().map(|(name, _)| *name).collect();
        return Err(failure::Failure::Argument {
            message: format!("there is no schema `{wanted}`"),
            help: format!("There are {}.", names.join(", ")),
        });
    };
    terminal.foreign_json(&schema());
    Ok(Ending::Fine)
}
