//! The sockets of the network namespace, asked of NETLINK_SOCK_DIAG: it tells
//! what the text tables of /proc cannot (IPV6_V6ONLY, the device, the accept
//! queue) and costs a fifth of them.
//!
//! Source: sock_diag(7), `include/uapi/linux/inet_diag.h`.

use std::io;
use std::net::{IpAddr, SocketAddr};

use netlink_packet_core::{NetlinkHeader, NetlinkMessage, NetlinkPayload};
use netlink_packet_sock_diag::inet::nlas::Nla;
use netlink_packet_sock_diag::inet::{
    ExtensionFlags, InetRequest, InetResponse, SocketId, StateFlags,
};
use netlink_packet_sock_diag::{SOCK_DESTROY, SockDiagMessage};
use netlink_sys::protocols::NETLINK_SOCK_DIAG;
use tipstaff_core::names::address::Family;
use tipstaff_core::names::traffic::{TCP, Transport};

use crate::netlink::{self, Kind};

/// TCP: listening.
pub(crate) const LISTEN: StateFlags = StateFlags::LISTEN;
/// TCP: established, or closed by the other end only.
pub(crate) const ESTABLISHED: StateFlags = StateFlags::ESTABLISHED.union(StateFlags::CLOSE_WAIT);
/// UDP: bound, not connected.
pub(crate) const BOUND: StateFlags = StateFlags::CLOSE;
/// A table that changes is read so many times.
const TRIES: usize = 8;

/// A socket as the kernel tells it.
pub(crate) struct Raw {
    pub(crate) transport: Transport,
    pub(crate) local: SocketAddr,
    pub(crate) remote: SocketAddr,
    pub(crate) device: u32,
    pub(crate) queue: Option<(u32, u32)>,
    pub(crate) uid: u32,
    pub(crate) inode: u32,
    pub(crate) only_v6: bool,
    pub(crate) key: SocketKey,
}

/// Which socket it is, for good: its cookie is part of it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct SocketKey {
    family: u8,
    id: SocketId,
}

impl SocketKey {
    /// Ends this TCP connection (SOCK_DESTROY): both ends are told by a reset.
    /// `false`: it was gone already.
    ///
    /// # Errors
    /// What netlink says.
    pub fn destroy(&self) -> io::Result<bool> {
        let mut request = request(self.family, TCP, ESTABLISHED, self.id.clone());
        request.header.message_type = SOCK_DESTROY;
        match netlink::ask(NETLINK_SOCK_DIAG, request, Kind::Do(0), |_| ()) {
            Ok(_) => Ok(true),
            Err(e) if e.raw_os_error() == Some(nix::libc::ENOENT) => Ok(false),
            Err(e) => Err(e),
        }
    }
}

fn request(
    family: u8,
    protocol: u8,
    states: StateFlags,
    socket_id: SocketId,
) -> NetlinkMessage<SockDiagMessage> {
    let extensions = ExtensionFlags::empty();
    let request = InetRequest { family, protocol, extensions, states, socket_id };
    let payload = NetlinkPayload::from(SockDiagMessage::InetRequest(request));
    NetlinkMessage::new(NetlinkHeader::default(), payload)
}

/// The sockets of both families in these states.
pub(crate) fn dump(transport: Transport, states: StateFlags) -> io::Result<Vec<Raw>> {
    let mut all = Vec::new();
    for family in Family::BOTH {
        all.extend(dump_of(transport, family, &states)?);
    }
    Ok(all)
}

/// One dump; again when the kernel says that it changed meanwhile.
fn dump_of(transport: Transport, family: Family, states: &StateFlags) -> io::Result<Vec<Raw>> {
    let (family, id) = match family {
        Family::V4 => (nix::libc::AF_INET, SocketId::new_v4()),
        Family::V6 => (nix::libc::AF_INET6, SocketId::new_v6()),
    };
    for _ in 0..TRIES {
        let mut found = Vec::new();
        let request = request(family as u8, transport.protocol(), states.clone(), id.clone());
        let interrupted = netlink::ask(NETLINK_SOCK_DIAG, request, Kind::Dump, |answer| {
            if let SockDiagMessage::InetResponse(response) = answer {
                found.push(raw(transport, *response));
            }
        })?;
        if !interrupted {
            return Ok(found);
        }
    }
    Err(io::Error::other("the socket table changes too fast to be read"))
}

fn raw(transport: Transport, response: InetResponse) -> Raw {
    let header = response.header;
    let id = header.socket_id;
    // A v4 address on a dual-stack socket is a v4 address.
    let end = |address: IpAddr, port| SocketAddr::new(address.to_canonical(), port);
    Raw {
        transport,
        local: end(id.source_address, id.source_port),
        remote: end(id.destination_address, id.destination_port),
        device: id.interface_id,
        queue: (transport == Transport::Tcp).then_some((header.recv_queue, header.send_queue)),
        uid: header.uid,
        inode: header.inode,
        only_v6: response.nlas.iter().any(|nla| matches!(nla, Nla::SkV6Only(true))),
        key: SocketKey { family: header.family, id },
    }
}
