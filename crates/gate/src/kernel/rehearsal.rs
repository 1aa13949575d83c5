//! Orders that are tried beside what is in force, or on an open machine: they decide, count
//! and record, and stop nothing.

use std::os::fd::AsFd;
use std::time::Duration;

use tipstaff_core::brief::Brief;
use tipstaff_core::decision::{Decision, Speaker};
use tipstaff_core::host::interface::Interface;
use tipstaff_core::orders::LogLevel;
use tipstaff_core::packet::{Direction, InterfaceIndex};

use crate::contract::{GateError, Left, Posted, Posting, Record, Rehearsal, Tally, Unrecorded};
use crate::kernel::emit::context::Hook;
use crate::kernel::error::system;
use crate::kernel::gate::KernelGate;
use crate::kernel::kept::memories::Whose;
use crate::kernel::kept::pins::{Made, Pins};
use crate::kernel::kept::revision::Revision;
use crate::kernel::kept::switch::{Place, RehearsalTime};
use crate::kernel::post::Dispatchers;
use crate::kernel::support::{self, check_support};

impl KernelGate {
    /// Begins to rehearse orders, for a time or until that is ended; what was rehearsed
    /// before is not any more. The kernel itself keeps the time.
    ///
    /// # Errors
    /// As [`crate::Gate::post`]; then what is in force still is, and nothing has changed.
    pub fn rehearse(
        &mut self,
        posting: &Posting<'_>,
        interfaces: &[Interface],
        time: Option<Duration>,
    ) -> Result<Posted, GateError> {
        check_support()?;
        let lock = self.lock()?;
        let result = self.install_rehearsal(posting, interfaces, Begin::Anew(time));
        drop(lock);
        if result.is_err() {
            self.pins().remove_run_dir();
        }
        result
    }

    fn install_rehearsal(
        &mut self,
        posting: &Posting<'_>,
        interfaces: &[Interface],
        begin: Begin,
    ) -> Result<Posted, GateError> {
        let pins = self.pins();
        self.step("mount")?;
        let mut made = Made::new(&pins);
        let prepared = pins.prepare();
        let result =
            prepared.and_then(|()| self.put_beside(&pins, posting, interfaces, (begin, &mut made)));
        if matches!(result, Ok(_) | Err(GateError::Stopped(_))) {
            made.keep();
        }
        result
    }

