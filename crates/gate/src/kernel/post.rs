//! To post: everything is put beside what is in force, and the switch is turned.

use std::io;
use std::os::fd::{AsFd, OwnedFd};
use std::time::Duration;

use tipstaff_bpf::sys::{self, ProgramKind};
use tipstaff_core::brief::Brief;
use tipstaff_core::host::interface::Interface;

use crate::contract::{GateError, Posted, Posting, Record};
use crate::enforceable;
use crate::kernel::emit::context::{FlowMaps, Hook, OuterSide, guarded};
use crate::kernel::emit::dispatcher::{self, DispatcherEnv};
use crate::kernel::emit::marks::Marks;
use crate::kernel::emit::namespace::NamespaceOf;
use crate::kernel::emit::owner_tag::Secret;
use crate::kernel::emit::slot::Rehearsed;
use crate::kernel::emit::types::KernelTypes;
use crate::kernel::error::{bpf, load, misfit, system};
use crate::kernel::gate::KernelGate;
use crate::kernel::kept::at::At;
use crate::kernel::kept::cgroup::{self, Needed};
use crate::kernel::kept::memories::{MemoryMaps, Whose};
use crate::kernel::kept::pins::{Made, Pins};
use crate::kernel::kept::revision::{Revision, SharedMaps};
use crate::kernel::kept::switch::{Place, Switch, SwitchState};
use crate::kernel::kept::{clock, described};
use crate::kernel::support::{self, check_support};
use crate::lock::Lock;

impl KernelGate {
    pub(super) fn post_for(
        &mut self,
        posting: &Posting<'_>,
        interfaces: &[Interface],
        hold: Hold,
    ) -> Result<Posted, GateError> {
        check_support()?;
        let lock = match hold {
            // Whoever presses the panic button waits for nobody.
            Hold::Sealed => {
                support::run_dir(&self.run_dir)?;
                Lock::wait_for(&self.run_dir.join("lock"), Duration::ZERO).ok()
            }
            _ => Some(self.lock()?),
        };
        let result = self.put_up(posting, interfaces, hold);
        drop(lock);
        fn stays(e: &GateError) -> bool {
            matches!(e, GateError::Stopped(_) | GateError::TrialRunning(_) | GateError::Overtaken)
        }
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
        let mut made = Made::new(&pins);
        let how = How { posting, hold, begin };
        let prepared = pins.prepare();
        let result = prepared.and_then(|()| self.install(&pins, how, interfaces, &mut made));
        if matches!(result, Ok(_) | Err(GateError::Stopped(_))) {
            made.keep();
        }
        result
    }

    fn install(
        &mut self,
        pins: &Pins,
        how: How<'_, '_>,
        interfaces: &[Interface],
        made: &mut Made<'_>,
    ) -> Result<Posted, GateError> {
        // What a trial falls back to goes on with the memories that it knows.
        let whose = Whose::Posted { may_resize: !matches!(how.hold, Hold::For(_)) };
        let kept = self.open_or_make(pins, how.posting.brief, whose, made)?;
        let switch = Switch::open(kept.switch.as_fd())?;
        let begin = how.begin.map_or_else(|| switch.turn(), Ok)?;
        let needed = Needed::by(how.posting.brief);
        let hooks: Vec<Hook> =
            kept.slots.iter().map(|(hook, _)| *hook).filter(|hook| needed.has(*hook)).collect();
        let before = Revision::in_slot(kept.outer_slot.as_fd(), begin.holds)?;

        self.step("load")?;
        let revision = Revision::load(how.posting, kept.memories(), &hooks, before.as_ref())?;
        if let Some(before) = &before {
            revision.take_over_tallies(before)?;
        }

        let env = kept.at_interfaces(self.cookie);
        self.step("dispatchers")?;
        let dispatchers = Dispatchers::pinned_or_new(pins, env, made)?;
        let mut posted = self.guard(pins, env, &dispatchers, interfaces, made)?;
        posted.replaced = before.is_some();
        if kept.slots.len() > 1 {
            self.step("second line")?;
            let outer = dispatchers.ids()?;
            let env = DispatcherEnv { outer: &outer, ..env };
            cgroup::attach(pins, env, &kept.slots, needed, made)?;
        }

        let left = self.enter(&revision, &kept.slots, &switch, begin, how.hold)?;
        // In force. What remains is tidying, and its failure changes nothing.
        if how.hold != Hold::Again {
            // Whoever posts has seen enough of what is rehearsed.
            let _ = self.forget_rehearsal(pins);
        }
        if matches!(how.hold, Hold::ForGood | Hold::Again) {
            clear_slots(&kept.slots, left);
            let rehearses = self.rehearsed().is_ok_and(|rehearsed| rehearsed.is_some());
            cgroup::detach_idle(pins, needed.with_tags_if(rehearses));
        }
        pins.forget_vanished(interfaces, kept.guarded.as_fd());
        pins.resize(made);
        for old in pins.of_other_layouts() {
            old.all().unwrap_or_default().iter().for_each(|path| old.discard(path));
            old.tidy();
        }
        Ok(posted)
    }

