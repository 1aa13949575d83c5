//! Hosts that are played by a stand-in for ssh(1), which answers from files.

// Not every test that has this module uses all of it.
#![allow(dead_code)]

use std::fs;
use std::process::Command;

use serde_json::{Value, json};
use tipstaff_core::brief::{Brief, Setting};
use tipstaff_core::orders::{OrdersHash, read};

/// What ssh would do: finds out who is asked for what, and writes what that host answers.
/// `mode` says whether the host has the orders (it is changed by what it is told to do).
const STAND_IN: &str = r#"#!/bin/bash
while [ "$1" != -- ]; do shift; done
host=$2
cd "$FLEET" || exit 9
read -r -N 500 request
say() { local text; read -r -d '' text < "$1"; printf '%s\n' "${text//HOST/$host}"; }
case $host in
  off-*) echo "ssh: connect to host $host port 22: Connection timed out" >&2; exit 255;;
  key-*) echo "Host key verification failed." >&2; exit 255;;
esac
[ -z "$DELAY" ] || read -r -t "$DELAY" <> <(:)
case $request in
  *'"confirm"'*'"--revert"'*) rm -f "$host.trial"; say confirmed;;
  *'"confirm"'*) rm -f "$host.trial"; : > "$host.new"; say confirmed;;
  *'"--check"'*) if [ -e "$host.new" ]; then say same; else say change; fi;;
  *'"--trial"'*) : > "$host.trial"; on_trial=(*.trial); echo ${#on_trial[@]} >> at-once; say posted;;
  *'"tally"'*) say tally;;
  *'"log"'*'"--top"'*) say top;;
  *'"log"'*) say log;;
  *'"rules"'*) say run;;
  *'"reach"'*) case $host in bad-*) say differs;; *) say reached;; esac;;
  *) if [ -e "$host.trial" ]; then say trial; elif [ -e "$host.new" ]; then say new; else say old; fi;;
esac
"#;

/// The program; another build where it is to be measured.
pub fn program() -> std::path::PathBuf {
    let built = assert_cmd::cargo::cargo_bin!("tipstaff").to_path_buf();
    std::env::var_os("TIPSTAFF_PROGRAM").map_or(built, Into::into)
}

pub struct Crowd {
    pub folder: tempfile::TempDir,
}

/// A host's answer, as it goes over the wire.
pub fn answer(exit_code: u8, output: &Value, file: Option<&OrdersHash>) -> String {
    let ran = json!({"exit_code": exit_code, "output": output.to_string(), "errors": ""});
    let clock = jiff::Timestamp::now().as_second();
    let version = env!("CARGO_PKG_VERSION");
    json!({"schema": "tipstaff.fleet-answer/1", "version": version, "host": "HOST",
           "clock": clock, "file": file, "ran": [ran], "refused": null})
    .to_string()
}

