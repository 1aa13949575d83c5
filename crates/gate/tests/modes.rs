//! The mode of the run folder. In a file of its own: the umask is the process'.

#![allow(clippy::unwrap_used)]

use std::fs;
use std::os::unix::fs::PermissionsExt;

use nix::sys::stat::{Mode, umask};
use tipstaff_gate::kernel::KernelGate;

/// `boot` makes it under its unit's `UMask=0077`, and members of `[log] viewers` go through.
#[test]
fn everybody_may_pass_the_run_folder_whatever_the_umask() {
    if !nix::unistd::geteuid().is_root() {
        return tipstaff_testing::skipped("the mode of the run folder was", &"this needs root");
    }
    let root = tempfile::tempdir().unwrap();
    let run_dir = root.path().join("run/tipstaff");
    let before = umask(Mode::from_bits_truncate(0o077));
    let made = KernelGate::new(&run_dir).and_then(|gate| gate.prepare_run_dir());
    umask(before);
    made.unwrap();
    for folder in [&run_dir, run_dir.parent().unwrap()] {
        assert_eq!(fs::metadata(folder).unwrap().permissions().mode() & 0o777, 0o755);
    }
}
