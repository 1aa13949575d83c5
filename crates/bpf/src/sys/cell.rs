//! One 64-bit number that programs and user space share: written in one piece.

use std::io;
use std::os::fd::BorrowedFd;
use std::sync::atomic::Ordering;

use super::mapping::{Access, Mapping, page};

/// The first value of an array map that was made with
/// [`super::map_create_shared`].
pub struct Cell(Mapping);

impl Cell {
    /// Maps it. The map itself need not stay open.
    ///
    /// # Errors
    /// What the kernel says.
    pub fn open(map: BorrowedFd<'_>) -> io::Result<Self> {
        Mapping::new(map, 0, page(), Access::Write).map(Self)
    }

    /// What it is now.
    pub fn get(&self) -> u64 {
        self.0.number().load(Ordering::Acquire)
    }

    /// Changes it where it is still what it was; `false`: it is not.
    pub fn replace(&self, was: u64, value: u64) -> bool {
        let number = self.0.number();
        number.compare_exchange(was, value, Ordering::AcqRel, Ordering::Acquire).is_ok()
    }

    /// Changes it, for all processors at once.
    pub fn set(&self, value: u64) {
        self.0.number().store(value, Ordering::Release);
    }
}
