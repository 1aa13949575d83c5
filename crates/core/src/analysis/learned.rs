//! First orders out of what was seen: the shortest list of rules that lets in what was
//! wanted, each with its evidence.

use std::fmt::Write;

use super::draft::{self, Shell};
use super::evidence::{Evidence, Request};
use super::log::Entry;
use super::proposal::Proposal;
use crate::orders::Action;
use crate::packet::Direction;

/// So many requests that are left out are named.
const NAMED: usize = 12;

/// What was seen, by what is to become of it.
#[derive(Clone, Debug, Default)]
pub struct Seen {
    /// It is let in.
    wanted: Evidence,
    /// Somebody has to say: these rules are paused.
    doubtful: Evidence,
    /// Nobody here takes it.
    unwanted: Evidence,
}

impl Seen {
    /// Takes a decision of the log: what was allowed was wanted; what was denied is, where
    /// orders were only rehearsed and a program takes or sends it. What is denied in force is
    /// for somebody to say, and what no program takes is left out.
    pub fn add(&mut self, entry: &Entry<'_>) {
        if entry.verdict != Action::Allow && !entry.a_rule_could_let_it_in() {
            return;
        }
        let is_taken = entry.direction != Direction::Inbound || entry.program.is_some();
        match (entry.verdict, entry.rehearsed, is_taken) {
            (Action::Allow, ..) | (_, true, true) => self.wanted.add_entry(entry),
            (_, false, true) => self.doubtful.add_entry(entry),
            (_, _, false) => self.unwanted.add_entry(entry),
        }
    }

    /// Takes what is known of a conversation: what was answered was wanted.
    pub fn add_request(&mut self, request: Request, answered: bool, packets: u64, at: &str) {
        let to = if answered { &mut self.wanted } else { &mut self.unwanted };
        to.add(request, packets, (at, at));
    }

    /// With what another part has.
    pub fn merge(&mut self, other: Self) {
        self.wanted.merge(other.wanted);
        self.doubtful.merge(other.doubtful);
        self.unwanted.merge(other.unwanted);
    }

    /// The rules for what was wanted.
    pub fn rules(&self) -> Vec<Proposal> {
        // Everything may leave, by the standing answer.
        let mut rules = self.wanted.proposals();
        rules.retain(|rule| rule.direction != Direction::Outbound);
        rules
    }

    /// Orders for `host`; `from`: what this was seen in, for the first line.
    pub fn orders(&self, host: &str, from: &str, shell: Option<Shell>) -> String {
        let advice = "Each\n# rule has its evidence in its note; those that are paused \
                      are for you to decide. Then:";
        let mut text = draft::begin(host, (from, advice), shell);
        for rule in self.rules() {
            text.push_str(&rule.rule());
        }
        let mut doubtful = self.doubtful.proposals();
        doubtful.retain(|rule| rule.direction != Direction::Outbound);
        for rule in &mut doubtful {
            rule.name = format!("{}-asked-for", rule.name);
            let _ = writeln!(text, "{}enabled = false", rule.rule());
        }
        let unwanted = self.unwanted.proposals();
        if !unwanted.is_empty() {
            text.push_str("\n# Left out, because nothing here answered or listened:\n");
        }
        for rule in unwanted.iter().take(NAMED) {
            let (traffic, peers) = (rule.traffic.join(", "), rule.peers.join(", "));
            let from = if peers.is_empty() { String::new() } else { format!(" from {peers}") };
            let _ = writeln!(text, "#   {traffic}{from}: {}", rule.evidence());
        }
        if unwanted.len() > NAMED {
            let _ = writeln!(text, "#   and {} more", unwanted.len() - NAMED);
        }
        text
    }
}

#[cfg(test)]
mod tests {
    use super::super::log::example;
    use super::*;
    use crate::orders::read;

    #[test]
    fn what_was_wanted_is_let_in_and_what_nobody_takes_is_named() {
        let program = Some("/usr/sbin/plated".into());
        let mut seen = Seen::default();
        let allowed = Entry { verdict: Action::Allow, traffic: "tcp/443".into(), ..example() };
        let denied = Entry { program, traffic: "tcp/7410".into(), ..example() };
        let tried = Entry { rehearsed: true, traffic: "udp/7420".into(), ..denied.clone() };
        let rate = Entry { by: "the rate of rule 3 (plates)".into(), ..denied.clone() };
        for entry in [&allowed, &denied, &tried, &rate, &example()] {
            seen.add(entry);
        }
        let text = seen.orders("archive", "its log", None);
        let orders = read(&text).unwrap_or_else(|faults| panic!("{faults}\n{text}"));
        let told: Vec<(&str, bool)> =
            orders.rules.iter().map(|r| (r.name.as_str(), r.inactive.is_none())).collect();
        assert_eq!(
            told,
            [("https", true), ("plated-udp-7420", true), ("plated-tcp-7410-asked-for", false)]
        );
        assert!(text.contains("#   tcp/22 from 203.0.113.9: asked for once"), "{text}");
        let mut both = seen.clone();
        both.merge(seen);
        assert_eq!(both.rules()[0].times, 2);
    }
}
