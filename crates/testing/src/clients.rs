//! What ordinary clients meet.

use std::io::{self, Read};
use std::net::{IpAddr, SocketAddr, TcpStream, UdpSocket};

use socket2::{Domain, Protocol, Socket, Type};
use tipstaff_host::lab::Space;

use crate::ip;
use crate::patience::PATIENCE;

/// A connection from one address to another.
///
/// # Errors
/// What the client is told.
pub fn connect(space: &Space, from: IpAddr, to: SocketAddr) -> io::Result<TcpStream> {
    let connect = move || {
        let socket = Socket::new(Domain::for_address(to), Type::STREAM, Some(Protocol::TCP))?;
        socket.bind(&SocketAddr::new(from, 0).into())?;
        socket.connect_timeout(&to.into(), PATIENCE)?;
        Ok(TcpStream::from(socket))
    };
    space.run(connect).unwrap()
}

/// Whether an echo request from one address to another is answered.
pub fn ping(space: &Space, from: &str, to: &str) -> bool {
    let (from, to) = (SocketAddr::new(ip(from), 0), SocketAddr::new(ip(to), 0));
    space
        .run(move || {
            let (protocol, request, reply) = match to.is_ipv4() {
                true => (Protocol::ICMPV4, 8, 0),
                false => (Protocol::ICMPV6, 128, 129),
            };
            let socket = Socket::new(Domain::for_address(to), Type::RAW, Some(protocol)).unwrap();
            socket.bind(&from.into()).unwrap();
            socket.set_read_timeout(Some(PATIENCE)).unwrap();
            // The kernel fills in ICMPv6's checksum; ICMP's of this very message is known.
            let mut message = [request, 0, 0, 0, 0x12, 0x34, 0, 1];
            if to.is_ipv4() {
                message[2..4].copy_from_slice(&0xe5ca_u16.to_be_bytes());
            }
            // What is denied on its way out is told to the sender.
            if socket.send_to(&message, &to.into()).is_err() {
                return false;
            }
            let mut socket = socket;
            let mut answer = [0; 256];
            while let Ok(length) = socket.read(&mut answer) {
                let begin = if to.is_ipv4() { 20 } else { 0 };
                let mine = length > begin + 5 && answer[begin + 4..begin + 6] == [0x12, 0x34];
                if mine && answer[begin] == reply {
                    return true;
                }
            }
            false
        })
        .unwrap()
}

/// What a datagram's sender is told by an ICMP error.
pub fn told(space: &Space, from: IpAddr, to: SocketAddr) -> io::ErrorKind {
    let met = space.run(move || {
        let socket = UdpSocket::bind((from, 0)).unwrap();
        socket.set_read_timeout(Some(PATIENCE)).unwrap();
        socket.connect(to).unwrap();
        socket.send(b"?").unwrap();
        socket.recv(&mut [0; 8]).unwrap_err().kind()
    });
    met.unwrap()
}
