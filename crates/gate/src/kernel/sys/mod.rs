//! bpf(2) and the few other calls that need `unsafe`: the only place in the
//! workspace that has it. Everything that leaves this module is safe to call.
//!
//! Offsets into `union bpf_attr` are those of `include/uapi/linux/bpf.h`.
#![allow(unsafe_code)]

mod card;
mod cell;
pub mod fault;
mod heap;
mod ring;
mod sockets;

use std::ffi::CString;
use std::io;
use std::os::fd::{AsRawFd, BorrowedFd, FromRawFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;
use std::path::Path;
use std::sync::OnceLock;

pub use card::{bypass_queues, set_transmit_checksum, tunnel};
pub use cell::Cell;
pub use heap::give_back_large_pieces;
pub use ring::Ring;
pub use sockets::{
    descriptor_of, label_socket, map_create_at_sockets, namespace_cookie, namespace_of,
};

/// Kinds of maps that Tipstaff uses.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[repr(u32)]
pub enum MapKind {
    /// Values by key.
    Hash = 1,
    /// Values by index.
    Array = 2,
    /// Programs by index, for tail calls.
    ProgramArray = 3,
    /// Values by index, one copy a processor.
    PerCpuArray = 6,
    /// A hash that forgets the least recently used.
    LruHash = 9,
    /// A value at each socket.
    SocketStorage = 24,
    /// Records from a program to user space.
    Ring = 27,
}

/// Kinds of programs that Tipstaff uses.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[repr(u32)]
pub enum ProgramKind {
    /// On an interface.
    SchedCls = 3,
    /// Before the stack; only ever used in test runs that inject frames.
    Xdp = 6,
    /// Packets of the sockets of a control group.
    CgroupSkb = 8,
    /// The making of a socket in a control group.
    CgroupSock = 9,
    /// Addresses that sockets of a control group are given.
    CgroupAddress = 18,
}

/// Where a link attaches.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[repr(u32)]
pub enum Attach {
    /// What sockets of a control group receive.
    CgroupIngress = 0,
    /// What sockets of a control group send.
    CgroupEgress = 1,
    /// A socket is made.
    SocketMade = 2,
    /// A socket connects, IPv4.
    Connect4 = 10,
    /// A socket connects, IPv6.
    Connect6 = 11,
    /// What arrives on an interface.
    TcxIngress = 46,
    /// What leaves an interface.
    TcxEgress = 47,
}

const MAP_CREATE: u32 = 0;
const MAP_LOOKUP: u32 = 1;
const MAP_UPDATE: u32 = 2;
const MAP_DELETE: u32 = 3;
const MAP_NEXT_KEY: u32 = 4;
const PROG_LOAD: u32 = 5;
const OBJ_PIN: u32 = 6;
const OBJ_GET: u32 = 7;
const TEST_RUN: u32 = 10;
const PROG_FD_BY_ID: u32 = 13;
const MAP_FD_BY_ID: u32 = 14;
const GET_INFO: u32 = 15;
const PROG_QUERY: u32 = 16;
const BTF_LOAD: u32 = 18;
const LINK_CREATE: u32 = 28;
const LINK_UPDATE: u32 = 29;
const LINK_DETACH: u32 = 34;
const PROG_BIND_MAP: u32 = 35;

/// A link's place among those that are there already.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[repr(u32)]
pub enum Order {
    /// In front of all (`BPF_F_BEFORE`).
    First = 8,
    /// Behind all (`BPF_F_AFTER`).
    Last = 16,
}

/// User space may map the values.
const MAPPABLE: u32 = 1 << 10;
/// A storage is made with its socket's first use, and accepted sockets inherit it.
const STORAGE_FLAGS: u32 = 0x201;
/// A test run of an XDP program whose frames go on into the stack.
const TEST_LIVE_FRAMES: u32 = 2;

/// A zeroed `union bpf_attr`; every command accepts the full size.
struct Attr([u64; 20]);

impl Attr {
    fn new() -> Self {
        Self([0; 20])
    }

    fn bytes(&mut self, at: usize, bytes: &[u8]) {
        for (n, byte) in bytes.iter().enumerate() {
            let word = &mut self.0[(at + n) / 8];
            let mut whole = word.to_ne_bytes();
            whole[(at + n) % 8] = *byte;
            *word = u64::from_ne_bytes(whole);
        }
    }

    fn u32(mut self, at: usize, value: u32) -> Self {
        self.bytes(at, &value.to_ne_bytes());
        self
    }

    fn fd(self, at: usize, fd: BorrowedFd<'_>) -> Self {
        self.u32(at, fd.as_raw_fd() as u32)
    }

    fn read(mut self, at: usize, bytes: &[u8]) -> Self {
        self.bytes(at, &(bytes.as_ptr() as u64).to_ne_bytes());
        self
    }

    fn write(mut self, at: usize, bytes: &mut [u8]) -> Self {
        self.bytes(at, &(bytes.as_mut_ptr() as u64).to_ne_bytes());
        self
    }

    fn name(mut self, at: usize, name: &str) -> Self {
        self.bytes(at, &name.as_bytes()[..name.len().min(15)]);
        self
    }

    fn get(&self, at: usize) -> u32 {
        let bytes = self.0[at / 8].to_ne_bytes();
        let half = at % 8;
        u32::from_ne_bytes([bytes[half], bytes[half + 1], bytes[half + 2], bytes[half + 3]])
    }

    /// # Safety
    /// Every pointer in the attribute must be good for what `command` reads or
    /// writes there until the call returns.
    unsafe fn call(&mut self, command: u32) -> io::Result<i32> {
        fault::met()?;
        // SAFETY: the attribute outlives the call and its size is passed; the
        // pointers inside are the caller's promise.
        let result = unsafe {
            libc::syscall(libc::SYS_bpf, command, self.0.as_mut_ptr(), size_of_val(&self.0))
        };
        if result < 0 { Err(io::Error::last_os_error()) } else { Ok(result as i32) }
    }

    /// # Safety
    /// As [`Attr::call`]; `command` must be one that returns a new descriptor.
    unsafe fn open(&mut self, command: u32) -> io::Result<OwnedFd> {
        // SAFETY: passed on to the caller.
        let fd = unsafe { self.call(command)? };
        // SAFETY: the kernel just made this descriptor for us alone.
        Ok(unsafe { OwnedFd::from_raw_fd(fd) })
    }
}

fn path_text(path: &Path) -> io::Result<CString> {
    CString::new(path.as_os_str().as_bytes()).map_err(io::Error::other)
}

/// Makes a map. `name`: at most 15 bytes of letters, digits, `_`.
///
/// # Errors
/// What the kernel says.
pub fn map_create(
    kind: MapKind,
    name: &str,
    key: u32,
    value: u32,
    entries: u32,
) -> io::Result<OwnedFd> {
    let mut attr =
        Attr::new().u32(0, kind as u32).u32(4, key).u32(8, value).u32(12, entries).name(28, name);
    // SAFETY: MAP_CREATE follows no pointers.
    unsafe { attr.open(MAP_CREATE) }
}

/// Makes an array of one 64-bit number that user space may map: a [`Cell`].
///
/// # Errors
/// What the kernel says.
pub fn map_create_shared(name: &str) -> io::Result<OwnedFd> {
    let attr = Attr::new().u32(0, MapKind::Array as u32).u32(4, 4).u32(8, 8).u32(12, 1);
    // SAFETY: MAP_CREATE follows no pointers.
    unsafe { attr.u32(16, MAPPABLE).name(28, name).open(MAP_CREATE) }
}

/// Reads a value; `false` when there is none. `value` must have the size of
/// the map's value (times the possible processors for per-CPU maps), which the
/// caller takes from where it made the map or from [`map_info`].
///
/// # Errors
/// What the kernel says; [`io::ErrorKind::InvalidInput`] for wrong sizes.
pub fn map_lookup(map: BorrowedFd<'_>, key: &[u8], value: &mut [u8]) -> io::Result<bool> {
    check_sizes(map, key, value.len())?;
    let mut attr = Attr::new().fd(0, map).read(8, key).write(16, value);
    // SAFETY: both sizes were just checked against the map.
    match unsafe { attr.call(MAP_LOOKUP) } {
        Ok(_) => Ok(true),
        Err(e) if e.raw_os_error() == Some(libc::ENOENT) => Ok(false),
        Err(e) => Err(e),
    }
}

/// Writes a value; the sizes as in [`map_lookup`].
///
/// # Errors
/// What the kernel says; [`io::ErrorKind::InvalidInput`] for wrong sizes.
pub fn map_update(map: BorrowedFd<'_>, key: &[u8], value: &[u8]) -> io::Result<()> {
    check_sizes(map, key, value.len())?;
    let mut attr = Attr::new().fd(0, map).read(8, key).read(16, value);
    // SAFETY: both sizes were just checked against the map.
    unsafe { attr.call(MAP_UPDATE) }.map(drop)
}

/// Removes an entry; `false` when there was none.
///
/// # Errors
/// What the kernel says; [`io::ErrorKind::InvalidInput`] for wrong sizes.
pub fn map_delete(map: BorrowedFd<'_>, key: &[u8]) -> io::Result<bool> {
    if map_info(map)?.key as usize != key.len() {
        return Err(io::ErrorKind::InvalidInput.into());
    }
    let mut attr = Attr::new().fd(0, map).read(8, key);
    // SAFETY: the key's size was just checked against the map.
    match unsafe { attr.call(MAP_DELETE) } {
        Ok(_) => Ok(true),
        Err(e) if e.raw_os_error() == Some(libc::ENOENT) => Ok(false),
        Err(e) => Err(e),
    }
}

/// Reads all values of an array, for per-CPU arrays all copies of each.
///
/// # Errors
/// What the kernel says.
pub fn array_values(map: BorrowedFd<'_>, mut take: impl FnMut(u32, &[u8])) -> io::Result<()> {
    let info = map_info(map)?;
    let size = match info.kind == MapKind::PerCpuArray as u32 {
        true => info.value.next_multiple_of(8) as usize * possible_processors()?,
        false => info.value as usize,
    };
    let mut value = vec![0; size];
    check_sizes(map, &[0; 4], size)?;
    for index in 0..info.entries {
        let key = index.to_ne_bytes();
        let mut attr = Attr::new().fd(0, map).read(8, &key).write(16, &mut value);
        // SAFETY: both sizes were just checked against the map, which never changes them.
        unsafe { attr.call(MAP_LOOKUP)? };
        take(index, &value);
    }
    Ok(())
}

/// All keys of a map that has more than one; one that is removed meanwhile may
/// make the walk begin anew, so that it is bounded by the map's size.
///
/// # Errors
/// What the kernel says.
pub fn map_keys(map: BorrowedFd<'_>) -> io::Result<Vec<Vec<u8>>> {
    let info = map_info(map)?;
    let mut keys: Vec<Vec<u8>> = Vec::new();
    while keys.len() < info.entries as usize {
        let mut next = vec![0; info.key as usize];
        let mut attr = Attr::new().fd(0, map).write(16, &mut next);
        if let Some(last) = keys.last() {
            attr = attr.read(8, last);
        }
        // SAFETY: both keys have the size that the map was just asked for.
        match unsafe { attr.call(MAP_NEXT_KEY) } {
            Ok(_) => keys.push(next),
            Err(e) if e.raw_os_error() == Some(libc::ENOENT) => break,
            Err(e) => return Err(e),
        }
    }
    Ok(keys)
}

fn check_sizes(map: BorrowedFd<'_>, key: &[u8], value: usize) -> io::Result<()> {
    let info = map_info(map)?;
    let wanted = if info.kind == MapKind::PerCpuArray as u32 {
        info.value.next_multiple_of(8) as usize * possible_processors()?
    } else {
        info.value as usize
    };
    if key.len() == info.key as usize && value == wanted {
        Ok(())
    } else {
        Err(io::ErrorKind::InvalidInput.into())
    }
}

/// How many processors the kernel may ever have: per-CPU values come in so many copies.
///
/// # Errors
/// When /sys does not say.
pub fn possible_processors() -> io::Result<usize> {
    static KNOWN: OnceLock<usize> = OnceLock::new();
    if let Some(known) = KNOWN.get() {
        return Ok(*known);
    }
    let text = std::fs::read_to_string("/sys/devices/system/cpu/possible")?;
    let ends = text.trim().rsplit(',').next().and_then(|range| range.rsplit('-').next());
    let last: usize = ends.unwrap_or_default().parse().map_err(io::Error::other)?;
    Ok(*KNOWN.get_or_init(|| last + 1))
}

/// What the kernel knows of a map.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct MapInfo {
    /// As [`MapKind`].
    pub kind: u32,
    /// Bytes of a key.
    pub key: u32,
    /// Bytes of a value.
    pub value: u32,
    /// Entries at most.
    pub entries: u32,
    /// Its name.
    pub name: String,
}

