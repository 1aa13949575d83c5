//! What of its decisions the gate records, and how long the log keeps them: `[log]`.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// Which decisions are recorded beside those of rules with `log = true`. Each level has
/// what the one before it has.
#[derive(
    Clone, Copy, Debug, Default, PartialEq, Eq, PartialOrd, Ord, JsonSchema, Serialize, Deserialize,
)]
#[serde(rename_all = "lowercase")]
pub enum LogLevel {
    /// No log is written. `watch` sees what it sees at [`LogLevel::Denied`].
    Off,
    /// What was denied or refused, by whatever it was; of a flood a sample.
    #[default]
    Denied,
    /// And what rules let in, each first packet.
    Rules,
    /// And what standing answers and foundations let in, but for replies and what stays on
    /// the loopback interface.
    All,
}

impl LogLevel {
    /// All levels, with the words for them in orders.
    pub const ALL: [(Self, &'static str); 4] =
        [(Self::Off, "off"), (Self::Denied, "denied"), (Self::Rules, "rules"), (Self::All, "all")];

    /// The word for it in orders.
    pub fn name(self) -> &'static str {
        Self::ALL[self as usize].1
    }
}

/// What is logged, and for how long.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Log {
    /// Which decisions.
    pub level: LogLevel,
    /// The most that all files of the log take together, in mebibytes.
    pub max_megabytes: u32,
    /// Files older than so many days are removed.
    pub max_days: u32,
    /// Whether each line goes to the journal of systemd too.
    pub journal: bool,
    /// Whether each line goes to the local syslog socket too (RFC 5424).
    pub syslog: bool,
    /// A group of accounts that may watch and read the log; otherwise only root may.
    pub viewers: Option<String>,
}

impl Log {
    /// What `max_megabytes` may be.
    pub const MEGABYTES: (u32, u32) = (2, 100_000);
    /// What `max_days` may be.
    pub const DAYS: (u32, u32) = (1, 3_650);
}

impl Default for Log {
    fn default() -> Self {
        Self {
            level: LogLevel::default(),
            max_megabytes: 100,
            max_days: 30,
            journal: false,
            syslog: false,
            viewers: None,
        }
    }
}
