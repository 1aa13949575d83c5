//! Labels at sockets, sockets of other processes, and the network namespace
//! that a socket is of.

use std::io;
use std::os::fd::{AsFd, AsRawFd, BorrowedFd, FromRawFd, OwnedFd};

use super::{Attr, BTF_LOAD, MAP_CREATE, MAP_UPDATE, MapKind, STORAGE_FLAGS, check_sizes};

/// Makes a map that keeps `value` bytes at each socket. The kernel wants the
/// types of key and value described (Documentation/bpf/btf.rst): two integers.
///
/// # Errors
/// What the kernel says.
pub fn map_create_at_sockets(name: &str, value: u32) -> io::Result<OwnedFd> {
    // INT u32 · ARRAY of type 3 indexed by type 1 · INT u8. A struct btf_type is three words.
    let types: Vec<u8> = [
        [1, 1 << 24, 4].as_slice(),
        &[32],
        &[0, 3 << 24, 0],
        &[3, 1, value],
        &[1, 1 << 24, 1],
        &[8],
    ]
    .concat()
    .iter()
    .flat_map(|word: &u32| word.to_ne_bytes())
    .collect();
    let names = b"\0int\0";
    let mut btf: Vec<u8> = 0xeb9f_u16.to_ne_bytes().to_vec();
    btf.extend([1, 0]);
    let length = types.len() as u32;
    for word in [24, 0, length, length, names.len() as u32] {
        btf.extend(word.to_ne_bytes());
    }
    btf.extend(types);
    btf.extend(names);
    let mut attr = Attr::new().read(0, &btf).u32(16, btf.len() as u32);
    // SAFETY: the description outlives the call and its length is passed.
    let description = unsafe { attr.open(BTF_LOAD)? };
    let attr = Attr::new().u32(0, MapKind::SocketStorage as u32).u32(4, 4).u32(8, value);
    let attr = attr.u32(16, STORAGE_FLAGS).name(28, name).fd(48, description.as_fd());
    // SAFETY: MAP_CREATE follows no pointers.
    unsafe { attr.u32(52, 1).u32(56, 2).open(MAP_CREATE) }
}

/// Writes a value at a socket that has none yet; `false` when it has one.
///
/// # Errors
/// What the kernel says; [`io::ErrorKind::InvalidInput`] for wrong sizes.
pub fn label_socket(map: BorrowedFd<'_>, socket: BorrowedFd<'_>, value: &[u8]) -> io::Result<bool> {
    const ONLY_NEW: u32 = 1;
    let key = socket.as_raw_fd().to_ne_bytes();
    check_sizes(map, &key, value.len())?;
    let mut attr = Attr::new().fd(0, map).read(8, &key).read(16, value).u32(24, ONLY_NEW);
    // SAFETY: both sizes were just checked against the map.
    match unsafe { attr.call(MAP_UPDATE) } {
        Ok(_) => Ok(true),
        Err(e) if e.raw_os_error() == Some(libc::EEXIST) => Ok(false),
        Err(e) => Err(e),
    }
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
