//! `keep`: a service that gives every interface that appears its gate, and
//! makes interface patterns follow. Enforcement does not need it: it stops
//! without opening anything.

use std::os::fd::AsFd;
use std::os::linux::net::SocketAddrExt;
use std::os::unix::net::{SocketAddr, UnixDatagram};

use nix::poll::{PollFd, PollFlags, PollTimeout, poll};
use nix::sys::signal::{SigSet, Signal};
use nix::sys::signalfd::{SfdFlags, SignalFd};
use serde::Serialize;
use tipstaff_gate::kernel::{KernelGate, check_ground};
use tipstaff_gate::{Gate, GateError, Posted};
use tipstaff_host::interfaces::{self, LinkWatch};

use crate::Ending;
use crate::arguments::Common;
use crate::chosen;
use crate::failure::{Failure, system};
use crate::terminal::Terminal;

#[derive(Serialize)]
struct Line {
    guarded: Vec<String>,
    gone: Vec<String>,
}

/// Interfaces by index and name.
type Links = Vec<(u32, String)>;

pub fn run(common: &Common, terminal: &Terminal) -> Result<Ending, Failure> {
    let mut signals = SigSet::empty();
    signals.add(Signal::SIGTERM);
    signals.add(Signal::SIGINT);
    signals.thread_block().map_err(|e| system("waiting for signals")(e.into()))?;
    let ends = SignalFd::with_flags(&signals, SfdFlags::SFD_CLOEXEC)
        .map_err(|e| system("waiting for signals")(e.into()))?;
    let mut links = LinkWatch::open().map_err(system("watching the interfaces"))?;
    let mut gate = KernelGate::new(&common.run_dir)?;
    // Refused here, and not only when the first interface appears.
    check_ground()?;
    let mut known = Links::new();
    keep_up(&mut gate, &mut known, terminal)?;
    notify("READY=1");
    if !terminal.json {
        terminal.note(
            "every interface that appears gets its gate; SIGTERM ends this and opens nothing",
        );
    }
    loop {
        let mut waiting = [
            PollFd::new(links.as_fd(), PollFlags::POLLIN),
            PollFd::new(ends.as_fd(), PollFlags::POLLIN),
        ];
        match poll(&mut waiting, PollTimeout::NONE) {
            Ok(_) | Err(nix::errno::Errno::EINTR) => {}
            Err(e) => return Err(system("waiting for an interface")(e.into())),
        }
        let ended = waiting[1].any().unwrap_or(false);
        if ended {
            notify("STOPPING=1");
            return Ok(Ending::Fine);
        }
        links.drain().map_err(system("watching the interfaces"))?;
        keep_up(&mut gate, &mut known, terminal)?;
    }
}

/// Gives the interfaces that there are now their gates, where any of them is
/// new or called otherwise.
fn keep_up(gate: &mut KernelGate, known: &mut Links, terminal: &Terminal) -> Result<(), Failure> {
    let all = interfaces::list().map_err(system("reading the interfaces"))?;
    let now: Links = all.iter().map(|i| (i.index, i.name.clone())).collect();
    let Some(in_force) = gate.in_force()? else {
        // A post covers what is there by itself.
        *known = Links::new();
        return Ok(());
    };
    let guarded = |i: &tipstaff_core::interface::Interface| {
        let held =
            |list: &[tipstaff_core::packet::InterfaceIndex]| list.iter().any(|g| g.0 == i.index);
        held(&in_force.guarded) && (i.is_loopback() || held(&in_force.guarded_outwards))
    };
    let first = known.is_empty() && all.iter().all(guarded);
    if *known == now || first {
        *known = now;
        return Ok(());
    }
    let covered = gate.cover(&all, |record| {
        chosen::of_record(record)
            .map(|chosen| chosen.brief)
            .map_err(|e| GateError::UnreadableRecord(e.to_string()))
    })?;
    if let Some(posted) = covered {
        told(&posted, known, &now, terminal);
    }
    *known = now;
    Ok(())
}

fn told(posted: &Posted, before: &Links, now: &Links, terminal: &Terminal) {
    let missing = |from: &Links, name: &String| from.iter().all(|(_, known)| known != name);
    let guarded: Vec<String> =
        posted.guarded.iter().filter(|name| missing(before, name)).cloned().collect();
    let names = before.iter().map(|(_, name)| name.clone());
    let gone: Vec<String> = names.filter(|name| missing(now, name)).collect();
    if terminal.json {
        terminal.json_line(&Line { guarded, gone });
        return;
    }
    for name in guarded {
        terminal.line(format!("{name} is guarded"));
    }
    for name in gone {
        terminal.line(format!("{name} is gone"));
    }
}

/// Tells the service manager (sd_notify(3)); nobody listens where there is none.
fn notify(state: &str) {
    let Some(path) = std::env::var_os("NOTIFY_SOCKET") else { return };
    let address = match path.to_str().and_then(|path| path.strip_prefix('@')) {
        Some(name) => SocketAddr::from_abstract_name(name),
        None => SocketAddr::from_pathname(&path),
    };
    if let (Ok(socket), Ok(address)) = (UnixDatagram::unbound(), address) {
        let _ = socket.send_to_addr(state.as_bytes(), &address);
    }
}
