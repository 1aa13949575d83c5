//! What the program is built of: licences that go with ours, one version of each crate,
//! and no crate that needs a later compiler than the workspace says.

#![allow(clippy::unwrap_used)]

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;
use std::process::Command;

use serde_json::Value;
use tipstaff_testing::skipped;

/// Licences that a program under MIT or Apache-2.0 may be built of.
const LICENCES: [&str; 10] = [
    "MIT",
    "Apache-2.0",
    "BSD-2-Clause",
    "BSD-3-Clause",
    "ISC",
    "Zlib",
    "Unicode-3.0",
    "Unlicense",
    "0BSD",
    "BSL-1.0",
];
/// Crates of which there are two versions, and why that is so.
const TWICE: [(&str, &str); 1] =
    [("syn", "netlink-packet-route reads bytes by zerocopy, whose macros are still on the second")];

/// The platform that this was built for, whose crates are there.
fn host() -> String {
    let output = Command::new("rustc").arg("-vV").output().unwrap();
    let told = String::from_utf8(output.stdout).unwrap();
    told.lines().find_map(|line| line.strip_prefix("host: ")).unwrap().to_owned()
}

/// What the release binary is built of, without what only tests need; `None` on a machine that
/// cannot build it, where a test from elsewhere runs (`lab/run`).
fn packages() -> Option<Vec<Value>> {
    if !Path::new(env!("CARGO")).exists() {
        skipped("what the program is built of was", &"there is no cargo here");
        return None;
    }
    let output = Command::new(env!("CARGO"))
        .args(["metadata", "--format-version", "1", "--locked", "--offline"])
        .args(["--filter-platform", host().as_str()])
        .current_dir(env!("CARGO_MANIFEST_DIR"))
        .output()
        .unwrap();
    let told = String::from_utf8_lossy(&output.stderr).into_owned();
    assert!(output.status.success(), "{told}");
    let all: Value = serde_json::from_slice(&output.stdout).unwrap();
    let text = |value: &Value| value.as_str().unwrap().to_owned();
    let mut needs: BTreeMap<String, Vec<String>> = BTreeMap::new();
    for node in all["resolve"]["nodes"].as_array().unwrap() {
        let used = node["deps"].as_array().unwrap().iter().filter(|dependency| {
            let kinds = dependency["dep_kinds"].as_array().unwrap();
            kinds.iter().any(|kind| kind["kind"] != "dev")
        });
        needs.insert(text(&node["id"]), used.map(|d| text(&d["pkg"])).collect());
    }
    let packages = all["packages"].as_array().unwrap();
    let root = packages.iter().find(|p| p["name"] == "tipstaff").unwrap();
    let (mut met, mut open) = (BTreeSet::new(), vec![text(&root["id"])]);
    while let Some(id) = open.pop() {
        if met.insert(id.clone()) {
            open.extend(needs[&id].iter().cloned());
        }
    }
    let met = packages.iter().filter(|p| met.contains(p["id"].as_str().unwrap()));
    Some(met.cloned().collect())
}

#[test]
fn licences_go_with_ours() {
    let may = |licence: &str| {
        // One of several is enough; all of several must be.
        licence.replace('/', " OR ").split(" OR ").any(|one| {
            one.trim_matches(['(', ')', ' ']).split(" AND ").all(|each| {
                let plain = each.split(" WITH ").next().unwrap().trim_matches(['(', ')', ' ']);
                LICENCES.contains(&plain)
            })
        })
    };
    assert!(may("MIT/Apache-2.0") && may("(MIT OR GPL-3.0) AND X") && !may("GPL-3.0-only"));
    let Some(packages) = packages() else { return };
    assert!(packages.len() > 40);
    let wrong: Vec<String> = packages
        .iter()
        .filter(|p| !p["license"].as_str().is_some_and(may))
        .map(|p| format!("{}: {}", p["name"], p["license"]))
        .collect();
    assert!(wrong.is_empty(), "{wrong:#?}");
}

#[test]
fn there_is_one_version_of_each_crate() {
    let mut versions: BTreeMap<String, Vec<String>> = BTreeMap::new();
    let Some(packages) = packages() else { return };
    for package in packages {
        let name = package["name"].as_str().unwrap().to_owned();
        versions.entry(name).or_default().push(package["version"].to_string());
    }
    let known = |name: &str| TWICE.iter().any(|(twice, _)| *twice == name);
    versions.retain(|name, all| all.len() > 1 && !known(name));
    assert!(versions.is_empty(), "{versions:#?}");
}

#[test]
fn none_needs_a_later_compiler_than_we_say() {
    let number = |text: &str| -> Vec<u32> { text.split('.').map(|n| n.parse().unwrap()).collect() };
    let Some(packages) = packages() else { return };
    let own = packages.iter().find(|p| p["name"] == "tipstaff").unwrap();
    let own = number(own["rust_version"].as_str().unwrap());
    let later: Vec<String> = packages
        .iter()
        .filter(|p| p["rust_version"].as_str().is_some_and(|needs| number(needs) > own))
        .map(|p| format!("{} needs {}", p["name"], p["rust_version"]))
        .collect();
    assert!(later.is_empty(), "{later:#?}");
}
