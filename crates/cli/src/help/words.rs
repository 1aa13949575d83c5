//! Other words for what there is here. They stand in the help of an error only: a command has
//! one name.

use tipstaff_core::names::services;
use tipstaff_core::names::traffic::Term;

/// A word that people try, and the command line that does what they mean.
const COMMANDS: &[(&str, &str)] = &[
    ("accept", "rule add allow"),
    ("activate", "post"),
    ("add", "rule add"),
    ("allow", "rule add allow"),
    ("apply", "post"),
    ("backup", "history show NUMBER"),
    ("block", "rule add deny"),
    ("change", "rule set"),
    ("check", "review, or reach for what is in force"),
    ("clear", "withdraw"),
    ("cluster", "fleet state"),
    ("commit", "post"),
    ("completion", "completions"),
    ("config", "rules"),
    ("connections", "cut --dry-run"),
    ("copy", "rule copy"),
    ("count", "tally"),
    ("counters", "tally"),
    ("default", "standing"),
    ("defaults", "standing"),
    ("delete", "rule remove"),
    ("deny", "rule add deny"),
    ("deploy", "fleet post"),
    ("diff", "compare"),
    ("disable", "withdraw, or rule pause for one rule"),
    ("distribute", "fleet post"),
    ("down", "withdraw"),
    ("drop", "rule add deny"),
    ("dump", "rules --in-force --json"),
    ("edit", "rule edit"),
    ("enable", "post, or rule resume for one rule"),
    ("events", "watch"),
    ("explain", "ask"),
    ("flush", "withdraw"),
    ("forbid", "rule add deny"),
    ("init", "draft"),
    ("insert", "rule add --before RULE"),
    ("install", "install-boot"),
    ("kill", "cut"),
    ("lint", "review"),
    ("list", "rules"),
    ("listen", "survey"),
    ("listeners", "survey"),
    ("load", "post"),
    ("lockdown", "posture sealed"),
    ("logs", "log"),
    ("ls", "rules"),
    ("machines", "fleet state"),
    ("man", "manual"),
    ("monitor", "watch"),
    ("move", "rule move"),
    ("new", "draft"),
    ("nodes", "fleet state"),
    ("off", "withdraw"),
    ("on", "post"),
    ("panic", "posture sealed"),
    ("pause", "rule pause"),
    ("permit", "rule add allow"),
    ("policy", "standing"),
    ("ports", "survey"),
    ("probe", "reach"),
    ("profile", "posture"),
    ("profiles", "postures"),
    ("push", "fleet post"),
    ("refuse", "rule add refuse"),
    ("reject", "rule add refuse"),
    ("reload", "post"),
    ("remote", "fleet run"),
    ("remove", "rule remove"),
    ("rename", "rule set RULE name=NEW, or names rename"),
    ("restart", "post"),
    ("restore", "post --revision NUMBER"),
    ("resume", "rule resume"),
    ("revert", "confirm --revert, or post --revision NUMBER"),
    ("rollback", "post --revision NUMBER"),
    ("rollout", "fleet post"),
    ("save", "post: what is posted is also kept for the next start, see install-boot"),
    ("scan", "reach"),
    ("services", "names --all"),
    ("set", "rule set"),
    ("show", "rules"),
    ("simulate", "replay, or post --rehearse"),
    ("ssh", "fleet run"),
    ("start", "post"),
    ("stats", "tally"),
    ("status", "state"),
    ("stop", "withdraw"),
    ("tail", "watch"),
    ("test", "reach, or ask for one packet"),
    ("trace", "ask"),
    ("try", "post --trial 2m"),
    ("uninstall", "install-boot --remove"),
    ("unload", "withdraw"),
    ("up", "post"),
    ("validate", "post --check"),
    ("verify", "reach"),
    ("why", "ask, or reach --why PORT"),
];

/// Words that people try within a command, and the command line elsewhere that does what they
/// mean there.
const ELSEWHERE: &[(&str, &str, &str)] = &[
    ("fleet", "hosts list ls machines nodes show", "hosts"),
    ("group", "list ls show", "rules --group GROUP"),
    ("history", "diff", "compare"),
    ("history", "list ls", "history"),
    ("history", "restore revert rollback", "post --revision NUMBER"),
    ("postures", "list ls show", "postures"),
    ("rule", "list ls show", "rules"),
];

/// An option that people try, and ours.
const OPTIONS: &[(&str, &str)] = &[
    ("after-rule", "--after"),
    ("app", "--program"),
    ("comment", "--note"),
    ("config", "--orders"),
    ("description", "--note"),
    ("dest", "--destination"),
    ("dev", "--interface"),
    ("device", "--interface"),
    ("dry-run", "--check"),
    ("dst", "--destination"),
    ("exe", "--program"),
    ("expires", "--until"),
    ("file", "--orders"),
    ("force", "--yes"),
    ("from", "--source"),
    ("iface", "--interface"),
    ("in", "--interface"),
    ("index", "--position"),
    ("limit", "--at-most"),
    ("message", "--reason"),
    ("netns", "--namespace"),
    ("out", "--interface"),
    ("peer", "--source"),
    ("process", "--program"),
    ("profile", "--posture"),
    ("rate", "--at-most"),
    ("src", "--source"),
    ("timeout", "--trial"),
    ("to", "--destination"),
    ("verdict", "--action"),
];

