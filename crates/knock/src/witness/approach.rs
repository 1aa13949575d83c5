//! How a source would come to this host.

use std::io;
use std::net::IpAddr;

use tipstaff_core::host::interface::Interface;
use tipstaff_core::names::address::Family;
use tipstaff_host::routes::{Way, way_to};

/// Where a source would come in.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Approach {
    /// The source.
    pub source: IpAddr,
    /// Where it comes in: by the way back to it, or where it was told to.
    pub interface: Interface,
    /// The own address that it would knock on.
    pub target: IpAddr,
    /// The index of the interface that the way back leads out of.
    pub back: u32,
}

/// Finds the own address that `source` would knock on, and the interface: that
/// of the way back, or the one called `via`.
///
/// # Errors
/// [`WitnessFault`].
pub fn approach(
    source: IpAddr,
    via: Option<&str>,
    interfaces: &[Interface],
) -> Result<Approach, WitnessFault> {
    let (back, preferred) = match way_to(source)? {
        Way::Own => return Err(WitnessFault::Own(source)),
        Way::None => return Err(WitnessFault::NoWayBack(source)),
        Way::Out { interface, source, .. } => (interface, source),
    };
    let interface = match via {
        Some(name) => interfaces
            .iter()
            .find(|i| i.name == name)
            .ok_or_else(|| WitnessFault::NoInterface(name.to_owned()))?,
        None => {
            interfaces.iter().find(|i| i.index == back).ok_or(WitnessFault::NoWayBack(source))?
        }
    };
    let preferred = preferred.filter(|_| via.is_none());
    let own = interface.addresses_of(source.is_ipv6()).next().or(preferred);
    let target = own.ok_or_else(|| WitnessFault::NoTarget {
        interface: interface.name.clone(),
        family: Family::of_address(source),
    })?;
    Ok(Approach { source, interface: interface.clone(), target, back })
}

/// Why an address cannot be played.
#[derive(Debug, thiserror::Error)]
pub enum WitnessFault {
    /// It is an address of this host.
    #[error("{0} is an address of this host itself; the vantage `here` checks from there")]
    Own(IpAddr),
    /// No route.
    #[error("there is no return route to {0}, so nobody with that address can reach this host")]
    NoWayBack(IpAddr),
    /// The next hop is not there.
    #[error("no answer to {address} would leave {interface}: its next hop does not respond")]
    NoNextHop {
        /// The address.
        address: IpAddr,
        /// The interface of the way back.
        interface: String,
    },
    /// The interface cannot take frames.
    #[error("{0} is not an Ethernet interface, so nothing can be probed there")]
    NoFrames(String),
    /// No such interface.
    #[error("no interface `{0}` on this host")]
    NoInterface(String),
    /// The interface has no address of that family.
    #[error("{interface} has no {family} address to probe")]
    NoTarget {
        /// The interface of the way back.
        interface: String,
        /// The family of the source.
        family: Family,
    },
    /// The kernel is one before 6.6.
    #[error("this kernel has no links at interfaces (they came with 6.6), which the witness needs")]
    NoLinks,
    /// bpf(2) or something else of the system failed.
    #[error("the witness cannot run: {0}")]
    System(#[from] io::Error),
}

/// Why a program could not be attached to an interface.
pub(super) fn attaching(error: io::Error) -> WitnessFault {
    match error.kind() {
        io::ErrorKind::InvalidInput => WitnessFault::NoLinks,
        _ => error.into(),
    }
}

pub(super) fn system(error: impl std::error::Error + Send + Sync + 'static) -> WitnessFault {
    WitnessFault::System(io::Error::other(error))
}
