//! What many hosts have counted, added up.

use std::collections::HashMap;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// What one rule, standing answer or foundation has counted.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct Counts {
    /// Packets that it decided.
    pub packets: u64,
    /// Their bytes.
    pub bytes: u64,
    /// New connections among them.
    pub connections: u64,
    /// Packets beyond its rate.
    #[serde(default)]
    pub beyond: u64,
}

impl Counts {
    fn add(&mut self, other: Self) {
        self.packets = self.packets.saturating_add(other.packets);
        self.bytes = self.bytes.saturating_add(other.bytes);
        self.connections = self.connections.saturating_add(other.connections);
        self.beyond = self.beyond.saturating_add(other.beyond);
    }

    /// Whether nothing was counted.
    pub fn is_empty(self) -> bool {
        self == Self::default()
    }
}

/// One rule over all hosts.
#[derive(Clone, Debug, PartialEq, Eq, JsonSchema, Serialize)]
pub struct Sum {
    /// The rule, standing answer or foundation.
    pub by: String,
    /// Over all hosts.
    #[serde(flatten)]
    pub counts: Counts,
    /// By host: its name, and what it counted.
    pub hosts: Vec<HostCounts>,
}

/// What one host counted of something.
#[derive(Clone, Debug, PartialEq, Eq, JsonSchema, Serialize)]
pub struct HostCounts {
    /// The host.
    pub host: String,
    /// Its counts.
    #[serde(flatten)]
    pub counts: Counts,
}

/// Adds up what hosts have counted, each a name and its rows. Rows stand in the order in
/// which they first come up.
pub fn add_up<'h>(hosts: impl IntoIterator<Item = (&'h str, Vec<(String, Counts)>)>) -> Vec<Sum> {
    let mut sums: Vec<Sum> = Vec::new();
    let mut known: HashMap<String, usize> = HashMap::new();
    for (host, rows) in hosts {
        for (by, counts) in rows {
            let at = *known.entry(by.clone()).or_insert(sums.len());
            if at == sums.len() {
                sums.push(Sum { by, counts: Counts::default(), hosts: Vec::new() });
            }
            sums[at].counts.add(counts);
            sums[at].hosts.push(HostCounts { host: host.to_owned(), counts });
        }
    }
    sums
}

/// Who or what came up how often on one host.
#[derive(Clone, Debug, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct Seen {
    /// A source, traffic, a rule, a program.
    pub name: String,
    /// So often it was turned away.
    pub turned_away: u64,
    /// So often it was let in.
    pub allowed: u64,
    /// When first, RFC 3339 in UTC.
    pub first: String,
    /// When last, likewise.
    pub last: String,
}

/// The same over all hosts.
#[derive(Clone, Debug, PartialEq, Eq, JsonSchema, Serialize)]
pub struct SeenByAll {
    /// Over all hosts.
    #[serde(flatten)]
    pub seen: Seen,
    /// The hosts that it came up on.
    pub hosts: Vec<String>,
}

/// Adds up who came up how often on hosts, who was turned away most first.
pub fn top<'h>(hosts: impl IntoIterator<Item = (&'h str, Vec<Seen>)>) -> Vec<SeenByAll> {
    let mut all: HashMap<String, SeenByAll> = HashMap::new();
    for (host, rows) in hosts {
        for row in rows {
            match all.get_mut(&row.name) {
                None => {
                    let seen = SeenByAll { seen: row.clone(), hosts: vec![host.to_owned()] };
                    all.insert(row.name, seen);
                }
                Some(SeenByAll { seen, hosts }) => {
                    seen.turned_away = seen.turned_away.saturating_add(row.turned_away);
                    seen.allowed = seen.allowed.saturating_add(row.allowed);
                    // RFC 3339 in UTC sorts as text.
                    if row.first < seen.first {
                        seen.first = row.first;
                    }
                    if row.last > seen.last {
                        seen.last = row.last;
                    }
                    hosts.push(host.to_owned());
                }
            }
        }
    }
    let mut all: Vec<SeenByAll> = all.into_values().collect();
    all.sort_by(|SeenByAll { seen: a, .. }, SeenByAll { seen: b, .. }| {
        let most = (b.turned_away, b.allowed).cmp(&(a.turned_away, a.allowed));
        most.then_with(|| a.name.cmp(&b.name))
    });
    all
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn hosts_are_added_up_by_what_decided() {
        fn counts(packets: u64) -> Counts {
            Counts { packets, bytes: packets, ..Counts::default() }
        }
        fn row(by: &str, packets: u64) -> (String, Counts) {
            (by.to_owned(), counts(packets))
        }
        let sums = add_up([
            ("dome-1", vec![row("rule shell", 3), row("the standing answer inbound", 5)]),
            ("mast", vec![row("the standing answer inbound", u64::MAX), row("rule shell", 4)]),
        ]);
        let told: Vec<(&str, u64, usize)> =
            sums.iter().map(|s| (s.by.as_str(), s.counts.packets, s.hosts.len())).collect();
        assert_eq!(told, [("rule shell", 7, 2), ("the standing answer inbound", u64::MAX, 2)]);
        assert_eq!(sums[0].hosts[1], HostCounts { host: "mast".into(), counts: counts(4) });
    }

    #[test]
    fn who_was_turned_away_most_over_all_comes_first() {
        fn seen(name: &str, turned_away: u64, first: &str, last: &str) -> Seen {
            let (name, first, last) = (name.into(), first.into(), last.into());
            Seen { name, turned_away, allowed: 0, first, last }
        }
        let all = top([
            ("dome-1", vec![seen("192.0.2.66", 9, "2026-11-30T02:00:00Z", "2026-11-30T03:00:00Z")]),
            (
                "mast",
                vec![
                    seen("203.0.113.9", 10, "2026-11-30T01:00:00Z", "2026-11-30T01:30:00Z"),
                    seen("192.0.2.66", 2, "2026-11-30T01:00:00Z", "2026-11-30T01:30:00Z"),
                ],
            ),
        ]);
        assert_eq!(
            all[0].seen,
            seen("192.0.2.66", 11, "2026-11-30T01:00:00Z", "2026-11-30T03:00:00Z")
        );
        assert_eq!(all[0].hosts, ["dome-1", "mast"]);
        assert_eq!(all[1].seen.name, "203.0.113.9");
    }
}
