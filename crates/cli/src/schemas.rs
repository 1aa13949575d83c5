//! `schema`: the JSON Schema of the orders, or of an output.

use serde_json::Value;

use crate::acts::{boot_trouble, confirming};
use crate::arguments::SchemaOptions;
use crate::commands::{
    ask, brief, compare, cut, draft, group, history, hosts, install_boot, keep, names, post,
    posture, reach, review, rule, rules, state, survey, tally, watch, withdraw,
};
use crate::ending::Ending;
use crate::failure;
use crate::shape::{Shape, schema_of};
use crate::terminal::Terminal;

/// A schema that can be asked for.
type Known = (&'static str, fn() -> Value);

fn known<S: Shape>() -> Known {
    (S::NAME, schema_of::<S>)
}

/// All outputs, by their names.
pub fn all() -> Vec<Known> {
    let mut all = vec![
        known::<ask::Report<'_>>(),
        known::<boot_trouble::Booted<'_>>(),
        known::<brief::Difference<'_>>(),
        known::<brief::Report<'_>>(),
        known::<compare::Report<'_>>(),
        known::<confirming::Report>(),
        known::<cut::Report>(),
        known::<draft::Report<'_>>(),
        known::<failure::Told<'_>>(),
        known::<group::Edited<'_>>(),
        known::<group::Exported<'_>>(),
        known::<history::Pruned>(),
        known::<history::Report<'_>>(),
        known::<history::Whole<'_>>(),
        known::<hosts::Report<'_>>(),
        known::<install_boot::Report>(),
        known::<install_boot::Removed>(),
        known::<keep::Line>(),
        known::<keep::Recognised<'_>>(),
        known::<names::Report<'_>>(),
        known::<post::Report>(),
        known::<posture::Postures<'_>>(),
        known::<posture::Report<'_>>(),
        known::<reach::Crossings<'_>>(),
        known::<reach::Output<'_>>(),
        known::<review::Report<'_>>(),
        known::<rule::Report<'_>>(),
        known::<rules::OneRule<'_>>(),
        known::<rules::Report<'_>>(),
        known::<state::Report>(),
        known::<survey::Report<'_>>(),
        known::<tally::Report<'_>>(),
        known::<watch::Line<'_>>(),
        known::<withdraw::Report>(),
    ];
    all.push(("orders", tipstaff_core::orders::schema));
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
            mend: format!("There are {}.", names.join(", ")),
        });
    };
    terminal.foreign_json(&schema());
    Ok(Ending::Fine)
}
