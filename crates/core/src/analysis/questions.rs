//! What was denied and no rule covers: a question each, with what can be answered.

use std::net::IpAddr;

use schemars::JsonSchema;
use serde::Serialize;

use super::evidence::{Evidence, Request};
use super::proposal::Proposal;
use crate::brief::Brief;
use crate::decision::{RuleQuery, first_mismatch};
use crate::moment::Moment;
use crate::names::traffic::keys_of_packet;
use crate::orders::Action;
use crate::orders::edit::NewRule;
use crate::packet::{Direction, InterfaceIndex, ProgramIndex};

/// Beyond so many, addresses are not named one by one.
const MOST_ADDRESSES: usize = 32;

/// Something that was turned away.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Question {
    /// The rule that lets it in from its networks, with how often it was asked for.
    pub proposal: Proposal,
    /// Who asked, or was asked; empty: too many to name them.
    addresses: Vec<String>,
}

/// What can be answered.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, JsonSchema, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Choice {
    /// It is let in from the addresses that asked.
    Here,
    /// From their networks.
    Network,
    /// From everyone.
    Everyone,
    /// From everyone, for that program alone.
    Program,
    /// It is denied for good.
    Deny,
}

impl Choice {
    /// All, in the order in which they are offered.
    pub const ALL: [Self; 5] =
        [Self::Here, Self::Network, Self::Everyone, Self::Program, Self::Deny];

    /// Its name, which begins with its key.
    pub fn name(self) -> &'static str {
        match self {
            Self::Here => "here",
            Self::Network => "network",
            Self::Everyone => "everyone",
            Self::Program => "program",
            Self::Deny => "deny",
        }
    }
}

impl Question {
    /// The rule that says so; `None`: that cannot be answered here.
    pub fn rule(&self, choice: Choice) -> Option<NewRule> {
        let Proposal { direction, program, peers, .. } = &self.proposal;
        let outbound = *direction == Direction::Outbound;
        let ends: &[String] = match choice {
            Choice::Here if !self.addresses.is_empty() => &self.addresses,
            // The same as here.
            Choice::Network if *peers != self.addresses && !peers.is_empty() => peers,
            Choice::Everyone | Choice::Program => &[],
            Choice::Deny if outbound && program.is_some() => &[],
            Choice::Deny if !self.addresses.is_empty() => &self.addresses,
            Choice::Deny if !peers.is_empty() => peers,
            _ => return None,
        };
        // Of what leaves, who sends it is what matters.
        let program = match (choice, outbound) {
            (Choice::Program, _) => Some(program.as_ref()?),
            (Choice::Here | Choice::Network | Choice::Deny, true) => program.as_ref(),
            _ => None,
        };
        let mut further = Vec::new();
        if *direction != Direction::Inbound {
            further.push(("direction".to_owned(), direction.to_string()));
        }
        let destinations = if outbound { ends } else { &self.proposal.destinations };
        if !destinations.is_empty() {
            further.push(("destination".to_owned(), destinations.join(",")));
        }
        if let Some(program) = program {
            further.push(("program".to_owned(), program.clone()));
        }
        let action = if choice == Choice::Deny { Action::Deny } else { Action::Allow };
        let name = &self.proposal.name;
        Some(NewRule {
            name: Some(if choice == Choice::Deny { format!("no-{name}") } else { name.clone() }),
            note: Some(self.proposal.evidence()),
            action: action.to_string(),
            traffic: self.proposal.traffic.clone(),
            source: if outbound { Vec::new() } else { ends.to_vec() },
            further,
        })
    }

    /// What an answer means, in words.
    pub fn words(&self, choice: Choice) -> String {
        let Proposal { direction, program, peers, .. } = &self.proposal;
        let (way, all) = match direction {
            Direction::Outbound => ("to", "everywhere"),
            _ => ("from", "everyone"),
        };
        let only = program.as_deref().unwrap_or("that program");
        match choice {
            Choice::Here => format!("allow {way} {}", self.addresses.join(", ")),
            Choice::Network => format!("allow {way} {}", peers.join(", ")),
            Choice::Everyone => format!("allow {way} {all}"),
            Choice::Program => format!("allow {way} {all}, for {only} only"),
            Choice::Deny => "deny it for good".into(),
        }
    }
}

