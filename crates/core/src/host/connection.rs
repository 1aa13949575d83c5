//! Connections that are open, as data: what orders would say if they were
//! opened now.

use std::net::SocketAddr;

use schemars::JsonSchema;
use serde::Serialize;

use crate::host::listener::Owner;
use crate::packet::{Direction, InterfaceIndex};

/// A TCP connection.
#[derive(Clone, Debug, PartialEq, Eq, JsonSchema, Serialize)]
pub struct Connection {
    /// Who opened it: inbound, the other end did.
    pub direction: Direction,
    /// This end.
    pub local: SocketAddr,
    /// The other end.
    pub remote: SocketAddr,
    /// Where the way to the other end begins.
    pub interface: InterfaceIndex,
    /// Whose it is.
    pub owner: Owner,
}

impl Connection {
    /// The path of the program that has it.
    pub fn program(&self) -> Option<&str> {
        self.owner.programs.iter().find_map(|program| program.path.as_deref())
    }
}
