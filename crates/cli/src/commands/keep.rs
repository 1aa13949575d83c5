//! `keep`: a service that gives every interface that appears its gate, makes interface
//! patterns follow, keeps own addresses and the files of programs as they are now, takes up
//! the posture of a place that it recognises, and writes the log of decisions. Enforcement
//! does not need it: it stops without opening anything.

use std::collections::BTreeSet;
use std::io;
use std::net::IpAddr;
use std::os::fd::AsFd;
use std::os::linux::net::SocketAddrExt;
use std::os::unix::net::{SocketAddr, UnixDatagram};
use std::path::Path;
use std::thread::{self, ScopedJoinHandle};

use nix::poll::{PollFd, PollFlags, PollTimeout, poll};
use nix::sys::eventfd::{EfdFlags, EventFd};
use nix::sys::signal::{SigSet, Signal};
use nix::sys::signalfd::{SfdFlags, SignalFd};
use schemars::JsonSchema;
use serde::Serialize;
use tipstaff_core::host::interface::Interface;
use tipstaff_core::orders::{OrdersHash, SEALED};
use tipstaff_core::packet::InterfaceIndex;
use tipstaff_gate::kernel::executables::Identity;
use tipstaff_gate::kernel::{KernelGate, check_support};
use tipstaff_gate::{Gate, GateError, InForce, Left, Posted, Record};
use tipstaff_host::interfaces::{self, LinkWatch};

use crate::acts::decisions::{Recorder, Reopens};
use crate::acts::posture;
use crate::acts::trouble::Trouble;
use crate::arguments::Common;
use crate::chosen;
use crate::ending::Ending;
use crate::failure::{Failure, system};
use crate::shape::shape;
use crate::terminal::{Terminal, counted};

#[derive(JsonSchema, Serialize)]
pub struct Line {
    guarded: Vec<String>,
    gone: Vec<String>,
    /// Whether a program that rules name stands in another file now.
    upgraded: bool,
}

/// What a revision was made for, beside its orders.
#[derive(Default, PartialEq)]
struct Known {
    links: Links,
    addresses: BTreeSet<IpAddr>,
    /// The files of the programs that rules name.
    programs: Vec<Option<Identity>>,
    /// What is rehearsed.
    rehearsed: Option<OrdersHash>,
}

/// Interfaces by index and name.
type Links = Vec<(u32, String)>;

/// Nothing tells when a file is replaced: it is looked at so often.
const LOOK: u16 = 5_000;

/// A posture that is taken up because this place is recognised: a line.
#[derive(JsonSchema, Serialize)]
pub struct Recognised<'r> {
    posture: &'r str,
}

shape!(Line => "keep", Recognised<'_> => "keep-posture");

pub fn run(common: &Common, terminal: &Terminal) -> Result<Ending, Failure> {
    let mut signals = SigSet::empty();
    signals.add(Signal::SIGTERM);
    signals.add(Signal::SIGINT);
    signals.add(Signal::SIGHUP);
    signals.thread_block().map_err(|e| system("waiting for signals")(e.into()))?;
    let ends = SignalFd::with_flags(&signals, SfdFlags::SFD_CLOEXEC)
        .map_err(|e| system("waiting for signals")(e.into()))?;
    // Refused here, and not only when the first interface appears.
    KernelGate::new(&common.run_dir)?;
    check_support()?;
    let over =
        EventFd::from_flags(EfdFlags::EFD_CLOEXEC).map_err(|e| system("starting")(e.into()))?;
    let reopens = &Reopens::default();
    thread::scope(|scope| {
        // However this ends: the other thread is waited for.
        let over = Over(&over);
        let (json, end) = (terminal.json, over.0);
        // Apart: reading an orders file must not make records wait.
        let recorder = scope
            .spawn(move || Recorder::new(common, reopens).run(end.as_fd(), &Terminal::new(json)));
        guard(common, &Asked { ends: &ends, reopens }, &recorder, terminal)
    })
}

/// Dropped, it tells the recorder to end.
struct Over<'o>(&'o EventFd);

impl Drop for Over<'_> {
    fn drop(&mut self) {
        let _ = self.0.write(1);
    }
}

