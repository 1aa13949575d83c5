//! Calls of bpf(2) that fail on purpose, for tests of what a failure leaves behind.

use std::cell::Cell;
use std::io;

/// Which calls of this thread fail.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Failing {
    /// None.
    Never,
    /// The one after so many.
    Once(u32),
    /// All after so many.
    From(u32),
}

thread_local! {
    static FAILING: Cell<Failing> = const { Cell::new(Failing::Never) };
}

/// Lets calls of this thread fail from now on, as if the kernel had no memory.
pub fn fail(failing: Failing) {
    FAILING.set(failing);
}

/// Whether there were too few calls for any to fail.
pub fn is_pending() -> bool {
    match FAILING.get() {
        Failing::Never | Failing::From(0) => false,
        Failing::Once(_) | Failing::From(_) => true,
    }
}

pub(super) fn met() -> io::Result<()> {
    let (next, fails) = match FAILING.get() {
        Failing::Never => return Ok(()),
        Failing::Once(0) => (Failing::Never, true),
        Failing::Once(n) => (Failing::Once(n - 1), false),
        Failing::From(0) => (Failing::From(0), true),
        Failing::From(n) => (Failing::From(n - 1), false),
    };
    FAILING.set(next);
    if fails { Err(io::Error::from_raw_os_error(libc::ENOMEM)) } else { Ok(()) }
}
