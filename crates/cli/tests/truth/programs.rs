//! Programs that play what listens in a world.

use std::net::{SocketAddr, TcpListener, UdpSocket};
use std::sync::Arc;
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use socket2::{Domain, Protocol, Socket, Type};
use tipstaff_core::names::traffic::Transport;

use crate::common::Lab;
use crate::worlds::{Manner, Wanted};
use tipstaff_testing::ip;

/// `IPPROTO_MPTCP` of include/uapi/linux/in.h.
pub const MPTCP: i32 = 262;

/// Programs that accept, and answer datagrams, until they are dropped.
pub struct Programs {
    stop: Arc<AtomicBool>,
    _tcp: Vec<TcpListener>,
    _fill: Vec<Socket>,
    udp: Option<std::thread::JoinHandle<()>>,
}

impl Programs {
    pub fn start(lab: &Lab, wanted: Vec<Wanted>) -> Self {
        let (tcp, udp, resetting, fill) = lab
            .archive
            .run(move || {
                let (mut tcp, mut udp) = (Vec::<TcpListener>::new(), Vec::<UdpSocket>::new());
                let (mut resetting, mut fill) = (Vec::<Socket>::new(), Vec::new());
                for (transport, to, only_six, manner) in wanted {
                    let (kind, protocol) = match transport {
                        Transport::Tcp => (Type::STREAM, Protocol::TCP),
                        Transport::Udp => (Type::DGRAM, Protocol::UDP),
                    };
                    let domain = Domain::for_address(to);
                    let protocol = match manner {
                        Manner::Multipath => Protocol::from(MPTCP),
                        _ => protocol,
                    };
                    let socket = Socket::new(domain, kind, Some(protocol)).unwrap();
                    socket.set_reuse_address(transport == Transport::Tcp).unwrap();
                    socket.set_reuse_port(true).unwrap();
                    if to.is_ipv6() {
                        socket.set_only_v6(only_six).unwrap();
                    }
                    socket.bind(&to.into()).unwrap();
                    if transport == Transport::Tcp {
                        socket.listen(if manner == Manner::IsFull { 0 } else { 64 }).unwrap();
                        match manner {
                            Manner::Waits | Manner::Multipath => tcp.push(socket.into()),
                            Manner::Resets => {
                                socket.set_nonblocking(true).unwrap();
                                resetting.push(socket);
                            }
                            Manner::IsFull => {
                                fill.extend(filled(to));
                                tcp.push(socket.into());
                            }
                        }
                    } else {
                        socket.set_nonblocking(true).unwrap();
                        udp.push(socket.into());
                    }
                }
                (tcp, udp, resetting, fill)
            })
            .unwrap();
        let stop = Arc::new(AtomicBool::new(false));
        let stopped = Arc::clone(&stop);
        let answer = move || {
            while !stopped.load(Ordering::Relaxed) {
                for socket in &resetting {
                    while let Ok((stream, _)) = socket.accept() {
                        stream.set_linger(Some(Duration::ZERO)).unwrap();
                    }
                }
                for socket in &udp {
                    while let Ok((_, sender)) = socket.recv_from(&mut [0; 16]) {
                        let _ = socket.send_to(b"ready", sender);
                    }
                }
                std::thread::sleep(Duration::from_micros(300));
            }
        };
        Self { stop, _tcp: tcp, _fill: fill, udp: Some(std::thread::spawn(answer)) }
    }
}

/// Connections that fill a queue with room for none: the kernel lets one more in
/// than there is room (`sk_acceptq_is_full` of include/net/sock.h).
fn filled(to: SocketAddr) -> Vec<Socket> {
    let to = match to.ip() {
        all if all.is_unspecified() && all.is_ipv4() => SocketAddr::new(ip("127.0.0.1"), to.port()),
        all if all.is_unspecified() => SocketAddr::new(ip("::1"), to.port()),
        _ => to,
    };
    let one = |_| {
        let socket =
            Socket::new(Domain::for_address(to), Type::STREAM, Some(Protocol::TCP)).unwrap();
        socket.set_linger(Some(Duration::ZERO)).unwrap();
        socket.connect_timeout(&to.into(), Duration::from_millis(300)).ok()?;
        Some(socket)
    };
    (0..1).filter_map(one).collect()
}

impl Drop for Programs {
    fn drop(&mut self) {
        self.stop.store(true, Ordering::Relaxed);
        if let Some(thread) = self.udp.take() {
            thread.join().unwrap();
        }
    }
}
