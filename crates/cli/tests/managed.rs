//! The play of docs/examples, run by the real engine (PyPI's `ansible-core`) on a host of
//! the test's own: check mode changes nothing, the second run neither.

#![allow(clippy::unwrap_used)]

#[path = "common/fleet.rs"]
mod fleet;

use std::fs;
use std::path::Path;
use std::process::{Command, Output};

use fleet::Observatory;
use tipstaff_testing::skipped;

fn engine() -> bool {
    let asked = Command::new("ansible-playbook").arg("--version").output();
    asked.is_ok_and(|output| output.status.success())
}

/// ok, changed and failed, as the engine sums up.
fn summed(output: &Output) -> String {
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    let line = text.lines().find(|line| line.contains("ok=") && line.contains("changed="));
    line.unwrap_or_else(|| panic!("{text}{}", String::from_utf8_lossy(&output.stderr))).to_owned()
}

#[test]
fn the_play_of_the_guide_is_idempotent_and_has_a_check_mode() {
    if !engine() {
        return skipped("configuration management was", &"there is no ansible-playbook");
    }
    let Some(all) = Observatory::new() else { return };
    let orders = all.orders("");
    let mast = all.host("mast");
    let play = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/examples/play.yml");
    let here = all.path().join("play.yml");
    fs::copy(play, &here).unwrap();
    // The program is found by its name, as on any host.
    let bin = all.path().join("bin");
    fs::create_dir(&bin).unwrap();
    std::os::unix::fs::symlink(fleet::program(), bin.join("tipstaff")).unwrap();
    let path = format!("{}:{}", bin.display(), std::env::var("PATH").unwrap());
    fs::create_dir_all(mast.folder.join("etc/tipstaff")).unwrap();
    let home = all.path().join("home");
    fs::create_dir(&home).unwrap();
    let run = |words: &[&str]| {
        let mut command = Command::new("ansible-playbook");
        command.args(["-i", "mast,", "-c", "local", "-e", "ansible_become=false"]);
        command.args(["-e", &format!("orders={}", orders.display())]);
        command.args(["-e", "ansible_python_interpreter={{ ansible_playbook_python }}"]);
        command.args(words).arg(&here).env("PATH", &path).env("HOME", &home);
        command.env("ANSIBLE_LOCAL_TEMP", home.join("tmp")).env("ANSIBLE_HOME", &home);
        command.env("ANSIBLE_REMOTE_TEMP", home.join("remote")).env("ANSIBLE_NOCOLOR", "1");
        command.env("ANSIBLE_STDOUT_CALLBACK", "default").env("LC_ALL", "C.UTF-8");
        mast.space.run(move || command.output().unwrap()).unwrap()
    };
    let looked = run(&["--check"]);
    let line = summed(&looked);
    assert!(line.contains("failed=0") && !line.contains("changed=0"), "{looked:#?}");
    let told = String::from_utf8_lossy(&looked.stdout).into_owned();
    assert!(told.contains("denied: "), "{told}");
    assert_eq!(mast.state()["state"], "down");
    assert!(!mast.folder.join("etc/tipstaff/orders.toml").exists());

    let first = run(&[]);
    let line = summed(&first);
    assert!(line.contains("failed=0") && line.contains("changed=3"), "{first:#?}");
    assert_eq!(mast.state()["state"], "up");
    let revision = mast.state()["revision"].clone();
    let again = run(&[]);
    let line = summed(&again);
    assert!(line.contains("failed=0") && line.contains("changed=0"), "{again:#?}");
    assert_eq!(mast.state()["revision"], revision);
}