fn info<const N: usize>(object: BorrowedFd<'_>, bytes: &mut [u8; N]) -> io::Result<()> {
    let mut attr = Attr::new().fd(0, object).u32(4, N as u32).write(8, bytes);
    // SAFETY: the kernel writes at most the N bytes that it was told of.
    unsafe { attr.call(GET_INFO) }.map(drop)
}

fn u32_at(bytes: &[u8], at: usize) -> u32 {
    u32::from_ne_bytes([bytes[at], bytes[at + 1], bytes[at + 2], bytes[at + 3]])
}

fn text_at(bytes: &[u8], at: usize) -> String {
    let name = &bytes[at..at + 16];
    let end = name.iter().position(|b| *b == 0).unwrap_or(16);
    String::from_utf8_lossy(&name[..end]).into_owned()
}

/// Asks about a map.
///
/// # Errors
/// What the kernel says.
pub fn map_info(map: BorrowedFd<'_>) -> io::Result<MapInfo> {
    let mut bytes = [0; 80];
    info(map, &mut bytes)?;
    Ok(MapInfo {
        kind: u32_at(&bytes, 0),
        key: u32_at(&bytes, 8),
        value: u32_at(&bytes, 12),
        entries: u32_at(&bytes, 16),
        name: text_at(&bytes, 24),
    })
}

