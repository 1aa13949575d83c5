//! The `[[rules]]` of the orders.

use std::collections::BTreeMap;
use std::ops::Range;

use toml::de::{DeTable, DeValue};

use super::model::{Rule, RuleName, SourceCondition, TrafficCondition};
use super::read::{Known, Reader, Value, leaf};
use super::resolve::Names;
use crate::names::address::AddressSet;
use crate::names::traffic::keys_of;

/// Keys of a rule, and whether this version puts them in force.
const RULE_KEYS: &[(&str, bool)] = &[
    ("name", true),
    ("note", true),
    ("action", true),
    ("direction", true),
    ("traffic", true),
    ("source", true),
    ("enabled", true),
    ("source_except", false),
    ("destination", false),
    ("interface", false),
    ("family", false),
    ("program", false),
    ("at_most", false),
    ("over", false),
    ("log", false),
    ("until", false),
    ("group", false),
    ("hosts", false),
    ("postures", false),
];

impl<'t> Reader<'t> {
    pub(super) fn rules(&mut self, root: &DeTable<'t>, known: &Known<'_>) -> Option<Vec<Rule>> {
        let Some(value) = root.get("rules") else { return Some(Vec::new()) };
        let DeValue::Array(list) = value.get_ref() else {
            self.wrong_type("rules", value, "a list of tables, each under [[rules]]");
            return None;
        };
        let mut seen: BTreeMap<RuleName, usize> = BTreeMap::new();
        let mut rules = Some(Vec::with_capacity(list.len()));
        let mut lines = LineCounter { text: self.text, offset: 0, line: 1 };
        for (at, value) in list.iter().enumerate() {
            let path = format!("rules[{}]", at + 1);
            let line = lines.line_of(value.span().start);
            let rule = self
                .table(&path, value)
                .and_then(|table| self.rule(&path, value.span(), table, known, line, &mut seen));
            rules = match (rules, rule) {
                (Some(mut rules), Some(rule)) => {
                    rules.push(rule);
                    Some(rules)
                }
                _ => None,
            };
        }
        rules
    }

    fn rule(
        &mut self,
        path: &str,
        span: Range<usize>,
        table: &DeTable<'t>,
        known: &Known<'_>,
        line: usize,
        seen: &mut BTreeMap<RuleName, usize>,
    ) -> Option<Rule> {
        if table.is_empty() {
            self.fault(
                path,
                span,
                "an empty rule",
                "Give it a name, an action and traffic, or take it out.",
            );
            return None;
        }
        self.check_keys(table, path, RULE_KEYS);
        let name = self.rule_name(path, &span, table, line, seen);
        // Messages name the rule by its name where it has one.
        let path = name.as_ref().map_or_else(|| path.to_owned(), |n| format!("{path} ({n})"));
        let key = |k: &str| format!("{path}.{k}");
        let action = match table.get("action") {
            Some(value) => self.action(&key("action"), value),
            None => {
                self.missing(&key("action"), &span, "`action = \"allow\"` or `\"deny\"`");
                None
            }
        };
        let direction = table.get("direction").map(|v| self.direction(&key("direction"), v));
        let traffic = match table.get("traffic") {
            Some(value) => self.traffic(&key("traffic"), value, known.names),
            None => {
                self.missing(
                    &key("traffic"),
                    &span,
                    "what it is about, such as `traffic = [\"ssh\"]`, or `\"any\"`",
                );
                None
            }
        };
        let source = match table.get("source") {
            Some(value) => self.source(&key("source"), value, known),
            None => Some(SourceCondition { written: Vec::new(), addresses: None }),
        };
        let note = match table.get("note") {
            Some(value) => Some(self.string(&key("note"), value)?.text),
            None => None,
        };
        let enabled = match table.get("enabled") {
            Some(value) => self.boolean(&key("enabled"), value),
            None => Some(true),
        };
        if direction == Some(None) {
            return None;
        }
        Some(Rule {
            name: name?,
            note,
            action: action?,
            traffic: traffic?,
            source: source?,
            enabled: enabled?,
            line,
        })
    }

    fn missing(&mut self, key: &str, span: &Range<usize>, wanted: &str) {
        let last = leaf(key);
        self.fault(
            key,
            span.clone(),
            format!("the rule has no `{last}`"),
            format!("Write {wanted}."),
        );
    }

    fn rule_name(
        &mut self,
        path: &str,
        span: &Range<usize>,
        table: &DeTable<'t>,
        line: usize,
        seen: &mut BTreeMap<RuleName, usize>,
    ) -> Option<RuleName> {
        let key = format!("{path}.name");
        let Some(value) = table.get("name") else {
            self.missing(&key, span, "a name that commands and logs can use");
            return None;
        };
        let written = self.string(&key, value)?;
        let name = match RuleName::parse(&written.text) {
            Ok(name) => name,
            Err(why) => {
                self.fault(&key, written.span, why, "Write it like `shell-from-the-observatory`.");
                return None;
            }
        };
        if let Some(first) = seen.get(&name) {
            let message =
                format!("two rules are called `{name}`; the first begins in line {first}");
            self.fault(&key, written.span, message, "Give one of them another name.");
        } else {
            seen.insert(name.clone(), line);
        }
        Some(name)
    }

    fn direction(&mut self, key: &str, value: &Value<'_>) -> Option<()> {
        let written = self.string(key, value)?;
        match written.text.as_str() {
            "inbound" => Some(()),
            "outbound" | "transit" => {
                self.fault(
                    key,
                    written.span,
                    format!("rules for `{}` cannot be put in force by this version", written.text),
                    "Take the rule out, or make it inbound.",
                );
                None
            }
            other => {
                self.fault(
                    key,
                    written.span,
                    format!("`{other}` is no direction"),
                    "Write `inbound`, or take the key out: it means the same.",
                );
                None
            }
        }
    }

    fn traffic(&mut self, key: &str, value: &Value<'_>, names: &Names) -> Option<TrafficCondition> {
        let written = self.strings(key, value);
        let mut terms = Vec::new();
        let mut whole = !written.is_empty();
        for text in &written {
            match names.terms(text) {
                Ok(t) => terms.extend(t),
                Err(u) => {
                    self.unresolved(key, u);
                    whole = false;
                }
            }
        }
        whole.then(|| TrafficCondition {
            keys: keys_of(&terms),
            written: written.into_iter().map(|w| w.text).collect(),
        })
    }

    fn source(
        &mut self,
        key: &str,
        value: &Value<'_>,
        known: &Known<'_>,
    ) -> Option<SourceCondition> {
        let written = self.strings(key, value);
        let mut all = Some(AddressSet::empty());
        let mut whole = !written.is_empty();
        for text in &written {
            // A group is resolved once, and a fault inside it told once, where it stands.
            if let Some(set) = known.groups.get(&text.text) {
                all = all.map(|all| all.union(set));
                continue;
            }
            match known.names.addresses(text) {
                Ok(set) => all = all.zip(set).map(|(all, set)| all.union(&set)),
                Err(u) => {
                    self.unresolved(key, u);
                    whole = false;
                }
            }
        }
        whole.then(|| SourceCondition {
            written: written.into_iter().map(|w| w.text).collect(),
            addresses: all,
        })
    }
}

/// Counts lines forward only, so that ten thousand rules cost one pass.
struct LineCounter<'t> {
    text: &'t str,
    offset: usize,
    line: usize,
}

impl LineCounter<'_> {
    fn line_of(&mut self, offset: usize) -> usize {
        if let Some(between) = self.text.get(self.offset..offset) {
            self.line += between.matches('\n').count();
            self.offset = offset;
        }
        self.line
    }
}
