//! Which tests come by which mutants, and which mutants no test notices.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};
use std::sync::Mutex;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::thread;
use std::time::{Duration, Instant};

use anyhow::{Context, Result, ensure};

use crate::tree::{Built, Tree};

/// One test of one program.
#[derive(Debug)]
struct Test {
    program: PathBuf,
    name: String,
    took: Duration,
    /// The places that it comes by.
    places: BTreeSet<u32>,
}

/// How a test ended.
#[derive(PartialEq, Eq)]
enum End {
    Passed,
    Failed,
}

/// Lets every mutant meet its tests; returns the numbers of those that live.
///
/// `told` is told of each as soon as it is known to live.
pub fn meet(tree: &Tree, built: &Built, told: impl Fn(u32) + Sync) -> Result<BTreeSet<u32>> {
    let crate_folder = tree.root.join("crates/core");
    let mut tests = Vec::new();
    for program in &built.programs {
        let listed = Command::new(program)
            .args(["--list", "--format", "terse"])
            .current_dir(&crate_folder)
            .output()?;
        let listed = String::from_utf8(listed.stdout)?;
        let names = listed.lines().filter_map(|line| line.strip_suffix(": test"));
        tests.extend(names.map(|name| (program.clone(), name.to_owned())));
    }
    println!("{} tests, each alone", tests.len());
    let mut tests = each(&tests, |(program, name)| {
        let seen = tree.root.with_file_name(format!("seen-{}", name.replace(':', "-")));
        let _ = fs::remove_file(&seen);
        let begin = Instant::now();
        let none = (None, Some(seen.as_path()));
        let end = run(program, name, &crate_folder, none, Duration::from_secs(600))?;
        ensure!(end == End::Passed, "{name} fails without a mutant");
        let took = begin.elapsed();
        let places = fs::read_to_string(&seen).unwrap_or_default();
        let _ = fs::remove_file(&seen);
        let places = places.lines().filter_map(|line| line.parse().ok()).collect();
        Ok(Test { program: program.clone(), name: name.clone(), took, places })
    })?;
    // Whoever is quick is asked first.
    tests.sort_by_key(|test| test.took);
    let mut by_place: BTreeMap<u32, Vec<&Test>> = BTreeMap::new();
    for test in &tests {
        for place in &test.places {
            by_place.entry(*place).or_default().push(test);
        }
    }
    let numbers: Vec<u32> = built.numbers.iter().copied().collect();
    let (begin, done) = (Instant::now(), AtomicUsize::new(0));
    let lives = each(&numbers, |number| {
        let place = built.places.get(number).context("a mutant has no place")?;
        let mut lives = true;
        for test in by_place.get(place).into_iter().flatten() {
            let patience = test.took * 10 + Duration::from_secs(5);
            let mutant = (Some(*number), None);
            if run(&test.program, &test.name, &crate_folder, mutant, patience)? == End::Failed {
                lives = false;
                break;
            }
        }
        if lives {
            told(*number);
        }
        let nth = done.fetch_add(1, Ordering::Relaxed) + 1;
        if nth % 100 == 0 {
            println!("{nth} of {} in {} s", numbers.len(), begin.elapsed().as_secs());
        }
        Ok(lives)
    })?;
    Ok(numbers
        .into_iter()
        .zip(lives)
        .filter_map(|(number, lives)| lives.then_some(number))
        .collect())
}

/// Runs one test, as a mutant, or to see where it comes by. One that does not end has failed.
fn run(
    program: &Path,
    name: &str,
    folder: &Path,
    (mutant, seen): (Option<u32>, Option<&Path>),
    patience: Duration,
) -> Result<End> {
    let mut command = Command::new(program);
    command
        .args(["--exact", name])
        .current_dir(folder)
        .env("INSTA_UPDATE", "no")
        .env("INSTA_WORKSPACE_ROOT", folder.join("../.."))
        .env("PROPTEST_MAX_SHRINK_ITERS", "0")
        .env("PROPTEST_DISABLE_FAILURE_PERSISTENCE", "1")
        .env("CARGO_MANIFEST_DIR", folder)
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .stderr(Stdio::null());
    if let Some(number) = mutant {
        command.env("MUTANT", number.to_string());
    }
    if let Some(seen) = seen {
        command.env("MUTANTS_SEEN", seen);
    }
    let mut child = command.spawn()?;
    let begin = Instant::now();
    loop {
        if let Some(status) = child.try_wait()? {
            return Ok(if status.success() { End::Passed } else { End::Failed });
        }
        if begin.elapsed() > patience {
            child.kill()?;
            child.wait()?;
            return Ok(End::Failed);
        }
        thread::sleep(Duration::from_millis(2));
    }
}

/// Does something with each, on both processors; in their order.
fn each<T: Sync, R: Send>(all: &[T], work: impl Fn(&T) -> Result<R> + Sync) -> Result<Vec<R>> {
    let (next, done) = (AtomicUsize::new(0), Mutex::new(Vec::new()));
    thread::scope(|scope| {
        for _ in 0..thread::available_parallelism().map_or(1, usize::from) {
            scope.spawn(|| {
                while let Some((nth, one)) = {
                    let nth = next.fetch_add(1, Ordering::Relaxed);
                    all.get(nth).map(|one| (nth, one))
                } {
                    let result = work(one);
                    if let Ok(mut done) = done.lock() {
                        done.push((nth, result));
                    }
                }
            });
        }
    });
    let mut done = done.into_inner().unwrap_or_default();
    done.sort_by_key(|(nth, _)| *nth);
    done.into_iter().map(|(_, result)| result).collect()
}
