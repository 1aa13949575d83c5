//! Programs, their links, and test runs.

use std::io;
use std::os::fd::{AsRawFd, BorrowedFd, OwnedFd};

use super::attr::{self, Command, bpf, name, pointer, pointer_mut};
use super::kinds::{Attach, Order, ProgramKind};
use super::maps::text;

/// So many ids are asked for: of maps of a program, of programs at an interface.
const MOST_IDS: usize = 64;

fn raw(object: BorrowedFd<'_>) -> u32 {
    object.as_raw_fd() as u32
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
pub fn program_load(kind: ProgramKind, label: &str, code: &[u8]) -> Result<OwnedFd, LoadError> {
    program_load_for(kind, None, label, code)
}

/// As [`program_load`], for kinds that are told where they will be attached.
///
/// # Errors
/// [`LoadError`] with the verifier's log.
pub fn program_load_for(
    kind: ProgramKind,
    attach: Option<Attach>,
    label: &str,
    code: &[u8],
) -> Result<OwnedFd, LoadError> {
    let mut attr = attr::ProgLoad {
        prog_type: kind as u32,
        insn_cnt: (code.len() / 8) as u32,
        insns: pointer(code),
        license: pointer(c"Dual MIT/GPL".to_bytes_with_nul()),
        prog_name: name(label),
        expected_attach_type: attach.map_or(0, |attach| attach as u32),
        ..Default::default()
    };
    // SAFETY: code and licence outlive the call; the count is that of `code`.
    let error = match unsafe { attr::open(Command::ProgLoad, &mut attr) } {
        Ok(program) => return Ok(program),
        Err(error) => error,
    };
    let mut log = vec![0u8; 1 << 20];
    let (log_level, log_size, log_buf) = (1, log.len() as u32, pointer_mut(&mut log[..]));
    let mut again = attr::ProgLoad { log_level, log_size, log_buf, ..attr };
    // SAFETY: as above, and the log's size is that of `log`.
    if let Ok(program) = unsafe { attr::open(Command::ProgLoad, &mut again) } {
        return Ok(program);
    }
    let end = log.iter().position(|b| *b == 0).unwrap_or(log.len());
    let log = String::from_utf8_lossy(&log[end.saturating_sub(2000)..end]).into_owned();
    Err(LoadError { error, log })
}

/// Opens a program by its id.
///
/// # Errors
/// What the kernel says.
pub fn program_by_id(id: u32) -> io::Result<OwnedFd> {
    // SAFETY: follows no pointers.
    unsafe { attr::open(Command::ProgGetFdById, &mut attr::GetFdById { id }) }
}

fn program_info(program: BorrowedFd<'_>) -> io::Result<attr::ProgInfo> {
    let mut info = attr::ProgInfo::default();
    // SAFETY: all its pointers are null, with no room behind them.
    unsafe { attr::info(raw(program), &mut info)? };
    Ok(info)
}

/// The ids of the maps that a program holds.
///
/// # Errors
/// What the kernel says.
pub fn program_maps(program: BorrowedFd<'_>) -> io::Result<Vec<u32>> {
    let mut ids = [0u32; MOST_IDS];
    let (nr_map_ids, map_ids) = (MOST_IDS as u32, pointer_mut(&mut ids));
    let mut info = attr::ProgInfo { nr_map_ids, map_ids, ..Default::default() };
    // SAFETY: the ids outlive the call and their number is passed.
    unsafe { attr::info(raw(program), &mut info)? };
    Ok(ids[..(info.nr_map_ids as usize).min(MOST_IDS)].to_vec())
}

/// The name of a program.
///
/// # Errors
/// What the kernel says.
pub fn program_name(program: BorrowedFd<'_>) -> io::Result<String> {
    Ok(text(&program_info(program)?.name))
}

/// The kernel's id of a program.
///
/// # Errors
/// What the kernel says.
pub fn program_id(program: BorrowedFd<'_>) -> io::Result<u32> {
    Ok(program_info(program)?.id)
}

/// Lets a program hold a map that its code does not name.
///
/// # Errors
/// What the kernel says.
pub fn program_bind_map(program: BorrowedFd<'_>, map: BorrowedFd<'_>) -> io::Result<()> {
    let mut attr = attr::ProgBindMap { prog_fd: raw(program), map_fd: raw(map), flags: 0 };
    // SAFETY: follows no pointers.
    unsafe { bpf(Command::ProgBindMap, &mut attr) }.map(drop)
}

/// The ids of the programs at a side of an interface, in the order in which
/// they run; 64 at most.
///
/// # Errors
/// What the kernel says.
pub fn programs_at(interface: u32, attach: Attach) -> io::Result<Vec<u32>> {
    attached(interface, attach)
}

/// The same of a control group itself, given by its directory: not those of the groups above.
///
/// # Errors
/// What the kernel says.
pub fn programs_of_group(directory: BorrowedFd<'_>, attach: Attach) -> io::Result<Vec<u32>> {
    attached(raw(directory), attach)
}

fn attached(target: u32, attach: Attach) -> io::Result<Vec<u32>> {
    let mut ids = [0u32; MOST_IDS];
    let mut attr = attr::ProgQuery {
        target,
        attach_type: attach as u32,
        prog_ids: pointer_mut(&mut ids),
        prog_cnt: MOST_IDS as u32,
        ..Default::default()
    };
    // SAFETY: the kernel writes at most the ids that it was told of.
    unsafe { bpf(Command::ProgQuery, &mut attr)? };
    Ok(ids[..(attr.prog_cnt as usize).min(MOST_IDS)].to_vec())
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
    let mut info = attr::LinkInfo::default();
    // SAFETY: a tcx link has no pointers there.
    unsafe { attr::info(raw(link), &mut info)? };
    Ok(LinkInfo { interface: info.ifindex, program: info.prog_id })
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
    link(program, interface, attach, order as u32)
}

/// Attaches a program to a control group, given by its directory.
///
/// # Errors
/// What the kernel says.
pub fn link_cgroup(
    program: BorrowedFd<'_>,
    directory: BorrowedFd<'_>,
    attach: Attach,
) -> io::Result<OwnedFd> {
    link(program, raw(directory), attach, 0)
}

fn link(program: BorrowedFd<'_>, target: u32, at: Attach, flags: u32) -> io::Result<OwnedFd> {
    let (prog_fd, attach_type) = (raw(program), at as u32);
    let mut attr = attr::LinkCreate { prog_fd, target, attach_type, flags };
    // SAFETY: follows no pointers.
    unsafe { attr::open(Command::LinkCreate, &mut attr) }
}

/// Replaces the program of a link, at once.
///
/// # Errors
/// What the kernel says.
pub fn link_update(link: BorrowedFd<'_>, program: BorrowedFd<'_>) -> io::Result<()> {
    let (link_fd, new_prog_fd) = (raw(link), raw(program));
    let mut attr = attr::LinkUpdate { link_fd, new_prog_fd, ..Default::default() };
    // SAFETY: follows no pointers.
    unsafe { bpf(Command::LinkUpdate, &mut attr) }.map(drop)
}

/// Detaches a link at once, whoever else still holds it.
///
/// # Errors
/// What the kernel says.
pub fn link_detach(link: BorrowedFd<'_>) -> io::Result<()> {
    // SAFETY: follows no pointers.
    unsafe { bpf(Command::LinkDetach, &mut attr::LinkDetach { link_fd: raw(link) }) }.map(drop)
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
    let mut attr = attr::TestRun {
        prog_fd: raw(program),
        data_size_in: frame.len() as u32,
        data_size_out: out.len() as u32,
        data_in: pointer(frame),
        data_out: pointer_mut(&mut out[..]),
        repeat,
        ctx_size_in: SKB_CONTEXT as u32,
        ctx_size_out: SKB_CONTEXT as u32,
        ctx_in: pointer(&input),
        ctx_out: pointer_mut(context),
        ..Default::default()
    };
    // SAFETY: every buffer outlives the call and its size was passed.
    unsafe { bpf(Command::ProgTestRun, &mut attr)? };
    let duration = std::time::Duration::from_nanos(u64::from(attr.duration));
    out.truncate(attr.data_size_out as usize);
    Ok((TestRun { returned: attr.retval, duration }, out))
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
    /// `BPF_F_TEST_XDP_LIVE_FRAMES`: frames go on into the stack.
    const LIVE_FRAMES: u32 = 1 << 1;
    let context = attr::XdpMd {
        data: metadata,
        data_end: data.len() as u32,
        ingress_ifindex: interface,
        ..Default::default()
    };
    let mut attr = attr::TestRun {
        prog_fd: raw(xdp),
        data_size_in: data.len() as u32,
        data_in: pointer(data),
        repeat: 1,
        ctx_size_in: size_of_val(&context) as u32,
        ctx_in: pointer(&context),
        flags: LIVE_FRAMES,
        ..Default::default()
    };
    // SAFETY: every buffer outlives the call and its size was passed.
    unsafe { bpf(Command::ProgTestRun, &mut attr) }.map(drop)
}
