//! Knocking with ordinary sockets, as any account may.
//!
//! With IP_RECVERR set before connect(2), the error queue tells a TCP reset
//! from an ICMP error, which look alike otherwise.

use std::io;
use std::net::{IpAddr, SocketAddr};
use std::os::fd::{AsFd, AsRawFd};
use std::time::{Duration, Instant};

use nix::cmsg_space;
use nix::poll::{PollFd, PollFlags, PollTimeout, poll};
use nix::sys::socket::{
    ControlMessageOwned, MsgFlags, SockaddrStorage, recvmsg, setsockopt, sockopt,
};
use socket2::{Domain, Protocol, SockRef, Socket, Type};
use tipstaff_core::names::traffic::Transport;

use crate::Reply;

/// So many knocks are on their way at once.
const IN_FLIGHT: usize = 64;
/// On loopback a refusal comes at once; whoever is silent for so long has taken the datagram.
const LOCAL_PATIENCE: Duration = Duration::from_millis(60);

/// One knock.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Door {
    /// TCP or UDP.
    pub transport: Transport,
    /// Where.
    pub to: SocketAddr,
    /// From which own address; any when absent.
    pub from: Option<IpAddr>,
    /// The address is one of this host's own, where closed ports always refuse.
    pub local: bool,
}

/// Knocks on all doors, in order; a reply for each.
pub fn knock(doors: &[Door], patience: Duration) -> Vec<Reply> {
    doors.chunks(IN_FLIGHT).flat_map(|chunk| knock_together(chunk, patience)).collect()
}

struct Open {
    socket: Socket,
    door: Door,
}

fn knock_together(doors: &[Door], patience: Duration) -> Vec<Reply> {
    let begin = Instant::now();
    let mut replies: Vec<Option<Reply>> = vec![None; doors.len()];
    let mut waiting: Vec<(usize, Open)> = Vec::new();
    for (at, door) in doors.iter().enumerate() {
        match open(*door) {
            Ok(open) => waiting.push((at, open)),
            Err(e) => replies[at] = Some(reply_of_error(&e, begin.elapsed())),
        }
    }
    while !waiting.is_empty() {
        let elapsed = begin.elapsed();
        waiting.retain(|(at, open)| {
            let limit = if open.door.local && open.door.transport == Transport::Udp {
                LOCAL_PATIENCE
            } else {
                patience
            };
            let late = elapsed >= limit;
            if late {
                let taken = open.door.local && open.door.transport == Transport::Udp;
                replies[*at] = Some(if taken { Reply::Taken } else { Reply::Nothing(limit) });
            }
            !late
        });
        let mut polled: Vec<PollFd<'_>> = waiting
            .iter()
            .map(|(_, open)| {
                let events = match open.door.transport {
                    Transport::Tcp => PollFlags::POLLOUT,
                    Transport::Udp => PollFlags::POLLIN,
                };
                PollFd::new(open.socket.as_fd(), events)
            })
            .collect();
        let timeout = PollTimeout::try_from(Duration::from_millis(5)).unwrap_or(PollTimeout::ZERO);
        if poll(&mut polled, timeout).is_err() {
            continue; // interrupted: the loop looks at the time again
        }
        let ready: Vec<bool> = polled.iter().map(|p| p.any().unwrap_or(false)).collect();
        let mut ready = ready.into_iter();
        waiting.retain(|(at, open)| {
            if !ready.next().unwrap_or(false) {
                return true;
            }
            replies[*at] = Some(settle(open, begin.elapsed()));
            false
        });
    }
    replies.into_iter().map(|r| r.unwrap_or(Reply::NotSent(0))).collect()
}

