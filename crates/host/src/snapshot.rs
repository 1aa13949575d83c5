//! A machine as data: read live, or stored as JSON.

use std::io;

use serde::{Deserialize, Serialize};
use tipstaff_core::host::interface::Interface;
use tipstaff_core::host::listener::Listener;

use crate::{interfaces, listeners};

/// What the survey and the reach check need to know of a machine.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Snapshot {
    /// The machine's name.
    pub host: String,
    /// Its interfaces.
    pub interfaces: Vec<Interface>,
    /// What listens on it.
    pub listeners: Vec<Listener>,
    /// How many listeners have a program that could not be seen.
    pub unseen_programs: usize,
}

impl Snapshot {
    /// Reads the network namespace that the calling thread is in.
    ///
    /// # Errors
    /// What the system says.
    pub fn live() -> io::Result<Self> {
        let interfaces = interfaces::list()?;
        let found = listeners::list(&interfaces)?;
        let host = nix::unistd::gethostname().map_err(io::Error::from)?;
        Ok(Self {
            host: host.to_string_lossy().into_owned(),
            interfaces,
            listeners: found.listeners,
            unseen_programs: found.unseen_programs,
        })
    }

    /// Reads a stored one.
    ///
    /// # Errors
    /// When the text is no snapshot.
    pub fn from_json(text: &str) -> serde_json::Result<Self> {
        serde_json::from_str(text)
    }
}
