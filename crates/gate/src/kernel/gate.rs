//! The gate of a network namespace: to post, to withdraw, to cover new interfaces.

use std::os::fd::{AsFd, OwnedFd};
use std::path::{Path, PathBuf};

use tipstaff_bpf::sys;

use crate::contract::GateError;
use crate::kernel::emit::context::Hook;
use crate::kernel::error::system;
use crate::kernel::kept::pins::Pins;
use crate::kernel::kept::revision::Revision;
use crate::kernel::kept::switch::{Place, RehearsalTime, Switch, SwitchState};
use crate::kernel::support;
use crate::lock::{self, Lock};

/// Called before each step that changes something; `Break` stops there as
/// kill -9 would.
#[cfg(feature = "testing")]
pub type StepHook = Box<dyn FnMut(&'static str) -> std::ops::ControlFlow<()>>;

/// The gate of the network namespace that the calling thread is in.
pub struct KernelGate {
    pub(super) run_dir: PathBuf,
    pub(super) cookie: u64,
    /// What is being done, for whoever asks how long it takes.
    doing: tracing::Span,
    #[cfg(feature = "testing")]
    hook: Option<StepHook>,
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
        Ok(Self {
            run_dir: run_dir.to_owned(),
            cookie,
            doing: tracing::Span::none(),
            #[cfg(feature = "testing")]
            hook: None,
        })
    }

    /// Installs a hook that is asked before each step.
    #[cfg(feature = "testing")]
    #[must_use]
    pub fn with_hook(mut self, hook: StepHook) -> Self {
        self.hook = Some(hook);
        self
    }

    pub(super) fn step(&mut self, name: &'static str) -> Result<(), GateError> {
        #[cfg(feature = "testing")]
        if self.hook.as_mut().is_some_and(|hook| hook(name).is_break()) {
            return Err(GateError::Stopped(name));
        }
        self.doing = tracing::info_span!("gate:", name);
        Ok(())
    }

    pub(super) fn pins(&self) -> Pins {
        Pins::new(&self.run_dir, self.cookie)
    }

    /// Holds the lock until it is dropped; a second command waits, for a time.
    pub(super) fn lock(&self) -> Result<Lock, GateError> {
        support::check_root()?;
        support::run_dir(&self.run_dir)?;
        Ok(Lock::wait_for(&self.run_dir.join("lock"), lock::PATIENCE)?)
    }

    /// Empties the slots, the outer gate's first; what does not hold before
    /// what does, so that nothing comes back.
    pub(super) fn open_all(&self, pins: &Pins, outer: OwnedFd) -> Result<(), GateError> {
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

    /// What is rehearsed, or was.
    pub(super) fn rehearsed(&self) -> Result<Option<Revision>, GateError> {
        if !self.may_ask()? {
            return Ok(None);
        }
        match self.pins().slot(Hook::Outer)? {
            Some(slot) => Revision::in_slot(slot.as_fd(), Place::Rehearsed),
            None => Ok(None),
        }
    }

    /// Ends what is rehearsed, if anything is.
    pub(super) fn forget_rehearsal(&self, pins: &Pins) -> Result<(), GateError> {
        if let Some(map) = pins.rehearsal()? {
            RehearsalTime::open(map.as_fd())?.end();
        }
        if let Some(slot) = pins.slot(Hook::Outer)? {
            Revision::leave(slot.as_fd(), Place::Rehearsed)?;
        }
        pins.forget_rehearsal();
        Ok(())
    }

    /// Whether there is anything to ask: where no gate ever was every account may know that,
    /// elsewhere only root may open what is pinned.
    pub(super) fn may_ask(&self) -> Result<bool, GateError> {
        if !self.run_dir.exists() {
            return Ok(false);
        }
        support::check_root().map(|()| true)
    }

    pub(super) fn revision(&self) -> Result<Option<Revision>, GateError> {
        if !self.may_ask()? {
            return Ok(None);
        }
        let pins = self.pins();
        match (pins.slot(Hook::Outer)?, pins.switch()?) {
            (Some(slot), Some(switch)) => {
                let turn = Switch::open(switch.as_fd())?.turn()?;
                Revision::in_slot(slot.as_fd(), turn.holds)
            }
            _ => Ok(None),
        }
    }

    pub(super) fn turn(&self, pins: &Pins) -> Result<Option<SwitchState>, GateError> {
        match pins.switch()? {
            Some(switch) => Switch::open(switch.as_fd())?.turn().map(Some),
            None => Ok(None),
        }
    }
}
