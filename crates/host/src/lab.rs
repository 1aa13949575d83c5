//! Network namespaces made for a demonstration or a test: each lives in a
//! thread, has no name unless asked for, and is gone with the process.

use std::fs::{self, File};
use std::net::IpAddr;
use std::os::fd::{AsFd, AsRawFd, BorrowedFd};
use std::os::unix::fs::MetadataExt;
use std::path::Path;
use std::sync::mpsc;
use std::{io, thread};

use netlink_packet_core::{NLM_F_CREATE, NLM_F_EXCL};
use netlink_packet_route::address::{AddressAttribute, AddressHeaderFlags, AddressMessage};
use netlink_packet_route::link::{
    BondMode, InfoBond, InfoBridge, InfoData, InfoIpVlan, InfoKind, InfoMacVlan, InfoVeth,
    InfoVlan, InfoVrf, IpVlanMode, LinkAttribute, LinkFlags, LinkInfo, LinkMessage, LinkXdp,
    MacVlanMode,
};
use netlink_packet_route::neighbour::{
    NeighbourAddress, NeighbourAttribute, NeighbourMessage, NeighbourState,
};
use netlink_packet_route::route::{
    RouteAttribute, RouteHeader, RouteMessage, RouteProtocol, RouteScope, RouteType,
};
use netlink_packet_route::{AddressFamily, RouteNetlinkMessage};
use nix::mount::{MsFlags, mount};
use nix::sched::{CloneFlags, unshare};
use nix::unistd::Pid;

use crate::netlink::{self, Kind};
use crate::team;

type Job = Box<dyn FnOnce() + Send>;

/// A network namespace of its own, held by a thread.
pub struct Space {
    jobs: mpsc::Sender<Job>,
    namespace: File,
}

/// Whether a [`Space`] also gets a mount namespace of its own, so that what is
/// mounted in it is gone with it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Mounts {
    /// Shared with the process.
    Shared,
    /// Its own.
    Own,
}

impl Space {
    /// Makes a namespace. Needs CAP_SYS_ADMIN, in a user namespace of one's own if need be.
    ///
    /// # Errors
    /// What unshare(2) says.
    pub fn new(mounts: Mounts) -> io::Result<Self> {
        let (jobs, todo) = mpsc::channel::<Job>();
        let (ready, made) = mpsc::channel::<io::Result<File>>();
        thread::spawn(move || {
            let namespace = enter_new(mounts);
            let sound = namespace.is_ok();
            let _ = ready.send(namespace);
            if sound {
                todo.into_iter().for_each(|job| job());
            }
        });
        let namespace = made.recv().map_err(io::Error::other)??;
        let space = Self { jobs, namespace };
        space.run(|| up("lo"))??;
        Ok(space)
    }

    /// Runs something inside, on the thread of the namespace, and waits for it.
    /// What it spawns is inside too.
    ///
    /// # Errors
    /// When the thread is gone.
    pub fn run<R: Send + 'static>(
        &self,
        work: impl FnOnce() -> R + Send + 'static,
    ) -> io::Result<R> {
        let (send, receive) = mpsc::channel();
        let job: Job = Box::new(move || drop(send.send(work())));
        self.jobs.send(job).map_err(|_| io::Error::other("the namespace's thread is gone"))?;
        receive.recv().map_err(|_| io::Error::other("the namespace's thread has failed"))
    }

    /// The processes inside; not whoever made it.
    pub fn processes(&self) -> Vec<Pid> {
        fn number(file: &File) -> Option<u64> {
            file.metadata().ok().map(|found| found.ino())
        }
        let own = number(&self.namespace);
        let all = fs::read_dir("/proc").into_iter().flatten().flatten();
        all.filter(|entry| {
            let space = File::open(entry.path().join("ns/net"));
            own.is_some() && space.ok().as_ref().and_then(number) == own
        })
        .filter_map(|entry| entry.file_name().to_str()?.parse().ok().map(Pid::from_raw))
        .collect()
    }

    /// Gives what runs inside a /run of its own, gone with it. The space must
    /// have its own mounts.
    ///
    /// # Errors
    /// What mount(2) says.
    pub fn own_run_folder(&self) -> io::Result<()> {
        self.run(|| {
            mount(Some("ts-lab"), "/run", Some("tmpfs"), MsFlags::empty(), Some("mode=0755"))
        })??;
        Ok(())
    }

    /// Gives it a name below /run/netns, visible to what runs inside.
    ///
    /// # Errors
    /// What mount(2) says.
    pub fn name(&self, name: &str) -> io::Result<()> {
        let path = Path::new("/run/netns").join(name);
        self.run(move || {
            fs::create_dir_all("/run/netns")?;
            // A tmpfs of its own, so that nothing is left in the real folder.
            mount(
                Some("ts-lab"),
                "/run/netns",
                Some("tmpfs"),
                MsFlags::empty(),
                Some("mode=0755"),
            )?;
            File::create(&path)?;
            let own = Some("/proc/thread-self/ns/net");
            mount(own, &path, None::<&str>, MsFlags::MS_BIND, None::<&str>)?;
            Ok(())
        })?
    }
}

