//! Objects that outlive their process, by a path in a bpffs.

use std::ffi::CString;
use std::io;
use std::os::fd::{AsRawFd, BorrowedFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;
use std::path::Path;

use super::attr::{self, Command, bpf, pointer};

fn path_text(path: &Path) -> io::Result<CString> {
    CString::new(path.as_os_str().as_bytes()).map_err(io::Error::other)
}

/// Pins an object to a path in a bpffs.
///
/// # Errors
/// What the kernel says.
pub fn pin(object: BorrowedFd<'_>, path: &Path) -> io::Result<()> {
    let path = path_text(path)?;
    let pathname = pointer(path.as_bytes_with_nul());
    let mut attr = attr::Obj { pathname, bpf_fd: object.as_raw_fd() as u32, file_flags: 0 };
    // SAFETY: the path ends with a NUL and outlives the call.
    unsafe { bpf(Command::ObjPin, &mut attr) }.map(drop)
}

/// Opens a pinned object.
///
/// # Errors
/// What the kernel says.
pub fn pinned(path: &Path) -> io::Result<OwnedFd> {
    let path = path_text(path)?;
    let pathname = pointer(path.as_bytes_with_nul());
    // SAFETY: the path ends with a NUL and outlives the call.
    unsafe { attr::open(Command::ObjGet, &mut attr::Obj { pathname, ..Default::default() }) }
}
