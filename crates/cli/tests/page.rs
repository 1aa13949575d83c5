//! The page of `reach --html`, in a browser: Debian's Chromium, playwright-core to lead it and
//! axe-core to look for what keeps people out. `.ci/run` puts both below target/.

#![allow(clippy::unwrap_used)]

use std::fs;
use std::path::{Path, PathBuf};
use std::process::Command;
use std::time::Instant;

use serde_json::{Value, json};
use tipstaff_testing::skipped;

#[path = "common/desk.rs"]
mod desk;

use desk::Desk;

const ORDERS: &str = include_str!("../demo/orders.toml");
/// Bytes that the page of a large report takes at most.
const MOST: usize = 500_000;

fn on_path(name: &str) -> Option<PathBuf> {
    let path = std::env::var_os("PATH")?;
    std::env::split_paths(&path).map(|folder| folder.join(name)).find(|file| file.exists())
}

/// A report of 500 ports as 12 sources meet them: those of the demo's, again and again. Every
/// tenth port is like the one before it.
fn large(report: &Value) -> Value {
    let mut large = report.clone();
    let source = |n: usize| json!({ "from": "outside", "source": format!("203.0.113.{n}") });
    large["vantages"] = (1..=12).map(source).collect();
    let cells: Vec<Value> = report["rows"]
        .as_array()
        .unwrap()
        .iter()
        .flat_map(|row| row["cells"].as_array().unwrap().clone())
        .collect();
    let row = |n: usize| {
        let alike = n - usize::from(n % 10 == 9);
        let cells = (0..12).map(|at| {
            let mut cell = cells[(alike * 7 + at) % cells.len()].clone();
            cell["observed"]["evidence"] = format!("a reset in {}.{at} ms", n % 9).into();
            cell
        });
        let program = json!([format!("plated-{alike}")]);
        json!({ "subject": format!("tcp/{}", 7_000 + n), "programs": program, "heard": true,
                "cells": cells.collect::<Vec<_>>() })
    };
    large["rows"] = (0..500).map(row).collect();
    large["rules"] = json!([]);
    large
}

#[test]
fn a_large_page_is_light_and_keeps_nobody_out() {
    let desk = Desk::new(ORDERS);
    let report: Value =
        serde_json::from_slice(&desk.run(&["reach", "--from-orders", "--json"]).stdout).unwrap();
    fs::write(desk.path().join("large.json"), large(&report).to_string()).unwrap();
    let begin = Instant::now();
    let made = desk.run(&["reach", "merge", "large.json", "--html", "page.html"]);
    let took = begin.elapsed();
    let page = fs::read_to_string(desk.path().join("page.html"));
    let page = page.unwrap_or_else(|_| panic!("{}", String::from_utf8_lossy(&made.stderr)));
    assert!(page.len() <= MOST, "{} bytes", page.len());
    assert_eq!(page.matches("<tr><th scope=\"row\">tcp/7").count(), 450);

    let modules = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../target/node_modules");
    let chromium = on_path("chromium");
    let (Some(node), Some(chromium), true) =
        (on_path("node"), chromium, modules.join("axe-core").exists())
    else {
        skipped("the page in a browser was", &"it needs node, chromium and target/node_modules");
        return;
    };
    let checked = Command::new(node)
        .arg(Path::new(env!("CARGO_MANIFEST_DIR")).join("tests/page/check.mjs"))
        .args([&chromium, &modules.canonicalize().unwrap(), &desk.path().join("page.html")])
        .output()
        .unwrap();
    assert!(checked.status.success(), "{}", String::from_utf8_lossy(&checked.stderr));
    let seen: Value = serde_json::from_slice(&checked.stdout).unwrap();
    println!("made in {took:.0?}, drawn in {} ms, {} bytes", seen["drawn"], page.len());
    assert_eq!(seen["violations"], json!([]), "{seen:#}");
    assert_eq!((&seen["faults"], &seen["asked"]), (&json!([]), &json!(1)), "{seen:#}");
    assert_eq!((&seen["before"], &seen["stays"]), (&json!(0), &json!(true)), "{seen:#}");
    assert!(seen["evidence"].as_str().unwrap().contains("meant"), "{seen:#}");
    assert_eq!((&seen["folded"], &seen["unfolded"]), (&json!(450), &json!(451)), "{seen:#}");
    assert_eq!(seen["found"], json!(1), "{seen:#}");
}
