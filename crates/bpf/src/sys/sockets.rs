//! Labels at sockets, sockets of other processes, and the network namespace
//! that a socket is of.

use std::io;
use std::os::fd::{AsFd, AsRawFd, BorrowedFd, FromRawFd, OwnedFd};

use super::map_insert;

/// Writes a value at a socket that has none yet; `false` when it has one.
///
/// # Errors
/// What the kernel says; [`io::ErrorKind::InvalidInput`] for wrong sizes.
pub fn tag_socket(map: BorrowedFd<'_>, socket: BorrowedFd<'_>, value: &[u8]) -> io::Result<bool> {
    map_insert(map, &socket.as_raw_fd().to_ne_bytes(), value)
}

/// A descriptor of another process, as an own one (pidfd_getfd(2)).
///
/// # Errors
/// What the kernel says.
pub fn descriptor_of(process: u32, descriptor: i32) -> io::Result<OwnedFd> {
    // SAFETY: pidfd_open(2) and pidfd_getfd(2) follow no pointers and make new descriptors
    // for us alone.
    unsafe {
        let pidfd = libc::syscall(libc::SYS_pidfd_open, process, 0);
        if pidfd < 0 {
            return Err(io::Error::last_os_error());
        }
        let pidfd = OwnedFd::from_raw_fd(pidfd as i32);
        let own = libc::syscall(libc::SYS_pidfd_getfd, pidfd.as_raw_fd(), descriptor, 0);
        if own < 0 {
            return Err(io::Error::last_os_error());
        }
        Ok(OwnedFd::from_raw_fd(own as i32))
    }
}

/// The cookie of the network namespace of the calling thread.
///
/// # Errors
/// When no socket can be made or the kernel is older than 5.14.
pub fn namespace_cookie() -> io::Result<u64> {
    let socket = std::net::UdpSocket::bind(("127.0.0.1", 0))
        .or_else(|_| std::net::UdpSocket::bind(("0.0.0.0", 0)))?;
    namespace_of(socket.as_fd())
}

/// The cookie of the network namespace of a socket (SO_NETNS_COOKIE).
///
/// # Errors
/// When the kernel is older than 5.14.
pub fn namespace_of(socket: BorrowedFd<'_>) -> io::Result<u64> {
    const SO_NETNS_COOKIE: libc::c_int = 71;
    let (mut cookie, mut length) = (0u64, size_of::<u64>() as libc::socklen_t);
    // SAFETY: the kernel writes at most `length` bytes into `cookie`.
    let result = unsafe {
        libc::getsockopt(
            socket.as_raw_fd(),
            libc::SOL_SOCKET,
            SO_NETNS_COOKIE,
            (&raw mut cookie).cast(),
            &raw mut length,
        )
    };
    if result < 0 { Err(io::Error::last_os_error()) } else { Ok(cookie) }
}
