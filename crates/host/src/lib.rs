//! What is on a machine: listeners and their programs, interfaces, routes;
//! read live, or from a stored [`snapshot::Snapshot`] of a machine.
#![forbid(unsafe_code)]

pub mod connections;
mod diag;
pub mod files;
pub mod filters;
pub mod interfaces;
pub mod lab;
pub mod listeners;
pub mod namespace;
pub mod neighbours;
mod netlink;
mod owners;
pub mod routes;
pub mod shell;
pub mod snapshot;
pub mod stations;
mod team;

pub use diag::SocketKey;
