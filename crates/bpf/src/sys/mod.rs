//! bpf(2) and the few other calls that need `unsafe`: the only place in the
//! workspace that has it. Everything that leaves this module is safe to call.
#![allow(unsafe_code)]

mod attr;
mod cell;
#[cfg(feature = "testing")]
pub mod failpoint;
mod kinds;
mod malloc;
mod mapping;
mod maps;
mod pins;
mod programs;
mod ring;
mod sockets;
#[cfg(feature = "testing")]
pub mod test_net;

pub use cell::Cell;
pub use kinds::{Attach, MapKind, Order, ProgramKind};
pub use malloc::give_back_large_pieces;
pub use maps::{
    MapInfo, array_values, map_by_id, map_create, map_create_at_sockets, map_create_shared,
    map_delete, map_info, map_insert, map_keys, map_lookup, map_update, possible_processors,
};
pub use pins::{pin, pinned};
pub use programs::{
    LinkInfo, LoadError, SKB_CONTEXT, TestRun, inject_frame, link_cgroup, link_detach, link_info,
    link_interface, link_update, program_bind_map, program_by_id, program_id, program_load,
    program_load_for, program_maps, program_name, programs_at, programs_of_group, test_run_skb,
};
pub use ring::Ring;
pub use sockets::{descriptor_of, namespace_cookie, namespace_of, tag_socket};
