//! The gate in the Linux kernel.
//!
//! Every interface of the namespace carries, on the way in and on the way out,
//! a link to a small *dispatcher* program, which jumps to whatever program
//! stands in the *slot*. Further dispatchers stand at the sockets of the
//! namespace. A revision is the programs of all these places, with the maps
//! that they share. To post is to load them, put them beside those that hold,
//! and turn one switch: in force everywhere at once, or not at all. Everything that outlives the process is
//! pinned in an own bpffs, in a folder for the namespace:
//!
//! `slot…` and `switch` (what is in force, see `hooks`) · `flows` (what was sent, forwarded and let in) · `rates` (what
//! sources took of rates) · `events` (decisions that are recorded) · `clock` (how far TAI is ahead of UTC) ·
//! `rehearsal` (until when something is rehearsed) and `rehearsal-…` (what that remembers) ·
//! `labels`, `secret` (which program made a socket) · `guarded` (the interfaces
//! that have an outer gate) · `outer-in-N`, `outer-out-N` (the links on
//! interface N) · `inner-in`, `inner-out`, `connect4`, `connect6`, `label` (the
//! links at the sockets).
//!
//! What is in force is read back from the slot itself: its program, its maps,
//! and in one of them the record of the orders.

mod control;
mod drift;
pub(crate) mod emit;
mod error;
mod gate;
pub(crate) mod kept;
mod others;
mod post;
mod query;
mod rehearsal;
mod shortfall;
mod support;
mod trial;

pub use emit::context::cb;
pub use emit::counters::CounterSlot;
pub use emit::frame::RECORD_BYTES;
pub use emit::marks::{Marks, Note};
pub use gate::KernelGate;
pub use kept::executables;
pub use kept::ring::{Events, RING_BYTES};
pub use others::{Other, Place, Turn};
pub use query::Asked;
pub use shortfall::{Shortfall, shortfalls};
pub use support::{MIN_KERNEL, check_support};
