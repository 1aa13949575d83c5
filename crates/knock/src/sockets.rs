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
/// A program that wants nothing to do with who connects closes within this time.
const FAREWELL: Duration = Duration::from_millis(40);

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

/// Knocks on all doors, in order; a reply for each. `go_on` is asked before
/// each knock, with how many there were: it may wait, for the pace, and `false`
/// ends the check; the doors left have [`Reply::NotAsked`].
pub fn knock(
    doors: &[Door],
    patience: Duration,
    go_on: &mut dyn FnMut(usize) -> bool,
) -> Vec<Reply> {
    let mut replies = Vec::with_capacity(doors.len());
    for (nth, chunk) in doors.chunks(IN_FLIGHT).enumerate() {
        replies
            .extend(knock_together(chunk, patience, &mut |within| go_on(nth * IN_FLIGHT + within)));
    }
    replies
}

struct Open {
    socket: Socket,
    door: Door,
    opened: Instant,
    /// It was accepted, so long after.
    accepted: Option<Duration>,
}

impl Open {
    /// How long it is waited for.
    fn limit(&self, patience: Duration) -> Duration {
        match self.accepted {
            Some(after) => after + FAREWELL,
            None if self.is_local_datagram() => LOCAL_PATIENCE,
            None => patience,
        }
    }

    fn is_local_datagram(&self) -> bool {
        self.door.local && self.door.transport == Transport::Udp
    }

    /// What it means that nothing more came.
    fn nothing_more(&self, limit: Duration) -> Reply {
        match self.accepted {
            Some(after) => Reply::Accepted(after),
            None if self.is_local_datagram() => Reply::Taken,
            None if self.door.transport == Transport::Udp => Reply::Mute,
            None => Reply::Nothing(limit),
        }
    }
}

