//! Every key of the orders, once: the reader checks against these lists, and
//! the JSON Schema is made of them.

use super::action::Action;
use super::at_most::Over;
use super::hosts::OnFailure;
use super::log::{Log, LogLevel};
use super::model::Memory;
use crate::names::address::Family;
use crate::packet::Direction;

/// A key and what may stand behind it.
pub(super) struct Key {
    pub(super) name: &'static str,
    pub(super) kind: Kind,
    pub(super) required: bool,
    pub(super) meaning: &'static str,
}

/// What may stand behind a key.
pub(super) enum Kind {
    /// The number 1.
    Version,
    /// A string.
    Text,
    /// One string or a list of strings, not empty.
    Words,
    /// The same, of traffic.
    Traffic,
    /// The same, of addresses and names of them.
    Addresses,
    /// The same, of programs by their absolute paths and of names of them.
    Programs,
    /// true or false.
    Switch,
    /// A whole number between two, both included.
    Number(u32, u32),
    /// A date-time of TOML, or the same as a string.
    Moment,
    /// A rate.
    Rate,
    /// One of some words.
    OneOf(fn() -> Vec<String>),
    /// A table with these keys.
    Table(&'static [Key]),
    /// A list of such tables.
    Tables(&'static [Key]),
    /// A table of names that the orders choose, each with such words behind it.
    Names(&'static Kind),
}

const fn key(name: &'static str, kind: Kind, meaning: &'static str) -> Key {
    Key { name, kind, required: false, meaning }
}

const fn needed(name: &'static str, kind: Kind, meaning: &'static str) -> Key {
    Key { name, kind, required: true, meaning }
}

fn actions() -> Vec<String> {
    Action::ALL.iter().map(ToString::to_string).collect()
}

fn directions() -> Vec<String> {
    Direction::ALL.iter().map(ToString::to_string).collect()
}

fn families() -> Vec<String> {
    Family::BOTH.iter().map(|family| family.to_string().to_lowercase()).collect()
}

fn on_failures() -> Vec<String> {
    OnFailure::ALL.iter().map(|(_, name)| (*name).to_owned()).collect()
}

fn log_levels() -> Vec<String> {
    LogLevel::ALL.iter().map(|(_, name)| (*name).to_owned()).collect()
}

fn overs() -> Vec<String> {
    Over::ALL.iter().map(|over| Action::from(*over).to_string()).collect()
}

/// The file itself.
pub(super) const ORDERS: &[Key] = &[
    needed("version", Kind::Version, "The version of this format"),
    key(
        "include",
        Kind::Words,
        "More files below the directory of the orders, such as groups/*.toml; their rules come \
         before those written here",
    ),
    needed("standing", Kind::Table(STANDING), "What happens to traffic that no rule matches"),
    key(
        "program_exact",
        Kind::Switch,
        "Rules match the exact file at a program's path, not whatever is started under that path \
         [false]",
    ),
    key(
        "foundations",
        Kind::Table(FOUNDATIONS),
        "What applies before any rule and can be switched off",
    ),
    key(
        "memory",
        Kind::Table(MEMORY),
        "How many flows and rate-limited sources the gate remembers",
    ),
    key("log", Kind::Table(LOG), "Which decisions are logged, and how long they are kept"),
    key(
        "addresses",
        Kind::Names(&Kind::Addresses),
        "Groups of addresses: single ones, prefixes, first-last ranges, other groups, file:NAME, \
         area:CODE",
    ),
    key("services", Kind::Names(&Kind::Traffic), "Names for ports and protocols"),
    key("programs", Kind::Names(&Kind::Programs), "Sets of programs, by their absolute paths"),
    key("areas", Kind::Table(AREAS), "Where area:CODE is looked up"),
    key("hosts", Kind::Tables(HOSTS), "The hosts that these orders are for"),
    key("boot", Kind::Table(BOOT), "What is in force after a restart"),
    key(
        "postures",
        Kind::Tables(POSTURES),
        "Named sets of standing answers; one is active at a time",
    ),
    key("groups", Kind::Tables(GROUPS), "Rules that are assigned, paused and exchanged together"),
    key("rules", Kind::Tables(RULE), "The rules in order; the first matching rule decides"),
];

/// Keys that an included file may have.
pub(super) const PART: [&str; 8] =
    ["version", "addresses", "services", "programs", "hosts", "postures", "groups", "rules"];

/// `[standing]`: all three are written out.
pub(super) const STANDING: &[Key] = &[
    needed("inbound", Kind::OneOf(actions), "To this host"),
    needed("outbound", Kind::OneOf(actions), "From this host"),
    needed("transit", Kind::OneOf(actions), "Through this host"),
];

/// The standing answers of a host or a posture: what is absent is the common one.
pub(super) const OWN_STANDING: &[Key] = &[
    key("inbound", Kind::OneOf(actions), "To this host"),
    key("outbound", Kind::OneOf(actions), "From this host"),
    key("transit", Kind::OneOf(actions), "Through this host"),
];

/// `[foundations]`.
pub(super) const FOUNDATIONS: &[Key] =
    &[key("address_assignment", Kind::Switch, "DHCP and DHCPv6 of this host pass [true]")];

/// `[memory]`.
pub(super) const MEMORY: &[Key] = &[
    key(
        "flows",
        Kind::Number(Memory::LEAST, Memory::MOST),
        "Most connectionless flows (UDP, ICMP …) remembered, in each of three tables [65536]",
    ),
    key(
        "sources",
        Kind::Number(Memory::LEAST, Memory::MOST),
        "Most sources remembered by rate limits [65536]",
    ),
];

/// `[log]`.
pub(super) const LOG: &[Key] = &[
    key(
        "level",
        Kind::OneOf(log_levels),
        "Decisions logged beside those of rules with log = true: off, denied (a sample under a \
         flood), rules (also what rules allow) or all (also what standing answers allow) [denied]",
    ),
    key(
        "max_megabytes",
        Kind::Number(Log::MEGABYTES.0, Log::MEGABYTES.1),
        "Most that the log takes; the oldest files go first [100]",
    ),
    key("max_days", Kind::Number(Log::DAYS.0, Log::DAYS.1), "Older files are removed [30]"),
    key("journal", Kind::Switch, "Each line goes to the systemd journal too [false]"),
    key("syslog", Kind::Switch, "Each line goes to the local syslog too, RFC 5424 [false]"),
    key("viewers", Kind::Text, "A group of accounts that may watch, and read the log [only root]"),
];

/// `[areas]`.
pub(super) const AREAS: &[Key] =
    &[key("feed", Kind::Text, "A self-published geolocation feed, RFC 8805")];

/// `[[hosts]]`.
pub(super) const HOSTS: &[Key] = &[
    needed("name", Kind::Text, "The host name of the machine"),
    key("tags", Kind::Words, "Labels, which selectors name as #tag"),
    key("addresses", Kind::Words, "Its addresses"),
    key("ssh", Kind::Text, "What ssh calls it: a host of your ssh configuration [its name]"),
    key("standing", Kind::Table(OWN_STANDING), "Its own standing answers"),
];

/// `[boot]`.
pub(super) const BOOT: &[Key] = &[
    key(
        "on_failure",
        Kind::OneOf(on_failures),
        "What to do when the orders of the last post cannot be put in force [last-good]",
    ),
    key("posture", Kind::Text, "The posture to start in; \"sealed\" is built in [the last one]"),
];

/// `[[postures]]`.
pub(super) const POSTURES: &[Key] = &[
    needed("name", Kind::Text, "Its name"),
    key("note", Kind::Text, "Why it exists"),
    key("standing", Kind::Table(OWN_STANDING), "Its own standing answers"),
    key("interface", Kind::Text, "Recognised by an interface that is up"),
    key("network", Kind::Text, "Recognised by a network in which this host has an address"),
    key("gateway", Kind::Text, "Recognised by the address of the next router"),
];

/// `[[groups]]`.
pub(super) const GROUPS: &[Key] = &[
    needed("name", Kind::Text, "Its name"),
    key("note", Kind::Text, "Why it exists"),
    key("hosts", Kind::Words, "The hosts of its rules, where a rule does not name its own"),
    key("postures", Kind::Words, "The postures of its rules, where a rule does not name its own"),
    key("enabled", Kind::Switch, "false pauses all its rules [true]"),
];

/// `[[rules]]`.
pub(super) const RULE: &[Key] = &[
    needed("name", Kind::Text, "Unique and stable; not only digits"),
    key("note", Kind::Text, "Why the rule exists"),
    needed(
        "action",
        Kind::OneOf(actions),
        "What it does: allow, deny (dropped silently) or refuse (answered)",
    ),
    key("direction", Kind::OneOf(directions), "Direction [inbound]"),
    needed(
        "traffic",
        Kind::Traffic,
        "Traffic that it matches: ssh, tcp/7410, udp/7420-7423, tcp/*, icmp/echo, protocol/47, any",
    ),
    key("traffic_except", Kind::Traffic, "Traffic excluded from that"),
    key("source", Kind::Addresses, "Sources: addresses, prefixes, ranges, groups [any]"),
    key("source_except", Kind::Addresses, "Sources excluded from that"),
    key("destination", Kind::Addresses, "To whom [any]"),
    key("destination_except", Kind::Addresses, "Destinations excluded from that"),
    key("interface", Kind::Words, "Interface it arrives at or leaves by: lan0, tun* [any]"),
    key("interface_except", Kind::Words, "But not there"),
    key("program", Kind::Programs, "Program that listens or sends, by its absolute path [any]"),
    key("program_except", Kind::Programs, "But not these"),
    key("family", Kind::OneOf(families), "Address family [both]"),
    key("at_most", Kind::Rate, "Rate limit of an allow: 6 per minute per source, burst 3"),
    key("over", Kind::OneOf(overs), "What happens above the rate limit [deny]"),
    key("log", Kind::Switch, "Record each of its decisions [false]"),
    key(
        "accepted",
        Kind::Words,
        "Review findings that are accepted, each with a reason: \"too-wide: it is a museum\"",
    ),
    key("until", Kind::Moment, "When the rule expires"),
    key("enabled", Kind::Switch, "false pauses it; it keeps its position [true]"),
    key("group", Kind::Text, "The group that it belongs to"),
    key("hosts", Kind::Words, "Hosts it applies to: a name, #tag, * [as its group says, else all]"),
    key("postures", Kind::Words, "Postures in which it applies [as its group says, else all]"),
];
