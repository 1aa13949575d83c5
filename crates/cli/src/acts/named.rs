//! What people name: a rule in force, traffic.

use tipstaff_core::brief::RuleIndex;
use tipstaff_core::names::range_set::RangeSet;
use tipstaff_core::names::traffic::{TrafficKey, keys_of};
use tipstaff_core::orders::edit::Which;
use tipstaff_core::orders::{Orders, built_in_terms};

use crate::chosen::LoadedPolicy;
use crate::failure::Failure;

/// The rule in force of that name or position.
pub fn rule(judge: &LoadedPolicy, wanted: &str) -> Result<RuleIndex, Failure> {
    rule_among(judge.brief.rules().map(|rule| rule.name.as_str()), wanted)
}

/// The same among names in their order.
pub fn rule_among<'n>(
    names: impl Iterator<Item = &'n str>,
    wanted: &str,
) -> Result<RuleIndex, Failure> {
    let which = Which::parse(wanted);
    let mut indexed = (0..).map(RuleIndex).zip(names);
    let found = indexed.find(|(index, name)| match &which {
        Which::Name(wanted) => name == wanted,
        Which::Position(position) => index.position() == *position,
    });
    found.map(|(index, _)| index).ok_or_else(|| Failure::Argument {
        message: format!("no rule {which} is in force"),
        help: "See their names and positions with `tipstaff rules --in-force`.".into(),
    })
}

/// The keys of a traffic text; a bare number is a TCP port, as everywhere.
pub fn traffic(judge: &LoadedPolicy, text: &str) -> Result<RangeSet<TrafficKey>, Failure> {
    traffic_of(Some(&judge.orders), text)
}

/// The same; without orders, by the services that are built in.
pub fn traffic_of(orders: Option<&Orders>, text: &str) -> Result<RangeSet<TrafficKey>, Failure> {
    let wrong = |why: String| Failure::Argument {
        message: format!("invalid traffic `{text}`{why}"),
        help: "Write a port such as 22, or tcp/22, ssh, icmp/echo.".into(),
    };
    let terms = match orders {
        Some(orders) => orders.terms(text),
        None => built_in_terms(text),
    };
    match terms {
        Some(Ok(terms)) => Ok(keys_of(&terms).unwrap_or_else(RangeSet::full)),
        Some(Err(fault)) => Err(wrong(format!(": {fault}"))),
        None => Err(wrong(String::new())),
    }
}
