//! The end of a trial: it stays, or goes.

use schemars::JsonSchema;
use serde::Serialize;
use tipstaff_core::orders::OrdersHash;
use tipstaff_gate::kernel::KernelGate;
use tipstaff_gate::{Gate, Record};

use crate::arguments::Common;
use crate::failure::Failure;
use crate::history::History;
use crate::shape::shape;
use crate::terminal::Terminal;

#[derive(JsonSchema, Serialize)]
pub struct Report {
    in_force: Option<OrdersHash>,
    revision: Option<u32>,
}

shape!(Report => "confirm");

/// What is on trial stays, in the kernel first and in the history.
pub fn keep(common: &Common, gate: &mut KernelGate, terminal: &Terminal) -> Result<(), Failure> {
    let record = gate.confirm()?;
    let revision = History::from_options(common).keep(&record)?;
    if terminal.json {
        terminal.json(&Report { in_force: Some(record.hash()), revision });
    } else {
        terminal.line(format!("confirmed: orders {} stay in force", record.hash().short()));
    }
    Ok(())
}

/// Says what is in force again.
pub fn told_reverted(before: Option<&Record>, terminal: &Terminal) {
    if terminal.json {
        terminal.json(&Report { in_force: before.map(Record::hash), revision: None });
        return;
    }
    match before {
        Some(record) => {
            terminal.line(format!("reverted: orders {} are in force again", record.hash().short()))
        }
        None => terminal.line("reverted: nothing is in force, as before"),
    }
}
