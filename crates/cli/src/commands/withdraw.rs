//! `withdraw`: take the gate down and leave nothing behind.

use serde_json::json;
use tipstaff_gate::Gate;
use tipstaff_gate::kernel::KernelGate;

use crate::Ending;
use crate::arguments::Common;
use crate::failure::Failure;
use crate::terminal::Terminal;

pub fn run(common: &Common, terminal: &Terminal) -> Result<Ending, Failure> {
    let withdrawn = KernelGate::new(&common.run_dir)?.withdraw()?;
    if terminal.json {
        terminal.json(&json!({ "withdrawn": withdrawn }));
    } else if withdrawn {
        terminal.heading("withdrawn: everything passes now, and nothing is left in the kernel");
    } else {
        terminal.heading("nothing was in force");
    }
    Ok(Ending::Fine)
}
