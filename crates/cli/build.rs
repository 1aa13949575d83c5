//! Tells the program from which commit it was built.

use std::fs;
use std::path::Path;

fn main() {
    let git = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../.git");
    println!("cargo:rerun-if-changed=build.rs");
    for name in ["HEAD", "packed-refs", "refs/heads"] {
        let path = git.join(name);
        if path.exists() {
            println!("cargo:rerun-if-changed={}", path.display());
        }
    }
    let commit = commit(&git).unwrap_or_else(|| "unknown".to_owned());
    println!("cargo:rustc-env=TIPSTAFF_COMMIT={}", commit.get(..12).unwrap_or(&commit));
}

/// What HEAD leads to (gitrepository-layout(5)).
fn commit(git: &Path) -> Option<String> {
    let head = fs::read_to_string(git.join("HEAD")).ok()?;
    let Some(name) = head.trim().strip_prefix("ref: ") else { return Some(head.trim().to_owned()) };
    if let Ok(commit) = fs::read_to_string(git.join(name)) {
        return Some(commit.trim().to_owned());
    }
    let packed = fs::read_to_string(git.join("packed-refs")).ok()?;
    packed.lines().find_map(|line| line.strip_suffix(name)?.split(' ').next().map(str::to_owned))
}
