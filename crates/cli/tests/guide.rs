//! docs/jobs.md: what its commands print is what they print, in the order of the page.
//! docs/orders.md: every key that the reader takes is there. `TIPSTAFF_UPDATE=1` writes both anew.

#![allow(clippy::unwrap_used)]

use std::fs;
use std::path::Path;

#[path = "common/desk.rs"]
mod desk;

use desk::Desk;
use tipstaff_core::orders::Code;

const ORDERS: &str = include_str!("../demo/orders.toml");

/// A block of a page that was run: its commands, each with what it printed.
fn played(desk: &Desk, block: &str) -> String {
    let commands = block.lines().filter_map(|line| line.strip_prefix("$ "));
    let mut text = String::new();
    for command in commands {
        let words = shell_words::split(command).unwrap();
        let words: Vec<&str> = words.iter().map(String::as_str).collect();
        assert_eq!(words[0], "tipstaff", "{command}");
        let output = desk.run(&words[1..]);
        let told = String::from_utf8([output.stdout, output.stderr].concat()).unwrap();
        let lines = told.trim_matches('\n').lines().map(str::trim_end);
        let told: Vec<&str> = lines.collect();
        text.push_str(&format!("$ {command}\n{}\n\n", told.join("\n")));
    }
    format!("{}\n", text.trim_end())
}

#[test]
fn the_commands_of_the_guide_print_what_it_says() {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/jobs.md");
    let page = fs::read_to_string(&path).unwrap();
    let desk = Desk::new(ORDERS);
    fs::write(desk.path().join("before.toml"), ORDERS).unwrap();
    let mut parts = page.split("```console\n");
    let mut new = parts.next().unwrap().to_owned();
    let mut blocks = 0;
    for part in parts {
        let (block, rest) = part.split_once("```").unwrap();
        new.push_str(&format!("```console\n{}```{rest}", played(&desk, block)));
        blocks += 1;
    }
    assert!(blocks > 8, "{blocks} blocks");
    if std::env::var_os("TIPSTAFF_UPDATE").is_some() {
        fs::write(&path, new).unwrap();
        return;
    }
    // Where this machine's own addresses come in, they are the page's business only once.
    assert_eq!(page, new, "TIPSTAFF_UPDATE=1 cargo test -p tipstaff --test guide");
}

#[test]
fn the_page_of_the_orders_has_every_key() {
    ends_with("orders.md", &tipstaff_core::orders::reference());
}

#[test]
fn the_page_of_the_findings_has_every_kind() {
    let kinds = Code::ALL.map(|code| {
        let severity = format!("{:?}", code.severity()).to_lowercase();
        format!("\n### {}\n\n{severity} · {}\n", code.name(), code.why())
    });
    ends_with("findings.md", &kinds.concat());
}

/// What a page of docs/ says behind its mark.
fn ends_with(name: &str, made: &str) {
    const BEGIN: &str = "<!-- What follows is made by tests/guide.rs. -->\n";
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs").join(name);
    let page = fs::read_to_string(&path).unwrap();
    let (before, _) = page.split_once(BEGIN).unwrap();
    let new = format!("{before}{BEGIN}{made}");
    if std::env::var_os("TIPSTAFF_UPDATE").is_some() {
        fs::write(&path, new).unwrap();
        return;
    }
    assert_eq!(page, new, "TIPSTAFF_UPDATE=1 cargo test -p tipstaff --test guide");
}