    /// Opens everything that outlives a post, and makes what is not there yet.
    pub(super) fn open_or_make(
        &mut self,
        pins: &Pins,
        brief: &Brief,
        whose: Whose,
        made: &mut Made<'_>,
    ) -> Result<Kept, GateError> {
        self.step("switch")?;
        let types = described::at_packets_by(pins, made)?;
        let switch = pins.switch_or_new(made)?;
        self.step("slot")?;
        let outer_slot = pins.slot_or_new(Hook::Outer, made)?;
        self.step("guarded")?;
        let guarded = pins.guarded_or_new(made)?;
        self.step("rehearsal")?;
        let rehearsal = pins.rehearsal_or_new(made)?;
        self.step("clock")?;
        let clock = pins.clock_or_new(made)?;
        clock::Told::open(clock.as_fd())?.tell(clock::tai_ahead()?);
        self.step("memories")?;
        let maps = pins.memories_or_new(brief.memory, whose, made)?;
        self.step("events")?;
        let events = pins.events_or_new(made)?;
        self.step("secrets")?;
        let (secret, marks) = pins.secrets_or_new(made)?;
        self.step("labels")?;
        let owner_tags = match Needed::by(brief).owner_tags {
            true => cgroup::owner_tags(pins, self.cookie, secret, made)?,
            false => None,
        };
        if owner_tags.is_none() {
            enforceable::without_owner_tags(brief)?;
        }
        let outer = outer_slot.try_clone().map_err(system("opening a map"))?;
        let mut slots = vec![(Hook::Outer, outer)];
        slots.extend(cgroup::slots(pins, made)?.into_iter().flatten());
        Ok(Kept {
            types,
            switch,
            outer_slot,
            slots,
            guarded,
            rehearsal,
            clock,
            maps,
            events,
            owner_tags,
            secret,
            marks,
        })
    }

    /// Puts a revision into the slots and turns the switch to it. Returns the
    /// place that was in force until then.
    fn enter(
        &mut self,
        revision: &Revision,
        slots: &[(Hook, OwnedFd)],
        switch: &Switch,
        mut turn: SwitchState,
        hold: Hold,
    ) -> Result<Place, GateError> {
        self.step("enter")?;
        if turn.fell_back {
            // As it is already, but without a deadline: nobody can say "before" twice.
            if !switch.replace(turn, turn.holds, None)? && hold != Hold::Sealed {
                return Err(GateError::Overtaken);
            }
            turn = switch.turn()?;
        }
        let next = if hold == Hold::Sealed { Place::Sealed } else { turn.holds.next() };
        revision.enter(slots, next)?;
        self.step("swap")?;
        let turned = match hold {
            Hold::Sealed => {
                switch.set(next);
                true
            }
            Hold::ForGood | Hold::Again => switch.replace(turn, next, None)?,
            Hold::For(time) => switch.replace(turn, next, Some((time, turn.holds)))?,
        };
        if turned { Ok(turn.holds) } else { Err(GateError::Overtaken) }
    }

    /// Gives every interface its dispatchers.
    pub(super) fn guard(
        &mut self,
        pins: &Pins,
        here: DispatcherEnv<'_>,
        dispatchers: &Dispatchers,
        interfaces: &[Interface],
        made: &mut Made<'_>,
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
}

/// How long a post is to hold.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Hold {
    ForGood,
    /// For good, of what holds already: what is rehearsed beside it goes on.
    Again,
    For(Duration),
    /// For good, in the place that is the panic button's.
    Sealed,
}

/// A post, and what the switch said when it began.
#[derive(Clone, Copy)]
struct How<'p, 'o> {
    posting: &'p Posting<'o>,
    hold: Hold,
    begin: Option<SwitchState>,
}

/// What outlives a post, opened.
pub(super) struct Kept {
    types: Option<KernelTypes>,
    switch: OwnedFd,
    pub(super) outer_slot: OwnedFd,
    /// Of all hooks that this kernel can carry, the outer one's first.
    slots: Slots,
    guarded: OwnedFd,
    pub(super) rehearsal: OwnedFd,
    clock: OwnedFd,
    maps: MemoryMaps,
    events: OwnedFd,
    owner_tags: Option<OwnedFd>,
    secret: Secret,
    marks: Marks,
}

