//! The program; everything of it stands in the library beside it, where the
//! fuzzers find it too.
#![forbid(unsafe_code)]

use std::process::ExitCode;

fn main() -> ExitCode {
    tipstaff::main()
}
