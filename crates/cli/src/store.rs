//! Files that people write: changed under a lock, whole or not at all.

use std::fs;
use std::path::{Path, PathBuf};

use tipstaff_core::orders::edit::{EditFault, NewText};
use tipstaff_core::orders::{Attachments, Documents, Faults, read_all};
use tipstaff_gate::lock::{Lock, PATIENCE};
use tipstaff_host::files::{self, Access};

use crate::attachments::{self, Written};
use crate::edits::{self, ChangedFile};
use crate::failure::Failure;
use crate::history;

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
        self.write(&[NewText { part: part.map(str::to_owned), text: text.to_owned() }])
    }

    /// The same of several files, one after the other; each is whole.
    pub fn replace_all(self, texts: &[NewText]) -> Result<(), Failure> {
        for NewText { part, text } in texts {
            if let Some(faults) = self.new_faults(part.as_deref(), text) {
                let (part, text) = (part.clone(), text.clone());
                let path = self.path.clone();
                return Err(
                    self.not_edited(&path, EditFault::WouldBeUnsound { part, text, faults })
                );
            }
        }
        self.write(texts)
    }

    /// The text of one file.
    pub fn text_of(&self, part: Option<&str>) -> &str {
        let named = self.sheets().parts().into_iter().find(|p| Some(p.name.as_str()) == part);
        named.map_or(self.text.as_str(), |part| part.text.as_str())
    }

    /// The file itself, where a link leads to it.
    pub fn real_path(&self) -> Result<PathBuf, Failure> {
        real_path(&self.path)
    }

    /// Writes the files, and notes how they were: before they change, so that nothing is
    /// changed which could not be taken back.
    fn write(&self, texts: &[NewText]) -> Result<(), Failure> {
        let changed = texts.iter().map(|NewText { part, text }| {
            ChangedFile::new(part.as_deref(), self.text_of(part.as_deref()), text)
        });
        edits::note(&self.real_path()?, history::account(), changed.collect())?;
        self.write_without_note(texts)
    }

    /// Writes the files as they are, without a note of how they were.
    pub fn write_without_note(&self, texts: &[NewText]) -> Result<(), Failure> {
        texts.iter().try_for_each(|NewText { part, text }| {
            // A link stays a link.
            let path = real_path(&self.path_of(part.as_deref()))?;
            files::replace(&path, text.as_bytes(), Access::AsBefore)
                .map_err(|source| Failure::Unwritable { path, source })
        })
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
