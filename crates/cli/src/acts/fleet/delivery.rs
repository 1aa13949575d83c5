//! Orders that came over ssh: laid down for the commands that read them, and, once they
//! are confirmed, put in the place of the host's own.

use std::collections::BTreeSet;
use std::io;
use std::path::{Component, Path, PathBuf};

use tipstaff_core::orders::{Documents, OrdersHash, includes_named, lists_named};
use tipstaff_gate::Record;
use tipstaff_gate::lock::{Lock, PATIENCE};
use tipstaff_host::files::{self, Access};

use super::message::Sheets;
use crate::attachments::{self, Written};
use crate::failure::Failure;

/// Orders in a directory of their own, which goes with this value.
pub struct Staged {
    folder: tempfile::TempDir,
}

impl Staged {
    /// Lays orders down below a directory that only root can read.
    ///
    /// # Errors
    /// What the system says; names that lead out of the directory of the orders.
    pub fn new(run_dir: &Path, sheets: &Sheets) -> Result<Self, Failure> {
        fn doing(source: io::Error) -> Failure {
            Failure::System { doing: "laying down the orders", source }
        }
        let files = Files::of(sheets)?;
        files::make_folder(run_dir, 0o755).map_err(doing)?;
        // 0700 is what tempfile gives a directory.
        let folder =
            tempfile::Builder::new().prefix("fleet-").tempdir_in(run_dir).map_err(doing)?;
        for (name, text) in &files.beside {
            let path = folder.path().join(name);
            files::make_folder(files::folder(&path), 0o700).map_err(doing)?;
            files::create(&path, text.as_bytes(), 0o600).map_err(doing)?;
        }
        let staged = Self { folder };
        files::create(&staged.path(), sheets.text.as_bytes(), 0o600).map_err(doing)?;
        Ok(staged)
    }

    /// The orders' own file.
    pub fn path(&self) -> PathBuf {
        self.folder.path().join("orders.toml")
    }
}

/// The files that orders name, by their names relative to the orders.
struct Files<'s> {
    beside: Vec<(&'s str, &'s str)>,
}

impl<'s> Files<'s> {
    fn of(sheets: &'s Sheets) -> Result<Self, Failure> {
        let documents = Documents { text: &sheets.text, attachments: &sheets.attachments };
        let parts = documents.parts();
        let parts = parts.into_iter().map(|part| (part.name.as_str(), part.text.as_str()));
        let lists = sheets.attachments.lists.iter().flatten();
        let lists = lists.filter_map(|(name, text)| Some((name.as_str(), text.as_deref().ok()?)));
        let beside: Vec<(&str, &str)> = parts.chain(lists).collect();
        fn inside(name: &str) -> bool {
            Path::new(name).components().all(|part| matches!(part, Component::Normal(_)))
                && !name.is_empty()
        }
        // Also what the texts name and nobody sent: it would be read on the host.
        let texts = beside.iter().map(|(_, text)| *text).chain([sheets.text.as_str()]);
        let named = texts.flat_map(lists_named).chain(includes_named(&sheets.text));
        let all = beside.iter().map(|(name, _)| (*name).to_owned()).chain(named);
        match all.into_iter().find(|name| !inside(name)) {
            None => Ok(Self { beside }),
            Some(name) => Err(Failure::Argument {
                message: format!("the orders name `{name}`, which is not below their directory"),
                help: "Orders for other hosts can name only files beside them, by relative paths."
                    .into(),
            }),
        }
    }
}

/// Whether orders can be sent to other hosts.
///
/// # Errors
/// Where they name a file that is not below their directory.
pub fn can_be_sent(sheets: &Sheets) -> Result<(), Failure> {
    Files::of(sheets).map(drop)
}

/// The hash of the orders file that a host has, with all that it names; `None`: there is
/// none, or it cannot be read.
pub fn own_file(path: &Path) -> Option<OrdersHash> {
    let Written { text, attachments, .. } = attachments::read(path).ok()?;
    Some(OrdersHash::digest(Documents { text: &text, attachments: &attachments }))
}

