//! Examples of every command, for its help and its manual page. A test reads each of them
//! as it would be read in a shell.

/// A command line, and what it does.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Example {
    /// What it does.
    pub does: &'static str,
    /// The line as it is typed.
    pub line: &'static str,
}

/// The commands, each with the examples of its own.
const EXAMPLES: &[(&str, &[(&str, &str)])] = &[
    (
        "",
        &[
            ("First orders for this machine", "sudo tipstaff draft --to /etc/tipstaff/orders.toml"),
            ("In force for two minutes, unless you confirm", "sudo tipstaff post --trial 2m"),
            ("What is reachable, and why that differs", "sudo tipstaff reach --from-orders"),
        ],
    ),
    ("areas", &[("The prefixes of an area", "tipstaff areas NL-NH")]),
    (
        "ask",
        &[
            ("May this address log in?", "tipstaff ask ssh --source 203.0.113.9"),
            ("Who may, by kinds of source", "tipstaff ask ssh"),
            (
                "A whole group, and somebody whom no rule names",
                "tipstaff ask 7410 --source partner --source stranger",
            ),
            (
                "What this host sends",
                "tipstaff ask udp/53 --direction outbound --destination 192.0.2.53",
            ),
        ],
    ),
    (
        "boot",
        &[
            ("As the unit does at a start", "sudo tipstaff boot"),
            ("After it was killed or timed out", "sudo tipstaff boot --after-failure"),
        ],
    ),
    ("brief", &[("What another host does not have", "tipstaff brief archive --diff dome")]),
    (
        "compare",
        &[
            ("The file, against what is in force", "sudo tipstaff compare"),
            ("Two files", "tipstaff compare before.toml after.toml"),
        ],
    ),
    (
        "completions",
        &[(
            "For this user's bash",
            "tipstaff completions bash > ~/.local/share/bash-completion/completions/tipstaff",
        )],
    ),
    (
        "confirm",
        &[
            ("Keep what is on trial", "sudo tipstaff confirm"),
            ("Go back at once", "sudo tipstaff confirm --revert"),
        ],
    ),
    ("cut", &[("Which connections would end", "sudo tipstaff cut --dry-run")]),
    ("demo", &[("The whole job, without root and network", "tipstaff demo")]),
    (
        "draft",
        &[
            ("First orders for this machine", "sudo tipstaff draft --to /etc/tipstaff/orders.toml"),
            ("Rules for what was seen in a week", "sudo tipstaff draft --from-log --since 7d"),
        ],
    ),
    ("export", &[("The rules of one host", "tipstaff export --host archive --to archive.json")]),
    (
        "fleet",
        &[
            ("How all hosts of the orders are", "tipstaff fleet state"),
            (
                "New orders in three waves, checked before they stay",
                "tipstaff fleet post --waves 1,10%,100% --yes",
            ),
            ("Who was turned away most over all", "tipstaff fleet log --since 1h --top sources"),
        ],
    ),
    ("fleet log", &[("Those with a label", "tipstaff fleet log '#sensors' --since 1h")]),
    (
        "fleet post",
        &[
            ("What would change, and where", "tipstaff fleet post --check"),
            ("One host after the other", "tipstaff fleet post '#telescope' --waves 1,2,3"),
            ("All of them, or none", "tipstaff fleet post --all-or-nothing --yes"),
            ("Those that were away", "tipstaff fleet post --resume"),
        ],
    ),
    (
        "fleet reach",
        &[
            ("A page of who reaches whom", "tipstaff fleet reach --html reach.html"),
            ("One host, from all others", "tipstaff fleet reach --to archive"),
        ],
    ),
    ("fleet run", &[("Their histories", "tipstaff fleet run '#sensors' -- history")]),
    ("fleet state", &[("For a script", "tipstaff fleet state --json")]),
    ("fleet tally", &[("A row for each host", "tipstaff fleet tally --by-host")]),
    (
        "group",
        &[
            ("Nobody of the visitors for now", "sudo tipstaff group pause visitors"),
            ("Take a group to another host", "tipstaff group export visitors > visitors.toml"),
        ],
    ),
    (
        "history",
        &[
            ("Who put what in force, and why", "tipstaff history"),
            ("The orders of a revision", "tipstaff history show 12"),
        ],
    ),
    ("hosts", &[("The hosts of one file", "tipstaff hosts --orders fleet.toml")]),
    (
        "import",
        &[("Orders from a router's lists", "tipstaff import lists.json --to /tmp/orders.toml")],
    ),
    (
        "install-boot",
        &[
            ("In force at each start", "sudo tipstaff install-boot"),
            ("What would be written", "tipstaff install-boot --print"),
        ],
    ),
    ("keep", &[("As the unit does", "sudo tipstaff keep")]),
    (
        "learn",
        &[
            ("One key for each program that asked in vain", "sudo tipstaff learn"),
            ("Without a terminal", "sudo tipstaff learn --answer allow-tcp-7430=network"),
        ],
    ),
    (
        "log",
        &[
            ("Who was turned away most this night", "sudo tipstaff log --since 12h --top sources"),
            ("One rule, as lines of JSON", "sudo tipstaff log --rule plates --json"),
        ],
    ),
    (
        "manual",
        &[("Manual pages for everybody", "sudo tipstaff manual --to /usr/local/share/man/man8")],
    ),
    (
        "names",
        &[
            ("What a name stands for, and who uses it", "tipstaff names partner"),
            (
                "One network more for the partner",
                "sudo tipstaff names add addresses partner 192.0.2.0/24",
            ),
            (
                "Another name, everywhere",
                "sudo tipstaff names rename services plates plate-archive",
            ),
        ],
    ),
    (
        "post",
        &[
            ("Only what it would change", "tipstaff post --check"),
            (
                "Back in two minutes, unless you confirm",
                "sudo tipstaff post --trial 2m --reason 'visitors have no shell'",
            ),
            ("What was in force before", "sudo tipstaff post --revision 11"),
        ],
    ),
    (
        "posture",
        &[
            ("Which is active", "sudo tipstaff posture"),
            (
                "Nothing in and nothing out for ten minutes",
                "sudo tipstaff posture sealed --for 10m",
            ),
        ],
    ),
    (
        "postures",
        &[("One more", "sudo tipstaff postures add night note='Nobody is here' inbound=deny")],
    ),
    (
        "reach",
        &[
            ("What the orders promise, each rule once", "sudo tipstaff reach --from-orders"),
            (
                "One port from one source, with all evidence",
                "sudo tipstaff reach --as 203.0.113.9 --why 7410",
            ),
            ("Every hour, only what opened or closed", "sudo tipstaff reach --changes --quiet"),
        ],
    ),
    (
        "rehearse",
        &[
            ("Begin one", "sudo tipstaff post --rehearse --for 2d"),
            ("What it would have denied", "sudo tipstaff rehearse report"),
        ],
    ),
    (
        "replay",
        &[
            ("A capture of the night", "tipstaff replay night.pcap"),
            (
                "Which conversations other orders would cut",
                "tipstaff replay night.pcap --compare new.toml",
            ),
        ],
    ),
    (
        "review",
        &[
            ("All findings", "tipstaff review"),
            ("Take out what changes nothing", "sudo tipstaff review --fix"),
        ],
    ),
    (
        "rule",
        &[
            (
                "One address may log in until tonight",
                "sudo tipstaff rule add allow ssh --source 203.0.113.9 --until 8h",
            ),
            ("One source more", "sudo tipstaff rule set shell-for-staff source+=203.0.113.9"),
            ("Not for now", "sudo tipstaff rule pause visitors-network weather-for-partners"),
        ],
    ),
    (
        "rule add",
        &[
            ("A web server for everybody", "sudo tipstaff rule add allow 80,443"),
            (
                "Six logins a minute from each partner",
                "sudo tipstaff rule add allow ssh --source partner --at-most '6 per minute per source'",
            ),
            (
                "Before another rule",
                "sudo tipstaff rule add deny any --source 192.0.2.0/24 --before shell-for-staff",
            ),
        ],
    ),
    (
        "rule set",
        &[
            (
                "One source more, one less",
                "sudo tipstaff rule set shell-for-staff source+=203.0.113.9 source-=night-staff",
            ),
            ("No note any more", "sudo tipstaff rule set shell-for-staff note="),
        ],
    ),
    (
        "rule edit",
        &[("In your editor", "sudo --preserve-env=EDITOR tipstaff rule edit shell-for-staff")],
    ),
    (
        "rule move",
        &[(
            "Two rules to the top",
            "sudo tipstaff rule move visitors-network shell-for-staff --first",
        )],
    ),
    ("rule pause", &[("Two rules at once", "sudo tipstaff rule pause 4 weather-for-partners")]),
    (
        "rule remove",
        &[("Without a question", "sudo tipstaff rule remove weather-for-partners --yes")],
    ),
    (
        "rules",
        &[
            (
                "Which rules are about this packet",
                "tipstaff rules --traffic ssh --source 203.0.113.9",
            ),
            ("What is denied, and why", "tipstaff rules --action deny --notes"),
        ],
    ),
    ("schema", &[("For an editor that knows JSON Schema", "tipstaff schema > orders.schema.json")]),
    (
        "standing",
        &[
            ("What happens to what no rule matches", "tipstaff standing"),
            ("Close the way in, and see what that changes", "sudo tipstaff standing inbound deny"),
        ],
    ),
    (
        "state",
        &[
            ("Is it in force, and as ordered?", "sudo tipstaff state"),
            ("For a monitor", "sudo tipstaff state --check"),
        ],
    ),
    ("survey", &[("What listens here", "sudo tipstaff survey")]),
    (
        "tally",
        &[
            ("Which rules work most", "sudo tipstaff tally --sort packets"),
            (
                "For a collector of metrics",
                "sudo tipstaff tally --openmetrics=/var/lib/metrics/tipstaff.prom",
            ),
        ],
    ),
    (
        "undo",
        &[
            ("The last edit", "sudo tipstaff undo"),
            ("What can be taken back", "tipstaff undo --list"),
        ],
    ),
    (
        "watch",
        &[("Who is turned away at the shell", "sudo tipstaff watch --traffic ssh --verdict deny")],
    ),
    ("withdraw", &[("Open for ten minutes", "sudo tipstaff withdraw --until 10m")]),
];

