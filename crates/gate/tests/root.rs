//! What an account without rights is told by the gate. In a file of its own: the user is
//! the process'.

#![allow(clippy::unwrap_used)]

use std::fmt::Debug;
use std::os::unix::fs::PermissionsExt;
use std::time::Duration;

use tipstaff_core::packet::{Direction, InterfaceIndex};
use tipstaff_gate::kernel::{Asked, KernelGate};
use tipstaff_gate::{Gate, GateError, Maker};
use tipstaff_testing::scene::{ALLOW, inside, orders, post};

fn is_refused<T: Debug>(what: &str, answer: Result<T, GateError>) {
    assert!(matches!(answer, Err(GateError::NotRoot)), "{what}: {answer:?}");
}

/// As long as nothing is there any account may know that; what is there is root's, whatever
/// is asked first.
#[test]
fn where_a_gate_is_up_an_ordinary_account_is_told_that_it_needs_root() {
    inside(|run_dir, all| {
        let ordinary = nix::unistd::Uid::from_raw(65_534);
        let root = nix::unistd::geteuid();
        let mut gate = KernelGate::new(&run_dir).unwrap();
        nix::unistd::seteuid(ordinary).unwrap();
        let before = (gate.in_force(), gate.rehearsal(), gate.tallies());
        nix::unistd::seteuid(root).unwrap();
        assert!(matches!(&before, (Ok(None), Ok(None), Ok(none)) if none.is_empty()), "{before:?}");

        post(&mut gate, &orders(ALLOW), &all).unwrap();
        // The test's own temporary folder is root's alone.
        let folder = run_dir.parent().unwrap();
        assert_ne!(folder, std::env::temp_dir());
        std::fs::set_permissions(folder, std::fs::Permissions::from_mode(0o755)).unwrap();
        let (card, frame) = (InterfaceIndex(all[0].index), vec![0; 64]);
        let asked = Asked { interface: card, program: None, frame: frame.clone() };
        nix::unistd::seteuid(ordinary).unwrap();
        let answers = std::panic::catch_unwind(std::panic::AssertUnwindSafe(|| {
            assert!(run_dir.exists(), "the folder is not to be seen at all");
            is_refused("in_force", gate.in_force());
            is_refused("tallies", gate.tallies());
            is_refused("ask", gate.ask(card, &frame));
            is_refused("ask_all", gate.ask_all(Direction::Inbound, &[asked]));
            is_refused("unrecorded", gate.unrecorded());
            is_refused("play", gate.play(card, &frame));
            is_refused("play_out", gate.play_out(card, &frame));
            is_refused("forward", gate.forward(card, card, &frame, None));
            is_refused("counted_since", gate.counted_since());
            is_refused("counted_rules", gate.counted_rules());
            is_refused("time", gate.time(card, &frame, 1));
            is_refused("is_intact", gate.is_intact());
            is_refused("others", gate.others(&all));
            is_refused("marks", gate.marks());
            is_refused("events", gate.events().map(drop));
            is_refused(
                "noted_program",
                gate.noted_program(Maker { process: 1, device: 0, inode: 0 }),
            );
            is_refused("clock_is_off", gate.clock_is_off());
            is_refused("rehearsal", gate.rehearsal());
            is_refused("rehearsed_tallies", gate.rehearsed_tallies());
            is_refused("unrecorded_of_rehearsal", gate.unrecorded_of_rehearsal());
            is_refused("pending", gate.pending());
            is_refused("fell_back", gate.fell_back());
            is_refused("confirm", gate.confirm());
            is_refused("renew", gate.renew(Duration::from_secs(1)));
            is_refused("revert", gate.revert());
            is_refused("suspend", gate.suspend(Duration::from_secs(1)));
            is_refused("end_rehearsal", gate.end_rehearsal());
            is_refused("withdraw", gate.withdraw());
            is_refused("post", post(&mut gate, &orders(ALLOW), &all));
        }));
        nix::unistd::seteuid(root).unwrap();
        answers.unwrap();
        assert!(gate.in_force().unwrap().is_some() && gate.is_intact().unwrap());
    });
}
