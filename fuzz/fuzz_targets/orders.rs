//! Orders → tables: see `tipstaff::fuzzing::orders`.
#![no_main]

libfuzzer_sys::fuzz_target!(|data: &[u8]| tipstaff::fuzzing::orders(data));
