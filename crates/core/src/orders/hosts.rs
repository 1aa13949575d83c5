//! Hosts, groups of rules, and the selectors that place rules on hosts.

use std::fmt;
use std::net::IpAddr;
use std::sync::Arc;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::action::{Action, Standing};
use crate::names::address::{AddressRange, AddressSet};
use crate::packet::Direction;

/// Which hosts something is for.
#[derive(Clone, Debug, PartialEq, Eq, Hash, JsonSchema, Serialize, Deserialize)]
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
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, JsonSchema, Serialize)]
pub struct OwnStanding {
    /// To this host.
    pub inbound: Option<Action>,
    /// From this host.
    pub outbound: Option<Action>,
    /// Through this host.
    pub transit: Option<Action>,
}

impl OwnStanding {
    /// The answer of a direction, where there is an own one.
    pub const fn of(self, direction: Direction) -> Option<Action> {
        match direction {
            Direction::Inbound => self.inbound,
            Direction::Outbound => self.outbound,
            Direction::Transit => self.transit,
        }
    }

    /// These, and where one is absent another.
    #[must_use]
    pub fn or(self, common: Standing) -> Standing {
        Standing {
            inbound: self.inbound.unwrap_or(common.inbound),
            outbound: self.outbound.unwrap_or(common.outbound),
            transit: self.transit.unwrap_or(common.transit),
        }
    }
}

/// A host that the orders know.
#[derive(Clone, Debug, PartialEq, Eq, JsonSchema, Serialize)]
pub struct Host {
    /// Its name, as the machine calls itself.
    pub name: String,
    /// Labels that selectors ask for, without `#`.
    pub tags: Vec<String>,
    /// Its addresses, as written.
    pub addresses: Vec<String>,
    /// What ssh calls it, where that is not its name.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub ssh: Option<String>,
    /// Its own standing answers.
    pub standing: OwnStanding,
}

impl Host {
    /// What ssh is told to connect to.
    pub fn ssh_name(&self) -> &str {
        self.ssh.as_deref().unwrap_or(&self.name)
    }
}

/// Rules that are assigned, paused and exchanged together.
#[derive(Clone, Debug, PartialEq, Eq, JsonSchema, Serialize)]
pub struct Group {
    /// Its name; rules say `group = "name"`.
    pub name: String,
    /// Why it is there.
    pub note: Option<String>,
    /// Where its rules are placed that do not say so themselves; everywhere when empty.
    pub hosts: Vec<Selector>,
    /// In which postures its rules hold that do not say so themselves; in all when empty.
    pub postures: Vec<String>,
    /// Whether its rules are active.
    pub enabled: bool,
    /// The included file that it stands in; `None` for the orders' own.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub part: Option<Arc<str>>,
}

/// A named way of standing: its own standing answers and rules. One holds at a time.
#[derive(Clone, Debug, PartialEq, Eq, JsonSchema, Serialize)]
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
#[derive(Clone, Debug, Default, PartialEq, Eq, JsonSchema, Serialize)]
pub struct Recognition {
    /// An interface that is up.
    pub interface: Option<String>,
    /// A network in which this host has an address, as written.
    pub network: Option<String>,
    /// The address of the next router, as written.
    pub gateway: Option<String>,
}

/// The posture that every machine knows: nothing comes in or leaves but what
/// the foundations let pass, and no rule matches.
pub const SEALED: &str = "sealed";
/// What stands for no posture at all.
pub const NO_POSTURE: &str = "none";

impl Posture {
    /// The one that is built in.
    pub fn sealed() -> &'static Self {
        static SEALED_POSTURE: std::sync::LazyLock<Posture> = std::sync::LazyLock::new(|| {
            let deny = Some(Action::Deny);
            Posture {
                name: SEALED.to_owned(),
                note: Some("Built in: nothing in, nothing out".to_owned()),
                standing: OwnStanding { inbound: deny, outbound: deny, transit: deny },
                recognition: Recognition::default(),
            }
        });
        &SEALED_POSTURE
    }

    /// Whether no rule matches in it.
    pub fn is_sealed(&self) -> bool {
        self.name == SEALED
    }
}

/// Where a machine is.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct HostSetting {
    /// Its interfaces that are up.
    pub interfaces: Vec<String>,
    /// Its addresses.
    pub addresses: Vec<IpAddr>,
    /// The routers that lead everywhere else.
    pub gateways: Vec<IpAddr>,
}

impl Recognition {
    /// Whether this is the place. What says nothing is recognised nowhere.
    pub fn holds(&self, place: &HostSetting) -> bool {
        let Self { interface, network, gateway } = self;
        fn within(text: &str, all: &[IpAddr]) -> bool {
            let range = AddressRange::parse(text).map(|range| AddressSet::from_ranges(&[range]));
            range.is_ok_and(|set| all.iter().any(|address| set.contains(*address)))
        }
        let says = interface.is_some() || network.is_some() || gateway.is_some();
        says && interface.as_ref().is_none_or(|name| place.interfaces.contains(name))
            && network.as_ref().is_none_or(|text| within(text, &place.addresses))
            && gateway.as_ref().is_none_or(|text| within(text, &place.gateways))
    }
}

/// The posture whose place this is: the first one that is recognised.
pub fn recognise<'p>(postures: &'p [Posture], place: &HostSetting) -> Option<&'p Posture> {
    postures.iter().find(|posture| posture.recognition.holds(place))
}

/// What is to hold when the orders of the last post cannot be put in force
/// after a restart.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, JsonSchema, serde::Deserialize, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum OnFailure {
    /// The newest orders before them that can.
    #[default]
    LastGood,
    /// The posture `sealed`.
    Closed,
    /// Nothing: everything passes.
    Open,
}

impl OnFailure {
    /// All, as orders write them.
    pub const ALL: [(Self, &'static str); 3] =
        [(Self::LastGood, "last-good"), (Self::Closed, "closed"), (Self::Open, "open")];
}

/// `[boot]`.
#[derive(Clone, Debug, Default, PartialEq, Eq, JsonSchema, Serialize)]
pub struct Boot {
    /// When the last orders cannot be put in force.
    pub on_failure: OnFailure,
    /// The posture to start in; the last one where it says none.
    pub posture: Option<String>,
}

/// Why a rule is not active on a host.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Inactive {
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

impl Inactive {
    /// For the column that says what a rule says.
    pub fn describe(self) -> &'static str {
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
    fn a_place_is_recognised_by_all_that_is_named() {
        let place = HostSetting {
            interfaces: vec!["lan0".into()],
            addresses: vec!["198.51.100.20".parse().unwrap()],
            gateways: vec!["198.51.100.1".parse().unwrap()],
        };
        let named = |interface: &str, network: &str, gateway: &str| {
            let word = |text: &str| (!text.is_empty()).then(|| text.to_owned());
            Recognition {
                interface: word(interface),
                network: word(network),
                gateway: word(gateway),
            }
        };
        for (recognition, holds) in [
            (named("lan0", "198.51.100.0/24", "198.51.100.1"), true),
            (named("lan0", "", ""), true),
            (named("lan1", "198.51.100.0/24", ""), false),
            (named("", "203.0.113.0/24", ""), false),
            (named("", "", "198.51.100.2"), false),
            (named("", "", ""), false),
        ] {
            assert_eq!(recognition.holds(&place), holds, "{recognition:?}");
        }
    }

    #[test]
    fn selectors_read_print_and_select() {
        let mast = Host {
            name: "mast".into(),
            tags: vec!["sensors".into()],
            addresses: vec![],
            ssh: None,
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
