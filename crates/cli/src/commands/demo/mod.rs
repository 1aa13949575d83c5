//! `demo`: the whole line of work on the Larkfield Observatory, on hosts that
//! exist for a few seconds. Nothing of this machine is touched.

mod archive;
mod bridge;
mod fleet;
mod night;
mod part;
mod stage;
mod step;
mod story;

use std::io;

use nix::sched::{CloneFlags, unshare};
use nix::unistd::{getegid, geteuid};
use tipstaff_gate::kernel::check_support;

use crate::arguments::DemoOptions;
use crate::ending::Ending;
use crate::failure::{Failure, system};
use crate::terminal::Terminal;
pub use part::play;

/// What the demo plays on.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Ground {
    /// Namespaces and the gate of the real kernel.
    Kernel,
    /// Namespaces and real sockets; the tables decide in user space.
    Sockets,
    /// A stored snapshot of a host; verdicts are worked out.
    Snapshot,
}

pub fn run(options: &DemoOptions, terminal: &Terminal) -> Result<Ending, Failure> {
    if options.fleet {
        return fleet::tell(terminal);
    }
    if options.kernel {
        check_support()?;
        return story::tell(Ground::Kernel, None, terminal);
    }
    if options.snapshot {
        return story::tell(Ground::Snapshot, None, terminal);
    }
    match own_namespaces() {
        Ok(()) => story::tell(Ground::Sockets, None, terminal),
        Err(why) => story::tell(Ground::Snapshot, Some(why), terminal),
    }
}

/// A user namespace of one's own gives the right to make network namespaces;
/// root has it already. Must come before the first thread.
fn own_namespaces() -> io::Result<()> {
    let (uid, gid) = (geteuid(), getegid());
    if uid.is_root() {
        return Ok(());
    }
    unshare(CloneFlags::CLONE_NEWUSER | CloneFlags::CLONE_NEWNET)?;
    std::fs::write("/proc/self/setgroups", "deny")?;
    std::fs::write("/proc/self/uid_map", format!("{uid} {uid} 1"))?;
    std::fs::write("/proc/self/gid_map", format!("{gid} {gid} 1"))
}

/// The folder that the demo works in; it is removed as soon as nothing needs it.
fn own_folder() -> Result<tempfile::TempDir, Failure> {
    tempfile::Builder::new()
        .prefix("tipstaff-demo-")
        .tempdir()
        .map_err(system("creating a directory for the demo"))
}
