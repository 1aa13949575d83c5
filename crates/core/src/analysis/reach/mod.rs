//! Reach: what each (port, vantage) should do by the orders, and why what was
//! observed differs.

mod changes;
mod expected;
mod list;
mod merge;
mod passage;
mod pieces;
mod report;
mod sources;
mod why;

use std::fmt;
use std::net::{IpAddr, SocketAddr};

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::names::address::Family;
use crate::names::traffic::{ICMP, ICMPV6, TrafficKey, Transport};
pub use changes::{Change, Changes, changes};
pub use expected::{
    Arrival, cell, expected, first_packet, is_published, let_in, program_at, speaker_words,
    speaker_words_by, subjects,
};
pub use list::tables_of_many;
pub use merge::{NotTheSame, merge};
pub use passage::{Crossing, Met, Passage, Wanted, Word};
pub use report::{Checked, Report, Row, SEVERAL, Shown};
pub use sources::{MOST_RULES, Plan, Showing, plan, stranger, typical};
pub use why::{CellContext, Said, Why};

/// What is checked: one row of the table.
#[derive(
    Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, JsonSchema, Serialize, Deserialize,
)]
#[serde(into = "String")]
#[serde(try_from = "String")]
pub enum Subject {
    /// A port.
    Port(Transport, u16),
    /// Echo requests.
    Echo,
}

impl Subject {
    /// The key of a first packet about it, for a source of this family.
    pub fn key(self, family: Family) -> TrafficKey {
        match (self, family) {
            (Self::Port(transport, port), _) => transport.key(port),
            (Self::Echo, Family::V4) => TrafficKey::new(ICMP, 0x0800),
            (Self::Echo, Family::V6) => TrafficKey::new(ICMPV6, 0x8000),
        }
    }
}

impl fmt::Display for Subject {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Port(transport, port) => write!(f, "{transport}/{port}"),
            Self::Echo => f.write_str("icmp/echo"),
        }
    }
}

impl From<Subject> for String {
    fn from(subject: Subject) -> Self {
        subject.to_string()
    }
}

impl TryFrom<String> for Subject {
    type Error = String;

    fn try_from(text: String) -> Result<Self, String> {
        if text == "icmp/echo" {
            return Ok(Self::Echo);
        }
        let (transport, port) = text.split_once('/').ok_or("no slash")?;
        let transport = match transport {
            "tcp" => Transport::Tcp,
            "udp" => Transport::Udp,
            _ => return Err(format!("invalid port `{text}`")),
        };
        port.parse()
            .map(|port| Self::Port(transport, port))
            .map_err(|_| format!("invalid port `{text}`"))
    }
}

/// Where a check looks from.
#[derive(
    Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash, JsonSchema, Serialize, Deserialize,
)]
#[serde(rename_all = "kebab-case", tag = "from")]
pub enum Vantage {
    /// This host itself.
    Here,
    /// An outside source, played by the witness.
    Outside {
        /// Its address.
        source: IpAddr,
        /// The interface that it comes in by, where that was asked for.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        via: Option<String>,
        /// For whom it stands: a group, or a stranger.
        #[serde(default, skip_serializing_if = "Option::is_none")]
        stands_for: Option<String>,
    },
    /// Another machine, by itself.
    Machine {
        /// What it calls itself.
        name: String,
        /// Its address, as the host that it knocks on sees it.
        source: IpAddr,
    },
}

impl Vantage {
    /// An outside source and nothing further.
    pub fn outside(source: IpAddr) -> Self {
        Self::Outside { source, via: None, stands_for: None }
    }

    /// Its address; none for the host itself.
    pub fn source(&self) -> Option<IpAddr> {
        match self {
            Self::Here => None,
            Self::Outside { source, .. } | Self::Machine { source, .. } => Some(*source),
        }
    }
}

impl fmt::Display for Vantage {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Here => f.write_str("here"),
            Self::Outside { source, via, stands_for } => {
                match stands_for {
                    Some(name) => write!(f, "as {name} ({source})")?,
                    None => write!(f, "as {source}")?,
                }
                via.as_ref().map_or(Ok(()), |name| write!(f, " via {name}"))
            }
            Self::Machine { name, source } => write!(f, "from {name} ({source})"),
        }
    }
}

/// What a port does when knocked on.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Outcome {
    /// It accepts.
    Answers,
    /// It says no.
    Refuses,
    /// It says nothing.
    Silent,
    /// Nobody could find out.
    Unknown,
}

impl fmt::Display for Outcome {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(match self {
            Self::Answers => "answers",
            Self::Refuses => "refuses",
            Self::Silent => "silent",
            Self::Unknown => "unknown",
        })
    }
}

/// How an outcome is known.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum How {
    /// A real packet went in.
    Wire,
    /// The loaded gate was asked, and the socket table.
    Gate,
    /// Worked out from the orders and the socket table.
    Orders,
}

impl fmt::Display for How {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Wire => "wire",
            Self::Gate => "gate",
            Self::Orders => "orders",
        })
    }
}

/// One observation.
#[derive(Clone, Debug, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct Observed {
    /// What happened.
    pub outcome: Outcome,
    /// How that is known.
    pub how: How,
    /// The local address that was knocked on.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub target: Option<IpAddr>,
    /// The evidence in words: "accepted in 0.1 ms".
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub evidence: Option<String>,
    /// What the gate said, where it was asked or its word was caught.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub gate: Option<String>,
    /// To whom this host forwarded it, where no socket of its own takes it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub forwarded_to: Option<SocketAddr>,
    /// What is to be known beside: that a program closes what it accepted at once.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub remark: Option<String>,
}

impl Observed {
    /// Nobody could find out, and why.
    pub fn unknown(why: impl Into<String>) -> Self {
        Self {
            outcome: Outcome::Unknown,
            how: How::Orders,
            target: None,
            evidence: Some(why.into()),
            gate: None,
            forwarded_to: None,
            remark: None,
        }
    }
}

/// One cell: what was meant, what was seen, why they differ.
#[derive(Clone, Debug, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct Cell {
    /// What the orders mean it to do.
    pub expected: Outcome,
    /// Which rule or standing answer says so.
    pub expected_by: String,
    /// What it did.
    pub observed: Observed,
    /// Why they differ; or why nothing answers where the orders let a source in
    /// and mean nothing in particular. Else absent.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub why: Option<Why>,
    /// What to do about it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub next: Option<String>,
    /// The reason for which the orders accept that it does not answer.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub accepted: Option<String>,
}

impl Cell {
    /// Whether the service behind the port is to blame, and not what is in force: it does
    /// not run, listens elsewhere, or takes no more.
    pub fn is_of_the_service(&self) -> bool {
        match &self.why {
            // From another machine: a refusal is the host's own, silence is anybody's.
            Some(Why::NotFromHere) => {
                (self.expected, self.observed.outcome) == (Outcome::Answers, Outcome::Refuses)
            }
            Some(
                Why::NothingListens { .. }
                | Why::LoopbackOnly
                | Why::OtherAddress { .. }
                | Why::OtherDevice { .. }
                | Why::QueueFull
                | Why::Stopped
                | Why::Started
                | Why::NoAnswer,
            ) => true,
            _ => false,
        }
    }

    /// Whether what was seen is not what was meant, nor accepted. An unknown differs
    /// from nothing.
    pub fn differs(&self) -> bool {
        fn known(outcome: Outcome) -> bool {
            outcome != Outcome::Unknown
        }
        self.accepted.is_none()
            && self.observed.outcome != self.expected
            && known(self.observed.outcome)
            && known(self.expected)
    }
}