impl AsFd for Space {
    fn as_fd(&self) -> BorrowedFd<'_> {
        self.namespace.as_fd()
    }
}

fn enter_new(mounts: Mounts) -> io::Result<File> {
    unshare(CloneFlags::CLONE_NEWNET)?;
    if mounts == Mounts::Own {
        unshare(CloneFlags::CLONE_NEWNS)?;
        let private = MsFlags::MS_REC | MsFlags::MS_PRIVATE;
        mount(None::<&str>, "/", None::<&str>, private, None::<&str>)?;
    }
    // Duplicate detection would keep IPv6 silent for a second; nobody else is on these links.
    for which in ["all", "default"] {
        let _ = fs::write(format!("/proc/sys/net/ipv6/conf/{which}/accept_dad"), "0");
    }
    File::open("/proc/thread-self/ns/net")
}

/// Makes a pair of connected interfaces, one here, one in another namespace.
///
/// # Errors
/// What netlink says.
pub fn cable(here: &str, there: &str, other: BorrowedFd<'_>) -> io::Result<()> {
    cable_numbered(here, 0, there, other)
}

/// As [`cable`], with a number of one's choice for the interface here.
///
/// # Errors
/// What netlink says.
pub fn cable_numbered(
    here: &str,
    number: u32,
    there: &str,
    other: BorrowedFd<'_>,
) -> io::Result<()> {
    let mut peer = LinkMessage::default();
    peer.attributes.push(LinkAttribute::IfName(there.to_owned()));
    peer.attributes.push(LinkAttribute::NetNsFd(other.as_raw_fd()));
    let mut link = LinkMessage::default();
    link.header.index = number;
    link.attributes.push(LinkAttribute::IfName(here.to_owned()));
    link.attributes.push(LinkAttribute::LinkInfo(vec![
        LinkInfo::Kind(InfoKind::Veth),
        LinkInfo::Data(InfoData::Veth(InfoVeth::Peer(peer))),
    ]));
    make(RouteNetlinkMessage::NewLink(link))
}

/// Makes the interface of a VLAN (IEEE 802.1Q) on another one.
///
/// # Errors
/// What netlink says.
pub fn vlan(name: &str, parent: &str, id: u16) -> io::Result<()> {
    let mut link = LinkMessage::default();
    link.attributes.push(LinkAttribute::IfName(name.to_owned()));
    link.attributes.push(LinkAttribute::Link(index(parent)?));
    link.attributes.push(LinkAttribute::LinkInfo(vec![
        LinkInfo::Kind(InfoKind::Vlan),
        LinkInfo::Data(InfoData::Vlan(vec![InfoVlan::Id(id)])),
    ]));
    make(RouteNetlinkMessage::NewLink(link))
}

/// Makes a bridge (IEEE 802.1D) without ports, which forwards at once.
///
/// # Errors
/// What netlink says.
pub fn bridge(name: &str) -> io::Result<()> {
    let mut link = LinkMessage::default();
    link.attributes.push(LinkAttribute::IfName(name.to_owned()));
    link.attributes.push(LinkAttribute::LinkInfo(vec![
        LinkInfo::Kind(InfoKind::Bridge),
        LinkInfo::Data(InfoData::Bridge(vec![InfoBridge::ForwardDelay(0)])),
    ]));
    make(RouteNetlinkMessage::NewLink(link))
}

/// Makes a bond without ports, which takes them in turn.
///
/// # Errors
/// What netlink says.
pub fn bond(name: &str) -> io::Result<()> {
    let mode = InfoBond::Mode(BondMode::BalanceRr);
    made_of(name, vec![LinkInfo::Kind(InfoKind::Bond), LinkInfo::Data(InfoData::Bond(vec![mode]))])
}

