//! Access lists of RFC 8519 in JSON (RFC 7951): the rules of a host for equipment that reads
//! that model, and its lists as orders.
//!
//! One list a direction and family. Only what the model has a leaf for is taken over; all else
//! is told, and never dropped silently.

mod export;
mod import;

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};
use serde_json::Value;

pub use export::{Exported, export};
pub use import::{Imported, import};

/// Leaves that are not known here; none is ever written.
type Rest = BTreeMap<String, Value>;

/// A document: `module: ietf-access-control-list`.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
pub struct AccessLists {
    #[serde(rename = "ietf-access-control-list:acls")]
    pub(super) acls: Acls,
}

#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub(super) struct Acls {
    #[serde(default)]
    acl: Vec<Acl>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    attachment_points: Option<AttachmentPoints>,
}

#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
struct AttachmentPoints {
    #[serde(default)]
    interface: Vec<Attached>,
}

#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
struct Attached {
    interface_id: String,
    #[serde(default)]
    ingress: Sets,
    #[serde(default)]
    egress: Sets,
}

#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
struct Sets {
    #[serde(default)]
    acl_sets: AclSets,
}

#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
struct AclSets {
    #[serde(default)]
    acl_set: Vec<Named>,
}

#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
struct Named {
    name: String,
}

#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
struct Acl {
    name: String,
    #[serde(rename = "type", default, skip_serializing_if = "Option::is_none")]
    kind: Option<String>,
    #[serde(default)]
    aces: Aces,
}

#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
struct Aces {
    #[serde(default)]
    ace: Vec<Ace>,
}

#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
struct Ace {
    name: String,
    #[serde(default, skip_serializing_if = "Matches::is_empty")]
    matches: Matches,
    actions: Actions,
}

#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
struct Actions {
    forwarding: String,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    logging: Option<String>,
    #[serde(flatten)]
    rest: Rest,
}

#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
struct Matches {
    #[serde(default, skip_serializing_if = "Option::is_none")]
    ipv4: Option<Network>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    ipv6: Option<Network>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    tcp: Option<Ported>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    udp: Option<Ported>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    icmp: Option<Icmp>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    ingress_interface: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    egress_interface: Option<String>,
    #[serde(flatten)]
    rest: Rest,
}

impl Matches {
    fn is_empty(&self) -> bool {
        *self == Self::default()
    }
}

/// What is looked at of an IP header. The leaves have the family in their names.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
struct Network {
    #[serde(default, skip_serializing_if = "Option::is_none")]
    protocol: Option<u8>,
    #[serde(rename = "source-ipv4-network", default, skip_serializing_if = "Option::is_none")]
    source_four: Option<String>,
    #[serde(rename = "destination-ipv4-network", default, skip_serializing_if = "Option::is_none")]
    destination_four: Option<String>,
    #[serde(rename = "source-ipv6-network", default, skip_serializing_if = "Option::is_none")]
    source_six: Option<String>,
    #[serde(rename = "destination-ipv6-network", default, skip_serializing_if = "Option::is_none")]
    destination_six: Option<String>,
    #[serde(flatten)]
    rest: Rest,
}

#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
struct Ported {
    #[serde(default, skip_serializing_if = "Option::is_none")]
    destination_port: Option<Ports>,
    #[serde(flatten)]
    rest: Rest,
}

/// A range, or a number with what is compared: `eq`, `neq`, `lte`, `gte`.
#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
struct Ports {
    #[serde(default, skip_serializing_if = "Option::is_none")]
    lower_port: Option<u16>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    upper_port: Option<u16>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    operator: Option<String>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    port: Option<u16>,
}

#[derive(Clone, Debug, Default, PartialEq, Serialize, Deserialize)]
struct Icmp {
    #[serde(rename = "type", default, skip_serializing_if = "Option::is_none")]
    kind: Option<u8>,
    #[serde(default, skip_serializing_if = "Option::is_none")]
    code: Option<u8>,
    #[serde(flatten)]
    rest: Rest,
}

#[cfg(test)]
mod tests;
