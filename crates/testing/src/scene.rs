//! A namespace with one cable for tests of the kernel's gate. Needs root and a
//! kernel that carries the gate; elsewhere it says loudly that it was skipped.

use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use std::os::fd::AsFd;
use std::path::PathBuf;

use tipstaff_core::brief::{Brief, Setting};
use tipstaff_core::host::interface::Interface;
use tipstaff_core::orders::read;
use tipstaff_gate::kernel::KernelGate;
use tipstaff_gate::{Gate, GateError, Posting, Record};
use tipstaff_host::interfaces;
use tipstaff_host::lab::{self, Mounts, Space};

use crate::pair::end_of;
use crate::{can_test, wire};

/// Runs `test` inside a namespace with one cable, or says why not.
pub fn inside(test: impl FnOnce(PathBuf, Vec<Interface>) + Send + 'static) {
    scene(false, |run_dir, all, _| test(run_dir, all));
}

/// What is in the hand of a test with a wire.
pub struct Scene {
    /// The far end of the cable, `ts-b`, which has no address and answers
    /// nothing by itself.
    pub wire: wire::Wire,
    /// Its namespace.
    pub far: Space,
    pub run_dir: PathBuf,
    /// `ts-a`.
    pub index: u32,
    /// Its hardware address.
    pub hardware: [u8; 6],
}

impl Scene {
    /// A frame to `ts-a`.
    pub fn to_us(&self, from: IpAddr, to: IpAddr, protocol: u8, payload: &[u8]) -> Vec<u8> {
        let packet = wire::ip(from, to, protocol, payload, &wire::Header::default());
        self.framed(from, &packet)
    }

    /// A frame to `ts-a` around an IP packet of the family of `of`.
    pub fn framed(&self, of: IpAddr, packet: &[u8]) -> Vec<u8> {
        wire::ethernet(self.hardware, self.wire.hardware, &[], wire::kind_of(of), packet)
    }

    /// The interfaces as they are now.
    pub fn interfaces(&self) -> Vec<Interface> {
        interfaces::list().unwrap()
    }
}

/// Addresses of this host, of a router beside it, and of strangers behind that.
pub const OWN: [IpAddr; 2] = [
    IpAddr::V4(Ipv4Addr::new(198, 51, 100, 20)),
    IpAddr::V6(Ipv6Addr::new(0x2001, 0xdb8, 0x51, 0, 0, 0, 0, 0x20)),
];
pub const ROUTER: [IpAddr; 2] = [
    IpAddr::V4(Ipv4Addr::new(198, 51, 100, 1)),
    IpAddr::V6(Ipv6Addr::new(0x2001, 0xdb8, 0x51, 0, 0, 0, 0, 1)),
];
pub const STRANGER: [IpAddr; 2] = [
    IpAddr::V4(Ipv4Addr::new(192, 0, 2, 66)),
    IpAddr::V6(Ipv6Addr::new(0x2001, 0xdb8, 0xbad, 0, 0, 0, 0, 0x66)),
];

/// As [`inside`], with the far end of the cable in hand and a way to strangers
/// over it: whatever this host answers leaves it and is seen.
pub fn inside_with_wire(test: impl FnOnce(Scene) + Send + 'static) {
    scene(true, |run_dir, all, (wire, far)| {
        let cable = all.iter().find(|i| i.name == "ts-a").unwrap();
        let (index, hardware) = (cable.index, cable.hardware.unwrap());
        for router in ROUTER {
            lab::neighbour("ts-a", router, wire.hardware).unwrap();
            lab::default_route(router).unwrap();
        }
        test(Scene { wire, far, run_dir, index, hardware });
    });
}

/// A second cable, `ts-c`: its far end in hand, and the namespace that it is in.
pub fn second_cable() -> (wire::Wire, Space) {
    let space = Space::new(Mounts::Shared).unwrap();
    lab::cable("ts-c", "ts-d", space.as_fd()).unwrap();
    let far = space
        .run(|| {
            // What is played there is played by hand.
            std::fs::write("/proc/sys/net/ipv6/conf/all/disable_ipv6", "1").unwrap();
            lab::up("ts-d").unwrap();
            wire::Wire::on("ts-d")
        })
        .unwrap();
    lab::up("ts-c").unwrap();
    (far, space)
}

type Far = (wire::Wire, Space);

fn scene(up: bool, test: impl FnOnce(PathBuf, Vec<Interface>, Far) + Send + 'static) {
    if !can_test("the kernel's gate was") {
        return;
    }
    let far = Space::new(Mounts::Shared).unwrap();
    let near = Space::new(Mounts::Own).unwrap();
    let far_end = end_of(&far);
    let folder = tempfile::tempdir().unwrap();
    let run_dir = folder.path().join("run");
    near.run(move || {
        lab::cable("ts-a", "ts-b", far_end.as_fd()).unwrap();
        lab::up("ts-a").unwrap();
        lab::address("ts-a", "198.51.100.20".parse().unwrap(), 24).unwrap();
        lab::address("ts-a", "2001:db8:51::20".parse().unwrap(), 64).unwrap();
    })
    .unwrap();
    let wire = far
        .run(move || {
            // What is played there is played by hand.
            std::fs::write("/proc/sys/net/ipv6/conf/all/disable_ipv6", "1").unwrap();
            if up {
                lab::up("ts-b").unwrap();
            }
            wire::Wire::on("ts-b")
        })
        .unwrap();
    near.run(move || test(run_dir, interfaces::list().unwrap(), (wire, far)))
        .expect("the test inside the namespace failed");
}

pub fn orders(rules: &str) -> String {
    format!(
        "version = 1\n[standing]\ninbound = \"deny\"\noutbound = \"allow\"\ntransit = \"deny\"\n{rules}"
    )
}

pub fn record(text: &str) -> Record {
    Record::from_text(text)
}

pub fn post(gate: &mut KernelGate, text: &str, all: &[Interface]) -> Result<(), GateError> {
    let orders = read(text).unwrap();
    let brief = Brief::on(&orders, &Setting { interfaces: all, ..Setting::default() });
    gate.post(&Posting { brief: &brief, record: record(text) }, all).map(drop)
}

pub const ALLOW: &str = "[[rules]]\nname = \"shell\"\naction = \"allow\"\ntraffic = \"ssh\"\n";

/// A SYN to port 22.
pub fn knock(mac: [u8; 6]) -> Vec<u8> {
    let mut frame = mac.to_vec();
    frame.extend([2, 0, 0, 0, 0, 0x99, 8, 0]);
    frame.extend([0x45, 0, 0, 40, 0, 1, 0, 0, 64, 6, 0, 0, 203, 0, 113, 9, 198, 51, 100, 20]);
    frame.extend([0xee, 0x48, 0, 22, 0, 0, 0, 1, 0, 0, 0, 0, 0x50, 2, 0xff, 0xff, 0, 0, 0, 0]);
    frame
}
