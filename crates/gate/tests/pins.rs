//! Where the gate keeps what outlives it.

#![allow(clippy::unwrap_used)]

use std::path::Path;

use nix::mount::{MsFlags, mount};
use tipstaff_bpf::sys::failpoint::{self, Failing};
use tipstaff_core::packet::InterfaceIndex;
use tipstaff_gate::Gate;
use tipstaff_gate::kernel::KernelGate;
use tipstaff_host::filters::{self, Side};
use tipstaff_testing::scene::{ALLOW, inside, orders, post};

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

/// Set, the gate does as on a kernel before 6.2: it is attached by filters.
const OLDER: &str = "TIPSTAFF_TEST_OLDER_KERNEL";

/// A filter that was there stays when a post fails, though it was to run another program.
#[test]
fn a_post_that_fails_takes_no_filter_away() {
    if std::env::var_os(OLDER).is_none() {
        let mut again = std::process::Command::new(std::env::current_exe().unwrap());
        again.args(["--exact", "a_post_that_fails_takes_no_filter_away"]).env(OLDER, "1");
        let output = again.output().unwrap();
        assert!(output.status.success(), "{}", String::from_utf8_lossy(&output.stdout));
        return;
    }
    inside(|run_dir, all| {
        let mut gate = KernelGate::new(&run_dir).unwrap();
        // As a port of a bridge it has another dispatcher.
        let mut changed = all.clone();
        let cable = changed.iter_mut().find(|i| i.name == "ts-a").unwrap();
        cable.port = true;
        let index = InterfaceIndex(cable.index);
        let mut failed = 0;
        for at in 0.. {
            post(&mut gate, &orders(""), &all).unwrap();
            failpoint::fail(Failing::Once(at));
            let posted = post(&mut gate, &orders(ALLOW), &changed);
            let pending = failpoint::is_pending();
            failpoint::fail(Failing::Never);
            let in_force = gate.in_force().unwrap().unwrap();
            assert!(in_force.guarded.contains(&index), "call {at}: {posted:?}");
            assert!(in_force.guarded_outwards.contains(&index), "call {at}: {posted:?}");
            failed += usize::from(posted.is_err());
            if pending {
                break;
            }
        }
        assert!(failed > 20, "{failed}");
        gate.withdraw().unwrap();
        assert!(!run_dir.exists());
        for side in [Side::Ingress, Side::Egress] {
            assert_eq!(filters::list(index.0, side).unwrap(), [], "{side:?}");
        }
    });
}