/// The examples of a command.
pub fn of(command: &str) -> impl ExactSizeIterator<Item = Example> + use<> {
    let found = EXAMPLES.iter().find(|(name, _)| *name == command).map(|(_, all)| *all);
    found.unwrap_or_default().iter().map(|(does, line)| Example { does, line })
}

#[cfg(test)]
mod tests {
    use std::ffi::OsString;

    use super::*;
    use crate::help;

    #[test]
    fn every_example_is_a_command_line_that_is_read() {
        for (command, all) in EXAMPLES {
            for (_, line) in *all {
                let words = shell_words::split(line).unwrap();
                // What a shell makes of it stays out.
                let words = words.into_iter().take_while(|word| word != ">");
                let words: Vec<String> =
                    words.skip_while(|w| w == "sudo" || w.starts_with("--pres")).collect();
                let first = words.get(1).map(String::as_str).unwrap_or_default();
                let own = command.split(' ').next().unwrap_or_default();
                assert!(own.is_empty() || first == own || own == "rehearse", "{command}: {line}");
                let read = help::read(words.into_iter().map(OsString::from));
                assert!(read.is_ok(), "{line}: {}", read.unwrap_err());
            }
        }
    }

    /// The words of a line that begins with our name, up to what a shell makes of it.
    fn words_of(line: &str) -> Option<Vec<String>> {
        let line = line.trim().trim_start_matches("$ ").trim_start_matches("sudo ");
        let line = line.split(['#', '>', '|', ';']).next()?.trim();
        let is_ours = line.split(' ').next() == Some("tipstaff");
        shell_words::split(line).ok().filter(|_| is_ours)
    }

    #[test]
    fn every_command_in_the_documents_is_read() {
        let root = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../..");
        let docs = std::fs::read_dir(root.join("docs")).unwrap().map(|entry| entry.unwrap().path());
        let pages = docs.filter(|path| path.extension().is_some_and(|e| e == "md"));
        let mut met = 0;
        for path in pages.chain([root.join("README.md")]) {
            let page = std::fs::read_to_string(&path).unwrap();
            let blocks = page.split("```").skip(1).step_by(2);
            let shells = blocks.filter(|b| b.starts_with("sh\n") || b.starts_with("console\n"));
            for line in shells.flat_map(str::lines) {
                let Some(words) = words_of(line) else { continue };
                let read = help::read(words.into_iter().map(OsString::from));
                assert!(read.is_ok(), "{}: {line}: {}", path.display(), read.unwrap_err());
                met += 1;
            }
        }
        assert!(met > 60, "{met} commands");
    }

    #[test]
    fn every_command_has_an_example() {
        for name in help::groups::GROUPS.iter().flat_map(|(_, names)| names.iter()) {
            assert!(of(name).len() > 0, "{name}");
        }
    }
}
