//! Findings as a log in the Static Analysis Results Interchange Format,
//! version 2.1.0 (OASIS), for tools that gather them.

use std::collections::BTreeMap;
use std::path::Path;

use serde::Serialize;
use tipstaff_core::analysis::review::{Finding, GAVE_UP, Review};
use tipstaff_core::orders::{Code, Severity};

const SCHEMA: &str =
    "https://docs.oasis-open.org/sarif/sarif/v2.1.0/errata01/os/schemas/sarif-schema-2.1.0.json";

/// A log with one run.
#[derive(Serialize)]
pub struct Log {
    #[serde(rename = "$schema")]
    schema: &'static str,
    version: &'static str,
    runs: [Run; 1],
}

#[derive(Serialize)]
#[serde(rename_all = "camelCase")]
struct Run {
    tool: Tool,
    column_kind: &'static str,
    invocations: [Invocation; 1],
    results: Vec<Found>,
}

#[derive(Serialize)]
#[serde(rename_all = "camelCase")]
struct Invocation {
    execution_successful: bool,
    tool_execution_notifications: Vec<Notification>,
}

/// What the tool says of its own run (3.58).
#[derive(Serialize)]
struct Notification {
    level: &'static str,
    message: Message,
}

#[derive(Serialize)]
struct Tool {
    driver: Driver,
}

#[derive(Serialize)]
#[serde(rename_all = "camelCase")]
struct Driver {
    name: &'static str,
    semantic_version: &'static str,
    information_uri: String,
    rules: Vec<Kind>,
}

#[derive(Serialize)]
#[serde(rename_all = "camelCase")]
struct Kind {
    id: &'static str,
    short_description: Message,
    help_uri: String,
    default_configuration: Configuration,
}

#[derive(Serialize)]
struct Configuration {
    level: &'static str,
}

#[derive(Serialize)]
struct Message {
    text: String,
}

#[derive(Serialize)]
#[serde(rename_all = "camelCase")]
struct Found {
    rule_id: &'static str,
    rule_index: usize,
    level: &'static str,
    message: Message,
    locations: Vec<Location>,
    partial_fingerprints: Fingerprints,
}

/// What stays the same while rules move and lines are added before them (3.27.17).
#[derive(Serialize)]
struct Fingerprints {
    #[serde(rename = "tipstaffFinding/v1")]
    finding: String,
}

#[derive(Serialize)]
#[serde(rename_all = "camelCase")]
struct Location {
    physical_location: Place,
}

#[derive(Serialize)]
#[serde(rename_all = "camelCase")]
struct Place {
    artifact_location: Artifact,
    #[serde(skip_serializing_if = "Option::is_none")]
    region: Option<Region>,
}

#[derive(Serialize)]
struct Artifact {
    uri: String,
}

#[derive(Serialize)]
#[serde(rename_all = "camelCase")]
struct Region {
    start_line: usize,
}

const fn level(severity: Severity) -> &'static str {
    match severity {
        Severity::Note => "note",
        Severity::Warning => "warning",
        Severity::Error => "error",
    }
}

/// A page that the packages install.
fn page(name: &str) -> String {
    format!("file:///usr/share/doc/tipstaff/{name}")
}

/// The log of a review of the orders at `path`.
pub fn log(path: &Path, review: &Review) -> Log {
    let rules = Code::ALL
        .into_iter()
        .map(|code| Kind {
            id: code.name(),
            short_description: Message { text: code.why().to_owned() },
            help_uri: page(&format!("findings.md#{}", code.name())),
            default_configuration: Configuration { level: level(code.severity()) },
        })
        .collect();
    let driver = Driver {
        name: "Tipstaff",
        semantic_version: env!("CARGO_PKG_VERSION"),
        information_uri: page("README.md"),
        rules,
    };
    // Of several findings of one kind about one rule, their order tells them apart.
    let mut before: BTreeMap<String, usize> = BTreeMap::new();
    let mut results = Vec::with_capacity(review.findings.len());
    for finding in &review.findings {
        let about = finding.rule.as_deref().unwrap_or(&finding.what);
        let about = format!("{}:{about}", finding.code.name());
        let number = before.entry(about.clone()).or_default();
        *number += 1;
        results.push(found(path, finding, format!("{about}:{number}")));
    }
    let gave_up = review.gave_up.then(|| Notification {
        level: "warning",
        message: Message { text: format!("Not everything was checked: {GAVE_UP}.") },
    });
    let invocation = Invocation {
        execution_successful: true,
        tool_execution_notifications: gave_up.into_iter().collect(),
    };
    let run = Run {
        tool: Tool { driver },
        column_kind: "unicodeCodePoints",
        invocations: [invocation],
        results,
    };
    Log { schema: SCHEMA, version: "2.1.0", runs: [run] }
}

fn found(path: &Path, finding: &Finding, fingerprint: String) -> Found {
    let Finding { code, severity, rule, position, file, line, what, help } = finding;
    let subject = match (rule, position) {
        (Some(rule), Some(position)) => format!("rule {position} ({rule}): "),
        _ => String::new(),
    };
    let file = file.as_ref().map(|part| path.with_file_name("").join(part));
    let artifact = Artifact { uri: uri(file.as_deref().unwrap_or(path)) };
    let region = line.map(|start_line| Region { start_line });
    Found {
        rule_id: code.name(),
        rule_index: Code::ALL.into_iter().position(|other| other == *code).unwrap_or_default(),
        level: level(*severity),
        message: Message { text: format!("{subject}{what}. {} {help}", code.why()) },
        locations: vec![Location {
            physical_location: Place { artifact_location: artifact, region },
        }],
        partial_fingerprints: Fingerprints { finding: fingerprint },
    }
}

/// A path as a URI reference (RFC 3986): what cannot stand there by itself is
/// written in percent.
fn uri(path: &Path) -> String {
    use std::os::unix::ffi::OsStrExt;
    let mut uri = String::new();
    if path.is_absolute() {
        uri.push_str("file://");
    }
    for byte in path.as_os_str().as_bytes() {
        match byte {
            b'A'..=b'Z' | b'a'..=b'z' | b'0'..=b'9' | b'/' | b'-' | b'.' | b'_' | b'~' => {
                uri.push(char::from(*byte));
            }
            other => uri.push_str(&format!("%{other:02X}")),
        }
    }
    uri
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn paths_are_uris() {
        assert_eq!(uri(Path::new("orders.toml")), "orders.toml");
        assert_eq!(uri(Path::new("/srv/a b/ü.toml")), "file:///srv/a%20b/%C3%BC.toml");
    }
}
