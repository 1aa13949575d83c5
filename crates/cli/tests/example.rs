//! The orders of the made-up observatory: sound, complete, and as the schema says.

#![allow(clippy::unwrap_used)]

use std::collections::BTreeSet;
use std::path::Path;

use assert_cmd::Command;
use serde_json::{Value, json};

const MAIN: &str = include_str!("../demo/larkfield/orders.toml");
const PART: &str = include_str!("../demo/larkfield/groups/open-day.toml");
const DEMO: &str = include_str!("../demo/orders.toml");

fn tipstaff(folder: &Path, arguments: &[&str]) -> String {
    let mut command = Command::cargo_bin("tipstaff").unwrap();
    command.current_dir(folder).env_clear().env("NO_COLOR", "1").args(arguments);
    let output = command.output().unwrap();
    let text = |bytes: Vec<u8>| String::from_utf8(bytes).unwrap();
    assert!(output.status.success(), "{}", text(output.stderr));
    text(output.stdout)
}

fn schema() -> Value {
    serde_json::from_str(&tipstaff(Path::new("."), &["schema"])).unwrap()
}

/// TOML as JSON: date-times become strings.
fn as_json(text: &str) -> Value {
    fn plain(value: Value) -> Value {
        match value {
            Value::Object(mut object) => match object.remove("$__toml_private_datetime") {
                Some(moment) => moment,
                None => Value::Object(object.into_iter().map(|(k, v)| (k, plain(v))).collect()),
            },
            Value::Array(list) => Value::Array(list.into_iter().map(plain).collect()),
            other => other,
        }
    }
    plain(toml::from_str(text).unwrap())
}

#[test]
fn an_independent_validator_finds_them_as_the_schema_says() {
    let schema = schema();
    jsonschema::meta::validate(&schema).unwrap();
    let validator = jsonschema::validator_for(&schema).unwrap();
    for text in [MAIN, DEMO] {
        if let Err(fault) = validator.validate(&as_json(text)) {
            panic!("{}: {fault}", fault.instance_path());
        }
    }
}

/// What the reader refuses for its form, the schema refuses too.
#[test]
fn the_schema_and_the_reader_refuse_the_same_forms() {
    let validator = jsonschema::validator_for(&schema()).unwrap();
    let folder = tempfile::tempdir().unwrap();
    for (right, wrong) in [
        ("inbound = \"deny\"", "inbound = \"no\""),
        ("outbound = \"allow\"\n", ""),
        ("version = 1", "version = 2"),
        ("action = \"allow\"", "action = \"alow\""),
        ("traffic = \"plates\"", "traffic = []"),
        ("traffic = \"plates\"", "traffic = \"plates\"\ncolour = \"green\""),
        ("traffic = \"plates\"", "traffic = \"plates\"\nat_most = \"often\""),
        ("traffic = \"plates\"", "traffic = \"plates\"\nat_most = \"6 per minute\""),
        ("traffic = \"plates\"", "traffic = \"plates\"\nover = \"deny\""),
        ("traffic = \"plates\"", "traffic = \"plates\"\ndirection = \"in\""),
        ("traffic = \"plates\"", "traffic = \"plates\"\nlog = \"yes\""),
        ("name = \"ping-inside\"\n", ""),
        ("traffic = \"plates\"", "traffic = \"tcp/99999\""),
        ("traffic = \"plates\"", "traffic = [\"tcp/22\", \"udp/0\"]"),
        ("traffic = \"plates\"", "traffic = \"icmp/22\""),
        ("traffic = \"plates\"", "traffic = \"protocol/256\""),
        ("traffic = \"plates\"", "traffic = \"plates\"\nprogram = \"bin/plated\""),
        ("traffic = \"plates\"", "traffic = \"plates\"\nuntil = 2026-12-24T18:00:00"),
        ("source = \"night-staff\"", "source = \"203.0.113.400\""),
        ("source = \"night-staff\"", "source = [\"203.0.113.0/33\"]"),
        ("source = \"night-staff\"", "source = \"2001:db8::/129\""),
        ("plates = \"tcp/7410\"", "plates = \"tcp/70000\""),
        ("partner = [\"203.0.113.0/24\"", "partner = [\"203.0.113.0.0/24\""),
    ] {
        assert!(DEMO.contains(right), "{right}");
        let text = DEMO.replacen(right, wrong, 1);
        assert!(!validator.is_valid(&as_json(&text)), "the schema takes {wrong}");
        let file = folder.path().join("orders.toml");
        std::fs::write(&file, text).unwrap();
        let mut command = Command::cargo_bin("tipstaff").unwrap();
        let output = command.args(["rules", "--orders"]).arg(&file).output().unwrap();
        assert_eq!(output.status.code(), Some(2), "the reader takes {wrong}");
    }
    assert!(!validator.is_valid(&json!({})));
}

