//! The kernel's description of its types, and whether its verifier lets programs
//! read by it.

use std::fs;
use std::hash::{DefaultHasher, Hash, Hasher};
use std::os::fd::{AsFd, OwnedFd};
use std::sync::OnceLock;

use tipstaff_bpf::btf::{self, Btf};
use tipstaff_bpf::sys::{self, Attach, ProgramKind};

use crate::contract::GateError;
use crate::kernel::emit::kernel_memory;
use crate::kernel::emit::namespace::DeviceNamespace;
use crate::kernel::emit::owner_tag::Offsets;
use crate::kernel::emit::types::KernelTypes;
use crate::kernel::kept::pins::{Made, Pins};

/// The verifier's yes: the program that it let through; `None` is a no.
fn accepted(code: &[u8]) -> Option<OwnedFd> {
    let load = |kind, at| sys::program_load_for(kind, at, "ts_probe", code).ok();
    load(ProgramKind::CgroupSkb, Some(Attach::CgroupIngress))?;
    load(ProgramKind::SchedCls, None)
}

/// What the kernel's description gives; it does not change while it runs.
#[derive(Clone, Copy, Default)]
struct Described {
    owner_tags: Option<Offsets>,
    types: Option<KernelTypes>,
    devices: Option<DeviceNamespace>,
}

/// As if the kernel were one before 6.2, for tests: no typed pointers, no links at
/// interfaces, and no question for the namespace of a packet.
pub(crate) fn is_older() -> bool {
    cfg!(feature = "testing") && std::env::var_os("TIPSTAFF_TEST_OLDER_KERNEL").is_some()
}

fn described() -> Described {
    static DESCRIBED: OnceLock<Described> = OnceLock::new();
    *DESCRIBED.get_or_init(|| {
        let Ok(bytes) = fs::read(btf::VMLINUX) else { return Described::default() };
        let Ok(btf) = Btf::read(&bytes) else { return Described::default() };
        Described {
            owner_tags: Offsets::from_btf(&btf).ok(),
            types: KernelTypes::from_btf(&btf).ok().map(|t| if is_older() { t.older() } else { t }),
            devices: DeviceNamespace::from_btf(&btf)
                .ok()
                .map(|d| if is_older() { d.older() } else { d }),
        }
    })
}

/// What programs may read at a packet, once that is known.
static ACCEPTED: OnceLock<Option<KernelTypes>> = OnceLock::new();

/// What programs may read at a packet; `None`: this kernel does not let them.
pub(crate) fn at_packets() -> Option<KernelTypes> {
    *ACCEPTED.get_or_init(|| {
        described().types.filter(|types| types.probe().is_ok_and(|code| accepted(&code).is_some()))
    })
}

/// As [`at_packets`], where the gate has its pins: the verifier is asked once, as long
/// as the machine runs and the program that asks is the same.
pub(crate) fn at_packets_by(
    pins: &Pins,
    made: &mut Made<'_>,
) -> Result<Option<KernelTypes>, GateError> {
    let code = described().types.and_then(|types| Some((types, types.probe().ok()?)));
    let (Some((types, code)), None) = (code, ACCEPTED.get()) else { return Ok(at_packets()) };
    let mut hasher = DefaultHasher::new();
    code.hash(&mut hasher);
    let pin = format!("types-{:016x}", hasher.finish());
    if !pins.has_link(&pin)? {
        let Some(program) = accepted(&code) else {
            return Ok(*ACCEPTED.get_or_init(|| None));
        };
        pins.keep_link(program.as_fd(), &pin, made)?;
    }
    Ok(*ACCEPTED.get_or_init(|| Some(types)))
}

/// Whether programs may copy the kernel's memory.
pub(crate) fn may_copy() -> bool {
    static MAY: OnceLock<bool> = OnceLock::new();
    let load = |code: Vec<u8>| {
        sys::program_load_for(ProgramKind::CgroupSock, Some(Attach::SocketMade), "ts_probe", &code)
    };
    *MAY.get_or_init(|| kernel_memory::probe().is_ok_and(|code| load(code).is_ok()))
}

/// What a program reads of a packet's device to know its namespace; `None`: as above.
pub(crate) fn at_devices() -> Option<DeviceNamespace> {
    described().devices
}

/// What the program that tags sockets reads; `None`: as above.
pub(crate) fn at_sockets() -> Option<Offsets> {
    described().owner_tags
}
