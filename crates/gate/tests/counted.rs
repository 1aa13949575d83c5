//! A count belongs to what a rule means: it goes on over a post while the rule has its
//! name and means the same, and begins anew where it means something else. Needs root.

#![allow(clippy::unwrap_used)]

use std::os::fd::AsFd;

use tipstaff_bpf::sys::{self, MapKind};
use tipstaff_core::brief::RuleIndex;
use tipstaff_core::decision::Speaker;
use tipstaff_core::packet::{Direction, InterfaceIndex};
use tipstaff_gate::Gate;
use tipstaff_gate::kernel::KernelGate;
use tipstaff_testing::can_test;
use tipstaff_testing::patience::in_time;
use tipstaff_testing::scene::{OWN, STRANGER, Scene, inside_with_wire, orders, post};
use tipstaff_testing::wire;

const SHELL: &str = "[[rules]]\nname = \"shell\"\naction = \"allow\"\ntraffic = \"ssh\"\n";

fn knock(scene: &Scene, port: u16) {
    let syn = wire::tcp((STRANGER[0], 40_000), (OWN[0], port), 0x02, (1, 0));
    scene.wire.send(&scene.to_us(STRANGER[0], OWN[0], 6, &syn));
}

fn counted(gate: &KernelGate, speaker: Speaker) -> u64 {
    let all = gate.tallies().unwrap();
    all.iter().find(|(s, _)| *s == speaker).map_or(0, |(_, tally)| tally.packets)
}

#[test]
fn a_count_goes_on_while_its_rule_means_the_same() {
    inside_with_wire(|scene| {
        let mut gate = KernelGate::new(&scene.run_dir).unwrap();
        let all = scene.interfaces();
        let rule = |at| Speaker::Rule(RuleIndex(at));
        let standing = Speaker::Standing(Direction::Inbound);
        let since = |gate: &KernelGate, speaker| {
            let all = gate.counted_since().unwrap();
            all.into_iter().find(|(s, _)| *s == speaker).and_then(|(_, since)| since)
        };
        post(&mut gate, &orders(SHELL), &all).unwrap();
        (0..3).for_each(|_| knock(&scene, 22));
        knock(&scene, 80);
        assert!(in_time(|| counted(&gate, rule(0)) == 3 && counted(&gate, standing) == 1));
        let begun = since(&gate, rule(0)).unwrap();
        assert_eq!(since(&gate, standing), Some(begun));

        // In another place and written otherwise, it means the same.
        let web = SHELL.replace("shell", "web").replace("ssh", "tcp/443");
        let moved = format!("{web}{}note = \"n\"\n", SHELL.replace("ssh", "tcp/22"));
        post(&mut gate, &orders(&moved), &all).unwrap();
        assert_eq!((counted(&gate, rule(0)), counted(&gate, rule(1))), (0, 3));
        assert_eq!(since(&gate, rule(1)), Some(begun));
        // A paused rule counts nothing, and goes on from where it stood.
        let paused = format!("{web}{SHELL}enabled = false\n");
        post(&mut gate, &orders(&paused), &all).unwrap();
        post(&mut gate, &orders(&moved), &all).unwrap();
        assert_eq!(counted(&gate, rule(1)), 3);

        // Another meaning begins anew, under the same name too.
        let other = format!("{web}{SHELL}source = \"192.0.2.0/24\"\n");
        post(&mut gate, &orders(&other), &all).unwrap();
        assert_eq!((counted(&gate, rule(1)), counted(&gate, standing)), (0, 1));
        assert!(since(&gate, rule(1)) >= Some(begun));
        // So does a standing answer.
        let refuse = orders(SHELL).replace("inbound = \"deny\"", "inbound = \"refuse\"");
        post(&mut gate, &refuse, &all).unwrap();
        assert_eq!(counted(&gate, standing), 0);
        gate.withdraw().unwrap();
    });
}

