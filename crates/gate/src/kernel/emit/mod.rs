//! Programs, written: a list and its layout become instructions. Nothing here asks
//! the system for anything.

pub(crate) mod connect;
pub(crate) mod context;
pub(crate) mod counters;
pub(crate) mod dispatcher;
pub(crate) mod events;
pub(crate) mod filter;
pub(crate) mod flow_key;
pub(crate) mod flows;
pub(crate) mod foundations;
pub(crate) mod frame;
pub(crate) mod kernel_memory;
pub(crate) mod link;
pub(crate) mod marks;
pub(crate) mod namespace;
pub(crate) mod owner;
pub(crate) mod owner_tag;
pub(crate) mod program_name;
pub(crate) mod rates;
pub(crate) mod reject;
pub(crate) mod route;
pub(crate) mod search;
pub(crate) mod shares;
pub(crate) mod slot;
pub(crate) mod socket_made;
pub(crate) mod types;
