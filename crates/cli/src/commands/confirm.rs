//! `confirm`: the orders that are on trial stay, or go at once.

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
    if options.revert {
        let before = gate.revert()?;
        confirming::told_reverted(before.as_ref(), terminal);
    } else {
        confirming::keep(common, &mut gate, terminal)?;
    }
    Ok(Ending::Fine)
}
