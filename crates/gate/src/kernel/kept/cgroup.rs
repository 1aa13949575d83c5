//! The second line: dispatchers at the sockets of the namespace, on the root
//! of the control groups. They guard interfaces that have no outer gate yet,
//! tell a denied program at once, and tag each socket with its program.
//!
//! A kernel that cannot carry it has the outer gate all the same.

use std::fs::{self, File};
use std::io;
use std::os::fd::{AsFd, OwnedFd};
use std::path::{Path, PathBuf};

use nix::mount::{MntFlags, MsFlags};
use tipstaff_bpf::sys::{self, Attach, ProgramKind};
use tipstaff_core::brief::Brief;
use tipstaff_core::names::address::Family;
use tipstaff_core::packet::Direction;

use crate::contract::GateError;
use crate::kernel::emit::context::Hook;
use crate::kernel::emit::dispatcher::{self, DispatcherEnv};
use crate::kernel::emit::kernel_memory;
use crate::kernel::emit::namespace::NamespaceOf;
use crate::kernel::emit::owner_tag::Secret;
use crate::kernel::emit::program_name::NameMaps;
use crate::kernel::emit::socket_made;
use crate::kernel::error::{bpf, load, misfit, system};
use crate::kernel::kept::pins::{Made, OWNER_TAG_LINK, Pins, private_folder};
use crate::kernel::kept::program_names::ProgramNames;
use crate::kernel::kept::revision::restricts;
use crate::kernel::kept::{described, open_sockets};

/// The links of the hooks at the sockets: pin, hook, way, place.
const LINKS: [(&str, Hook, bool, Attach); 4] = [
    ("inner-in", Hook::Inner, false, Attach::CgroupIngress),
    ("inner-out", Hook::Inner, true, Attach::CgroupEgress),
    ("connect4", Hook::Connect(Family::V4), true, Attach::Connect4),
    ("connect6", Hook::Connect(Family::V6), true, Attach::Connect6),
];

/// What a list needs at the sockets, beside the guard of new interfaces.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct Needed {
    /// Programs are told where rules name them, and where records of what leaves
    /// say who sent it.
    pub(crate) owner_tags: bool,
    /// Where everything may leave, no connecting is decided.
    connect: bool,
}

impl Needed {
    pub(crate) fn by(brief: &Brief) -> Self {
        let connect = restricts(brief, Direction::Outbound);
        Self {
            owner_tags: connect
                || brief.rules().any(|rule| rule.is_active() && !rule.program.is_any()),
            connect,
        }
    }

    /// Who made a socket is noted for what is rehearsed, too.
    pub(crate) fn with_tags_if(self, rehearses: bool) -> Self {
        Self { owner_tags: self.owner_tags || rehearses, ..self }
    }

    pub(crate) fn has(self, hook: Hook) -> bool {
        self.connect || !matches!(hook, Hook::Connect(_))
    }
}

/// Takes away what is in the way of every socket and connection, and has nothing
/// to say there. Failing is harmless.
pub(crate) fn detach_idle(pins: &Pins, needed: Needed) {
    let idle = LINKS.iter().filter(|(_, hook, ..)| !needed.has(*hook)).map(|(pin, ..)| *pin);
    for pin in idle.chain((!needed.owner_tags).then_some(OWNER_TAG_LINK)) {
        pins.discard_link(pin);
    }
}

/// The name of the programs of the second line.
pub(crate) const DISPATCHER: &str = "ts_at_sockets";

/// The folder of the root of the control groups (cgroups(7), version 2);
/// `None` where this kernel has none.
pub(crate) fn control_groups(run_dir: &Path) -> Option<File> {
    let mountinfo = fs::read_to_string("/proc/thread-self/mountinfo").ok()?;
    let own = mountinfo.lines().find_map(|line| {
        let (before, behind) = line.split_once(" - ")?;
        let mut words = before.split(' ').skip(3);
        let (root, point) = (words.next()?, words.next()?);
        (root == "/" && behind.starts_with("cgroup2 ")).then(|| PathBuf::from(point))
    });
    if let Some(folder) = own.and_then(|path| File::open(path).ok()) {
        return Some(folder);
    }
    // Not mounted where it can be seen: for a moment, and held by its descriptor.
    let folder = run_dir.join("groups");
    private_folder(&folder).ok()?;
    let mounted = nix::mount::mount(
        Some("tipstaff"),
        &folder,
        Some("cgroup2"),
        MsFlags::empty(),
        None::<&str>,
    );
    let opened = mounted.ok().and_then(|()| File::open(&folder).ok());
    let _ = nix::mount::umount2(&folder, MntFlags::MNT_DETACH);
    let _ = fs::remove_dir(&folder);
    opened
}

