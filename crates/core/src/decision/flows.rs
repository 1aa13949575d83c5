//! What this host remembers of traffic that has no connection of its own: who
//! opened what, so that answers pass and an answer opens nothing.
//!
//! Four memories, each bounded, each forgetting what was quiet for longest:
//! what this host *opened* (sent, or forwarded) and was answered; what it
//! opened and was not answered yet, which a flood can fill without pushing the
//! first out; what it *let in*, so that its own answers are told from what it
//! opens itself; and the first fragments that passed. TCP of this host needs
//! none: the sockets know. TCP that was forwarded is remembered both ways.
//!
//! An entry bears the [`Stamps`] of the list that it was made under: under
//! another one it is decided again. Time is passed in, counted from any fixed
//! moment.

use std::collections::HashMap;
use std::hash::Hash;
use std::net::IpAddr;
use std::time::Duration;

use foldhash::fast::RandomState;

pub use crate::brief::Stamps;
use crate::decision::shares::{Filled, Shares};
use crate::names::traffic::{ICMP, ICMPV6, TCP, UDP};
use crate::orders;
use crate::packet::{Direction, IpPacket, Payload, Quote, TcpFlags};

/// How long after the last packet out an answer still comes in.
pub const UDP_AGE: Duration = Duration::from_secs(180);
/// The same for echo replies.
pub const ECHO_AGE: Duration = Duration::from_secs(30);
/// How long a forwarded TCP connection may be quiet (RFC 5382 section 5).
pub const TCP_AGE: Duration = Duration::from_secs(2 * 3600 + 4 * 60);
/// How long after a first fragment the others pass (RFC 8200 section 4.5).
pub const FRAGMENT_AGE: Duration = Duration::from_secs(60);
/// So many flows are remembered in each memory unless the orders say otherwise.
pub const CAPACITY: usize = orders::Memory::USUAL as usize;
/// So many first fragments are remembered.
pub const FRAGMENTS: usize = 16_384;

/// One flow, seen from this side. For an echo the remote port is the
/// identifier; where there are no ports they are 0.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Flow {
    /// The other end.
    pub remote: IpAddr,
    /// This end: an address of this host, or of one that it forwards for.
    pub local: IpAddr,
    /// Its port, or the identifier of the echo.
    pub remote_port: u16,
    /// Port of this end.
    pub local_port: u16,
    /// IANA protocol number.
    pub protocol: u8,
}

/// What a packet does in a flow.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Part {
    RuleQuery,
    Answer,
    Either,
}

impl Flow {
    /// The flow of a packet that goes away from this side, and its part in it.
    fn away(packet: &IpPacket) -> Option<(Self, Part)> {
        let (remote, local) = (packet.destination, packet.source);
        let flow = |remote_port, local_port, protocol| Self {
            remote,
            local,
            remote_port,
            local_port,
            protocol,
        };
        Some(match packet.payload {
            Payload::Tcp { from, to, .. } => (flow(to, from, TCP), Part::Either),
            Payload::Udp { from, to } => (flow(to, from, UDP), Part::Either),
            Payload::Icmp { kind, id, .. } => {
                let (protocol, request, reply) =
                    if remote.is_ipv4() { (ICMP, 8, 0) } else { (ICMPV6, 128, 129) };
                let part = match kind {
                    kind if kind == request => Part::RuleQuery,
                    kind if kind == reply => Part::Answer,
                    _ => return None,
                };
                (flow(id, 0, protocol), part)
            }
            Payload::Other { protocol } => (flow(0, 0, protocol), Part::Either),
            Payload::LaterFragment { .. } | Payload::Malformed => return None,
        })
    }

    /// The flow of a packet that comes to this side, and its part in it.
    fn hither(packet: &IpPacket) -> Option<(Self, Part)> {
        let turned = IpPacket { source: packet.destination, destination: packet.source, ..*packet };
        let payload = match packet.payload {
            Payload::Tcp { from, to, flags } => Payload::Tcp { from: to, to: from, flags },
            Payload::Udp { from, to } => Payload::Udp { from: to, to: from },
            other => other,
        };
        Self::away(&IpPacket { payload, ..turned })
    }

    /// The flows that an error may be about: the one that its quoted packet
    /// opened, and the one that it answered.
    fn quoted(quote: &Quote) -> [Self; 2] {
        let Quote { source, destination, protocol, from, to } = *quote;
        let flow = |remote, local, (remote_port, local_port)| Self {
            remote,
            local,
            remote_port,
            local_port,
            protocol,
        };
        // An echo has one identifier for both ways.
        let (opened, answered) = match is_icmp(source, protocol) {
            true => ((from, 0), (from, 0)),
            false => ((to, from), (from, to)),
        };
        [flow(destination, source, opened), flow(source, destination, answered)]
    }

