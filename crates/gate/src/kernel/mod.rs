//! The gate in the Linux kernel.
//!
//! Every interface of the namespace carries, on the way in and on the way out,
//! a link to a small *dispatcher* program, which jumps to whatever program
//! stands in the *slot*. Further dispatchers stand at the sockets of the
//! namespace. A revision is the programs of all these places, with the maps
//! that they share. To post is to load them, put them beside those that hold,
//! and turn one switch: in force everywhere at once, or not at all. Everything that outlives the process is
//! pinned in an own bpffs, in a folder for the namespace:
//!
//! `slot…` and `switch` (what is in force, see `hooks`) · `flows` (what was sent, forwarded and let in) · `rates` (what
//! sources took of rates) · `events` (decisions that are recorded) · `clock` (how far TAI is ahead of UTC) ·
//! `labels`, `secret` (which program made a socket) · `guarded` (the interfaces
//! that have an outer gate) · `outer-in-N`, `outer-out-N` (the links on
//! interface N) · `inner-in`, `inner-out`, `connect4`, `connect6`, `label` (the
//! links at the sockets).
//!
//! What is in force is read back from the slot itself: its program, its maps,
//! and in one of them the record of the orders.

pub mod assembler;
pub mod btf;
mod clock;
mod connect;
mod drift;
pub mod events;
mod flow_table;
mod foundations;
mod frame;
mod ground;
mod hooks;
pub mod label;
pub mod limits;
mod link;
mod marks;
mod pins;
pub mod programs;
pub mod reading;
mod refuse;
mod revision;
mod rows;
mod second_line;
mod shares;
mod shortfall;
mod sockets;
pub mod sys;
mod trial;
mod types;
mod verdict;

use std::io;
use std::os::fd::{AsFd, OwnedFd};
use std::path::{Path, PathBuf};
use std::time::Duration;

use tipstaff_core::brief::Brief;
use tipstaff_core::decide::{Decision, Speaker};
use tipstaff_core::interface::Interface;
use tipstaff_core::orders::Limit;
use tipstaff_core::packet::{Direction, InterfaceIndex, ProgramIndex};
use tipstaff_core::rates::SourceState;

use crate::lock::{self, Lock};
use crate::{Gate, GateError, InForce, Posted, Posting, Record, Tally, Unrecorded};
pub use drift::Ahead;
use flow_table::FlowMaps;
pub use ground::{MIN_KERNEL, check_ground};
use hooks::{Here, Hook, OuterSide, Place, Switch, Turn};
pub use marks::{Marks, Note};
use pins::{At, Pins};
use revision::{Memories, Revision};
use second_line::Needed;
pub(crate) use second_line::cannot_tell_programs;
pub use shortfall::{Shortfall, shortfalls};
use sys::{Attach, ProgramKind};
pub use verdict::CounterSlot;
use verdict::guarded;

/// A frame that the gate is asked about.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Asked {
    /// Where it arrives, or leaves.
    pub interface: InterfaceIndex,
    /// As if this program listened, or sent it; `None`: the one that there is.
    pub program: Option<ProgramIndex>,
    /// An Ethernet frame.
    pub frame: Vec<u8>,
}

