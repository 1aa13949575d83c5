//! `withdraw`: take the gate down and leave nothing behind; or for a time only.

use schemars::JsonSchema;
use serde::Serialize;
use std::io::IsTerminal;

use tipstaff_gate::kernel::KernelGate;
use tipstaff_gate::{Gate, InForce};

use crate::acts::boot_trouble;
use crate::arguments::{Common, WithdrawOptions};
use crate::chosen;
use crate::ending::Ending;
use crate::failure::Failure;
use crate::shape::shape;
use crate::terminal::{Terminal, counted, spoken};

#[derive(JsonSchema, Serialize)]
pub struct Report {
    withdrawn: bool,
    /// Until the kernel puts the orders in force again; null: nothing will.
    back_in_seconds: Option<u64>,
}

shape!(Report => "withdraw");

pub fn run(
    common: &Common,
    options: &WithdrawOptions,
    terminal: &Terminal,
) -> Result<Ending, Failure> {
    let mut gate = KernelGate::new(&common.run_dir)?;
    let asks = !options.yes && !terminal.json && std::io::stdin().is_terminal();
    if asks
        && let Some(in_force) = gate.in_force()?
        && !agreed(&in_force, options, terminal)
    {
        terminal.attention("nothing was done");
        return Ok(Ending::Fine);
    }
    if let Some(time) = options.until {
        gate.suspend(time)?;
        let seconds = time.as_secs();
        if terminal.json {
            terminal.json(&Report { withdrawn: true, back_in_seconds: Some(seconds) });
        } else {
            terminal
                .heading(&format!("withdrawn for {}: everything passes until then", spoken(time)));
            terminal.note(
                "the kernel puts the orders in force again automatically; `tipstaff \
                           confirm --revert` does so now",
            );
        }
        return Ok(Ending::Fine);
    }
    boot_trouble::made_good(common);
    let withdrawn = gate.withdraw()?;
    if terminal.json {
        terminal.json(&Report { withdrawn, back_in_seconds: None });
    } else if withdrawn {
        terminal.heading("withdrawn: everything passes now, and nothing is left in the kernel");
    } else {
        terminal.heading("nothing was in force");
    }
    Ok(Ending::Fine)
}

/// Says what would be open then, and asks.
fn agreed(in_force: &InForce, options: &WithdrawOptions, terminal: &Terminal) -> bool {
    let Ok(chosen) = chosen::from_force(in_force) else { return true };
    let standing = chosen.brief.standing;
    terminal.line(format!(
        "{} apply now; then inbound {}, transit {}, outbound {}. Without them everything passes.",
        counted(chosen.brief.rules().filter(|rule| rule.is_active()).count(), "rule", "rules"),
        standing.inbound,
        standing.transit,
        standing.outbound,
    ));
    let question = match options.until {
        Some(time) => format!("open everything for {}?", spoken(time)),
        None => "open everything?".into(),
    };
    terminal.ask(&question)
}
