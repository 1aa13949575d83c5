//! `state --check`: one line and the exit codes of monitoring plugins (0 well, 1 to be looked
//! at, 2 not as ordered, 3 unknown).

use tipstaff_gate::kernel::KernelGate;

use super::{Found, Up, found};
use crate::arguments::Common;
use crate::ending::Ending;
use crate::failure::Failure;
use crate::terminal::{Terminal, counted};

pub fn run(common: &Common, terminal: &Terminal) -> Ending {
    let looked = KernelGate::new(&common.run_dir)
        .map_err(Failure::from)
        .and_then(|gate| found(common, &gate));
    let (word, ending, text) = match looked {
        Err(failure) => ("UNKNOWN", Ending::Unknown, failure.to_string()),
        Ok(Found::OtherVersion) => (
            "UNKNOWN",
            Ending::Unknown,
            "in force is what another version of Tipstaff posted".to_owned(),
        ),
        Ok(Found::Down(_)) => {
            ("CRITICAL", Ending::Critical, "nothing is in force, everything passes".to_owned())
        }
        Ok(Found::Up(up)) => up.words(),
    };
    match terminal.json {
        true => terminal.json(&Checked { status: word, text: &text }),
        false => terminal.line(format!("{word}: {text}")),
    }
    ending
}

#[derive(schemars::JsonSchema, serde::Serialize)]
pub struct Checked<'r> {
    /// OK, WARNING, CRITICAL or UNKNOWN.
    status: &'static str,
    text: &'r str,
}

crate::shape::shape!(Checked<'_> => "state-check");

impl Up {
    fn words(&self) -> (&'static str, Ending, String) {
        let Self { report, ending, record, pending, .. } = self;
        let orders = record.hash().short();
        if *ending == Ending::Drift {
            let first = report.drift.first().map(|drift| drift.what.clone()).unwrap_or_default();
            let more = match report.drift.len() {
                0 | 1 => String::new(),
                n => format!(" and {} more", n - 1),
            };
            return ("CRITICAL", Ending::Critical, format!("orders {orders}: {first}{more}"));
        }
        let interfaces = counted(report.guarded.len(), "interface", "interfaces");
        let well = format!("orders {orders} in force on {interfaces}");
        let mut but = Vec::new();
        if *ending == Ending::Edited {
            but.push("the file was edited and not posted".to_owned());
        }
        if pending.is_some() {
            but.push("for a time only".to_owned());
        }
        if let Some(restart) = &report.restart
            && restart.in_force == Some(false)
        {
            but.push(format!("not after a restart: {}", restart.why));
        }
        match but.is_empty() {
            true => ("OK", Ending::Fine, well),
            false => ("WARNING", Ending::Differs, format!("{well}, but {}", but.join("; "))),
        }
    }
}
