//! What outlives the process: pins in an own bpffs, one folder a namespace and
//! layout: maps of another layout are another gate's, and go when this one stands.

use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::os::unix::fs::DirBuilderExt;
use std::path::{Path, PathBuf};
use std::{fs, io};

use nix::mount::{MntFlags, MsFlags};
use tipstaff_bpf::sys::{self, MapKind};
use tipstaff_core::bytes::ReadAt;
use tipstaff_core::host::interface::Interface;
use tipstaff_host::filters;

use crate::contract::GateError;
use crate::kernel::emit::context::{Hook, OuterSide};
use crate::kernel::emit::frame::OWNER_TAG_BYTES;
use crate::kernel::emit::marks::{MARK_BYTES, Marks};
use crate::kernel::emit::owner_tag::Secret;
use crate::kernel::error::{bpf, system};
use crate::kernel::kept::at::At;
use crate::kernel::kept::ring::RING_BYTES;
use crate::kernel::kept::switch::Place;
use crate::kernel::support;

/// `BPF_FS_MAGIC` of `include/uapi/linux/magic.h`.
const BPF_FS_MAGIC: u32 = 0xcafe_4a11;

/// The links at the sockets of the namespace.
pub(crate) const SOCKET_LINKS: [&str; 5] =
    ["inner-in", "inner-out", "connect4", "connect6", OWNER_TAG_LINK];
/// The link of the program that tags sockets.
pub(crate) const OWNER_TAG_LINK: &str = "label";

/// The layout of all that is pinned: switch, slots, flows, dispatchers.
const LAYOUT: u32 = 4;

/// The machine's own run directory; other ones are of tests and of other gates.
const RUN_DIR: &str = "/run/tipstaff";
/// There, what a reach check locks while it runs.
pub(crate) const REACH: &str = "reach";

/// The bpffs that the service manager mounts for everybody. It stays mounted to the end
/// of a shutdown, when everything below /run is gone and cards may still be up.
const SHARED: &str = "/sys/fs/bpf";

/// Bytes of the map of secrets: those of the hash, and the marks.
const SECRET_BYTES: usize = 16 + MARK_BYTES;

/// Room for interfaces that have an outer gate.
const MOST_INTERFACES: u32 = 16_384;

fn is_bpffs<P: AsRef<Path> + ?Sized>(path: &P) -> bool {
    nix::sys::statfs::statfs(path.as_ref())
        .is_ok_and(|s| s.filesystem_type().0 as u32 == BPF_FS_MAGIC)
}

fn is_link(path: &Path) -> bool {
    let named = SOCKET_LINKS.iter().any(|name| path.ends_with(name));
    named || At::index_of_any(path).is_some()
}

/// Takes a filter away, unless it runs another program by now.
fn detach_filter(at: At, interface: u32, program: BorrowedFd<'_>) -> io::Result<()> {
    let id = sys::program_id(program)?;
    let all = filters::list(interface, at.filter_side())?;
    match all.iter().any(|filter| filter.own && filter.program == Some(id)) {
        true => filters::detach(interface, at.filter_side()),
        false => Ok(()),
    }
}

/// How the folder of a namespace begins.
fn prefix(layout: u32) -> String {
    match layout {
        1 => "ns-".into(),
        layout => format!("ns{layout}-"),
    }
}

#[derive(Clone, Debug)]
pub(crate) struct Pins {
    run_dir: PathBuf,
    mount: PathBuf,
    pub(super) folder: PathBuf,
    cookie: u64,
}

/// Makes a directory that only its owner can enter, whatever the umask; one
/// that is there must be nobody else's.
pub(crate) fn private_folder(path: &Path) -> Result<(), GateError> {
    match fs::DirBuilder::new().mode(0o700).create(path) {
        Err(e) if e.kind() == io::ErrorKind::AlreadyExists => {}
        made => made.map_err(system(format!("making {}", path.display())))?,
    }
    support::nobody_elses(path)
}

