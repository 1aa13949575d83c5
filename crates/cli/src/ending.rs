//! How a command ended.

/// How a command ended; the number is the exit code.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
#[repr(u8)]
pub enum Ending {
    /// Done, and as it should be.
    Fine = 0,
    /// A check found something that differs from the orders.
    Differs = 1,
    /// `state --check`: not as ordered, as monitoring plugins say it.
    Critical = 2,
    /// `state --check`: nobody knows.
    Unknown = 3,
    /// `state`: nothing is in force.
    Down = 10,
    /// `state`: what is in force is not what it should be.
    Drift = 11,
    /// `state`: all is well, but the file has been changed since it was posted.
    Edited = 12,
}