    /// How long it is remembered.
    pub fn age(&self) -> Duration {
        match self.protocol {
            TCP => TCP_AGE,
            protocol if is_icmp(self.remote, protocol) => ECHO_AGE,
            _ => UDP_AGE,
        }
    }
}

/// Whether a protocol is the ICMP of an address' family.
fn is_icmp(address: IpAddr, protocol: u8) -> bool {
    protocol == if address.is_ipv4() { ICMP } else { ICMPV6 }
}

#[derive(Clone, Copy, Debug)]
struct Entry {
    at: Duration,
    stamp: u32,
    answered: bool,
}

/// A bounded memory that forgets what was quiet for longest.
#[derive(Debug)]
struct Memory<K> {
    seen: HashMap<K, Entry, RandomState>,
    room: usize,
}

impl<K: Copy + Eq + Hash> Memory<K> {
    fn new(room: usize) -> Self {
        Self { seen: HashMap::default(), room }
    }

    fn put(&mut self, key: K, entry: Entry) {
        if self.seen.len() >= self.room && !self.seen.contains_key(&key) {
            let oldest = self.seen.iter().min_by_key(|(_, e)| e.at).map(|(key, _)| *key);
            oldest.map(|key| self.seen.remove(&key));
        }
        self.seen.insert(key, entry);
    }

    /// An entry that is not older than `age`.
    fn get(&self, key: &K, now: Duration, age: Duration) -> Option<&Entry> {
        self.seen.get(key).filter(|entry| now.saturating_sub(entry.at) <= age)
    }
}

/// What the memory says of a packet before it is decided.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct Known {
    /// It belongs to a flow that holds: [`crate::packet::PacketContext::is_reply`].
    pub is_reply: bool,
    /// It answers what was let in, perhaps under another list: whatever is
    /// decided, it opens nothing.
    pub answers: bool,
}

/// The memory.
#[derive(Debug)]
pub struct Flows {
    answered: Memory<Flow>,
    unanswered: Memory<Flow>,
    let_in: Memory<Flow>,
    fragments: Memory<(IpAddr, IpAddr, u32)>,
    shares: Shares,
}

impl Default for Flows {
    fn default() -> Self {
        Self::with_room(CAPACITY)
    }
}

impl Flows {
    /// With room for so many flows in each memory.
    pub fn with_room(flows: usize) -> Self {
        Self {
            answered: Memory::new(flows),
            unanswered: Memory::new(flows),
            let_in: Memory::new(flows),
            fragments: Memory::new(FRAGMENTS),
            shares: Shares::default(),
        }
    }

    /// What is known of a packet before it is decided; changes nothing.
    pub fn knows(
        &self,
        direction: Direction,
        packet: &IpPacket,
        stamps: Stamps,
        now: Duration,
    ) -> Known {
        fn is_reply(is_reply: bool) -> Known {
            Known { is_reply, answers: false }
        }
        if let Payload::LaterFragment { id } = packet.payload {
            let key = (packet.source, packet.destination, id);
            return is_reply(self.fragments.get(&key, now, FRAGMENT_AGE).is_some());
        }
        if direction == Direction::Outbound {
            return self.answers(packet, stamps, now).map_or(Known::default(), |(known, _)| known);
        }
        if let Some(quote) = packet.quotes.filter(|_| direction == Direction::Transit) {
            return is_reply(
                Flow::quoted(&quote).iter().any(|flow| self.opened(flow, stamps, now).is_some()),
            );
        }
        is_reply(self.answered_by(packet, stamps, now).is_some())
    }

    /// Looks a packet up before it is decided; a connection or an exchange that
    /// goes on is kept alive.
    pub fn look_up(
        &mut self,
        direction: Direction,
        packet: &IpPacket,
        stamps: Stamps,
        now: Duration,
    ) -> Known {
        let known = self.knows(direction, packet, stamps, now);
        if direction == Direction::Outbound {
            if let Some((known, flow)) = self.answers(packet, stamps, now)
                && let Some(entry) = self.let_in.seen.get_mut(&flow).filter(|_| known.is_reply)
            {
                entry.at = now;
            }
            return known;
        }
        if let Some((flow, was_answered)) = self.answered_by(packet, stamps, now) {
            // A connection is answered once its opener goes on: a SYN-ACK alone is not enough.
            let goes_on = match packet.payload {
                Payload::Tcp { flags, .. } => flags.0 & TcpFlags::SYN == 0,
                _ => false,
            };
            if goes_on {
                let entry = Entry { at: now, stamp: stamps.opened, answered: true };
                self.answered.put(flow, entry);
            } else if !was_answered && let Some(entry) = self.unanswered.seen.get_mut(&flow) {
                entry.answered = true;
            }
        }
        known
    }

