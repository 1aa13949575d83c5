//! The archive of the demo: its orders, and a stored snapshot of it.

use std::io;
use std::net::IpAddr;

use tipstaff_core::brief::Brief;
use tipstaff_core::orders::{Attachments, Documents, OrdersHash, Origin, read};
use tipstaff_host::snapshot::Snapshot;

use crate::chosen::LoadedPolicy;
use crate::failure::{Failure, system};

/// The demo's orders, and two mistakes at their end.
pub(super) const ORDERS: &str =
    concat!(include_str!("../../../demo/orders.toml"), include_str!("../../../demo/mistakes.toml"));

pub(super) const SNAPSHOT: &str = include_str!("../../../demo/archive.json");

pub(super) fn orders() -> LoadedPolicy {
    orders_of(ORDERS.to_owned())
}

/// Somebody pauses the partner's rule by mistake.
pub(super) fn mistaken() -> LoadedPolicy {
    let rule = "name = \"plates-for-partners\"";
    orders_of(ORDERS.replace(rule, &format!("{rule}\nenabled = false")))
}

/// The port that was meant: the astronomers may turn the dome from their desks.
pub(super) fn meant() -> LoadedPolicy {
    orders_of(ORDERS.replace("tcp/7404", "tcp/7440"))
}

/// Plates and shells for the house alone.
pub(super) fn tightened() -> LoadedPolicy {
    let house = "source = \"observatory\"";
    let text = ORDERS.replace("source = \"night-staff\"", house);
    let text = text.replace("source = \"203.0.113.44\"", house);
    orders_of(text.replace("source = [\"observatory\", \"partner\"]", house))
}

fn orders_of(text: String) -> LoadedPolicy {
    let orders = read(&text).unwrap_or_else(|faults| unreachable!("a test reads them: {faults}"));
    let hash = OrdersHash::digest(Documents { text: &text, attachments: &Attachments::default() });
    let origin = Origin::File { path: "orders.toml".into(), hash };
    LoadedPolicy {
        brief: Brief::unplaced(&orders),
        orders,
        text,
        origin,
        host: None,
        posture: None,
        attachments: Attachments::default(),
        distrust: None,
    }
}

pub(super) fn stored() -> Result<Snapshot, Failure> {
    Snapshot::from_json(SNAPSHOT)
        .map_err(|e| system("reading the stored snapshot")(io::Error::other(e)))
}

pub(super) fn address(text: &str) -> Result<IpAddr, Failure> {
    text.parse().map_err(|e| system("reading an address")(io::Error::other(e)))
}

pub(super) fn archive_address(snapshot: &Snapshot, source: IpAddr) -> Result<IpAddr, Failure> {
    let all = snapshot.interfaces.iter().filter(|i| !i.is_loopback());
    let own = all.flat_map(|i| i.addresses_of(source.is_ipv6())).next();
    own.ok_or_else(|| system("finding the archive's address")(io::Error::other("it has none")))
}
