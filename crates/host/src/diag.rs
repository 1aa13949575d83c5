//! The sockets of the network namespace, asked of NETLINK_SOCK_DIAG: it tells
//! what the text tables of /proc cannot (IPV6_V6ONLY, the device, the accept
//! queue) and costs a fifth of them.
//!
//! Source: `include/uapi/linux/inet_diag.h`.

use std::io;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};

use netlink_sys::protocols::NETLINK_SOCK_DIAG;
use tipstaff_core::bytes::ReadAt;
use tipstaff_core::names::traffic::{TCP, Transport};

use crate::netlink;

const SOCK_DIAG_BY_FAMILY: u16 = 20;
const SOCK_DESTROY: u16 = 21;
const REQUEST_AND_DUMP: u16 = 0x301;
const REQUEST_AND_ACK: u16 = 0x5;
const DUMP_INTERRUPTED: u16 = 0x10;
const DONE: u16 = 3;
const ERROR: u16 = 2;
/// TCP: listening.
pub(crate) const LISTEN: u32 = 1 << 10;
/// TCP: established, or closed by the other end only.
pub(crate) const ESTABLISHED: u32 = 1 << 1 | 1 << 8;
/// UDP: bound, not connected.
pub(crate) const BOUND: u32 = 1 << 7;
const ATTRIBUTE_V6ONLY: u16 = 11;
/// Bytes of `struct inet_diag_msg`.
const MESSAGE: usize = 72;

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
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct SocketKey {
    family: u8,
    id: [u8; 48],
}

impl SocketKey {
    /// Ends this TCP connection (SOCK_DESTROY): both ends are told by a reset.
    /// `false`: it was gone already.
    ///
    /// # Errors
    /// What netlink says.
    pub fn destroy(&self) -> io::Result<bool> {
        let mut request = Vec::with_capacity(72);
        request.extend((16u32 + 56).to_ne_bytes());
        request.extend(SOCK_DESTROY.to_ne_bytes());
        request.extend(REQUEST_AND_ACK.to_ne_bytes());
        request.extend([0; 8]); // sequence, port
        request.extend([self.family, TCP, 0, 0]);
        request.extend(ESTABLISHED.to_ne_bytes());
        request.extend(self.id);
        let socket = netlink::connect(NETLINK_SOCK_DIAG)?;
        socket.send(&request, 0)?;
        let (answer, _) = socket.recv_from_full()?;
        let told = answer.u16_ne(4).filter(|kind| *kind == ERROR);
        let code = told.and_then(|_| Some(-(answer.u32_ne(16)? as i32)));
        match code {
            Some(0) => Ok(true),
            Some(code) if code == nix::libc::ENOENT => Ok(false),
            Some(code) => Err(io::Error::from_raw_os_error(code)),
            None => Err(io::Error::other("the kernel's answer cannot be read")),
        }
    }
}

/// The sockets of both families in these states.
pub(crate) fn dump(transport: Transport, states: u32) -> io::Result<Vec<Raw>> {
    let mut all = Vec::new();
    for family in [nix::libc::AF_INET, nix::libc::AF_INET6] {
        all.extend(dump_of(transport, family as u8, states)?);
    }
    Ok(all)
}

/// One dump; again when the kernel says that it changed meanwhile.
fn dump_of(transport: Transport, family: u8, states: u32) -> io::Result<Vec<Raw>> {
    let mut request = Vec::with_capacity(MESSAGE);
    request.extend((16u32 + 56).to_ne_bytes());
    request.extend(SOCK_DIAG_BY_FAMILY.to_ne_bytes());
    request.extend(REQUEST_AND_DUMP.to_ne_bytes());
    request.extend([0; 8]); // sequence, port
    request.extend([family, transport.protocol(), 0, 0]);
    request.extend(states.to_ne_bytes());
    request.extend([0; 48]);
    let socket = netlink::connect(NETLINK_SOCK_DIAG)?;
    for _ in 0..8 {
        socket.send(&request, 0)?;
        let (mut found, mut interrupted, mut done) = (Vec::new(), false, false);
        while !done {
            let (datagram, _) = socket.recv_from_full()?;
            let mut rest = datagram.as_slice();
            while let Some(header) = rest.get(..16) {
                let length = header.u32_ne(0).unwrap_or_default() as usize;
                let Some(body) = rest.get(16..length) else { break };
                interrupted |= header.u16_ne(6).is_some_and(|flags| flags & DUMP_INTERRUPTED != 0);
                match header.u16_ne(4).unwrap_or_default() {
                    DONE => done = true,
                    ERROR => {
                        let code = body.u32_ne(0).map_or(0, |code| code as i32);
                        return Err(io::Error::from_raw_os_error(-code));
                    }
                    SOCK_DIAG_BY_FAMILY => found.extend(decode(transport, body)),
                    _ => {}
                }
                rest = rest.get(length.next_multiple_of(4)..).unwrap_or_default();
            }
        }
        if !interrupted {
            return Ok(found);
        }
    }
    Err(io::Error::other("the socket table changes too fast to be read"))
}

fn decode(transport: Transport, body: &[u8]) -> Option<Raw> {
    let message = body.get(..MESSAGE)?;
    let address = |at: usize| {
        Some(if i32::from(message[0]) == nix::libc::AF_INET {
            let four: [u8; 4] = message[at..at + 4].try_into().ok()?;
            IpAddr::V4(Ipv4Addr::from(four))
        } else {
            let six: [u8; 16] = message[at..at + 16].try_into().ok()?;
            // A v4 address on a dual-stack socket is a v4 address.
            Ipv6Addr::from(six).to_canonical()
        })
    };
    let mut only_v6 = false;
    let mut rest = &body[MESSAGE..];
    while let Some(header) = rest.get(..4) {
        let length = usize::from(header.u16_ne(0)?);
        if header.u16_ne(2)? == ATTRIBUTE_V6ONLY {
            only_v6 = rest.get(4).is_some_and(|b| *b != 0);
        }
        rest = rest.get(length.max(4).next_multiple_of(4)..).unwrap_or_default();
    }
    Some(Raw {
        transport,
        local: SocketAddr::new(address(8)?, message.u16_be(4)?),
        remote: SocketAddr::new(address(24)?, message.u16_be(6)?),
        device: message.u32_ne(40)?,
        queue: (transport == Transport::Tcp).then_some((message.u32_ne(56)?, message.u32_ne(60)?)),
        uid: message.u32_ne(64)?,
        inode: message.u32_ne(68)?,
        only_v6,
        key: SocketKey { family: message[0], id: message[4..52].try_into().ok()? },
    })
}
