//! What was asked for: from where to look, and on what to knock.

use std::collections::{BTreeSet, HashMap};
use std::net::IpAddr;

use tipstaff_core::analysis::reach::{
    MOST_RULES, Outcome, Plan, Report, Shown, Subject, Vantage, plan, stranger, typical,
};
use tipstaff_core::brief::RuleIndex;
use tipstaff_core::host::interface::Interface;
use tipstaff_core::names::address::{AddressRange, Family};
use tipstaff_core::names::traffic::{Term, Transport};
use tipstaff_core::orders::Orders;
use tipstaff_core::packet::{Direction, InterfaceIndex};
use tipstaff_host::neighbours;
use tipstaff_host::snapshot::Snapshot;
use tipstaff_knock::witness;

use super::check::Place;
use crate::arguments::ReachOptions;
use crate::chosen::Chosen;
use crate::failure::Failure;

/// What `--as` calls an address that no rule names.
const STRANGER: &str = "stranger";
/// A group with more ranges is looked at from so many of them.
pub const MOST_MEMBERS: usize = 16;

/// From where to look, as the options say.
pub fn vantages(
    options: &ReachOptions,
    judge: &Chosen,
    snapshot: &Snapshot,
    notes: &mut Vec<String>,
) -> Result<Vec<Vantage>, Failure> {
    let via = options.via.clone();
    if let Some(name) = &via
        && !snapshot.interfaces.iter().any(|i| i.name == *name)
    {
        let names: Vec<&str> = snapshot.interfaces.iter().map(|i| i.name.as_str()).collect();
        return Err(Failure::Argument {
            message: format!("this host has no interface `{name}`"),
            mend: format!("It has {}.", names.join(", ")),
        });
    }
    let mut named = options.vantages.clone();
    if named.is_empty() && via.is_some() {
        named.push(STRANGER.to_owned());
    }
    let known = there(snapshot);
    // In the order that was asked for, each once.
    let mut found: Vec<Vantage> = Vec::new();
    for name in &named {
        if let Ok(source) = name.parse::<IpAddr>() {
            found.push(Vantage::Outside { source, via: via.clone(), stands_for: None });
            continue;
        }
        let members = match name.as_str() {
            STRANGER => strangers(judge, snapshot),
            group => members(&judge.orders, group, snapshot, &known)?,
        };
        let (can, cannot): (Vec<IpAddr>, Vec<IpAddr>) =
            members.into_iter().partition(|a| can_be_played(*a, via.as_deref(), snapshot));
        for family in Family::BOTH {
            let of = |all: &[IpAddr]| all.iter().filter(|a| Family::of(**a) == family).count();
            let lost = of(&cannot);
            if lost > 0 && of(&can) == 0 {
                notes
                    .push(format!("nobody of {name} can be played by {family}: no way leads back, or not out of an interface with Ethernet frames"));
            }
        }
        if can.len() > MOST_MEMBERS {
            notes.push(format!(
                "{name} has {} ranges; looked at from {MOST_MEMBERS} of them",
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

/// Whether a way leads back to an address, out of an interface that takes frames.
fn can_be_played(source: IpAddr, via: Option<&str>, snapshot: &Snapshot) -> bool {
    witness::approach(source, via, &snapshot.interfaces)
        .is_ok_and(|approach| approach.interface.hardware.is_some())
}

/// Who is known to be there.
pub fn there(snapshot: &Snapshot) -> Vec<IpAddr> {
    let own = own_addresses(&snapshot.interfaces);
    let mut known = neighbours::list().unwrap_or_default();
    known.retain(|address| !own.contains(address));
    known
}

pub fn own_addresses(interfaces: &[Interface]) -> Vec<IpAddr> {
    interfaces.iter().flat_map(|i| &i.addresses).map(|(address, _)| *address).collect()
}

/// The networks that this host is in.
fn links(interfaces: &[Interface]) -> Vec<AddressRange> {
    let network = |(address, length): &(IpAddr, u8)| {
        AddressRange::parse(&format!("{address}/{length}")).or_else(|fault| match fault {
            tipstaff_core::names::address::AddressFault::HostBits { network } => {
                AddressRange::parse(&network)
            }
            other => Err(other),
        })
    };
    interfaces.iter().flat_map(|i| &i.addresses).filter_map(|one| network(one).ok()).collect()
}

fn strangers(judge: &Chosen, snapshot: &Snapshot) -> Vec<IpAddr> {
    let links = links(&snapshot.interfaces);
    Family::BOTH.into_iter().filter_map(|family| stranger(&judge.brief, family, &links)).collect()
}

fn members(
    orders: &Orders,
    name: &str,
    snapshot: &Snapshot,
    known: &[IpAddr],
) -> Result<Vec<IpAddr>, Failure> {
    let Some(set) = orders.groups.get(name) else {
        let mut names: Vec<&str> = orders.groups.keys().map(String::as_str).collect();
        names.push(STRANGER);
        return Err(Failure::Argument {
            message: format!("`{name}` is no address, and the orders have no group of that name"),
            mend: format!("Give an address, or one of {}.", names.join(", ")),
        });
    };
    Ok(typical(set, &own_addresses(&snapshot.interfaces), known))
}

/// Ports as `--ports` names them, as orders write traffic.
pub fn ports(judge: &Chosen, texts: &[String]) -> Result<BTreeSet<Place>, Failure> {
    let mut places = BTreeSet::new();
    for text in texts.iter().flat_map(|text| text.split(',')).map(str::trim) {
        places.extend(subjects(&judge.orders, text)?.into_iter().map(Place::from));
    }
    Ok(places)
}

/// What a traffic text means to knock on. A bare number is a TCP port.
pub fn subjects(orders: &Orders, text: &str) -> Result<Vec<Subject>, Failure> {
    let wrong = |message: String| {
        Failure::Argument {
        message,
        mend: "Write it as orders do: ssh, tcp/7410, udp/7420-7423, icmp/echo; or a TCP port's number."
            .into(),
    }
    };
    let whole = match text.bytes().all(|b| b.is_ascii_digit()) && !text.is_empty() {
        true => format!("tcp/{text}"),
        false => text.to_owned(),
    };
    let terms = orders
        .terms(&whole)
        .ok_or_else(|| wrong(format!("`{text}` is no traffic and no service")))?
        .map_err(|fault| wrong(format!("`{text}`: {fault}")))?;
    let mut subjects = Vec::new();
    for term in terms {
        match term {
            Term::Ports(transport, first, last) => {
                subjects.extend((first..=last).map(|port| Subject::Port(transport, port)));
            }
            Term::Echo | Term::Icmp => subjects.push(Subject::Echo),
            Term::Any | Term::Protocol(_) => {
                return Err(wrong(format!("`{text}` has no ports to knock on")));
            }
        }
    }
    Ok(subjects)
}

/// All TCP ports.
pub fn all_ports() -> impl Iterator<Item = Place> {
    (1..=u16::MAX).map(|port| Place::from(Subject::Port(Transport::Tcp, port)))
}

/// The fewest sources that show every rule, and the places that show them.
pub fn from_orders(judge: &Chosen, snapshot: &Snapshot) -> Result<Plan, Failure> {
    if judge.brief.rules.len() > MOST_RULES {
        return Err(Failure::Argument {
            message: format!("{} rules are too many to show one by one", judge.brief.rules.len()),
            mend: format!("Up to {MOST_RULES} can be; name sources with --as instead."),
        });
    }
    let mut way = |source: IpAddr| {
        let approach = witness::approach(source, None, &snapshot.interfaces).ok()?;
        approach.interface.hardware?;
        Some((approach.target, InterfaceIndex(approach.interface.index)))
    };
    let own = own_addresses(&snapshot.interfaces);
    Ok(plan(&judge.brief, &snapshot.listeners, &mut way, &own, &there(snapshot)))
}

/// The places that a plan knocks on, by source.
pub fn places_of(plan: &Plan, snapshot: &Snapshot) -> HashMap<IpAddr, BTreeSet<Place>> {
    let place = |showing: &tipstaff_core::analysis::reach::Showing| {
        let usual = witness::approach(showing.source, None, &snapshot.interfaces).ok();
        let at = usual.filter(|usual| usual.target != showing.target).map(|_| showing.target);
        Place { subject: showing.subject, at }
    };
    let mut places: HashMap<IpAddr, BTreeSet<Place>> = HashMap::new();
    for (_, showing) in &plan.shown {
        places.entry(showing.source).or_default().insert(place(showing));
    }
    places
}

/// Which rules a finished check has shown to be true.
pub fn shown(plan: &Plan, judge: &Chosen, report: &Report) -> Vec<Shown> {
    let name = |index: Option<RuleIndex>| match index.and_then(|i| Some((i, judge.brief.rule(i)?)))
    {
        Some((index, rule)) => format!("rule {} ({})", index.position(), rule.name),
        None => format!("the standing answer {}", Direction::Inbound),
    };
    let mut all: Vec<Shown> = Vec::new();
    for (index, showing) in &plan.shown {
        let column = report.vantages.iter().position(|v| v.source() == Some(showing.source));
        let row = report.rows.iter().find(|row| {
            row.subject == showing.subject && row.at.is_none_or(|at| at == showing.target)
        });
        let cell =
            column.zip(row).and_then(|(column, row)| row.cells.get(column).cloned().flatten());
        let by = row.map(|row| format!("{} as {}", row.words(), showing.source));
        let shown = match cell {
            Some(cell) if cell.observed.outcome == Outcome::Unknown => Shown {
                rule: name(*index),
                by,
                outcome: Some(Outcome::Unknown),
                holds: None,
                why: cell.observed.evidence,
            },
            Some(cell) => Shown {
                rule: name(*index),
                by,
                outcome: Some(cell.observed.outcome),
                holds: Some(!cell.differs()),
                why: cell.why.map(|why| why.to_string()),
            },
            None => Shown {
                rule: name(*index),
                by,
                outcome: None,
                holds: None,
                why: Some("it was not looked at".into()),
            },
        };
        all.push(shown);
    }
    all.extend(plan.not_shown.iter().map(|(index, why)| Shown {
        rule: name(Some(*index)),
        by: None,
        outcome: None,
        holds: None,
        why: Some((*why).to_owned()),
    }));
    all
}
