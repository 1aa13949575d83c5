//! Memory that is shared with the kernel: mmap(2).

use std::io;
use std::os::fd::{AsRawFd, BorrowedFd};
use std::sync::atomic::{AtomicU32, AtomicU64};

/// Bytes of a page, which every mapping is a multiple of.
pub(super) fn page() -> usize {
    // SAFETY: sysconf(3) takes no pointers.
    let bytes = unsafe { libc::sysconf(libc::_SC_PAGESIZE) };
    usize::try_from(bytes).unwrap_or(4096)
}

/// How a mapping may be used.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Access {
    Read,
    Write,
}

/// A mapping of a map, taken away when it is dropped.
pub(super) struct Mapping {
    begin: *mut libc::c_void,
    length: usize,
}

impl Mapping {
    /// Maps `length` bytes from `offset` on, both multiples of [`page`].
    pub(super) fn new(
        map: BorrowedFd<'_>,
        offset: usize,
        length: usize,
        access: Access,
    ) -> io::Result<Self> {
        let protection = match access {
            Access::Read => libc::PROT_READ,
            Access::Write => libc::PROT_READ | libc::PROT_WRITE,
        };
        let (null, offset) = (std::ptr::null_mut(), offset as libc::off_t);
        // SAFETY: a new mapping at an address of the kernel's choice.
        let begin = unsafe {
            libc::mmap(null, length, protection, libc::MAP_SHARED, map.as_raw_fd(), offset)
        };
        if begin == libc::MAP_FAILED {
            return Err(io::Error::last_os_error());
        }
        Ok(Self { begin, length })
    }

    /// The 64-bit number at its begin.
    pub(super) fn number(&self) -> &AtomicU64 {
        // SAFETY: a mapping begins on a page, is no shorter than one, and lives as long as
        // self; what is shared with the kernel is read and written as an atomic.
        unsafe { &*self.begin.cast::<AtomicU64>() }
    }

    /// A 32-bit number in it; `None` beyond its end, or out of line.
    pub(super) fn word(&self, at: usize) -> Option<&AtomicU32> {
        if !at.is_multiple_of(4) || at.checked_add(4)? > self.length {
            return None;
        }
        // SAFETY: inside the mapping and aligned, as just checked; shared as above.
        Some(unsafe { &*self.begin.byte_add(at).cast::<AtomicU32>() })
    }

    /// Some of its bytes; `None` beyond its end.
    ///
    /// # Safety
    /// Nobody writes to these bytes while the slice lives.
    pub(super) unsafe fn bytes(&self, at: usize, length: usize) -> Option<&[u8]> {
        if at.checked_add(length)? > self.length {
            return None;
        }
        // SAFETY: inside the mapping, as just checked; that they stay is the caller's promise.
        Some(unsafe { std::slice::from_raw_parts(self.begin.byte_add(at).cast::<u8>(), length) })
    }
}

impl Drop for Mapping {
    fn drop(&mut self) {
        // SAFETY: mapped by `new` with this length, and nothing borrows it any more.
        unsafe { libc::munmap(self.begin, self.length) };
    }
}
