//! The listening sockets.

use std::io;

use tipstaff_core::host::interface::Interface;
use tipstaff_core::host::listener::{Listener, Owner};
use tipstaff_core::names::traffic::Transport;

use crate::diag::{BOUND, LISTEN, dump};
use crate::owners::Owners;

/// The listeners, and what could not be seen.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Found {
    /// Sorted by protocol, port, address.
    pub listeners: Vec<Listener>,
    /// How many of them have an owner that this account may not see.
    pub unseen_programs: usize,
}

/// Lists what listens in the network namespace.
///
/// # Errors
/// What netlink or /proc say.
pub fn list(interfaces: &[Interface]) -> io::Result<Found> {
    let _doing = tracing::info_span!("reading the sockets").entered();
    let mut raw = Vec::new();
    for (transport, states) in [(Transport::Tcp, LISTEN), (Transport::Udp, BOUND)] {
        raw.extend(dump(transport, states)?);
    }
    // A socket of port 0 is not bound yet and cannot be reached.
    raw.retain(|r| r.local.port() != 0);
    let owners = Owners::find(raw.iter().map(|r| r.inode).collect());
    let name_of = |index: u32| {
        let known = interfaces.iter().find(|i| i.index == index);
        known.map_or_else(|| format!("interface {index}"), |i| i.name.clone())
    };
    let mut listeners: Vec<Listener> = raw
        .into_iter()
        .map(|r| Listener {
            transport: r.transport,
            port: r.local.port(),
            address: r.local.ip(),
            only_v6: r.only_v6,
            device: (r.device != 0).then(|| name_of(r.device)),
            queue: r.queue,
            owner: Owner {
                uid: r.uid,
                account: owners.account(r.uid),
                programs: owners.programs(r.inode),
            },
        })
        .collect();
    listeners.sort();
    let unseen_programs = listeners.iter().filter(|l| l.owner.programs.is_empty()).count();
    Ok(Found { listeners, unseen_programs })
}
