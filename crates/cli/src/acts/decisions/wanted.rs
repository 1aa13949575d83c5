//! Which decisions are asked for on the command line.

use tipstaff_core::analysis::log::LogFilter;
use tipstaff_core::names::address::{AddressRange, AddressSet};
use tipstaff_core::names::range_set::RangeSet;
use tipstaff_core::names::traffic::TrafficKey;
use tipstaff_core::orders::edit::Which;
use tipstaff_core::orders::{Action, InterfaceCondition, Orders};
use tipstaff_core::packet::Direction;

use crate::acts::named;
use crate::arguments::DecisionOptions;
use crate::failure::Failure;

/// What was asked for, by the names of these orders; without orders, by addresses and by the
/// services that are built in.
pub fn filter(options: &DecisionOptions, orders: Option<&Orders>) -> Result<LogFilter, Failure> {
    let mut traffic: Option<RangeSet<TrafficKey>> = None;
    for text in &options.traffic {
        let keys = named::traffic_of(orders, text)?;
        traffic = Some(traffic.map_or_else(|| keys.clone(), |known| known.union(&keys)));
    }
    Ok(LogFilter {
        since: None,
        until: None,
        rules: options.rules.iter().map(|rule| Which::parse(rule)).collect(),
        verdicts: options.verdicts.iter().copied().map(Action::from).collect(),
        directions: options.ways.iter().copied().map(Direction::from).collect(),
        source: addresses(orders, &options.sources)?,
        destination: addresses(orders, &options.destinations)?,
        traffic,
        programs: options.programs.clone(),
        interface: InterfaceCondition { written: options.interfaces.clone(), except: Vec::new() },
        rehearsed: options.rehearsed.then_some(true),
    })
}

/// Addresses, networks, ranges and groups of the orders.
fn addresses(orders: Option<&Orders>, texts: &[String]) -> Result<Option<AddressSet>, Failure> {
    let mut all: Option<AddressSet> = None;
    for text in texts {
        let set = match orders.and_then(|orders| orders.groups.get(text)) {
            Some(group) => group.as_ref().clone(),
            None => match AddressRange::parse(text) {
                Ok(range) => AddressSet::from_ranges(&[range]),
                Err(fault) => return Err(no_address(orders, text, &fault)),
            },
        };
        all = Some(all.map_or_else(|| set.clone(), |known| known.union(&set)));
    }
    Ok(all)
}

fn no_address(orders: Option<&Orders>, text: &str, fault: &dyn std::fmt::Display) -> Failure {
    let groups = orders.map(|orders| &orders.groups);
    let names: Vec<&str> = groups.into_iter().flat_map(|g| g.keys()).map(String::as_str).collect();
    let groups = match names.as_slice() {
        [] => String::new(),
        names => format!(", or one of {}", names.join(", ")),
    };
    Failure::Argument {
        message: format!("`{text}`: {fault}"),
        help: format!("Give an address, a network such as 203.0.113.0/24{groups}."),
    }
}