/// Options for which there is none here, because it is said otherwise.
const OTHERWISE: &[(&str, &str)] = &[
    ("dport", "The port is the traffic: `tcp/22`, `443`, `ssh`."),
    ("format", "Scripts read --json."),
    ("input", "Write --direction inbound, which is also the usual one."),
    ("ipv4", "Write --family ipv4."),
    ("ipv6", "Write --family ipv6."),
    ("output", "Write --direction outbound for what this host sends; scripts read --json."),
    ("port", "The port is the traffic: `tcp/22`, `443`, `ssh`."),
    ("proto", "The protocol stands before the port: `tcp/22`, `udp/53`, `icmp/echo`."),
    ("protocol", "The protocol stands before the port: `tcp/22`, `udp/53`, `icmp/echo`."),
    ("sport", "Rules go by the port that is spoken to, not by the one that speaks."),
];

fn found<'w>(table: &[(&str, &'w str)], word: &str) -> Option<&'w str> {
    table.iter().find(|(known, _)| *known == word).map(|(_, ours)| *ours)
}

/// What somebody means who calls a command so.
pub fn for_command(word: &str) -> Option<String> {
    let word = word.to_ascii_lowercase();
    found(COMMANDS, &word).map(|ours| format!("for `{word}`, there is: tipstaff {ours}"))
}

/// What somebody means who goes on so within a command, which has `parts`: never what the word
/// means for the whole machine.
pub fn for_part(within: &str, word: &str, parts: &[&str]) -> Option<String> {
    let word = word.to_ascii_lowercase();
    let elsewhere = ELSEWHERE
        .iter()
        .find(|(of, words, _)| *of == within && words.split(' ').any(|known| known == word))
        .map(|(.., ours)| (*ours).to_owned());
    let part = || {
        // Options are those of another command, and so is what they make of it.
        let means = found(COMMANDS, &word)?.split(", or ").filter(|one| !one.contains(" --"));
        let mut means = means.flat_map(|one| one.split(' ').take(2));
        means.find(|ours| parts.contains(ours)).map(|ours| format!("{within} {ours}"))
    };
    elsewhere.or_else(part).map(|ours| format!("for `{word}`, there is: tipstaff {ours}"))
}

/// What somebody means who writes an option so; `has`: whether the command has an option.
pub fn for_option(word: &str, has: impl Fn(&str) -> bool) -> Option<String> {
    let word = word.trim_start_matches('-').split('=').next()?.to_ascii_lowercase();
    let ours = found(OPTIONS, &word).filter(|ours| has(ours.trim_start_matches('-')));
    match ours {
        Some(ours) => Some(format!("for `--{word}`, there is `{ours}`")),
        None => found(OTHERWISE, &word).map(str::to_owned),
    }
}

/// What somebody means who gives a command traffic without an option for it; `has` as above.
pub fn for_traffic(word: &str, has: impl Fn(&str) -> bool) -> Option<String> {
    let option = ["ports", "traffic"].into_iter().find(|option| has(option))?;
    let is_traffic = word.parse::<u16>().is_ok()
        || Term::parse(word).is_some_and(|term| term.is_ok())
        || services::find(word).is_some();
    is_traffic.then(|| format!("for `{word}`, there is `--{option} {word}`"))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::help;

    #[test]
    fn every_word_leads_to_a_command_that_there_is_and_is_none_itself() {
        let mut command = help::command();
        command.build();
        for (word, ours) in COMMANDS {
            assert!(command.find_subcommand(word).is_none(), "{word} is a command");
            let mut words = ours.split([' ', ',', ':']);
            let first = words.next().and_then(|name| command.find_subcommand(name));
            let first = first.unwrap_or_else(|| panic!("{word}: there is no {ours}"));
            if let (true, Some(second)) = (first.has_subcommands(), words.next())
                && second.starts_with(|c: char| c.is_ascii_lowercase())
            {
                assert!(first.find_subcommand(second).is_some(), "{word}: there is no {ours}");
            }
        }
        for (within, words, ours) in ELSEWHERE {
            let within = command.find_subcommand(within).unwrap();
            assert!(words.split(' ').all(|word| within.find_subcommand(word).is_none()), "{words}");
            let first = ours.split(' ').next().unwrap();
            assert!(command.find_subcommand(first).is_some(), "there is no {ours}");
        }
        let sorted = |table: &[(&str, &str)]| table.windows(2).all(|pair| pair[0].0 < pair[1].0);
        assert!(sorted(COMMANDS) && sorted(OPTIONS) && sorted(OTHERWISE));
    }
}
