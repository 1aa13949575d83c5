//! What is in force for a time only: the switch has a deadline then, and the
//! kernel keeps it by itself.

use std::os::fd::AsFd;
use std::time::Duration;

use crate::contract::{GateError, Pending, Record};
use crate::kernel::emit::context::Hook;
use crate::kernel::gate::KernelGate;
use crate::kernel::kept::revision::Revision;
use crate::kernel::kept::switch::{Place, Switch, SwitchState};
use crate::kernel::post::{Slots, clear_slots};

impl KernelGate {
    /// What ends by itself, if anything does.
    ///
    /// # Errors
    /// [`GateError`].
    pub fn pending(&self) -> Result<Option<Pending>, GateError> {
        if !self.may_ask()? {
            return Ok(None);
        }
        let Some(turn) = self.turn(&self.pins())? else { return Ok(None) };
        let Some(left) = turn.left else { return Ok(None) };
        let (now, then) = (self.record_at(turn.holds)?, self.record_at(turn.other)?);
        Ok(Some(Pending { left, now, then }))
    }

    /// The orders whose trial ended by itself, as long as nobody has posted
    /// anything since.
    ///
    /// # Errors
    /// [`GateError`].
    pub fn fell_back(&self) -> Result<Option<Record>, GateError> {
        if !self.may_ask()? {
            return Ok(None);
        }
        match self.turn(&self.pins())? {
            Some(turn) if turn.fell_back => self.record_at(turn.other),
            _ => Ok(None),
        }
    }

    /// Keeps what is on trial; see [`crate::Gate::confirm`].
    pub(super) fn keep_trial(&mut self) -> Result<Record, GateError> {
        if !self.run_dir.exists() {
            return Err(GateError::NoTrial);
        }
        let lock = self.lock()?;
        let (switch, turn, slots) = self.up()?;
        let record = self.record_at(turn.holds)?;
        match (turn.left, record) {
            (Some(_), Some(record)) => {
                if !switch.replace(turn, turn.holds, None)? {
                    return Err(GateError::Overtaken);
                }
                clear_slots(&slots, turn.other);
                drop(lock);
                Ok(record)
            }
            _ if turn.fell_back => Err(GateError::TrialOver),
            _ => Err(GateError::NoTrial),
        }
    }

    /// Lets what is pending hold for this long from now on.
    ///
    /// # Errors
    /// [`GateError::NoTrial`]; [`GateError::TrialOver`] when it ended by itself.
    pub fn renew(&mut self, time: Duration) -> Result<(), GateError> {
        if !self.run_dir.exists() {
            return Err(GateError::NoTrial);
        }
        let lock = self.lock()?;
        let (switch, turn, _) = self.up()?;
        if turn.left.is_none() {
            return Err(if turn.fell_back { GateError::TrialOver } else { GateError::NoTrial });
        }
        if !switch.replace(turn, turn.holds, Some((time, turn.other)))? {
            return Err(GateError::Overtaken);
        }
        drop(lock);
        Ok(())
    }

    /// Ends what is pending now, as its deadline would.
    ///
    /// # Errors
    /// [`GateError::NoTrial`]; [`GateError::TrialOver`] when it ended by itself.
    pub fn revert(&mut self) -> Result<Option<Record>, GateError> {
        if !self.run_dir.exists() {
            return Err(GateError::NoTrial);
        }
        let lock = self.lock()?;
        let (switch, turn, slots) = self.up()?;
        if turn.left.is_none() {
            return Err(if turn.fell_back { GateError::TrialOver } else { GateError::NoTrial });
        }
        if !switch.replace(turn, turn.other, None)? {
            return Err(GateError::Overtaken);
        }
        clear_slots(&slots, turn.holds);
        drop(lock);
        self.record_at(turn.other)
    }

    /// Takes the orders out of force for a time; then the kernel itself puts
    /// them in force again.
    ///
    /// # Errors
    /// [`GateError::TrialRunning`], [`GateError::NothingInForce`] among others.
    pub fn suspend(&mut self, time: Duration) -> Result<(), GateError> {
        if !self.run_dir.exists() {
            return Err(GateError::NothingInForce);
        }
        let lock = self.lock()?;
        let (switch, turn, slots) = self.up()?;
        if let Some(left) = turn.left {
            return Err(GateError::TrialRunning(left));
        }
        if self.record_at(turn.holds)?.is_none() {
            return Err(GateError::NothingInForce);
        }
        let empty = turn.holds.next();
        for (_, slot) in &slots {
            Revision::leave(slot.as_fd(), empty)?;
        }
        if !switch.replace(turn, empty, Some((time, turn.holds)))? {
            return Err(GateError::Overtaken);
        }
        drop(lock);
        Ok(())
    }

    /// The switch, its turn and the slots, of a gate that is up; under the lock.
    fn up(&self) -> Result<(Switch, SwitchState, Slots), GateError> {
        let pins = self.pins();
        let switch = pins.switch()?.ok_or(GateError::NothingInForce)?;
        let switch = Switch::open(switch.as_fd())?;
        let mut slots = Slots::new();
        for hook in Hook::ALL {
            slots.extend(pins.slot(hook)?.map(|slot| (hook, slot)));
        }
        let turn = switch.turn()?;
        Ok((switch, turn, slots))
    }

    /// The record of what stands in a place.
    fn record_at(&self, place: Place) -> Result<Option<Record>, GateError> {
        let Some(slot) = self.pins().slot(Hook::Outer)? else { return Ok(None) };
        Revision::in_slot(slot.as_fd(), place)?.map(|revision| revision.record()).transpose()
    }
}