/// Opens a map by its id.
///
/// # Errors
/// What the kernel says.
pub fn map_by_id(id: u32) -> io::Result<OwnedFd> {
    // SAFETY: follows no pointers.
    unsafe { Attr::new().u32(0, id).open(MAP_FD_BY_ID) }
}

/// Opens a program by its id.
///
/// # Errors
/// What the kernel says.
pub fn program_by_id(id: u32) -> io::Result<OwnedFd> {
    // SAFETY: follows no pointers.
    unsafe { Attr::new().u32(0, id).open(PROG_FD_BY_ID) }
}

/// The ids of the maps that a program holds.
///
/// # Errors
/// What the kernel says.
pub fn program_maps(program: BorrowedFd<'_>) -> io::Result<Vec<u32>> {
    let mut ids = [0u8; 64 * 4];
    let mut bytes = [0u8; 232];
    bytes[52..56].copy_from_slice(&64u32.to_ne_bytes());
    bytes[56..64].copy_from_slice(&(ids.as_mut_ptr() as u64).to_ne_bytes());
    // `info` passes on a pointer into `ids`, which lives until the end of this function
    // and has the room that was announced.
    info(program, &mut bytes)?;
    let count = (u32_at(&bytes, 52) as usize).min(64);
    Ok(ids[..count * 4].chunks_exact(4).map(|c| u32_at(c, 0)).collect())
}

