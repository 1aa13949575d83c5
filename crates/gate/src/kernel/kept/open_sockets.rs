//! Sockets that are older than the program that tags them.

use std::collections::HashSet;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;
use std::path::PathBuf;
use std::{fs, io};

use tipstaff_bpf::sys;

use crate::kernel::emit::owner_tag::Secret;
use crate::kernel::kept::executables::Identity;
use crate::kernel::kept::program_names;

/// Labels the sockets of this network namespace that were open before any was
/// tagged, each by the oldest program that holds it.
///
/// # Errors
/// Only when /proc cannot be read: a process or socket that is gone meanwhile
/// needs no owner tag.
pub fn tag_what_is_open(
    owner_tags: BorrowedFd<'_>,
    names: BorrowedFd<'_>,
    secret: Secret,
    cookie: u64,
) -> io::Result<usize> {
    let mut processes: Vec<u32> = fs::read_dir("/proc")?
        .flatten()
        .filter_map(|entry| entry.file_name().to_str()?.parse().ok())
        .collect();
    processes.sort_unstable();
    let mut seen = HashSet::new();
    let mut tagged = 0;
    for process in processes {
        let mut owner_tag = None;
        for entry in fs::read_dir(format!("/proc/{process}/fd")).into_iter().flatten().flatten() {
            let Ok(link) = fs::read_link(entry.path()) else { continue };
            if !link.as_os_str().as_bytes().starts_with(b"socket:") || !seen.insert(link) {
                continue;
            }
            let Some(number) = entry.file_name().to_str().and_then(|n| n.parse().ok()) else {
                continue;
            };
            let Some(socket) = socket_here(process, number, cookie) else { continue };
            let owner_tag = owner_tag.get_or_insert_with(|| match is_in_own_accounts(process) {
                true => Identity::of_process(process).map(|program| {
                    program_names::note(names, &program, secret);
                    program.owner_tag(secret, process)
                }),
                false => Ok(Identity::owner_tag_of_nobody(process)),
            });
            let Ok(owner_tag) = owner_tag else { break };
            tagged += usize::from(sys::tag_socket(owner_tags, socket.as_fd(), owner_tag).is_ok());
        }
    }
    Ok(tagged)
}

/// Whether a process is in the user namespace of this one. Others may run what
/// only they have mounted.
fn is_in_own_accounts(process: u32) -> bool {
    fn of(process: &str) -> Option<PathBuf> {
        fs::read_link(format!("/proc/{process}/ns/user")).ok()
    }
    let own = of("self");
    own.is_some() && of(&process.to_string()) == own
}

/// A socket of another process, when it is of this network namespace.
fn socket_here(process: u32, number: i32, cookie: u64) -> Option<OwnedFd> {
    let socket = sys::descriptor_of(process, number).ok()?;
    let of = sys::namespace_of(socket.as_fd()).ok()?;
    (of == cookie).then_some(socket)
}
