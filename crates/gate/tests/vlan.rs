//! What bears the tag of a VLAN is decided on that VLAN's own interface, once, and
//! nowhere else. Needs root and a kernel that has VLANs: `lab/run KERNEL vlan`.

#![allow(clippy::unwrap_used)]

use tipstaff_core::brief::RuleIndex;
use tipstaff_core::decision::Speaker;
use tipstaff_core::packet::Direction;
use tipstaff_gate::Gate;
use tipstaff_gate::kernel::KernelGate;
use tipstaff_host::lab;
use tipstaff_testing::patience::in_time;
use tipstaff_testing::scene::{inside_with_wire, orders, post};
use tipstaff_testing::wire::{self, Header, Tag, kind_of};
use tipstaff_testing::{ip, skipped};

const SENSORS: &str = r#"[[rules]]
name = "sensors"
action = "allow"
traffic = "udp/7500"
interface = "sensors"
[[rules]]
name = "inner"
action = "allow"
traffic = "udp/7500"
interface = "inner"
[[rules]]
name = "card"
action = "allow"
traffic = "udp/7500"
interface = "ts-a"
"#;

#[test]
fn what_is_for_a_vlan_is_decided_on_it_and_once() {
    inside_with_wire(|scene| {
        if let Err(why) = lab::vlan("sensors", "ts-a", 7) {
            skipped("VLANs were", &why);
            return;
        }
        lab::vlan("inner", "sensors", 8).unwrap();
        // Own address, whom it comes from, and the tags on the way to it.
        let ways: [(&str, &str, &[Tag]); 3] = [
            ("203.0.113.20", "203.0.113.17", &[Tag(0x8100, 7)]),
            ("203.0.113.40", "203.0.113.33", &[Tag(0x8100, 7), Tag(0x8100, 8)]),
            ("198.51.100.20", "198.51.100.1", &[]),
        ];
        for (name, (own, ..)) in ["sensors", "inner"].iter().zip(ways) {
            lab::up(name).unwrap();
            lab::address(name, ip(own), 28).unwrap();
        }
        let mut gate = KernelGate::new(&scene.run_dir).unwrap();
        post(&mut gate, &orders(SENSORS), &scene.interfaces()).unwrap();
        let counted = |speaker| {
            let all = gate.tallies().unwrap();
            all.iter().find(|(s, _)| *s == speaker).map_or(0, |(_, tally)| tally.packets)
        };
        let standing = Speaker::Standing(Direction::Inbound);
        for (rule, (own, far, tags)) in (0..).zip(ways) {
            let rule = Speaker::Rule(RuleIndex(rule));
            let before = counted(standing);
            for port in [7500, 7500, 7500, 7501, 7501] {
                let udp = wire::udp((ip(far), 50_000), (ip(own), port), b"?");
                let packet = wire::ip(ip(far), ip(own), 17, &udp, &Header::default());
                let (to, from) = (scene.hardware, scene.wire.hardware);
                scene.wire.send(&wire::ethernet(to, from, tags, kind_of(ip(own)), &packet));
            }
            // Each once, allowed or not: whatever passes undecided is missing here.
            let told = || (counted(rule), counted(standing) - before);
            assert!(in_time(|| told() == (3, 2)), "{own}: {:?}", told());
        }
        gate.withdraw().unwrap();
    });
}
