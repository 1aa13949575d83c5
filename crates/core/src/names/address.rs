//! Addresses as orders write them (one address, a prefix, first–last) and
//! sets of them, each family apart.

use std::fmt;
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr};

use ipnet::IpNet;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::range_set::RangeSet;

/// The two families of the Internet protocol.
#[derive(
    Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, JsonSchema, Serialize, Deserialize,
)]
#[serde(rename_all = "lowercase")]
pub enum Family {
    /// IPv4 (RFC 791).
    V4,
    /// IPv6 (RFC 8200).
    V6,
}

impl Family {
    /// Both families.
    pub const BOTH: [Self; 2] = [Self::V4, Self::V6];

    /// The family of an address.
    pub fn of_address(address: IpAddr) -> Self {
        match address {
            IpAddr::V4(_) => Self::V4,
            IpAddr::V6(_) => Self::V6,
        }
    }
}

impl fmt::Display for Family {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::V4 => "IPv4",
            Self::V6 => "IPv6",
        })
    }
}

/// Why a text is not an address range. Each says how to write it.
#[derive(Debug, Clone, PartialEq, Eq, thiserror::Error)]
pub enum AddressFault {
    /// Neither an address nor a prefix nor a range.
    #[error("not an address, a prefix or a first-last range")]
    Unreadable,
    /// A prefix with bits behind its length.
    #[error("the prefix has host bits set; the network is {network}")]
    HostBits {
        /// The network that was probably meant.
        network: String,
    },
    /// A prefix length that the family does not have.
    #[error("the prefix length must be 0 to {most}")]
    PrefixLength {
        /// 32 or 128.
        most: u8,
    },
    /// First and last of different families.
    #[error(
        "both ends of a range must be of the same family; this one goes from {first} to {last}"
    )]
    MixedFamilies {
        /// Family of the first address.
        first: Family,
        /// Family of the last address.
        last: Family,
    },
    /// First above last.
    #[error("the first address of a range must not be above its last")]
    Backwards,
    /// IPv4 in the form that IPv6 sockets use (RFC 4291 section 2.5.5.2): no packet has it.
    #[error("an IPv4-mapped IPv6 address, which no packet has; write {four}")]
    Mapped {
        /// The same as IPv4.
        four: String,
    },
}

fn mapped(address: IpAddr) -> Option<Ipv4Addr> {
    match address {
        IpAddr::V4(_) => None,
        IpAddr::V6(six) => six.to_ipv4_mapped(),
    }
}

/// A closed range of addresses of one family, first ≤ last.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum AddressRange {
    /// IPv4, host byte order.
    V4(u32, u32),
    /// IPv6, host byte order.
    V6(u128, u128),
}

impl AddressRange {
    /// The range of one address.
    pub fn single(address: IpAddr) -> Self {
        match address {
            IpAddr::V4(a) => Self::V4(a.into(), a.into()),
            IpAddr::V6(a) => Self::V6(a.into(), a.into()),
        }
    }

    /// The range from one address to another of the same family.
    ///
    /// # Errors
    /// [`AddressFault::MixedFamilies`], [`AddressFault::Backwards`].
    pub fn between(first: IpAddr, last: IpAddr) -> Result<Self, AddressFault> {
        let range = match (first, last) {
            (IpAddr::V4(a), IpAddr::V4(b)) => Self::V4(a.into(), b.into()),
            (IpAddr::V6(a), IpAddr::V6(b)) => Self::V6(a.into(), b.into()),
            _ => {
                return Err(AddressFault::MixedFamilies {
                    first: Family::of_address(first),
                    last: Family::of_address(last),
                });
            }
        };
        if first > last { Err(AddressFault::Backwards) } else { Ok(range) }
    }

    /// Reads `198.51.100.7`, `2001:db8:51::/48` or `198.51.100.7-198.51.100.20`.
    ///
    /// # Errors
    /// Every [`AddressFault`].
    pub fn parse(text: &str) -> Result<Self, AddressFault> {
        let range = Self::parse_either(text)?;
        match (mapped(range.first()), mapped(range.last())) {
            (Some(first), Some(last)) if first == last => {
                Err(AddressFault::Mapped { four: first.to_string() })
            }
            (Some(first), Some(last)) => {
                Err(AddressFault::Mapped { four: format!("{first}-{last}") })
            }
            _ => Ok(range),
        }
    }

