//! Lines of the log, as they are read back.

use std::borrow::Cow;
use std::fmt;
use std::net::{IpAddr, SocketAddr};
use std::ops::Deref;

use serde::de::{Deserializer, Error, Visitor};
use serde::{Deserialize, Serialize, Serializer};

use crate::orders::Action;
use crate::packet::Direction;

/// A text of a line: borrowed from it where nothing in it is escaped.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct Text<'t>(pub Cow<'t, str>);

impl Deref for Text<'_> {
    type Target = str;

    fn deref(&self) -> &str {
        &self.0
    }
}

impl<'t> From<&'t str> for Text<'t> {
    fn from(text: &'t str) -> Self {
        Self(Cow::Borrowed(text))
    }
}

impl Serialize for Text<'_> {
    fn serialize<S: Serializer>(&self, serializer: S) -> Result<S::Ok, S::Error> {
        serializer.serialize_str(self)
    }
}

/// `Option<Cow<str>>` would own what it could borrow.
impl<'de: 't, 't> Deserialize<'de> for Text<'t> {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        struct Reads;
        impl<'de> Visitor<'de> for Reads {
            type Value = Text<'de>;

            fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.write_str("a string")
            }

            fn visit_borrowed_str<E: Error>(self, text: &'de str) -> Result<Text<'de>, E> {
                Ok(Text::from(text))
            }

            fn visit_str<E: Error>(self, text: &str) -> Result<Text<'de>, E> {
                Ok(Text(Cow::Owned(text.to_owned())))
            }
        }
        deserializer.deserialize_str(Reads)
    }
}

/// One decision.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
pub struct Entry<'t> {
    /// When: RFC 3339 in UTC, microseconds, so that texts sort as moments do.
    #[serde(borrow)]
    pub time: Text<'t>,
    /// Which way.
    pub direction: Direction,
    /// Where.
    pub interface: Text<'t>,
    /// To which port, or which message: `tcp/22`, `icmp/echo`.
    pub traffic: Text<'t>,
    /// From whom: an address, with its port where there are ports.
    pub source: Text<'t>,
    /// To whom, likewise.
    pub destination: Text<'t>,
    /// Which program listens or sends, where one is known.
    pub program: Option<Text<'t>>,
    /// What was said.
    pub verdict: Action,
    /// Whether the orders that said it were rehearsed: then nothing was stopped.
    #[serde(default)]
    pub rehearsed: bool,
    /// By what, in words.
    pub by: Text<'t>,
    /// The name of the rule that decided.
    pub rule: Option<Text<'t>>,
    /// Its position in the orders, from 1.
    pub position: Option<usize>,
}

/// The address of an end, with or without a port; `None` for `this host`.
fn address(end: &str) -> Option<IpAddr> {
    end.parse().ok().or_else(|| Some(end.parse::<SocketAddr>().ok()?.ip()))
}

impl Entry<'_> {
    /// Who sent it.
    pub fn source_address(&self) -> Option<IpAddr> {
        address(&self.source)
    }

    /// Whether a rule or a standing answer decided it: foundations and rates no rule changes.
    pub fn a_rule_could_let_it_in(&self) -> bool {
        self.by.starts_with("rule ") || self.by.starts_with("the standing answer")
    }

    /// To whom it went.
    pub fn destination_address(&self) -> Option<IpAddr> {
        address(&self.destination)
    }
}

/// Decisions that the log does not have.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
pub struct Gap<'t> {
    /// When this was noticed.
    #[serde(borrow)]
    pub time: Text<'t>,
    /// Left out of a sample.
    pub not_sampled: u64,
    /// Nobody read them in time.
    pub lost: u64,
    /// The log could not be written, or not so fast.
    pub not_written: u64,
}

impl Gap<'_> {
    /// How many are missing.
    pub fn total(&self) -> u64 {
        self.not_sampled + self.lost + self.not_written
    }
}

