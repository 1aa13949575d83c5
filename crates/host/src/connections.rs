//! The TCP connections of this moment that somebody else is the other end of.

use std::collections::HashSet;
use std::io;
use std::net::SocketAddr;

use tipstaff_core::host::connection::Connection;
use tipstaff_core::host::listener::Owner;
use tipstaff_core::names::traffic::Transport;
use tipstaff_core::packet::{Direction, InterfaceIndex};

use crate::diag::{ESTABLISHED, LISTEN, SocketKey, dump};
use crate::owners::Owners;
use crate::routes::{Way, way_to};

/// Lists them, each with what it takes to end it. A connection to a port that
/// somebody listens on here counts as inbound.
///
/// # Errors
/// What netlink or /proc say.
pub fn list() -> io::Result<Vec<(Connection, SocketKey)>> {
    let ports: HashSet<u16> =
        dump(Transport::Tcp, LISTEN)?.iter().map(|socket| socket.local.port()).collect();
    let sockets = dump(Transport::Tcp, ESTABLISHED)?;
    let owners = Owners::find(sockets.iter().map(|socket| socket.inode).collect());
    let mut all = Vec::new();
    for socket in sockets {
        // What stays on this host is nobody's business.
        let interface = match way_to(socket.remote.ip())? {
            Way::Out { interface, .. } => InterfaceIndex(interface),
            Way::None => InterfaceIndex(0),
            Way::Own => continue,
        };
        let inbound = ports.contains(&socket.local.port());
        let connection = Connection {
            direction: if inbound { Direction::Inbound } else { Direction::Outbound },
            local: socket.local,
            remote: socket.remote,
            interface,
            owner: Owner {
                uid: socket.uid,
                account: owners.account(socket.uid),
                programs: owners.programs(socket.inode),
            },
        };
        all.push((connection, socket.key));
    }
    all.sort_by_key(|(connection, _)| {
        (connection.direction, connection.local.port(), key_of(connection.remote))
    });
    Ok(all)
}

fn key_of(address: SocketAddr) -> (std::net::IpAddr, u16) {
    (address.ip(), address.port())
}
