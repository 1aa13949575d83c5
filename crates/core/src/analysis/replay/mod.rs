//! What a list would have said of packets that were captured, with what the gate remembers
//! and the time of the capture.
//!
//! What a capture does not have is taken as follows. A TCP connection of this host is known
//! by its sockets; here by the packets that opened it, and one that goes on when the capture
//! begins is taken for open. Which program sends or listens nobody knows: rules about
//! programs match no packet.

mod connections;
mod conversations;

use std::net::IpAddr;
use std::time::Duration;

use crate::brief::Brief;
use crate::decision::flows::{Flows, Known, Stamps};
use crate::decision::foundations::Foundation;
use crate::decision::rates::Rates;
use crate::decision::{Decision, Speaker};
use crate::moment::Moment;
use crate::orders::Action;
use crate::packet::{
    Direction, InterfaceIndex, IpPacket, Packet, PacketContext, Payload, ProgramIndex,
};
use crate::tables::{Tables, TooLarge};

use connections::Connections;
pub use conversations::{Conversation, Conversations, Ends};

/// A list that decides captured packets.
pub struct Replay {
    tables: Tables<'static>,
    /// Of the list: to work them out means to look at all its rules.
    stamps: Stamps,
    flows: Flows,
    rates: Rates,
    connections: Connections,
}

/// A packet as it was captured.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Arrived<'p> {
    /// What it says.
    pub packet: &'p Packet,
    /// Where it was captured.
    pub interface: InterfaceIndex,
    /// Whether its link layer sent it to all or many: then it comes in, whatever the address.
    pub to_many: bool,
    /// When: since 1970-01-01 UTC.
    pub at: Duration,
}

/// What was said of a packet.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Replayed {
    /// To this host, from it, or through it.
    pub direction: Direction,
    /// What was said.
    pub decision: Decision,
}

impl Replay {
    /// A list with nothing remembered yet.
    ///
    /// # Errors
    /// When the list is too large for its tables.
    pub fn new(brief: &Brief) -> Result<Self, TooLarge> {
        let memory = brief.memory;
        Ok(Self {
            tables: Tables::build(brief)?.into_owned(),
            stamps: brief.stamps(),
            flows: Flows::with_room(memory.flows as usize),
            rates: Rates::with_room(memory.sources as usize),
            connections: Connections::default(),
        })
    }

    /// Another list from now on, as after a post: what is remembered stays.
    ///
    /// # Errors
    /// As [`Self::new`].
    pub fn post(&mut self, brief: &Brief) -> Result<(), TooLarge> {
        self.tables = Tables::build(brief)?.into_owned();
        self.stamps = brief.stamps();
        Ok(())
    }

    /// Decides the next packet.
    pub fn packet(&mut self, arrived: Arrived<'_>) -> Replayed {
        let Arrived { packet, interface, to_many, at } = arrived;
        let ip = match packet {
            Packet::Ip(ip) => Some(ip),
            _ => None,
        };
        let direction = ip.map_or(Direction::Inbound, |ip| self.direction(ip, to_many));
        let known = ip.map_or(Known::default(), |ip| match (direction, ip.payload) {
            (Direction::Inbound | Direction::Outbound, Payload::Tcp { .. }) => {
                Known { is_reply: self.connections.knows(direction, ip, at), answers: false }
            }
            _ => self.flows.look_up(direction, ip, self.stamps, at),
        });
        let facts = PacketContext {
            interface,
            direction,
            program: ProgramIndex::OTHER,
            is_reply: known.is_reply,
            now: Moment(u32::try_from(at.as_secs()).unwrap_or(u32::MAX)),
            packet: *packet,
        };
        let decision = self.tables.decide_within(&facts, &mut self.rates, at);
        match (ip, decision.verdict) {
            (Some(ip), Action::Allow) => self.passed(direction, ip, decision.speaker, known, at),
            (Some(ip), _) if direction != Direction::Transit => {
                self.connections.stopped(direction, ip, at);
            }
            _ => {}
        }
        Replayed { direction, decision }
    }

    /// What the gate and the sockets remember of what passed.
    fn passed(
        &mut self,
        direction: Direction,
        ip: &IpPacket,
        speaker: Speaker,
        known: Known,
        at: Duration,
    ) {
        let stamps = self.stamps;
        let by_foundation = matches!(speaker, Speaker::Foundation(_));
        match direction {
            Direction::Inbound => {
                self.flows.note_fragment(ip, at);
                if !by_foundation {
                    self.flows.let_in(ip, stamps, at);
                }
            }
            Direction::Outbound => self.flows.sent(ip, known, stamps, at),
            Direction::Transit => {
                self.flows.note_fragment(ip, at);
                self.flows.forwarded(ip, !by_foundation, stamps, at);
            }
        }
        if direction != Direction::Transit {
            self.connections.passed(direction, ip, at);
        }
    }

    /// From an own address it leaves; what is for one of them, for all or for many comes in.
    fn direction(&self, ip: &IpPacket, to_many: bool) -> Direction {
        let own = |address: IpAddr| self.tables.brief().own.binary_search(&address).is_ok();
        let for_many = match ip.destination {
            IpAddr::V4(four) => four.is_multicast() || four.is_broadcast(),
            IpAddr::V6(six) => six.is_multicast(),
        };
        match () {
            () if own(ip.source) => Direction::Outbound,
            () if own(ip.destination) || to_many || for_many => Direction::Inbound,
            () => Direction::Transit,
        }
    }
}

/// Whether what was said belongs to something that was decided before.
pub fn goes_on(speaker: Speaker) -> bool {
    matches!(speaker, Speaker::Foundation(Foundation::Replies | Foundation::LaterFragments))
}

#[cfg(test)]
mod tests;
