//! Interfaces for tests of the gate: what they leave to their card, as on a
//! veth a checksum that is left to the card never meets one.

use std::io;
use std::os::fd::{AsRawFd, BorrowedFd};

/// Lets an interface compute the checksums of what it sends (`true`), or has
/// them computed before (ETHTOOL_STXCSUM of `linux/ethtool.h`).
///
/// # Errors
/// What the kernel says.
pub fn set_transmit_checksum(interface: &str, on: bool) -> io::Result<()> {
    const SIOCETHTOOL: libc::Ioctl = 0x8946;
    const SET_TRANSMIT_CHECKSUM: u32 = 0x17;
    #[repr(C)]
    struct Request {
        name: [u8; libc::IFNAMSIZ],
        value: *mut [u32; 2],
        rest: [u8; 16],
    }
    if interface.len() >= libc::IFNAMSIZ {
        return Err(io::ErrorKind::InvalidInput.into());
    }
    let socket = std::net::UdpSocket::bind(("0.0.0.0", 0))?;
    let mut value = [SET_TRANSMIT_CHECKSUM, u32::from(on)];
    let mut request = Request { name: [0; libc::IFNAMSIZ], value: &raw mut value, rest: [0; 16] };
    request.name[..interface.len()].copy_from_slice(interface.as_bytes());
    // SAFETY: the request has the size and shape of `struct ifreq` with `ifr_data`, and it and
    // the two words that it points to outlive the call.
    let result = unsafe { libc::ioctl(socket.as_raw_fd(), SIOCETHTOOL, &raw mut request) };
    if result < 0 { Err(io::Error::last_os_error()) } else { Ok(()) }
}

/// Makes an interface without link headers, whose packets go to and come from
/// this descriptor (Documentation/networking/tuntap.rst). It is gone when the
/// descriptor is closed. For tests.
///
/// # Errors
/// What the kernel says.
pub fn tunnel(name: &str) -> io::Result<std::fs::File> {
    const TUNSETIFF: libc::Ioctl = 0x4004_54ca;
    /// `IFF_TUN | IFF_NO_PI`.
    const BARE_PACKETS: u16 = 0x1001;
    #[repr(C)]
    struct Request {
        name: [u8; libc::IFNAMSIZ],
        flags: u16,
        rest: [u8; 22],
    }
    if name.len() >= libc::IFNAMSIZ {
        return Err(io::ErrorKind::InvalidInput.into());
    }
    let file = std::fs::File::options().read(true).write(true).open("/dev/net/tun")?;
    let mut request = Request { name: [0; libc::IFNAMSIZ], flags: BARE_PACKETS, rest: [0; 22] };
    request.name[..name.len()].copy_from_slice(name.as_bytes());
    // SAFETY: the request has the size and shape of `struct ifreq` with `ifr_flags`, and
    // outlives the call.
    let result = unsafe { libc::ioctl(file.as_raw_fd(), TUNSETIFF, &raw mut request) };
    if result < 0 { Err(io::Error::last_os_error()) } else { Ok(file) }
}

/// Lets a packet socket go past the queues of its interface, and past whatever
/// stands there (PACKET_QDISC_BYPASS of packet(7)). For tests.
///
/// # Errors
/// What the kernel says.
pub fn bypass_queues(socket: BorrowedFd<'_>) -> io::Result<()> {
    let on: libc::c_int = 1;
    // SAFETY: the value is an int that outlives the call, and its length is told.
    let result = unsafe {
        libc::setsockopt(
            socket.as_raw_fd(),
            libc::SOL_PACKET,
            libc::PACKET_QDISC_BYPASS,
            (&raw const on).cast(),
            size_of_val(&on) as libc::socklen_t,
        )
    };
    if result < 0 { Err(io::Error::last_os_error()) } else { Ok(()) }
}