/// The name of a program.
///
/// # Errors
/// What the kernel says.
pub fn program_name(program: BorrowedFd<'_>) -> io::Result<String> {
    let mut bytes = [0u8; 232];
    info(program, &mut bytes)?;
    Ok(text_at(&bytes, 64))
}

/// The ids of the programs at a side of an interface, in the order in which
/// they run; 64 at most.
///
/// # Errors
/// What the kernel says.
pub fn programs_at(interface: u32, attach: Attach) -> io::Result<Vec<u32>> {
    let mut ids = [0u8; 64 * 4];
    let mut attr = Attr::new().u32(0, interface).u32(4, attach as u32).write(16, &mut ids);
    attr = attr.u32(24, 64);
    // SAFETY: the kernel writes at most the 64 ids that it was told of.
    unsafe { attr.call(PROG_QUERY)? };
    let count = (attr.get(24) as usize).min(64);
    Ok(ids[..count * 4].chunks_exact(4).map(|id| u32_at(id, 0)).collect())
}

/// What a link is attached to.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct LinkInfo {
    /// Interface index of a tcx link, 0 when the interface is gone.
    pub interface: u32,
    /// The id of its program.
    pub program: u32,
}

/// Asks about a tcx link.
///
/// # Errors
/// What the kernel says.
pub fn link_info(link: BorrowedFd<'_>) -> io::Result<LinkInfo> {
    let mut bytes = [0; 48];
    info(link, &mut bytes)?;
    Ok(LinkInfo { interface: u32_at(&bytes, 16), program: u32_at(&bytes, 8) })
}