/// Follows interfaces, addresses, programs and places until a signal ends it.
fn guard(
    common: &Common,
    asked: &Asked<'_>,
    recorder: &ScopedJoinHandle<'_, ()>,
    terminal: &Terminal,
) -> Result<Ending, Failure> {
    let mut links = LinkWatch::open().map_err(system("watching the interfaces"))?;
    let mut gate = KernelGate::new(&common.run_dir)?;
    let mut known = Known::default();
    let mut place = Place::default();
    let mut trouble = Trouble::default();
    let mut reads_anew = false;
    trouble.tell(keep_up(&mut gate, &mut known, terminal), terminal);
    notify(&format!("READY=1\n{}", status(&known)));
    if !terminal.json {
        terminal
            .note("guarding new interfaces as they appear; SIGTERM stops this and opens nothing");
    }
    loop {
        let mut waiting = [
            PollFd::new(links.as_fd(), PollFlags::POLLIN),
            PollFd::new(asked.ends.as_fd(), PollFlags::POLLIN),
        ];
        match poll(&mut waiting, PollTimeout::from(LOOK)) {
            Ok(_) | Err(nix::errno::Errno::EINTR) => {}
            Err(e) => return Err(system("waiting for an interface")(e.into())),
        }
        if waiting[1].any().unwrap_or(false) {
            if !asked.to_read_anew() {
                notify("STOPPING=1");
                return Ok(Ending::Fine);
            }
            notify(&reloading());
            known = Known::default();
            reads_anew = true;
        }
        if recorder.is_finished() {
            // It has failed in a way that nobody foresaw: the service manager starts both anew.
            return Err(system("logging")(io::Error::other("the thread that logs has ended")));
        }
        let kept = links.drain().map_err(system("watching the interfaces"));
        let kept = kept.and_then(|()| gate.follow_clock().map_err(Failure::from));
        let kept = kept.and_then(|()| keep_up(&mut gate, &mut known, terminal));
        let kept = kept.and_then(|()| place.look(common, &mut gate, terminal));
        trouble.tell(kept, terminal);
        // Asked for by WatchdogSec= of the unit; each look is a sign of life.
        let ready = if std::mem::take(&mut reads_anew) { "READY=1\n" } else { "" };
        notify(&format!("{ready}WATCHDOG=1\n{}", status(&known)));
    }
}

/// What signals ask for.
struct Asked<'a> {
    ends: &'a SignalFd,
    reopens: &'a Reopens,
}

impl Asked<'_> {
    /// SIGHUP: everything is looked at anew, and the log's file opened again. Others end it.
    fn to_read_anew(&self) -> bool {
        let signal = self.ends.read_signal().ok().flatten();
        let hung_up = signal.is_some_and(|signal| signal.ssi_signo == Signal::SIGHUP as u32);
        if hung_up {
            self.reopens.ask();
        }
        hung_up
    }
}

/// That it reads anew, and since when (`Type=notify-reload` of systemd.service(5)).
fn reloading() -> String {
    let clock = nix::time::ClockId::CLOCK_MONOTONIC;
    let now = nix::time::clock_gettime(clock).map(std::time::Duration::from).unwrap_or_default();
    format!("RELOADING=1\nMONOTONIC_USEC={}", now.as_micros())
}

/// What `systemctl status` shows.
fn status(known: &Known) -> String {
    match known.links.len() {
        0 => "STATUS=nothing is in force".to_owned(),
        n => format!("STATUS=guarding {}", counted(n, "interface", "interfaces")),
    }
}

/// The place that was recognised, twice in a row, so that a router that is away
/// for a moment changes nothing.
#[derive(Default)]
struct Place {
    /// Where this is.
    here: Option<String>,
    /// Where it seems to be since the last look.
    seems: Option<String>,
}

impl Place {
    /// Takes up the posture of a place that was come to. A posture that was
    /// chosen by hand holds until the place changes; `sealed` holds for good.
    fn look(
        &mut self,
        common: &Common,
        gate: &mut KernelGate,
        terminal: &Terminal,
    ) -> Result<(), Failure> {
        let Some(in_force) = gate.in_force()? else { return Ok(()) };
        let chosen = chosen::from_force(&in_force)?;
        let found = posture::recognised(&chosen.orders)?.map(|posture| posture.name.clone());
        let settled = found == self.seems;
        self.seems = found;
        if !settled || self.seems == self.here {
            return Ok(());
        }
        let before = std::mem::replace(&mut self.here, self.seems.clone());
        let Some(name) = &self.here else { return Ok(()) };
        let now = in_force.record.posture.as_deref();
        if now == Some(SEALED) || now == Some(name) || before.is_none() && now.is_some() {
            return Ok(());
        }
        match posture::take_up(
            common,
            gate,
            name,
            None,
            Some("keep recognised the network"),
            terminal,
        ) {
            // It is tried again when that is over.
            Err(Failure::Gate(GateError::TrialRunning(_))) => self.here = before,
            taken => {
                taken?;
                if terminal.json {
                    terminal.json_line(&Recognised { posture: name });
                } else {
                    terminal.line(format!("network recognised: posture {name}"));
                }
            }
        }
        Ok(())
    }
}

