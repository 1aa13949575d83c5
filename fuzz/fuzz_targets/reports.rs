//! Reports and history: see `tipstaff::fuzzing::reports`.
#![no_main]

libfuzzer_sys::fuzz_target!(|data: &[u8]| tipstaff::fuzzing::reports(data));