/// Why a program was not loaded.
#[derive(Debug, thiserror::Error)]
#[error("{error}")]
pub struct LoadError {
    /// What the kernel said.
    pub error: io::Error,
    /// The end of the verifier's log.
    pub log: String,
}

/// Loads a program from its instructions, 8 bytes each.
///
/// # Errors
/// [`LoadError`] with the verifier's log.
pub fn program_load(kind: ProgramKind, name: &str, code: &[u8]) -> Result<OwnedFd, LoadError> {
    program_load_for(kind, None, name, code)
}

/// As [`program_load`], for kinds that are told where they will be attached.
///
/// # Errors
/// [`LoadError`] with the verifier's log.
pub fn program_load_for(
    kind: ProgramKind,
    attach: Option<Attach>,
    name: &str,
    code: &[u8],
) -> Result<OwnedFd, LoadError> {
    let attr = || {
        Attr::new()
            .u32(0, kind as u32)
            .u32(4, (code.len() / 8) as u32)
            .read(8, code)
            .read(16, b"Dual MIT/GPL\0")
            .name(48, name)
            .u32(68, attach.map_or(0, |attach| attach as u32))
    };
    // SAFETY: code and licence outlive the call; the count is that of `code`.
    let error = match unsafe { attr().open(PROG_LOAD) } {
        Ok(program) => return Ok(program),
        Err(error) => error,
    };
    let mut log = vec![0u8; 1 << 20];
    let mut again = attr().u32(24, 1).u32(28, log.len() as u32).write(32, &mut log);
    // SAFETY: as above, and the log's size is that of `log`.
    if let Ok(program) = unsafe { again.open(PROG_LOAD) } {
        return Ok(program);
    }
    let end = log.iter().position(|b| *b == 0).unwrap_or(log.len());
    let log = String::from_utf8_lossy(&log[end.saturating_sub(2000)..end]).into_owned();
    Err(LoadError { error, log })
}

/// Lets a program hold a map that its code does not name.
///
/// # Errors
/// What the kernel says.
pub fn program_bind_map(program: BorrowedFd<'_>, map: BorrowedFd<'_>) -> io::Result<()> {
    // SAFETY: follows no pointers.
    unsafe { Attr::new().fd(0, program).fd(4, map).call(PROG_BIND_MAP) }.map(drop)
}

/// Attaches a program to an interface, in front of others or behind them.
///
/// # Errors
/// What the kernel says.
pub fn link_interface(
    program: BorrowedFd<'_>,
    interface: u32,
    attach: Attach,
    order: Order,
) -> io::Result<OwnedFd> {
    let mut attr =
        Attr::new().fd(0, program).u32(4, interface).u32(8, attach as u32).u32(12, order as u32);
    // SAFETY: follows no pointers.
    unsafe { attr.open(LINK_CREATE) }
}

/// Attaches a program to a control group, given by its folder.
///
/// # Errors
/// What the kernel says.
pub fn link_cgroup(
    program: BorrowedFd<'_>,
    folder: BorrowedFd<'_>,
    attach: Attach,
) -> io::Result<OwnedFd> {
    let mut attr = Attr::new().fd(0, program).fd(4, folder).u32(8, attach as u32);
    // SAFETY: follows no pointers.
    unsafe { attr.open(LINK_CREATE) }
}

/// Puts another program in the place of a link's, at once.
///
/// # Errors
/// What the kernel says.
pub fn link_update(link: BorrowedFd<'_>, program: BorrowedFd<'_>) -> io::Result<()> {
    // SAFETY: follows no pointers.
    unsafe { Attr::new().fd(0, link).fd(4, program).call(LINK_UPDATE) }.map(drop)
}

