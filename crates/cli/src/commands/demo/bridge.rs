//! The wire of the unprivileged demo: two packet sockets and, between them,
//! the tables' user-space executor. Real frames of real sockets pass or do not.

use std::collections::HashSet;
use std::io;
use std::net::IpAddr;
use std::os::fd::{AsFd, AsRawFd, OwnedFd};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};
use std::thread::{self, JoinHandle};
use std::time::Instant;

use etherparse::{NetHeaders, PacketHeaders};
use nix::poll::{PollFd, PollFlags, PollTimeout, poll};
use nix::sys::socket::{
    AddressFamily, LinkAddr, MsgFlags, SockFlag, SockProtocol, SockType, bind, recv, send, socket,
};
use tipstaff_core::orders::Action;
use tipstaff_core::packet::{InterfaceIndex, IpPacket, Packet, Payload, parse_ethernet};
use tipstaff_gate::simulated::SimulatedGate;
use tipstaff_host::lab::{self, Space};

/// The archive's interface, as the gate on the wire calls it.
pub const LAN: InterfaceIndex = InterfaceIndex(2);

/// The running wire.
pub struct Bridge {
    gate: Arc<Mutex<SimulatedGate>>,
    stop: Arc<AtomicBool>,
    thread: Option<JoinHandle<()>>,
    _middle: Space,
}

impl Bridge {
    /// Connects two interfaces of `middle`.
    pub fn between(middle: Space, inner: &'static str, outer: &'static str) -> io::Result<Self> {
        let (inner, outer) = middle.run(move || {
            // The wire says nothing of its own; without this it would announce itself.
            let _ = std::fs::write("/proc/sys/net/ipv6/conf/all/disable_ipv6", "1");
            Ok::<_, io::Error>((end(inner)?, end(outer)?))
        })??;
        let gate = Arc::new(Mutex::new(SimulatedGate::default()));
        let stop = Arc::new(AtomicBool::new(false));
        let (its_gate, its_stop) = (Arc::clone(&gate), Arc::clone(&stop));
        let thread = thread::spawn(move || {
            let mut wire = Wire { inner, outer, gate: its_gate, connections: HashSet::new() };
            let begin = Instant::now();
            while !its_stop.load(Ordering::Relaxed) {
                wire.turn(begin);
            }
        });
        Ok(Self { gate, stop, thread: Some(thread), _middle: middle })
    }

    /// The gate in the wire.
    pub fn gate(&self) -> MutexGuard<'_, SimulatedGate> {
        self.gate.lock().unwrap_or_else(PoisonError::into_inner)
    }
}

impl Drop for Bridge {
    fn drop(&mut self) {
        self.stop.store(true, Ordering::Relaxed);
        if let Some(thread) = self.thread.take() {
            let _ = thread.join();
        }
    }
}

/// A packet socket on one interface.
fn end(name: &str) -> io::Result<OwnedFd> {
    lab::up(name)?;
    let flags = SockFlag::SOCK_NONBLOCK | SockFlag::SOCK_CLOEXEC;
    let fd = socket(AddressFamily::Packet, SockType::Raw, flags, SockProtocol::EthAll)?;
    let address: Option<LinkAddr> = nix::ifaddrs::getifaddrs()?
        .filter(|interface| interface.interface_name == name)
        .find_map(|interface| interface.address?.as_link_addr().copied());
    let address = address.ok_or_else(|| io::Error::other(format!("{name} has no link address")))?;
    bind(fd.as_raw_fd(), &address)?;
    Ok(fd)
}

/// Remote address and port, own port.
type Connection = (IpAddr, u16, u16);

struct Wire {
    inner: OwnedFd,
    outer: OwnedFd,
    gate: Arc<Mutex<SimulatedGate>>,
    /// What the kernel's gate asks the sockets, this one has to remember.
    connections: HashSet<Connection>,
}

impl Wire {
    fn turn(&mut self, begin: Instant) {
        let mut ends = [
            PollFd::new(self.inner.as_fd(), PollFlags::POLLIN),
            PollFd::new(self.outer.as_fd(), PollFlags::POLLIN),
        ];
        let timeout = PollTimeout::from(20u8);
        if poll(&mut ends, timeout).is_err() {
            return;
        }
        let mut frame = vec![0; 65_600];
        while let Ok(length) = recv(self.inner.as_raw_fd(), &mut frame, MsgFlags::empty()) {
            self.out(&mut frame[..length], begin);
        }
        while let Ok(length) = recv(self.outer.as_raw_fd(), &mut frame, MsgFlags::empty()) {
            self.inwards(&mut frame[..length], begin);
        }
    }

    fn out(&mut self, frame: &mut [u8], begin: Instant) {
        if let Packet::Ip(IpPacket {
            destination, payload: Payload::Tcp { from, to, .. }, ..
        }) = parse_ethernet(frame)
        {
            self.connections.insert((destination, to, from));
        }
        let mut gate = self.gate.lock().unwrap_or_else(PoisonError::into_inner);
        gate.set_time(begin.elapsed());
        gate.leaves(frame);
        drop(gate);
        forward(&self.outer, frame);
    }

    fn inwards(&mut self, frame: &mut [u8], begin: Instant) {
        let connection = match parse_ethernet(frame) {
            Packet::Ip(IpPacket { source, payload: Payload::Tcp { from, to, .. }, .. }) => {
                Some((source, from, to))
            }
            _ => None,
        };
        let connected = connection.is_some_and(|c| self.connections.contains(&c));
        let mut gate = self.gate.lock().unwrap_or_else(PoisonError::into_inner);
        gate.set_time(begin.elapsed());
        let decision = gate.arrives(LAN, frame, connected);
        drop(gate);
        if decision.verdict == Action::Allow {
            forward(&self.inner, frame);
        }
    }
}

fn forward(to: &OwnedFd, frame: &mut [u8]) {
    complete_checksum(frame);
    // A full queue drops the frame, as any wire may.
    let _ = send(to.as_raw_fd(), frame, MsgFlags::empty());
}

/// Frames of local sockets carry unfinished checksums, which an interface
/// would complete on its way out.
fn complete_checksum(frame: &mut [u8]) {
    let Ok(headers) = PacketHeaders::from_ethernet_slice(frame) else { return };
    let (Some(net), Some(mut transport)) = (headers.net, headers.transport) else { return };
    let payload = headers.payload.slice();
    let updated = match &net {
        NetHeaders::Ipv4(ip, _) => transport.update_checksum_ipv4(ip, payload).is_ok(),
        NetHeaders::Ipv6(ip, _) => transport.update_checksum_ipv6(ip, payload).is_ok(),
        NetHeaders::Arp(_) => false,
    };
    let begin = frame.len() - payload.len() - transport.header_len();
    let end = begin + transport.header_len();
    if updated {
        let mut bytes = Vec::with_capacity(end - begin);
        if transport.write(&mut bytes).is_ok() {
            frame[begin..end].copy_from_slice(&bytes);
        }
    }
}
