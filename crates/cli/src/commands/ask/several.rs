//! Several packets, or everybody: a line each instead of the whole why.

use std::net::IpAddr;

use schemars::JsonSchema;
use serde::Serialize;
use tipstaff_core::analysis::exposure::{AnsweredSources, answered_sources};
use tipstaff_core::analysis::reach::speaker_words;
use tipstaff_core::decision::{Decision, RuleQuery, Speaker};
use tipstaff_core::names::address::Family;
use tipstaff_core::names::traffic::TrafficKey;
use tipstaff_core::orders::{Action, Origin};
use tipstaff_core::packet::Direction;

use super::packets::AskedPacket;
use crate::chosen::{self, LoadedPolicy};
use crate::shape::shape;
use crate::terminal::{Columns, Terminal, action, faint, orders_words, plain};

/// An answer to one of several questions.
pub struct Answered {
    pub query: RuleQuery,
    /// The group, or `stranger`, that the source stands for.
    pub stands_for: Option<String>,
    pub decision: Decision,
}

#[derive(JsonSchema, Serialize)]
pub struct Several<'r> {
    orders: &'r Origin,
    known_by: &'static str,
    answers: Vec<Answer>,
}

#[derive(JsonSchema, Serialize)]
struct Answer {
    direction: Direction,
    /// One packet; of neighbouring ports with the same answer the range.
    traffic: String,
    source: IpAddr,
    /// The group, or `stranger`, that the source stands for.
    stands_for: Option<String>,
    destination: IpAddr,
    verdict: Action,
    by: String,
}

/// Who is answered what.
#[derive(JsonSchema, Serialize)]
pub struct ByKinds<'r> {
    orders: &'r Origin,
    kinds: Vec<Kind>,
}

#[derive(JsonSchema, Serialize)]
struct Kind {
    traffic: String,
    /// The addresses, as ranges and prefixes; all that no row above it has, where it is the
    /// rest.
    sources: Vec<String>,
    /// As the orders name them.
    named: String,
    verdict: Action,
    by: String,
    /// Whether that hangs on more than the source: on the destination, the interface, the
    /// program or a rate.
    only_partly: bool,
}

shape!(Several<'_> => "ask-several", ByKinds<'_> => "ask-kinds");

/// The words of keys that stand side by side and have the same answer.
fn joined(first: TrafficKey, last: TrafficKey) -> String {
    match first == last {
        true => first.to_string(),
        false => format!("{first}-{}", last.low()),
    }
}

/// Shows the answers, neighbouring ports with the same one together.
pub fn show(
    judge: &LoadedPolicy,
    answers: Vec<Answered>,
    known_by: &'static str,
    terminal: &Terminal,
) {
    let mut rows: Vec<(Answered, TrafficKey)> = Vec::new();
    for answer in answers {
        let (key, decision) = (answer.query.key, answer.decision);
        if let Some((before, last)) = rows.last_mut()
            && before.query.source == answer.query.source
            && before.decision == decision
            && last.protocol() == key.protocol()
            && last.low().checked_add(1) == Some(key.low())
        {
            *last = key;
            continue;
        }
        rows.push((answer, key));
    }
    let rows = rows.into_iter().map(|(answer, last)| Answer {
        direction: answer.query.direction,
        traffic: joined(answer.query.key, last),
        source: answer.query.source,
        stands_for: answer.stands_for,
        destination: answer.query.destination,
        verdict: answer.decision.verdict,
        by: speaker_words(&judge.brief, answer.decision.speaker),
    });
    let rows: Vec<Answer> = rows.collect();
    if terminal.json {
        return terminal.json(&Several { orders: &judge.origin, known_by, answers: rows });
    }
    terminal.heading(match known_by {
        "gate" => "answered by the gate in force",
        _ => "computed from the orders",
    });
    terminal.note(&orders_words(&judge.origin));
    let mut table = Columns::new(["traffic", "from", "to", "verdict", "by"]);
    for row in &rows {
        let from = match &row.stands_for {
            Some(name) => format!("{} ({name})", row.source),
            None => row.source.to_string(),
        };
        let verdict = action(row.verdict, row.verdict);
        let (to, by) = (faint(row.destination), plain(&row.by));
        table.row([plain(&row.traffic), plain(from), to, verdict, by]);
    }
    terminal.table(&table);
    terminal.note("Ask for one packet from one address to see what each rule looked at.");
}

