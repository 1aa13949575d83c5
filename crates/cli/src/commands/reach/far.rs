//! A check of another host of the orders, from this machine's own address.

use std::collections::BTreeSet;
use std::net::IpAddr;
use std::time::Duration;

use tipstaff_core::analysis::reach::{Checked, Report, Row, Vantage, subjects};
use tipstaff_core::brief::Brief;
use tipstaff_core::names::address::Family;
use tipstaff_core::orders::Host;
use tipstaff_host::routes::{Way, way_to};
use tipstaff_reach::{Place, target_column};

use super::pace::Pace;
use super::wanted;
use crate::arguments::{Common, ReachOptions};
use crate::chosen::{self, setting};
use crate::failure::{Failure, system};

/// Knocks on a host of the orders, each family by itself.
pub fn look(
    common: &Common,
    options: &ReachOptions,
    name: &str,
    quiet: bool,
) -> Result<Report, Failure> {
    let (orders, origin) = match (&common.orders, chosen::in_force(common)?.0) {
        (None, Some(in_force)) => {
            let judge = chosen::from_force(&in_force)?;
            (judge.orders, judge.origin)
        }
        _ => chosen::orders_of_file(common.orders_path())?,
    };
    let Some(host) = orders.hosts.iter().find(|host| host.name == name) else {
        let names: Vec<&str> = orders.hosts.iter().map(|host| host.name.as_str()).collect();
        return Err(Failure::Argument {
            message: format!("`{name}` is not a host in the orders; nothing else is probed"),
            help: match names.as_slice() {
                [] => "They define no [[hosts]]; omit --target to check this host.".into(),
                names => format!("They know {}.", names.join(", ")),
            },
        });
    };
    let mut brief = Brief::on(&orders, &setting(&orders, Some(name), common.posture.as_deref()));
    brief.expire(chosen::now());
    let mut places: BTreeSet<Place> = match &options.why {
        Some(port) => wanted::subjects(&orders, port)?.into_iter().map(Place::from).collect(),
        None => subjects(&brief, &[]).into_iter().map(Place::from).collect(),
    };
    for text in options.ports.iter().flat_map(|text| text.split(',')).map(str::trim) {
        places.extend(wanted::subjects(&orders, text)?.into_iter().map(Place::from));
    }
    if options.all_ports {
        places.extend(Place::all_ports());
    }
    let places: Vec<Place> = places.into_iter().collect();
    let ways = ways(host)?;
    let mut pace = Pace::new(places.len() * ways.len(), options.pace, quiet)?;
    let patience = Duration::from_millis(options.patience).max(Duration::from_millis(300));
    let own = nix::unistd::gethostname().unwrap_or_default().to_string_lossy().into_owned();
    let own = common.host.clone().unwrap_or(own);
    let (mut vantages, mut columns) = (Vec::new(), Vec::new());
    for (target, source) in ways {
        let vantage = Vantage::Machine { name: own.clone(), source };
        let column =
            target_column(&brief, &places, &vantage, target, patience, &mut || pace.go_on());
        columns.push(column.into_iter());
        vantages.push(vantage);
    }
    let rows = places
        .iter()
        .map(|place| Row {
            subject: place.subject,
            last: None,
            at: None,
            programs: Vec::new(),
            heard: false,
            cells: columns.iter_mut().map(|column| column.next().flatten()).collect(),
        })
        .collect();
    let checked = Checked {
        host: name.to_owned(),
        orders: origin,
        gate: "unknown".into(),
        at: chosen::now(),
    };
    let report = Report::new(checked, vantages, rows);
    Ok(Report { complete: !pace.is_over(), ..report })
}

/// The host's first address of each family that a way leads to, with the own
/// address of that way.
fn ways(host: &Host) -> Result<Vec<(IpAddr, IpAddr)>, Failure> {
    let mut found = Vec::new();
    let mut lost = Vec::new();
    for family in Family::BOTH {
        let addresses = host.addresses.iter().filter_map(|text| text.parse::<IpAddr>().ok());
        let Some(target) = addresses.into_iter().find(|a| Family::of_address(*a) == family) else {
            continue;
        };
        match way_to(target).map_err(system("asking the routing table"))? {
            Way::Own => {
                return Err(Failure::Argument {
                    message: format!("{target}, the address of {}, is this host's own", host.name),
                    help: "Omit --target to check this host.".into(),
                });
            }
            Way::Out { source: Some(source), .. } => found.push((target, source)),
            Way::Out { .. } | Way::None => lost.push(target.to_string()),
        }
    }
    match (found.is_empty(), lost.is_empty()) {
        (true, true) => Err(Failure::Argument {
            message: format!("the orders give no single address for {}", host.name),
            help: "Give it one in its [[hosts]]: addresses = [\"198.51.100.20\"].".into(),
        }),
        (true, false) => Err(Failure::Argument {
            message: format!("no route to {}", lost.join(" or ")),
            help: "Check this machine's routes.".into(),
        }),
        _ => Ok(found),
    }
}