/// Who reads the records must be able to say exactly how many it did not see, also over a
/// post.
#[test]
fn records_that_nobody_read_stay_counted_over_a_post() {
    inside_with_wire(|scene| {
        let mut gate = KernelGate::new(&scene.run_dir).unwrap();
        let all = scene.interfaces();
        post(&mut gate, &orders(&format!("{SHELL}log = true\n")), &all).unwrap();
        let lan = all.iter().find(|i| i.hardware.is_some() && !i.is_loopback()).unwrap();
        let syn = wire::tcp((STRANGER[0], 40_000), (OWN[0], 22), 0x02, (1, 0));
        let frame = scene.to_us(STRANGER[0], OWN[0], 6, &syn);
        let room = tipstaff_gate::kernel::RING_BYTES as usize / 88;
        for _ in 0..room + 100 {
            gate.play(InterfaceIndex(lan.index), &frame).unwrap();
        }
        let before = gate.unrecorded().unwrap();
        assert!(before.lost >= 100, "{before:?}");
        post(&mut gate, &orders(SHELL), &all).unwrap();
        assert_eq!(gate.unrecorded().unwrap(), before);
        gate.withdraw().unwrap();
    });
}

/// A connection is counted where it begins: with the first packet of an exchange that is let
/// in, not with all of them, and not where it is denied.
#[test]
fn connections_are_counted_where_they_begin() {
    inside_with_wire(|scene| {
        let mut gate = KernelGate::new(&scene.run_dir).unwrap();
        let all = scene.interfaces();
        let sky = "[[rules]]\nname = \"sky\"\naction = \"allow\"\ntraffic = [\"udp/7420\", \"icmp/echo\"]\n";
        post(&mut gate, &orders(&format!("{SHELL}{sky}")), &all).unwrap();
        let of = |speaker| {
            let all = KernelGate::new(&scene.run_dir).unwrap().tallies().unwrap();
            let tally = all.iter().find(|(s, _)| *s == speaker).map(|(_, tally)| *tally);
            tally.map_or((0, 0), |tally| (tally.packets, tally.connections))
        };
        let (shell, sky) = (Speaker::Rule(RuleIndex(0)), Speaker::Rule(RuleIndex(1)));
        knock(&scene, 22);
        knock(&scene, 80);
        let send = |from: u16| {
            let datagram = wire::udp((STRANGER[0], from), (OWN[0], 7_420), b"sky");
            scene.wire.send(&scene.to_us(STRANGER[0], OWN[0], 17, &datagram));
        };
        (0..3).for_each(|_| send(9));
        send(10);
        for id in [1, 1, 2] {
            let ping = wire::ping(STRANGER[0], OWN[0], id);
            scene.wire.send(&scene.to_us(STRANGER[0], OWN[0], 1, &ping));
        }
        assert!(in_time(|| of(sky).0 == 7), "{:?}", of(sky));
        assert_eq!((of(shell), of(sky)), ((1, 1), (7, 4)));
        let standing = Speaker::Standing(Direction::Inbound);
        assert_eq!(of(standing), (1, 0), "what is denied is no connection");
        // It goes on over a post.
        post(&mut gate, &orders(SHELL), &all).unwrap();
        let tallies = gate.tallies().unwrap();
        let shell = tallies.iter().find(|(s, _)| *s == shell).unwrap().1;
        assert_eq!((shell.packets, shell.connections), (1, 1));
        gate.withdraw().unwrap();
    });
}

/// Counters are read many at once: all of them, whatever their number.
#[test]
fn every_value_of_an_array_is_read() {
    if !can_test("the counters' map was") {
        return;
    }
    for entries in [1u32, 1_023, 1_024, 1_025, 2_048, 3_000] {
        let map = sys::map_create(MapKind::Array, "ts_test", 4, 8, entries).unwrap();
        for index in 0..entries {
            let value = u64::from(index * 3).to_ne_bytes();
            sys::map_update(map.as_fd(), &index.to_ne_bytes(), &value).unwrap();
        }
        let mut met = Vec::new();
        sys::array_values(map.as_fd(), |index, value| {
            assert_eq!(value, u64::from(index * 3).to_ne_bytes());
            met.push(index);
        })
        .unwrap();
        assert!(met.into_iter().eq(0..entries), "{entries}");
    }
}