    fn parse_either(text: &str) -> Result<Self, AddressFault> {
        if let Some((first, last)) = text.split_once('-') {
            fn read(t: &str) -> Result<IpAddr, AddressFault> {
                t.trim().parse::<IpAddr>().map_err(|_| AddressFault::Unreadable)
            }
            return Self::between(read(first)?, read(last)?);
        }
        if let Some((address, length)) = text.split_once('/') {
            let address: IpAddr = address.trim().parse().map_err(|_| AddressFault::Unreadable)?;
            let most = if address.is_ipv4() { 32 } else { 128 };
            let length: u8 =
                length.trim().parse().map_err(|_| AddressFault::PrefixLength { most })?;
            let net =
                IpNet::new(address, length).map_err(|_| AddressFault::PrefixLength { most })?;
            if net.network() != address {
                return Err(AddressFault::HostBits { network: net.trunc().to_string() });
            }
            return Ok(Self::from(net));
        }
        text.trim().parse().map(Self::single).map_err(|_| AddressFault::Unreadable)
    }

    /// The first address.
    pub fn first(&self) -> IpAddr {
        match *self {
            Self::V4(a, _) => Ipv4Addr::from(a).into(),
            Self::V6(a, _) => Ipv6Addr::from(a).into(),
        }
    }

    /// The last address.
    pub fn last(&self) -> IpAddr {
        match *self {
            Self::V4(_, b) => Ipv4Addr::from(b).into(),
            Self::V6(_, b) => Ipv6Addr::from(b).into(),
        }
    }
}

impl From<IpNet> for AddressRange {
    fn from(net: IpNet) -> Self {
        match net {
            IpNet::V4(n) => Self::V4(n.network().into(), n.broadcast().into()),
            IpNet::V6(n) => Self::V6(n.network().into(), n.broadcast().into()),
        }
    }
}

impl fmt::Display for AddressRange {
    /// The shortest form that [`AddressRange::parse`] reads back.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let (first, last) = (self.first(), self.last());
        if first == last {
            return write!(f, "{first}");
        }
        // A prefix begins with zeros where it ends with ones.
        let length = match *self {
            Self::V4(a, b) => (a ^ b).leading_zeros() as u8,
            Self::V6(a, b) => (a ^ b).leading_zeros() as u8,
        };
        match IpNet::new(first, length) {
            Ok(net) if net.network() == first && net.broadcast() == last => write!(f, "{net}"),
            _ => write!(f, "{first}-{last}"),
        }
    }
}

/// A set of addresses of both families.
#[derive(Clone, Debug, PartialEq, Eq, Hash, JsonSchema, Serialize, Deserialize)]
pub struct AddressSet {
    /// IPv4 addresses in host byte order.
    pub v4: RangeSet<u32>,
    /// IPv6 addresses in host byte order.
    pub v6: RangeSet<u128>,
}

impl AddressSet {
    /// No address.
    pub fn empty() -> Self {
        Self { v4: RangeSet::empty(), v6: RangeSet::empty() }
    }

    /// Every address of both families.
    pub fn full() -> Self {
        Self { v4: RangeSet::full(), v6: RangeSet::full() }
    }

    /// The union of ranges.
    pub fn from_ranges(ranges: &[AddressRange]) -> Self {
        Self {
            v4: RangeSet::from_ranges(ranges.iter().filter_map(|r| match *r {
                AddressRange::V4(a, b) => Some((a, b)),
                AddressRange::V6(..) => None,
            })),
            v6: RangeSet::from_ranges(ranges.iter().filter_map(|r| match *r {
                AddressRange::V6(a, b) => Some((a, b)),
                AddressRange::V4(..) => None,
            })),
        }
    }

    /// The ranges of both families, IPv4 first.
    pub fn ranges(&self) -> Vec<AddressRange> {
        let v4 = self.v4.ranges().iter().map(|&(a, b)| AddressRange::V4(a, b));
        let v6 = self.v6.ranges().iter().map(|&(a, b)| AddressRange::V6(a, b));
        v4.chain(v6).collect()
    }