impl Pins {
    pub(crate) fn new(run_dir: &Path, cookie: u64) -> Self {
        let own = run_dir.join("bpf");
        // What is in force stays where it was put.
        let mount = match run_dir == Path::new(RUN_DIR) && !own.exists() && is_bpffs(SHARED) {
            true => Path::new(SHARED).join("tipstaff"),
            false => own,
        };
        let folder = mount.join(format!("{}{cookie}", prefix(LAYOUT)));
        Self { run_dir: run_dir.to_owned(), mount, folder, cookie }
    }

    /// The gates of other layouts in the same namespace.
    pub(crate) fn of_other_layouts(&self) -> Vec<Self> {
        let folder = |layout| self.mount.join(format!("{}{}", prefix(layout), self.cookie));
        let others = (1..LAYOUT).map(folder).filter(|folder| folder.exists());
        others.map(|folder| Self { folder, ..self.clone() }).collect()
    }

    pub(crate) fn run_dir(&self) -> &Path {
        &self.run_dir
    }

    fn is_mounted(&self) -> bool {
        is_bpffs(&self.mount)
    }

    /// Mounts the bpffs where it is not, and makes the folder.
    pub(crate) fn prepare(&self) -> Result<(), GateError> {
        private_folder(&self.mount)?;
        if !self.is_mounted() {
            let flags = MsFlags::MS_NOSUID | MsFlags::MS_NODEV | MsFlags::MS_NOEXEC;
            nix::mount::mount(Some("tipstaff"), &self.mount, Some("bpf"), flags, Some("mode=0700"))
                .map_err(|e| bpf("to mount a bpffs")(e.into()))?;
        }
        private_folder(&self.folder)
    }

    pub(crate) fn exist(&self) -> bool {
        self.folder.exists()
    }

    /// Opens a pin; `None` when it is not there.
    pub(super) fn open(&self, name: &str) -> Result<Option<OwnedFd>, GateError> {
        let path = self.folder.join(name);
        match sys::pinned(&path) {
            Ok(fd) => Ok(Some(fd)),
            Err(e) if e.kind() == io::ErrorKind::NotFound => Ok(None),
            Err(e) => Err(bpf("to open what the gate has pinned")(e)),
        }
    }

    /// Unpins what is there no more.
    pub(super) fn forget(&self, name: &str) {
        let path = self.folder.join(name);
        if path.exists() {
            let _ = fs::remove_file(path);
        }
    }

    /// Pins an object in the place of another one, once `then` has worked.
    pub(super) fn pin_over(
        &self,
        object: BorrowedFd<'_>,
        name: &str,
        then: impl FnOnce() -> io::Result<()>,
    ) -> Result<io::Result<()>, GateError> {
        let beside = self.folder.join(format!("next-{name}"));
        // A post that was cut off may have left one.
        let _ = fs::remove_file(&beside);
        sys::pin(object, &beside).map_err(bpf("to pin the gate"))?;
        let done = then().and_then(|()| fs::rename(&beside, self.folder.join(name)));
        if done.is_err() {
            let _ = fs::remove_file(&beside);
        }
        Ok(done)
    }

    pub(super) fn keep(
        &self,
        object: BorrowedFd<'_>,
        name: &str,
        made: &mut Made<'_>,
    ) -> Result<(), GateError> {
        let path = self.folder.join(name);
        sys::pin(object, &path).map_err(bpf("to pin the gate"))?;
        made.paths.push(path);
        Ok(())
    }

    pub(crate) fn slot(&self, hook: Hook) -> Result<Option<OwnedFd>, GateError> {
        self.open(hook.slot())
    }

    /// The map behind a pin, or a new one.
    pub(crate) fn map_or_new(
        &self,
        pin: &str,
        new: impl FnOnce() -> io::Result<OwnedFd>,
        made: &mut Made<'_>,
    ) -> Result<OwnedFd, GateError> {
        if let Some(map) = self.open(pin)? {
            return Ok(map);
        }
        let map = new().map_err(bpf("to make a map with bpf(2)"))?;
        self.keep(map.as_fd(), pin, made)?;
        Ok(map)
    }

    pub(crate) fn slot_or_new(
        &self,
        hook: Hook,
        made: &mut Made<'_>,
    ) -> Result<OwnedFd, GateError> {
        self.map_or_new(
            hook.slot(),
            || {
                let places = Place::ALL.len() as u32;
                sys::map_create(MapKind::ProgramArray, "ts_slot", 4, 4, places)
            },
            made,
        )
    }

