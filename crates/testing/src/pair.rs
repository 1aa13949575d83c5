//! A host and the world beside it, in namespaces of their own, with a cable between
//! them: `lan0` and `w0`.

use std::os::fd::{AsFd, OwnedFd};

use tipstaff_host::lab::{self, Mounts, Space};

use crate::ip;

/// The host's own addresses.
pub const HOST: [&str; 2] = ["198.51.100.20", "2001:db8:51::20"];
/// Those of the router beside it.
pub const BESIDE: [&str; 2] = ["198.51.100.1", "2001:db8:51::1"];

/// What a cable into a namespace is given.
pub fn end_of(space: &Space) -> OwnedFd {
    space.as_fd().try_clone_to_owned().unwrap()
}

/// A cable from one namespace to another, both ends up and with addresses of both
/// families.
pub fn cable(
    near: &Space,
    far: &Space,
    names: [&'static str; 2],
    own: [&'static str; 2],
    other: [&'static str; 2],
) {
    let end = end_of(far);
    near.run(move || lab::cable(names[0], names[1], end.as_fd()).unwrap()).unwrap();
    far.run(move || addressed(names[1], other)).unwrap();
    near.run(move || addressed(names[0], own)).unwrap();
}

fn addressed(name: &str, addresses: [&str; 2]) {
    lab::up(name).unwrap();
    for (address, prefix) in addresses.into_iter().zip([24, 64]) {
        lab::address(name, ip(address), prefix).unwrap();
    }
}

/// A host that has its way to everybody through the world beside it.
pub struct Pair {
    pub host: Space,
    pub world: Space,
}

impl Pair {
    pub fn new() -> Self {
        let (host, world) = (Space::new(Mounts::Own).unwrap(), Space::new(Mounts::Shared).unwrap());
        cable(&host, &world, ["lan0", "w0"], HOST, BESIDE);
        host.run(|| BESIDE.map(|router| lab::default_route(ip(router)).unwrap())).unwrap();
        Self { host, world }
    }
}

impl Default for Pair {
    fn default() -> Self {
        Self::new()
    }
}