/// The questions that orders leave open, the most asked first: of what their standing answers
/// deny, whatever was in force when it was.
pub fn questions(mut evidence: Evidence, brief: &Brief, now: Moment) -> Vec<Question> {
    evidence.retain(|request| is_open(request, brief, now));
    let all = evidence.by_network().into_iter().map(|(proposal, peers)| {
        let few = peers.len() <= MOST_ADDRESSES;
        let addresses = peers.iter().filter(|_| few).map(ToString::to_string).collect();
        Question { proposal, addresses }
    });
    all.collect()
}

/// Whether no rule decides it, and the standing answer denies.
fn is_open(request: &Request, brief: &Brief, now: Moment) -> bool {
    let Request { direction, peer, destination, program, .. } = request;
    let Some(&(key, _)) = keys_of_packet(&request.traffic).first() else { return false };
    let own = brief.own.iter().copied().find(|own| own.is_ipv4() == peer.is_ipv4());
    let own = own.unwrap_or(match peer {
        IpAddr::V4(_) => IpAddr::from([0, 0, 0, 0]),
        IpAddr::V6(_) => IpAddr::from([0u16; 8]),
    });
    let (source, destination) = match direction {
        Direction::Outbound => (own, *peer),
        _ => (*peer, destination.unwrap_or(own)),
    };
    let program = program.as_deref().map_or(ProgramIndex::OTHER, |path| brief.program_index(path));
    let interface = InterfaceIndex(0);
    let query =
        RuleQuery { direction: *direction, key, source, destination, interface, program, now };
    brief.standing.of(*direction) != Action::Allow
        && !brief.rules().any(|rule| first_mismatch(brief, rule, &query).is_none())
}

#[cfg(test)]
mod tests {
    use super::super::log::{Entry, example};
    use super::*;
    use crate::orders::edit::{Edit, edit};
    use crate::orders::read;

    const ORDERS: &str =
        "version = 1\n[standing]\ninbound = \"deny\"\noutbound = \"deny\"\ntransit = \"deny\"\n";

    fn evidence() -> Evidence {
        let mut evidence = Evidence::default();
        let plates = |source: &'static str| Entry {
            traffic: "tcp/7410".into(),
            source: source.into(),
            program: Some("/usr/sbin/plated".into()),
            ..example()
        };
        let out = Entry {
            direction: Direction::Outbound,
            source: "198.51.100.20:4711".into(),
            destination: "192.0.2.123:123".into(),
            traffic: "udp/123".into(),
            program: Some("/usr/sbin/clockd".into()),
            ..example()
        };
        for entry in [plates("203.0.113.9:1"), plates("203.0.113.11:2"), out, example()] {
            evidence.add_entry(&entry);
        }
        evidence
    }

    /// Every answer makes a rule that can be added, and after it nothing is asked again.
    #[test]
    fn whatever_is_answered_is_not_asked_again() {
        let brief = Brief::unplaced(&read(ORDERS).unwrap());
        let all = questions(evidence(), &brief, Moment(0));
        let told: Vec<&str> = all.iter().map(|q| q.proposal.name.as_str()).collect();
        assert_eq!(told, ["plated-tcp-7410", "ssh", "ntp"]);
        assert_eq!(all[1].rule(Choice::Network), None, "one address is no network");
        assert_eq!(all[1].rule(Choice::Program), None, "nobody listens");
        let words = "allow from everyone, for /usr/sbin/plated only";
        assert_eq!(all[0].words(Choice::Program), words);
        for choice in Choice::ALL {
            let mut text = ORDERS.to_owned();
            let mut answered = 0;
            for question in &all {
                let Some(rule) = question.rule(choice) else { continue };
                text = edit(&*text, &Edit::Add(rule, None)).unwrap().text;
                answered += 1;
            }
            let brief = Brief::unplaced(&read(&text).unwrap());
            let left = questions(evidence(), &brief, Moment(0));
            assert_eq!(left.len() + answered, all.len(), "{choice:?}\n{text}");
        }
    }

    #[test]
    fn where_everything_may_pass_nothing_is_asked() {
        let brief = Brief::everything_passes();
        assert_eq!(questions(evidence(), &brief, Moment(0)), []);
    }
}
