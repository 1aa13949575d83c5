//! Many hosts at once, over the administrator's own ssh: one question and one answer each,
//! on a connection of its own. Nothing of ours listens anywhere; what runs there is
//! `tipstaff serve-fleet`, which reads the question and ends with the answer.

mod alike;
mod crowd;
pub mod delivery;
pub mod message;
mod ssh;

pub use alike::{alike, named};
pub use crowd::{Asked, Crowd, hosts_of};
pub use ssh::{Fault, SshLine, first};
