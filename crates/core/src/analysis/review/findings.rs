//! What a review found.

use schemars::JsonSchema;
use serde::Serialize;

use crate::orders::{Code, Severity};

/// What it means that a review gave up.
pub const GAVE_UP: &str =
    "the list is too complex to find every rule that never matches or is redundant";

/// One finding.
#[derive(Clone, Debug, PartialEq, Eq, JsonSchema, Serialize)]
pub struct Finding {
    /// Its kind.
    pub code: Code,
    /// How much it matters.
    pub severity: Severity,
    /// The rule; `None` where it is about the orders as a whole.
    pub rule: Option<String>,
    /// Its position.
    pub position: Option<usize>,
    /// The included file that it stands in; `None` for the orders' own.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub file: Option<String>,
    /// The line of the rule.
    pub line: Option<usize>,
    /// What was found, a sentence without a full stop.
    pub what: String,
    /// What to do about it.
    #[serde(rename = "help")]
    pub help: String,
}

/// All findings.
#[derive(Clone, Debug, Default, PartialEq, Eq, JsonSchema, Serialize)]
pub struct Review {
    /// In the order of the rules.
    pub findings: Vec<Finding>,
    /// How many were found that the orders accept.
    pub accepted: usize,
    /// Whether the list was too tangled to know all of what never matches.
    pub gave_up: bool,
}

impl Finding {
    pub(super) fn about_all(code: Code, what: String, help: &str) -> Self {
        Self {
            code,
            severity: code.severity(),
            rule: None,
            position: None,
            file: None,
            line: None,
            what,
            help: help.to_owned(),
        }
    }
}
