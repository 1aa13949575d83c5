//! Rehearsed orders decide, count and record as they would in force, and stop nothing.
//! Needs root.

#![allow(clippy::unwrap_used)]

use std::collections::BTreeSet;
use std::ops::ControlFlow;
use std::time::Duration;

use proptest::strategy::{Strategy, ValueTree};
use tipstaff_core::arbitrary;
use tipstaff_core::brief::{Brief, RuleIndex, Setting};
use tipstaff_core::decision::foundations::Foundation;
use tipstaff_core::decision::{Speaker, decide};
use tipstaff_core::moment::Moment;
use tipstaff_core::orders::{Action, read};
use tipstaff_core::packet::{Direction, InterfaceIndex, PacketContext, parse_ethernet};
use tipstaff_gate::kernel::KernelGate;
use tipstaff_gate::{Gate, GateError, Left, Posting};
use tipstaff_testing::patience::in_time;
use tipstaff_testing::scene::{
    OWN, STRANGER, Scene, inside, inside_with_wire, orders, post, record,
};
use tipstaff_testing::{seeded, wire};

const SHELL: &str = "[[rules]]\nname = \"shell\"\naction = \"allow\"\ntraffic = \"ssh\"\n";
const INBOUND: Speaker = Speaker::Standing(Direction::Inbound);

fn rehearse(gate: &mut KernelGate, scene: &Scene, text: &str, time: Option<Duration>) {
    let all = scene.interfaces();
    let read = read(text).unwrap();
    let brief = Brief::on(&read, &Setting { interfaces: &all, ..Setting::default() });
    gate.rehearse(&Posting { brief: &brief, record: record(text) }, &all, time).unwrap();
}

fn knock(scene: &Scene, port: u16) {
    let syn = wire::tcp((STRANGER[0], 40_000), (OWN[0], port), 0x02, (1, 0));
    scene.wire.send(&scene.to_us(STRANGER[0], OWN[0], 6, &syn));
}

/// Whether this host answers a SYN to a port, open or closed.
fn answers(scene: &Scene, port: u16) -> bool {
    let from = port.to_be_bytes();
    let is_answer = |f: &Vec<u8>| f.len() > 36 && f[23] == 6 && f[34..36] == from;
    scene.wire.seen();
    knock(scene, port);
    let waited = std::time::Instant::now();
    while waited.elapsed() < Duration::from_millis(300) {
        if scene.wire.seen().iter().any(is_answer) {
            return true;
        }
        std::thread::sleep(Duration::from_millis(5));
    }
    false
}

fn rehearsed(gate: &KernelGate, speaker: Speaker) -> u64 {
    let all = gate.rehearsed_tallies().unwrap();
    all.iter().find(|(s, _)| *s == speaker).map_or(0, |(_, tally)| tally.packets)
}

/// On an open machine everything goes on as before, and the kernel ends it by itself.
#[test]
fn over_an_open_machine_nothing_is_stopped() {
    inside_with_wire(|scene| {
        let mut gate = KernelGate::new(&scene.run_dir).unwrap();
        rehearse(&mut gate, &scene, &orders(SHELL), None);
        assert!(gate.in_force().unwrap().is_none());
        assert_eq!(gate.rehearsal().unwrap().unwrap().left, Left::UntilEnded);
        assert!(answers(&scene, 22) && answers(&scene, 7_410));
        assert_eq!(
            (rehearsed(&gate, Speaker::Rule(RuleIndex(0))), rehearsed(&gate, INBOUND)),
            (1, 1)
        );
        let events = gate.events().unwrap().drain();
        let told = events.iter().find(|event| event.to == Some(7_410)).unwrap();
        assert!(told.rehearsed && told.verdict == Action::Deny && told.speaker == INBOUND);
        // An answer to what this host asks is no stranger, here too: it was remembered.
        assert!(events.iter().all(|event| event.to != Some(40_000)), "{events:?}");

        rehearse(&mut gate, &scene, &orders(""), Some(Duration::from_millis(400)));
        assert!(matches!(gate.rehearsal().unwrap().unwrap().left, Left::For(_)));
        knock(&scene, 22);
        assert!(in_time(|| rehearsed(&gate, INBOUND) == 1));
        assert!(in_time(|| gate.rehearsal().unwrap().unwrap().left == Left::Over));
        assert!(answers(&scene, 22));
        assert_eq!(rehearsed(&gate, INBOUND), 1, "it is over");
        gate.end_rehearsal().unwrap();
        assert!(gate.rehearsal().unwrap().is_none() && !scene.run_dir.exists());
        assert!(gate.end_rehearsal().is_err());
    });
}

