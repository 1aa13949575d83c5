//! A namespace with one cable for tests of the kernel's gate. Needs root and a
//! kernel that carries the gate; elsewhere it says loudly that it was skipped.

// Not every test that has this module uses all of it.
#![allow(dead_code)]

use std::io::Write;
use std::path::PathBuf;

use tipstaff_core::brief::{Brief, Setting};
use tipstaff_core::interface::Interface;
use tipstaff_core::orders::read;
use tipstaff_gate::kernel::{KernelGate, check_ground};
use tipstaff_gate::{Gate, GateError, Posting, Record};
use tipstaff_host::interfaces;
use tipstaff_host::lab::{self, Mounts, Space};

/// Runs `test` inside a namespace with one cable, or says why not.
pub fn inside(test: impl FnOnce(PathBuf, Vec<Interface>) + Send + 'static) {
    if let Err(why) = check_ground() {
        // Not eprintln: the test runner would keep that to itself.
        let line = format!("SKIPPED: the kernel's gate was not tested: {why}\n");
        std::io::stderr().write_all(line.as_bytes()).unwrap();
        return;
    }
    let far = Space::new(Mounts::Shared).unwrap();
    let near = Space::new(Mounts::Own).unwrap();
    let far_end = std::os::fd::AsFd::as_fd(&far).try_clone_to_owned().unwrap();
    let folder = tempfile::tempdir().unwrap();
    let run_dir = folder.path().join("run");
    near.run(move || {
        use std::os::fd::AsFd;
        lab::cable("ts-a", "ts-b", far_end.as_fd()).unwrap();
        lab::up("ts-a").unwrap();
        lab::address("ts-a", "198.51.100.20".parse().unwrap(), 24).unwrap();
        lab::address("ts-a", "2001:db8:51::20".parse().unwrap(), 64).unwrap();
        test(run_dir, interfaces::list().unwrap());
    })
    .expect("the test inside the namespace failed");
}

pub fn orders(rules: &str) -> String {
    format!(
        "version = 1\n[standing]\ninbound = \"deny\"\noutbound = \"allow\"\ntransit = \"deny\"\n{rules}"
    )
}

pub fn record(text: &str) -> Record {
    Record::of(text)
}

pub fn post(gate: &mut KernelGate, text: &str, all: &[Interface]) -> Result<(), GateError> {
    let orders = read(text).unwrap();
    let brief = Brief::on(&orders, &Setting { interfaces: all, ..Setting::default() });
    gate.post(&Posting { brief: &brief, record: record(text) }, all).map(drop)
}

pub const ALLOW: &str = "[[rules]]\nname = \"shell\"\naction = \"allow\"\ntraffic = \"ssh\"\n";

/// A SYN to port 22.
pub fn knock(mac: [u8; 6]) -> Vec<u8> {
    let mut frame = mac.to_vec();
    frame.extend([2, 0, 0, 0, 0, 0x99, 8, 0]);
    frame.extend([0x45, 0, 0, 40, 0, 1, 0, 0, 64, 6, 0, 0, 203, 0, 113, 9, 198, 51, 100, 20]);
    frame.extend([0xee, 0x48, 0, 22, 0, 0, 0, 1, 0, 0, 0, 0, 0x50, 2, 0xff, 0xff, 0, 0, 0, 0]);
    frame
}
