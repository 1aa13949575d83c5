//! A kernel that does not describe its types (no BTF): what needs them is refused or told,
//! the rest is in force.

#![allow(clippy::unwrap_used)]

mod common;

use std::fs;

use common::{ARCHIVE, Lab, PARTNER, PLATES, STRANGER};
use nix::mount::{MntFlags, MsFlags, mount, umount2};

const TYPES: &str = "/sys/kernel/btf";

/// From now on the programs of the archive find no description, or one that is none.
fn hide(lab: &Lab, damaged: bool) {
    let hidden = move || {
        mount(Some("ts-btf"), TYPES, Some("tmpfs"), MsFlags::empty(), None::<&str>).unwrap();
        if damaged {
            fs::write(format!("{TYPES}/vmlinux"), b"\x9f\xeb cut short").unwrap();
        }
    };
    lab.archive.run(hidden).unwrap();
}

fn show(lab: &Lab) {
    lab.archive.run(|| umount2(TYPES, MntFlags::MNT_DETACH).unwrap()).unwrap();
}

fn by_program(lab: &Lab) {
    lab.orders(
        "[boot]\non_failure = \"closed\"\n[[rules]]\nname = \"plates\"\naction = \"allow\"\n\
         traffic = \"tcp/7410\"\nprogram = \"/usr/sbin/nobody\"\n",
    );
}

#[test]
fn without_a_description_of_its_types_the_rest_is_in_force() {
    let Some(lab) = Lab::new() else { return };
    if !std::path::Path::new(TYPES).exists() {
        eprintln!("SKIPPED: this kernel has no BTF to be hidden");
        return;
    }
    let _listener = lab.listen("::", 7410);
    let knock = |from: [&str; 2]| [0, 1].map(|six| lab.knock(from[six], ARCHIVE[six], 7410));
    for damaged in [false, true] {
        hide(&lab, damaged);
        lab.orders(PLATES);
        let told = lab.done(&["post"]);
        assert!(told.contains("does not let programs read its types"), "{told}");
        assert_eq!([knock(PARTNER), knock(STRANGER)], [["answers"; 2], ["silent"; 2]]);
        let state = lab.done(&["state"]);
        assert!(state.contains("does not let programs read its types"), "{state}");
        lab.done(&["reach", "--as", PARTNER[0]]);

        // What cannot be put in force is not posted, and what is in force stays.
        by_program(&lab);
        let refused = lab.tipstaff(&["post"]);
        let why = String::from_utf8_lossy(&refused.stderr).into_owned();
        assert!(refused.status.code() == Some(2), "{why}");
        assert!(why.contains("describe its types") && why.contains("(plates)"), "{why}");
        assert_eq!([knock(PARTNER), knock(STRANGER)], [["answers"; 2], ["silent"; 2]]);
        lab.done(&["withdraw"]);
        show(&lab);
    }

    // Posted on a kernel that describes them, and restarted with one that does not.
    by_program(&lab);
    lab.done(&["post"]);
    lab.done(&["withdraw"]);
    hide(&lab, false);
    let boot = lab.tipstaff(&["boot"]);
    let why = String::from_utf8_lossy(&[boot.stdout, boot.stderr].concat()).into_owned();
    assert!(
        boot.status.code() == Some(1) && why.contains("describe its types"),
        "{:?} {why}",
        boot.status
    );
    assert_eq!(knock(PARTNER), ["silent"; 2]);
    assert_eq!(lab.tipstaff(&["state"]).status.code(), Some(11));
    lab.done(&["withdraw"]);
}
