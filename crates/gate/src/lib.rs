//! The tables in force. [`Gate`] has two implementations: [`kernel`], Tipstaff's
//! own filter in the Linux kernel, and [`simulated`], the same tables with
//! packets and time passed in.

mod contract;
pub mod enforceable;
pub mod kernel;
pub mod lock;
pub mod simulated;

pub use contract::{
    Event, Gate, GateError, InForce, Left, Maker, Pending, Posted, Posting, Record, Rehearsal,
    RuleCounted, Tally, Unrecorded,
};
