//! A copy of the project with mutants in it, and what of it compiles.

use std::collections::{BTreeMap, BTreeSet};
use std::fs;
use std::io::{BufRead, BufReader};
use std::ops::Range;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use anyhow::{Context, Result, bail, ensure};
use serde::Deserialize;

use crate::built_in;
use crate::listed::Mutant;

/// What the copy's code asks which mutant it is to be. Without a number it notes by whom it
/// was asked, once each, so that it is known which tests come by where.
const ASKED: &str = r#"//! Which mutant this is.
use std::io::Write as _;
use std::sync::OnceLock;
use std::sync::atomic::{AtomicBool, Ordering};
static SEEN: [AtomicBool; MANY] = [const { AtomicBool::new(false) }; MANY];
/// The number of the mutant; `place`: who asks.
pub fn now(place: u32) -> u32 {
    static NUMBER: OnceLock<Option<u32>> = OnceLock::new();
    let number = NUMBER.get_or_init(|| std::env::var("MUTANT").ok()?.parse().ok());
    number.unwrap_or_else(|| {
        if !SEEN[place as usize].swap(true, Ordering::Relaxed) {
            let path = std::env::var("MUTANTS_SEEN").unwrap_or("/dev/null".into());
            let mut file = std::fs::File::options().create(true).append(true).open(path).unwrap();
            file.write_all(format!("{place}\n").as_bytes()).unwrap();
        }
        0
    })
}
"#;

/// The copy.
pub struct Tree {
    pub root: PathBuf,
}

/// What was built.
pub struct Built {
    /// The numbers of the mutants in it.
    pub numbers: BTreeSet<u32>,
    /// By which number each asks.
    pub places: BTreeMap<u32, u32>,
    /// For which no way in is known.
    pub left_out: BTreeSet<u32>,
    /// Which do not compile, alone or beside the others.
    pub misfits: BTreeSet<u32>,
    /// The test programs.
    pub programs: Vec<PathBuf>,
}

/// A line of what cargo tells with `--message-format json`.
#[derive(Deserialize)]
struct Told {
    message: Option<Message>,
    executable: Option<PathBuf>,
}

#[derive(Deserialize)]
struct Message {
    level: String,
    rendered: Option<String>,
    spans: Vec<Place>,
    #[serde(default)]
    children: Vec<Message>,
}

#[derive(Deserialize)]
struct Place {
    file_name: String,
    byte_start: usize,
    byte_end: usize,
    is_primary: bool,
}

type Owners = BTreeMap<PathBuf, Vec<(Range<usize>, Vec<u32>)>>;

impl Tree {
    /// Copies what git knows or would know.
    pub fn copy(project: &Path, to: &Path) -> Result<Self> {
        let listed = Command::new("git")
            .args(["ls-files", "-z", "--cached", "--others", "--exclude-standard"])
            .current_dir(project)
            .output()?;
        ensure!(listed.status.success(), "git lists no files");
        for name in String::from_utf8(listed.stdout)?.split_terminator('\0') {
            let (from, to) = (project.join(name), to.join(name));
            let Ok(bytes) = fs::read(&from) else { continue };
            // What is the same keeps its time, so that little is built anew.
            if fs::read(&to).is_ok_and(|there| there == bytes) {
                continue;
            }
            fs::create_dir_all(to.parent().context("a file has no folder")?)?;
            fs::write(to, bytes)?;
        }
        Ok(Self { root: fs::canonicalize(to)? })
    }

    /// Builds as many of the mutants as compile beside each other.
    pub fn build(&self, mutants: &[Mutant]) -> Result<Built> {
        let all: BTreeSet<u32> = (1..=u32::try_from(mutants.len())?).collect();
        let mut misfits = BTreeSet::new();
        loop {
            let tried: BTreeSet<u32> = all.difference(&misfits).copied().collect();
            let (owners, numbers) = self.write(mutants, &tried)?;
            let wrong = self.misfits_of(&owners)?;
            println!("{} mutants built in, {} of them do not compile", numbers.len(), wrong.len());
            if wrong.is_empty() {
                let mut places = BTreeMap::new();
                for (_, of) in owners.values().flatten() {
                    places.extend(of.iter().map(|number| (*number, of[0])));
                }
                let left_out = tried.difference(&numbers).copied().collect();
                let programs = self.programs()?;
                return Ok(Built { numbers, places, left_out, misfits, programs });
            }
            misfits.extend(wrong);
        }
    }

