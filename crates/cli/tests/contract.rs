//! What others rely on and no type keeps: the names in JSON, and the help.

#![allow(clippy::unwrap_used)]

use std::collections::BTreeSet;
use std::process::Command;

use serde_json::Value;

/// What a run prints: stdout, and stderr where that is empty.
fn told(arguments: &[&str]) -> String {
    let output = Command::new(assert_cmd::cargo::cargo_bin!("tipstaff"))
        .args(arguments)
        .env("NO_COLOR", "1")
        .output()
        .unwrap();
    let text = if output.stdout.is_empty() { output.stderr } else { output.stdout };
    String::from_utf8(text).unwrap()
}

/// The keys and the fixed words of a schema.
fn collect(schema: &Value, names: &mut BTreeSet<String>) {
    match schema {
        Value::Object(fields) => {
            for (key, value) in fields {
                match (key.as_str(), value) {
                    ("properties", Value::Object(keys)) => {
                        names.extend(keys.keys().map(|key| format!("{key}:")));
                    }
                    ("const", Value::String(word)) => drop(names.insert(word.clone())),
                    ("enum", Value::Array(words)) => {
                        names.extend(words.iter().filter_map(Value::as_str).map(str::to_owned));
                    }
                    _ => {}
                }
                collect(value, names);
            }
        }
        Value::Array(values) => values.iter().for_each(|value| collect(value, names)),
        _ => {}
    }
}

/// A type or a variant may get another name; its name in JSON stays, or its schema
/// gets another number and CHANGELOG.md says so.
#[test]
fn the_names_in_json_stay_what_they_are() {
    let all = told(&["schema", "no-such-schema"]);
    let all = all.split("There are ").nth(1).unwrap().trim_end().trim_end_matches('.');
    let lines = all.split(", ").map(|name| {
        let mut names = BTreeSet::new();
        collect(&serde_json::from_str(&told(&["schema", name])).unwrap(), &mut names);
        let names: Vec<String> = names.into_iter().collect();
        format!("{name}\n  {}", names.join(" "))
    });
    let lines: Vec<String> = lines.collect();
    assert!(lines.len() > 30, "{all}");
    insta::assert_snapshot!(lines.join("\n"));
}

/// The help of every command, as it is read.
#[test]
fn the_help_of_every_command_is_read() {
    fn walk(command: &mut Vec<String>, pages: &mut Vec<String>) {
        let words: Vec<&str> = command.iter().map(String::as_str).collect();
        let help = told(&[&words[..], &["--help"]].concat());
        // Of indented lines those that begin in the second column name a command.
        let listed: Vec<String> = help
            .lines()
            .filter_map(|line| line.strip_prefix("  ").filter(|rest| !rest.starts_with([' ', '-'])))
            .filter_map(|line| line.split_whitespace().next().map(str::to_owned))
            .filter(|name| name != "help" && name.starts_with(|c: char| c.is_ascii_lowercase()))
            .collect();
        let name = [&["tipstaff"], &words[..]].concat().join(" ");
        pages.push(format!("# {name}\n{}", help.trim_end()));
        for name in listed {
            command.push(name);
            let words: Vec<&str> = command.iter().map(String::as_str).collect();
            if told(&[&words[..], &["--help"]].concat())
                .contains(&format!("tipstaff {}", words.join(" ")))
            {
                walk(command, pages);
            }
            command.pop();
        }
    }
    let mut pages = Vec::new();
    walk(&mut Vec::new(), &mut pages);
    assert!(pages.len() > 40, "only {} commands", pages.len());
    insta::assert_snapshot!(pages.join("\n\n"));
}
