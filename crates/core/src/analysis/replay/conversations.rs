//! Who talked with whom, and what became of it.

use std::collections::HashMap;
use std::net::IpAddr;
use std::time::Duration;

use foldhash::fast::RandomState;

use super::{Replayed, goes_on};
use crate::decision::Speaker;
use crate::names::traffic::{ICMP, ICMPV6, TCP, TrafficKey, UDP};
use crate::orders::Action;
use crate::packet::{Direction, IpPacket, Payload};

/// The two ends, the one that asked first.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Ends {
    /// Who asked.
    pub source: IpAddr,
    /// Its port, or the identifier of an echo.
    pub from: u16,
    /// Whom.
    pub destination: IpAddr,
    /// What for.
    pub key: TrafficKey,
}

/// What was said of a conversation.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Conversation {
    /// Which way it was begun.
    pub direction: Direction,
    /// Packets of both ways.
    pub packets: u64,
    /// Their bytes.
    pub bytes: u64,
    /// How many of them were denied or refused.
    pub stopped: u64,
    /// Whether both ends said something in the capture.
    pub answered: bool,
    /// Who decided the first packet that was stopped; else the first one.
    pub speaker: Speaker,
    /// When it began, since 1970-01-01 UTC.
    pub begun: Duration,
}

impl Conversation {
    /// Whether both ends talked in the capture, and would not have.
    pub fn is_cut(&self) -> bool {
        self.answered && self.stopped > 0
    }

    /// Whether somebody asked in vain in the capture too, and would be stopped.
    pub fn is_turned_away(&self) -> bool {
        !self.answered && self.stopped > 0
    }
}

/// All of a capture.
#[derive(Debug, Default)]
pub struct Conversations {
    all: HashMap<Ends, Conversation, RandomState>,
}

/// The ends of a packet as its sender asks, and of the one that it would answer.
fn ends(ip: &IpPacket) -> Option<(Ends, Ends)> {
    let key = ip.key()?;
    let ends = |source, from, destination, key| Ends { source, from, destination, key };
    let protocol = key.protocol();
    let (from, back) = match ip.payload {
        Payload::Tcp { from, to, .. } => (from, (to, TrafficKey::new(TCP, from))),
        Payload::Udp { from, to } => (from, (to, TrafficKey::new(UDP, from))),
        Payload::Icmp { kind, id, .. } => {
            let request = match (protocol, kind) {
                (ICMP, 0) => Some(TrafficKey::new(ICMP, u16::from_be_bytes([8, 0]))),
                (ICMPV6, 129) => Some(TrafficKey::new(ICMPV6, u16::from_be_bytes([128, 0]))),
                _ => None,
            };
            (id, (id, request.unwrap_or(key)))
        }
        _ => (0, (0, key)),
    };
    let asked = ends(ip.source, from, ip.destination, key);
    Some((asked, ends(ip.destination, back.0, ip.source, back.1)))
}

impl Conversations {
    /// Counts a packet.
    pub fn add(&mut self, ip: &IpPacket, replayed: Replayed, bytes: u64, at: Duration) {
        let Some((asked, answered)) = ends(ip) else { return };
        let Replayed { direction, decision } = replayed;
        let stopped = decision.verdict != Action::Allow;
        let (known, answers) = match self.all.get_mut(&answered) {
            Some(known) => (Some(known), true),
            None => (self.all.get_mut(&asked), false),
        };
        let Some(known) = known else {
            let conversation = Conversation {
                direction,
                packets: 1,
                bytes,
                stopped: u64::from(stopped),
                answered: false,
                speaker: decision.speaker,
                begun: at,
            };
            self.all.insert(asked, conversation);
            return;
        };
        // A refusal is no answer.
        let refuses = matches!(ip.payload, Payload::Tcp { flags, .. } if flags.resets());
        known.answered |= answers && !refuses;
        if stopped && known.stopped == 0 || goes_on(known.speaker) && !goes_on(decision.speaker) {
            known.speaker = decision.speaker;
        }
        known.packets += 1;
        known.bytes += bytes;
        known.stopped += u64::from(stopped);
    }

    /// How many there are.
    pub fn len(&self) -> usize {
        self.all.len()
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.all.is_empty()
    }

    /// What became of one.
    pub fn get(&self, ends: &Ends) -> Option<&Conversation> {
        self.all.get(ends)
    }

    /// All, the earliest first.
    pub fn in_order(&self) -> Vec<(&Ends, &Conversation)> {
        let mut all: Vec<_> = self.all.iter().collect();
        all.sort_by_key(|(ends, conversation)| (conversation.begun, **ends));
        all
    }
}