/// Called before each step that changes something; `Break` stops there as
/// kill -9 would.
pub type StepHook = Box<dyn FnMut(&'static str) -> std::ops::ControlFlow<()>>;

/// The gate of the network namespace that the calling thread is in.
pub struct KernelGate {
    run_dir: PathBuf,
    cookie: u64,
    hook: Option<StepHook>,
}

pub(crate) fn system(doing: impl Into<String>) -> impl FnOnce(io::Error) -> GateError {
    let doing = doing.into();
    move |source| GateError::System { doing, source }
}

/// As [`system`], but a refusal has a name of its own.
fn bpf(doing: &'static str) -> impl FnOnce(io::Error) -> GateError {
    move |source| match source.kind() {
        io::ErrorKind::PermissionDenied => GateError::Refused { doing, source },
        _ => GateError::System { doing: doing.to_owned(), source },
    }
}

fn load(
    kind: ProgramKind,
    attach: Option<Attach>,
    name: &str,
    code: &[u8],
) -> Result<OwnedFd, GateError> {
    sys::program_load_for(kind, attach, name, code).map_err(|e| match e.error.kind() {
        io::ErrorKind::PermissionDenied if e.log.is_empty() => {
            GateError::Refused { doing: "to load a program with bpf(2)", source: e.error }
        }
        _ => GateError::Verifier { source: e.error, log: e.log },
    })
}

fn misfit(misfit: assembler::Misfit) -> GateError {
    GateError::System { doing: "assembling the filter".into(), source: io::Error::other(misfit) }
}

impl KernelGate {
    /// The gate of the calling thread's network namespace; pins go below
    /// `run_dir`, usually `/run/tipstaff`.
    ///
    /// # Errors
    /// [`GateError::System`] when the namespace cannot be named.
    pub fn new(run_dir: &Path) -> Result<Self, GateError> {
        let cookie =
            sys::namespace_cookie().map_err(system("asking which network namespace this is"))?;
        Ok(Self { run_dir: run_dir.to_owned(), cookie, hook: None })
    }

    /// Installs a hook that is asked before each step.
    #[must_use]
    pub fn with_hook(mut self, hook: StepHook) -> Self {
        self.hook = Some(hook);
        self
    }

    fn step(&mut self, name: &'static str) -> Result<(), GateError> {
        let stop = self.hook.as_mut().is_some_and(|hook| hook(name).is_break());
        if stop { Err(GateError::Stopped(name)) } else { Ok(()) }
    }

    fn pins(&self) -> Pins {
        Pins::new(&self.run_dir, self.cookie)
    }

    /// Holds the lock until it is dropped; a second command waits, for a time.
    fn lock(&self) -> Result<Lock, GateError> {
        ground::run_dir(&self.run_dir)?;
        Ok(Lock::wait_for(&self.run_dir.join("lock"), lock::PATIENCE)?)
    }

    /// Empties the slots, the outer gate's first; what does not hold before
    /// what does, so that nothing comes back.
    fn open_all(&self, pins: &Pins, outer: OwnedFd) -> Result<(), GateError> {
        let holds = match pins.switch()? {
            Some(switch) => Switch::open(switch.as_fd())?.turn()?.holds,
            None => Place::First,
        };
        let others = Place::ALL.into_iter().filter(|place| *place != holds);
        for place in others.chain([holds]) {
            Revision::leave(outer.as_fd(), place)?;
        }
        for hook in Hook::ALL.into_iter().filter(|hook| *hook != Hook::Outer) {
            let Some(slot) = pins.slot(hook)? else { continue };
            for place in Place::ALL {
                Revision::leave(slot.as_fd(), place)?;
            }
        }
        Ok(())
    }

    fn revision(&self) -> Result<Option<Revision>, GateError> {
        let pins = self.pins();
        match (pins.slot(Hook::Outer)?, pins.switch()?) {
            (Some(slot), Some(switch)) => {
                let turn = Switch::open(switch.as_fd())?.turn()?;
                Revision::in_slot(slot.as_fd(), turn.holds)
            }
            _ => Ok(None),
        }
    }

    fn post_for(
        &mut self,
        posting: &Posting<'_>,
        interfaces: &[Interface],
        hold: Hold,
    ) -> Result<Posted, GateError> {
        check_ground()?;
        let lock = match hold {
            // Whoever presses the panic button waits for nobody.
            Hold::Sealed => {
                ground::run_dir(&self.run_dir)?;
                Lock::wait_for(&self.run_dir.join("lock"), Duration::ZERO).ok()
            }
            _ => Some(self.lock()?),
        };
        let result = self.put_up(posting, interfaces, hold);
        drop(lock);
        let stays = |e: &GateError| {
            matches!(e, GateError::Stopped(_) | GateError::TrialRunning(_) | GateError::Overtaken)
        };
        if result.as_ref().is_err_and(|e| !stays(e)) {
            self.pins().remove_run_dir();
        }
        result
    }

    /// The links are there before anything is in force; on an error those that
    /// this post made are taken away again.
    fn put_up(
        &mut self,
        posting: &Posting<'_>,
        interfaces: &[Interface],
        hold: Hold,
    ) -> Result<Posted, GateError> {
        let pins = self.pins();
        let begin = self.turn(&pins)?;
        if let Some(left) = begin.and_then(|turn| turn.left).filter(|_| hold != Hold::Sealed) {
            return Err(GateError::TrialRunning(left));
        }
        self.step("mount")?;
        let mut made: Vec<PathBuf> = Vec::new();
        let prepared = pins.prepare();
        let how = How { posting, hold, begin };
        let result = prepared.and_then(|()| self.put_up_with(&pins, how, interfaces, &mut made));
        if result.as_ref().is_err_and(|e| !matches!(e, GateError::Stopped(_))) {
            made.iter().rev().for_each(|path| pins.discard(path));
            pins.tidy();
        }
        result
    }

    fn put_up_with(
        &mut self,
        pins: &Pins,
        how: How<'_, '_>,
        interfaces: &[Interface],
        made: &mut Vec<PathBuf>,
    ) -> Result<Posted, GateError> {
        let How { posting, hold, begin } = how;
        self.step("switch")?;
        let types = types::at_packets_by(pins, made)?;
        let switch_map = pins.switch_or_new(made)?;
        let switch = Switch::open(switch_map.as_fd())?;
        let begin = begin.map_or_else(|| switch.turn(), Ok)?;
        self.step("slot")?;
        let slot = pins.slot_or_new(Hook::Outer, made)?;
        self.step("guarded")?;
        let guarded = pins.guarded_or_new(made)?;
        self.step("clock")?;
        let clock = pins.clock_or_new(made)?;
        clock::Told::open(clock.as_fd())?.tell(clock::tai_ahead()?);
        self.step("memories")?;
        // What a trial falls back to goes on with the memories that it knows.
        let may_resize = !matches!(hold, Hold::For(_));
        let maps = pins.memories_or_new((posting.brief.memory, may_resize), made)?;
        self.step("events")?;
        let events = pins.events_or_new(made)?;
        self.step("secrets")?;
        let (secret, marks) = pins.secrets_or_new(made)?;
        self.step("labels")?;
        let needed = Needed::by(posting.brief);
        let labels = match needed.labels {
            true => second_line::labels(pins, (self.cookie, secret), made)?,
            false => None,
        };
        if labels.is_none() {
            crate::enforceable::without_labels(posting.brief)?;
        }
        let second = second_line::slots(pins, made)?;
        let mut slots = vec![(Hook::Outer, slot.try_clone().map_err(system("opening a map"))?)];
        slots.extend(second.into_iter().flatten());
        let hooks: Vec<Hook> =
            slots.iter().map(|(hook, _)| *hook).filter(|hook| needed.has(*hook)).collect();
        let before = Revision::in_slot(slot.as_fd(), begin.holds)?;

        self.step("load")?;
        let memories = Memories {
            flows: FlowMaps {
                answered: maps.answered.as_fd(),
                unanswered: maps.unanswered.as_fd(),
                let_in: maps.let_in.as_fd(),
                fragments: maps.fragments.as_fd(),
            },
            shares: maps.shares.as_fd(),
            rates: maps.rates.as_fd(),
            events: events.as_fd(),
            guarded: guarded.as_fd(),
            clock: clock.as_fd(),
            labels: labels.as_ref().map(AsFd::as_fd),
            secret,
            marks,
        };
        let revision = Revision::load(posting, memories, &hooks)?;
        if let Some(before) = &before {
            revision.take_over_tallies(before, posting.brief)?;
        }

        let here = Here {
            cookie: self.cookie,
            switch: switch_map.as_fd(),
            slot: slot.as_fd(),
            guarded: guarded.as_fd(),
            marks,
            types,
            outer: &[],
        };
        self.step("dispatchers")?;
        let dispatchers = Dispatchers::pinned_or_new(pins, here, made)?;
        let mut posted = self.guard(pins, (here, &dispatchers), interfaces, made)?;
        posted.replaced = before.is_some();
        if slots.len() > 1 {
            self.step("second line")?;
            let outer = dispatchers.ids()?;
            second_line::attach(pins, Here { outer: &outer, ..here }, (&slots, needed), made)?;
        }

        self.step("enter")?;
        let mut turn = begin;
        if turn.fell_back {
            // As it is already, but without a deadline: nobody can say "before" twice.
            if !switch.replace(turn, turn.holds, None)? && hold != Hold::Sealed {
                return Err(GateError::Overtaken);
            }
            turn = switch.turn()?;
        }
        let next = if hold == Hold::Sealed { Place::Sealed } else { turn.holds.next() };
        revision.enter(&slots, next)?;
        self.step("swap")?;
        let turned = match hold {
            Hold::Sealed => {
                switch.set(next);
                true
            }
            Hold::ForGood => switch.replace(turn, next, None)?,
            Hold::For(time) => switch.replace(turn, next, Some((time, turn.holds)))?,
        };
        if !turned {
            return Err(GateError::Overtaken);
        }
        // In force. What remains is tidying, and its failure changes nothing.
        if hold == Hold::ForGood {
            forget(&slots, turn.holds);
            second_line::detach_idle(pins, needed);
        }
        pins.forget_vanished(interfaces, guarded.as_fd());
        pins.resize(made);
        for old in pins.of_other_layouts() {
            old.all().unwrap_or_default().iter().for_each(|path| old.discard(path));
            old.tidy();
        }
        Ok(posted)
    }

    /// Gives every interface its dispatchers.
    fn guard(
        &mut self,
        pins: &Pins,
        (here, dispatchers): (Here<'_>, &Dispatchers),
        interfaces: &[Interface],
        made: &mut Vec<PathBuf>,
    ) -> Result<Posted, GateError> {
        let mut posted = Posted { guarded: Vec::new(), vanished: Vec::new(), replaced: false };
        for interface in interfaces {
            self.step("outer")?;
            let mut attached = attach(pins, At::Ingress, dispatchers, interface, made)?;
            // Nothing of the loopback interface leaves the host.
            if !interface.is_loopback() {
                attached &= attach(pins, At::Egress, dispatchers, interface, made)?;
            }
            if attached {
                let lost = if interface.ingress_filter { guarded::NOTES_ARE_LOST } else { 0 };
                let value = u32::from(1 | lost).to_ne_bytes();
                sys::map_update(here.guarded, &interface.index.to_ne_bytes(), &value)
                    .map_err(bpf("to note a guarded interface"))?;
            }
            let list = if attached { &mut posted.guarded } else { &mut posted.vanished };
            list.push(interface.name.clone());
        }
        Ok(posted)
    }

    fn turn(&self, pins: &Pins) -> Result<Option<Turn>, GateError> {
        match pins.switch()? {
            Some(switch) => Switch::open(switch.as_fd())?.turn().map(Some),
            None => Ok(None),
        }
    }
}

/// How long a post is to hold.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Hold {
    ForGood,
    For(Duration),
    /// For good, in the place that is the panic button's.
    Sealed,
}

/// A post, and what the switch said when it began.
#[derive(Clone, Copy)]
struct How<'p, 'o> {
    posting: &'p Posting<'o>,
    hold: Hold,
    begin: Option<Turn>,
}

/// The dispatchers at interfaces: one program a side, at all of them.
struct Dispatchers(Vec<(OuterSide, OwnedFd)>);

impl Dispatchers {
    fn pinned_or_new(
        pins: &Pins,
        here: Here<'_>,
        made: &mut Vec<PathBuf>,
    ) -> Result<Self, GateError> {
        let one = |side: OuterSide| {
            let new = || {
                let code = hooks::outer(side, here).map_err(misfit)?;
                load(ProgramKind::SchedCls, None, side.name(), &code)
            };
            Ok((side, pins.dispatcher_or_new(side, new, made)?))
        };
        OuterSide::ALL.into_iter().map(one).collect::<Result<_, GateError>>().map(Self)
    }

    fn at(&self, side: OuterSide) -> Option<&OwnedFd> {
        self.0.iter().find(|(of, _)| *of == side).map(|(_, program)| program)
    }

    fn ids(&self) -> Result<Vec<(OuterSide, u32)>, GateError> {
        let id =
            |(side, program): &(OuterSide, OwnedFd)| Ok((*side, sys::program_id(program.as_fd())?));
        self.0.iter().map(id).collect::<io::Result<_>>().map_err(bpf("to read its programs"))
    }
}

/// Slots with the hooks that they are for.
type Slots = Vec<(Hook, OwnedFd)>;

/// Empties a place that does not hold; a failure changes nothing.
fn forget(slots: &[(Hook, OwnedFd)], place: Place) {
    for (_, slot) in slots {
        let _ = Revision::leave(slot.as_fd(), place);
    }
}

/// Gives an interface its link where it has none, and the dispatcher that it
/// needs where it has another one; `false`: the interface is gone.
fn attach(
    pins: &Pins,
    at: At,
    dispatchers: &Dispatchers,
    interface: &Interface,
    made: &mut Vec<PathBuf>,
) -> Result<bool, GateError> {
    let index = InterfaceIndex(interface.index);
    let side = at.side(interface);
    let Some(program) = dispatchers.at(side) else { return Ok(false) };
    let attaching = || bpf("to attach to an interface");
    if let Some(link) = pins.link_at(at, index) {
        let stands = sys::link_info(link.as_fd()).map_err(attaching())?.program;
        if stands != sys::program_id(program.as_fd()).map_err(attaching())? {
            sys::link_update(link.as_fd(), program.as_fd()).map_err(attaching())?;
        }
        return Ok(true);
    }
    match sys::link_interface(program.as_fd(), interface.index, side.attach(), sys::Order::First) {
        Ok(link) => pins.keep_at(link.as_fd(), at, index, made).map(|()| true),
        Err(e) if e.raw_os_error() == Some(libc::ENODEV) => Ok(false),
        Err(e) => Err(attaching()(e)),
    }
}

impl Gate for KernelGate {
    fn post(
        &mut self,
        posting: &Posting<'_>,
        interfaces: &[Interface],
    ) -> Result<Posted, GateError> {
        self.post_for(posting, interfaces, Hold::ForGood)
    }

    fn seal(
        &mut self,
        posting: &Posting<'_>,
        interfaces: &[Interface],
    ) -> Result<Posted, GateError> {
        self.post_for(posting, interfaces, Hold::Sealed)
    }

    fn try_out(
        &mut self,
        posting: &Posting<'_>,
        interfaces: &[Interface],
        time: Duration,
    ) -> Result<Posted, GateError> {
        self.post_for(posting, interfaces, Hold::For(time))
    }

    fn confirm(&mut self) -> Result<Record, GateError> {
        self.keep_trial()
    }

    fn withdraw(&mut self) -> Result<bool, GateError> {
        ground::check_root()?;
        if !self.run_dir.exists() {
            return Ok(false);
        }
        let lock = self.lock()?;
        let pins = self.pins();
        let was_in_force = self.revision()?.is_some();
        let others = pins.of_other_layouts();
        let had_leftovers = pins.exist() || !others.is_empty();
        for other in &others {
            self.step("another version's")?;
            other.all()?.iter().for_each(|path| other.discard(path));
            other.tidy();
        }
        if pins.exist() {
            self.step("open")?;
            if let Some(slot) = pins.slot(Hook::Outer)? {
                // From here on nothing is in force: the outer gate's place is asked first.
                self.open_all(&pins, slot)?;
            }
            for path in pins.all()? {
                self.step("unpin")?;
                pins.discard(&path);
            }
        }
        self.step("tidy")?;
        pins.tidy();
        drop(lock);
        pins.remove_run_dir();
        Ok(was_in_force || had_leftovers)
    }

    fn in_force(&self) -> Result<Option<InForce>, GateError> {
        if !self.run_dir.exists() {
            return Ok(None);
        }
        ground::check_root()?;
        let pins = self.pins();
        let Some(revision) = self.revision()? else {
            return match pins.of_other_layouts().is_empty() {
                true => Ok(None),
                false => Err(GateError::OtherVersion),
            };
        };
        Ok(Some(InForce {
            record: revision.record()?,
            guarded: pins.linked(At::Ingress)?,
            guarded_outwards: pins.linked(At::Egress)?,
            second_line: pins.has_link("inner-in")? && pins.has_link("inner-out")?,
        }))
    }

    fn tallies(&self) -> Result<Vec<(Speaker, Tally)>, GateError> {
        self.revision()?.map_or(Ok(Vec::new()), |revision| revision.tallies())
    }

    fn sources(&self, limit: &Limit) -> Result<Vec<SourceState>, GateError> {
        ground::check_root()?;
        match self.pins().rates()? {
            Some(rates) => limits::sources(rates.as_fd(), limit),
            None => Ok(Vec::new()),
        }
    }

    fn ask(&self, interface: InterfaceIndex, frame: &[u8]) -> Result<Decision, GateError> {
        let revision = self.revision()?.ok_or(GateError::NothingInForce)?;
        Ok(revision.ask(interface, Direction::Inbound, (None, frame), 1)?.0)
    }
}

impl KernelGate {
    /// Gives interfaces that have no gate one, and puts what is in force there
    /// anew, so that interface patterns follow. `brief_of` says what the record
    /// means on this host now. `None`: nothing is in force.
    ///
    /// # Errors
    /// [`GateError`]; then what was in force still is.
    pub fn cover(
        &mut self,
        interfaces: &[Interface],
        brief_of: impl FnOnce(&Record) -> Result<Brief, GateError>,
    ) -> Result<Option<Posted>, GateError> {
        ground::check_root()?;
        if !self.run_dir.exists() {
            return Ok(None);
        }
        // Held from here on: nobody can post other orders in between.
        let lock = self.lock()?;
        let Some(revision) = self.revision()? else { return Ok(None) };
        let record = revision.record()?;
        let pins = self.pins();
        if self.turn(&pins)?.is_some_and(|turn| turn.left.is_some()) {
            // Both places are taken; what is on trial guards what is new as it is.
            self.guard_on_trial(&pins, interfaces)?;
            return Err(GateError::TrialRunning(Duration::ZERO));
        }
        let brief = brief_of(&record)?;
        let posting = Posting { brief: &brief, record };
        let posted = self.put_up(&posting, interfaces, Hold::ForGood)?;
        drop(lock);
        Ok(Some(posted))
    }

    /// Gives interfaces that have no gate the one that is up.
    fn guard_on_trial(&mut self, pins: &Pins, interfaces: &[Interface]) -> Result<(), GateError> {
        let (Some(switch), Some(slot)) = (pins.switch()?, pins.slot(Hook::Outer)?) else {
            return Ok(());
        };
        let mut made = Vec::new();
        let guarded = pins.guarded_or_new(&mut made)?;
        let (_, marks) = pins.secrets_or_new(&mut made)?;
        let here = Here {
            cookie: self.cookie,
            switch: switch.as_fd(),
            slot: slot.as_fd(),
            guarded: guarded.as_fd(),
            marks,
            types: types::at_packets(),
            outer: &[],
        };
        let dispatchers = Dispatchers::pinned_or_new(pins, here, &mut made)?;
        self.guard(pins, (here, &dispatchers), interfaces, &mut made).map(drop)
    }

    /// Tells the programs by how many seconds TAI is ahead of UTC, which the
    /// kernel may have learnt since the post: `until` goes by it.
    ///
    /// # Errors
    /// [`GateError`].
    pub fn follow_clock(&self) -> Result<(), GateError> {
        self.shift_clock(0)
    }

    /// As [`Self::follow_clock`], but so many seconds off: for tests.
    ///
    /// # Errors
    /// [`GateError`].
    pub fn shift_clock(&self, seconds: i64) -> Result<(), GateError> {
        ground::check_root()?;
        if let Some(map) = self.pins().clock()? {
            clock::Told::open(map.as_fd())?.tell(clock::tai_ahead()? + seconds);
        }
        Ok(())
    }

    /// How many seconds `until` ends too early (or, below zero, too late),
    /// where nobody has told the programs of a change of the clock.
    ///
    /// # Errors
    /// [`GateError`].
    pub fn clock_is_off(&self) -> Result<i64, GateError> {
        ground::check_root()?;
        let Some(map) = self.pins().clock()? else { return Ok(0) };
        Ok(clock::tai_ahead()? - clock::Told::open(map.as_fd())?.seconds())
    }

    /// The numbers by which the gate knows the reach check's own packets;
    /// `None` where no gate is up.
    ///
    /// # Errors
    /// [`GateError`].
    pub fn marks(&self) -> Result<Option<Marks>, GateError> {
        ground::check_root()?;
        Ok(self.pins().secrets()?.map(|(_, marks)| marks))
    }

    /// The decisions as they happen. One reader at a time: what it takes no
    /// other one sees.
    ///
    /// # Errors
    /// [`GateError::NothingInForce`] among others.
    pub fn events(&self) -> Result<events::Events, GateError> {
        ground::check_root()?;
        events::Events::open(self.pins().events()?.ok_or(GateError::NothingInForce)?)
    }

    /// How many decisions of the standing answers were left out of the
    /// records, and how many records nobody had read in time.
    ///
    /// # Errors
    /// As [`Gate::ask`].
    pub fn unrecorded(&self) -> Result<Unrecorded, GateError> {
        self.revision()?.ok_or(GateError::NothingInForce)?.unrecorded()
    }

    /// As if the frame had arrived: it is counted, and takes from rates. What
    /// the gate would answer comes back beside the decision.
    ///
    /// # Errors
    /// As [`Gate::ask`].
    pub fn play(
        &self,
        interface: InterfaceIndex,
        frame: &[u8],
    ) -> Result<(Decision, Vec<u8>), GateError> {
        let revision = self.revision()?.ok_or(GateError::NothingInForce)?;
        revision.play(interface, Direction::Inbound, frame)
    }

    /// As [`Self::play`], as if this host sent the frame and it left now.
    ///
    /// # Errors
    /// As [`Gate::ask`].
    pub fn play_out(&self, interface: InterfaceIndex, frame: &[u8]) -> Result<Decision, GateError> {
        let revision = self.revision()?.ok_or(GateError::NothingInForce)?;
        Ok(revision.play(interface, Direction::Outbound, frame)?.0)
    }

    /// As if this host forwarded the frame and it left now, noted as it was
    /// decided where it came in: it is remembered, so that its answers pass.
    /// Whether it may leave.
    ///
    /// # Errors
    /// As [`Gate::ask`].
    pub fn forward(
        &self,
        ways: (InterfaceIndex, InterfaceIndex),
        frame: &[u8],
        noted: Option<Note>,
    ) -> Result<bool, GateError> {
        let marks = self.marks()?.ok_or(GateError::NothingInForce)?;
        let noted = noted.map(|note| marks.note(note));
        self.revision()?.ok_or(GateError::NothingInForce)?.forward(ways, frame, noted)
    }

    /// As [`Gate::ask`], many frames in one go; outbound for frames that leave
    /// through their interface.
    ///
    /// # Errors
    /// As [`Gate::ask`].
    pub fn ask_all(&self, way: Direction, questions: &[Asked]) -> Result<Vec<Decision>, GateError> {
        let revision = self.revision()?.ok_or(GateError::NothingInForce)?;
        let ask = |asked: &Asked| {
            let frame = (asked.program, asked.frame.as_slice());
            Ok(revision.ask(asked.interface, way, frame, 1)?.0)
        };
        questions.iter().map(ask).collect()
    }

    /// Mean duration of the verdict on a frame, over `repeat` runs.
    ///
    /// # Errors
    /// As [`Gate::ask`].
    pub fn time(
        &self,
        interface: InterfaceIndex,
        frame: &[u8],
        repeat: u32,
    ) -> Result<std::time::Duration, GateError> {
        let revision = self.revision()?.ok_or(GateError::NothingInForce)?;
        Ok(revision.ask(interface, Direction::Inbound, (None, frame), repeat)?.1)
    }
}
