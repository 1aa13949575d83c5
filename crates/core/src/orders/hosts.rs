//! Hosts, groups of rules, and the selectors that place rules on hosts.

use std::fmt;
use std::sync::Arc;

use serde::{Deserialize, Serialize};

use super::model::Action;

/// Which hosts something is for.
#[derive(Clone, Debug, PartialEq, Eq, Hash, Serialize, Deserialize)]
#[serde(into = "String")]
#[serde(from = "String")]
pub enum Selector {
    /// `*`: every host.
    All,
    /// `#tag`: every host that bears it.
    Tag(String),
    /// One host by its name.
    Name(String),
}

impl From<String> for Selector {
    fn from(text: String) -> Self {
        match text.strip_prefix('#') {
            Some(tag) => Self::Tag(tag.to_owned()),
            None if text == "*" => Self::All,
            None => Self::Name(text),
        }
    }
}

impl From<Selector> for String {
    fn from(selector: Selector) -> Self {
        selector.to_string()
    }
}

impl fmt::Display for Selector {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::All => f.write_str("*"),
            Self::Tag(tag) => write!(f, "#{tag}"),
            Self::Name(name) => f.write_str(name),
        }
    }
}

impl Selector {
    /// Whether it selects this host.
    pub fn selects(&self, host: &Host) -> bool {
        match self {
            Self::All => true,
            Self::Tag(tag) => host.tags.contains(tag),
            Self::Name(name) => host.name == *name,
        }
    }
}

/// A host's own standing answers; where one is absent the common one holds.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize)]
pub struct OwnStanding {
    /// To this host.
    pub inbound: Option<Action>,
    /// From this host.
    pub outbound: Option<Action>,
    /// Through this host.
    pub transit: Option<Action>,
}

/// A host that the orders know.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Host {
    /// Its name, as the machine calls itself.
    pub name: String,
    /// Labels that selectors ask for, without `#`.
    pub tags: Vec<String>,
    /// Its addresses, as written.
    pub addresses: Vec<String>,
    /// Its own standing answers.
    pub standing: OwnStanding,
}

/// Rules that are placed, paused and exchanged together.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Group {
    /// Its name; rules say `group = "name"`.
    pub name: String,
    /// Why it is there.
    pub note: Option<String>,
    /// Where its rules are placed that do not say so themselves; everywhere when empty.
    pub hosts: Vec<Selector>,
    /// In which postures its rules hold that do not say so themselves; in all when empty.
    pub postures: Vec<String>,
    /// Whether its rules speak.
    pub enabled: bool,
    /// The included file that it stands in; `None` for the orders' own.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub part: Option<Arc<str>>,
}

/// A named way of standing: its own standing answers and rules. One holds at a time.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Posture {
    /// Its name; rules say `postures = ["name"]`.
    pub name: String,
    /// Why it is there.
    pub note: Option<String>,
    /// Its standing answers; where one is absent the host's, then the common one holds.
    pub standing: OwnStanding,
    /// How the place is recognised where it is taken up by itself.
    pub recognition: Recognition,
}

/// How a place is recognised; all that is named must hold.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize)]
pub struct Recognition {
    /// An interface that is up.
    pub interface: Option<String>,
    /// A network in which this host has an address, as written.
    pub network: Option<String>,
    /// The address of the next router, as written.
    pub gateway: Option<String>,
}

/// Why a rule does not speak on a host.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Silence {
    /// It is paused.
    Paused,
    /// Its group is paused.
    GroupPaused,
    /// It is for other hosts.
    OtherHost,
    /// It holds in other postures.
    OtherPosture,
    /// Its time is over.
    Expired,
}

impl Silence {
    /// For the column that says what a rule says.
    pub fn words(self) -> &'static str {
        match self {
            Self::Paused => "paused",
            Self::GroupPaused => "group paused",
            Self::OtherHost => "other hosts",
            Self::OtherPosture => "other postures",
            Self::Expired => "expired",
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn selectors_read_print_and_select() {
        let mast = Host {
            name: "mast".into(),
            tags: vec!["sensors".into()],
            addresses: vec![],
            standing: OwnStanding::default(),
        };
        for (text, selects) in
            [("*", true), ("#sensors", true), ("#desks", false), ("mast", true), ("dome-1", false)]
        {
            let selector = Selector::from(text.to_owned());
            assert_eq!((selector.to_string().as_str(), selector.selects(&mast)), (text, selects));
        }
    }
}
