//! One 64-bit number that programs and user space share: written in one piece.

use std::io;
use std::os::fd::{AsRawFd, BorrowedFd};
use std::sync::atomic::{AtomicU64, Ordering};

/// One page: what an array map of a small value takes.
const PAGE: usize = 4096;

/// The first value of an array map that was made with
/// [`super::map_create_shared`].
pub struct Cell {
    page: *mut libc::c_void,
}

impl Cell {
    /// Maps it. The map itself need not stay open.
    ///
    /// # Errors
    /// What the kernel says.
    pub fn open(map: BorrowedFd<'_>) -> io::Result<Self> {
        let (protection, fd) = (libc::PROT_READ | libc::PROT_WRITE, map.as_raw_fd());
        // SAFETY: a new mapping at an address of the kernel's choice.
        let page =
            unsafe { libc::mmap(std::ptr::null_mut(), PAGE, protection, libc::MAP_SHARED, fd, 0) };
        if page == libc::MAP_FAILED { Err(io::Error::last_os_error()) } else { Ok(Self { page }) }
    }

    fn number(&self) -> &AtomicU64 {
        // SAFETY: the page begins with an aligned u64 that is shared with the kernel, which
        // is why it is read and written as an atomic; it lives as long as self.
        unsafe { &*self.page.cast::<AtomicU64>() }
    }

    /// What it is now.
    pub fn get(&self) -> u64 {
        self.number().load(Ordering::Acquire)
    }

    /// Changes it where it is still what it was; `false`: it is not.
    pub fn replace(&self, was: u64, value: u64) -> bool {
        let number = self.number();
        number.compare_exchange(was, value, Ordering::AcqRel, Ordering::Acquire).is_ok()
    }

    /// Changes it, for all processors at once.
    pub fn set(&self, value: u64) {
        self.number().store(value, Ordering::Release);
    }
}

impl Drop for Cell {
    fn drop(&mut self) {
        // SAFETY: mapped by `open` with this length, and not used any more.
        unsafe { libc::munmap(self.page, PAGE) };
    }
}