fn open(door: Door) -> io::Result<Open> {
    let (kind, protocol) = match door.transport {
        Transport::Tcp => (Type::STREAM, Protocol::TCP),
        Transport::Udp => (Type::DGRAM, Protocol::UDP),
    };
    let socket = Socket::new(Domain::for_address(door.to), kind, Some(protocol))?;
    socket.set_nonblocking(true)?;
    if door.to.is_ipv4() {
        setsockopt(&socket, sockopt::Ipv4RecvErr, &true)?;
    } else {
        setsockopt(&socket, sockopt::Ipv6RecvErr, &true)?;
    }
    if let Some(from) = door.from {
        socket.bind(&SocketAddr::new(from, 0).into())?;
    }
    if door.transport == Transport::Tcp {
        // Closing sends a reset: nothing is left behind on either side.
        SockRef::from(&socket).set_linger(Some(Duration::ZERO))?;
    }
    match socket.connect(&door.to.into()) {
        Ok(()) => {}
        Err(e) if e.raw_os_error() == Some(nix::libc::EINPROGRESS) => {}
        Err(e) => return Err(e),
    }
    if door.transport == Transport::Udp {
        socket.send(&[])?;
    }
    Ok(Open { socket, door })
}

fn reply_of_error(error: &io::Error, elapsed: Duration) -> Reply {
    match error.raw_os_error() {
        Some(nix::libc::ECONNREFUSED) => Reply::Reset(elapsed),
        other => Reply::NotSent(other.unwrap_or(nix::libc::EIO)),
    }
}

/// What an event on the socket means: first the error queue, then the socket's error.
fn settle(open: &Open, elapsed: Duration) -> Reply {
    if let Some(reply) = error_queue(&open.socket) {
        return reply;
    }
    match open.socket.take_error() {
        Ok(None) if open.door.transport == Transport::Tcp => Reply::Accepted(elapsed),
        Ok(None) => Reply::Data(elapsed),
        Ok(Some(e)) | Err(e) => match e.raw_os_error() {
            Some(nix::libc::ECONNREFUSED) => Reply::Reset(elapsed),
            Some(nix::libc::ETIMEDOUT) => Reply::Nothing(elapsed),
            Some(errno) => Reply::NotSent(errno),
            None => Reply::NotSent(nix::libc::EIO),
        },
    }
}

fn error_queue(socket: &Socket) -> Option<Reply> {
    const FROM_ICMP: u8 = 2;
    const FROM_ICMPV6: u8 = 3;
    let mut room = cmsg_space!([u8; 128]);
    let flags = MsgFlags::MSG_ERRQUEUE | MsgFlags::MSG_DONTWAIT;
    let message =
        recvmsg::<SockaddrStorage>(socket.as_raw_fd(), &mut [], Some(&mut room), flags).ok()?;
    for control in message.cmsgs().ok()? {
        let error = match control {
            ControlMessageOwned::Ipv4RecvErr(error, _) => error,
            ControlMessageOwned::Ipv6RecvErr(error, _) => error,
            _ => continue,
        };
        if matches!(error.ee_origin, FROM_ICMP | FROM_ICMPV6) {
            return Some(Reply::Icmp { kind: error.ee_type, code: error.ee_code });
        }
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;
    use std::net::{TcpListener, UdpSocket};
    use tipstaff_core::reach::Outcome;

    #[test]
    fn loopback_tells_open_from_closed_for_both_transports_and_families() {
        for ip in ["127.0.0.1", "::1"] {
            let ip: IpAddr = ip.parse().unwrap();
            let tcp = TcpListener::bind((ip, 0)).unwrap();
            let udp = UdpSocket::bind((ip, 0)).unwrap();
            // Ports that were just free are closed again.
            let closed = |t: Transport| match t {
                Transport::Tcp => TcpListener::bind((ip, 0)).unwrap().local_addr().unwrap(),
                Transport::Udp => UdpSocket::bind((ip, 0)).unwrap().local_addr().unwrap(),
            };
            let door = |transport, to| Door { transport, to, from: None, local: true };
            let doors = [
                door(Transport::Tcp, tcp.local_addr().unwrap()),
                door(Transport::Tcp, closed(Transport::Tcp)),
                door(Transport::Udp, udp.local_addr().unwrap()),
                door(Transport::Udp, closed(Transport::Udp)),
            ];
            let outcomes: Vec<Outcome> =
                knock(&doors, Duration::from_secs(1)).into_iter().map(Reply::outcome).collect();
            use Outcome::{Answers, Refuses};
            assert_eq!(outcomes, [Answers, Refuses, Answers, Refuses], "{ip}");
        }
    }
}