/// Makes orders the host's own file, with what they name beside it. Included files of
/// before that they no longer have go, or they would still be included. The orders' own
/// text comes last: until then the file is the one of before.
///
/// # Errors
/// What the system says; each file is whole.
pub fn save(path: &Path, sheets: &Sheets) -> Result<(), Failure> {
    fn unwritable(path: &Path) -> impl FnOnce(io::Error) -> Failure + use<> {
        let path = path.to_owned();
        move |source: io::Error| Failure::Unwritable { path, source }
    }
    let files = Files::of(sheets)?;
    let folder = files::folder(path);
    files::make_folder(folder, 0o755).map_err(unwritable(folder))?;
    let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
    let _lock = Lock::wait_for(&path.with_file_name(format!(".{name}.lock")), PATIENCE)?.passing();
    // What the new text would include beside its own.
    let patterns = includes_named(&sheets.text);
    let mut meant: BTreeSet<&str> = BTreeSet::new();
    for (name, text) in &files.beside {
        let place = folder.join(name);
        files::make_folder(files::folder(&place), 0o755).map_err(unwritable(&place))?;
        write(&place, text).map_err(unwritable(&place))?;
        meant.insert(name);
    }
    for pattern in patterns {
        for old in included(folder, &pattern) {
            let is_meant = meant.contains(old.to_string_lossy().as_ref());
            let old = folder.join(old);
            if !is_meant && old != path {
                std::fs::remove_file(&old).map_err(unwritable(&old))?;
            }
        }
    }
    write(path, &sheets.text).map_err(unwritable(path))
}

/// The orders of a record, as they were sent or written.
pub fn of_record(record: &Record) -> Sheets {
    Sheets { text: record.orders.clone(), attachments: record.attachments.clone() }
}

fn write(path: &Path, text: &str) -> io::Result<()> {
    // A link is replaced, not followed: it may lead anywhere.
    let is_file = path.symlink_metadata().is_ok_and(|found| found.is_file());
    let access = if is_file { Access::AsBefore } else { Access::Mode(0o600) };
    files::replace(path, text.as_bytes(), access)
}

/// The files that a pattern finds beside the orders, relative to them.
fn included(folder: &Path, pattern: &str) -> Vec<PathBuf> {
    let whole = format!("{}/{pattern}", glob::Pattern::escape(&folder.to_string_lossy()));
    let found = glob::glob(&whole).into_iter().flatten().flatten();
    found.filter_map(|path| Some(path.strip_prefix(folder).ok()?.to_owned())).collect()
}

#[cfg(test)]
mod tests {
    use std::fs;

    use super::*;

    fn sheets(main: &str, folder: &Path) -> Sheets {
        let path = folder.join("orders.toml");
        fs::write(&path, main).unwrap();
        let Written { text, attachments, .. } = attachments::read(&path).unwrap();
        Sheets { text, attachments }
    }

    #[test]
    fn what_is_saved_is_what_was_sent() {
        let (here, there) = (tempfile::tempdir().unwrap(), tempfile::tempdir().unwrap());
        for (name, text) in [
            ("rules.d/10-ssh.toml", "[[rules]]\nname = \"shell\"\n"),
            ("lists/partner", "203.0.113.0/24\n"),
        ] {
            let path = here.path().join(name);
            fs::create_dir_all(path.parent().unwrap()).unwrap();
            fs::write(path, text).unwrap();
        }
        let main = "version = 1\ninclude = [\"rules.d/*.toml\"]\n[addresses]\npartner = \
                    [\"file:lists/partner\"]\n";
        let sent = sheets(main, here.path());
        can_be_sent(&sent).unwrap();
        let place = there.path().join("etc/orders.toml");
        fs::create_dir_all(there.path().join("etc/rules.d")).unwrap();
        // A file of before would be included, too.
        fs::write(there.path().join("etc/rules.d/20-old.toml"), "# old\n").unwrap();
        save(&place, &sent).unwrap();
        assert_eq!(own_file(&place), own_file(&here.path().join("orders.toml")));
        assert!(own_file(&place).is_some());
        assert!(!there.path().join("etc/rules.d/20-old.toml").exists());
        let staged = Staged::new(there.path(), &sent).unwrap();
        assert_eq!(own_file(&staged.path()), own_file(&place));
        let gone = staged.path();
        drop(staged);
        assert!(!gone.exists());
    }

    #[test]
    fn nothing_is_written_outside() {
        let here = tempfile::tempdir().unwrap();
        for name in ["/etc/shadow", "../up", "lists/../../up"] {
            let main = format!("version = 1\n[addresses]\npartner = [\"file:{name}\"]\n");
            let mut sent = sheets(&main, here.path());
            sent.attachments.lists = Some([(name.to_owned(), Ok("192.0.2.1\n".to_owned()))].into());
            let place = here.path().join("deep/etc/orders.toml");
            assert!(save(&place, &sent).is_err() && can_be_sent(&sent).is_err(), "{name}");
            assert!(!place.exists() && !here.path().join("up").exists());
            // Named in the text alone, it would be read there.
            sent.attachments.lists = None;
            assert!(can_be_sent(&sent).is_err(), "{name}");
        }
    }
}
