//! The hash that tells orders apart.

use std::borrow::Cow;
use std::fmt;
use std::str::FromStr;

use schemars::{JsonSchema, Schema, SchemaGenerator, json_schema};
use serde::{Deserialize, Serialize};
use sha2::{Digest, Sha256};

use super::attachments::Documents;

/// SHA-256 of orders: which ones these are.
#[derive(Clone, Copy, PartialEq, Eq, Hash)]
pub struct OrdersHash([u8; 32]);

impl OrdersHash {
    /// The hash of orders and of all that they name. Without attachments it is
    /// the SHA-256 of the file.
    pub fn digest<'t>(sheets: impl Into<Documents<'t>>) -> Self {
        let Documents { text, attachments } = sheets.into();
        let mut hash = Sha256::new_with_prefix(text.as_bytes());
        let parts = attachments.included.iter().flat_map(|(_, parts)| parts).flatten();
        let parts = parts.map(|part| (&part.name, &part.text));
        let lists = attachments.lists.iter().flatten();
        let lists = lists.filter_map(|(name, text)| Some((name, text.as_ref().ok()?)));
        for (name, text) in parts.chain(lists) {
            // Lengths, so that nothing can move from one file to the next unseen.
            for word in [name, text] {
                hash.update((word.len() as u64).to_be_bytes());
                hash.update(word.as_bytes());
            }
        }
        Self(hash.finalize().into())
    }

    /// The first eight bytes, enough for records.
    pub fn first(&self) -> [u8; 8] {
        let mut first = [0; 8];
        first.copy_from_slice(&self.0[..8]);
        first
    }

    /// The first twelve hex digits, enough for people.
    pub fn short(&self) -> String {
        self.to_string()[..12].to_owned()
    }
}

impl fmt::Display for OrdersHash {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.iter().try_for_each(|b| write!(f, "{b:02x}"))
    }
}

impl fmt::Debug for OrdersHash {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        fmt::Display::fmt(self, f)
    }
}

/// In JSON it is 64 hexadecimal digits.
impl JsonSchema for OrdersHash {
    fn schema_name() -> Cow<'static, str> {
        "OrdersHash".into()
    }

    fn json_schema(_: &mut SchemaGenerator) -> Schema {
        json_schema!({ "type": "string", "pattern": "^[0-9a-f]{64}$" })
    }
}

/// A text that is no hash.
#[derive(Clone, Copy, Debug, PartialEq, Eq, thiserror::Error)]
#[error("not 64 hexadecimal digits")]
pub struct NoHash;

impl FromStr for OrdersHash {
    type Err = NoHash;

    fn from_str(text: &str) -> Result<Self, NoHash> {
        let digits = text
            .as_bytes()
            .chunks_exact(2)
            .map(|two| u8::from_str_radix(std::str::from_utf8(two).ok()?, 16).ok());
        let bytes: Option<Vec<u8>> = digits.collect();
        let whole = bytes.filter(|_| text.len() == 64).and_then(|all| all.try_into().ok());
        whole.map(Self).ok_or(NoHash)
    }
}

impl<'de> Deserialize<'de> for OrdersHash {
    fn deserialize<D: serde::Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        String::deserialize(deserializer)?.parse().map_err(serde::de::Error::custom)
    }
}

impl Serialize for OrdersHash {
    fn serialize<S: serde::Serializer>(&self, s: S) -> Result<S::Ok, S::Error> {
        s.collect_str(self)
    }
}
