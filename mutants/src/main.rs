//! Builds all mutants that `cargo mutants --list --json` names into one program, and lets each
//! meet the tests of `tipstaff-core` that come by it. `mutants/run` starts it.
//!
//! - [`listed`]: the mutants, as they are listed.
//! - [`built_in`]: a source file with all of its mutants in it, each behind its number.
//! - [`tree`]: a copy of the project with such files, and what of it compiles.
//! - [`met`]: the tests, which mutants each comes by, and which mutants live.

mod built_in;
mod listed;
mod met;
mod tree;

use std::collections::BTreeSet;
use std::fs;
use std::path::Path;

use anyhow::{Context, Result};

use listed::Mutant;

/// Everything is kept here, from the project's root.
const FOLDER: &str = "target/mutants";

fn main() -> Result<()> {
    let again = std::env::args().nth(1).as_deref() == Some("--again");
    let folder = Path::new(FOLDER);
    let mut mutants = listed::read(&folder.join("listed.json"))?;
    let lived = folder.join("lived.txt");
    if again {
        let before = fs::read_to_string(&lived).context("nothing lived the last time")?;
        let before: BTreeSet<&str> = before.lines().collect();
        mutants.retain(|mutant| before.contains(mutant.name.as_str()));
    }
    let all = mutants.len();
    let tree = tree::Tree::copy(Path::new("."), &folder.join("tree"))?;
    let built = tree.build(&mutants)?;
    let of = |numbers: &BTreeSet<u32>| -> Vec<&Mutant> {
        numbers.iter().map(|number| &mutants[*number as usize - 1]).collect()
    };
    println!(
        "{all} mutants: {} built in, {} not built in, {} do not compile",
        built.numbers.len(),
        built.left_out.len(),
        built.misfits.len()
    );
    for (what, numbers) in [("left-out", &built.left_out), ("misfits", &built.misfits)] {
        let names: Vec<&str> = of(numbers).iter().map(|mutant| mutant.name.as_str()).collect();
        fs::write(folder.join(format!("{what}.txt")), names.join("\n") + "\n")?;
    }
    let name = |number: u32| mutants[number as usize - 1].name.as_str();
    let living = met::meet(&tree, &built, |number| println!("lives: {}", name(number)))?;
    let names: Vec<&str> = of(&living).iter().map(|mutant| mutant.name.as_str()).collect();
    fs::write(&lived, names.join("\n") + "\n")?;
    println!("{} met, {} live:", built.numbers.len() - living.len(), living.len());
    names.iter().for_each(|name| println!("  {name}"));
    Ok(())
}
