//! Where orders come from.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::hash::OrdersHash;
use crate::moment::Moment;

/// Where orders come from.
#[derive(Clone, Debug, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "from")]
pub enum Origin {
    /// A file.
    File {
        /// Its path.
        path: String,
        /// Hash of its text.
        hash: OrdersHash,
    },
    /// The kernel.
    InForce {
        /// Where they were read when they were posted; null: they are built in, no file's.
        path: Option<String>,
        /// Hash of their text.
        hash: OrdersHash,
        /// When they were posted.
        since: Moment,
    },
}

impl Origin {
    /// Which orders these are.
    pub fn hash(&self) -> OrdersHash {
        match self {
            Self::File { hash, .. } | Self::InForce { hash, .. } => *hash,
        }
    }
}
