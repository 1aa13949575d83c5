//! One decision, or a gap, as it is written and shown.

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use tipstaff_core::analysis::log::{Entry, Text, schema};
use tipstaff_core::decision::Speaker;
use tipstaff_core::orders::Action;
use tipstaff_core::packet::Direction;
use tipstaff_core::visible::visible_json;

use crate::shape::{Shape, Tagged, id, shape};

/// One decision: a line of JSON.
#[derive(Clone, Debug, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct Line {
    /// RFC 3339, UTC, microseconds.
    pub time: String,
    pub direction: Direction,
    pub interface: String,
    pub traffic: String,
    pub source: String,
    pub destination: String,
    pub program: Option<String>,
    pub verdict: Action,
    /// Whether the orders that said so were rehearsed: then nothing was stopped.
    #[serde(default)]
    pub rehearsed: bool,
    /// What decided, in words.
    pub by: String,
    /// The name of the rule that decided; null where none did, or one of earlier orders.
    pub rule: Option<String>,
    /// The position of that rule, from 1.
    pub position: Option<usize>,
    #[serde(flatten)]
    pub speaker: Speaker,
}

impl Line {
    /// Whether no rule can change it.
    pub fn speaker_is_a_foundation(&self) -> bool {
        matches!(self.speaker, Speaker::Foundation(_) | Speaker::CorruptTables | Speaker::Nobody)
    }

    /// As the log reads it.
    pub fn entry(&self) -> Entry<'_> {
        Entry {
            time: self.time.as_str().into(),
            direction: self.direction,
            interface: self.interface.as_str().into(),
            traffic: self.traffic.as_str().into(),
            source: self.source.as_str().into(),
            destination: self.destination.as_str().into(),
            program: self.program.as_deref().map(Text::from),
            verdict: self.verdict,
            rehearsed: self.rehearsed,
            by: self.by.as_str().into(),
            rule: self.rule.as_deref().map(Text::from),
            position: self.position,
        }
    }
}

/// For tests: a stranger who was turned away from a shell.
#[cfg(test)]
pub fn example() -> Line {
    Line {
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
        speaker: Speaker::Standing(Direction::Inbound),
    }
}

/// Decisions that are missing since the gap before: a line of JSON.
#[derive(Clone, Debug, Default, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct GapLine {
    /// RFC 3339, UTC: when this was noticed.
    pub time: String,
    /// Left out of a sample.
    pub not_sampled: u64,
    /// Nobody read them in time.
    pub lost: u64,
    /// The log could not be written, or not so fast.
    pub not_written: u64,
}

impl GapLine {
    /// In words; nothing where nothing is missing.
    pub fn words(&self) -> String {
        let parts = [
            (self.not_sampled, "not sampled"),
            (self.lost, "lost because nobody read in time"),
            (self.not_written, "not written to the log"),
        ];
        let told = parts.iter().filter(|(n, _)| *n > 0).map(|(n, what)| format!("{n} {what}"));
        told.collect::<Vec<_>>().join(", ")
    }

    /// Whether anything is missing.
    pub fn is_empty(&self) -> bool {
        self.not_sampled + self.lost + self.not_written == 0
    }

    /// With what another one says is missing.
    pub fn add(&mut self, other: &Self) {
        self.not_sampled += other.not_sampled;
        self.lost += other.lost;
        self.not_written += other.not_written;
    }
}

shape!(Line => "log", GapLine => "log-gap");

/// What the reader tells.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Told {
    Line(Line),
    Gap(GapLine),
}

impl Told {
    /// As a line of JSON, without its end.
    pub fn json(&self) -> String {
        let text = match self {
            Self::Line(line) => serde_json::to_string(&Tagged::new(line)),
            Self::Gap(gap) => serde_json::to_string(&Tagged::new(gap)),
        };
        // Names that others chose are in it, and it is looked at with any tool.
        text.map(|text| visible_json(&text).into_owned()).unwrap_or_default()
    }

    /// When it was decided, or noticed.
    pub fn time(&self) -> &str {
        match self {
            Self::Line(line) => &line.time,
            Self::Gap(gap) => &gap.time,
        }
    }

    /// Reads such a line.
    pub fn parse(text: &str) -> Option<Self> {
        match schema(text)? {
            name if name == id(GapLine::NAME) => serde_json::from_str(text).ok().map(Self::Gap),
            name if name == id(Line::NAME) => serde_json::from_str(text).ok().map(Self::Line),
            _ => None,
        }
    }
}

/// A moment as lines have it.
pub fn moment(time: Timestamp) -> String {
    format!("{time:.6}")
}

/// What was said: `deny`; or `would deny`, of orders that are rehearsed.
pub fn said(verdict: Action, rehearsed: bool) -> String {
    match rehearsed {
        true => format!("would {verdict}"),
        false => verdict.to_string(),
    }
}

/// A decision as people read it, behind its time.
pub fn as_text(time: &str, entry: &Entry<'_>) -> String {
    let Entry { direction, interface, traffic, source, destination, by, .. } = entry;
    let verdict = said(entry.verdict, entry.rehearsed);
    let program = entry.program.as_deref().map(|path| format!("  {path}")).unwrap_or_default();
    format!(
        "{time}  {verdict:<6}  {direction} on {}  {}  {} → {}{program}  by {}",
        &**interface, &**traffic, &**source, &**destination, &**by
    )
}
