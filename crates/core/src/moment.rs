//! Points in time, passed in and never asked for.

use std::fmt;
use std::str::FromStr;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// Whole seconds since 1970-01-01 UTC; reaches to the year 2106.
#[derive(
    Clone,
    Copy,
    Debug,
    Default,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    Hash,
    JsonSchema,
    Serialize,
    Deserialize,
)]
#[serde(into = "String", try_from = "String")]
#[schemars(with = "String")]
pub struct Moment(pub u32);

impl Moment {
    /// From seconds since 1970; what is outside stands at the nearest end.
    pub fn from_seconds(seconds: i64) -> Self {
        Self(u32::try_from(seconds.max(0)).unwrap_or(u32::MAX))
    }
}

/// In JSON it is RFC 3339, in UTC.
impl From<Moment> for String {
    fn from(moment: Moment) -> Self {
        moment.to_string()
    }
}

impl TryFrom<String> for Moment {
    type Error = NoMoment;

    fn try_from(text: String) -> Result<Self, NoMoment> {
        text.parse()
    }
}

/// A text that is no moment.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
pub enum NoMoment {
    /// Not in the form of RFC 3339.
    #[error("not a date, time and UTC offset")]
    Form,
    /// Behind the last one that can be told.
    #[error("later than 2106-02-07T06:28:15Z, the latest that a rule can have")]
    Late,
}

impl FromStr for Moment {
    type Err = NoMoment;

    /// Reads RFC 3339: `2026-12-24T18:00:00+01:00`.
    fn from_str(text: &str) -> Result<Self, NoMoment> {
        let at: jiff::Timestamp = text.parse().map_err(|_| NoMoment::Form)?;
        match at.as_second() {
            late if late > i64::from(u32::MAX) => Err(NoMoment::Late),
            seconds => Ok(Self::from_seconds(seconds)),
        }
    }
}

impl fmt::Display for Moment {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match jiff::Timestamp::from_second(i64::from(self.0)) {
            Ok(at) => write!(f, "{at}"),
            Err(_) => write!(f, "{} s", self.0),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn moments_read_with_their_offset_and_print_in_utc() {
        let read = |text: &str| text.parse::<Moment>();
        assert_eq!(read("2026-12-24T18:00:00+01:00").unwrap().to_string(), "2026-12-24T17:00:00Z");
        assert_eq!(read("1970-01-01T00:00:09Z"), Ok(Moment(9)));
        assert_eq!(read("2026-12-24T18:00:00"), Err(NoMoment::Form));
        assert_eq!(read("2106-02-07T06:28:15Z"), Ok(Moment(u32::MAX)));
        assert_eq!(read("2106-02-07T06:28:16Z"), Err(NoMoment::Late));
        assert_eq!(Moment::from_seconds(-5), Moment(0));
    }
}
