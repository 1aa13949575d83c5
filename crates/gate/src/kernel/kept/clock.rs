//! How the clock that programs may ask (TAI) becomes UTC. The kernel learns the
//! difference when whoever keeps the clock tells it, often well after `boot`, so
//! it stands in a map of its own and not in the programs.

use std::os::fd::BorrowedFd;

use tipstaff_bpf::sys::Cell;

use crate::contract::GateError;
use crate::kernel::error::{bpf, system};

/// By how many seconds TAI is ahead of UTC by the kernel's own account now: 37
/// where the clock is kept well, 0 where nobody told the kernel.
pub(crate) fn tai_ahead() -> Result<i64, GateError> {
    use nix::time::{ClockId, clock_gettime};
    fn seconds(clock: ClockId) -> nix::Result<i64> {
        clock_gettime(clock).map(|t| t.tv_sec())
    }
    let both =
        seconds(ClockId::CLOCK_TAI).and_then(|tai| Ok(tai - seconds(ClockId::CLOCK_REALTIME)?));
    // The second may end between the two questions: no difference is below zero.
    both.map(|ahead| ahead.max(0)).map_err(|e| system("reading the clock")(e.into()))
}

/// What the programs take the difference for.
pub(crate) struct Told(Cell);

impl Told {
    pub(crate) fn open(map: BorrowedFd<'_>) -> Result<Self, GateError> {
        Cell::open(map).map(Self).map_err(bpf("to open the clock's map"))
    }

    pub(crate) fn seconds(&self) -> i64 {
        self.0.get().cast_signed()
    }

    /// Tells the programs, of what is in force and of what comes.
    pub(crate) fn tell(&self, ahead: i64) {
        self.0.set(ahead.cast_unsigned());
    }
}
