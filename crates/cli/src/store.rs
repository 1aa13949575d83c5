//! Files that people write: changed under a lock, whole or not at all.

use std::fs::{self, File};
use std::io::{self, Write};
use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::{Path, PathBuf};

use nix::fcntl::{Flock, FlockArg};

use tipstaff_core::orders::edit::EditFault;
use tipstaff_core::orders::{Attachments, Sheets};

use crate::attachments;
use crate::chosen::wrong;
use crate::failure::Failure;

/// A file that nobody else edits meanwhile.
pub struct Held {
    path: PathBuf,
    lock: Flock<File>,
    /// Its text.
    pub text: String,
    /// The files that it includes.
    pub attachments: Attachments,
}

impl Held {
    /// Opens a file and waits until nobody else edits it.
    pub fn open(path: &Path) -> Result<Self, Failure> {
        // The file itself, not a link to it, is what gets replaced.
        let real = fs::canonicalize(path);
        let path = real.map_err(|source| match source.kind() {
            io::ErrorKind::NotFound => Failure::NoOrders(path.to_owned()),
            _ => Failure::Unreadable { path: path.to_owned(), source },
        })?;
        let unreadable = |source| Failure::Unreadable { path: path.clone(), source };
        loop {
            let file = File::open(&path).map_err(unreadable)?;
            let lock = Flock::lock(file, FlockArg::LockExclusive)
                .map_err(|(_, e)| unreadable(e.into()))?;
            // Whoever edited before us has put another file in this place.
            let now = fs::metadata(&path).map_err(unreadable)?;
            let ours = lock.metadata().map_err(unreadable)?;
            if (now.dev(), now.ino()) == (ours.dev(), ours.ino()) {
                let text = fs::read_to_string(&path).map_err(unreadable)?;
                let attachments = attachments::included(&path, &text);
                return Ok(Self { path, lock, text, attachments });
            }
        }
    }

    /// Its text and what it includes.
    pub fn sheets(&self) -> Sheets<'_> {
        Sheets { text: &self.text, attachments: &self.attachments }
    }

    /// Why nothing was edited, with the texts that it is shown in.
    pub fn not_edited(self, path: &Path, source: EditFault) -> Failure {
        let Self { text, attachments, .. } = self;
        match source {
            EditFault::Unsound(faults) => wrong(path, text, attachments, faults),
            source => {
                let sheets = Box::new((text, attachments));
                Failure::NotEdited { path: path.to_owned(), sheets, source }
            }
        }
    }

    /// The path of an included file, or of the orders themselves.
    pub fn path_of(&self, part: Option<&str>) -> PathBuf {
        match part {
            None => self.path.clone(),
            Some(name) => self.path.with_file_name("").join(name),
        }
    }

    /// Puts a new text in place of that of one file: a file beside it, made
    /// durable, with the same owner and mode, then renamed over it.
    pub fn replace(self, part: Option<&str>, text: &str) -> Result<(), Failure> {
        // A link stays a link.
        let path = self.path_of(part);
        let path = fs::canonicalize(&path)
            .map_err(|source| Failure::Unreadable { path: path.clone(), source })?;
        let unwritable = |source| Failure::Unwritable { path: path.clone(), source };
        let write = || {
            let folder = path.parent().unwrap_or(Path::new("/"));
            let mut new = tempfile::Builder::new().prefix(".orders-").tempfile_in(folder)?;
            new.write_all(text.as_bytes())?;
            let old = fs::metadata(&path)?;
            let file = new.as_file();
            file.set_permissions(fs::Permissions::from_mode(old.mode()))?;
            let own = file.metadata()?;
            if (own.uid(), own.gid()) != (old.uid(), old.gid()) {
                std::os::unix::fs::fchown(file, Some(old.uid()), Some(old.gid()))?;
            }
            file.sync_all()?;
            new.persist(&path).map_err(|e| e.error)?;
            File::open(folder)?.sync_all()
        };
        write().map_err(unwritable)?;
        drop(self.lock);
        Ok(())
    }
}