/// Beside orders in force: what these stop stays stopped and is not told, and what they let
/// in goes on. A post ends it; what keeps the gate up to date does not.
#[test]
fn beside_orders_in_force_these_decide() {
    inside_with_wire(|scene| {
        let mut gate = KernelGate::new(&scene.run_dir).unwrap();
        let all = scene.interfaces();
        let web = SHELL.replace("shell", "web").replace("ssh", "tcp/7410");
        post(&mut gate, &orders(&format!("{SHELL}{web}")), &all).unwrap();
        rehearse(&mut gate, &scene, &orders(&web), None);
        assert!(answers(&scene, 22) && answers(&scene, 7_410) && !answers(&scene, 25));
        assert_eq!(
            (rehearsed(&gate, Speaker::Rule(RuleIndex(0))), rehearsed(&gate, INBOUND)),
            (1, 1)
        );
        let counted = gate.tallies().unwrap();
        let shell = counted.iter().find(|(s, _)| *s == Speaker::Rule(RuleIndex(0))).unwrap();
        assert_eq!(shell.1.packets, 1, "counted twice");

        let brief_of = |record: &tipstaff_gate::Record| {
            let setting = Setting { interfaces: &all, ..Setting::default() };
            Ok(Brief::on(&read(&record.orders).unwrap(), &setting))
        };
        gate.cover(&all, brief_of).unwrap().unwrap();
        assert!(gate.cover_rehearsal(&all, brief_of).unwrap());
        assert!(answers(&scene, 22));
        assert_eq!(rehearsed(&gate, INBOUND), 2, "it goes on counting");

        post(&mut gate, &orders(&web), &all).unwrap();
        assert!(gate.rehearsal().unwrap().is_none() && !answers(&scene, 22));
        // And a rehearsal that ends leaves what is in force.
        rehearse(&mut gate, &scene, &orders(""), None);
        assert_eq!(gate.end_rehearsal().unwrap(), record(&orders("")));
        assert!(answers(&scene, 7_410) && !answers(&scene, 22));
        // The panic button ends it, too; and taking all down leaves nothing.
        rehearse(&mut gate, &scene, &orders(""), None);
        gate.withdraw().unwrap();
        assert!(answers(&scene, 22) && gate.rehearsal().unwrap().is_none());
        assert!(!scene.run_dir.exists());
    });
}

/// Killed before any step: what is in force decides as before, and the next one begins.
#[test]
fn a_rehearsal_that_is_cut_off_changes_nothing() {
    inside_with_wire(|scene| {
        let all = scene.interfaces();
        let mut gate = KernelGate::new(&scene.run_dir).unwrap();
        let (held, tried) = (orders(SHELL), orders(""));
        for holds in [false, true] {
            let mut steps = BTreeSet::new();
            loop {
                if holds {
                    post(&mut gate, &held, &all).unwrap();
                }
                let known = steps.clone();
                let (mut next, all) = (None, scene.interfaces());
                let hook = move |step: &'static str| match known.contains(step) {
                    true => ControlFlow::Continue(()),
                    false => ControlFlow::Break(()),
                };
                let mut cut = KernelGate::new(&scene.run_dir).unwrap().with_hook(Box::new(hook));
                let read = read(&tried).unwrap();
                let brief = Brief::on(&read, &Setting { interfaces: &all, ..Setting::default() });
                let posting = Posting { brief: &brief, record: record(&tried) };
                match cut.rehearse(&posting, &all, None) {
                    Err(GateError::Stopped(step)) => next = Some(step),
                    done => drop(done.unwrap()),
                }
                assert_eq!(gate.in_force().unwrap().is_some(), holds, "{next:?}");
                assert!(answers(&scene, 22), "{next:?}");
                let Some(step) = next else { break };
                assert!(gate.rehearsal().unwrap().is_none(), "{step}");
                assert!(steps.insert(step));
            }
            assert!(steps.len() > 8 && gate.rehearsal().unwrap().is_some(), "{steps:?}");
            gate.withdraw().unwrap();
            assert!(!scene.run_dir.exists());
        }
    });
}

