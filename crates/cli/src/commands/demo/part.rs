//! A program of the observatory: listens and does nothing else. It ends when
//! its standard input does, and so with the demo, however that ends.

use std::io::{self, Read};
use std::net::{SocketAddr, TcpListener, TcpStream, UdpSocket};
use std::thread;

use crate::arguments::PlayOptions;
use crate::ending::Ending;
use crate::failure::{Failure, system};

pub fn play(options: &PlayOptions) -> Result<Ending, Failure> {
    for listener in &options.listeners {
        open(listener).map_err(system("running a program of the demo"))?;
    }
    let mut nothing = [0; 64];
    while io::stdin().read(&mut nothing).is_ok_and(|n| n > 0) {}
    Ok(Ending::Fine)
}

/// `tcp/ADDRESS:PORT` or `udp/ADDRESS:PORT`.
fn open(listener: &str) -> io::Result<()> {
    let (transport, address) = listener.split_once('/').ok_or(io::ErrorKind::InvalidInput)?;
    let address: SocketAddr = address.parse().map_err(io::Error::other)?;
    match transport {
        "tcp" => {
            let socket = TcpListener::bind(address)?;
            let hear =
                |mut stream: TcpStream| while stream.read(&mut [0; 64]).is_ok_and(|n| n > 0) {};
            thread::spawn(move || {
                socket
                    .incoming()
                    .flatten()
                    .for_each(|stream| drop(thread::spawn(move || hear(stream))));
            });
        }
        "udp" => {
            let socket = UdpSocket::bind(address)?;
            thread::spawn(move || while socket.recv(&mut [0; 64]).is_ok() {});
        }
        _ => return Err(io::ErrorKind::InvalidInput.into()),
    }
    Ok(())
}
