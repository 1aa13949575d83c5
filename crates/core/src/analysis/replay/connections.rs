//! TCP connections of this host, as its sockets would know them.

use std::collections::HashMap;
use std::net::SocketAddr;
use std::time::Duration;

use foldhash::fast::RandomState;

use crate::packet::{Direction, IpPacket, Payload, TcpFlags};

/// A connection that nobody closes is forgotten after so long (RFC 5382 section 5).
const AGE: Duration = Duration::from_secs(2 * 3_600 + 4 * 60);
/// How often what is old is forgotten, in packets that open something.
const SWEEP: usize = 65_536;

/// This end and the other one.
type Key = (SocketAddr, SocketAddr);

#[derive(Clone, Copy, Debug)]
struct Connection {
    /// When something was last seen of it.
    at: Duration,
    /// Whether it is over, or never was: it was reset, or not let in.
    over: bool,
}

/// Those that are open.
#[derive(Debug, Default)]
pub(super) struct Connections {
    /// Looked up twice for each packet, so by a quick hash that is seeded anew each time.
    all: HashMap<Key, Connection, RandomState>,
    opened: usize,
}

fn key(direction: Direction, ip: &IpPacket) -> Option<(Key, TcpFlags)> {
    let Payload::Tcp { from, to, flags } = ip.payload else { return None };
    let (source, destination) =
        (SocketAddr::new(ip.source, from), SocketAddr::new(ip.destination, to));
    Some(match direction {
        Direction::Outbound => ((source, destination), flags),
        Direction::Inbound | Direction::Transit => ((destination, source), flags),
    })
}

impl Connections {
    /// Whether a packet belongs to one. A connection of which nothing was seen before was
    /// open when the capture began, unless this packet asks for one or refuses it.
    pub(super) fn knows(&self, direction: Direction, ip: &IpPacket, now: Duration) -> bool {
        let Some((key, flags)) = key(direction, ip) else { return false };
        match self.all.get(&key) {
            Some(known) => !known.over && now.saturating_sub(known.at) <= AGE,
            None => flags.0 & TcpFlags::SYN == 0 && !flags.resets(),
        }
    }

    /// Takes note of a packet that was stopped: what it asks for does not come to be.
    pub(super) fn stopped(&mut self, direction: Direction, ip: &IpPacket, now: Duration) {
        if let Some((key, flags)) = key(direction, ip)
            && flags.is_pure_syn()
        {
            self.all.insert(key, Connection { at: now, over: true });
        }
    }

    /// Takes note of a packet that passed.
    pub(super) fn passed(&mut self, direction: Direction, ip: &IpPacket, now: Duration) {
        let Some((key, flags)) = key(direction, ip) else { return };
        if let Some(known) = self.all.get_mut(&key) {
            // What was not let in is not open because the host answered it in the capture.
            let stays_over = known.over && !flags.is_pure_syn();
            *known = Connection { at: now, over: flags.resets() || stays_over };
            return;
        }
        self.all.insert(key, Connection { at: now, over: flags.resets() });
        self.opened += 1;
        if self.opened >= SWEEP {
            self.opened = 0;
            self.all.retain(|_, known| now.saturating_sub(known.at) <= AGE);
        }
    }
}