/// The kernel's number of a program.
///
/// # Errors
/// What the kernel says.
pub fn program_id(program: BorrowedFd<'_>) -> io::Result<u32> {
    let mut bytes = [0u8; 232];
    info(program, &mut bytes)?;
    Ok(u32_at(&bytes, 4))
}

/// Detaches a link at once, whoever else still holds it.
///
/// # Errors
/// What the kernel says.
pub fn link_detach(link: BorrowedFd<'_>) -> io::Result<()> {
    // SAFETY: follows no pointers.
    unsafe { Attr::new().fd(0, link).call(LINK_DETACH) }.map(drop)
}

/// Pins an object to a path in a bpffs.
///
/// # Errors
/// What the kernel says.
pub fn pin(object: BorrowedFd<'_>, path: &Path) -> io::Result<()> {
    let path = path_text(path)?;
    let mut attr = Attr::new().read(0, path.as_bytes_with_nul()).fd(8, object);
    // SAFETY: the path ends with a NUL and outlives the call.
    unsafe { attr.call(OBJ_PIN) }.map(drop)
}

/// Opens a pinned object.
///
/// # Errors
/// What the kernel says.
pub fn pinned(path: &Path) -> io::Result<OwnedFd> {
    let path = path_text(path)?;
    // SAFETY: the path ends with a NUL and outlives the call.
    unsafe { Attr::new().read(0, path.as_bytes_with_nul()).open(OBJ_GET) }
}

/// Bytes of `struct __sk_buff`.
pub const SKB_CONTEXT: usize = 192;

/// What a test run gave.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct TestRun {
    /// What the program returned.
    pub returned: u32,
    /// Mean duration of a run.
    pub duration: std::time::Duration,
}

/// Runs a program on a frame, without traffic. `context` goes in as the
/// `__sk_buff` and comes out as the program left it; the frame comes back as
/// the program left it.
///
/// # Errors
/// What the kernel says.
pub fn test_run_skb(
    program: BorrowedFd<'_>,
    frame: &[u8],
    context: &mut [u8; SKB_CONTEXT],
    repeat: u32,
) -> io::Result<(TestRun, Vec<u8>)> {
    let input = *context;
    let mut out = vec![0u8; frame.len() + 256];
    let mut attr = Attr::new()
        .fd(0, program)
        .u32(8, frame.len() as u32)
        .u32(12, out.len() as u32)
        .read(16, frame)
        .write(24, &mut out)
        .u32(32, repeat)
        .u32(40, SKB_CONTEXT as u32)
        .u32(44, SKB_CONTEXT as u32)
        .read(48, &input)
        .write(56, context);
    // SAFETY: every buffer outlives the call and its size was passed.
    unsafe { attr.call(TEST_RUN)? };
    let duration = std::time::Duration::from_nanos(u64::from(attr.get(36)));
    out.truncate(attr.get(12) as usize);
    Ok((TestRun { returned: attr.get(4), duration }, out))
}

/// Lets a frame enter an interface's receive path as if it had arrived there,
/// through an XDP program that passes everything. The first `metadata` bytes
/// of `data`, a multiple of 4, at most 32, are not the frame's: programs at the
/// interface find them before it (`data_meta`), and nothing that came over a
/// wire can have them.
///
/// # Errors
/// What the kernel says.
pub fn inject_frame(
    xdp: BorrowedFd<'_>,
    data: &[u8],
    metadata: u32,
    interface: u32,
) -> io::Result<()> {
    let mut context = [0u8; 24];
    context[0..4].copy_from_slice(&metadata.to_ne_bytes());
    context[4..8].copy_from_slice(&(data.len() as u32).to_ne_bytes());
    context[12..16].copy_from_slice(&interface.to_ne_bytes());
    let mut attr = Attr::new()
        .fd(0, xdp)
        .u32(8, data.len() as u32)
        .read(16, data)
        .u32(32, 1)
        .u32(40, context.len() as u32)
        .read(48, &context)
        .u32(64, TEST_LIVE_FRAMES);
    // SAFETY: every buffer outlives the call and its size was passed.
    unsafe { attr.call(TEST_RUN) }.map(drop)
}
