//! The one process that reads the gate's records.

use std::os::fd::{AsFd, BorrowedFd};
use std::time::{Duration, Instant};
use std::{fs, io, thread};

use jiff::Timestamp;
use nix::poll::{PollFd, PollFlags, PollTimeout, poll};
use tipstaff_core::orders::Log;
use tipstaff_gate::kernel::{Events, KernelGate};
use tipstaff_gate::lock::{Lock, LockError};
use tipstaff_gate::{GateError, Unrecorded};

use super::line::{GapLine, Told, moment};
use super::names::Names;
use super::viewers::Viewers;
use crate::arguments::Common;
use crate::failure::{Failure, system};

/// What is missing is counted so often.
const LOOK: Duration = Duration::from_secs(1);
/// While decisions come, they are read so often: to be woken for each costs more than to
/// read it. The ring has room for twice what a flood brings in that time.
const BATCH: Duration = Duration::from_millis(40);

/// What the records of what is in force, and of what is rehearsed, do not have.
type Missing = [Unrecorded; 2];

/// Counts what is missing.
///
/// # Errors
/// [`GateError::NothingInForce`] where nothing is rehearsed either.
pub fn missing(gate: &KernelGate) -> Result<Missing, GateError> {
    let none = Unrecorded::default();
    match (gate.unrecorded(), gate.unrecorded_of_rehearsal()) {
        (in_force, Err(GateError::NoRehearsal)) => Ok([in_force?, none]),
        (Err(GateError::NothingInForce), rehearsed) => Ok([none, rehearsed?]),
        (in_force, rehearsed) => Ok([in_force?, rehearsed?]),
    }
}

/// What is in force.
struct Source {
    events: Events,
    names: Names,
    missing: Missing,
    looked: Instant,
}

/// Reads, and shows what it reads to all viewers.
pub struct Reader<'c> {
    common: &'c Common,
    gate: KernelGate,
    source: Option<Source>,
    viewers: Viewers,
    _alone: Lock,
    /// How long one look waits.
    wait: Duration,
    /// When it was last looked whether this is still what is in force.
    looked: Instant,
    /// Whether the last look found any.
    busy: bool,
}

/// What one look found.
#[derive(Default)]
pub struct Step {
    /// In its order.
    pub told: Vec<Told>,
    /// Somebody else wants to read.
    pub hand_over: bool,
    /// What must be said to whoever runs this.
    pub warning: Option<String>,
}

impl<'c> Reader<'c> {
    /// Begins to read; `None`: another process does.
    pub fn begin(common: &'c Common, patience: Duration) -> Result<Option<Self>, Failure> {
        let gate = KernelGate::new(&common.run_dir)?;
        gate.prepare_run_dir()?;
        let alone = match Lock::wait_for(&common.run_dir.join("watch"), patience) {
            Err(LockError::Held { .. }) => return Ok(None),
            lock => lock?.passing(),
        };
        let viewers = Viewers::open(&common.run_dir)
            .map_err(system("opening the socket for those who watch"))?;
        Ok(Some(Self {
            common,
            gate,
            source: None,
            viewers,
            _alone: alone,
            wait: LOOK,
            looked: Instant::now(),
            busy: false,
        }))
    }

    /// Sets how long one look waits, a second at most.
    pub fn wait_so_long(&mut self, wait: Duration) {
        self.wait = wait.min(LOOK);
    }

    /// What the orders in force say of the log, where some are.
    pub fn log(&self) -> Option<&Log> {
        self.source.as_ref().map(|source| source.names.log())
    }

    /// Waits for something, or until `wake` can be read, and reads it.
    pub fn step(&mut self, wake: Option<BorrowedFd<'_>>) -> Result<Step, Failure> {
        let mut step = Step::default();
        if self.source.is_none() {
            self.source = self.opened()?;
        }
        let waited = self.waited(wake)?;
        if self.busy && waited > 0 {
            thread::sleep(BATCH);
        }
        if let Some(source) = &mut self.source {
            for event in source.events.drain() {
                step.told.push(Told::Line(source.names.line(self.common, &event)?));
            }
            if source.looked.elapsed() >= LOOK {
                step.told.extend(source.gap(&self.gate)?.map(Told::Gap));
            }
            let group = source.names.log().viewers.as_deref();
            let admitted = self.viewers.admit(group, Instant::now());
            step.warning = admitted.err().map(|e| format!("viewers are not let in: {e}"));
        }
        self.viewers.tell(&step.told);
        self.busy = !step.told.is_empty();
        step.hand_over = self.viewers.serve();
        if waited == 0 && self.looked.elapsed() >= self.wait.max(LOOK / 2) {
            self.looked = Instant::now();
            // The records of a gate that was withdrawn and posted anew are others.
            self.source = self.opened()?;
        }
        Ok(step)
    }

    /// The records of what is in force now.
    fn opened(&mut self) -> Result<Option<Source>, Failure> {
        match self.in_force() {
            Err(Failure::Gate(GateError::NothingInForce)) => Ok(None),
            source => source.map(Some),
        }
    }

    fn in_force(&mut self) -> Result<Source, Failure> {
        let events = self.gate.events()?;
        Ok(match self.source.take() {
            Some(known) => Source { events, ..known },
            None => Source {
                events,
                names: Names::read(self.common)?,
                missing: missing(&self.gate)?,
                looked: Instant::now(),
            },
        })
    }

    /// How many of what is waited on can go on.
    fn waited(&self, wake: Option<BorrowedFd<'_>>) -> Result<i32, Failure> {
        let viewers = self.viewers.polled().into_iter().map(|(fd, writes)| {
            let writes = if writes { PollFlags::POLLOUT } else { PollFlags::empty() };
            PollFd::new(fd, PollFlags::POLLIN | writes)
        });
        let events = self.source.iter().map(|source| source.events.as_fd());
        let read = events.chain(wake).map(|fd| PollFd::new(fd, PollFlags::POLLIN));
        let mut all: Vec<_> = read.chain(viewers).collect();
        match poll(&mut all, PollTimeout::try_from(self.wait).unwrap_or(PollTimeout::ZERO)) {
            Ok(ready) => Ok(ready),
            Err(nix::errno::Errno::EINTR) => Ok(1),
            Err(e) => Err(system("waiting for a decision")(e.into())),
        }
    }
}

impl Source {
    /// What is missing since the last look.
    fn gap(&mut self, gate: &KernelGate) -> Result<Option<GapLine>, Failure> {
        let now = match missing(gate) {
            Err(GateError::NothingInForce) => return Ok(None),
            now => now?,
        };
        let before = std::mem::replace(&mut self.missing, now);
        self.looked = Instant::now();
        // A gate that was put up anew counts from nothing.
        let since = |now: u64, before: u64| if now < before { now } else { now - before };
        let mut gap = GapLine { time: moment(Timestamp::now()), ..GapLine::default() };
        for (now, before) in now.iter().zip(before) {
            gap.not_sampled += since(now.left_out, before.left_out);
            gap.lost += since(now.lost, before.lost);
        }
        Ok((!gap.is_empty()).then_some(gap))
    }
}

impl Drop for Reader<'_> {
    fn drop(&mut self) {
        // It may have been made for this alone; what is in it keeps it.
        let _: io::Result<()> = fs::remove_dir(&self.common.run_dir);
    }
}
