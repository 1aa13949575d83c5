//! Which of the options that every command takes mean something to which command: the help
//! of a command shows those alone.

/// The options by their ids.
const ALL: &[&str] =
    &["orders", "host", "posture", "namespace", "json", "csv", "run_dir", "history", "log_dir"];

/// A command, and the options that it looks at.
const USES: [(&str, &[&str]); 40] = [
    ("areas", &["orders", "json", "csv"]),
    ("ask", &["orders", "host", "posture", "namespace", "json", "run_dir"]),
    ("boot", &["namespace", "json", "run_dir", "history"]),
    ("brief", &["orders", "host", "posture", "json", "csv"]),
    ("compare", &["orders", "host", "posture", "namespace", "json", "run_dir", "history"]),
    ("completions", &[]),
    ("confirm", &["namespace", "json", "run_dir", "history"]),
    ("cut", &["namespace", "json", "run_dir"]),
    ("demo", &[]),
    ("draft", &["namespace", "json", "log_dir"]),
    ("export", &["orders", "host", "posture"]),
    ("fleet", &["orders", "json", "csv", "history"]),
    ("group", &["orders", "json"]),
    ("history", &["namespace", "json", "csv", "history"]),
    ("hosts", &["orders", "json", "csv"]),
    ("import", &["json"]),
    ("install-boot", &["orders", "host", "json", "run_dir", "history", "log_dir"]),
    ("keep", &["orders", "host", "namespace", "json", "run_dir", "history", "log_dir"]),
    ("learn", &["orders", "host", "posture", "namespace", "json", "log_dir"]),
    ("log", &["orders", "host", "posture", "namespace", "json", "csv", "run_dir", "log_dir"]),
    ("manual", &[]),
    ("names", &["orders", "json", "csv"]),
    ("post", &["orders", "host", "posture", "namespace", "json", "run_dir", "history", "log_dir"]),
    ("posture", &["orders", "host", "namespace", "json", "run_dir", "history"]),
    ("postures", &["orders", "json", "csv"]),
    ("reach", &["orders", "host", "posture", "namespace", "json", "csv", "run_dir", "history"]),
    ("rehearse", &["orders", "host", "namespace", "json", "csv", "run_dir", "log_dir"]),
    ("replay", &["orders", "host", "posture", "json", "csv"]),
    (
        "review",
        &["orders", "host", "posture", "namespace", "json", "run_dir", "history", "log_dir"],
    ),
    ("rule", &["orders", "json"]),
    ("rules", &["orders", "host", "posture", "namespace", "json", "csv", "run_dir"]),
    ("schema", &[]),
    ("serve-fleet", &["orders", "run_dir", "history", "log_dir"]),
    ("standing", &["orders", "host", "posture", "json", "csv"]),
    ("state", &["orders", "host", "namespace", "json", "run_dir", "history"]),
    ("survey", &["orders", "host", "posture", "namespace", "json", "csv", "run_dir"]),
    ("tally", &["orders", "namespace", "json", "csv", "run_dir", "log_dir"]),
    ("undo", &["orders", "json", "csv"]),
    ("watch", &["orders", "host", "namespace", "json", "run_dir", "history"]),
    ("withdraw", &["namespace", "json", "run_dir"]),
];

/// Whether a command looks at an option; one that is in no list looks at all.
pub fn looks_at(command: &str, option: &str) -> bool {
    let known = USES.iter().find(|(name, _)| *name == command);
    !ALL.contains(&option) || known.is_none_or(|(_, options)| options.contains(&option))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_command_is_listed_once() {
        assert!(USES.windows(2).all(|pair| pair[0].0 < pair[1].0));
        let named = USES.iter().flat_map(|(_, options)| options.iter());
        assert!(named.into_iter().all(|option| ALL.contains(option)));
        assert!(!looks_at("demo", "json") && looks_at("post", "json") && looks_at("demo", "color"));
    }
}