/// How many packets were rehearsed.
fn all_rehearsed(gate: &KernelGate) -> u64 {
    gate.rehearsed_tallies().unwrap().iter().map(|(_, tally)| tally.packets).sum()
}

/// Random lists: what is in force decides as if it were alone, and what is rehearsed says
/// what the reference says, of each packet that passes.
#[test]
fn both_lists_decide_as_the_reference_does() {
    inside(|run_dir, all| {
        let cable = all.iter().find(|i| i.name == "ts-a").unwrap();
        let (index, mac) = (InterfaceIndex(cable.index), cable.hardware.unwrap());
        let mut gate = KernelGate::new(&run_dir).unwrap();
        let mut runner = seeded();
        let now = Moment(std::time::UNIX_EPOCH.elapsed().unwrap().as_secs() as u32);
        let (mut both, mut stopped, mut compared) = (0, 0, 0);
        for case in 0..24 {
            let [held, tried] = [0, 1].map(|n| {
                let most = [3, 20, 65][(case + n) % 3];
                let mut brief = arbitrary::brief(most).new_tree(&mut runner).unwrap().current();
                for rule in &mut brief.rules {
                    let rule = std::sync::Arc::make_mut(rule);
                    (rule.until, rule.at_most) = (None, None);
                }
                brief.interfaces = vec![(index, "ts-a".into())];
                brief
            });
            gate.post(&Posting { brief: &held, record: record("") }, &all).unwrap();
            gate.rehearse(&Posting { brief: &tried, record: record("") }, &all, None).unwrap();
            for _ in 0..150 {
                let frame = arbitrary::frame(mac).new_tree(&mut runner).unwrap().current();
                if frame.len() < 14 + if frame[12..14] == [0x86, 0xdd] { 40 } else { 20 } {
                    continue;
                }
                let facts = PacketContext {
                    interface: index,
                    direction: Direction::Inbound,
                    program: Default::default(),
                    is_reply: false,
                    now,
                    packet: parse_ethernet(&frame),
                };
                let asked = gate.ask_rehearsal(index, Direction::Inbound, &frame).unwrap();
                // What hangs on what went before, the reference is not told here.
                let reference = decide(&tried, &facts);
                let remembers = [Foundation::Replies, Foundation::LaterFragments]
                    .map(Speaker::Foundation)
                    .contains(&asked.speaker);
                assert!(remembers || asked == reference, "{asked:?} {reference:?} {facts:?}");
                compared += usize::from(!remembers);
                // This host's own discovery of its neighbours may be counted beside it, but not
                // each time.
                let passed = (0..5).find_map(|_| {
                    let alone = gate.ask(index, &frame).unwrap();
                    let before = all_rehearsed(&gate);
                    let (decision, answer) = gate.play(index, &frame).unwrap();
                    assert_eq!(decision, alone, "{facts:?}");
                    assert!(answer.is_empty() || decision.verdict == Action::Refuse);
                    let passed =
                        decision.verdict == Action::Allow && decision.speaker != Speaker::Nobody;
                    (all_rehearsed(&gate) - before == u64::from(passed)).then_some(passed)
                });
                let passed = passed.unwrap_or_else(|| panic!("{facts:?}"));
                both += usize::from(passed);
                stopped += usize::from(!passed);
            }
        }
        eprintln!("{both} were rehearsed, {stopped} were stopped before");
        assert!(both > 300 && stopped > 300 && compared > 2_000, "{both} {stopped} {compared}");
        gate.withdraw().unwrap();
    });
}
