//! Programs of others that decide about packets, too, and who sees a packet first.
//!
//! Inbound a packet meets XDP, then the programs and filters of its interface (`tc`), the gate
//! among them, then the programs of its socket's control group; outbound these first, then those
//! of the interface. What somebody drops or lets pass for good, those behind never see.

use std::fs::{self, File};
use std::io;
use std::os::fd::{AsFd, AsRawFd};
use std::path::{Path, PathBuf};

use schemars::JsonSchema;
use serde::Serialize;
use tipstaff_bpf::sys::{self, Attach};
use tipstaff_core::host::interface::Interface;
use tipstaff_core::packet::Direction;
use tipstaff_host::{filters, interfaces};

use crate::contract::GateError;
use crate::kernel::error::{bpf, system};
use crate::kernel::gate::KernelGate;
use crate::kernel::kept::at::At;
use crate::kernel::kept::cgroup;
use crate::kernel::support;

/// More control groups than these are not looked at.
const MOST_GROUPS: usize = 10_000;

/// A program of somebody else that decides about packets.
#[derive(Clone, Debug, PartialEq, Eq, JsonSchema, Serialize)]
pub struct Other {
    /// Where it is attached.
    #[serde(flatten)]
    pub place: Place,
    /// Whether it sees what arrives or what leaves.
    pub direction: Direction,
    /// Whether it sees a packet before the gate does, or what the gate has let pass.
    pub order: Turn,
    /// The kernel's number of the program; null: a filter that is none.
    pub program: Option<u32>,
    /// Its name, as its maker gave it.
    pub name: String,
}

/// Where somebody's program is attached.
#[derive(Clone, Debug, PartialEq, Eq, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case", tag = "hook")]
pub enum Place {
    /// At an interface, before the stack.
    Xdp {
        /// The interface.
        interface: String,
    },
    /// At an interface, where the gate is.
    Tc {
        /// The interface.
        interface: String,
    },
    /// At a control group, for the packets of its sockets.
    ControlGroup {
        /// Its path below the root of all that can be seen here: `/system.slice/x.service`.
        group: String,
    },
}

/// Who sees a packet first.
#[derive(Clone, Copy, Debug, PartialEq, Eq, JsonSchema, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Turn {
    /// The other one does.
    Before,
    /// The gate does.
    After,
}

impl KernelGate {
    /// The programs of others at these interfaces, and at the control groups of the machine.
    ///
    /// # Errors
    /// [`GateError`].
    pub fn others(&self, interfaces: &[Interface]) -> Result<Vec<Other>, GateError> {
        support::check_root()?;
        let mut found = at_xdp(interfaces).map_err(system("reading the interfaces"))?;
        // Asked once: most interfaces have no filters.
        let disciplined = filters::disciplined().map_err(system("reading the filters"))?;
        for interface in interfaces {
            let may_have_filters = disciplined.contains(&interface.index);
            for at in [At::Ingress, At::Egress] {
                found.extend(self.beside(interface, at, may_have_filters)?);
            }
        }
        found.extend(at_groups(self.pins().run_dir()));
        Ok(found)
    }

    /// Those at a side of an interface that the gate has.
    fn beside(
        &self,
        interface: &Interface,
        at: At,
        may_have_filters: bool,
    ) -> Result<Vec<Other>, GateError> {
        let Some(own) = self.pins().program_at(at, interface.index)? else {
            return Ok(Vec::new());
        };
        let all = match programs_at(interface.index, at, may_have_filters) {
            Err(e) if e.raw_os_error() == Some(libc::ENODEV) => return Ok(Vec::new()),
            all => all.map_err(bpf("to read what is attached to an interface"))?,
        };
        let turn = all.iter().position(|id| *id == Some(own)).unwrap_or(all.len());
        let others = all.into_iter().enumerate().filter(|(_, id)| *id != Some(own));
        let others = others.map(|(nth, program)| Other {
            place: Place::Tc { interface: interface.name.clone() },
            direction: match at {
                At::Ingress => Direction::Inbound,
                At::Egress => Direction::Outbound,
            },
            order: if nth < turn { Turn::Before } else { Turn::After },
            program,
            name: program.map(name_of).unwrap_or_default(),
        });
        Ok(others.collect())
    }
}

