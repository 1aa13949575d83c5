//! The listening sockets, asked of NETLINK_SOCK_DIAG: it tells what the text
//! tables of /proc cannot (IPV6_V6ONLY, the device, the accept queue) and costs
//! a fifth of them.
//!
//! Source: `include/uapi/linux/inet_diag.h`.

use std::io;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

use netlink_sys::protocols::NETLINK_SOCK_DIAG;
use tipstaff_core::interface::Interface;
use tipstaff_core::listener::{Listener, Owner};
use tipstaff_core::names::traffic::Transport;

use crate::netlink;
use crate::owners::Owners;

const SOCK_DIAG_BY_FAMILY: u16 = 20;
const REQUEST_AND_DUMP: u16 = 0x301;
const DUMP_INTERRUPTED: u16 = 0x10;
const DONE: u16 = 3;
const ERROR: u16 = 2;
/// TCP: listening.
const LISTEN: u32 = 1 << 10;
/// UDP: bound, not connected.
const BOUND: u32 = 1 << 7;
const ATTRIBUTE_V6ONLY: u16 = 11;
/// Bytes of `struct inet_diag_msg`.
const MESSAGE: usize = 72;

/// The listeners, and what could not be seen.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Found {
    /// Sorted by protocol, port, address.
    pub listeners: Vec<Listener>,
    /// How many of them have an owner that this account may not see.
    pub unseen_programs: usize,
}

struct Raw {
    transport: Transport,
    address: IpAddr,
    port: u16,
    device: u32,
    queue: Option<(u32, u32)>,
    uid: u32,
    inode: u32,
    only_v6: bool,
}

/// Lists what listens in the network namespace.
///
/// # Errors
/// What netlink or /proc say.
pub fn list(interfaces: &[Interface]) -> io::Result<Found> {
    let mut raw = Vec::new();
    for (transport, states) in [(Transport::Tcp, LISTEN), (Transport::Udp, BOUND)] {
        for family in [nix::libc::AF_INET, nix::libc::AF_INET6] {
            raw.extend(dump(transport, family as u8, states)?);
        }
    }
    // A socket of port 0 is not bound yet and cannot be reached.
    raw.retain(|r| r.port != 0);
    let owners = Owners::of(raw.iter().map(|r| r.inode).collect());
    let name_of = |index: u32| {
        let known = interfaces.iter().find(|i| i.index == index);
        known.map_or_else(|| format!("interface {index}"), |i| i.name.clone())
    };
    let mut listeners: Vec<Listener> = raw
        .into_iter()
        .map(|r| Listener {
            transport: r.transport,
            port: r.port,
            address: r.address,
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

/// One dump; again when the kernel says that it changed meanwhile.
fn dump(transport: Transport, family: u8, states: u32) -> io::Result<Vec<Raw>> {
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
                let length = u32_at(header, 0) as usize;
                let Some(body) = rest.get(16..length) else { break };
                interrupted |= u16_at(header, 6) & DUMP_INTERRUPTED != 0;
                match u16_at(header, 4) {
                    DONE => done = true,
                    ERROR => {
                        let code = body.get(..4).map_or(0, |b| u32_at(b, 0) as i32);
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

fn u16_at(bytes: &[u8], at: usize) -> u16 {
    u16::from_ne_bytes([bytes[at], bytes[at + 1]])
}

fn u32_at(bytes: &[u8], at: usize) -> u32 {
    u32::from_ne_bytes([bytes[at], bytes[at + 1], bytes[at + 2], bytes[at + 3]])
}

fn decode(transport: Transport, body: &[u8]) -> Option<Raw> {
    let message = body.get(..MESSAGE)?;
    let address = if i32::from(message[0]) == nix::libc::AF_INET {
        let four: [u8; 4] = message[8..12].try_into().ok()?;
        IpAddr::V4(Ipv4Addr::from(four))
    } else {
        let six: [u8; 16] = message[8..24].try_into().ok()?;
        // A v4 address on a dual-stack socket is a v4 address.
        Ipv6Addr::from(six).to_canonical()
    };
    let mut only_v6 = false;
    let mut rest = &body[MESSAGE..];
    while let Some(header) = rest.get(..4) {
        let length = usize::from(u16_at(header, 0));
        if u16_at(header, 2) == ATTRIBUTE_V6ONLY {
            only_v6 = rest.get(4).is_some_and(|b| *b != 0);
        }
        rest = rest.get(length.max(4).next_multiple_of(4)..).unwrap_or_default();
    }
    Some(Raw {
        transport,
        address,
        port: u16::from_be_bytes([message[4], message[5]]),
        device: u32_at(message, 40),
        queue: (transport == Transport::Tcp).then(|| (u32_at(message, 56), u32_at(message, 60))),
        uid: u32_at(message, 64),
        inode: u32_at(message, 68),
        only_v6,
    })
}
