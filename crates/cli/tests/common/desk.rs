//! The built program, run as an ordinary account on files in a temporary folder.

#![allow(dead_code)]

use std::fs;
use std::path::Path;
use std::process::Output;

use assert_cmd::Command;
use tempfile::TempDir;

/// A folder with the demo's orders, and the program run in it.
pub struct Desk {
    folder: TempDir,
}

impl Desk {
    pub fn new(orders: &str) -> Self {
        let folder = tempfile::tempdir().unwrap();
        fs::write(folder.path().join("orders.toml"), orders).unwrap();
        Self { folder }
    }

    pub fn path(&self) -> &Path {
        self.folder.path()
    }

    pub fn run(&self, arguments: &[&str]) -> Output {
        self.run_with(arguments, &[])
    }

    /// The same with further variables.
    pub fn run_with(&self, arguments: &[&str], variables: &[(&str, &str)]) -> Output {
        let mut command = Command::cargo_bin("tipstaff").unwrap();
        command.current_dir(self.path()).env_clear().env("NO_COLOR", "1");
        command
            .env("TIPSTAFF_RUN", self.path().join("run"))
            .env("TIPSTAFF_HISTORY", self.path().join("history"))
            .env("TIPSTAFF_LOG", self.path().join("decisions"));
        command.env("TIPSTAFF_ORDERS", "orders.toml").envs(variables.iter().copied());
        command.args(arguments).timeout(std::time::Duration::from_secs(60)).output().unwrap()
    }

    /// stdout and then stderr, for a snapshot.
    pub fn text(&self, arguments: &[&str]) -> String {
        self.text_with(arguments, &[])
    }

    /// The same with further variables.
    pub fn text_with(&self, arguments: &[&str], variables: &[(&str, &str)]) -> String {
        let output = self.run_with(arguments, variables);
        let code = output.status.code().unwrap();
        let text = |bytes: &[u8]| String::from_utf8(bytes.to_vec()).unwrap();
        format!("{}{}(exit code {code})", text(&output.stdout), text(&output.stderr))
    }

    pub fn json(&self, arguments: &[&str]) -> serde_json::Value {
        let output = self.run(&[arguments, &["--json"]].concat());
        serde_json::from_slice(&output.stdout).unwrap()
    }
}
