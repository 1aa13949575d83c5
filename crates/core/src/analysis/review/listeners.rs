//! Findings about rules and what listens on this machine.

use std::collections::BTreeSet;

use super::findings::{Finding, Review};
use crate::analysis::log::Wanted;
use crate::brief::{Brief, RuleIndex};
use crate::host::listener::Listener;
use crate::names::services::CATALOGUE;
use crate::names::traffic::{Term, TrafficKey, Transport};
use crate::orders::{Action, Code, Inactive, Rule};
use crate::packet::Direction;

impl Review {
    /// An allow, and who listens to it: each port that it names, and each range, by
    /// itself.
    pub(super) fn listeners(
        &mut self,
        brief: &Brief,
        rule: &Rule,
        index: RuleIndex,
        all: &[Listener],
    ) {
        let (Some(keys), Action::Allow, Direction::Inbound) =
            (&rule.traffic.keys, rule.action, rule.direction)
        else {
            return;
        };
        for item in rule.traffic.items.iter().collect::<BTreeSet<_>>() {
            let Term::Ports(transport, first, last) = *item else { continue };
            if first == 0
                || all.iter().any(|l| {
                    l.transport == transport
                        && (first..=last).contains(&l.port)
                        && keys.contains(transport.key(l.port))
                })
            {
                continue;
            }
            if first != last {
                let what = format!("nothing listens within {item} here");
                self.add(rule, index, Code::NothingListens, what, &start_or_pause(rule));
            } else if keys.contains(transport.key(first)) {
                self.unheard(brief, rule, index, transport, first, all);
            }
        }
    }

    /// A port that a rule names and nobody listens on: a slip, perhaps.
    pub(super) fn unheard(
        &mut self,
        brief: &Brief,
        rule: &Rule,
        index: RuleIndex,
        transport: Transport,
        port: u16,
        all: &[Listener],
    ) {
        let key = transport.key(port);
        let ports = all.iter().filter(|l| l.transport == transport).map(|l| l.port);
        let meant = ports.filter(|other| is_a_slip(*other, port)).find(|other| {
            let key = transport.key(*other);
            !brief.rules().any(|rule| rule.is_active_in(Direction::Inbound) && rule.names(key))
        });
        if let Some(other) = meant {
            let other = Term::Ports(transport, other, other);
            let what = format!("nothing listens on {key}, but something does on {other}");
            let help = instead(rule, key, &other.to_string());
            self.add(rule, index, Code::MistypedPort, what, &help);
            return;
        }
        // The port of a well-known service, where nobody calls this one by a name.
        let service = |port: u16| {
            CATALOGUE
                .iter()
                .find(|service| service.terms.contains(&Term::Ports(transport, port, port)))
        };
        let well_known = port < 1024 && service(port).is_none();
        if let Some(service) = well_known
            .then(|| (1..1024).filter(|other| is_a_slip(*other, port)).find_map(service))
            .flatten()
        {
            let terms: Vec<String> = service.terms.iter().map(ToString::to_string).collect();
            let what = format!(
                "nothing listens on {key}, one typo away from {} ({})",
                service.name,
                terms.join(", ")
            );
            let help = instead(rule, key, service.name);
            self.add(rule, index, Code::MistypedPort, what, &help);
            return;
        }
        let what = format!("nothing listens on {key} here");
        self.add(rule, index, Code::NothingListens, what, &start_or_pause(rule));
    }

    /// Listeners that no rule lets anybody in to.
    pub(super) fn nobody_may_come(&mut self, brief: &Brief, all: &[Listener], wanted: &[Wanted]) {
        if brief.standing.inbound == Action::Allow {
            return;
        }
        let mut seen = BTreeSet::new();
        for listener in all.iter().filter(|listener| !listener.address.is_loopback()) {
            let key = listener.transport.key(listener.port);
            let let_in = brief.rules().any(|rule| {
                rule.is_active()
                    && rule.action == Action::Allow
                    && rule.direction == Direction::Inbound
                    && rule.traffic.keys.as_ref().is_none_or(|keys| keys.contains(key))
            });
            if !let_in && seen.insert(key) {
                let program =
                    listener.owner.programs.first().map_or("somebody", |p| p.name.as_str());
                let text = key.to_string();
                let asked = wanted.iter().find(|wanted| wanted.traffic == text);
                let asked = asked.map(asked_words).unwrap_or_default();
                let what = format!("{program} listens on {key}, but no rule lets anyone in{asked}");
                // Drafted orders have a paused rule for each listener.
                let paused = brief.rules().find(|rule| {
                    rule.inactive == Some(Inactive::Paused)
                        && rule.action == Action::Allow
                        && rule.direction == Direction::Inbound
                        && rule.traffic.keys.as_ref().is_some_and(|keys| keys.contains(key))
                });
                let open = match paused {
                    Some(rule) => format!("tipstaff rule resume {}", rule.name),
                    None => format!("tipstaff rule add allow {key} --source …"),
                };
                let help = format!("Make it listen on loopback only, or: {open}");
                self.findings.push(Finding::about_all(Code::ListenerDenied, what, &help));
            }
        }
    }
}

/// How often somebody was turned away there.
fn asked_words(wanted: &Wanted) -> String {
    let Wanted { days, of, source, sources, .. } = wanted;
    let others = match sources {
        0 | 1 => String::new(),
        2 => " and one other".to_owned(),
        more => format!(" and {} others", more - 1),
    };
    format!("; {source}{others} asked on {days} of {of} logged days")
}

fn start_or_pause(rule: &Rule) -> String {
    format!("Start the program, or pause the rule: tipstaff rule pause {}", rule.name)
}

/// How a rule comes to name another port in place of `key`, and keeps the rest.
fn instead(rule: &Rule, key: TrafficKey, meant: &str) -> String {
    let key = key.to_string();
    if !rule.traffic.written.contains(&key) {
        return format!("If {meant} was meant, check the names that {} uses", rule.name);
    }
    let list: Vec<&str> = rule
        .traffic
        .written
        .iter()
        .map(|item| if *item == key { meant } else { item.as_str() })
        .collect();
    format!("If that was meant: tipstaff rule set {} traffic={}", rule.name, list.join(","))
}

/// One digit wrong, two swapped, one too many or too few.
pub(crate) fn is_a_slip(meant: u16, written: u16) -> bool {
    let (a, b) = (meant.to_string().into_bytes(), written.to_string().into_bytes());
    if a.len() == b.len() {
        let differ: Vec<usize> = (0..a.len()).filter(|at| a[*at] != b[*at]).collect();
        match differ.as_slice() {
            [_] => a.len() > 2,
            [one, two] => two - one == 1 && a[*one] == b[*two] && a[*two] == b[*one],
            _ => false,
        }
    } else {
        let (long, short) = if a.len() > b.len() { (a, b) } else { (b, a) };
        long.len() - short.len() == 1
            && short.len() > 2
            && (0..long.len()).any(|at| [&long[..at], &long[at + 1..]].concat() == short)
    }
}