fn knock_together(
    doors: &[Door],
    patience: Duration,
    go_on: &mut dyn FnMut(usize) -> bool,
) -> Vec<Reply> {
    let mut replies: Vec<Option<Reply>> = vec![None; doors.len()];
    let mut waiting: Vec<(usize, Open)> = Vec::new();
    for (at, door) in doors.iter().enumerate() {
        if !go_on(at) {
            break;
        }
        let begin = Instant::now();
        match open(*door) {
            Ok(open) => waiting.push((at, open)),
            Err(e) => replies[at] = Some(reply_of_error(&e, begin.elapsed())),
        }
    }
    // Whether the host has worked off what was sent to it itself, once that was asked.
    let mut worked_off: Option<(Instant, bool)> = None;
    while !waiting.is_empty() {
        // On a busy machine much time may pass anywhere here: only what was looked at after
        // its time was over, and had nothing to say, is late.
        let looked = Instant::now();
        let mut polled: Vec<PollFd<'_>> = waiting
            .iter()
            .map(|(_, open)| {
                let events = match (open.door.transport, open.accepted) {
                    (Transport::Tcp, None) => PollFlags::POLLOUT,
                    _ => PollFlags::POLLIN,
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
        waiting.retain_mut(|(at, open)| {
            if !ready.next().unwrap_or(false) {
                return true;
            }
            let elapsed = open.opened.elapsed();
            if let Some(after) = open.accepted {
                replies[*at] = Some(farewell(&open.socket, after));
                return false;
            }
            match settle(open, elapsed) {
                // Whether it closes at once is seen a moment later.
                Reply::Accepted(after) => {
                    open.accepted = Some(after);
                    true
                }
                reply => {
                    replies[*at] = Some(reply);
                    false
                }
            }
        });
        let is_late = |open: &Open| looked.duration_since(open.opened) >= open.limit(patience);
        if worked_off.is_none()
            && waiting.iter().any(|(_, open)| open.is_local_datagram() && is_late(open))
        {
            let done = loopback_works_off(patience);
            worked_off = Some((Instant::now(), done));
        }
        waiting.retain(|(at, open)| {
            if !is_late(open) {
                return true;
            }
            let reply = match worked_off {
                _ if !open.is_local_datagram() => open.nothing_more(open.limit(patience)),
                // Looked at before its refusal can have come.
                Some((since, true)) if looked < since => return true,
                Some((_, true)) => open.nothing_more(LOCAL_PATIENCE),
                _ => Reply::Unproven,
            };
            replies[*at] = Some(reply);
            false
        });
    }
    replies.into_iter().map(|r| r.unwrap_or(Reply::NotAsked)).collect()
}

/// Whether datagrams that this host sends to itself come through: one that was sent
/// before, and what the kernel answered to it, have come too then, as the loopback
/// interface keeps their order. Twice, as an answer goes that way once more.
fn loopback_works_off(patience: Duration) -> bool {
    let comes_back = || -> io::Result<()> {
        let socket = std::net::UdpSocket::bind((std::net::Ipv4Addr::LOCALHOST, 0))?;
        socket.connect(socket.local_addr()?)?;
        socket.set_read_timeout(Some(patience.max(LOCAL_PATIENCE)))?;
        socket.send(&[0])?;
        socket.recv(&mut [0]).map(drop)
    };
    comes_back().and_then(|()| comes_back()).is_ok()
}

/// What a connection that was accepted has to say at once.
fn farewell(socket: &Socket, after: Duration) -> Reply {
    let mut first = [std::mem::MaybeUninit::uninit(); 1];
    match socket.peek(&mut first) {
        Ok(0) => Reply::Closed(after),
        Err(e) if e.raw_os_error() == Some(nix::libc::ECONNRESET) => Reply::Closed(after),
        _ => Reply::Accepted(after),
    }
}

/// Sends an echo request and waits for its reply: with a socket that any
/// account may have where `net.ipv4.ping_group_range` lets it, else with a raw
/// one, which root may have.
pub fn ping(to: IpAddr, patience: Duration) -> Reply {
    let begin = Instant::now();
    let (domain, protocol) = match to {
        IpAddr::V4(_) => (Domain::IPV4, Protocol::ICMPV4),
        IpAddr::V6(_) => (Domain::IPV6, Protocol::ICMPV6),
    };
    // The low half of the process number, as long as it tells programs apart.
    let id = std::process::id() as u16;
    let sent = || -> io::Result<Socket> {
        let socket = Socket::new(domain, Type::DGRAM, Some(protocol))
            .or_else(|_| Socket::new(domain, Type::RAW, Some(protocol)))?;
        socket.set_read_timeout(Some(patience))?;
        socket.connect(&SocketAddr::new(to, 0).into())?;
        socket.send(&echo_request(to, id))?;
        Ok(socket)
    };
    let socket = match sent() {
        Ok(socket) => socket,
        Err(e) => return reply_of_error(&e, begin.elapsed()),
    };
    let raw = socket.r#type().is_ok_and(|kind| kind == Type::RAW);
    while begin.elapsed() < patience {
        let mut answer = [0; 128];
        match io::Read::read(&mut &socket, &mut answer) {
            // A raw socket hears other programs' replies, too.
            Ok(length) if raw && !is_my_reply(to, id, &answer[..length]) => {}
            Ok(_) => return Reply::Data(begin.elapsed()),
            Err(e) if matches!(e.kind(), io::ErrorKind::WouldBlock | io::ErrorKind::TimedOut) => {
                break;
            }
            Err(e) => {
                return match e.raw_os_error() {
                    Some(nix::libc::EHOSTUNREACH | nix::libc::EACCES) => {
                        Reply::Reset(begin.elapsed())
                    }
                    _ => reply_of_error(&e, begin.elapsed()),
                };
            }
        }
    }
    Reply::Nothing(begin.elapsed())
}

/// Type, code, checksum (of ICMPv6 the kernel's), identifier, sequence 1.
fn echo_request(to: IpAddr, id: u16) -> [u8; 8] {
    let [high, low] = id.to_be_bytes();
    let mut message = [if to.is_ipv4() { 8 } else { 128 }, 0, 0, 0, high, low, 0, 1];
    let sum = 0x0800 + u32::from(id) + 1;
    let folded = (sum & 0xffff) + (sum >> 16);
    let checksum = !(((folded & 0xffff) + (folded >> 16)) as u16);
    if to.is_ipv4() {
        message[2..4].copy_from_slice(&checksum.to_be_bytes());
    }
    message
}

/// Whether a raw socket's packet is the reply; of IPv4 it has its header.
fn is_my_reply(to: IpAddr, id: u16, packet: &[u8]) -> bool {
    let (begin, reply) = match to {
        IpAddr::V4(_) => (packet.first().map_or(0, |first| usize::from(first & 0x0f) * 4), 0),
        IpAddr::V6(_) => (0, 129),
    };
    packet.get(begin) == Some(&reply) && packet.get(begin + 4..begin + 6) == Some(&id.to_be_bytes())
}

fn open(door: Door) -> io::Result<Open> {
    let (kind, protocol) = match door.transport {
        Transport::Tcp => (Type::STREAM, Protocol::TCP),
        Transport::Udp => (Type::DGRAM, Protocol::UDP),
    };
    let opened = Instant::now();
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
    Ok(Open { socket, door, opened, accepted: None })
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
            // A reset after the handshake (tcp_reset of net/ipv4/tcp_input.c): who listens
            // accepted, and wants nothing to do with us.
            Some(nix::libc::ECONNRESET | nix::libc::EPIPE) => Reply::Closed(elapsed),
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
    use tipstaff_core::analysis::reach::Outcome;

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
            let outcomes: Vec<Outcome> = knock(&doors, Duration::from_secs(1), &mut |_| true)
                .into_iter()
                .map(Reply::outcome)
                .collect();
            use Outcome::{Answers, Refuses};
            assert_eq!(outcomes, [Answers, Refuses, Answers, Refuses], "{ip}");
        }
    }

    /// Between knocks and looking for replies a busy machine may do anything else.
    #[test]
    fn what_came_while_nobody_looked_is_seen() {
        let tcp = TcpListener::bind("127.0.0.1:0").unwrap();
        let free = || UdpSocket::bind("127.0.0.1:0").unwrap().local_addr().unwrap();
        let door = |transport, to, local| Door { transport, to, from: None, local };
        let doors = [
            door(Transport::Udp, free(), true),
            door(Transport::Tcp, tcp.local_addr().unwrap(), false),
            door(Transport::Udp, free(), true),
        ];
        let patience = Duration::from_millis(80);
        let mut dawdle = |at| {
            if at == 2 {
                std::thread::sleep(2 * patience);
            }
            true
        };
        let replies = knock(&doors, patience, &mut dawdle);
        let outcomes: Vec<Outcome> = replies.into_iter().map(Reply::outcome).collect();
        assert_eq!(outcomes, [Outcome::Refuses, Outcome::Answers, Outcome::Refuses]);
    }

    #[test]
    fn a_program_that_closes_at_once_is_told_from_one_that_waits_or_speaks() {
        use std::io::Write;
        let here = || TcpListener::bind("127.0.0.1:0").unwrap();
        let (closing, waiting, speaking) = (here(), here(), here());
        let door = |listener: &TcpListener| Door {
            transport: Transport::Tcp,
            to: listener.local_addr().unwrap(),
            from: None,
            local: true,
        };
        let doors = [door(&closing), door(&waiting), door(&speaking)];
        let programs = std::thread::spawn(move || {
            drop(closing.accept().unwrap());
            let mut stream = speaking.accept().unwrap().0;
            stream.write_all(b"ready").unwrap();
            (stream, waiting)
        });
        let replies = knock(&doors, Duration::from_secs(1), &mut |_| true);
        assert!(
            matches!(replies[..], [Reply::Closed(_), Reply::Accepted(_), Reply::Accepted(_)]),
            "{replies:?}"
        );
        drop(programs.join().unwrap());
    }

    #[test]
    fn a_program_that_resets_what_it_accepts_has_accepted() {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let to = listener.local_addr().unwrap();
        const ROUNDS: usize = 200;
        let program = std::thread::spawn(move || {
            for _ in 0..ROUNDS {
                let stream = Socket::from(listener.accept().unwrap().0);
                stream.set_linger(Some(Duration::ZERO)).unwrap();
            }
        });
        let door = Door { transport: Transport::Tcp, to, from: None, local: true };
        for reply in knock(&[door; ROUNDS], Duration::from_secs(5), &mut |_| true) {
            assert_eq!(reply.outcome(), Outcome::Answers, "{reply:?}");
        }
        program.join().unwrap();
    }

    #[test]
    fn an_echo_request_is_answered_by_this_host() {
        for ip in ["127.0.0.1", "::1"] {
            let reply = ping(ip.parse().unwrap(), Duration::from_secs(1));
            // Neither kind of socket is for every account.
            assert!(matches!(reply, Reply::Data(_) | Reply::NotSent(_)), "{ip} {reply:?}");
        }
        let request = echo_request("127.0.0.1".parse().unwrap(), 0x1234);
        assert_eq!(request, [8, 0, 0xe5, 0xca, 0x12, 0x34, 0, 1]);
    }

    #[test]
    fn a_check_that_ends_early_says_what_it_did_not_ask() {
        let listener = TcpListener::bind("127.0.0.1:0").unwrap();
        let to = listener.local_addr().unwrap();
        let door = Door { transport: Transport::Tcp, to, from: None, local: true };
        let replies = knock(&[door; 3], Duration::from_secs(1), &mut |asked| asked < 1);
        assert!(matches!(replies[..], [Reply::Accepted(_), Reply::NotAsked, Reply::NotAsked]));
    }
}
