//! `confirm`: the orders that are on trial stay, or go at once.

use tipstaff_core::orders::OrdersHash;
use tipstaff_gate::GateError;
use tipstaff_gate::kernel::KernelGate;

use crate::acts::confirming;
use crate::arguments::{Common, ConfirmOptions};
use crate::ending::Ending;
use crate::failure::Failure;
use crate::terminal::Terminal;

pub fn run(
    common: &Common,
    options: &ConfirmOptions,
    terminal: &Terminal,
) -> Result<Ending, Failure> {
    if !nix::unistd::geteuid().is_root() {
        return Err(GateError::NotRoot.into());
    }
    let mut gate = KernelGate::new(&common.run_dir)?;
    if let Some(expected) = options.expect {
        is_on_trial(&gate, expected)?;
    }
    if options.revert {
        let before = gate.revert()?;
        confirming::told_reverted(before.as_ref(), terminal);
    } else {
        confirming::keep(common, &mut gate, terminal)?;
    }
    Ok(Ending::Fine)
}

/// Stops where other orders are on trial than these, or none.
fn is_on_trial(gate: &KernelGate, expected: OrdersHash) -> Result<(), Failure> {
    let now = gate.pending()?.ok_or(GateError::NoTrial)?.now;
    match now.map(|record| record.hash()) {
        Some(hash) if hash == expected => Ok(()),
        other => Err(Failure::Argument {
            message: match other {
                Some(hash) => format!("orders {} are on trial, not these", hash.short()),
                None => "what is on trial is that nothing is in force".into(),
            },
            help: "Somebody else has put them on trial; `tipstaff state` says who.".into(),
        }),
    }
}
