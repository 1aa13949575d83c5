//! Where the gate keeps what outlives it.

#![allow(clippy::unwrap_used)]

mod common;

use std::path::Path;

use common::{ALLOW, inside, orders, post};
use nix::mount::{MsFlags, mount};
use tipstaff_gate::Gate;
use tipstaff_gate::kernel::KernelGate;

/// On a machine with a bpffs for everybody, which a shutdown leaves mounted, the gate's
/// pins are there; elsewhere in one of its own.
#[test]
fn pins_are_where_a_shutdown_leaves_them() {
    inside(|_, all| {
        let none = None::<&str>;
        mount(none, "/", none, MsFlags::MS_REC | MsFlags::MS_PRIVATE, none).unwrap();
        mount(Some("run"), "/run", Some("tmpfs"), MsFlags::empty(), none).unwrap();
        let (run, shared) = (Path::new("/run/tipstaff"), Path::new("/sys/fs/bpf/tipstaff"));
        let own = run.join("bpf");
        let mut gate = KernelGate::new(run).unwrap();
        let _ = nix::mount::umount("/sys/fs/bpf");
        post(&mut gate, &orders(ALLOW), &all).unwrap();
        assert!(own.exists() && !shared.exists(), "there is none for everybody");
        mount(Some("bpf"), "/sys/fs/bpf", Some("bpf"), MsFlags::empty(), Some("mode=700")).unwrap();
        // What is in force stays where it is.
        post(&mut gate, &orders(ALLOW), &all).unwrap();
        assert!(gate.in_force().unwrap().is_some() && own.exists() && !shared.exists());
        assert!(gate.withdraw().unwrap());
        assert!(!run.exists());

        post(&mut gate, &orders(ALLOW), &all).unwrap();
        assert!(shared.exists() && !own.exists());
        assert!(gate.in_force().unwrap().is_some());
        post(&mut gate, &orders(""), &all).unwrap();
        assert!(gate.withdraw().unwrap());
        assert!(!shared.exists() && !run.exists(), "something was left behind");
        assert!(Path::new("/sys/fs/bpf").exists());
    });
}
