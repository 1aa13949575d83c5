//! Shares in a memory that many fill: no one network can push all others out of
//! it. What a network adds within a window of time is counted; beyond its share
//! nothing of it is added.

use std::collections::HashMap;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};
use std::time::Duration;

/// A window is 2 to this power nanoseconds long: 68.7 seconds.
pub const WINDOW_BITS: u32 = 36;
/// The share of one network: this part of a memory.
pub const PART: usize = 16;
/// So many networks are counted; the one that was quiet for longest makes room.
pub const CAPACITY: usize = 16_384;

/// What is filled.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, PartialOrd, Ord)]
pub enum Filled {
    /// The sources of rates, by the networks that bring them.
    Sources = 1,
    /// What is forwarded and not answered yet, by who sends it.
    Forwarded = 2,
}

impl Filled {
    /// Whose share an address counts for: for sources the /16 or /48 around
    /// it, which anybody may have whole; for what is forwarded the address
    /// itself, or its /64.
    pub fn network(self, address: IpAddr) -> IpAddr {
        match (self, address) {
            (Self::Sources, IpAddr::V4(a)) => IpAddr::V4(Ipv4Addr::from(u32::from(a) >> 16 << 16)),
            (Self::Sources, IpAddr::V6(a)) => IpAddr::V6(Ipv6Addr::from(u128::from(a) >> 80 << 80)),
            (Self::Forwarded, IpAddr::V4(_)) => address,
            (Self::Forwarded, IpAddr::V6(a)) => {
                IpAddr::V6(Ipv6Addr::from(u128::from(a) >> 64 << 64))
            }
        }
    }
}

/// How much each network has added in its last window.
#[derive(Clone, Debug, Default)]
pub struct Shares {
    added: HashMap<(Filled, IpAddr), (u64, usize)>,
}

impl Shares {
    /// Whether a network may add one entry more to a memory with so much room;
    /// it is counted then.
    pub fn take(&mut self, filled: Filled, address: IpAddr, room: usize, now: Duration) -> bool {
        let window = u64::try_from(now.as_nanos()).unwrap_or(u64::MAX) >> WINDOW_BITS;
        let key = (filled, filled.network(address));
        if self.added.len() >= CAPACITY && !self.added.contains_key(&key) {
            let quiet = self.added.iter().min_by_key(|(key, (window, _))| (*window, **key));
            let quiet = quiet.map(|(key, _)| *key);
            quiet.map(|key| self.added.remove(&key));
        }
        let (last, count) = self.added.entry(key).or_insert((window, 0));
        if *last != window {
            (*last, *count) = (window, 0);
        }
        let within = *count < (room / PART).max(1);
        *count += usize::from(within);
        within
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn each_network_has_its_share_in_each_window() {
        let mut shares = Shares::default();
        let mut added = |filled, network: &str, seconds| {
            let address: Ipv6Addr = network.parse().unwrap();
            let other = |n: u128| IpAddr::V6(Ipv6Addr::from(u128::from(address) + (n << 64)));
            let now = Duration::from_secs(seconds);
            (0..1_000).filter(|n| shares.take(filled, other(*n), 1_600, now)).count()
        };
        assert_eq!(added(Filled::Sources, "2001:db8:66::", 0), 100);
        assert_eq!(added(Filled::Sources, "2001:db8:66::", 60), 0);
        assert_eq!(added(Filled::Sources, "2001:db8:67::", 60), 100);
        assert_eq!(added(Filled::Sources, "2001:db8:66::", 70), 100);
        // Each of these is a /64 of its own.
        assert_eq!(added(Filled::Forwarded, "2001:db8:66::", 70), 1_000);
        let four = |n: u8| IpAddr::from([198, 51, n, n]);
        let mut four = |filled| {
            let now = Duration::from_secs(0);
            (0..=255).filter(|n| shares.take(filled, four(*n), 1_600, now)).count()
        };
        assert_eq!((four(Filled::Sources), four(Filled::Forwarded)), (100, 256));
    }

    #[test]
    fn the_quietest_network_is_forgotten_and_no_other() {
        let mut shares = Shares::default();
        let network = |n: usize| IpAddr::V6(Ipv6Addr::from((n as u128) << 80));
        let window = |n: u64| Duration::from_nanos(n << WINDOW_BITS);
        for n in 0..CAPACITY {
            assert!(shares.take(Filled::Sources, network(n), PART, window(1)));
            assert_eq!(shares.added.len(), n + 1);
        }
        // Who is known is looked up; a new one takes the place of who was quiet for longest.
        assert!(!shares.take(Filled::Sources, network(0), PART, window(1)));
        for n in 1..CAPACITY {
            assert!(shares.take(Filled::Sources, network(n), PART, window(2)));
        }
        assert!(shares.take(Filled::Sources, network(CAPACITY), PART, window(2)));
        assert_eq!(shares.added.len(), CAPACITY);
        assert!(!shares.added.contains_key(&(Filled::Sources, network(0))));
        assert!(!shares.take(Filled::Sources, network(1), PART, window(2)));
    }
}
