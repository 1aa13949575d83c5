//! What the tests of several crates share. Nothing of it is in the program.
//!
//! - [`scene`]: a namespace with one cable, whose far end a test holds in its hand.
//! - [`pair`]: a host and the world beside it, both with addresses.
//! - [`wire`]: frames, written and read; [`harm`]: frames that came to harm.
//! - [`clients`]: what ordinary clients meet.
//! - [`patience`]: waiting for something, and for nobody else.
//!
//! What needs the kernel says loudly that it was skipped where the kernel cannot.

#![allow(clippy::unwrap_used, clippy::expect_used, missing_docs)]

pub mod capture;
pub mod clients;
pub mod executable;
pub mod harm;
pub mod pair;
pub mod patience;
pub mod scene;
pub mod wire;

use std::io::Write;
use std::net::IpAddr;

use proptest::test_runner::{Config, RngAlgorithm, TestRng, TestRunner};
use tipstaff_gate::kernel::check_support;

/// Whether the kernel's gate can be tested here; a loud line where not.
pub fn can_test(what: &str) -> bool {
    let Err(why) = check_support() else { return true };
    skipped(what, &why);
    false
}

/// Says that something was not tested. Not by `eprintln`: the test runner would keep
/// that to itself.
pub fn skipped(what: &str, why: &dyn std::fmt::Display) {
    let line = format!("SKIPPED: {what} not tested: {why}\n");
    std::io::stderr().write_all(line.as_bytes()).unwrap();
}

/// That a demo counts its steps, and puts its orders in force for the first time.
pub fn assert_told_well(demo: &str) {
    let steps = demo.lines().filter_map(|line| line.strip_prefix("── ")?.split_once(" · tipstaff"));
    let numbers: Vec<usize> = steps.map(|(number, _)| number.parse().unwrap()).collect();
    assert!(numbers.len() > 6 && numbers.iter().copied().eq(1..=numbers.len()), "{numbers:?}");
    assert!(!demo.contains("the same orders"), "{demo}");
}

pub fn ip(text: &str) -> IpAddr {
    text.parse().unwrap()
}

/// A number that a test takes from its environment.
pub fn from_environment(name: &str, otherwise: u64) -> u64 {
    std::env::var(name).map_or(otherwise, |text| text.parse().unwrap())
}

/// Draws by `TIPSTAFF_SEED`, which is printed.
pub fn seeded() -> TestRunner {
    let seed = from_environment("TIPSTAFF_SEED", 1);
    eprintln!("TIPSTAFF_SEED={seed}");
    runner(seed)
}

/// Draws by a seed.
pub fn runner(seed: u64) -> TestRunner {
    let bytes: Vec<u8> = (0..4).flat_map(|n| (seed + n).to_ne_bytes()).collect();
    let rng = TestRng::from_seed(RngAlgorithm::ChaCha, &bytes);
    TestRunner::new_with_rng(Config::default(), rng)
}