    /// The flow that a packet on its way in answers, and whether it was answered before.
    fn answered_by(
        &self,
        packet: &IpPacket,
        stamps: Stamps,
        now: Duration,
    ) -> Option<(Flow, bool)> {
        let (flow, part) = Flow::hither(packet)?;
        let opens = matches!(packet.payload, Payload::Tcp { flags, .. } if flags.is_pure_syn());
        if part == Part::RuleQuery || opens {
            return None;
        }
        Some((flow, self.opened(&flow, stamps, now)?))
    }

    /// Whether a flow was opened from this side and holds: `true` where it is
    /// among the answered ones.
    fn opened(&self, flow: &Flow, stamps: Stamps, now: Duration) -> Option<bool> {
        // Connections that are open go on, whatever list they were made under.
        let holds = |entry: &&Entry| flow.protocol == TCP || entry.stamp == stamps.opened;
        if self.answered.seen.contains_key(flow) {
            return self.answered.get(flow, now, flow.age()).filter(holds).map(|_| true);
        }
        self.unanswered.get(flow, now, flow.age()).filter(holds).map(|_| false)
    }

    /// The flow that a packet on its way out answers, and what follows from it.
    fn answers(&self, packet: &IpPacket, stamps: Stamps, now: Duration) -> Option<(Known, Flow)> {
        let (flow, part) = Flow::away(packet)?;
        if part == Part::RuleQuery || flow.protocol == TCP {
            return None;
        }
        let entry = self.let_in.get(&flow, now, flow.age())?;
        Some((Known { is_reply: entry.stamp == stamps.let_in, answers: true }, flow))
    }

    /// Takes note of a packet of this host's that was let out.
    pub fn sent(&mut self, packet: &IpPacket, known: Known, stamps: Stamps, now: Duration) {
        self.note_fragment(packet, now);
        if let Some((flow, part)) = Flow::away(packet)
            && !known.answers
            && part != Part::Answer
            && flow.protocol != TCP
        {
            self.open(flow, stamps, now);
        }
    }

    /// Takes note of a packet that the rules let in to this host. Whether it begins an
    /// exchange that was not known.
    pub fn let_in(&mut self, packet: &IpPacket, stamps: Stamps, now: Duration) -> bool {
        let Some((flow, part)) = Flow::hither(packet) else { return false };
        if part == Part::Answer || flow.protocol == TCP {
            return false;
        }
        let begins = !self.let_in.seen.contains_key(&flow);
        self.let_in.put(flow, Entry { at: now, stamp: stamps.let_in, answered: false });
        begins
    }

    /// Takes note of a packet that is forwarded, as it leaves; `opens`: the
    /// rules let it through, not a flow that was known.
    pub fn forwarded(&mut self, packet: &IpPacket, opens: bool, stamps: Stamps, now: Duration) {
        let Some((flow, part)) = Flow::away(packet) else { return };
        let resets = matches!(packet.payload, Payload::Tcp { flags, .. } if flags.resets());
        let opens = opens || flow.protocol == TCP;
        if opens && !resets && part != Part::Answer {
            let is_new = !self.answered.seen.contains_key(&flow)
                && !self.unanswered.seen.contains_key(&flow);
            let room = self.unanswered.room;
            if !is_new || self.shares.take(Filled::Forwarded, flow.local, room, now) {
                self.open(flow, stamps, now);
            }
        }
    }

    /// Takes note of the first of several fragments that passes.
    #[inline]
    pub fn note_fragment(&mut self, packet: &IpPacket, now: Duration) {
        if let Some(id) = packet.first_of {
            let entry = Entry { at: now, stamp: 0, answered: false };
            self.fragments.put((packet.source, packet.destination, id), entry);
        }
    }

    fn open(&mut self, flow: Flow, stamps: Stamps, now: Duration) {
        let entry = Entry { at: now, stamp: stamps.opened, answered: true };
        // Whoever goes on after an answer has a flow; of connections their answers tell.
        let goes_on = self.unanswered.seen.get(&flow).is_some_and(|entry| entry.answered);
        if self.answered.seen.contains_key(&flow) || goes_on && flow.protocol != TCP {
            self.answered.put(flow, entry);
        } else {
            self.unanswered.put(flow, Entry { answered: goes_on, ..entry });
        }
    }
}

#[cfg(test)]
mod tests;