/// Gives the interfaces that there are now their gates, where any of them is
/// new or called otherwise; and puts the orders in force anew where anything
/// else that they were made for has changed.
fn keep_up(gate: &mut KernelGate, known: &mut Known, terminal: &Terminal) -> Result<(), Failure> {
    let all = interfaces::list().map_err(system("reading the interfaces"))?;
    let in_force = gate.in_force()?;
    let rehearsal = gate.rehearsal()?.filter(|rehearsal| rehearsal.left != Left::Over);
    let records = in_force.iter().map(|i| &i.record).chain(rehearsal.iter().map(|r| &r.record));
    let records: Vec<&Record> = records.collect();
    if records.is_empty() {
        // A post covers what is there by itself.
        *known = Known::default();
        return Ok(());
    }
    let addresses = all.iter().flat_map(|i| i.addresses.iter().map(|(address, _)| *address));
    let now = Known {
        links: all.iter().map(|i| (i.index, i.name.clone())).collect(),
        addresses: addresses.collect(),
        programs: programs(&records)?,
        rehearsed: rehearsal.as_ref().map(|rehearsal| rehearsal.record.hash()),
    };
    // What programs stood where when these orders were posted, nobody knows.
    let first = known.links.is_empty()
        && now.programs.is_empty()
        && in_force.as_ref().is_none_or(|in_force| covers(in_force, &all));
    // A rehearsal that has just begun knows what there is.
    let begun = known.rehearsed != now.rehearsed && known.links == now.links;
    if *known == now || first || begun {
        *known = now;
        return Ok(());
    }
    let brief_of = |record: &Record| {
        chosen::of_record(record)
            .map(|chosen| chosen.brief)
            .map_err(|e| GateError::UnreadableRecord(e.to_string()))
    };
    if now.rehearsed.is_some() {
        gate.cover_rehearsal(&all, brief_of)?;
    }
    let covered = gate.cover(&all, brief_of);
    let covered = match covered {
        // New interfaces have what is on trial; all else waits until it is over.
        Err(GateError::TrialRunning(_)) => return Ok(()),
        covered => covered?,
    };
    if let Some(posted) = covered {
        print_changes(&posted, known, &now, terminal);
    }
    *known = now;
    Ok(())
}

/// Whether all interfaces have their gates.
fn covers(in_force: &InForce, all: &[Interface]) -> bool {
    all.iter().all(|i| {
        let held = |list: &[InterfaceIndex]| list.iter().any(|g| g.0 == i.index);
        held(&in_force.guarded) && (i.is_loopback() || held(&in_force.guarded_outwards))
    })
}

/// The files of the programs that orders name.
fn programs(records: &[&Record]) -> Result<Vec<Option<Identity>>, Failure> {
    let mut all = Vec::new();
    for record in records {
        let brief = chosen::of_record(record)?.brief;
        all.extend(brief.programs.iter().map(|path| Identity::at(Path::new(path)).ok()));
    }
    Ok(all)
}

fn print_changes(posted: &Posted, before: &Known, now: &Known, terminal: &Terminal) {
    let upgraded = !before.links.is_empty() && before.programs != now.programs;
    let (before, now) = (&before.links, &now.links);
    fn missing(from: &Links, name: &String) -> bool {
        from.iter().all(|(_, known)| known != name)
    }
    let guarded: Vec<String> =
        posted.guarded.iter().filter(|name| missing(before, name)).cloned().collect();
    let names = before.iter().map(|(_, name)| name.clone());
    let gone: Vec<String> = names.filter(|name| missing(now, name)).collect();
    if guarded.is_empty() && gone.is_empty() && !upgraded {
        return;
    }
    if terminal.json {
        terminal.json_line(&Line { guarded, gone, upgraded });
        return;
    }
    for name in guarded {
        terminal.line(format!("{name} is guarded"));
    }
    for name in gone {
        terminal.line(format!("{name} is gone"));
    }
    if upgraded {
        terminal.line("executables that rules name were replaced; the gate follows");
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
