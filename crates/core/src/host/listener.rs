//! What listens on a host, as data: read live or from a snapshot.

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::names::traffic::Transport;

/// The program behind a socket.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, JsonSchema, Serialize, Deserialize)]
pub struct Program {
    /// Process id.
    pub pid: u32,
    /// Name of the program: the last part of its path, or what the kernel calls it.
    pub name: String,
    /// Path of the executable, where it can be read.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub path: Option<String>,
}

/// Who listens: the account always, the programs only where one may look.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, JsonSchema, Serialize, Deserialize)]
pub struct Owner {
    /// User id of the socket.
    pub uid: u32,
    /// Account name of that id, or the number.
    pub account: String,
    /// Everybody who holds the socket; empty when that is not visible.
    pub programs: Vec<Program>,
}

/// One listening socket.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, JsonSchema, Serialize, Deserialize)]
pub struct Listener {
    /// TCP or UDP.
    pub transport: Transport,
    /// Port.
    pub port: u16,
    /// Local address; unspecified means all.
    pub address: IpAddr,
    /// An IPv6 socket that takes no IPv4.
    #[serde(default)]
    pub only_v6: bool,
    /// The one interface it is bound to.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub device: Option<String>,
    /// Connections waiting to be accepted, and room for them (TCP).
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub queue: Option<(u32, u32)>,
    /// Whose it is.
    pub owner: Owner,
}

/// How far the local address of a listener reaches by itself.
#[derive(Clone, Copy, Debug, PartialEq, Eq, JsonSchema, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Scope {
    /// All addresses.
    All,
    /// One address that others can reach.
    One,
    /// Loopback only.
    Loopback,
}

impl Listener {
    /// A socket of root's whose programs cannot be seen and whose queue, that of TCP,
    /// is empty: for examples and tests.
    pub fn of_root(transport: Transport, port: u16, address: IpAddr) -> Self {
        Self {
            transport,
            port,
            address,
            only_v6: false,
            device: None,
            queue: (transport == Transport::Tcp).then_some((0, 128)),
            owner: Owner { uid: 0, account: "root".into(), programs: vec![] },
        }
    }

    /// The path of the program that listens, where it can be seen.
    pub fn path(&self) -> Option<&str> {
        self.owner.programs.iter().find_map(|program| program.path.as_deref())
    }

    /// All, one or loopback only.
    pub fn scope(&self) -> Scope {
        if self.address.is_unspecified() {
            Scope::All
        } else if self.address.is_loopback() {
            Scope::Loopback
        } else {
            Scope::One
        }
    }

    /// Whether a packet to this local address finds the socket.
    pub fn takes(&self, address: IpAddr) -> bool {
        match (self.address, address) {
            (IpAddr::V4(Ipv4Addr::UNSPECIFIED), IpAddr::V4(_)) => true,
            (IpAddr::V6(Ipv6Addr::UNSPECIFIED), IpAddr::V6(_)) => true,
            (IpAddr::V6(Ipv6Addr::UNSPECIFIED), IpAddr::V4(_)) => !self.only_v6,
            (one, address) => one == address,
        }
    }

    /// Whether a packet to this local address that arrives on the interface called
    /// `arrives`, where that is known, finds the socket.
    pub fn takes_on(&self, address: IpAddr, arrives: Option<&str>) -> bool {
        let on_device = match (&self.device, arrives) {
            (Some(device), Some(name)) => device == name,
            _ => true,
        };
        on_device && self.takes(address)
    }

    /// The name of the program, or how the account is called.
    pub fn program(&self) -> Option<&Program> {
        self.owner.programs.first()
    }
}

/// The socket that the kernel gives the first packet to a port at `target`: of
/// several that take it one that is bound to that very address before one for all,
/// then one bound to an interface, then one of the packet's own family
/// (`inet_lookup_listener` and `compute_score` of net/ipv4/inet_hashtables.c).
pub fn taker<'l>(
    listeners: &'l [Listener],
    transport: Transport,
    port: u16,
    target: IpAddr,
    arrives: Option<&str>,
) -> Option<&'l Listener> {
    listeners
        .iter()
        .filter(|l| (l.transport, l.port) == (transport, port) && l.takes_on(target, arrives))
        // The first of equals: max_by_key would take the last.
        .rev()
        .max_by_key(|l| {
            let own_family = l.address.is_ipv4() == target.is_ipv4();
            (l.address == target, l.device.is_some(), own_family)
        })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_dual_stack_listener_takes_both_families() {
        let mut listener = Listener::of_root(Transport::Tcp, 7410, "::".parse().unwrap());
        let four = "198.51.100.20".parse().unwrap();
        assert!(listener.takes(four) && listener.takes("2001:db8:51::20".parse().unwrap()));
        listener.only_v6 = true;
        assert!(!listener.takes(four));
        listener.address = "127.0.0.1".parse().unwrap();
        assert!(!listener.takes(four));
        assert_eq!(listener.scope(), Scope::Loopback);
    }

    #[test]
    fn of_several_the_most_exact_takes_a_packet() {
        let on = |address: &str, device: Option<&str>| Listener {
            device: device.map(Into::into),
            ..Listener::of_root(Transport::Tcp, 7410, address.parse().unwrap())
        };
        let all = [on("::", None), on("0.0.0.0", None), on("0.0.0.0", Some("lan0"))];
        let exact = on("198.51.100.20", None);
        let four = "198.51.100.20".parse().unwrap();
        let taken = |listeners: &[Listener], arrives| {
            taker(listeners, Transport::Tcp, 7410, four, arrives).cloned()
        };
        assert_eq!(taken(&all[..2], None), Some(all[1].clone()));
        assert_eq!(taken(&all, Some("lan0")), Some(all[2].clone()));
        assert_eq!(taken(&all, Some("lan1")), Some(all[1].clone()));
        assert_eq!(taken(&all[..1], Some("lan1")), Some(all[0].clone()));
        let with_exact = [&all[..], std::slice::from_ref(&exact)].concat();
        assert_eq!(taken(&with_exact, Some("lan0")), Some(exact));
        assert_eq!(taken(&[], None), None);
    }
}