    pub(crate) fn switch(&self) -> Result<Option<OwnedFd>, GateError> {
        self.open("switch")
    }

    pub(crate) fn switch_or_new(&self, made: &mut Made<'_>) -> Result<OwnedFd, GateError> {
        self.map_or_new("switch", || sys::map_create_shared("ts_switch"), made)
    }

    pub(crate) fn rehearsal(&self) -> Result<Option<OwnedFd>, GateError> {
        self.open("rehearsal")
    }

    pub(crate) fn rehearsal_or_new(&self, made: &mut Made<'_>) -> Result<OwnedFd, GateError> {
        self.map_or_new("rehearsal", || sys::map_create_shared("ts_rehearsal"), made)
    }

    pub(crate) fn clock(&self) -> Result<Option<OwnedFd>, GateError> {
        self.open("clock")
    }

    pub(crate) fn clock_or_new(&self, made: &mut Made<'_>) -> Result<OwnedFd, GateError> {
        self.map_or_new("clock", || sys::map_create_shared("ts_clock"), made)
    }

    pub(crate) fn guarded_or_new(&self, made: &mut Made<'_>) -> Result<OwnedFd, GateError> {
        self.map_or_new(
            "guarded",
            || sys::map_create(MapKind::Hash, "ts_guarded", 4, 4, MOST_INTERFACES),
            made,
        )
    }

    pub(crate) fn owner_tags_or_new(&self, made: &mut Made<'_>) -> Result<OwnedFd, GateError> {
        self.map_or_new("labels", || sys::map_create_at_sockets("ts_labels", OWNER_TAG_BYTES), made)
    }

    /// The secret of the owner tags' hashes and the marks, which outlive posts as
    /// owner tags and packets do.
    pub(crate) fn secrets_or_new(&self, made: &mut Made<'_>) -> Result<(Secret, Marks), GateError> {
        let map = self.map_or_new(
            "secret",
            || {
                let map = sys::map_create(MapKind::Array, "ts_secret", 4, SECRET_BYTES as u32, 1)?;
                let mut secret = [0; SECRET_BYTES];
                let mut from = fs::File::open("/dev/urandom")?;
                io::Read::read_exact(&mut from, &mut secret)?;
                sys::map_update(map.as_fd(), &[0; 4], &secret)?;
                Ok(map)
            },
            made,
        )?;
        Self::secrets_in(&map)
    }

    /// The same; `None` where there are none yet.
    pub(crate) fn secrets(&self) -> Result<Option<(Secret, Marks)>, GateError> {
        self.open("secret")?.map(|map| Self::secrets_in(&map)).transpose()
    }

    fn secrets_in(map: &OwnedFd) -> Result<(Secret, Marks), GateError> {
        let mut secret = [0; SECRET_BYTES];
        sys::map_lookup(map.as_fd(), &[0; 4], &mut secret)
            .map_err(bpf("to read what the gate has pinned"))?;
        let parts = (secret.u64_ne(0), secret.u64_ne(8), secret.array_at::<MARK_BYTES>(16));
        let (Some(low), Some(high), Some(marks)) = parts else {
            return Err(bpf("to read what the gate has pinned")(
                io::ErrorKind::UnexpectedEof.into(),
            ));
        };
        Ok((Secret(low, high), Marks::from_random(marks)))
    }

    /// The dispatcher of a side of interfaces, pinned or new. One stands at
    /// all of them, so that it is known by its number.
    pub(crate) fn dispatcher_or_new(
        &self,
        side: OuterSide,
        new: impl FnOnce() -> Result<OwnedFd, GateError>,
        made: &mut Made<'_>,
    ) -> Result<OwnedFd, GateError> {
        if let Some(program) = self.open(side.name())? {
            return Ok(program);
        }
        let program = new()?;
        self.keep(program.as_fd(), side.name(), made)?;
        Ok(program)
    }

    /// Whether something that is no interface's is there.
    pub(crate) fn has_link(&self, name: &str) -> Result<bool, GateError> {
        Ok(self.open(name)?.is_some())
    }

