//! What a list would have said of packets that were captured, with what the gate remembers
//! and the time of the capture.
//!
//! What a capture does not have is taken as follows. A TCP connection of this host is known
//! by its sockets; here by the packets that opened it, and one that goes on when the capture
//! begins is taken for open. Which program sends or listens nobody knows: rules about
//! programs match no packet.

mod connections;
mod conversations;
mod pairs;

use std::net::IpAddr;
use std::time::Duration;

use crate::brief::Brief;
use crate::decision::flows::{Flows, Stamps};
use crate::decision::foundations::Foundation;
use crate::decision::rates::Rates;
use crate::decision::{Decision, Speaker};
use crate::moment::Moment;
use crate::orders::Action;
use crate::packet::{
    Direction, InterfaceIndex, IpPacket, Packet, PacketContext, Payload, ProgramIndex, TcpFlags,
};
use crate::tables::{Tables, TooLarge};

use connections::Connection;
use pairs::Way;

pub use conversations::{Conversation, Conversations, Ends};

/// A list that decides captured packets, and who talked with whom.
pub struct Replay {
    judge: Judge,
    conversations: Conversations,
}

/// The list, and what it remembers as the gate does.
struct Judge {
    tables: Tables<'static>,
    /// Of the list: to work them out means to look at all its rules.
    stamps: Stamps,
    flows: Flows,
    rates: Rates,
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
    /// Its bytes on the wire.
    pub length: u64,
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
        let judge = Judge {
            tables: Tables::build(brief)?.into_owned(),
            stamps: brief.stamps(),
            flows: Flows::with_room(memory.flows as usize),
            rates: Rates::with_room(memory.sources as usize),
        };
        Ok(Self { judge, conversations: Conversations::default() })
    }

    /// Another list from now on, as after a post: what is remembered stays.
    ///
    /// # Errors
    /// As [`Self::new`].
    pub fn post(&mut self, brief: &Brief) -> Result<(), TooLarge> {
        self.judge.tables = Tables::build(brief)?.into_owned();
        self.judge.stamps = brief.stamps();
        self.conversations.move_to(|address| self.judge.is_own(address));
        Ok(())
    }

    /// Who talked with whom so far.
    pub fn conversations(&self) -> &Conversations {
        &self.conversations
    }

    /// Decides the next packet.
    #[inline]
    pub fn packet(&mut self, arrived: Arrived<'_>) -> Replayed {
        let Self { judge, conversations } = self;
        let Arrived { packet, to_many, at, length, .. } = arrived;
        let Packet::Ip(ip) = packet else {
            return judge.decide(&arrived, Direction::Inbound, false);
        };
        let Some(way) = Way::of_packet(ip) else {
            let own = (judge.is_own(ip.source), judge.is_own(ip.destination));
            let replayed = judge.of_flow(&arrived, ip, direction(ip, own, to_many));
            conversations.add_other(ip, replayed, length, at);
            return replayed;
        };
        let known = conversations.paired(&way, ip, at, |address| judge.is_own(address));
        let (sender, receiver) = (way.sender, way.sender.other());
        let own = (known.is_own(sender), known.is_own(receiver));
        let direction = direction(ip, own, to_many);
        let replayed = match (ip.payload, direction) {
            (Payload::Tcp { flags, .. }, Direction::Inbound) => {
                judge.of_connection(&arrived, ip, direction, (flags, known.connection(receiver)))
            }
            (Payload::Tcp { flags, .. }, Direction::Outbound) => {
                judge.of_connection(&arrived, ip, direction, (flags, known.connection(sender)))
            }
            _ => judge.of_flow(&arrived, ip, direction),
        };
        known.add(&way, ip, replayed, length);
        replayed
    }
}

impl Judge {
    fn is_own(&self, address: IpAddr) -> bool {
        self.tables.brief().own.binary_search(&address).is_ok()
    }

    #[inline]
    fn decide(&mut self, arrived: &Arrived<'_>, direction: Direction, is_reply: bool) -> Replayed {
        let facts = PacketContext {
            interface: arrived.interface,
            direction,
            program: ProgramIndex::OTHER,
            is_reply,
            now: Moment(u32::try_from(arrived.at.as_secs()).unwrap_or(u32::MAX)),
            packet: *arrived.packet,
        };
        let decision = self.tables.decide_within(&facts, &mut self.rates, arrived.at);
        Replayed { direction, decision }
    }

    /// A packet of TCP to this host or from it, which its socket knows.
    #[inline]
    fn of_connection(
        &mut self,
        arrived: &Arrived<'_>,
        ip: &IpPacket,
        direction: Direction,
        (flags, connection): (TcpFlags, &mut Connection),
    ) -> Replayed {
        let at = arrived.at;
        let replayed = self.decide(arrived, direction, connection.knows(flags, at));
        if replayed.decision.verdict == Action::Allow {
            self.flows.note_fragment(ip, at);
            connection.passed(flags, at);
        } else {
            connection.stopped(flags, at);
        }
        replayed
    }

    /// A packet that the gate remembers something of.
    fn of_flow(&mut self, arrived: &Arrived<'_>, ip: &IpPacket, direction: Direction) -> Replayed {
        let (at, stamps) = (arrived.at, self.stamps);
        let known = self.flows.look_up(direction, ip, stamps, at);
        let replayed = self.decide(arrived, direction, known.is_reply);
        let Decision { verdict, speaker } = replayed.decision;
        if verdict != Action::Allow {
            return replayed;
        }
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
        replayed
    }
}

/// From an own address it leaves; what is for one of them, for all or for many comes in.
/// `own`: whether the source and the destination are this host's.
#[inline]
fn direction(ip: &IpPacket, own: (bool, bool), to_many: bool) -> Direction {
    let for_many = || match ip.destination {
        IpAddr::V4(four) => four.is_multicast() || four.is_broadcast(),
        IpAddr::V6(six) => six.is_multicast(),
    };
    match own {
        (true, _) => Direction::Outbound,
        (_, own) if own || to_many || for_many() => Direction::Inbound,
        _ => Direction::Transit,
    }
}

/// Whether what was said belongs to something that was decided before.
pub fn goes_on(speaker: Speaker) -> bool {
    matches!(speaker, Speaker::Foundation(Foundation::Replies | Foundation::LaterFragments))
}

#[cfg(test)]
mod tests;
