//! A rule that is proposed, with its evidence.

use std::fmt::Write;

use schemars::JsonSchema;
use serde::Serialize;

use super::draft::quoted;
use crate::packet::Direction;

/// One rule that would let in what was asked for.
#[derive(Clone, Debug, PartialEq, Eq, JsonSchema, Serialize)]
pub struct Proposal {
    /// A name for the rule.
    pub name: String,
    /// Which way.
    pub direction: Direction,
    /// What for.
    pub traffic: Vec<String>,
    /// The networks at the other end; empty: too many to name them.
    pub peers: Vec<String>,
    /// To whom, of what passes through.
    pub destinations: Vec<String>,
    /// Which program listens or sends.
    pub program: Option<String>,
    /// The rule that it has to stand before.
    pub before: Option<String>,
    /// How often it was asked for.
    pub times: u64,
    /// By how many addresses.
    pub addresses: usize,
    /// When first: RFC 3339, UTC.
    pub first: String,
    /// When last.
    pub last: String,
}

impl Proposal {
    /// How often, by whom, and when, in words.
    pub fn evidence(&self) -> String {
        let times = if self.times == 1 { "once".into() } else { format!("{} times", self.times) };
        let whom = match self.addresses {
            1 => String::new(),
            many => format!(" by {many} addresses"),
        };
        let (first, last) = (minute(&self.first), minute(&self.last));
        let when = if first == last { first } else { format!("{first} to {last}") };
        format!("asked for {times}{whom}, {when} UTC")
    }

    /// As `rule add` takes it, behind those two words.
    pub fn arguments(&self) -> Vec<String> {
        let mut words = vec!["allow".to_owned()];
        words.extend(self.traffic.iter().cloned());
        let mut add = |key: &str, value: String| words.extend([format!("--{key}"), value]);
        if self.direction != Direction::Inbound {
            add("direction", self.direction.to_string());
        }
        for (key, values) in self.ends() {
            if !values.is_empty() {
                add(key, values.join(","));
            }
        }
        if let Some(program) = self.sender() {
            add("program", program.to_owned());
        }
        if let Some(before) = &self.before {
            add("before", before.clone());
        }
        words
    }

    /// The program, where the rule is about it: of what comes in, the port says enough.
    fn sender(&self) -> Option<&str> {
        self.program.as_deref().filter(|_| self.direction == Direction::Outbound)
    }

    /// Source and destination, as a rule has them.
    fn ends(&self) -> [(&'static str, &[String]); 2] {
        match self.direction {
            Direction::Outbound => [("source", &[]), ("destination", &self.peers)],
            _ => [("source", &self.peers), ("destination", &self.destinations)],
        }
    }

    /// The rule as it stands in orders.
    pub fn rule(&self) -> String {
        let mut text = format!(
            "\n[[rules]]\nname = {}\nnote = {}\naction = \"allow\"\ntraffic = {}\n",
            quoted(&self.name),
            quoted(&self.evidence()),
            list(&self.traffic)
        );
        if self.direction != Direction::Inbound {
            let _ = writeln!(text, "direction = \"{}\"", self.direction);
        }
        for (key, values) in self.ends() {
            if !values.is_empty() {
                let _ = writeln!(text, "{key} = {}", list(values));
            }
        }
        if let Some(program) = self.sender() {
            let _ = writeln!(text, "program = {}", quoted(program));
        }
        text
    }
}

/// One value, or a list of them, as TOML writes it.
fn list(values: &[String]) -> String {
    match values {
        [one] => quoted(one),
        many => {
            let all: Vec<String> = many.iter().map(|one| quoted(one)).collect();
            format!("[{}]", all.join(", "))
        }
    }
}

/// `2026-11-29 10:00` of a moment.
fn minute(time: &str) -> String {
    time.get(..16).unwrap_or(time).replace('T', " ")
}
