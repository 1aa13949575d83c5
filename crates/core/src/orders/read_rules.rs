//! The `[[rules]]` of the orders.

use std::collections::BTreeMap;
use std::ops::Range;
use std::sync::Arc;

use toml::de::{DeTable, DeValue};

use super::action::Action;
use super::at_most::{AtMost, Over};
use super::codes::Code;
use super::hosts::Inactive;
use super::keys;
use super::meant;
use super::model::{Accepted, Rule, RuleName};
use super::read::{Known, Reader, Value, leaf};
use super::resolve::{Text, nearest_help};
use crate::moment::{Moment, NoMoment};
use crate::packet::Direction;

impl<'t> Reader<'t> {
    pub(super) fn rules(
        &mut self,
        root: &DeTable<'t>,
        known: &Known<'_>,
        seen: &mut BTreeMap<RuleName, (Option<Arc<str>>, usize)>,
    ) -> Option<Vec<Arc<Rule>>> {
        let Some(value) = root.get("rules") else { return Some(Vec::new()) };
        let DeValue::Array(list) = value.get_ref() else {
            self.wrong_type("rules", value, "a list of tables, each under [[rules]]");
            return None;
        };
        let mut rules = Some(Vec::with_capacity(list.len()));
        let mut lines = LineCounter { text: self.text(), offset: 0, line: 1 };
        for (at, value) in list.iter().enumerate() {
            let path = format!("rules[{}]", at + 1);
            let line = lines.line_of(value.span().start);
            let rule = self
                .table(&path, value)
                .and_then(|table| self.rule(&path, value.span(), table, known, line, seen));
            rules = match (rules, rule) {
                (Some(mut rules), Some(rule)) => {
                    rules.push(Arc::new(rule));
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
        seen: &mut BTreeMap<RuleName, (Option<Arc<str>>, usize)>,
    ) -> Option<Rule> {
        if table.is_empty() {
            self.fault(
                path,
                span,
                "an empty rule",
                "Give it a name, an action and traffic, or remove it.",
            );
            return None;
        }
        self.check_keys(table, path, keys::RULE);
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
        let direction = match table.get("direction") {
            Some(value) => self.direction(&key("direction"), value),
            None => Some(Direction::Inbound),
        };
        let traffic = match table.get("traffic") {
            Some(_) => self.traffic(&path, table, known.names),
            None => {
                self.missing(
                    &key("traffic"),
                    &span,
                    "its traffic, such as `traffic = [\"ssh\"]`, or `\"any\"`",
                );
                None
            }
        };
        // Each key is read whatever is wrong with another: all faults are told at once.
        let family = match table.get("family") {
            Some(value) => self.family(&key("family"), value).map(Some),
            None => Some(None),
        };
        let source = self.addresses(&path, "source", table, known, family.flatten());
        let destination = self.addresses(&path, "destination", table, known, family.flatten());
        let interface = self.interfaces(&path, table);
        let program = self.programs((&path, table), direction, traffic.as_ref(), known.names);
        let rate = self.rate(&path, table, action);
        let note = match table.get("note") {
            Some(value) => self.prose(&key("note"), value).map(Some),
            None => Some(None),
        };
        let until = match table.get("until") {
            Some(value) => self.moment(&key("until"), value).map(Some),
            None => Some(None),
        };
        let enabled = match table.get("enabled") {
            Some(value) => self.boolean(&key("enabled"), value),
            None => Some(true),
        };
        let accepted = self.accepted(&path, table);
        let log = match table.get("log") {
            Some(value) => self.boolean(&key("log"), value),
            None => Some(false),
        };
        let group = self.group_of(&path, table, known.rule_groups);
        let hosts = self.selectors(&path, table, known.hosts);
        let postures = self.postures_of(&path, table, known.postures);
        let (at_most, over) = rate?;
        Some(Rule {
            name: name?,
            note: note?,
            action: action?,
            direction: direction?,
            traffic: traffic?,
            source: source?,
            destination: destination?,
            interface: interface?,
            program: program?,
            family: family?,
            until: until?,
            at_most,
            over,
            log: log?,
            accepted: accepted?,
            group,
            hosts,
            postures,
            inactive: (!enabled?).then_some(Inactive::Paused),
            part: self.part(),
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
        seen: &mut BTreeMap<RuleName, (Option<Arc<str>>, usize)>,
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
        if let Some((part, first)) = seen.get(&name) {
            let file = part.as_ref().map(|part| format!(" of {part}")).unwrap_or_default();
            let message =
                format!("two rules are named `{name}`; the first begins in line {first}{file}");
            self.fault(&key, written.span, message, "Rename one of them.");
        } else {
            seen.insert(name.clone(), (self.part(), line));
        }
        Some(name)
    }

    fn direction(&mut self, key: &str, value: &Value<'_>) -> Option<Direction> {
        let written = self.string(key, value)?;
        let found = Direction::ALL.into_iter().find(|d| d.name() == written.text);
        if found.is_none() {
            let message = format!("unknown direction `{}`", written.text);
            let names = Direction::ALL.iter().map(|d| d.name());
            let all = || "Write `inbound`, `outbound` or `transit`; the default is inbound.".into();
            let help = meant::direction(&written.text)
                .unwrap_or_else(|| nearest_help(&written.text, names, all));
            self.fault(key, written.span, message, help);
        }
        found
    }

    /// `accepted`: each a code of the review, and why.
    fn accepted(&mut self, path: &str, table: &DeTable<'t>) -> Option<Vec<Accepted>> {
        let key = format!("{path}.accepted");
        let mut all = Vec::new();
        let mut whole = true;
        for Text { text, span, .. } in self.list(path, table, "accepted") {
            let parts = text.split_once(':').map(|(code, why)| (code.trim(), why.trim()));
            let found = parts.and_then(|(code, why)| {
                let code = Code::ALL.into_iter().find(|known| known.name() == code)?;
                (!why.is_empty()).then(|| Accepted { code, why: why.to_owned() })
            });
            match found {
                Some(accepted) => all.push(accepted),
                None => {
                    whole = false;
                    let names = Code::ALL.map(Code::name).join(", ");
                    let help = format!(
                        "Write a code and a reason, such as `too-wide: it is a museum`. Codes: \
                         {names}."
                    );
                    self.fault(
                        &key,
                        span,
                        format!("`{text}` is not a finding with a reason"),
                        help,
                    );
                }
            }
        }
        whole.then_some(all)
    }

    /// `at_most` and `over`; `None` after a fault.
    fn rate(
        &mut self,
        path: &str,
        table: &DeTable<'t>,
        action: Option<Action>,
    ) -> Option<(Option<AtMost>, Over)> {
        let key = |k: &str| format!("{path}.{k}");
        let at_most = match table.get("at_most") {
            Some(value) => self.at_most(&key("at_most"), value, action).map(Some),
            None => Some(None),
        };
        let Some(value) = table.get("over") else { return Some((at_most?, Over::default())) };
        let written = self.string(&key("over"), value)?;
        let over = match written.text.as_str() {
            "deny" => Over::Deny,
            "refuse" => Over::Refuse,
            other => {
                let message = format!("`{other}` is not allowed above a rate limit");
                self.fault(key("over"), written.span, message, "Write `deny` or `refuse`.");
                return None;
            }
        };
        if at_most == Some(None) {
            self.fault(
                key("over"),
                value.span(),
                "`over` says what happens above a rate limit, but there is none",
                "Write `at_most = \"6 per minute per source\"`, or remove `over`.",
            );
            return None;
        }
        Some((at_most?, over))
    }

    fn at_most(&mut self, key: &str, value: &Value<'_>, action: Option<Action>) -> Option<AtMost> {
        let written = self.string(key, value)?;
        match written.text.parse::<AtMost>() {
            Ok(_) if action.is_some_and(|action| action != Action::Allow) => {
                self.fault(
                    key,
                    written.span,
                    "a rate limit says how often something is allowed, but this rule allows \
                     nothing",
                    "Remove the rate limit, or make the rule an allow.",
                );
                None
            }
            Ok(rate) => Some(rate),
            Err(why) => {
                let message = format!("`{}`: {why}", written.text);
                let help =
                    "Write it like `6 per minute per source, burst 3` or `100 per second in all`.";
                self.fault(key, written.span, message, help);
                None
            }
        }
    }

    /// A date-time of TOML, or the same as a string.
    fn moment(&mut self, key: &str, value: &Value<'_>) -> Option<Moment> {
        let text = match value.get_ref() {
            DeValue::Datetime(at) => at.to_string(),
            _ => self.string(key, value)?.text,
        };
        match text.parse() {
            Ok(moment) => Some(moment),
            Err(why) => {
                let help = match why {
                    NoMoment::Form => {
                        "Write it like `2026-12-24T18:00:00+01:00`, or with Z for UTC."
                    }
                    NoMoment::Late => "Omit it: the rule applies until somebody removes it.",
                };
                self.fault(
                    key,
                    value.span(),
                    format!("`{text}` is not a valid timestamp: it is {why}"),
                    help,
                );
                None
            }
        }
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
