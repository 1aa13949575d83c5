//! The command line: see `tipstaff::fuzzing::command_line`.
#![no_main]

libfuzzer_sys::fuzz_target!(|data: &[u8]| tipstaff::fuzzing::command_line(data));
