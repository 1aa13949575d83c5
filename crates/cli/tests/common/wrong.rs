//! Orders that are wrong, each in another place.

use crate::common::HEAD;

/// With an odd word, as TOML writes it, wherever one can stand.
pub fn texts(odd: &str) -> Vec<String> {
    let mut texts = vec![
        format!("{HEAD}\"{odd}\" = 1\n"),
        format!("{HEAD}\"{odd}\" = \"192.0.2.1\"\n"),
        format!("{HEAD}odd = \"{odd}\"\n"),
        format!("{HEAD}[services]\n\"{odd}\" = \"{odd}\"\n"),
        format!("{HEAD}# \u{9b}31m\u{202e}\n[standing]\n"),
        // Not TOML: a bare control, and no end.
        format!("{HEAD}x = \"\u{1b}[2J\"\n"),
        format!("{HEAD}x = \"\u{202e}\n"),
        format!("include = [\"{odd}\"]\n{HEAD}"),
    ];
    for key in [
        "name",
        "note",
        "action",
        "traffic",
        "source",
        "source_except",
        "destination",
        "interface",
        "program",
        "family",
        "direction",
        "until",
        "at_most",
        "over",
        "log",
        "enabled",
        "group",
        "hosts",
        "postures",
        "accepted",
        "part",
    ] {
        let rest = ["name", "action", "traffic"].iter().filter(|k| **k != key);
        let rest: String = rest
            .map(|key| match *key {
                "name" => "name = \"x\"\n",
                "action" => "action = \"allow\"\n",
                _ => "traffic = \"tcp/1\"\n",
            })
            .collect();
        texts.push(format!("{HEAD}[[rules]]\n{rest}{key} = \"{odd}\"\n"));
        texts.push(format!("{HEAD}[[rules]]\n{rest}\"{key}{odd}\" = 1\n"));
    }
    for table in ["hosts", "groups", "postures"] {
        texts.push(format!("{HEAD}[[{table}]]\nname = \"{odd}\"\nnote = \"{odd}\"\n"));
    }
    texts
}
