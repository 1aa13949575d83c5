//! The memory of rates, with the time passed in, counted from any fixed moment.
//!
//! One number a source: the time at which it would be level with its rate
//! again (the virtual scheduling algorithm of ITU-T I.371 annex A, the same as
//! a bucket of `burst` tokens that fills evenly). A packet is within the rate
//! when that time is at most the tolerance ahead of now.

use std::collections::HashMap;
use std::net::{IpAddr, Ipv6Addr};
use std::time::Duration;

use crate::brief::RuleIndex;
use crate::decide::{Decision, Speaker};
use crate::orders::{Action, Limit, Sharing};
use crate::packet::{Facts, Packet};

/// So many sources are remembered; the one that was quiet for longest makes room.
pub const CAPACITY: usize = 65_536;

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
    pub fn of(limit: &Limit, source: IpAddr) -> Self {
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

/// The memory.
#[derive(Clone, Debug, Default)]
pub struct Rates {
    level_at: HashMap<Bucket, u64>,
}

impl Rates {
    /// Takes one packet out of a rate. `false`: it is beyond it, and nothing was taken.
    pub fn take(&mut self, limit: &Limit, source: IpAddr, now: Duration) -> bool {
        let now = u64::try_from(now.as_nanos()).unwrap_or(u64::MAX);
        let bucket = Bucket::of(limit, source);
        let level_at = self.level_at.get(&bucket).copied().unwrap_or(0).max(now);
        if level_at - now > limit.tolerance {
            return false;
        }
        if self.level_at.len() >= CAPACITY && !self.level_at.contains_key(&bucket) {
            let quiet = self.level_at.iter().min_by_key(|(bucket, at)| (**at, **bucket));
            let quiet = quiet.map(|(bucket, _)| *bucket);
            quiet.map(|bucket| self.level_at.remove(&bucket));
        }
        self.level_at.insert(bucket, level_at.saturating_add(limit.increment));
        true
    }

    /// What a decision becomes when the rate of the rule that spoke is asked too.
    pub fn ask(
        &mut self,
        decision: Decision,
        limit: impl FnOnce(RuleIndex) -> Option<Limit>,
        facts: &Facts,
        now: Duration,
    ) -> Decision {
        let (Speaker::Rule(index), Packet::Ip(ip)) = (decision.speaker, facts.packet) else {
            return decision;
        };
        match limit(index) {
            Some(limit) if !self.take(&limit, ip.source, now) => {
                Decision { verdict: Action::from(limit.over), speaker: Speaker::Beyond(index) }
            }
            _ => decision,
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
        let mut rates = Rates::default();
        let limit = limit(Sharing::PerSource);
        let source = |n: u32| IpAddr::from((0xc633_0000 + n).to_be_bytes());
        for n in 0..=CAPACITY as u32 {
            assert!(rates.take(&limit, source(n), Duration::from_nanos(u64::from(n))));
        }
        assert_eq!(rates.level_at.len(), CAPACITY);
        assert!(!rates.level_at.contains_key(&Bucket::of(&limit, source(0))));
    }
}