    /// Writes the sources with these of the mutants.
    fn write(&self, mutants: &[Mutant], tried: &BTreeSet<u32>) -> Result<(Owners, BTreeSet<u32>)> {
        let mut files: BTreeMap<&Path, Vec<built_in::Numbered<'_>>> = BTreeMap::new();
        for (mutant, number) in mutants.iter().zip(1..) {
            let of_file = files.entry(&mutant.file).or_default();
            of_file.extend(tried.contains(&number).then_some((number, mutant)));
        }
        let (mut owners, mut numbers) = (Owners::new(), BTreeSet::new());
        for (path, here) in files {
            let source = fs::read_to_string(path)?;
            let built =
                built_in::build(&source, &here).with_context(|| path.display().to_string())?;
            fs::write(self.root.join(path), &built.text)?;
            numbers.extend(built.numbers);
            owners.insert(path.to_owned(), built.owners);
        }
        let core = Path::new("crates/core/src");
        let many = (mutants.len() + 1).to_string();
        fs::write(self.root.join(core).join("mutants.rs"), ASKED.replace("MANY", &many))?;
        let library = fs::read_to_string(core.join("lib.rs"))?;
        fs::write(self.root.join(core).join("lib.rs"), library + "\npub mod mutants;\n")?;
        Ok((owners, numbers))
    }

    fn cargo(&self, words: &[&str]) -> Result<(Vec<Told>, bool)> {
        let mut cargo = Command::new("cargo")
            .args(words)
            .args(["-p", "tipstaff-core", "--features", "arbitrary", "--locked", "-q"])
            .args(["--message-format", "json"])
            .current_dir(&self.root)
            .env("CARGO_TARGET_DIR", self.root.with_file_name("build"))
            .env("RUSTFLAGS", "--cap-lints allow")
            // Whoever lives meets all its tests: they should be quick.
            .env("CARGO_PROFILE_DEV_OPT_LEVEL", "1")
            .env("CARGO_PROFILE_DEV_DEBUG", "0")
            .stdout(Stdio::piped())
            .stderr(Stdio::null())
            .spawn()?;
        let lines = BufReader::new(cargo.stdout.take().context("cargo has no output")?).lines();
        let told: Vec<Told> =
            lines.map_while(Result::ok).filter_map(|l| serde_json::from_str(&l).ok()).collect();
        Ok((told, cargo.wait()?.success()))
    }

    /// The mutants in whose text the compiler finds errors.
    fn misfits_of(&self, owners: &Owners) -> Result<BTreeSet<u32>> {
        let (told, compiles) = self.cargo(&["check", "--lib"])?;
        let mut wrong = BTreeSet::new();
        if compiles {
            return Ok(wrong);
        }
        let errors = told.into_iter().filter_map(|told| told.message);
        let errors: Vec<Message> = errors.filter(|message| message.level == "error").collect();
        for error in &errors {
            let mut spans: Vec<&Place> = error.spans.iter().collect();
            spans.extend(error.children.iter().flat_map(|child| &child.spans));
            spans.sort_by_key(|span| !span.is_primary);
            let guilty = spans.iter().find_map(|span| owner(owners, span));
            let left_open = || error.spans.iter().find_map(|span| arms_behind(owners, span));
            match guilty.or_else(left_open) {
                Some(numbers) => wrong.extend(numbers),
                None if error.spans.is_empty() => {}
                None => println!("nobody's: {}", error.rendered.as_deref().unwrap_or_default()),
            }
        }
        if wrong.is_empty() {
            bail!("it does not compile, and no mutant is the cause");
        }
        Ok(wrong)
    }

    /// Builds the tests.
    fn programs(&self) -> Result<Vec<PathBuf>> {
        let (told, compiles) = self.cargo(&["test", "--no-run", "--lib", "--tests"])?;
        ensure!(compiles, "the tests do not compile");
        Ok(told.into_iter().filter_map(|told| told.executable).collect())
    }
}

/// The arms behind a `match` that is not exhaustive: guards do not count there. The first
/// ones, whosever they are; what is still wrong is found the next time.
fn arms_behind(owners: &Owners, place: &Place) -> Option<Vec<u32>> {
    let behind = owners.get(Path::new(&place.file_name))?.iter();
    let mut behind = behind.filter(|(range, _)| range.start >= place.byte_end);
    behind.next().map(|(_, of)| of.clone())
}

/// Whose text a place is in, or else whose is around it most closely.
fn owner(owners: &Owners, place: &Place) -> Option<Vec<u32>> {
    let of_file = owners.get(Path::new(&place.file_name))?;
    let within = |range: &Range<usize>| {
        range.start <= place.byte_start && place.byte_start < range.end
            || place.byte_start <= range.start && range.end <= place.byte_end
    };
    of_file.iter().find(|(range, _)| within(range)).map(|(_, of)| of.clone())
}
