//! Whether what is in force is still what was posted, and still decides first.

use std::io;
use std::os::fd::AsFd;

use tipstaff_bpf::sys::{self, Attach};
use tipstaff_core::brief::Brief;
use tipstaff_core::host::interface::Interface;
use tipstaff_host::filters;

use crate::contract::GateError;
use crate::kernel::error::bpf;
use crate::kernel::gate::KernelGate;
use crate::kernel::kept::at::At;
use crate::kernel::support;

/// Another program that decides before the gate does.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Ahead {
    /// On which interface.
    pub interface: String,
    /// Whether on the way out.
    pub outwards: bool,
    /// The kernel's number of the program.
    pub program: u32,
    /// Its name.
    pub name: String,
}

impl KernelGate {
    /// Whether the tables in the kernel are those that were posted, read back
    /// byte by byte.
    ///
    /// # Errors
    /// [`GateError::NothingInForce`] among others.
    pub fn is_intact(&self) -> Result<bool, GateError> {
        self.revision()?.ok_or(GateError::NothingInForce)?.is_intact()
    }

    /// Whether the programs of the list in force are still the same files.
    ///
    /// # Errors
    /// [`GateError::NothingInForce`] among others.
    pub fn knows_programs(&self, brief: &Brief) -> Result<bool, GateError> {
        if brief.programs.is_empty() {
            return Ok(true);
        }
        let Some((secret, _)) = self.pins().secrets()? else { return Ok(false) };
        self.revision()?.ok_or(GateError::NothingInForce)?.knows_programs(brief, secret)
    }

    /// The programs of others that run before the gate on these interfaces:
    /// what they drop or let pass for good, the gate never sees.
    ///
    /// # Errors
    /// [`GateError`].
    pub fn ahead(&self, interfaces: &[Interface]) -> Result<Vec<Ahead>, GateError> {
        support::check_root()?;
        let pins = self.pins();
        let mut found = Vec::new();
        for interface in interfaces {
            for (at, side) in [(At::Ingress, Attach::TcxIngress), (At::Egress, Attach::TcxEgress)] {
                let Some(own) = pins.program_at(at, interface.index)? else { continue };
                let all = match programs_at(interface.index, side, at, own) {
                    Err(e) if e.raw_os_error() == Some(libc::ENODEV) => continue,
                    all => all.map_err(bpf("to read what is attached to an interface"))?,
                };
                for program in all.into_iter().take_while(|id| *id != own) {
                    let name = sys::program_by_id(program)
                        .and_then(|program| sys::program_name(program.as_fd()));
                    found.push(Ahead {
                        interface: interface.name.clone(),
                        outwards: at == At::Egress,
                        program,
                        name: name.unwrap_or_default(),
                    });
                }
            }
        }
        Ok(found)
    }
}

/// The programs at a side of an interface in the order in which they run, up to the
/// gate's own at least: those of links, then those of filters, where 0 is a filter
/// without one.
fn programs_at(interface: u32, side: Attach, at: At, own: u32) -> io::Result<Vec<u32>> {
    let mut all = match sys::programs_at(interface, side) {
        // Before 6.6 there are no links at interfaces.
        Err(e) if e.kind() == io::ErrorKind::InvalidInput => Vec::new(),
        all => all?,
    };
    if all.contains(&own) {
        return Ok(all);
    }
    let filters = filters::list(interface, at.filter_side())?;
    all.extend(filters.into_iter().map(|filter| filter.program.unwrap_or_default()));
    Ok(all)
}
