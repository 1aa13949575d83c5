//! Hosts that say the same are told once: of a thousand that are off nobody reads a
//! thousand paragraphs.

use std::collections::HashMap;
use std::hash::Hash;

/// So many names are told.
const NAMED: usize = 12;

/// What is said, each once and in the order in which it first comes up, with the names of
/// those who say it. Each of `all` is a name, what tells one thing from another, and the
/// thing as it is told.
pub fn alike<'n, K: Eq + Hash, T>(
    all: impl IntoIterator<Item = (&'n str, K, T)>,
) -> Vec<(T, Vec<&'n str>)> {
    let mut groups: Vec<(T, Vec<&str>)> = Vec::new();
    let mut known: HashMap<K, usize> = HashMap::new();
    for (name, key, says) in all {
        let at = *known.entry(key).or_insert(groups.len());
        match groups.get_mut(at) {
            Some((_, names)) => names.push(name),
            None => groups.push((says, vec![name])),
        }
    }
    groups
}

/// `dome-1, mast and 7 more`.
pub fn named(names: &[&str]) -> String {
    let (shown, rest) = names.split_at(names.len().min(NAMED));
    match rest.len() {
        0 => shown.join(", "),
        more => format!("{} and {more} more", shown.join(", ")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn who_says_the_same_stands_together() {
        let all = [("dome-1", 1, "down"), ("mast", 2, "up"), ("archive", 1, "down, too")];
        assert_eq!(alike(all), [("down", vec!["dome-1", "archive"]), ("up", vec!["mast"])]);
        let many = vec!["mast"; 15];
        assert!(named(&many).ends_with("mast and 3 more"));
        assert_eq!(named(&many[..2]), "mast, mast");
    }
}
