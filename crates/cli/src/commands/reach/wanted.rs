//! What was asked for: from where to look, and on what to knock.

use std::collections::BTreeSet;
use std::net::IpAddr;

use tipstaff_core::analysis::reach::{MOST_RULES, Plan, Subject, Vantage};
use tipstaff_core::names::address::Family;
use tipstaff_core::names::traffic::Term;
use tipstaff_core::orders::Orders;
use tipstaff_host::snapshot::Snapshot;
use tipstaff_reach::{Place, plan};

use crate::acts::sources::{STRANGER, members};
use crate::arguments::ReachOptions;
use crate::chosen::LoadedPolicy;
use crate::failure::Failure;

/// A group with more ranges is looked at from so many of them.
pub const MOST_MEMBERS: usize = 16;

/// From where to look, as the options say.
pub fn vantages(
    options: &ReachOptions,
    judge: &LoadedPolicy,
    snapshot: &Snapshot,
    notes: &mut Vec<String>,
) -> Result<Vec<Vantage>, Failure> {
    let via = options.via.clone();
    if let Some(name) = &via
        && !snapshot.interfaces.iter().any(|i| i.name == *name)
    {
        let names: Vec<&str> = snapshot.interfaces.iter().map(|i| i.name.as_str()).collect();
        return Err(Failure::Argument {
            message: format!("no interface `{name}` on this host"),
            help: format!("It has {}.", names.join(", ")),
        });
    }
    let mut named = options.vantages.clone();
    if named.is_empty() && via.is_some() {
        named.push(STRANGER.to_owned());
    }
    let known = plan::neighbours_of(snapshot);
    let own = plan::own_addresses(&snapshot.interfaces);
    // In the order that was asked for, each once.
    let mut found: Vec<Vantage> = Vec::new();
    for name in &named {
        if let Ok(source) = name.parse::<IpAddr>() {
            found.push(Vantage::Outside { source, via: via.clone(), stands_for: None });
            continue;
        }
        let members = match name.as_str() {
            STRANGER => plan::strangers(&judge.brief, snapshot),
            group => members(&judge.orders, group, &own, &known)?,
        };
        let (can, cannot): (Vec<IpAddr>, Vec<IpAddr>) =
            members.into_iter().partition(|a| plan::can_be_played(*a, via.as_deref(), snapshot));
        for family in Family::BOTH {
            let of =
                |all: &[IpAddr]| all.iter().filter(|a| Family::of_address(**a) == family).count();
            let lost = of(&cannot);
            if lost > 0 && of(&can) == 0 {
                notes.push(format!(
                    "cannot probe as {name} over {family}: no return route through \
                                   an Ethernet interface"
                ));
            }
        }
        if can.len() > MOST_MEMBERS {
            notes.push(format!(
                "{name} has {} ranges; probed from {MOST_MEMBERS} of them",
                can.len()
            ));
        }
        found.extend(can.into_iter().take(MOST_MEMBERS).map(|source| {
            let stands_for = Some(name.clone());
            Vantage::Outside { source, via: via.clone(), stands_for }
        }));
    }
    let mut seen = BTreeSet::new();
    found.retain(|vantage| seen.insert(vantage.clone()));
    Ok(found)
}

/// Ports as `--ports` names them, as orders write traffic.
pub fn ports(judge: &LoadedPolicy, texts: &[String]) -> Result<BTreeSet<Place>, Failure> {
    let mut places = BTreeSet::new();
    for text in texts {
        places.extend(subjects(&judge.orders, text)?.into_iter().map(Place::from));
    }
    Ok(places)
}

/// What a traffic text means to knock on. A bare number is a TCP port.
pub fn subjects(orders: &Orders, text: &str) -> Result<Vec<Subject>, Failure> {
    fn wrong(message: String) -> Failure {
        Failure::Argument {
        message,
        help: "Write it as in orders: ssh, tcp/7410, udp/7420-7423, icmp/echo; or a TCP port's number."
            .into(),
    }
    }
    let terms = orders
        .terms(text)
        .ok_or_else(|| wrong(format!("`{text}` is neither traffic nor a service")))?
        .map_err(|fault| wrong(format!("`{text}`: {fault}")))?;
    let mut subjects = Vec::new();
    for term in terms {
        match term {
            Term::Ports(transport, first, last) => {
                subjects.extend((first..=last).map(|port| Subject::Port(transport, port)));
            }
            Term::Echo | Term::Icmp => subjects.push(Subject::Echo),
            Term::Any | Term::Protocol(_) => {
                return Err(wrong(format!("`{text}` has no ports to probe")));
            }
        }
    }
    Ok(subjects)
}

/// The fewest sources that show every rule, and the places that show them.
pub fn from_orders(judge: &LoadedPolicy, snapshot: &Snapshot) -> Result<Plan, Failure> {
    if judge.brief.rules.len() > MOST_RULES {
        return Err(Failure::Argument {
            message: format!("{} rules are too many to show one by one", judge.brief.rules.len()),
            help: format!("The limit is {MOST_RULES}; name sources with --as instead."),
        });
    }
    Ok(plan::show_every_rule(&judge.brief, snapshot))
}