    /// Whether the set holds `address`.
    pub fn contains(&self, address: IpAddr) -> bool {
        match address {
            IpAddr::V4(a) => self.v4.contains(a.into()),
            IpAddr::V6(a) => self.v6.contains(a.into()),
        }
    }

    /// Whether it holds nothing.
    pub fn is_empty(&self) -> bool {
        self.v4.is_empty() && self.v6.is_empty()
    }

    /// Whether it holds an address of that family.
    pub fn has(&self, family: Family) -> bool {
        match family {
            Family::V4 => !self.v4.is_empty(),
            Family::V6 => !self.v6.is_empty(),
        }
    }

    /// What of it is of that family.
    #[must_use]
    pub fn only(&self, family: Family) -> Self {
        match family {
            Family::V4 => Self { v4: self.v4.clone(), v6: RangeSet::empty() },
            Family::V6 => Self { v4: RangeSet::empty(), v6: self.v6.clone() },
        }
    }

    /// Whether it holds every address of both families.
    pub fn is_full(&self) -> bool {
        self.v4.is_full() && self.v6.is_full()
    }

    /// Everything in one of the two.
    #[must_use]
    pub fn union(&self, other: &Self) -> Self {
        Self { v4: self.v4.union(&other.v4), v6: self.v6.union(&other.v6) }
    }

    /// Everything in both.
    #[must_use]
    pub fn intersection(&self, other: &Self) -> Self {
        Self { v4: self.v4.intersection(&other.v4), v6: self.v6.intersection(&other.v6) }
    }

    /// Whether they have an address in common.
    pub fn meets(&self, other: &Self) -> bool {
        self.v4.meets(&other.v4) || self.v6.meets(&other.v6)
    }

    /// Whether every address here is there too.
    pub fn is_within(&self, other: &Self) -> bool {
        self.v4.is_within(&other.v4) && self.v6.is_within(&other.v6)
    }

    /// Everything here and not there.
    #[must_use]
    pub fn difference(&self, other: &Self) -> Self {
        Self { v4: self.v4.difference(&other.v4), v6: self.v6.difference(&other.v6) }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_form_reads_and_prints_back() {
        for text in [
            "198.51.100.7",
            "198.51.100.0/24",
            "198.51.100.7-198.51.100.20",
            "2001:db8:51::/48",
            "2001:db8:51::1",
            "2001:db8:51::1-2001:db8:51::9",
            "0.0.0.0/0",
            "::/0",
            "198.51.100.0-198.51.100.254",
            "198.51.100.1-198.51.100.255",
            "198.51.100.2/31",
            "128.0.0.0/1",
            "8000::/1",
        ] {
            assert_eq!(AddressRange::parse(text).unwrap().to_string(), text);
        }
    }

    #[test]
    fn faults_say_what_is_wrong() {
        let fault = |t: &str| AddressRange::parse(t).unwrap_err().to_string();
        assert_eq!(fault("dome"), "not an address, a prefix or a first-last range");
        assert_eq!(
            fault("198.51.100.7/24"),
            "the prefix has host bits set; the network is 198.51.100.0/24"
        );
        assert_eq!(fault("198.51.100.0/33"), "the prefix length must be 0 to 32");
        assert_eq!(
            fault("198.51.100.1-2001:db8::1"),
            "both ends of a range must be of the same family; this one goes from IPv4 to IPv6"
        );
        assert_eq!(
            fault("198.51.100.9-198.51.100.1"),
            "the first address of a range must not be above its last"
        );
        let mapped = "an IPv4-mapped IPv6 address, which no packet has; write";
        assert_eq!(fault("::ffff:192.0.2.7"), format!("{mapped} 192.0.2.7"));
        assert_eq!(fault("::ffff:192.0.2.0/120"), format!("{mapped} 192.0.2.0-192.0.2.255"));
        assert!(AddressRange::parse("::/0").is_ok());
    }

    #[test]
    fn families_stay_apart() {
        let set = AddressSet::from_ranges(&[AddressRange::parse("0.0.0.0/0").unwrap()]);
        assert!(set.contains("203.0.113.9".parse().unwrap()));
        assert!(!set.contains("::ffff:203.0.113.9".parse().unwrap()));
        assert!(!set.is_full());
    }
}
