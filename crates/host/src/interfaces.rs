//! The interfaces of the network namespace, with their addresses.

use std::collections::BTreeMap;
use std::io;
use std::net::IpAddr;
use std::os::fd::{AsFd, BorrowedFd};

use netlink_packet_route::RouteNetlinkMessage;
use netlink_packet_route::address::{AddressAttribute, AddressMessage};
use netlink_packet_route::link::{
    InfoData, InfoKind, InfoMacVlan, InfoPortKind, LinkAttribute, LinkFlags, LinkInfo, LinkMessage,
    LinkXdp, MacVlanMode,
};
use netlink_sys::{Socket, protocols};
use tipstaff_core::host::interface::Interface;

use crate::filters;
use crate::netlink::{self, Kind};

/// Lists them by index.
///
/// # Errors
/// What netlink says.
pub fn list() -> io::Result<Vec<Interface>> {
    let _doing = tracing::info_span!("reading the interfaces").entered();
    let mut found = BTreeMap::new();
    for answer in netlink::route(RouteNetlinkMessage::GetLink(LinkMessage::default()), Kind::Dump)?
    {
        let RouteNetlinkMessage::NewLink(link) = answer else { continue };
        let up = link.header.flags.contains(LinkFlags::Up);
        let mut interface = Interface { up, ..Interface::named(link.header.index, "") };
        for attribute in link.attributes {
            match attribute {
                LinkAttribute::IfName(name) => interface.name = name,
                LinkAttribute::Address(bytes) => interface.hardware = bytes.try_into().ok(),
                LinkAttribute::LinkInfo(infos) => {
                    interface.port = infos.iter().any(is_port);
                    interface.on_parent = infos.iter().any(is_on_parent);
                    interface.kind = infos.iter().find_map(|info| match info {
                        LinkInfo::Kind(kind) => Some(kind.to_string()),
                        _ => None,
                    });
                }
                _ => {}
            }
        }
        found.insert(interface.index, interface);
    }
    for index in filters::others_at_ingress()? {
        if let Some(interface) = found.get_mut(&index) {
            interface.ingress_filter = true;
        }
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

/// The XDP programs of the namespace, which see what arrives before the stack does: the index
/// of the interface, and the kernel's number of the program.
///
/// # Errors
/// What netlink says.
pub fn xdp_programs() -> io::Result<Vec<(u32, u32)>> {
    let all = netlink::route(RouteNetlinkMessage::GetLink(LinkMessage::default()), Kind::Dump)?;
    let mut found = Vec::new();
    for answer in all {
        let RouteNetlinkMessage::NewLink(link) = answer else { continue };
        for attribute in link.attributes {
            let LinkAttribute::Xdp(parts) = attribute else { continue };
            // Of each way that one is attached by; an interface may have two.
            found.extend(parts.iter().filter_map(|part| match part {
                LinkXdp::DrvProgId(id) | LinkXdp::SkbProgId(id) | LinkXdp::HwProgId(id) => {
                    Some((link.header.index, *id))
                }
                _ => None,
            }));
        }
    }
    Ok(found)
}

/// Whether an interface is a port of a master that takes whatever it receives,
/// and hands what is for this host to the stack as its own.
fn is_port(info: &LinkInfo) -> bool {
    match info {
        LinkInfo::PortKind(InfoPortKind::Bond | InfoPortKind::Bridge | InfoPortKind::Team) => true,
        LinkInfo::PortKind(InfoPortKind::Other(kind)) => kind == "openvswitch",
        _ => false,
    }
}

fn is_on_parent(info: &LinkInfo) -> bool {
    let passes_through =
        |one: &InfoMacVlan| matches!(one, InfoMacVlan::Mode(MacVlanMode::Passthrough));
    match info {
        LinkInfo::Kind(kind) => matches!(kind, InfoKind::IpVlan | InfoKind::IpVtap),
        LinkInfo::Data(InfoData::MacVlan(all)) => all.iter().any(passes_through),
        _ => false,
    }
}

/// Tells when an interface of the namespace, or an address of one, appears,
/// changes or goes (groups of rtnetlink(7)).
pub struct LinkWatch {
    socket: Socket,
}

impl LinkWatch {
    /// Begins to listen.
    ///
    /// # Errors
    /// What netlink says.
    pub fn open() -> io::Result<Self> {
        /// RTNLGRP_LINK, RTNLGRP_IPV4_IFADDR, RTNLGRP_IPV6_IFADDR.
        const GROUPS: [u32; 3] = [1, 5, 9];
        let mut socket = Socket::new(protocols::NETLINK_ROUTE)?;
        socket.bind_auto()?;
        for group in GROUPS {
            socket.add_membership(group)?;
        }
        socket.set_non_blocking(true)?;
        Ok(Self { socket })
    }

    /// Takes whatever was told meanwhile.
    ///
    /// # Errors
    /// What netlink says.
    pub fn drain(&mut self) -> io::Result<()> {
        loop {
            match self.socket.recv_from_full() {
                Ok(_) => {}
                Err(e) if e.kind() == io::ErrorKind::WouldBlock => return Ok(()),
                // More was told than there was room for: something changed, and more than that
                // nobody asks.
                Err(e) if e.raw_os_error() == Some(nix::libc::ENOBUFS) => {}
                Err(e) => return Err(e),
            }
        }
    }
}

impl AsFd for LinkWatch {
    fn as_fd(&self) -> BorrowedFd<'_> {
        self.socket.as_fd()
    }
}
