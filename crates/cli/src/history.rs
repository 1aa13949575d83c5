//! What was put in force on this machine, by whom and why: one file a
//! revision, below the history folder. Written beside and renamed, so that
//! each is there whole or not at all.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::time::Duration;

use serde::{Deserialize, Serialize};
use tipstaff_core::orders::{OnFailure, read_all};
use tipstaff_gate::lock::{Lock, PATIENCE};
use tipstaff_gate::{GateError, Record};
use tipstaff_host::files::{self, Access};

use crate::arguments::Common;
use crate::failure::Failure;
use crate::shape::{self, WrongSchema};

/// One post.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Revision {
    /// `tipstaff.kept-revision/1`; a file of an earlier version says nothing.
    #[serde(default)]
    pub schema: Option<String>,
    /// Counted from 1, never used twice as long as the history lives.
    pub number: u32,
    /// Why, as `--reason` says.
    #[serde(default)]
    pub reason: Option<String>,
    /// The address that it was done from, where it was done remotely.
    #[serde(default)]
    pub from: Option<String>,
    /// Whether it was meant to stay: a trial is not before it is confirmed.
    pub kept: bool,
    /// The orders, who posted them and when.
    pub record: Record,
}

/// The schema of the files here.
const SCHEMA: &str = "kept-revision";

/// What a start has to know of the last permanent post when the history is damaged:
/// kept apart from it, twice.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct LastPost {
    /// `tipstaff.last-post/1`.
    pub schema: String,
    /// Its revision.
    pub revision: u32,
    /// What its orders say of a start that fails.
    pub on_failure: OnFailure,
}

/// The schema of a [`LastPost`].
const LAST_POST: &str = "last-post";
/// Where the administrator's own files are: on another file system, often, than the
/// history.
const BESIDE_ORDERS: &str = "/etc/tipstaff";

/// A revision holds orders and all that they name, as JSON.
const MOST: u64 = 8 * files::MOST_TEXT;

/// The history of a machine, or of a network namespace on it.
pub struct History {
    folder: PathBuf,
    /// The files of the [`LastPost`].
    notes: [PathBuf; 2],
}

/// A revision that is written but not yet part of the history.
pub struct Prepared<'h> {
    history: &'h History,
    beside: files::Beside,
    revision: Revision,
    /// Held until it is; nobody else takes the number.
    _lock: Lock,
}

impl History {
    /// The history that a command works with. Nothing is made yet.
    pub fn from_options(common: &Common) -> Self {
        Self::below(&common.history, &common.of_namespace())
    }

    /// The history below a directory; `of`: [`Common::of_namespace`].
    pub fn below(history: &Path, of: &str) -> Self {
        let note = format!("last-post{of}.json");
        // One beside the revisions, one on another file system or at least in another place.
        let apart = match history == Path::new(Common::HISTORY) {
            true => Path::new(BESIDE_ORDERS).join(&note),
            false => {
                let mut apart = history.as_os_str().to_owned();
                apart.push(format!(".{note}"));
                apart.into()
            }
        };
        Self { folder: history.join(format!("revisions{of}")), notes: [history.join(note), apart] }
    }

    fn unwritable(&self) -> impl Fn(io::Error) -> Failure + use<> {
        let path = self.folder.clone();
        move |source| Failure::Unwritable { path: path.clone(), source }
    }

    fn unreadable(&self) -> impl Fn(io::Error) -> Failure + use<> {
        let path = self.folder.clone();
        move |source| Failure::Unreadable { path: path.clone(), source }
    }

    /// Held while the history is changed. Only its owner can read it: who can
    /// write here decides what is in force after a restart.
    fn lock(&self, patience: Duration) -> Result<Lock, Failure> {
        let made = files::make_folder(files::folder(&self.folder), 0o700)
            .and_then(|()| files::make_folder(&self.folder, 0o700));
        made.map_err(self.unwritable())?;
        Ok(Lock::wait_for(&self.folder.join("lock"), patience)?)
    }

    fn path(&self, number: u32) -> PathBuf {
        self.folder.join(format!("{number:06}.json"))
    }

    fn numbers(&self) -> Result<Vec<u32>, Failure> {
        let entries = match fs::read_dir(&self.folder) {
            Ok(entries) => entries,
            Err(e) if e.kind() == io::ErrorKind::NotFound => return Ok(Vec::new()),
            Err(e)
                if e.kind() == io::ErrorKind::PermissionDenied
                    && !nix::unistd::geteuid().is_root() =>
            {
                return Err(GateError::NotRoot.into());
            }
            Err(e) => return Err(self.unreadable()(e)),
        };
        let mut numbers: Vec<u32> = entries
            .flatten()
            .filter_map(|entry| {
                entry.file_name().to_str()?.strip_suffix(".json")?.parse::<u32>().ok()
            })
            .collect();
        numbers.sort_unstable();
        Ok(numbers)
    }

    fn read(&self, number: u32) -> Result<Option<Revision>, Failure> {
        let path = self.path(number);
        let unreadable = |source| Failure::Unreadable { path: path.clone(), source };
        let mut file = match files::open(&path) {
            Ok(file) => file,
            Err(e) if e.kind() == io::ErrorKind::NotFound => return Ok(None),
            Err(e) => return Err(unreadable(e)),
        };
        if let Some(distrust) = file.distrust() {
            return Err(distrust.into());
        }
        let text = file.text(MOST).map_err(unreadable)?;
        match shape::check(&text, SCHEMA) {
            // An earlier version's.
            Ok(()) | Err(WrongSchema::Unnamed) => {}
            Err(e) => return Err(unreadable(io::Error::other(e))),
        }
        serde_json::from_str(&text).map(Some).map_err(|e| unreadable(io::Error::other(e)))
    }

