//! Whom to play: the fewest sources that show every rule, strangers, and who is there.

use std::collections::{BTreeSet, HashMap};
use std::net::IpAddr;

use tipstaff_core::analysis::reach::{
    self, Arrival, Outcome, Plan, Report, Showing, Shown, stranger,
};
use tipstaff_core::brief::{Brief, RuleIndex};
use tipstaff_core::host::interface::Interface;
use tipstaff_core::names::address::{AddressRange, Family};
use tipstaff_core::packet::{Direction, InterfaceIndex};
use tipstaff_host::neighbours;
use tipstaff_host::snapshot::Snapshot;
use tipstaff_knock::witness;

use crate::place::Place;

/// The fewest sources that show every rule, and the places that show them.
pub fn show_every_rule(brief: &Brief, snapshot: &Snapshot) -> Plan {
    let own = own_addresses(&snapshot.interfaces);
    reach::plan(
        brief,
        &snapshot.listeners,
        &mut |source| {
            let approach = witness::approach(source, None, &snapshot.interfaces).ok()?;
            approach.interface.hardware?;
            let interface = InterfaceIndex(approach.interface.index);
            Some(Arrival { target: approach.target, interface })
        },
        &own,
        &neighbours_of(snapshot),
    )
}

/// Whether a way leads back to an address, out of an interface that takes frames.
pub fn can_be_played(source: IpAddr, via: Option<&str>, snapshot: &Snapshot) -> bool {
    witness::approach(source, via, &snapshot.interfaces)
        .is_ok_and(|approach| approach.interface.hardware.is_some())
}

/// Who is known to be there.
pub fn neighbours_of(snapshot: &Snapshot) -> Vec<IpAddr> {
    let own = own_addresses(&snapshot.interfaces);
    let mut known = neighbours::list().unwrap_or_default();
    known.retain(|address| !own.contains(address));
    known
}

/// All addresses of this host.
pub fn own_addresses(interfaces: &[Interface]) -> Vec<IpAddr> {
    interfaces.iter().flat_map(|i| &i.addresses).map(|(address, _)| *address).collect()
}

/// The networks that this host is in.
/// The networks that this host itself is in.
pub fn links(interfaces: &[Interface]) -> Vec<AddressRange> {
    fn network(
        (address, length): &(IpAddr, u8),
    ) -> Result<AddressRange, tipstaff_core::names::address::AddressFault> {
        AddressRange::parse(&format!("{address}/{length}")).or_else(|fault| match fault {
            tipstaff_core::names::address::AddressFault::HostBits { network } => {
                AddressRange::parse(&network)
            }
            other => Err(other),
        })
    }
    interfaces.iter().flat_map(|i| &i.addresses).filter_map(|one| network(one).ok()).collect()
}

/// Sources that no rule names, one a family.
pub fn strangers(brief: &Brief, snapshot: &Snapshot) -> Vec<IpAddr> {
    let links = links(&snapshot.interfaces);
    Family::BOTH.into_iter().filter_map(|family| stranger(brief, family, &links)).collect()
}

/// The places that a plan knocks on, by source.
pub fn places_of(plan: &Plan, snapshot: &Snapshot) -> HashMap<IpAddr, BTreeSet<Place>> {
    let place = |showing: &Showing| {
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
pub fn shown(plan: &Plan, brief: &Brief, report: &Report) -> Vec<Shown> {
    let name = |index: Option<RuleIndex>| match index.and_then(|i| Some((i, brief.rule(i)?))) {
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
        let by = row.map(|row| format!("{} as {}", row.describe(), showing.source));
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
                why: Some("it was not checked".into()),
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