/// Shows who is answered what, by kinds of source.
pub fn by_kinds(judge: &LoadedPolicy, packets: &[AskedPacket], terminal: &Terminal) {
    let now = chosen::now();
    let mut kinds: Vec<(TrafficKey, TrafficKey, Vec<AnsweredSources>)> = Vec::new();
    for packet in packets {
        let key = packet.key(None);
        let mut answered = answered_sources(&judge.brief, key, now);
        if *packet == AskedPacket::Echo {
            // Its IPv6 half has a key of its own.
            let six = answered_sources(&judge.brief, AskedPacket::Echo.key(Some(IPV6)), now);
            answered = both_families(answered, six);
        }
        match kinds.last_mut() {
            Some((_, last, before))
                if *before == answered
                    && last.protocol() == key.protocol()
                    && last.low().checked_add(1) == Some(key.low()) =>
            {
                *last = key;
            }
            _ => kinds.push((key, key, answered)),
        }
    }
    let rows = kinds.iter().flat_map(|(first, last, answered)| {
        let traffic = joined(*first, *last);
        answered.iter().map(move |kind| row(judge, traffic.clone(), kind))
    });
    let rows: Vec<Kind> = rows.collect();
    if terminal.json {
        return terminal.json(&ByKinds { orders: &judge.origin, kinds: rows });
    }
    terminal.heading("who is answered what, coming in");
    terminal.note(&orders_words(&judge.origin));
    let mut table = Columns::new(["traffic", "from", "verdict", "by", ""]);
    for row in &rows {
        let partly = if row.only_partly { "not in every case" } else { "" };
        table.row([
            plain(&row.traffic),
            plain(&row.named),
            action(row.verdict, row.verdict),
            plain(&row.by),
            faint(partly),
        ]);
    }
    terminal.table(&table);
    if rows.iter().any(|row| row.only_partly) {
        terminal.note(
            "Not in every case: the rule also looks at the destination, the interface or the \
             program, or has a rate. Ask with --source to see one.",
        );
    }
}

const IPV6: IpAddr = IpAddr::V6(std::net::Ipv6Addr::UNSPECIFIED);

/// The IPv4 half of one list of answers and the IPv6 half of another.
fn both_families(four: Vec<AnsweredSources>, six: Vec<AnsweredSources>) -> Vec<AnsweredSources> {
    let of = |all: Vec<AnsweredSources>, family| {
        all.into_iter().map(move |one| AnsweredSources { sources: one.sources.only(family), ..one })
    };
    let mut joined: Vec<AnsweredSources> = of(four, Family::V4).collect();
    for one in of(six, Family::V6) {
        match joined.iter_mut().find(|other| (other.rule, other.action) == (one.rule, one.action)) {
            Some(other) => other.sources = other.sources.union(&one.sources),
            None => joined.push(one),
        }
    }
    joined.retain(|one| !one.sources.is_empty());
    joined.sort_by_key(|one| (one.rule.is_none(), one.rule));
    joined
}

fn row(judge: &LoadedPolicy, traffic: String, kind: &AnsweredSources) -> Kind {
    let rule = kind.rule.and_then(|index| judge.brief.rule(index));
    let speaker = kind.rule.map_or(Speaker::Standing(Direction::Inbound), Speaker::Rule);
    let named = match rule {
        Some(rule) if rule.source.written.is_empty() && rule.source.except.is_empty() => {
            match rule.family {
                Some(family) => format!("everybody else over {family}"),
                None => "everybody else".to_owned(),
            }
        }
        Some(rule) => rule.source.describe(),
        None => "everybody else".to_owned(),
    };
    Kind {
        traffic,
        sources: kind.sources.ranges().iter().map(ToString::to_string).collect(),
        named,
        verdict: kind.action,
        by: speaker_words(&judge.brief, speaker),
        only_partly: kind.only_partly,
    }
}
