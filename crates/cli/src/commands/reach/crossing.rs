//! `reach --outbound` and `--through`: what this host can reach, and what can
//! be reached through it.

use std::net::IpAddr;
use std::time::Duration;

use schemars::JsonSchema;
use serde::Serialize;
use tipstaff_core::analysis::reach::{Crossing, Passage, Subject, Vantage, typical};
use tipstaff_core::orders::Orders;
use tipstaff_core::packet::Direction;
use tipstaff_gate::kernel::KernelGate;
use tipstaff_host::snapshot::Snapshot;
use tipstaff_reach::{Across, Destination, plan};

use super::wanted;
use crate::arguments::{Common, ReachOptions};
use crate::chosen::{self, Visible};
use crate::ending::Ending;
use crate::failure::{Failure, system};
use crate::shape::shape;
use crate::terminal::orders_words;
use crate::terminal::{Columns, Terminal, counted, faint, loud, plain};
use tipstaff_core::moment::Moment;
use tipstaff_core::orders::Origin;

#[derive(JsonSchema, Serialize)]
pub struct Report<'r> {
    host: String,
    orders: &'r Origin,
    gate: &'static str,
    at: Moment,
    crossings: &'r [Crossing],
    differences: usize,
    unknown: usize,
    notes: &'r [String],
}

