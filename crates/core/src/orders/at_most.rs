//! How often an allow may match: `6 per minute per source, burst 3`.

use std::fmt;
use std::str::FromStr;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};

use super::action::Action;

/// The unit of time that a rate counts in.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Period {
    /// A second.
    Second,
    /// 60 of them.
    Minute,
    /// 3,600 of them.
    Hour,
    /// 86,400 of them.
    Day,
}

impl Period {
    /// All.
    pub const ALL: [Self; 4] = [Self::Second, Self::Minute, Self::Hour, Self::Day];

    pub(super) const fn nanoseconds(self) -> u64 {
        let seconds = match self {
            Self::Second => 1,
            Self::Minute => 60,
            Self::Hour => 3_600,
            Self::Day => 86_400,
        };
        seconds * 1_000_000_000
    }

    pub(super) fn name(self) -> &'static str {
        match self {
            Self::Second => "second",
            Self::Minute => "minute",
            Self::Hour => "hour",
            Self::Day => "day",
        }
    }
}

/// Who shares one rate.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Sharing {
    /// Every source has its own; in IPv6 every /64, since one machine has all of it.
    PerSource,
    /// All sources together.
    InAll,
}

/// A rate: so many packets that open something in a period, so many of them at once.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, JsonSchema, Serialize)]
pub struct AtMost {
    count: u32,
    period: Period,
    sharing: Sharing,
    burst: u32,
}

/// More than this in one period is refused; no rate of a person's orders needs it.
const MOST: u32 = 1_000_000;
/// A burst above the count of a period may be this at most, so that times stay countable.
const MOST_BURST: u32 = 10_000;

/// Why a text is no rate.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum AtMostFault {
    /// Not of that form.
    #[error("a rate is a number, `per` and a unit of time, and who shares it")]
    Form,
    /// Another unit.
    #[error("the unit of time is one of second, minute, hour, day")]
    Period,
    /// Not said who shares it.
    #[error("it must say who shares the rate: `per source` or `in all`")]
    Sharing,
    /// A number out of bounds.
    #[error("the number of a rate is 1 to 1,000,000")]
    Count,
    /// A burst out of bounds.
    #[error("a burst is 1 to 10,000, or up to the number of the rate itself")]
    Burst,
}

impl AtMost {
    /// A rate.
    ///
    /// # Errors
    /// [`AtMostFault::Count`], [`AtMostFault::Burst`].
    pub fn new(
        count: u32,
        period: Period,
        sharing: Sharing,
        burst: Option<u32>,
    ) -> Result<Self, AtMostFault> {
        let burst = burst.unwrap_or(count);
        if !(1..=MOST).contains(&count) {
            Err(AtMostFault::Count)
        } else if !(1..=MOST_BURST.max(count)).contains(&burst) {
            Err(AtMostFault::Burst)
        } else {
            Ok(Self { count, period, sharing, burst })
        }
    }
}

impl FromStr for AtMost {
    type Err = AtMostFault;

    fn from_str(text: &str) -> Result<Self, AtMostFault> {
        let (rate, burst) = match text.split_once(',') {
            Some((rate, burst)) => (rate, Some(burst)),
            None => (text, None),
        };
        let burst = match burst.map(|b| b.split_whitespace().collect::<Vec<_>>()).as_deref() {
            None => None,
            Some(["burst", number]) => Some(number.parse().map_err(|_| AtMostFault::Burst)?),
            Some(_) => return Err(AtMostFault::Form),
        };
        let words: Vec<&str> = rate.split_whitespace().collect();
        let (count, period, sharing) = match words.as_slice() {
            [count, "per", period] | [count, "per", period, ..] if words.len() == 3 => {
                (count, period, None)
            }
            [count, "per", period, "per", "source"] => (count, period, Some(Sharing::PerSource)),
            [count, "per", period, "in", "all"] => (count, period, Some(Sharing::InAll)),
            _ => return Err(AtMostFault::Form),
        };
        let count = count.parse().map_err(|_| AtMostFault::Count)?;
        let period = Period::ALL.into_iter().find(|p| p.name() == *period);
        Self::new(
            count,
            period.ok_or(AtMostFault::Period)?,
            sharing.ok_or(AtMostFault::Sharing)?,
            burst,
        )
    }
}

impl fmt::Display for AtMost {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let sharing = match self.sharing {
            Sharing::PerSource => "per source",
            Sharing::InAll => "in all",
        };
        write!(f, "{} per {} {sharing}", self.count, self.period.name())?;
        if self.burst != self.count { write!(f, ", burst {}", self.burst) } else { Ok(()) }
    }
}

/// What an allow says beyond its rate.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Hash, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Over {
    /// Drop it in silence.
    #[default]
    Deny,
    /// Drop it with an answer.
    Refuse,
}

impl Over {
    /// All.
    pub const ALL: [Self; 2] = [Self::Deny, Self::Refuse];
}

impl From<Over> for Action {
    fn from(over: Over) -> Self {
        match over {
            Over::Deny => Self::Deny,
            Over::Refuse => Self::Refuse,
        }
    }
}

/// A rate as it is counted: each source has a time before which it is beyond
/// its rate by more than `tolerance`. See [`crate::decision::rates`].
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct Limit {
    /// Whose rate: a number made of the rule's name, so that what was counted
    /// outlives a swap of orders.
    pub id: u64,
    /// Nanoseconds that one packet takes of the rate.
    pub increment: u64,
    /// Nanoseconds that a source may be ahead of it: burst − 1 increments.
    pub tolerance: u64,
    /// Who shares it.
    pub sharing: Sharing,
    /// What is said beyond it.
    pub over: Over,
}

impl AtMost {
    /// The rate as it is counted for a rule. Its number comes from the rule's name, so
    /// that it stays while rules around it come and go.
    pub(super) fn limit(self, rule: &str, over: Over) -> Limit {
        let digest = Sha256::digest(rule.as_bytes());
        let increment = self.period.nanoseconds() / u64::from(self.count);
        Limit {
            id: digest.iter().take(8).fold(0, |id, byte| id << 8 | u64::from(*byte)),
            increment,
            tolerance: increment * u64::from(self.burst - 1),
            sharing: self.sharing,
            over,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rates_read_and_print_back() {
        for text in
            ["6 per minute per source, burst 3", "100 per second in all", "1 per day per source"]
        {
            assert_eq!(text.parse::<AtMost>().unwrap().to_string(), text);
        }
        let same: AtMost = "6  per minute  per source ,burst 6".parse().unwrap();
        assert_eq!(same.to_string(), "6 per minute per source");
    }

    #[test]
    fn what_is_no_rate_says_why() {
        for (text, fault) in [
            ("often", AtMostFault::Form),
            ("6 per minute", AtMostFault::Sharing),
            ("6 per fortnight per source", AtMostFault::Period),
            ("0 per minute per source", AtMostFault::Count),
            ("x per minute per source", AtMostFault::Count),
            ("6 per minute per source, burst 0", AtMostFault::Burst),
            ("6 per minute per source, burst 10001", AtMostFault::Burst),
            ("6 per minute per source, bursts 3", AtMostFault::Form),
            ("6 per minute per port", AtMostFault::Form),
        ] {
            assert_eq!(text.parse::<AtMost>(), Err(fault), "{text}");
        }
        assert!("1000000 per second in all".parse::<AtMost>().is_ok());
    }
}