/// What a line of the log says.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Read<'t> {
    /// One decision.
    Entry(Entry<'t>),
    /// That some are missing.
    Gap(Gap<'t>),
    /// Nothing that this version understands: it is cut, damaged, or of a later version.
    Unreadable,
}

/// Reads a line of the log.
pub fn read_line(line: &str) -> Read<'_> {
    let read = match schema(line).as_deref() {
        Some("tipstaff.log/1") => serde_json::from_str(line).map(Read::Entry),
        Some("tipstaff.log-gap/1") => serde_json::from_str(line).map(Read::Gap),
        _ => return Read::Unreadable,
    };
    read.unwrap_or(Read::Unreadable)
}

/// What a JSON object says that it is. The logs of this program begin with it; the members
/// of an object have no order (RFC 8259, 4), and other programs write logs again.
pub fn schema(line: &str) -> Option<Cow<'_, str>> {
    #[derive(Deserialize)]
    struct Tag<'t> {
        #[serde(borrow)]
        schema: Text<'t>,
    }
    let begins = line.strip_prefix("{\"schema\":\"").and_then(|rest| rest.split_once('"'));
    match begins {
        Some((name, _)) => Some(name.into()),
        None => serde_json::from_str(line).ok().map(|tag: Tag<'_>| tag.schema.0),
    }
}

/// For tests: a stranger who was turned away from a shell.
#[cfg(test)]
pub(in crate::analysis) fn example() -> Entry<'static> {
    Entry {
        time: "2026-11-29T10:00:00.000000Z".into(),
        direction: Direction::Inbound,
        interface: "lan0".into(),
        traffic: "tcp/22".into(),
        source: "203.0.113.9:4242".into(),
        destination: "198.51.100.20:22".into(),
        program: None,
        verdict: Action::Deny,
        rehearsed: false,
        by: "the standing answer inbound".into(),
        rule: None,
        position: None,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const LINE: &str = r#"{"schema":"tipstaff.log/1","time":"2026-11-29T10:00:00.000001Z","direction":"inbound","interface":"lan0","traffic":"tcp/22","source":"[2001:db8::9]:4242","destination":"198.51.100.20:22","program":"/srv/star\"plates","verdict":"deny","by":"rule 3 (no)","kind":"rule","which":3,"rule":"no","position":3}"#;

    #[test]
    fn a_line_is_borrowed_from_and_a_torn_one_is_told() {
        let Read::Entry(entry) = read_line(LINE) else { panic!() };
        assert_eq!(entry.source_address(), Some("2001:db8::9".parse().unwrap()));
        assert_eq!(
            (entry.position, entry.program.as_deref()),
            (Some(3), Some("/srv/star\"plates"))
        );
        assert!(matches!(entry.rule, Some(Text(Cow::Borrowed("no")))));
        for end in 0..LINE.len() {
            assert_eq!(read_line(&LINE[..end]), Read::Unreadable);
        }
        let later = LINE.replace("log/1", "log/2");
        assert_eq!(read_line(&later), Read::Unreadable);
        let gap = r#"{"schema":"tipstaff.log-gap/1","time":"2026-11-29T10:00:00Z","not_sampled":7,"lost":2,"not_written":1}"#;
        let Read::Gap(gap) = read_line(gap) else { panic!() };
        assert_eq!(gap.total(), 10);
    }

    /// As another program writes it again: the members of an object have no order, and may
    /// have spaces between them (RFC 8259, 2 and 4).
    #[test]
    fn a_line_that_another_program_wrote_again_is_read() {
        let value: serde_json::Value = serde_json::from_str(LINE).unwrap();
        let serde_json::Value::Object(members) = &value else { panic!() };
        let spaced = LINE.replace("\",\"", "\", \"").replace("{\"schema\":", "{ \"schema\": ");
        let reversed: Vec<String> =
            members.iter().rev().map(|(name, value)| format!("\"{name}\" : {value}")).collect();
        for again in [spaced, format!("{{{}}}", reversed.join(" , "))] {
            assert_eq!(read_line(&again), read_line(LINE), "{again}");
        }
        let gap = r#"{"not_written":1,"lost":2,"not_sampled":7,"time":"2026-11-29T10:00:00Z","schema":"tipstaff.log-gap/1"}"#;
        assert!(matches!(read_line(gap), Read::Gap(_)));
        assert_eq!(read_line(&gap.replace("gap/1", "gap/2")), Read::Unreadable);
        assert_eq!(read_line(&gap.replace("schema", "scheme")), Read::Unreadable);
    }
}
