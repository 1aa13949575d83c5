//! The memory of rates, with the time passed in, counted from any fixed moment.
//!
//! The generic cell rate algorithm (GCRA, as virtual scheduling: ITU-T I.371
//! annex A; the same as a bucket of `burst` tokens that fills evenly). It keeps
//! one number a source, the theoretical arrival time of its next packet. A packet
//! is within the rate when that time is at most the tolerance ahead of now.

use std::collections::HashMap;
use std::net::{IpAddr, Ipv6Addr};
use std::time::Duration;

use schemars::JsonSchema;
use serde::Serialize;

use crate::brief::RuleIndex;
use crate::decision::shares::{Filled, Shares};
use crate::decision::{Decision, Speaker};
use crate::orders::{Action, Limit, Memory, Sharing};
use crate::packet::{Packet, Payload};

/// So many sources are remembered unless the orders say otherwise; the one that
/// was quiet for longest makes room.
pub const CAPACITY: usize = Memory::USUAL as usize;

/// Whose tokens: a rule's, and a source's where each has its own.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Bucket {
    /// [`Limit::id`].
    pub rule: u64,
    /// `None`: all sources share it.
    pub source: Option<IpAddr>,
}

impl Bucket {
    /// The bucket that a packet from `source` takes from.
    pub fn for_source(limit: &Limit, source: IpAddr) -> Self {
        let source = match limit.sharing {
            Sharing::InAll => None,
            Sharing::PerSource => Some(one_of_many(source)),
        };
        Self { rule: limit.id, source }
    }
}

/// The address that stands for a source: itself in IPv4, its /64 in IPv6.
pub fn one_of_many(source: IpAddr) -> IpAddr {
    match source {
        IpAddr::V4(_) => source,
        IpAddr::V6(a) => IpAddr::V6(Ipv6Addr::from(u128::from(a) >> 64 << 64)),
    }
}

/// How a source stands with a rate.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, JsonSchema, Serialize)]
pub struct SourceState {
    /// Who: an address, the begin of a /64, or everybody together.
    pub source: Option<IpAddr>,
    /// So many packets more would be within the rate now.
    pub room: u64,
    /// Nanoseconds until one more is; 0 where there is room.
    pub wait: u64,
}

impl SourceState {
    /// From its theoretical arrival time, both in nanoseconds; `None` when that has
    /// passed, as for one that was never seen.
    pub fn from_theoretical_arrival(
        limit: &Limit,
        source: Option<IpAddr>,
        theoretical_arrival: u64,
        now: u64,
    ) -> Option<Self> {
        let ahead = theoretical_arrival.checked_sub(now).filter(|ahead| *ahead > 0)?;
        let (room, wait) = match limit.tolerance.checked_sub(ahead) {
            Some(left) => (left / limit.increment.max(1) + 1, 0),
            None => (0, ahead - limit.tolerance),
        };
        Some(Self { source, room, wait })
    }
}

/// The memory.
#[derive(Clone, Debug)]
pub struct Rates {
    theoretical_arrival: HashMap<Bucket, u64>,
    shares: Shares,
    room: usize,
}

impl Default for Rates {
    fn default() -> Self {
        Self::with_room(CAPACITY)
    }
}

impl Rates {
    /// With room for so many sources.
    pub fn with_room(room: usize) -> Self {
        Self { theoretical_arrival: HashMap::new(), shares: Shares::default(), room }
    }

    /// Takes one packet out of a rate. `false`: it is beyond it, and nothing was
    /// taken; or its network has brought so many new sources lately that there
    /// is no room for one more.
    pub fn take(&mut self, limit: &Limit, source: IpAddr, now: Duration) -> bool {
        let now = u64::try_from(now.as_nanos()).unwrap_or(u64::MAX);
        let bucket = Bucket::for_source(limit, source);
        let theoretical_arrival =
            self.theoretical_arrival.get(&bucket).copied().unwrap_or(0).max(now);
        if theoretical_arrival - now > limit.tolerance {
            return false;
        }
        let is_new = !self.theoretical_arrival.contains_key(&bucket);
        let at = Duration::from_nanos(now);
        if let Some(source) = bucket.source.filter(|_| is_new)
            && !self.shares.take(Filled::Sources, source, self.room, at)
        {
            return false;
        }
        if self.theoretical_arrival.len() >= self.room && is_new {
            let quiet = self.theoretical_arrival.iter().min_by_key(|(bucket, at)| (**at, **bucket));
            let quiet = quiet.map(|(bucket, _)| *bucket);
            quiet.map(|bucket| self.theoretical_arrival.remove(&bucket));
        }
        self.theoretical_arrival
            .insert(bucket, theoretical_arrival.saturating_add(limit.increment));
        true
    }

    /// Everybody who is not level with a rate, in the order of their addresses.
    pub fn sources(&self, limit: &Limit, now: Duration) -> Vec<SourceState> {
        let now = u64::try_from(now.as_nanos()).unwrap_or(u64::MAX);
        let own = self.theoretical_arrival.iter().filter(|(bucket, _)| bucket.rule == limit.id);
        let mut states: Vec<SourceState> = own
            .filter_map(|(b, at)| SourceState::from_theoretical_arrival(limit, b.source, *at, now))
            .collect();
        states.sort_unstable();
        states
    }

    /// Whether one packet would be within a rate, without taking it.
    pub fn is_within(&self, limit: &Limit, source: IpAddr, now: Duration) -> bool {
        let now = u64::try_from(now.as_nanos()).unwrap_or(u64::MAX);
        let theoretical_arrival =
            self.theoretical_arrival.get(&Bucket::for_source(limit, source)).copied().unwrap_or(0);
        theoretical_arrival.saturating_sub(now) <= limit.tolerance
    }

