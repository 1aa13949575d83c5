//! Orders that hold for a time: the kernel keeps the deadline.

#![allow(clippy::unwrap_used)]

use std::time::{Duration, Instant};

use tipstaff_core::brief::Brief;
use tipstaff_core::decision::Speaker;
use tipstaff_core::moment::Moment;
use tipstaff_core::orders::{Action, read};
use tipstaff_core::packet::{Direction, InterfaceIndex};
use tipstaff_gate::kernel::KernelGate;
use tipstaff_gate::{Gate, GateError, Posting};
use tipstaff_testing::scene::{ALLOW, inside, knock, orders, post, record};

/// Long enough to look, and short enough to wait for.
const SOON: Duration = Duration::from_millis(200);
const LATER: Duration = Duration::from_secs(3_600);

fn try_out(gate: &mut KernelGate, text: &str, time: Duration) -> Result<(), GateError> {
    let all = tipstaff_host::interfaces::list().unwrap();
    let brief = Brief::unplaced(&read(text).unwrap());
    gate.try_out(&Posting { brief: &brief, record: record(text) }, &all, time).map(drop)
}

fn text_in_force(gate: &KernelGate) -> Option<String> {
    gate.in_force().unwrap().map(|in_force| in_force.record.orders)
}

/// Waits until nothing is pending any more.
fn over(gate: &KernelGate) {
    let begin = Instant::now();
    while gate.pending().unwrap().is_some() {
        assert!(begin.elapsed() < Duration::from_secs(5));
        std::thread::sleep(Duration::from_millis(10));
    }
}

/// The kernel learns TAI when whoever keeps the clock tells it, often after the
/// post: no new post is needed for `until` to be right again.
#[test]
fn the_end_of_a_rule_follows_the_clock_that_the_kernel_has_learnt() {
    inside(|run_dir, all| {
        let cable = all.iter().find(|i| i.name == "ts-a").unwrap();
        let (index, frame) = (InterfaceIndex(cable.index), knock(cable.hardware.unwrap()));
        let mut gate = KernelGate::new(&run_dir).unwrap();
        let now = std::time::UNIX_EPOCH.elapsed().unwrap().as_secs();
        let soon = Moment::from_seconds(now as i64 + 20);
        post(&mut gate, &orders(&format!("{ALLOW}until = \"{soon}\"\n")), &all).unwrap();
        let verdict = || gate.ask(index, &frame).unwrap().verdict;
        assert_eq!((gate.clock_is_off().unwrap(), verdict()), (0, Action::Allow));
        // As if the kernel had been told of 37 seconds since.
        gate.shift_clock(-37).unwrap();
        assert_eq!((gate.clock_is_off().unwrap(), verdict()), (37, Action::Deny));
        gate.follow_clock().unwrap();
        assert_eq!((gate.clock_is_off().unwrap(), verdict()), (0, Action::Allow));
        gate.withdraw().unwrap();
    });
}

#[test]
fn a_trial_that_nobody_confirms_ends_by_itself() {
    inside(|run_dir, all| {
        let cable = all.iter().find(|i| i.name == "ts-a").unwrap();
        let (index, frame) = (InterfaceIndex(cable.index), knock(cable.hardware.unwrap()));
        let (old, new) = (orders(""), orders(ALLOW));
        let mut gate = KernelGate::new(&run_dir).unwrap();
        for before in [Some(&old), None] {
            if let Some(before) = before {
                post(&mut gate, before, &all).unwrap();
                // Counted before, and counted on behind the trial.
                gate.play(index, &frame).unwrap();
            }
            try_out(&mut gate, &new, SOON).unwrap();
            assert_eq!(text_in_force(&gate).as_ref(), Some(&new));
            let pending = gate.pending().unwrap().unwrap();
            assert!(pending.left <= SOON);
            assert_eq!(pending.then.map(|record| record.orders).as_ref(), before);
            over(&gate);
            assert_eq!(text_in_force(&gate).as_ref(), before);
            assert_eq!(gate.fell_back().unwrap().unwrap().orders, new);
            assert!(matches!(gate.confirm(), Err(GateError::TrialOver)));
            assert!(matches!(gate.revert(), Err(GateError::TrialOver)));
            if before.is_some() {
                assert_eq!(gate.ask(index, &frame).unwrap().verdict, Action::Deny);
                // Whatever else the kernel sends by itself is counted elsewhere.
                let tallies = gate.tallies().unwrap();
                let standing = Speaker::Standing(Direction::Inbound);
                let counted = tallies.iter().find(|(speaker, _)| *speaker == standing).unwrap();
                assert_eq!(counted.1.packets, 1);
            }
            // The next post ends the story.
            post(&mut gate, &new, &all).unwrap();
            assert!(gate.fell_back().unwrap().is_none());
            gate.withdraw().unwrap();
            assert!(!run_dir.exists());
        }
    });
}

#[test]
fn a_trial_is_confirmed_or_ended_and_nothing_else_gets_in_between() {
    inside(|run_dir, all| {
        let (old, new, other) =
            (orders(""), orders(ALLOW), orders("[addresses]\na = \"192.0.2.1\"\n"));
        let mut gate = KernelGate::new(&run_dir).unwrap();
        assert!(matches!(gate.confirm(), Err(GateError::NoTrial)));
        post(&mut gate, &old, &all).unwrap();
        assert!(matches!(gate.confirm(), Err(GateError::NoTrial)));
        try_out(&mut gate, &new, LATER).unwrap();
        // A second trial, a post and a pause have to wait.
        assert!(matches!(try_out(&mut gate, &other, SOON), Err(GateError::TrialRunning(_))));
        assert!(matches!(post(&mut gate, &other, &all), Err(GateError::TrialRunning(_))));
        assert!(matches!(gate.suspend(SOON), Err(GateError::TrialRunning(_))));
        assert_eq!(text_in_force(&gate).as_ref(), Some(&new));
        assert_eq!(gate.revert().unwrap().unwrap().orders, old);
        assert_eq!(text_in_force(&gate).as_ref(), Some(&old));
        try_out(&mut gate, &new, SOON).unwrap();
        assert_eq!(gate.confirm().unwrap().orders, new);
        std::thread::sleep(SOON + Duration::from_millis(20));
        assert_eq!(text_in_force(&gate).as_ref(), Some(&new), "confirmed is for good");
        assert!(gate.pending().unwrap().is_none() && gate.fell_back().unwrap().is_none());
        gate.withdraw().unwrap();
        assert!(!run_dir.exists());
    });
}

#[test]
fn orders_out_of_force_for_a_time_come_back() {
    inside(|run_dir, all| {
        let mut gate = KernelGate::new(&run_dir).unwrap();
        assert!(matches!(gate.suspend(SOON), Err(GateError::NothingInForce)));
        post(&mut gate, &orders(ALLOW), &all).unwrap();
        gate.suspend(SOON).unwrap();
        assert_eq!(text_in_force(&gate), None);
        assert!(gate.pending().unwrap().unwrap().now.is_none());
        over(&gate);
        assert_eq!(text_in_force(&gate), Some(orders(ALLOW)));
        gate.withdraw().unwrap();
        assert!(!run_dir.exists());
    });
}