impl Crowd {
    /// Hosts with these names, and orders for them.
    pub fn new(names: &[String]) -> Self {
        let folder = tempfile::tempdir().unwrap();
        let at = folder.path();
        let mut text = String::from(
            "version = 1\n[standing]\ninbound = \"deny\"\noutbound = \"allow\"\ntransit = \"deny\"\n\
             [[rules]]\nname = \"shell\"\naction = \"allow\"\ntraffic = \"ssh\"\n",
        );
        for name in names {
            text.push_str(&format!("[[hosts]]\nname = \"{name}\"\n"));
        }
        fs::write(at.join("orders.toml"), &text).unwrap();
        fs::create_dir(at.join("bin")).unwrap();
        tipstaff_testing::executable::written(at.join("bin/ssh"), STAND_IN);
        let orders = read(&text).unwrap();
        let setting = Setting { host: orders.hosts.first(), ..Setting::default() };
        let (list, hash) =
            (Brief::on(&orders, &setting).digest(), OrdersHash::digest(text.as_str()));
        let other = OrdersHash::digest("other orders");
        let state = |state: &str,
                     orders: Option<&OrdersHash>,
                     list: Option<&OrdersHash>,
                     left: Option<u32>| {
            let orders = orders.map(|hash| {
                json!({"from": "in-force", "path": "/etc/tipstaff/orders.toml", "hash": hash,
                       "since": "2026-11-30T01:00:00Z"})
            });
            let state = json!({"schema": "tipstaff.state/1", "state": state, "orders": orders,
                "host": "HOST", "posture": null, "revision": 7, "list": list, "seconds_left": left,
                "drift": [], "edited": null, "restart": {"in_force": true, "why": ""},
                "last_check": null});
            state
        };
        let post = |changed: bool| {
            let words = if changed {
                vec!["+ let in: tcp/22 from anyone, by rule 1 (shell)"]
            } else {
                vec![]
            };
            json!({"schema": "tipstaff.post/1", "changed": changed, "changes_in_words": words,
                "changes_cut_off": false, "against": "orders", "closed": [], "stranded": [],
                "remarks": []})
        };
        let cell = json!({"expected": "silent", "expected_by": "the standing answer inbound",
            "observed": {"outcome": "answers", "how": "wire"}, "why": {"reason": "not-in-force"}});
        let reach = |rows: Value, differences: u32| {
            json!({"schema": "tipstaff.reach/1", "host": "HOST", "gate": "up",
                "orders": {"from": "file", "path": "orders.toml", "hash": hash},
                "at": "2026-11-30T01:00:00Z", "vantages": [{"from": "here"}], "rows": rows,
                "differences": differences, "unknown": 0, "notes": ["seen"], "complete": true})
        };
        let counts = json!({"by": "rule 1 (shell)", "name": "shell", "packets": 5, "bytes": 300,
            "connections": 1, "beyond": 0});
        let tally = json!({"schema": "tipstaff.tally/1", "rows": [counts]});
        let seen = json!({"name": "192.0.2.66", "turned_away": 3, "allowed": 0,
            "first": "2026-11-30T01:00:00Z", "last": "2026-11-30T01:00:00Z"});
        let top = json!({"schema": "tipstaff.log-counts/1", "rows": [seen]});
        let line = json!({"schema": "tipstaff.log/1", "time": "2026-11-30T01:00:00.000000Z",
            "direction": "inbound", "interface": "lan0", "traffic": "tcp/23",
            "source": "192.0.2.66:4242", "destination": "198.51.100.20:23", "program": "/srv/x",
            "verdict": "deny", "rehearsed": false, "by": "the standing answer inbound",
            "rule": "shell", "position": 1, "kind": "standing", "which": "inbound"});
        let row = json!([{"subject": "tcp/23", "programs": [], "heard": false, "cells": [cell]}]);
        for (name, text) in [
            ("old", answer(0, &state("up", Some(&other), Some(&other), None), Some(&other))),
            ("new", answer(0, &state("up", Some(&hash), Some(&list), None), Some(&hash))),
            (
                "trial",
                answer(0, &state("edited", Some(&hash), Some(&list), Some(100)), Some(&other)),
            ),
            ("change", answer(0, &post(true), Some(&other))),
            ("same", answer(0, &post(false), Some(&hash))),
            ("posted", answer(0, &post(true), Some(&other))),
            ("confirmed", answer(0, &json!({"schema": "tipstaff.confirm/1"}), Some(&hash))),
            ("tally", answer(0, &tally, None)),
            ("top", answer(0, &top, None)),
            ("log", answer(0, &line, None)),
            ("run", answer(0, &json!("rules"), None)),
            ("reached", answer(0, &reach(json!([]), 0), Some(&other))),
            ("differs", answer(1, &reach(row, 1), Some(&other))),
        ] {
            fs::write(at.join(name), text).unwrap();
        }
        Self { folder }
    }

    pub fn command(&self, words: &[&str]) -> Command {
        let mut command = Command::new(program());
        let at = self.folder.path();
        let path = std::env::var("PATH").unwrap();
        command.args(words).env("NO_COLOR", "1").env("FLEET", at);
        command.env("PATH", format!("{}:{path}", at.join("bin").display()));
        command.env("TIPSTAFF_ORDERS", at.join("orders.toml"));
        command.env("TIPSTAFF_HISTORY", at.join("history"));
        command
    }

    /// The most hosts that were on trial at one time.
    pub fn most_on_trial(&self) -> usize {
        let told = fs::read_to_string(self.folder.path().join("at-once")).unwrap();
        told.lines().map(|line| line.parse().unwrap()).max().unwrap()
    }

    pub fn has_new(&self, name: &str) -> bool {
        self.folder.path().join(format!("{name}.new")).exists()
    }
}
