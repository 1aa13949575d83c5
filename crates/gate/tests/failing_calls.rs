//! Calls of bpf(2) that fail: a post leaves the old orders or the new, whole, and
//! a withdrawal can be finished.

#![allow(clippy::unwrap_used)]

use std::os::unix::fs::DirEntryExt;
use std::path::Path;

use tipstaff_bpf::sys::failpoint::{self, Failing};
use tipstaff_core::orders::Action;
use tipstaff_core::packet::InterfaceIndex;
use tipstaff_gate::Gate;
use tipstaff_gate::kernel::KernelGate;
use tipstaff_testing::scene::{ALLOW, inside, knock, orders, post};

/// The pins of what is attached, and of links the numbers of their inodes: a filter
/// is pinned anew by every post.
fn attached_pins(run_dir: &Path) -> Vec<(String, u64)> {
    let Ok(mount) = std::fs::read_dir(run_dir.join("bpf")) else { return Vec::new() };
    let pins = mount.flatten().filter_map(|folder| std::fs::read_dir(folder.path()).ok());
    let named =
        pins.flatten().flatten().map(|pin| (pin.file_name().into_string().unwrap(), pin.ino()));
    named
        .filter_map(|(name, inode)| match name.split('-').next() {
            Some("outer") => Some((name, inode)),
            Some("filter") => Some((name, 0)),
            _ => None,
        })
        .collect()
}

/// Each call of bpf(2) fails in turn, alone and with all that follow: the old
/// orders hold whole, or the new ones do, and the message says so.
fn whatever_call_fails(failing: fn(u32) -> Failing, onto_others: bool) {
    inside(move |run_dir, all| {
        let cable = all.iter().find(|i| i.name == "ts-a").unwrap();
        let (index, frame) = (InterfaceIndex(cable.index), knock(cable.hardware.unwrap()));
        let limited = format!("{ALLOW}at_most = \"6 per minute per source\"\nlog = true\n");
        let (old, new) = (orders(""), orders(&limited));
        let before = onto_others.then_some(&old);
        let mut failed = 0;
        // What fails for good fails alike a few calls later.
        let stride = if failing(0) == Failing::Once(0) { 1 } else { 4 };
        for at in (0..).step_by(stride) {
            let mut gate = KernelGate::new(&run_dir).unwrap();
            if let Some(before) = before {
                post(&mut gate, before, &all).unwrap();
            }
            let attached = attached_pins(&run_dir);
            assert_eq!(attached.is_empty(), before.is_none());
            failpoint::fail(failing(at));
            let posted = post(&mut gate, &new, &all);
            let pending = failpoint::is_pending();
            failpoint::fail(Failing::Never);
            let in_force = gate.in_force().unwrap().map(|f| f.record.orders);
            // No link was let go of and made anew: in between, nobody stood there.
            let now = attached_pins(&run_dir);
            for link in &attached {
                assert!(now.contains(link), "call {at}: {link:?} is gone of {attached:?}");
            }
            let told = match posted {
                Ok(()) => {
                    assert_eq!(in_force.as_ref(), Some(&new));
                    assert_eq!(gate.ask(index, &frame).unwrap().verdict, Action::Allow);
                    None
                }
                Err(e) => {
                    assert_eq!(in_force.as_ref(), before, "call {at}: {e}");
                    if before.is_some() {
                        assert_eq!(gate.ask(index, &frame).unwrap().verdict, Action::Deny);
                    }
                    Some(e.to_string())
                }
            };
            gate.withdraw().unwrap();
            assert!(!run_dir.exists(), "call {at} left something behind: {told:?}");
            // A failure that nobody noticed is one that was made good.
            if let Some(told) = told {
                assert!(told.contains("Cannot allocate memory"), "{told}");
                failed += 1;
            } else if pending {
                break;
            }
        }
        assert!(failed > 10, "only {failed} failures");
    });
}

#[test]
fn a_first_post_with_a_call_that_fails_is_none() {
    whatever_call_fails(Failing::Once, false);
}

#[test]
fn a_post_with_a_call_that_fails_leaves_the_old_or_the_new() {
    whatever_call_fails(Failing::Once, true);
}

#[test]
fn a_post_whose_calls_fail_from_one_on_leaves_the_old_or_the_new() {
    whatever_call_fails(Failing::From, true);
}

#[test]
fn a_withdrawal_whose_calls_fail_can_be_finished() {
    inside(|run_dir, all| {
        for failing in [Failing::Once as fn(u32) -> Failing, Failing::From] {
            for at in 0.. {
                let mut gate = KernelGate::new(&run_dir).unwrap();
                post(&mut gate, &orders(ALLOW), &all).unwrap();
                failpoint::fail(failing(at));
                let done = gate.withdraw();
                let pending = failpoint::is_pending();
                failpoint::fail(Failing::Never);
                // In force whole, or open whole.
                if let Some(in_force) = gate.in_force().unwrap() {
                    assert!(done.is_err(), "call {at}");
                    assert_eq!(in_force.record.orders, orders(ALLOW));
                }
                gate.withdraw().unwrap();
                assert!(!run_dir.exists(), "call {at} left something behind");
                if pending {
                    break;
                }
            }
        }
    });
}