    fn put_beside(
        &mut self,
        pins: &Pins,
        posting: &Posting<'_>,
        interfaces: &[Interface],
        (begin, made): (Begin, &mut Made<'_>),
    ) -> Result<Posted, GateError> {
        // Records are what it is for.
        let log_level = posting.brief.log_level.max(LogLevel::Denied);
        let brief = &Brief { log_level, ..posting.brief.clone() };
        let posting = &Posting { brief, record: posting.record.clone() };
        let whose = Whose::Rehearsed { anew: matches!(begin, Begin::Anew(_)) };
        let kept = self.open_or_make(pins, brief, whose, made)?;
        let slot = kept.outer_slot.as_fd();
        let before = match begin {
            Begin::Anew(_) => None,
            Begin::Again => Revision::in_slot(slot, Place::Rehearsed)?,
        };
        self.step("load")?;
        let shared = kept.memories_of_rehearsal();
        let revision = Revision::load(posting, shared, &[Hook::Outer], before.as_ref())?;
        if let Some(before) = &before {
            revision.take_over_tallies(before)?;
        }
        self.step("dispatchers")?;
        let env = kept.at_interfaces(self.cookie);
        let dispatchers = Dispatchers::pinned_or_new(pins, env, made)?;
        let posted = self.guard(pins, env, &dispatchers, interfaces, made)?;
        self.step("rehearse")?;
        let outer = [(Hook::Outer, kept.outer_slot.try_clone().map_err(system("opening a map"))?)];
        revision.enter(&outer, Place::Rehearsed)?;
        if let Begin::Anew(time) = begin {
            RehearsalTime::open(kept.rehearsal.as_fd())?.begin(time)?;
        }
        Ok(posted)
    }

    /// What is rehearsed, or was until its time was over; `None`: nothing since the last
    /// post.
    ///
    /// # Errors
    /// [`GateError`].
    pub fn rehearsal(&self) -> Result<Option<Rehearsal>, GateError> {
        let Some(revision) = self.rehearsed()? else { return Ok(None) };
        let left = match self.pins().rehearsal()? {
            Some(map) => RehearsalTime::open(map.as_fd())?.left()?,
            None => Left::Over,
        };
        Ok(Some(Rehearsal { record: revision.record()?, left }))
    }

    /// Packets and bytes by what would have decided.
    ///
    /// # Errors
    /// [`GateError::NoRehearsal`] among others.
    pub fn rehearsed_tallies(&self) -> Result<Vec<(Speaker, Tally)>, GateError> {
        self.rehearsed()?.ok_or(GateError::NoRehearsal)?.tallies()
    }

    /// As [`Self::unrecorded`], of what is rehearsed.
    ///
    /// # Errors
    /// [`GateError::NoRehearsal`] among others.
    pub fn unrecorded_of_rehearsal(&self) -> Result<Unrecorded, GateError> {
        self.rehearsed()?.ok_or(GateError::NoRehearsal)?.unrecorded()
    }

    /// As [`crate::Gate::ask`], of what is rehearsed.
    ///
    /// # Errors
    /// [`GateError::NoRehearsal`] among others.
    pub fn ask_rehearsal(
        &self,
        interface: InterfaceIndex,
        way: Direction,
        frame: &[u8],
    ) -> Result<Decision, GateError> {
        let rehearsed = self.rehearsed()?.ok_or(GateError::NoRehearsal)?;
        Ok(rehearsed.ask(interface, way, None, frame, 1)?.0)
    }

    /// Ends a rehearsal. Where nothing is in force, nothing is left behind.
    ///
    /// # Errors
    /// [`GateError::NoRehearsal`] among others.
    pub fn end_rehearsal(&mut self) -> Result<Record, GateError> {
        support::check_root()?;
        if !self.run_dir.exists() {
            return Err(GateError::NoRehearsal);
        }
        let lock = self.lock()?;
        let record = self.rehearsed()?.ok_or(GateError::NoRehearsal)?.record()?;
        self.forget_rehearsal(&self.pins())?;
        let is_open = self.revision()?.is_none() && self.pending_nothing()?;
        drop(lock);
        if is_open {
            crate::Gate::withdraw(self)?;
        }
        Ok(record)
    }

    /// Whether no deadline will put anything in force.
    fn pending_nothing(&self) -> Result<bool, GateError> {
        Ok(self.turn(&self.pins())?.is_none_or(|turn| turn.left.is_none()))
    }

    /// Gives interfaces that have no gate one, and lets what is rehearsed know them and its
    /// programs. `false`: nothing is rehearsed.
    ///
    /// # Errors
    /// [`GateError`]; then what was rehearsed still is.
    pub fn cover_rehearsal(
        &mut self,
        interfaces: &[Interface],
        brief_of: impl FnOnce(&Record) -> Result<Brief, GateError>,
    ) -> Result<bool, GateError> {
        let Some(Rehearsal { left: Left::UntilEnded | Left::For(_), .. }) = self.rehearsal()?
        else {
            return Ok(false);
        };
        let lock = self.lock()?;
        let Some(rehearsed) = self.rehearsed()? else { return Ok(false) };
        let record = rehearsed.record()?;
        let brief = brief_of(&record)?;
        let posting = Posting { brief: &brief, record };
        self.install_rehearsal(&posting, interfaces, Begin::Again)?;
        drop(lock);
        Ok(true)
    }
}

/// How a rehearsal comes to be.
#[derive(Clone, Copy)]
enum Begin {
    /// It begins, for a time or until it is ended.
    Anew(Option<Duration>),
    /// It goes on as it was, and knows what is new.
    Again,
}