    /// The newest revision with this very record; `None`: it is gone, or cannot be read.
    pub fn number_of(&self, record: &Record) -> Option<u32> {
        let numbers = self.numbers().ok()?.into_iter().rev();
        let mut read = numbers.filter_map(|number| self.read(number).ok().flatten());
        read.find(|revision| revision.record == *record).map(|revision| revision.number)
    }

    /// All of them, the oldest first.
    pub fn all(&self) -> Result<Vec<Revision>, Failure> {
        let numbers = self.numbers()?;
        let read = numbers.into_iter().map(|number| self.read(number));
        read.filter_map(Result::transpose).collect()
    }

    /// All that can be read, the oldest first: after a crash some may be broken.
    pub fn readable(&self) -> Vec<Revision> {
        let numbers = self.numbers().unwrap_or_default();
        numbers.into_iter().filter_map(|number| self.read(number).ok().flatten()).collect()
    }

    /// One of them.
    pub fn get(&self, number: u32) -> Result<Revision, Failure> {
        self.read(number)?.ok_or_else(|| Failure::Argument {
            message: format!("there is no revision {number}"),
            help: "See them with `tipstaff history`.".into(),
        })
    }

    /// The last one that was meant to stay.
    pub fn last_kept(&self) -> Result<Option<Revision>, Failure> {
        for number in self.numbers()?.into_iter().rev() {
            if let Some(revision) = self.read(number)?.filter(|revision| revision.kept) {
                return Ok(Some(revision));
            }
        }
        Ok(None)
    }

    /// What is known of the last permanent post, apart from the revisions.
    pub fn last_post(&self) -> Option<LastPost> {
        self.notes
            .iter()
            .filter_map(|path: &PathBuf| -> Option<LastPost> {
                let mut file = files::open(path).ok()?;
                // Somebody else's word is none.
                if file.distrust().is_some() {
                    return None;
                }
                let text = file.text(MOST).ok()?;
                shape::check(&text, LAST_POST).ok()?;
                serde_json::from_str(&text).ok()
            })
            .max_by_key(|note| note.revision)
    }

    /// Notes a permanent post. Where that cannot be written the revision itself tells.
    fn note(&self, revision: &Revision) {
        let orders = read_all(revision.record.sheets());
        let note = LastPost {
            schema: shape::id(LAST_POST),
            revision: revision.number,
            on_failure: orders.map(|orders| orders.boot.on_failure).unwrap_or_default(),
        };
        let Ok(text) = serde_json::to_vec(&note) else { return };
        for path in &self.notes {
            let _ = files::make_folder(files::folder(path), 0o755)
                .and_then(|()| files::replace(path, &text, Access::Mode(0o600)));
        }
    }

    /// Writes a revision down before it is put in force, so that a full disk
    /// stops the post and not its memory. It is part of the history once it is
    /// [`Prepared::done`].
    pub fn prepare(
        &self,
        record: &Record,
        reason: Option<&str>,
        kept: bool,
        patience: Duration,
    ) -> Result<Prepared<'_>, Failure> {
        let lock = self.lock(patience)?;
        let number = self.numbers()?.last().map_or(1, |last| last + 1);
        let revision = Revision {
            schema: Some(shape::id(SCHEMA)),
            number,
            reason: reason.map(str::to_owned),
            from: tipstaff_host::shell::find().map(|shell| shell.from.to_string()),
            kept,
            record: record.clone(),
        };
        let beside = self.write_beside(&revision)?;
        Ok(Prepared { history: self, beside, revision, _lock: lock })
    }

    fn write_beside(&self, revision: &Revision) -> Result<files::Beside, Failure> {
        let text = serde_json::to_vec_pretty(revision);
        let text = text.map_err(|e| self.unwritable()(e.into()))?;
        files::write_beside(&self.path(revision.number), &text, Access::Mode(0o600))
            .map_err(self.unwritable())
    }

    /// A trial was confirmed: the revision with these orders stays.
    pub fn keep(&self, record: &Record) -> Result<Option<u32>, Failure> {
        let _lock = self.lock(PATIENCE)?;
        for number in self.numbers()?.into_iter().rev() {
            let Some(mut revision) = self.read(number)? else { continue };
            if revision.record == *record {
                revision.kept = true;
                self.write_beside(&revision)?.replace().map_err(self.unwritable())?;
                self.note(&revision);
                return Ok(Some(number));
            }
        }
        Ok(None)
    }

    /// Forgets all but the newest `most`, and never the last that was kept.
    /// Which were forgotten.
    pub fn prune(&self, most: usize) -> Result<Vec<u32>, Failure> {
        let _lock = self.lock(PATIENCE)?;
        let numbers = self.numbers()?;
        let last_kept = self.last_kept()?.map(|revision| revision.number);
        let old = numbers.len().saturating_sub(most);
        let gone: Vec<u32> =
            numbers[..old].iter().copied().filter(|n| Some(*n) != last_kept).collect();
        for number in &gone {
            fs::remove_file(self.path(*number)).map_err(self.unwritable())?;
        }
        Ok(gone)
    }
}

impl Prepared<'_> {
    /// It is in force: from now on it is part of the history.
    pub fn done(self) -> Result<u32, Failure> {
        let _doing = tracing::info_span!("writing the history").entered();
        self.beside.replace().map_err(self.history.unwritable())?;
        if self.revision.kept {
            self.history.note(&self.revision);
        }
        Ok(self.revision.number)
    }
}

/// The name of the account that works here, or its number.
pub fn account() -> String {
    let own = nix::unistd::geteuid();
    let user = nix::unistd::User::from_uid(own).ok().flatten();
    user.map_or_else(|| own.to_string(), |user| user.name)
}
