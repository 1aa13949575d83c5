//! The gate's programs at interfaces: by links, which are pinned, or on kernels
//! before 6.6 by filters, whose programs are pinned.

use std::io;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};

use tipstaff_bpf::sys::{self, LinkInfo, Order};
use tipstaff_core::host::interface::Interface;
use tipstaff_core::packet::InterfaceIndex;
use tipstaff_host::filters;

use crate::contract::GateError;
use crate::kernel::error::bpf;
use crate::kernel::kept::at::At;
use crate::kernel::kept::described::is_older;
use crate::kernel::kept::pins::{Made, Pins};

impl Pins {
    /// Gives a side of an interface this program, where it has none or another one;
    /// `false`: the interface is gone.
    pub(crate) fn attach(
        &self,
        at: At,
        interface: &Interface,
        program: BorrowedFd<'_>,
        made: &mut Made<'_>,
    ) -> Result<bool, GateError> {
        let index = InterfaceIndex(interface.index);
        let attached = match self.link_at(at, index)? {
            Some((_, info)) if info.program == program_id(program)? => Ok(true),
            Some((link, _)) => sys::link_update(link.as_fd(), program).map(|()| true),
            None => self.attach_new(at, interface, program, made)?,
        };
        match attached {
            Err(e) if is_gone(&e) => Ok(false),
            attached => attached.map_err(bpf("to attach to an interface")),
        }
    }

    fn attach_new(
        &self,
        at: At,
        interface: &Interface,
        program: BorrowedFd<'_>,
        made: &mut Made<'_>,
    ) -> Result<io::Result<bool>, GateError> {
        let index = InterfaceIndex(interface.index);
        let side = at.side(interface).attach();
        if !is_older() {
            match sys::link_interface(program, interface.index, side, Order::First) {
                Ok(link) => {
                    self.keep(link.as_fd(), &at.name(index), made)?;
                    return Ok(Ok(true));
                }
                // Before 6.6 the kernel does not know this kind of link.
                Err(e) if e.kind() == io::ErrorKind::InvalidInput => {}
                Err(e) => return Ok(Err(e)),
            }
        }
        let pin = at.filter_name(index);
        let pinned = self.open(&pin)?.map(|pinned| program_id(pinned.as_fd())).transpose()?;
        let runs = self.filter_program(at, interface.index)?;
        let id = Some(program_id(program)?);
        if pinned == id && runs == id {
            return Ok(Ok(true));
        }
        if runs.is_some() {
            // In the place of one of ours, as a link is updated: it stays whatever comes
            // of the post, and at no time is it without a pin.
            return Ok(self
                .pin_over(program, &pin, || {
                    filters::attach(interface.index, at.filter_side(), program)
                })?
                .map(|()| true));
        }
        // Pinned first: whoever is killed in between leaves no filter that nobody knows of.
        self.forget(&pin);
        self.keep(program, &pin, made)?;
        let attached = filters::attach(interface.index, at.filter_side(), program);
        if attached.is_err() {
            self.forget(&pin);
        }
        Ok(attached.map(|()| true))
    }

    /// The link of an interface, when it is still that interface's. What cannot be
    /// read is not forgotten: with its pin a link would go, and leave the interface open.
    fn link_at(
        &self,
        at: At,
        interface: InterfaceIndex,
    ) -> Result<Option<(OwnedFd, LinkInfo)>, GateError> {
        let name = at.name(interface);
        let Some(link) = self.open(&name)? else { return Ok(None) };
        let info = link_info(link.as_fd())?;
        if info.interface == interface.0 {
            return Ok(Some((link, info)));
        }
        self.forget(&name);
        Ok(None)
    }

    /// The id of the program that stands on an interface for the gate.
    pub(crate) fn program_at(&self, at: At, interface: u32) -> Result<Option<u32>, GateError> {
        let link = self.open(&at.name(InterfaceIndex(interface)))?;
        let info = link.map(|link| link_info(link.as_fd())).transpose()?;
        match info.filter(|info| info.interface == interface) {
            Some(info) => Ok(Some(info.program)),
            None => self.filter_program(at, interface),
        }
    }

    /// The id of the program that a filter of ours runs there.
    fn filter_program(&self, at: At, interface: u32) -> Result<Option<u32>, GateError> {
        if self.open(&at.filter_name(InterfaceIndex(interface)))?.is_none() {
            return Ok(None);
        }
        let all = filters::list(interface, at.filter_side())
            .map_err(bpf("to read what is attached to an interface"))?;
        Ok(all.into_iter().find(|filter| filter.own).and_then(|filter| filter.program))
    }

    /// Interfaces that have the gate's program on this side.
    pub(crate) fn linked(&self, at: At) -> Result<Vec<InterfaceIndex>, GateError> {
        let mut linked = Vec::new();
        for path in self.all()? {
            let index = match At::of_filter(&path) {
                Some((side, index)) if side == at => Some(index),
                Some(_) => None,
                None => at.index_of(&path),
            };
            let Some(index) = index else { continue };
            if self.program_at(at, index)?.is_some() {
                linked.push(InterfaceIndex(index));
            }
        }
        linked.sort_unstable();
        linked.dedup();
        Ok(linked)
    }
}

fn link_info(link: BorrowedFd<'_>) -> Result<LinkInfo, GateError> {
    sys::link_info(link).map_err(bpf("to read what is attached to an interface"))
}

fn program_id(program: BorrowedFd<'_>) -> Result<u32, GateError> {
    sys::program_id(program).map_err(bpf("to read which program is attached"))
}

fn is_gone(error: &io::Error) -> bool {
    matches!(error.raw_os_error(), Some(libc::ENODEV))
}
