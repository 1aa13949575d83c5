//! `posture`: which one holds, and taking another one up: for good, for a
//! time that the kernel keeps, or for as long as somebody waits.

use std::io::IsTerminal;
use std::os::fd::AsFd;
use std::time::Duration;

use nix::poll::{PollFd, PollFlags, PollTimeout, poll};
use nix::sys::signal::{SigSet, Signal};
use nix::sys::signalfd::{SfdFlags, SignalFd};
use schemars::JsonSchema;
use serde::Serialize;
use tipstaff_core::orders::Origin;
use tipstaff_core::orders::{NO_POSTURE, Posture, SEALED};
use tipstaff_gate::GateError;
use tipstaff_gate::kernel::{KernelGate, check_support};

use crate::acts::posture::{recognised, take_up};
use crate::arguments::{Common, PostureOptions};
use crate::chosen::{self, LoadedPolicy, Visible};
use crate::ending::Ending;
use crate::failure::{Failure, system};
use crate::shape::shape;
use crate::terminal::orders_words;
use crate::terminal::{Columns, Terminal, plain, spoken};

/// While somebody waits the deadline is this far ahead, and set anew each second.
const AHEAD: Duration = Duration::from_secs(3);

#[derive(JsonSchema, Serialize)]
pub struct Row<'p> {
    name: &'p str,
    note: Option<&'p str>,
    holds: bool,
    recognised: bool,
}

#[derive(JsonSchema, Serialize)]
pub struct Report<'r> {
    posture: Option<&'r str>,
    seconds: Option<u64>,
}

/// The postures of the orders.
#[derive(JsonSchema, Serialize)]
pub struct Postures<'r> {
    orders: &'r Origin,
    postures: Vec<Row<'r>>,
}

shape!(Report<'_> => "posture", Postures<'_> => "postures");

pub fn run(
    common: &Common,
    options: &PostureOptions,
    terminal: &Terminal,
) -> Result<Ending, Failure> {
    let Some(name) = &options.name else { return show(common, terminal) };
    check_support()?;
    let mut gate = KernelGate::new(&common.run_dir)?;
    let reason = options.reason.as_deref();
    let time = if options.while_i_wait { Some(AHEAD) } else { options.time };
    let time = match take_up(common, &mut gate, name, time, reason, terminal) {
        // Whatever runs: what is to be closed is closed, then for good.
        Err(Failure::Gate(GateError::TrialRunning(_))) if name == SEALED => {
            take_up(common, &mut gate, name, None, reason, terminal)?;
            if !terminal.json {
                terminal.note("a trial was running: it has ended, and this stays in force");
            }
            None
        }
        taken => taken.map(|_| time)?,
    };
    let waits = options.while_i_wait && time.is_some();
    let seconds = time.filter(|_| !waits).map(|time| time.as_secs());
    if terminal.json {
        terminal.json(&Report { posture: (name != NO_POSTURE).then_some(name), seconds });
    } else {
        terminal.heading(&match time {
            _ if waits => format!("posture {name}, until this command ends"),
            Some(time) => format!("posture {name}, for {}", spoken(time)),
            None => format!("posture {name}"),
        });
        if seconds.is_some() {
            terminal.note(
                "then the kernel rolls back automatically; `tipstaff confirm --revert` does so now",
            );
        }
    }
    if waits {
        wait(&mut gate, terminal)?;
    }
    Ok(Ending::Fine)
}

/// Holds the posture until a signal comes, or the input ends. Should this
/// process be killed, nobody sets the deadline anew.
fn wait(gate: &mut KernelGate, terminal: &Terminal) -> Result<(), Failure> {
    fn waiting() -> impl FnOnce(std::io::Error) -> Failure {
        system("waiting")
    }
    let mut signals = SigSet::empty();
    for signal in [Signal::SIGTERM, Signal::SIGINT, Signal::SIGHUP] {
        signals.add(signal);
    }
    signals.thread_block().map_err(|e| waiting()(e.into()))?;
    let ends =
        SignalFd::with_flags(&signals, SfdFlags::SFD_CLOEXEC).map_err(|e| waiting()(e.into()))?;
    let input = std::io::stdin();
    let asks = input.is_terminal();
    if asks && !terminal.json {
        terminal.note("Enter or Ctrl-C ends it");
    }
    loop {
        let mut watched = vec![PollFd::new(ends.as_fd(), PollFlags::POLLIN)];
        if asks {
            watched.push(PollFd::new(input.as_fd(), PollFlags::POLLIN));
        }
        match poll(&mut watched, PollTimeout::from(1_000u16)) {
            Ok(0) | Err(nix::errno::Errno::EINTR) => gate.renew(AHEAD)?,
            Ok(_) => break,
            Err(e) => return Err(waiting()(e.into())),
        }
    }
    match gate.revert() {
        Ok(_) | Err(GateError::TrialOver) => {}
        Err(e) => return Err(e.into()),
    }
    if !terminal.json {
        terminal.line("ended: what was in force before is in force again");
    }
    Ok(())
}

fn show(common: &Common, terminal: &Terminal) -> Result<Ending, Failure> {
    let judge = match chosen::in_force(common)? {
        (Some(in_force), _) => chosen::from_force(&in_force)?,
        (None, Visible::OnlyToRoot) => return Err(GateError::NotRoot.into()),
        (None, Visible::Yes) => chosen::from_file(common)?,
    };
    let LoadedPolicy { orders, posture, .. } = &judge;
    let here = recognised(orders)?.map(|posture| posture.name.clone());
    fn row(known: &Posture) -> (String, Option<String>) {
        (known.name.clone(), known.note.clone())
    }
    let known: Vec<_> = orders.postures.iter().chain([Posture::sealed()]).map(row).collect();
    let rows: Vec<Row<'_>> = known
        .iter()
        .map(|(name, note)| Row {
            name,
            note: note.as_deref(),
            holds: posture.as_ref() == Some(name),
            recognised: here.as_ref() == Some(name),
        })
        .collect();
    if terminal.json {
        terminal.json(&Postures { orders: &judge.origin, postures: rows });
        return Ok(Ending::Fine);
    }
    terminal.heading(&match posture {
        Some(name) => format!("posture {name}"),
        None => "no posture".into(),
    });
    terminal.note(&orders_words(&judge.origin));
    let mut table = Columns::new(["", "posture", "", "note"]);
    for row in rows {
        table.row([
            plain(if row.holds { "holds" } else { "" }),
            plain(row.name),
            plain(if row.recognised { "this place" } else { "" }),
            plain(row.note.unwrap_or("–")),
        ]);
    }
    terminal.table(&table);
    Ok(Ending::Fine)
}
