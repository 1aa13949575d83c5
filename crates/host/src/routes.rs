//! What the routing table says of an address.

use std::io;
use std::net::IpAddr;

use netlink_packet_route::route::{RouteAddress, RouteAttribute, RouteMessage, RouteType};
use netlink_packet_route::{AddressFamily, RouteNetlinkMessage};

use crate::netlink::{self, Kind};

/// The way to an address.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Way {
    /// It is an address of this host.
    Own,
    /// Out of an interface.
    Out {
        /// Index of that interface.
        interface: u32,
        /// The own address that is preferred on that way.
        source: Option<IpAddr>,
        /// The next router; none when the address is on the link itself.
        gateway: Option<IpAddr>,
    },
    /// No way leads there.
    None,
}

/// Asks the routing table (RTM_GETROUTE).
///
/// # Errors
/// What netlink says, but for "unreachable", which is [`Way::None`].
pub fn way_to(address: IpAddr) -> io::Result<Way> {
    let mut message = RouteMessage::default();
    message.header.address_family =
        if address.is_ipv4() { AddressFamily::Inet } else { AddressFamily::Inet6 };
    message.header.destination_prefix_length = if address.is_ipv4() { 32 } else { 128 };
    message.attributes.push(RouteAttribute::Destination(address.into()));
    let answers = match netlink::route(RouteNetlinkMessage::GetRoute(message), Kind::Get) {
        Ok(answers) => answers,
        Err(e) if no_way(&e) => return Ok(Way::None),
        Err(e) => return Err(e),
    };
    let Some(RouteNetlinkMessage::NewRoute(route)) = answers.into_iter().next() else {
        return Ok(Way::None);
    };
    match route.header.kind {
        RouteType::Local => return Ok(Way::Own),
        RouteType::Unicast => {}
        _ => return Ok(Way::None),
    }
    let (mut interface, mut source, mut gateway) = (None, None, None);
    for attribute in &route.attributes {
        match attribute {
            RouteAttribute::Oif(index) => interface = Some(*index),
            RouteAttribute::PrefSource(address) => source = plain(address),
            RouteAttribute::Gateway(address) => gateway = plain(address),
            _ => {}
        }
    }
    Ok(interface.map_or(Way::None, |interface| Way::Out { interface, source, gateway }))
}

fn no_way(error: &io::Error) -> bool {
    use nix::libc::{EACCES, EHOSTUNREACH, EINVAL, ENETUNREACH};
    matches!(error.raw_os_error(), Some(ENETUNREACH | EHOSTUNREACH | EINVAL | EACCES))
}

fn plain(address: &RouteAddress) -> Option<IpAddr> {
    match address {
        RouteAddress::Inet(a) => Some((*a).into()),
        RouteAddress::Inet6(a) => Some((*a).into()),
        _ => None,
    }
}
