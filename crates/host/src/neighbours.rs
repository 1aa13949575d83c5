//! Who is there: the neighbours that the kernel has resolved.

use std::io;
use std::net::IpAddr;

use netlink_packet_route::RouteNetlinkMessage;
use netlink_packet_route::neighbour::{
    NeighbourAddress, NeighbourAttribute, NeighbourMessage, NeighbourState,
};

use crate::netlink::{self, Kind};

/// The addresses of all neighbours that are known to be there (RTM_GETNEIGH).
///
/// # Errors
/// What netlink says.
pub fn list() -> io::Result<Vec<IpAddr>> {
    let message = RouteNetlinkMessage::GetNeighbour(NeighbourMessage::default());
    let mut found = Vec::new();
    for answer in netlink::route(message, Kind::Dump)? {
        let RouteNetlinkMessage::NewNeighbour(neighbour) = answer else { continue };
        let there = matches!(
            neighbour.header.state,
            NeighbourState::Reachable
                | NeighbourState::Stale
                | NeighbourState::Delay
                | NeighbourState::Probe
                | NeighbourState::Permanent
        );
        if !there {
            continue;
        }
        found.extend(neighbour.attributes.iter().find_map(|attribute| match attribute {
            NeighbourAttribute::Destination(NeighbourAddress::Inet(a)) => Some(IpAddr::V4(*a)),
            NeighbourAttribute::Destination(NeighbourAddress::Inet6(a)) => Some(IpAddr::V6(*a)),
            _ => None,
        }));
    }
    Ok(found)
}