/// Makes a team without ports, which takes them in turn.
///
/// # Errors
/// What netlink says.
pub fn team(name: &str) -> io::Result<()> {
    made_of(name, vec![LinkInfo::Kind(InfoKind::Team)])?;
    team::take_ports_in_turn(index(name)?)
}

/// Makes a VRF with a routing table of its own.
///
/// # Errors
/// What netlink says.
pub fn vrf(name: &str, table: u32) -> io::Result<()> {
    let table = InfoVrf::TableId(table);
    made_of(name, vec![LinkInfo::Kind(InfoKind::Vrf), LinkInfo::Data(InfoData::Vrf(vec![table]))])
}

fn made_of(name: &str, infos: Vec<LinkInfo>) -> io::Result<()> {
    let mut link = LinkMessage::default();
    link.attributes.push(LinkAttribute::IfName(name.to_owned()));
    link.attributes.push(LinkAttribute::LinkInfo(infos));
    make(RouteNetlinkMessage::NewLink(link))
}

/// Makes an interface on another one that has its hardware address, and IP
/// addresses of its own, here or in another namespace.
///
/// # Errors
/// What netlink says.
pub fn ipvlan(name: &str, parent: &str, other: Option<BorrowedFd<'_>>) -> io::Result<()> {
    let mut link = LinkMessage::default();
    link.attributes.push(LinkAttribute::IfName(name.to_owned()));
    link.attributes.push(LinkAttribute::Link(index(parent)?));
    link.attributes.extend(other.map(|other| LinkAttribute::NetNsFd(other.as_raw_fd())));
    link.attributes.push(LinkAttribute::LinkInfo(vec![
        LinkInfo::Kind(InfoKind::IpVlan),
        LinkInfo::Data(InfoData::IpVlan(vec![InfoIpVlan::Mode(IpVlanMode::L2)])),
    ]));
    make(RouteNetlinkMessage::NewLink(link))
}

/// Makes an interface a port of a bridge or another master; of none with `None`.
///
/// # Errors
/// What netlink says.
pub fn enslave(name: &str, master: Option<&str>) -> io::Result<()> {
    let mut link = LinkMessage::default();
    link.header.index = index(name)?;
    let master = master.map(index).transpose()?.unwrap_or(0);
    link.attributes.push(LinkAttribute::Controller(master));
    netlink::route(RouteNetlinkMessage::SetLink(link), Kind::Do(0)).map(drop)
}

/// Makes an interface with a hardware address of its own on another one, here
/// or in another namespace.
///
/// # Errors
/// What netlink says.
pub fn macvlan(name: &str, parent: &str, other: Option<BorrowedFd<'_>>) -> io::Result<()> {
    macvlan_of(name, parent, other, MacVlanMode::Bridge)
}

/// Makes an interface that takes all that another one receives, and has its
/// hardware address.
///
/// # Errors
/// What netlink says.
pub fn passthrough(name: &str, parent: &str) -> io::Result<()> {
    macvlan_of(name, parent, None, MacVlanMode::Passthrough)
}

fn macvlan_of(
    name: &str,
    parent: &str,
    other: Option<BorrowedFd<'_>>,
    mode: MacVlanMode,
) -> io::Result<()> {
    let mut link = LinkMessage::default();
    link.attributes.push(LinkAttribute::IfName(name.to_owned()));
    link.attributes.push(LinkAttribute::Link(index(parent)?));
    link.attributes.extend(other.map(|other| LinkAttribute::NetNsFd(other.as_raw_fd())));
    link.attributes.push(LinkAttribute::LinkInfo(vec![
        LinkInfo::Kind(InfoKind::MacVlan),
        LinkInfo::Data(InfoData::MacVlan(vec![InfoMacVlan::Mode(mode)])),
    ]));
    make(RouteNetlinkMessage::NewLink(link))
}

/// Says which hardware address a neighbour has, so that nobody asks.
///
/// # Errors
/// What netlink says.
pub fn neighbour(name: &str, address: IpAddr, hardware: [u8; 6]) -> io::Result<()> {
    let mut message = NeighbourMessage::default();
    message.header.family = family(address);
    message.header.ifindex = index(name)?;
    message.header.state = NeighbourState::Permanent;
    let destination = match address {
        IpAddr::V4(a) => NeighbourAddress::Inet(a),
        IpAddr::V6(a) => NeighbourAddress::Inet6(a),
    };
    message.attributes.push(NeighbourAttribute::Destination(destination));
    message.attributes.push(NeighbourAttribute::LinkLayerAddress(hardware.to_vec()));
    make(RouteNetlinkMessage::NewNeighbour(message))
}