fn name_of(program: u32) -> String {
    let program = sys::program_by_id(program);
    program.and_then(|program| sys::program_name(program.as_fd())).unwrap_or_default()
}

/// What is at a side of an interface in the order in which it runs: the programs of links, then
/// filters, where `None` is one without a program.
fn programs_at(interface: u32, at: At, may_have_filters: bool) -> io::Result<Vec<Option<u32>>> {
    let side = match at {
        At::Ingress => Attach::TcxIngress,
        At::Egress => Attach::TcxEgress,
    };
    let links = match sys::programs_at(interface, side) {
        // Before 6.6 there are no links at interfaces.
        Err(e) if e.kind() == io::ErrorKind::InvalidInput => Vec::new(),
        links => links?,
    };
    let filters = match may_have_filters {
        true => filters::list(interface, at.filter_side())?,
        false => Vec::new(),
    };
    let filters = filters.into_iter().map(|filter| filter.program);
    Ok(links.into_iter().map(Some).chain(filters).collect())
}

fn at_xdp(all: &[Interface]) -> io::Result<Vec<Other>> {
    let programs = interfaces::xdp_programs()?.into_iter();
    let found = programs.filter_map(|(index, program)| {
        let interface = all.iter().find(|interface| interface.index == index)?;
        Some(Other {
            place: Place::Xdp { interface: interface.name.clone() },
            direction: Direction::Inbound,
            order: Turn::Before,
            program: Some(program),
            name: name_of(program),
        })
    });
    Ok(found.collect())
}

/// Those at the control groups. Groups come and go meanwhile, and a kernel may have none: nothing
/// of that is an error.
fn at_groups(run_dir: &Path) -> Vec<Other> {
    let Some(root) = cgroup::control_groups(run_dir) else { return Vec::new() };
    // Where it is mounted may not be seen from here.
    let path = PathBuf::from(format!("/proc/thread-self/fd/{}", root.as_raw_fd()));
    let groups = groups(&path);
    groups.iter().flat_map(|group| of_group(&path, group).unwrap_or_default()).collect()
}

/// The control groups below a folder by their paths, and itself.
fn groups(root: &Path) -> Vec<PathBuf> {
    let mut found = vec![PathBuf::new()];
    let mut nth = 0;
    while nth < found.len() && found.len() < MOST_GROUPS {
        let inner = fs::read_dir(root.join(&found[nth])).into_iter().flatten().flatten();
        let inner = inner.filter(|inner| inner.file_type().is_ok_and(|kind| kind.is_dir()));
        let inner: Vec<PathBuf> = inner.map(|inner| found[nth].join(inner.file_name())).collect();
        found.extend(inner);
        nth += 1;
    }
    found.sort();
    found
}

/// Those of one control group itself.
fn of_group(root: &Path, group: &Path) -> io::Result<Vec<Other>> {
    let sides = [
        (Attach::CgroupIngress, Direction::Inbound, Turn::After),
        (Attach::CgroupEgress, Direction::Outbound, Turn::Before),
    ];
    let folder = File::open(root.join(group))?;
    let group = format!("/{}", group.display());
    let mut found = Vec::new();
    for (attach, direction, order) in sides {
        for program in sys::programs_of_group(folder.as_fd(), attach)? {
            let name = name_of(program);
            // The second line, also of other namespaces. Who may attach there may do anything.
            if group == "/" && name == cgroup::DISPATCHER {
                continue;
            }
            let place = Place::ControlGroup { group: group.clone() };
            found.push(Other { place, direction, order, program: Some(program), name });
        }
    }
    Ok(found)
}
