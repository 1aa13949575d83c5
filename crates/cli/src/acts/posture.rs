//! To take up a posture, and to know which one is meant for a place.

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use std::time::Duration;

use tipstaff_core::brief::Brief;
use tipstaff_core::host::interface::Interface;
use tipstaff_core::orders::{HostSetting, Orders, Posture, SEALED, recognise};
use tipstaff_gate::kernel::KernelGate;
use tipstaff_gate::lock::PATIENCE;
use tipstaff_gate::{Gate, GateError, Posted, Posting, Record};
use tipstaff_host::interfaces;
use tipstaff_host::routes::{Way, way_to};

use crate::arguments::Common;
use crate::chosen::{self, LoadedPolicy};
use crate::failure::{Failure, system};
use crate::history::{self, History, Prepared};
use crate::terminal::Terminal;

/// Orders for a machine that has none in force, to seal it.
const NOTHING: &str =
    "version = 1\n[standing]\ninbound = \"deny\"\noutbound = \"deny\"\ntransit = \"deny\"\n";

/// Puts the orders in force anew, in another posture. To seal a machine waits
/// for nobody and needs nothing: no orders that can be read, no disk with room.
pub fn take_up(
    common: &Common,
    gate: &mut KernelGate,
    name: &str,
    time: Option<Duration>,
    reason: Option<&str>,
    terminal: &Terminal,
) -> Result<Posted, Failure> {
    let sealed = name == SEALED;
    let (record, brief) = in_posture(gate, name)?;
    let all = interfaces::list().map_err(system("reading the interfaces"))?;
    let reason = reason.map_or_else(|| format!("posture {name}"), str::to_owned);
    let history = History::from_options(common);
    let prepare =
        |record: &Record| history.prepare(record, Some(&reason), time.is_none(), PATIENCE);
    if sealed && time.is_none() {
        let posting = Posting { brief: &brief, record };
        let posted = gate.seal(&posting, &all)?;
        // It holds already: nothing is left that could fail it.
        if let Err(e) = prepare(&posting.record).and_then(Prepared::done) {
            let after = "; after a restart the previous orders are in force again";
            terminal.warning(&format!("sealed, but not written to the history: {e}{after}"));
        }
        return Ok(posted);
    }
    let prepared = match prepare(&record) {
        Err(e) if !sealed => return Err(e),
        prepared => prepared.ok(),
    };
    let posting = Posting { brief: &brief, record };
    let posted = match time {
        Some(time) => gate.try_out(&posting, &all, time)?,
        None => gate.post(&posting, &all)?,
    };
    if let Some(prepared) = prepared {
        prepared.done()?;
    }
    Ok(posted)
}

/// Seals without a word in the history: for a start at which the orders could not be
/// put in force. They stay the ones that the next start wants.
pub fn seal_instead(gate: &mut KernelGate) -> Result<(), Failure> {
    let (record, brief) = in_posture(gate, SEALED)?;
    let all = interfaces::list().map_err(system("reading the interfaces"))?;
    gate.seal(&Posting { brief: &brief, record }, &all)?;
    Ok(())
}

/// What is in force, in another posture: as it is recorded, and what it means here.
/// Sealed there is always something.
fn in_posture(gate: &KernelGate, name: &str) -> Result<(Record, Brief), Failure> {
    let (mut record, judge) = match in_force(gate) {
        Ok(found) => found,
        Err(_) if name == SEALED => {
            let record = Record { path: None, ..Record::from_text(NOTHING) };
            let judge = chosen::of_record(&record)?;
            (record, judge)
        }
        Err(e) => return Err(e),
    };
    record.posture = chosen::which_posture(&judge.orders, Some(name))?;
    record.posted_at = jiff::Timestamp::now().as_second();
    record.posted_by = history::account();
    let brief = chosen::of_record(&record)?.brief;
    Ok((record, brief))
}

/// The orders in force, as they were posted and as they are read.
fn in_force(gate: &KernelGate) -> Result<(Record, LoadedPolicy), Failure> {
    let record = gate.in_force()?.ok_or(GateError::NothingInForce)?.record;
    let judge = chosen::of_record(&record)?;
    Ok((record, judge))
}

/// Where this machine is now.
pub fn surroundings(all: &[Interface]) -> HostSetting {
    let away = [
        IpAddr::V4(Ipv4Addr::new(192, 0, 2, 1)),
        IpAddr::V6(Ipv6Addr::new(0x2001, 0xdb8, 0, 0, 0, 0, 0, 1)),
    ];
    let gateways = away.iter().filter_map(|address| match way_to(*address) {
        Ok(Way::Out { gateway, .. }) => gateway,
        _ => None,
    });
    HostSetting {
        interfaces: all.iter().filter(|i| i.up).map(|i| i.name.clone()).collect(),
        addresses: all.iter().flat_map(|i| i.addresses.iter().map(|(a, _)| *a)).collect(),
        gateways: gateways.collect(),
    }
}

/// The posture of the orders that is recognised here.
pub fn recognised(orders: &Orders) -> Result<Option<&Posture>, Failure> {
    let all = interfaces::list().map_err(system("reading the interfaces"))?;
    Ok(recognise(&orders.postures, &surroundings(&all)))
}
