//! What a machine has, as data: who reads it is the crate `tipstaff-host`.

pub mod connection;
pub mod interface;
pub mod listener;
pub mod programs;
