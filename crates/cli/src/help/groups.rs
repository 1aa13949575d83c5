//! The commands in the order of the work, as the help lists them.

use clap::Command;

/// A heading, and the commands below it.
pub const GROUPS: [(&str, &[&str]); 7] = [
    ("Begin", &["survey", "draft", "demo"]),
    (
        "Write orders",
        &[
            "rules", "rule", "standing", "names", "group", "postures", "areas", "undo", "import",
            "export",
        ],
    ),
    ("Look before", &["review", "ask", "compare", "replay", "hosts", "brief"]),
    ("Put in force", &["post", "confirm", "rehearse", "posture", "cut", "history", "withdraw"]),
    ("See it work", &["state", "reach", "tally", "watch", "log", "learn"]),
    ("On many machines", &["fleet"]),
    ("On this machine", &["install-boot", "boot", "keep", "schema", "manual", "completions"]),
];

/// The list of all commands, with what they do.
pub fn listed(command: &Command) -> String {
    let style = command.get_styles();
    let (header, literal) = (style.get_header(), style.get_literal());
    let width = GROUPS.iter().flat_map(|(_, names)| names.iter()).map(|name| name.len()).max();
    let width = width.unwrap_or_default();
    let mut text = String::new();
    for (heading, names) in GROUPS {
        text.push_str(&format!("\n{header}{heading}:{header:#}\n"));
        for name in names {
            let does = command.find_subcommand(name).and_then(Command::get_about);
            let does = does.map(ToString::to_string).unwrap_or_default();
            text.push_str(&format!("  {literal}{name:width$}{literal:#}  {does}\n"));
        }
    }
    text
}