/// Removes an interface, and with it the other end of its cable.
///
/// # Errors
/// What netlink says.
pub fn unplug(name: &str) -> io::Result<()> {
    let mut link = LinkMessage::default();
    link.header.index = index(name)?;
    netlink::route(RouteNetlinkMessage::DelLink(link), Kind::Do(0)).map(drop)
}

fn make(message: RouteNetlinkMessage) -> io::Result<()> {
    netlink::route(message, Kind::Do(NLM_F_CREATE | NLM_F_EXCL)).map(drop)
}

fn index(name: &str) -> io::Result<u32> {
    nix::net::if_::if_nametoindex(name).map_err(io::Error::from)
}

/// Switches an interface on.
///
/// # Errors
/// What netlink says.
pub fn up(name: &str) -> io::Result<()> {
    switched(name, LinkFlags::Up)
}

/// Puts an XDP program at an interface, the kernel's generic way.
///
/// # Errors
/// What netlink says.
pub fn xdp(name: &str, program: BorrowedFd<'_>) -> io::Result<()> {
    /// `XDP_FLAGS_SKB_MODE` of `linux/if_link.h`.
    const GENERIC: u32 = 1 << 1;
    let mut link = LinkMessage::default();
    link.header.index = index(name)?;
    let parts = vec![LinkXdp::Fd(program.as_raw_fd()), LinkXdp::Flags(GENERIC)];
    link.attributes = vec![LinkAttribute::Xdp(parts)];
    netlink::route(RouteNetlinkMessage::SetLink(link), Kind::Do(0)).map(drop)
}

/// Switches an interface off: its routes go.
///
/// # Errors
/// What netlink says.
pub fn down(name: &str) -> io::Result<()> {
    switched(name, LinkFlags::empty())
}

fn switched(name: &str, flags: LinkFlags) -> io::Result<()> {
    let mut link = LinkMessage::default();
    link.header.index = index(name)?;
    link.header.flags = flags;
    link.header.change_mask = LinkFlags::Up;
    netlink::route(RouteNetlinkMessage::SetLink(link), Kind::Do(0)).map(drop)
}

/// Gives an interface an address, without waiting for duplicate detection.
///
/// # Errors
/// What netlink says.
pub fn address(name: &str, address: IpAddr, prefix: u8) -> io::Result<()> {
    make(RouteNetlinkMessage::NewAddress(address_message(name, address, prefix)?))
}

/// Takes an address from an interface.
///
/// # Errors
/// What netlink says.
pub fn without_address(name: &str, address: IpAddr, prefix: u8) -> io::Result<()> {
    let message = RouteNetlinkMessage::DelAddress(address_message(name, address, prefix)?);
    netlink::route(message, Kind::Do(0)).map(drop)
}

fn address_message(name: &str, address: IpAddr, prefix: u8) -> io::Result<AddressMessage> {
    let mut message = AddressMessage::default();
    message.header.family = family(address);
    message.header.prefix_len = prefix;
    message.header.index = index(name)?;
    message.header.flags = AddressHeaderFlags::Nodad;
    message.attributes.push(AddressAttribute::Local(address));
    message.attributes.push(AddressAttribute::Address(address));
    Ok(message)
}

/// Sends everything that has no other way to a router.
///
/// # Errors
/// What netlink says.
pub fn default_route(gateway: IpAddr) -> io::Result<()> {
    let mut message = RouteMessage::default();
    message.header = RouteHeader {
        address_family: family(gateway),
        table: RouteHeader::RT_TABLE_MAIN,
        protocol: RouteProtocol::Static,
        scope: RouteScope::Universe,
        kind: RouteType::Unicast,
        ..RouteHeader::default()
    };
    message.attributes.push(RouteAttribute::Gateway(gateway.into()));
    make(RouteNetlinkMessage::NewRoute(message))
}

fn family(address: IpAddr) -> AddressFamily {
    if address.is_ipv4() { AddressFamily::Inet } else { AddressFamily::Inet6 }
}
