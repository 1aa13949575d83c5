//! What is said of a packet.

use std::fmt;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::packet::Direction;

/// What a rule or a standing answer says.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Action {
    /// Let it pass.
    Allow,
    /// Drop it in silence.
    Deny,
    /// Drop it with an answer: a TCP reset, or ICMP "administratively prohibited".
    Refuse,
}

impl Action {
    /// All.
    pub const ALL: [Self; 3] = [Self::Allow, Self::Deny, Self::Refuse];
}

impl fmt::Display for Action {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(match self {
            Self::Allow => "allow",
            Self::Deny => "deny",
            Self::Refuse => "refuse",
        })
    }
}

/// The answers for traffic that no rule matches.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, JsonSchema, Serialize, Deserialize)]
pub struct Standing {
    /// To this host.
    pub inbound: Action,
    /// From this host.
    pub outbound: Action,
    /// Through this host.
    pub transit: Action,
}

impl Standing {
    /// The answer of a direction.
    pub fn of(&self, direction: Direction) -> Action {
        match direction {
            Direction::Inbound => self.inbound,
            Direction::Outbound => self.outbound,
            Direction::Transit => self.transit,
        }
    }
}