/// The owner tags of the sockets. Where nobody tags them yet, the program that does
/// is attached, and what is open already gets its owner tags. `None`: this kernel
/// cannot.
pub(crate) fn owner_tags(
    pins: &Pins,
    cookie: u64,
    secret: Secret,
    made: &mut Made<'_>,
) -> Result<Option<OwnedFd>, GateError> {
    if pins.has_link(OWNER_TAG_LINK)? {
        return pins.owner_tags_or_new(made).map(Some);
    }
    let (Some(offsets), Some(groups)) = (described::at_sockets(), control_groups(pins.run_dir()))
    else {
        return Ok(None);
    };
    if !described::may_copy() {
        return Ok(None);
    }
    let owner_tags = pins.owner_tags_or_new(made)?;
    let ProgramNames { names, blank } = pins.program_names_or_new(made)?;
    let maps = NameMaps { names: names.as_fd(), blank: blank.as_fd() };
    let code =
        socket_made::program(owner_tags.as_fd(), maps, cookie, secret, offsets).map_err(misfit)?;
    let program = load(ProgramKind::CgroupSock, Some(Attach::SocketMade), "ts_label", &code)?;
    let link = sys::link_cgroup(program.as_fd(), groups.as_fd(), Attach::SocketMade)
        .map_err(bpf("to attach to the control groups"))?;
    pins.keep_link(link.as_fd(), OWNER_TAG_LINK, made)?;
    open_sockets::tag_what_is_open(owner_tags.as_fd(), names.as_fd(), secret, cookie)
        .map_err(system("reading /proc"))?;
    Ok(Some(owner_tags))
}

/// How a program at the control groups learns whose packet it has; `None`: this
/// kernel does not tell. Older verifiers do not know the question, but let who may read
/// the kernel's memory read it there.
pub(crate) fn namespace_of() -> Result<Option<NamespaceOf>, GateError> {
    let device = described::at_devices();
    // As on a kernel before 6.15, for tests.
    let unasked = described::is_older() || kernel_memory::is_locked_down();
    let asked = (!unasked).then_some(NamespaceOf::Helper);
    for way in asked.into_iter().chain(device.into_iter().flat_map(NamespaceOf::at_device)) {
        let code = way.probe().map_err(misfit)?;
        match load(ProgramKind::CgroupSkb, Some(Attach::CgroupIngress), "ts_probe", &code) {
            Ok(_) => return Ok(Some(way)),
            Err(GateError::Verifier { source, .. })
                if matches!(
                    source.kind(),
                    io::ErrorKind::InvalidInput | io::ErrorKind::PermissionDenied
                ) => {}
            Err(other) => return Err(other),
        }
    }
    Ok(None)
}

/// The slots of the hooks at the sockets; `None`: this kernel cannot carry them.
pub(crate) fn slots(
    pins: &Pins,
    made: &mut Made<'_>,
) -> Result<Option<Vec<(Hook, OwnedFd)>>, GateError> {
    if !pins.has_link("inner-in")?
        && (namespace_of()?.is_none() || control_groups(pins.run_dir()).is_none())
    {
        return Ok(None);
    }
    let hooks = Hook::ALL.into_iter().filter(|hook| *hook != Hook::Outer);
    hooks.map(|hook| Ok((hook, pins.slot_or_new(hook, made)?))).collect::<Result<_, _>>().map(Some)
}

/// Attaches the dispatchers that are not there yet.
pub(crate) fn attach(
    pins: &Pins,
    here: DispatcherEnv<'_>,
    slots: &[(Hook, OwnedFd)],
    needed: Needed,
    made: &mut Made<'_>,
) -> Result<(), GateError> {
    let (mut groups, mut namespace) = (None, None);
    for (pin, hook, outwards, place) in LINKS {
        if !needed.has(hook) || pins.has_link(pin)? {
            continue;
        }
        if namespace.is_none() {
            namespace = namespace_of()?;
        }
        let Some(namespace) = namespace else { continue };
        let Some((_, slot)) = slots.iter().find(|(of, _)| *of == hook) else { continue };
        if groups.is_none() {
            groups = control_groups(pins.run_dir());
        }
        let Some(groups) = &groups else { continue };
        let here = DispatcherEnv { slot: slot.as_fd(), namespace, ..here };
        let code = dispatcher::at_sockets(hook, outwards, here).map_err(misfit)?;
        let program = load(hook.kind(), hook.attach(), DISPATCHER, &code)?;
        let link = sys::link_cgroup(program.as_fd(), groups.as_fd(), place)
            .map_err(bpf("to attach to the control groups"))?;
        pins.keep_link(link.as_fd(), pin, made)?;
    }
    Ok(())
}
