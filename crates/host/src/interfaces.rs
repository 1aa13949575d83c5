//! The interfaces of the network namespace, with their addresses.

use std::collections::BTreeMap;
use std::io;
use std::net::IpAddr;

use netlink_packet_route::RouteNetlinkMessage;
use netlink_packet_route::address::{AddressAttribute, AddressMessage};
use netlink_packet_route::link::{LinkAttribute, LinkFlags, LinkMessage};
use tipstaff_core::interface::Interface;

use crate::netlink::{self, Kind};

/// Lists them by index.
///
/// # Errors
/// What netlink says.
pub fn list() -> io::Result<Vec<Interface>> {
    let mut found = BTreeMap::new();
    for answer in netlink::route(RouteNetlinkMessage::GetLink(LinkMessage::default()), Kind::Dump)?
    {
        let RouteNetlinkMessage::NewLink(link) = answer else { continue };
        let mut interface = Interface {
            index: link.header.index,
            name: String::new(),
            hardware: None,
            up: link.header.flags.contains(LinkFlags::Up),
            addresses: Vec::new(),
        };
        for attribute in link.attributes {
            match attribute {
                LinkAttribute::IfName(name) => interface.name = name,
                LinkAttribute::Address(bytes) => interface.hardware = bytes.try_into().ok(),
                _ => {}
            }
        }
        found.insert(interface.index, interface);
    }
    let request = RouteNetlinkMessage::GetAddress(AddressMessage::default());
    for answer in netlink::route(request, Kind::Dump)? {
        let RouteNetlinkMessage::NewAddress(message) = answer else { continue };
        // Local is the own address where there is a peer; else there is Address alone.
        let mut own: Option<IpAddr> = None;
        for attribute in &message.attributes {
            match attribute {
                AddressAttribute::Local(address) => own = Some(*address),
                AddressAttribute::Address(address) => own = own.or(Some(*address)),
                _ => {}
            }
        }
        if let (Some(own), Some(interface)) = (own, found.get_mut(&message.header.index)) {
            interface.addresses.push((own, message.header.prefix_len));
        }
    }
    Ok(found.into_values().collect())
}