/// Of whatever is written: what the schema refuses the reader refuses.
#[test]
fn the_schema_refuses_nothing_that_the_reader_takes() {
    let validator = jsonschema::validator_for(&schema()).unwrap();
    let parts = ["tcp", "UDP", "icmp", "protocol", "22", "65535", "65536", "0", "echo", "*", "ssh"];
    let signs = ["/", ":", " ", ",", ", ", "-", ""];
    let mut words: BTreeSet<String> = parts.iter().map(|p| (*p).to_owned()).collect();
    for first in parts {
        for sign in signs {
            for last in parts {
                words.insert(format!("{first}{sign}{last}"));
                words.insert(format!("{first}{sign}{last},{first}"));
                words.insert(format!("{first}{sign}{last}-{last}"));
            }
        }
    }
    let addresses = [
        "203.0.113.9",
        "203.0.113.0/24",
        "203.0.113.1/24",
        "0.0.0.0/0",
        "203.0.113.9-203.0.113.20",
        "203.0.113.9 - 203.0.113.20",
        "256.0.0.1",
        "1.2.3",
        "2001:db8::/32",
        "2001:db8::1",
        "::",
        "::/0",
        "::ffff:203.0.113.9",
        "2001:db8::1-2001:db8::9",
        "2001:db8::/200",
        "file:unwanted.txt",
        "area:NL",
        "area:NL-NH",
        "partner",
        "any",
        "a b",
        "",
    ];
    let (mut taken, mut refused) = (0, 0);
    let cases = words.iter().map(|word| ("traffic = \"plates\"", "traffic", word.as_str()));
    let cases = cases.chain(addresses.map(|word| ("source = \"night-staff\"", "source", word)));
    for (right, key, word) in cases {
        let text = DEMO.replacen(right, &format!("{key} = {word:?}"), 1);
        let by_schema = validator.is_valid(&as_json(&text));
        let by_reader = tipstaff_core::orders::read(&text).is_ok();
        assert!(by_schema || !by_reader, "{key} = {word:?}: only the schema refuses it");
        taken += usize::from(by_reader);
        refused += usize::from(!by_schema);
    }
    assert!(taken > 100 && refused > 100, "{taken} taken, {refused} refused");
}

#[test]
fn a_file_that_is_included_has_a_schema_of_its_own() {
    let text = tipstaff(Path::new("."), &["schema", "orders-part"]);
    let part: Value = serde_json::from_str(&text).unwrap();
    jsonschema::meta::validate(&part).unwrap();
    let validator = jsonschema::validator_for(&part).unwrap();
    assert!(validator.is_valid(&as_json(PART)));
    assert!(!validator.is_valid(&as_json(MAIN)), "it has keys that only the main file may have");
}

#[test]
fn every_key_stands_there() {
    /// Paths of all keys of a schema, and of those of a document.
    fn keys(schema: &Value, path: &str, all: &mut BTreeSet<String>) {
        let schema = schema.get("items").unwrap_or(schema);
        for (name, inner) in schema["properties"].as_object().into_iter().flatten() {
            all.insert(format!("{path}{name}"));
            keys(inner, &format!("{path}{name}."), all);
        }
    }
    fn held(value: &Value, path: &str, all: &mut BTreeSet<String>) {
        match value {
            Value::Object(object) => {
                for (name, inner) in object {
                    all.insert(format!("{path}{name}"));
                    held(inner, &format!("{path}{name}."), all);
                }
            }
            Value::Array(list) => list.iter().for_each(|inner| held(inner, path, all)),
            _ => {}
        }
    }
    let (mut wanted, mut there) = (BTreeSet::new(), BTreeSet::new());
    keys(&schema(), "", &mut wanted);
    held(&as_json(MAIN), "", &mut there);
    held(&as_json(PART), "", &mut there);
    // A host or a posture shows each kind of own standing answer, not every one of them.
    wanted.retain(|key| !key.starts_with("postures.standing.") || key.ends_with("outbound"));
    let missing: Vec<&String> = wanted.difference(&there).collect();
    assert!(wanted.len() > 50 && missing.is_empty(), "{missing:?}");
}

#[test]
fn the_example_is_written_and_read_for_every_host() {
    let folder = tempfile::tempdir().unwrap();
    tipstaff(folder.path(), &["draft", "--example", "larkfield"]);
    let orders = ["--orders", "larkfield/orders.toml"];
    insta::assert_snapshot!(tipstaff(folder.path(), &[&["hosts"][..], &orders].concat()));
    for host in ["archive", "dome-1", "mast", "desk-3", "lantern"] {
        insta::assert_snapshot!(
            host,
            tipstaff(folder.path(), &[&["brief", host][..], &orders].concat())
        );
    }
    let out = [
        "ask",
        "tcp/443",
        "--direction",
        "outbound",
        "--destination",
        "203.0.113.9",
        "--host",
        "desk-3",
    ];
    let ask = |more: &[&str]| tipstaff(folder.path(), &[&out[..], &orders, more].concat());
    insta::assert_snapshot!(ask(&["--posture", "in-the-house", "--program", "/usr/bin/skycam"]));
    let let_out = ask(&["--posture", "in-the-house"]);
    assert!(let_out.contains("tcp/443 to 203.0.113.9: let out by rule 10"), "{let_out}");
    // A folder that is there is left alone.
    let mut command = Command::cargo_bin("tipstaff").unwrap();
    command.current_dir(folder.path()).args(["draft", "--example", "larkfield"]).assert().code(2);
}
