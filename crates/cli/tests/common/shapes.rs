//! Outputs held against the schemas that the program itself prints, by a validator that
//! is not ours.

use std::collections::BTreeMap;
use std::process::Command;

use jsonschema::Validator;
use serde_json::Value;

/// Validators by the name of their schema, and how often each was used.
#[derive(Default)]
pub struct Shapes(BTreeMap<String, (Validator, usize)>);

/// What `tipstaff schema NAME` prints.
pub fn schema(name: &str) -> Value {
    let output = Command::new(assert_cmd::cargo::cargo_bin!("tipstaff"))
        .args(["schema", name])
        .output()
        .unwrap();
    let told = String::from_utf8_lossy(&output.stderr).into_owned();
    assert!(output.status.success(), "{name}: {told}");
    serde_json::from_slice(&output.stdout).unwrap()
}

impl Shapes {
    /// Every document of an output is as the schema says that it names itself.
    pub fn check(&mut self, arguments: &[&str], output: &str) {
        let mut documents = 0;
        for value in serde_json::Deserializer::from_str(output).into_iter::<Value>() {
            let value = value.unwrap_or_else(|e| panic!("{arguments:?}: {e}: {output}"));
            let named = value["schema"].as_str();
            let named = named.unwrap_or_else(|| panic!("{arguments:?} names no schema: {value}"));
            let name = named.strip_prefix("tipstaff.").and_then(|n| n.strip_suffix("/1"));
            let name = name.unwrap_or_else(|| panic!("{arguments:?}: {named}"));
            let (validator, used) = self.0.entry(name.to_owned()).or_insert_with(|| {
                let schema = schema(name);
                jsonschema::meta::validate(&schema).unwrap();
                (jsonschema::validator_for(&schema).unwrap(), 0)
            });
            *used += 1;
            let faults: Vec<String> = validator
                .iter_errors(&value)
                .map(|fault| format!("{} at {}", fault, fault.instance_path()))
                .collect();
            assert!(faults.is_empty(), "{arguments:?}: {faults:#?}");
            documents += 1;
        }
        assert!(documents > 0, "{arguments:?} wrote nothing");
    }

    /// All schemas that there are were met, but for some.
    #[allow(dead_code, reason = "not every test meets all")]
    pub fn all_were_seen_but(&self, exempt: &[&str]) {
        let missing: Vec<String> = names()
            .into_iter()
            .filter(|name| !exempt.contains(&name.as_str()) && !self.0.contains_key(name))
            .collect();
        assert!(missing.is_empty(), "never met: {missing:?}");
    }
}

/// The names of all outputs.
pub fn names() -> Vec<String> {
    let told = Command::new(assert_cmd::cargo::cargo_bin!("tipstaff"))
        .args(["schema", "nonesuch"])
        .output()
        .unwrap();
    let told = String::from_utf8(told.stderr).unwrap();
    let told = told.split_whitespace().collect::<Vec<_>>().join(" ");
    let names = told.split("There are ").nth(1).unwrap().trim_end_matches('.');
    names
        .split(", ")
        .filter(|name| !name.starts_with("orders") || *name == "orders-edit")
        .map(str::to_owned)
        .collect()
}
