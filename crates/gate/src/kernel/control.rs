//! The gate as [`Gate`] has it.

use std::os::fd::AsFd;
use std::time::Duration;

use tipstaff_core::decision::rates::SourceState;
use tipstaff_core::decision::{Decision, Speaker};
use tipstaff_core::host::interface::Interface;
use tipstaff_core::orders::Limit;
use tipstaff_core::packet::{Direction, InterfaceIndex};

use crate::contract::{Gate, GateError, InForce, Posted, Posting, Record, Tally};
use crate::kernel::emit::context::Hook;
use crate::kernel::gate::KernelGate;
use crate::kernel::kept::at::At;
use crate::kernel::kept::buckets;
use crate::kernel::post::Hold;
use crate::kernel::support;

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
        support::check_root()?;
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
        if !self.may_ask()? {
            return Ok(None);
        }
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
            by_filters: pins.all()?.iter().any(|path| At::of_filter(path).is_some()),
        }))
    }

    fn tallies(&self) -> Result<Vec<(Speaker, Tally)>, GateError> {
        self.revision()?.map_or(Ok(Vec::new()), |revision| revision.tallies())
    }

    fn sources(&self, limit: &Limit) -> Result<Vec<SourceState>, GateError> {
        support::check_root()?;
        match self.pins().rates()? {
            Some(rates) => buckets::sources(rates.as_fd(), limit),
            None => Ok(Vec::new()),
        }
    }

    fn ask(&self, interface: InterfaceIndex, frame: &[u8]) -> Result<Decision, GateError> {
        let revision = self.revision()?.ok_or(GateError::NothingInForce)?;
        Ok(revision.ask(interface, Direction::Inbound, None, frame, 1)?.0)
    }
}
