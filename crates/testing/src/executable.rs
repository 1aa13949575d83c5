//! Programs that a test makes and runs.
//!
//! A process of its own writes them: while this one has the file open, a test beside may fork,
//! its child has it open too until it runs its own program, and whoever runs the file then is
//! told that it is busy (execve(2), ETXTBSY).

use std::io::Write;
use std::path::Path;
use std::process::{Command, Stdio};

/// Copies a program.
pub fn copied(from: impl AsRef<Path>, to: impl AsRef<Path>) {
    let status = Command::new("cp").arg("--").args([from.as_ref(), to.as_ref()]).status();
    assert!(status.is_ok_and(|status| status.success()), "{}", to.as_ref().display());
}

/// Writes a script, in place of the one that was there.
pub fn written(to: impl AsRef<Path>, text: &str) {
    let mut shell = Command::new("sh");
    shell.args(["-c", "cat > \"$0\" && chmod 755 \"$0\""]).arg(to.as_ref()).stdin(Stdio::piped());
    let mut child = shell.spawn().unwrap();
    child.stdin.take().unwrap().write_all(text.as_bytes()).unwrap();
    assert!(child.wait().unwrap().success(), "{}", to.as_ref().display());
}
