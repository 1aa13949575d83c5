//! A host's interfaces, as data.

use std::net::IpAddr;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// One interface.
#[derive(Clone, Debug, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct Interface {
    /// The kernel's index; 1 is loopback.
    pub index: u32,
    /// Its name.
    pub name: String,
    /// Hardware address, where it has one.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub hardware: Option<[u8; 6]>,
    /// Whether it is up.
    pub up: bool,
    /// Own addresses with their prefix lengths.
    pub addresses: Vec<(IpAddr, u8)>,
    /// Whether it is a port of a bridge or bond: what it receives is handed to
    /// the stack on that one.
    #[serde(default)]
    pub port: bool,
    /// Whether it stands on another one whose hardware address it has (ipvlan, macvlan that
    /// passes all through): what
    /// comes in for it over the wire comes in on that one.
    #[serde(default)]
    pub on_parent: bool,
    /// Whether filters of a queueing discipline (`ingress`, `clsact`) look at
    /// what arrives, which may overwrite what the gate notes on packets.
    #[serde(default)]
    pub ingress_filter: bool,
    /// What kind of link it is, as the kernel names it: `wireguard`, `bridge`, `veth`, `tun`;
    /// `None` for a card.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub kind: Option<String>,
}

impl Interface {
    /// An interface without addresses.
    pub fn named(index: u32, name: impl Into<String>) -> Self {
        Self {
            index,
            name: name.into(),
            hardware: None,
            up: true,
            addresses: Vec::new(),
            port: false,
            on_parent: false,
            ingress_filter: false,
            kind: None,
        }
    }

    /// Whether this is the loopback interface.
    pub fn is_loopback(&self) -> bool {
        self.index == 1
    }

    /// Addresses of the family that are not link-local, first the one to show.
    pub fn addresses_of(&self, six: bool) -> impl Iterator<Item = IpAddr> {
        self.addresses.iter().map(|(address, _)| *address).filter(move |address| match address {
            IpAddr::V4(_) => !six,
            IpAddr::V6(a) => six && !a.is_unicast_link_local(),
        })
    }
}
