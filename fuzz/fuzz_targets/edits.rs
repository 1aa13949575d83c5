//! Edits and exchange: see `tipstaff::fuzzing::edits`.
#![no_main]

libfuzzer_sys::fuzz_target!(|data: &[u8]| tipstaff::fuzzing::edits(data));
