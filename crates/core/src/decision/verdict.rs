//! What is decided, and by whom.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::brief::RuleIndex;
use crate::decision::foundations::Foundation;
use crate::orders::Action;
use crate::packet::Direction;

/// Who decided.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "lowercase", tag = "kind", content = "which")]
pub enum Speaker {
    /// Nobody was asked: it is for another host, or for another VLAN.
    Nobody,
    /// A foundation.
    Foundation(Foundation),
    /// A rule.
    Rule(RuleIndex),
    /// A rule that allows, beyond its rate.
    Beyond(RuleIndex),
    /// The standing answer.
    Standing(Direction),
    /// The kernel's tables were corrupt; the packet was dropped.
    #[serde(rename = "unsound")]
    CorruptTables,
}

/// The verdict and who gave it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, JsonSchema, Serialize)]
pub struct Decision {
    /// What happens to the packet.
    pub verdict: Action,
    /// What decided.
    pub speaker: Speaker,
}