    /// What a decision becomes when the rate of the rule that decided is asked
    /// too. Of a connection only what opens it takes from the rate, a pure SYN:
    /// the last step of its handshake, where the kernel has no memory of the
    /// first (SYN cookies), is the same connection.
    #[inline]
    pub fn ask(
        &mut self,
        decision: Decision,
        limit: impl FnOnce(RuleIndex) -> Option<Limit>,
        packet: &Packet,
        now: Duration,
    ) -> Decision {
        let (Speaker::Rule(index), Packet::Ip(ip)) = (decision.speaker, packet) else {
            return decision;
        };
        let Some(limit) = limit(index) else { return decision };
        let opens = !matches!(ip.payload, Payload::Tcp { flags, .. } if !flags.is_pure_syn());
        let within = match opens {
            true => self.take(&limit, ip.source, now),
            false => self.is_within(&limit, ip.source, now),
        };
        match within {
            true => decision,
            false => {
                Decision { verdict: Action::from(limit.over), speaker: Speaker::Beyond(index) }
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::orders::Over;

    const SECOND: u64 = 1_000_000_000;

    /// 6 a minute, 3 at once.
    fn limit(sharing: Sharing) -> Limit {
        let increment = 10 * SECOND;
        Limit { id: 7, increment, tolerance: 2 * increment, sharing, over: Over::Deny }
    }

    fn at(seconds: u64) -> Duration {
        Duration::from_secs(1_000_000 + seconds)
    }

    #[test]
    fn a_burst_then_one_each_ten_seconds() {
        let mut rates = Rates::default();
        let mut take = |seconds, source: &str| {
            rates.take(&limit(Sharing::PerSource), source.parse().unwrap(), at(seconds))
        };
        let taken: Vec<bool> = (0..5).map(|_| take(0, "203.0.113.9")).collect();
        assert_eq!(taken, [true, true, true, false, false]);
        assert!(take(0, "203.0.113.10"), "another source has its own rate");
        assert!(!take(9, "203.0.113.9") && take(10, "203.0.113.9") && !take(10, "203.0.113.9"));
        let state = |rates: &Rates, seconds| {
            let states = rates.sources(&limit(Sharing::PerSource), at(seconds));
            states.iter().map(|s| (s.room, s.wait / SECOND)).collect::<Vec<_>>()
        };
        assert_eq!(state(&rates, 5), [(0, 15), (2, 0)]);
        assert_eq!(state(&rates, 1_000), []);
        let mut take = |seconds, source: &str| {
            rates.take(&limit(Sharing::PerSource), source.parse().unwrap(), at(seconds))
        };
        // Whoever is quiet for long gets the burst again and not more.
        let taken = (0..9).filter(|_| take(10_000, "203.0.113.9")).count();
        assert_eq!(taken, 3);
    }

    #[test]
    fn a_64_of_ipv6_is_one_source_and_in_all_is_shared_by_everybody() {
        let mut rates = Rates::default();
        let count = |rates: &mut Rates, limit: &Limit, sources: &[&str]| {
            sources
                .iter()
                .cycle()
                .take(8)
                .filter(|s| rates.take(limit, s.parse().unwrap(), at(0)))
                .count()
        };
        let each = limit(Sharing::PerSource);
        assert_eq!(count(&mut rates, &each, &["2001:db8:113::1", "2001:db8:113::ffff:2"]), 3);
        assert_eq!(count(&mut rates, &each, &["2001:db8:113:1::1", "2001:db8:113:2::1"]), 6);
        let all = Limit { id: 8, ..limit(Sharing::InAll) };
        assert_eq!(count(&mut rates, &all, &["203.0.113.9", "2001:db8:113::1", "192.0.2.66"]), 3);
    }

    #[test]
    fn the_memory_is_bounded_and_forgets_the_quietest() {
        const ROOM: usize = 1_600;
        let mut rates = Rates::with_room(ROOM);
        let limit = limit(Sharing::PerSource);
        // From networks enough.
        let source = |n: u32| IpAddr::from((0xc600_0000 + (n << 16)).to_be_bytes());
        for n in 0..=ROOM as u32 {
            assert!(rates.take(&limit, source(n), Duration::from_nanos(u64::from(n))));
        }
        assert_eq!(rates.theoretical_arrival.len(), ROOM);
        // One network does not push the others out.
        let one = |n: u32| IpAddr::from((0x0a00_0000 + n).to_be_bytes());
        let taken = (0..ROOM as u32).filter(|n| rates.take(&limit, one(*n), Duration::ZERO));
        assert_eq!(taken.count(), ROOM / 16);
        assert!(!rates.theoretical_arrival.contains_key(&Bucket::for_source(&limit, source(0))));
    }

    #[test]
    fn room_is_known_without_taking_it() {
        let limit = limit(Sharing::PerSource);
        let source = IpAddr::from([203, 0, 113, 9]);
        let mut rates = Rates::default();
        let mut within = Vec::new();
        for _ in 0..4 {
            within.push(rates.is_within(&limit, source, at(0)));
            rates.take(&limit, source, at(0));
        }
        assert_eq!(within, [true, true, true, false]);
        assert!(!rates.is_within(&limit, source, at(9)) && rates.is_within(&limit, source, at(10)));
        let state = |arrival| SourceState::from_theoretical_arrival(&limit, None, arrival, 5);
        assert_eq!((state(4), state(5)), (None, None), "level with the rate");
        assert_eq!(state(6), Some(SourceState { source: None, room: 2, wait: 0 }));
    }
}