    pub(crate) fn discard_link(&self, name: &str) {
        let path = self.folder.join(name);
        if path.exists() {
            self.discard(&path);
        }
    }

    pub(crate) fn keep_link(
        &self,
        link: BorrowedFd<'_>,
        name: &str,
        made: &mut Made<'_>,
    ) -> Result<(), GateError> {
        self.keep(link, name, made)
    }

    pub(crate) fn events_or_new(&self, made: &mut Made<'_>) -> Result<OwnedFd, GateError> {
        self.map_or_new(
            "events",
            || sys::map_create(MapKind::Ring, "ts_events", 0, 0, RING_BYTES),
            made,
        )
    }

    pub(crate) fn events(&self) -> Result<Option<OwnedFd>, GateError> {
        self.open("events")
    }

    pub(crate) fn rates(&self) -> Result<Option<OwnedFd>, GateError> {
        self.open("rates")
    }

    /// Every pin of the namespace: links first, then the maps they use.
    pub(crate) fn all(&self) -> Result<Vec<PathBuf>, GateError> {
        let read = || -> io::Result<Vec<PathBuf>> {
            fs::read_dir(&self.folder)?.map(|entry| entry.map(|e| e.path())).collect()
        };
        let mut all = read().map_err(system(format!("reading {}", self.folder.display())))?;
        all.sort_by_key(|path| (!is_link(path), path.clone()));
        Ok(all)
    }

    /// Detaches (links) and unpins. Failing is harmless: the slot is empty by
    /// then, or the interface is gone.
    pub(crate) fn discard(&self, path: &Path) {
        if is_link(path)
            && let Ok(object) = sys::pinned(path)
        {
            let _ = match At::of_filter(path) {
                Some((at, interface)) => detach_filter(at, interface, object.as_fd()),
                None => sys::link_detach(object.as_fd()),
            };
        }
        let _ = fs::remove_file(path);
    }

    /// Links of interfaces that are gone.
    pub(crate) fn forget_vanished(&self, present: &[Interface], guarded: BorrowedFd<'_>) {
        for path in self.all().unwrap_or_default() {
            let index = At::index_of_any(&path);
            if let Some(index) = index.filter(|index| present.iter().all(|i| i.index != *index)) {
                self.discard(&path);
                let _ = sys::map_delete(guarded, &index.to_ne_bytes());
            }
        }
    }

    /// Removes the folder, and the bpffs when no other namespace has one in it.
    pub(crate) fn tidy(&self) {
        let _ = fs::remove_dir(&self.folder);
        // The kernel keeps two files of its own in every bpffs.
        let of_others = fs::read_dir(&self.mount).into_iter().flatten().flatten();
        let in_use = of_others
            .into_iter()
            .any(|entry| entry.file_name().to_string_lossy().starts_with("ns"));
        if !in_use {
            if self.is_mounted() {
                let _ = nix::mount::umount2(&self.mount, MntFlags::empty());
            }
            let _ = fs::remove_dir(&self.mount);
        }
    }

    /// Removes the run folder when nothing but the lock is left in it.
    pub(crate) fn remove_run_dir(&self) {
        if !self.mount.exists() {
            for name in ["lock", REACH] {
                let _ = fs::remove_file(self.run_dir.join(name));
            }
            let _ = fs::remove_dir(&self.run_dir);
        }
    }
}

/// What one post has pinned. Dropped before it is kept, it unpins all of it, the
/// newest first.
pub(crate) struct Made<'p> {
    pins: &'p Pins,
    pub(super) paths: Vec<PathBuf>,
    kept: bool,
}

impl<'p> Made<'p> {
    pub(crate) fn new(pins: &'p Pins) -> Self {
        Self { pins, paths: Vec::new(), kept: false }
    }

    /// It stays when this is dropped.
    pub(crate) fn keep(&mut self) {
        self.kept = true;
    }
}

impl Drop for Made<'_> {
    fn drop(&mut self) {
        if !self.kept {
            self.paths.iter().rev().for_each(|path| self.pins.discard(path));
            self.pins.tidy();
        }
    }
}
