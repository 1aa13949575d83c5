//! A count belongs to what a rule means: it goes on over a post while the rule has its
//! name and means the same, and begins anew where it means something else. Needs root.

#![allow(clippy::unwrap_used)]

use tipstaff_core::brief::RuleIndex;
use tipstaff_core::decision::Speaker;
use tipstaff_core::packet::Direction;
use tipstaff_gate::Gate;
use tipstaff_gate::kernel::KernelGate;
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
