//! Other words for what orders say. They stand in the help of a fault only: a key, and a value,
//! has one name.

use super::keys::Key;

/// Words that people try for a key, and ours.
const KEYS: &[(&str, &str)] = &[
    ("decision do policy target verdict", "action"),
    ("limit rate rate_limit ratelimit throttle", "at_most"),
    ("dest destinations dst to", "destination"),
    ("active disabled paused", "enabled"),
    ("dev device iface nic", "interface"),
    ("id label title", "name"),
    ("comment desc description reason remark", "note"),
    ("app application binary exe executable process", "program"),
    ("address client from peer remote sources src", "source"),
    ("default defaults policies policy", "standing"),
    ("dport port ports proto protocol service services", "traffic"),
    ("expire expires expiry valid_until", "until"),
];

const ACTIONS: &[(&str, &str)] = &[
    ("accept pass permit", "Write `allow`."),
    ("block discard drop", "Write `deny`."),
    ("reject reset", "Write `refuse`."),
    (
        "limit rate rate-limit rate_limit ratelimit throttle",
        "Write `allow`, with `at_most`, such as `6 per minute per source`.",
    ),
];

const DIRECTIONS: &[(&str, &str)] = &[
    ("in incoming ingress input", "Write `inbound`."),
    ("egress out outgoing output", "Write `outbound`."),
    ("forward forwarded forwarding routed through", "Write `transit`."),
];

fn found<'w>(table: &'w [(&str, &str)], word: &str) -> impl Iterator<Item = &'w str> {
    let word = word.to_ascii_lowercase();
    table
        .iter()
        .filter(move |(words, _)| words.split(' ').any(|known| known == word))
        .map(|(_, ours)| *ours)
}

/// The help for a key that there is not, where one of `known` says what it means elsewhere.
pub(super) fn key(word: &str, known: &[Key]) -> Option<String> {
    let word = word.replace('-', "_");
    found(KEYS, &word)
        .find_map(|ours| known.iter().find(|key| key.name == ours))
        .map(|key| format!("Write `{}` ({}).", key.name, key.meaning))
}

/// The help for an action of elsewhere.
pub(super) fn action(word: &str) -> Option<String> {
    found(ACTIONS, word).next().map(str::to_owned)
}

/// The help for a direction of elsewhere.
pub(super) fn direction(word: &str) -> Option<String> {
    found(DIRECTIONS, word).next().map(str::to_owned)
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::orders::Action;
    use crate::orders::keys::{ORDERS, RULE};

    #[test]
    fn every_word_leads_to_a_key_that_there_is_and_is_none_of_that_table() {
        for (words, ours) in KEYS {
            let tables = [ORDERS, RULE].into_iter();
            let has: Vec<_> = tables.filter(|keys| keys.iter().any(|k| k.name == *ours)).collect();
            assert!(!has.is_empty(), "there is no {ours}");
            for word in words.split(' ') {
                assert!(has.iter().all(|keys| keys.iter().all(|k| k.name != word)), "{word}");
                assert!(has.iter().all(|keys| key(word, keys).unwrap().contains(ours)), "{word}");
            }
        }
        for word in ACTIONS.iter().flat_map(|(words, _)| words.split(' ')) {
            assert!(
                [Action::Allow, Action::Deny, Action::Refuse].iter().all(|a| a.to_string() != word)
            );
        }
    }
}