shape!(Report<'_> => "reach-across");

pub fn run(
    common: &Common,
    options: &ReachOptions,
    terminal: &Terminal,
) -> Result<Ending, Failure> {
    let snapshot = Snapshot::live().map_err(system("reading what listens"))?;
    let (in_force, visible) = chosen::in_force(common)?;
    let Some(judge) = chosen::choose(common, in_force.as_ref())? else {
        return Err(Failure::NoOrders(common.orders_path().to_owned()));
    };
    let kernel = KernelGate::new(&common.run_dir)?;
    let _told = kernel.begin_check();
    let in_force_brief = match &in_force {
        Some(in_force) => Some(chosen::from_force(in_force)?.brief),
        None => None,
    };
    let check = Across {
        brief: &judge.brief,
        snapshot: &snapshot,
        gate: in_force_brief.as_ref().map(|brief| (&kernel, brief)),
        visible: visible == Visible::Yes,
        other_orders: in_force.is_some_and(|f| f.record.hash() != judge.origin.hash()),
        patience: Duration::from_millis(options.patience),
    };
    let mut notes: Vec<String> = judge.links().iter().map(ToString::to_string).collect();
    let mut crossings = Vec::new();
    for destination in destinations(&judge.orders, &options.outbound, &snapshot)? {
        crossings.push(check.outbound(destination, options.program.as_deref())?);
    }
    let through = destinations(&judge.orders, &options.through, &snapshot)?;
    if !through.is_empty() {
        for vantage in wanted::vantages(options, &judge, &snapshot, &mut notes)? {
            let Vantage::Outside { source, via, .. } = &vantage else { continue };
            for destination in through.iter().filter(|d| d.address.is_ipv4() == source.is_ipv4()) {
                crossings.push(check.through(*source, via.as_deref(), *destination)?);
            }
        }
    }
    if crossings.is_empty() {
        return Err(Failure::Argument {
            message: "no source and destination share an address family".into(),
            help: "Name sources with --as and destinations with --through of the same family."
                .into(),
        });
    }
    let differences = crossings.iter().filter(|one| one.differs()).count();
    let unknown = crossings.iter().filter(|one| one.observed == Passage::Unknown).count();
    let gate = match (visible, check.gate) {
        (Visible::OnlyToRoot, _) => "unknown",
        (_, Some(_)) => "up",
        (_, None) => "down",
    };
    let host = judge.host.clone().unwrap_or_else(|| snapshot.host.clone());
    let report = Report {
        host,
        orders: &judge.origin,
        gate,
        at: chosen::now(),
        crossings: &crossings,
        differences,
        unknown,
        notes: &notes,
    };
    if terminal.json {
        terminal.json(&report);
    } else if !terminal.is_quiet() || differences + unknown > 0 {
        show(&report, terminal);
    }
    Ok(if differences + unknown == 0 { Ending::Fine } else { Ending::Differs })
}

/// Whom the texts mean: `192.0.2.80:443`, `udp/[2001:db8::53]:53`, `icmp/192.0.2.80`,
/// `partner:https`.
fn destinations(
    orders: &Orders,
    texts: &[String],
    snapshot: &Snapshot,
) -> Result<Vec<Destination>, Failure> {
    let mut all = Vec::new();
    for text in texts {
        let wrong = |message: String| Failure::Argument {
            message: format!("`{text}`: {message}"),
            help: "Write it as 192.0.2.80:443, [2001:db8::80]:443, udp/192.0.2.53:53, \
                   icmp/192.0.2.80, or with a group of the orders for the address."
                .into(),
        };
        let (kind, rest) = match text.split_once('/') {
            Some((kind @ ("tcp" | "udp" | "icmp"), rest)) => (kind, rest),
            _ => ("tcp", text.as_str()),
        };
        let (name, subject) = match kind {
            "icmp" => (rest, Subject::Echo),
            kind => {
                let (name, port) = rest
                    .rsplit_once(':')
                    .filter(|(name, _)| !name.contains(':') || name.ends_with(']'))
                    .ok_or_else(|| wrong("no port given".into()))?;
                let number = port.bytes().all(|b| b.is_ascii_digit());
                let traffic = if number { format!("{kind}/{port}") } else { port.to_owned() };
                let subject = match wanted::subjects(orders, &traffic)?.as_slice() {
                    [one] => *one,
                    several => {
                        return Err(wrong(format!(
                            "{port} is {}; give one port at a time",
                            counted(several.len(), "port", "ports")
                        )));
                    }
                };
                (name, subject)
            }
        };
        let bare = name.strip_prefix('[').and_then(|n| n.strip_suffix(']')).unwrap_or(name);
        let addresses = match (bare.parse::<IpAddr>(), orders.groups.get(bare)) {
            (Ok(address), _) => vec![address],
            (Err(_), Some(set)) => typical(
                set,
                &plan::own_addresses(&snapshot.interfaces),
                &plan::neighbours_of(snapshot),
            ),
            (Err(_), None) => {
                return Err(wrong(format!(
                    "`{bare}` is neither an address nor an address group of \
                                          the orders"
                )));
            }
        };
        all.extend(
            addresses
                .into_iter()
                .take(wanted::MOST_MEMBERS)
                .map(|address| Destination { subject, address }),
        );
    }
    Ok(all)
}

fn show(report: &Report<'_>, terminal: &Terminal) {
    let of = |direction| {
        let all = report.crossings.iter().filter(move |one| one.direction == direction);
        all.collect::<Vec<_>>()
    };
    let (out, through) = (of(Direction::Outbound), of(Direction::Transit));
    let heading = match (out.is_empty(), through.is_empty()) {
        (_, true) => format!("reach out of {}", report.host),
        (true, _) => format!("reach through {}", report.host),
        _ => format!("reach out of and through {}", report.host),
    };
    terminal.heading(&heading);
    let gate = if report.gate == "unknown" { "not visible from here" } else { report.gate };
    terminal.note(&format!("expected: by the {}; the gate is {gate}", orders_words(report.orders)));
    let mut table = Columns::new(["to", "from", "way", "seen", "evidence"]);
    for one in out.into_iter().chain(through) {
        let way = match (&one.comes_in, &one.leaves) {
            (_, None) => "no route".to_owned(),
            (Some(comes_in), Some(leaves)) => format!("{comes_in} to {leaves}"),
            (None, Some(leaves)) => format!("out of {leaves}"),
        };
        let from = match one.source.is_unspecified() {
            true => "this host".to_owned(),
            false => one.source.to_string(),
        };
        let seen = format!("{} ({})", one.observed, one.how);
        let seen = match (one.differs(), one.observed) {
            (true, _) => loud(format!("≠ {seen}")),
            (false, Passage::Passes) => plain(seen),
            (false, _) => faint(seen),
        };
        let program = one.program.as_ref().map(|p| format!(" ({p})")).unwrap_or_default();
        table.row([
            plain(describe(one)),
            plain(format!("{from}{program}")),
            plain(way),
            seen,
            faint(&one.evidence),
        ]);
    }
    terminal.table(&table);
    for note in report.notes {
        terminal.note(note);
    }
    terminal.heading(&match (report.differences, report.unknown) {
        (0, 0) => "everything behaves as ordered".to_owned(),
        (0, unknown) => format!("{} unknown; nothing observed differs from the orders", unknown),
        (differences, _) => counted(differences, "difference", "differences"),
    });
    for one in report.crossings.iter().filter(|one| one.differs()) {
        let why = one.why.as_deref().unwrap_or_default();
        terminal.line(format!("  {} from {}: {why}", describe(one), one.source));
        let meant = match one.expected {
            Passage::Passes => "should pass",
            Passage::Refused => "should be refused",
            Passage::Kept | Passage::Unknown => "should be stopped",
        };
        let by = &one.expected_by;
        let verb = if one.observed == Passage::Passes { "" } else { "is " };
        terminal.note(&format!("    {meant} by {by}, but {verb}{}", one.observed));
        if let Some(next) = &one.next {
            terminal.line(format!("    next: {next}"));
        }
    }
}

fn describe(one: &Crossing) -> String {
    format!("{} at {}", one.subject, one.destination)
}
