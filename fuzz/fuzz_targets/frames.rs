//! Frames: see `tipstaff::fuzzing::frames`.
#![no_main]

libfuzzer_sys::fuzz_target!(|data: &[u8]| tipstaff::fuzzing::frames(data));
