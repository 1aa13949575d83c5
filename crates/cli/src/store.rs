//! Files that people write: changed under a lock, whole or not at all.

use std::fs;
use std::path::{Path, PathBuf};

use tipstaff_core::orders::edit::EditFault;
use tipstaff_core::orders::{Attachments, Documents, Faults, read_all};
use tipstaff_gate::lock::{Lock, PATIENCE};
use tipstaff_host::files::{self, Access};

use crate::attachments::{self, Written};
use crate::failure::Failure;

/// A file that nobody else edits meanwhile.
pub struct Held {
    path: PathBuf,
    /// Its text.
    pub text: String,
    /// The files that it includes.
    pub attachments: Attachments,
    _lock: Lock,
}

impl Held {
    /// Waits until nobody else edits a file, and reads it. The lock is a file of
    /// its own beside it, which only the account that edits can open: who may
    /// read orders holds up nobody.
    pub fn open(path: &Path) -> Result<Self, Failure> {
        let real = real_path(path)?;
        let name = real.file_name().unwrap_or_default().to_string_lossy().into_owned();
        let lock = real.with_file_name(format!(".{name}.lock"));
        let lock = Lock::wait_for(&lock, PATIENCE)?.passing();
        let written = attachments::read_for_edit(path);
        let Written { text, attachments, .. } = written.map_err(Failure::unreadable(path))?;
        Ok(Self { path: path.to_owned(), text, attachments, _lock: lock })
    }

    /// Its text and what it includes.
    pub fn sheets(&self) -> Documents<'_> {
        Documents { text: &self.text, attachments: &self.attachments }
    }

    /// Why nothing was edited, with the texts that it is shown in.
    pub fn not_edited(self, path: &Path, source: EditFault) -> Failure {
        not_edited(path, self.text, self.attachments, source)
    }

    /// The path of an included file, or of the orders themselves.
    pub fn path_of(&self, part: Option<&str>) -> PathBuf {
        match part {
            None => self.path.clone(),
            Some(name) => self.path.with_file_name("").join(name),
        }
    }

    /// Puts a new text in place of that of one file, with the same owner and mode.
    /// What would bring a fault is not written.
    pub fn replace(self, part: Option<&str>, text: &str) -> Result<(), Failure> {
        if let Some(faults) = self.new_faults(part, text) {
            let (part, text) = (part.map(str::to_owned), text.to_owned());
            let path = self.path.clone();
            return Err(self.not_edited(&path, EditFault::WouldBeUnsound { part, text, faults }));
        }
        self.write(part, text)
    }

    /// The same of several files, one after the other; each is whole.
    pub fn replace_all(self, texts: &[(Option<String>, String)]) -> Result<(), Failure> {
        texts.iter().try_for_each(|(part, text)| self.write(part.as_deref(), text))
    }

    fn write(&self, part: Option<&str>, text: &str) -> Result<(), Failure> {
        // A link stays a link.
        let path = real_path(&self.path_of(part))?;
        files::replace(&path, text.as_bytes(), Access::AsBefore)
            .map_err(|source| Failure::Unwritable { path, source })
    }
}

impl Held {
    /// Faults that the files which a new text names would bring: a list that is not
    /// there, an area without a feed, a rule that they leave without an address.
    /// What is wrong already does not keep an edit from fixing a part of it.
    fn new_faults(&self, part: Option<&str>, text: &str) -> Option<Faults> {
        if !["file:", "area:"].iter().any(|kind| text.contains(kind)) {
            return None;
        }
        let (main, mut attachments) = self.sheets().with(part, text);
        let sheets = Documents { text: &main, attachments: &attachments };
        attachments.lists = Some(attachments::lists_of(&self.path, sheets));
        let faults = read_all(Documents { text: &main, attachments: &attachments }).err()?;
        let mut before = self.attachments.clone();
        before.lists = Some(attachments::lists_of(&self.path, self.sheets()));
        let known = read_all(Documents { text: &self.text, attachments: &before }).err();
        (faults.0.len() > known.map_or(0, |faults| faults.0.len())).then_some(faults)
    }
}

/// Why nothing was edited, with the texts that it is shown in.
pub fn not_edited(
    path: &Path,
    text: String,
    attachments: Attachments,
    source: EditFault,
) -> Failure {
    match source {
        EditFault::WrongOrders(faults) => Failure::wrong(path, text, attachments, faults),
        source => {
            let sheets = Box::new((text, attachments));
            Failure::NotEdited { path: path.to_owned(), sheets, source }
        }
    }
}

/// The file itself, where a link leads to it: that is what gets replaced.
fn real_path(path: &Path) -> Result<PathBuf, Failure> {
    fs::canonicalize(path).map_err(Failure::unreadable(path))
}
