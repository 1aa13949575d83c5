//! Who talked with whom, and what became of it.

use std::collections::HashMap;
use std::net::IpAddr;
use std::time::Duration;

use foldhash::fast::RandomState;

use super::connections::Connection;
use super::pairs::{End, Pair, Way};
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

impl Conversation {
    /// Nothing was said yet.
    fn begun(at: Duration) -> Self {
        Self {
            direction: Direction::Inbound,
            packets: 0,
            bytes: 0,
            stopped: 0,
            answered: false,
            speaker: Speaker::Nobody,
            begun: at,
        }
    }

    /// Counts a packet. `answers`: it comes from the other end than the first one.
    #[inline]
    fn add(&mut self, ip: &IpPacket, replayed: Replayed, bytes: u64, answers: bool) {
        let Replayed { direction, decision } = replayed;
        let stopped = decision.verdict != Action::Allow;
        if self.packets == 0 {
            (self.direction, self.speaker) = (direction, decision.speaker);
        } else {
            // A refusal is no answer.
            let refuses = matches!(ip.payload, Payload::Tcp { flags, .. } if flags.resets());
            self.answered |= answers && !refuses;
            let first = stopped && self.stopped == 0;
            if first || goes_on(self.speaker) && !goes_on(decision.speaker) {
                self.speaker = decision.speaker;
            }
        }
        self.packets += 1;
        self.bytes += bytes;
        self.stopped += u64::from(stopped);
    }
}

/// What is known of two ends of TCP or UDP.
#[derive(Debug)]
pub(super) struct Paired {
    /// As each of them would know its connection: the lower one's, the higher one's.
    connections: [Connection; 2],
    /// Whether each of them is this host.
    own: [bool; 2],
    /// Who sent the first packet.
    asker: End,
    ends: Ends,
    conversation: Conversation,
}

impl Paired {
    /// The connection as the end knows it that is this host's.
    #[inline]
    pub(super) fn connection(&mut self, here: End) -> &mut Connection {
        &mut self.connections[here as usize]
    }

    /// Whether an end is this host.
    #[inline]
    pub(super) fn is_own(&self, end: End) -> bool {
        self.own[end as usize]
    }

    /// Counts a packet of it.
    #[inline]
    pub(super) fn add(&mut self, way: &Way, ip: &IpPacket, replayed: Replayed, bytes: u64) {
        let answers = way.sender != self.asker || way.pair.is_one_end();
        self.conversation.add(ip, replayed, bytes, answers);
    }
}

/// All of a capture.
#[derive(Debug, Default)]
pub struct Conversations {
    /// Those of TCP and UDP, in the order in which they began.
    paired: Vec<Paired>,
    /// Where each of them stands.
    places: HashMap<Pair, usize, RandomState>,
    /// The last one: packets of one pair mostly follow each other.
    latest: Option<(Pair, usize)>,
    others: HashMap<Ends, Conversation, RandomState>,
}

/// The ends of a packet without ports as its sender asks, and of the one that it would answer.
fn ends(ip: &IpPacket) -> Option<(Ends, Ends)> {
    let key = ip.key()?;
    let ends = |source, from, destination, key| Ends { source, from, destination, key };
    let protocol = key.protocol();
    let (from, back) = match ip.payload {
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
    /// What is known of the pair of a packet, which may be its first one. `is_own`: whether
    /// an address is this host's.
    #[inline]
    pub(super) fn paired(
        &mut self,
        way: &Way,
        ip: &IpPacket,
        at: Duration,
        is_own: impl Fn(IpAddr) -> bool,
    ) -> &mut Paired {
        let place = match self.latest {
            Some((pair, place)) if pair == way.pair => place,
            _ => {
                let place = match self.places.get(&way.pair) {
                    Some(place) => *place,
                    None => self.begin(way, ip, at, is_own),
                };
                self.latest = Some((way.pair, place));
                place
            }
        };
        &mut self.paired[place]
    }

    /// The addresses of this host are others now.
    pub(super) fn move_to(&mut self, is_own: impl Fn(IpAddr) -> bool) {
        for known in &mut self.paired {
            known.own[known.asker as usize] = is_own(known.ends.source);
            known.own[known.asker.other() as usize] = is_own(known.ends.destination);
        }
    }

    fn begin(
        &mut self,
        way: &Way,
        ip: &IpPacket,
        at: Duration,
        is_own: impl Fn(IpAddr) -> bool,
    ) -> usize {
        let key = TrafficKey::new(way.protocol, way.to);
        let (source, destination) = (ip.source, ip.destination);
        let own = [is_own(source), is_own(destination)];
        let place = self.paired.len();
        self.paired.push(Paired {
            connections: Default::default(),
            own: match way.sender {
                End::Low => own,
                End::High => [own[1], own[0]],
            },
            asker: way.sender,
            ends: Ends { source, from: way.from, destination, key },
            conversation: Conversation::begun(at),
        });
        self.places.insert(way.pair, place);
        place
    }

    /// Counts a packet that has no ports.
    pub(super) fn add_other(
        &mut self,
        ip: &IpPacket,
        replayed: Replayed,
        bytes: u64,
        at: Duration,
    ) {
        let Some((asked, answered)) = ends(ip) else { return };
        let answers = self.others.contains_key(&answered);
        let known = self.others.entry(if answers { answered } else { asked });
        known.or_insert_with(|| Conversation::begun(at)).add(ip, replayed, bytes, answers);
    }

    /// How many there are.
    pub fn len(&self) -> usize {
        self.paired.len() + self.others.len()
    }

    /// Whether there is none.
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// What became of one.
    pub fn get(&self, ends: &Ends) -> Option<&Conversation> {
        let protocol = ends.key.protocol();
        if !matches!(protocol, TCP | UDP) {
            return self.others.get(ends);
        }
        let (source, destination) = ((ends.source, ends.from), (ends.destination, ends.key.low()));
        let place = self.places.get(&Way::new(source, destination, protocol).pair)?;
        let known = self.paired.get(*place).filter(|known| known.ends == *ends)?;
        Some(&known.conversation)
    }

    /// All, the earliest first.
    pub fn in_order(&self) -> Vec<(&Ends, &Conversation)> {
        let paired = self.paired.iter().map(|known| (&known.ends, &known.conversation));
        let mut all: Vec<_> = paired.chain(&self.others).collect();
        all.sort_by_key(|(ends, conversation)| (conversation.begun, **ends));
        all
    }
}