impl Kept {
    /// What dispatchers at interfaces refer to, in the namespace with this cookie.
    pub(super) fn at_interfaces(&self, cookie: u64) -> DispatcherEnv<'_> {
        DispatcherEnv {
            cookie,
            namespace: NamespaceOf::Helper,
            switch: self.switch.as_fd(),
            slot: self.outer_slot.as_fd(),
            rehearsal: self.rehearsal.as_fd(),
            guarded: self.guarded.as_fd(),
            marks: self.marks,
            types: self.types,
            outer: &[],
        }
    }

    /// What programs share that are to be in force.
    fn memories(&self) -> SharedMaps<'_> {
        let (until, slot) = (self.rehearsal.as_fd(), self.outer_slot.as_fd());
        let rehearsed = Some(Rehearsed { until, slot });
        SharedMaps { rehearsed, ..self.memories_of_rehearsal() }
    }

    /// What the program of a rehearsal shares.
    pub(super) fn memories_of_rehearsal(&self) -> SharedMaps<'_> {
        let maps = &self.maps;
        SharedMaps {
            flows: FlowMaps {
                answered: maps.answered.as_fd(),
                unanswered: maps.unanswered.as_fd(),
                let_in: maps.let_in.as_fd(),
                fragments: maps.fragments.as_fd(),
            },
            shares: maps.shares.as_fd(),
            rates: maps.rates.as_fd(),
            events: self.events.as_fd(),
            guarded: self.guarded.as_fd(),
            clock: self.clock.as_fd(),
            owner_tags: self.owner_tags.as_ref().map(AsFd::as_fd),
            secret: self.secret,
            marks: self.marks,
            rehearsed: None,
        }
    }
}

/// The dispatchers at interfaces: one program a side, at all of them.
pub(super) struct Dispatchers(Vec<(OuterSide, OwnedFd)>);

impl Dispatchers {
    pub(super) fn pinned_or_new(
        pins: &Pins,
        here: DispatcherEnv<'_>,
        made: &mut Made<'_>,
    ) -> Result<Self, GateError> {
        OuterSide::ALL
            .into_iter()
            .map(|side| {
                Ok((
                    side,
                    pins.dispatcher_or_new(
                        side,
                        || {
                            let code = dispatcher::outer(side, here).map_err(misfit)?;
                            load(ProgramKind::SchedCls, None, side.name(), &code)
                        },
                        made,
                    )?,
                ))
            })
            .collect::<Result<_, GateError>>()
            .map(Self)
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
pub(super) type Slots = Vec<(Hook, OwnedFd)>;

/// Empties a place that does not hold; a failure changes nothing.
pub(super) fn clear_slots(slots: &[(Hook, OwnedFd)], place: Place) {
    for (_, slot) in slots {
        let _ = Revision::leave(slot.as_fd(), place);
    }
}

/// Gives a side of an interface the dispatcher that it needs; `false`: the interface
/// is gone.
fn attach(
    pins: &Pins,
    at: At,
    dispatchers: &Dispatchers,
    interface: &Interface,
    made: &mut Made<'_>,
) -> Result<bool, GateError> {
    match dispatchers.at(at.side(interface)) {
        Some(program) => pins.attach(at, interface, program.as_fd(), made),
        None => Ok(false),
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
        support::check_root()?;
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
        let posted = self.put_up(&posting, interfaces, Hold::Again)?;
        drop(lock);
        Ok(Some(posted))
    }

    /// Gives interfaces that have no gate the one that is up.
    pub(super) fn guard_on_trial(
        &mut self,
        pins: &Pins,
        interfaces: &[Interface],
    ) -> Result<(), GateError> {
        let (Some(switch), Some(slot)) = (pins.switch()?, pins.slot(Hook::Outer)?) else {
            return Ok(());
        };
        // One interface that fails takes nothing from the others.
        let mut made = Made::new(pins);
        made.keep();
        let guarded = pins.guarded_or_new(&mut made)?;
        let rehearsal = pins.rehearsal_or_new(&mut made)?;
        let (_, marks) = pins.secrets_or_new(&mut made)?;
        let here = DispatcherEnv {
            cookie: self.cookie,
            namespace: NamespaceOf::Helper,
            switch: switch.as_fd(),
            slot: slot.as_fd(),
            rehearsal: rehearsal.as_fd(),
            guarded: guarded.as_fd(),
            marks,
            types: described::at_packets(),
            outer: &[],
        };
        let dispatchers = Dispatchers::pinned_or_new(pins, here, &mut made)?;
        self.guard(pins, here, &dispatchers, interfaces, &mut made).map(drop)
    }
}
