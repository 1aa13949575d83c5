//! What outlives the process: pins, the switch, revisions, and what is read back
//! of them.

pub(crate) mod at;
pub(crate) mod attached;
pub(crate) mod buckets;
pub(crate) mod cgroup;
pub(crate) mod clock;
pub(crate) mod counted;
pub(crate) mod described;
pub mod executables;
pub(crate) mod memories;
pub(crate) mod open_sockets;
pub(crate) mod pins;
pub(crate) mod program_names;
pub(crate) mod revision;
pub(crate) mod ring;
pub(crate) mod switch;
