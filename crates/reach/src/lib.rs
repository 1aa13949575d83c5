//! The reach check: what is knocked on, from where, and how the witness, the gate and
//! the socket table together say what was observed. What should have been is
//! [`tipstaff_core::analysis::reach`]; how it is shown is the command's.
//!
//! [`Check`] this host's ports · [`Across`] out of this host and through it ·
//! [`target_column`] another host of the orders · [`plan`] whom to play so that every
//! rule is shown.

mod across;
mod check;
mod evidence;
mod fault;
mod place;
pub mod plan;
mod published;
mod sockets;
mod target;

pub use across::{Across, Destination};
pub use check::{Basis, Check};
pub use evidence::GateInForce;
pub use fault::CheckFault;
pub use place::Place;
pub use target::target_column;
