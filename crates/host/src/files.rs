//! Files that people name or write: opened once and looked at where they were
//! opened, so that nobody exchanges them in between; written whole or not at
//! all, with modes that are set and not inherited.

use std::fs::{self, DirBuilder, File, Metadata};
use std::io::{self, Read, Write};
use std::os::fd::AsRawFd;
use std::os::unix::fs::{DirBuilderExt, MetadataExt, OpenOptionsExt, PermissionsExt};
use std::path::{Path, PathBuf};

/// Orders, and each file that they name, are at most this long: a million
/// addresses a line take 40 MiB.
pub const MOST_TEXT: u64 = 64 << 20;

/// A regular file, open for reading.
#[derive(Debug)]
pub struct Opened {
    file: File,
    real: PathBuf,
    found: Metadata,
}

/// Who else could change a file.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{} cannot be trusted: {what} can be changed by accounts other than {}", file.display(), trusted())]
pub struct Distrust {
    /// The file that was opened.
    pub file: PathBuf,
    /// The file itself or the directory of its path that others can write to.
    pub place: PathBuf,
    /// It, in words.
    what: String,
    /// Whether it is owned by another account; else its mode lets others write.
    pub foreign: bool,
}

impl Distrust {
    /// The command that fixes it.
    pub fn help(&self) -> String {
        let own = nix::unistd::geteuid();
        let place = self.place.display();
        match self.foreign {
            true => format!("chown {own} {place} && chmod go-w {place}"),
            false => format!("chmod go-w {place}"),
        }
    }
}

fn trusted() -> &'static str {
    if nix::unistd::geteuid().is_root() { "root" } else { "you and root" }
}

/// Opens a regular file. Nothing else is waited for or read: a named pipe, a
/// device, a directory.
///
/// # Errors
/// What the system says, or what it is instead of a file.
pub fn open(path: &Path) -> io::Result<Opened> {
    let flags = nix::libc::O_NONBLOCK | nix::libc::O_NOCTTY;
    let file = File::options().read(true).custom_flags(flags).open(path)?;
    let found = file.metadata()?;
    if !found.is_file() {
        use std::os::unix::fs::FileTypeExt;
        let kind = found.file_type();
        let what = match () {
            () if kind.is_dir() => "a directory",
            () if kind.is_fifo() => "a named pipe",
            () if kind.is_socket() => "a socket",
            () => "a device",
        };
        return Err(io::Error::other(format!("it is {what}, not a file")));
    }
    let real = fs::read_link(format!("/proc/self/fd/{}", file.as_raw_fd()))?;
    Ok(Opened { file, real, found })
}

impl Opened {
    /// Its path without links, as it was when it was opened.
    pub fn real(&self) -> &Path {
        &self.real
    }

    /// The whole of it.
    ///
    /// # Errors
    /// It is longer than `most` bytes, is no UTF-8, or cannot be read.
    pub fn text(&mut self, most: u64) -> io::Result<String> {
        let mut bytes = Vec::new();
        (&mut self.file).take(most + 1).read_to_end(&mut bytes)?;
        if bytes.len() as u64 > most {
            let limit = most >> 20;
            return Err(io::Error::other(format!("it is longer than {limit} MiB, the most read")));
        }
        String::from_utf8(bytes).map_err(|e| {
            let good = &e.as_bytes()[..e.utf8_error().valid_up_to()];
            let line = good.iter().filter(|byte| **byte == b'\n').count() + 1;
            let told = format!("line {line} is not valid UTF-8");
            io::Error::new(io::ErrorKind::InvalidData, told)
        })
    }

    /// Whether somebody else than root and this account could change it, or put
    /// another file in its place: by itself, or by any directory of its path.
    pub fn distrust(&self) -> Option<Distrust> {
        let folders = self.real.ancestors().skip(1);
        let untrusted = |place: &Path, what: String, found: &Metadata| {
            let own = nix::unistd::geteuid().as_raw();
            let foreign = found.uid() != own && found.uid() != 0;
            // In a directory such as /tmp only the owner of a file can replace it.
            let sticky = found.is_dir() && found.mode() & 0o1000 != 0;
            (foreign || found.mode() & 0o022 != 0 && !sticky).then(|| Distrust {
                file: self.real.clone(),
                place: place.to_owned(),
                what,
                foreign,
            })
        };
        untrusted(&self.real, "it".to_owned(), &self.found).or_else(|| {
            folders.into_iter().find_map(|folder| {
                let what = format!("the directory {}", folder.display());
                match fs::symlink_metadata(folder) {
                    Ok(found) => untrusted(folder, what, &found),
                    // It was moved meanwhile; by whom, nobody knows.
                    Err(_) => Some(Distrust {
                        file: self.real.clone(),
                        place: folder.to_owned(),
                        what,
                        foreign: true,
                    }),
                }
            })
        })
    }
}

/// Opens and reads a whole file of text.
///
/// # Errors
/// As [`open`] and [`Opened::text`].
pub fn text(path: &Path, most: u64) -> io::Result<String> {
    open(path)?.text(most)
}

/// The directory that a path's last part stands in.
pub fn folder(path: &Path) -> &Path {
    match path.parent() {
        Some(folder) if !folder.as_os_str().is_empty() => folder,
        _ => Path::new("."),
    }
}

/// The access that a written file gives.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Access {
    /// This mode.
    Mode(u32),
    /// Owner and mode of the file that it takes the place of.
    AsBefore,
    /// As the account's umask has it: a page that somebody asked for.
    Usual,
}

/// Nothing that this process makes can be written to by others, whatever umask
/// it was started with.
pub fn nobody_else_writes() {
    use nix::sys::stat::{Mode, umask};
    let others = Mode::S_IWGRP | Mode::S_IWOTH;
    let before = umask(others);
    umask(before | others);
}

/// Writes a file whole or not at all: beside its place, made durable, then
/// renamed over what was there.
///
/// # Errors
/// What the system says; then the file is what it was.
pub fn replace(path: &Path, bytes: &[u8], access: Access) -> io::Result<()> {
    write_beside(path, bytes, access)?.replace()
}

/// As [`replace`], where no file is there yet.
///
/// # Errors
/// `AlreadyExists`, and what the system says.
pub fn create(path: &Path, bytes: &[u8], mode: u32) -> io::Result<()> {
    let new = beside(path, bytes, Access::Mode(mode))?;
    new.persist_noclobber(path).map_err(|e| e.error)?;
    File::open(folder(path))?.sync_all()
}

/// A file that is written and durable, and not in its place yet. Dropped, it is gone.
#[derive(Debug)]
pub struct Beside {
    new: tempfile::NamedTempFile,
    path: PathBuf,
}

impl Beside {
    /// Puts it in its place, over what was there.
    ///
    /// # Errors
    /// What the system says.
    pub fn replace(self) -> io::Result<()> {
        self.new.persist(&self.path).map_err(|e| e.error)?;
        File::open(folder(&self.path))?.sync_all()
    }
}

/// The first half of [`replace`]: nothing changes before [`Beside::replace`].
///
/// # Errors
/// What the system says.
pub fn write_beside(path: &Path, bytes: &[u8], access: Access) -> io::Result<Beside> {
    Ok(Beside { new: beside(path, bytes, access)?, path: path.to_owned() })
}

fn beside(path: &Path, bytes: &[u8], access: Access) -> io::Result<tempfile::NamedTempFile> {
    let mut builder = tempfile::Builder::new();
    builder.prefix(".tipstaff-");
    if access == Access::Usual {
        builder.permissions(fs::Permissions::from_mode(0o666));
    }
    let mut new = builder.tempfile_in(folder(path))?;
    new.write_all(bytes)?;
    let file = new.as_file();
    match access {
        Access::Usual => {}
        Access::Mode(mode) => file.set_permissions(fs::Permissions::from_mode(mode))?,
        Access::AsBefore => {
            let (old, own) = (fs::metadata(path)?, file.metadata()?);
            if (own.uid(), own.gid()) != (old.uid(), old.gid()) {
                std::os::unix::fs::fchown(file, Some(old.uid()), Some(old.gid()))?;
            }
            file.set_permissions(fs::Permissions::from_mode(old.mode() & 0o7777))?;
        }
    }
    file.sync_all()?;
    Ok(new)
}

/// Makes a directory where it is not, with those above it; of these everybody
/// may list what is in them.
///
/// # Errors
/// What the system says.
pub fn make_folder(path: &Path, mode: u32) -> io::Result<()> {
    if path.as_os_str().is_empty() || path.is_dir() {
        return Ok(());
    }
    if let Some(above) = path.parent() {
        make_folder(above, 0o755)?;
    }
    match DirBuilder::new().mode(mode).create(path) {
        // Somebody else was faster.
        Err(e) if e.kind() == io::ErrorKind::AlreadyExists && path.is_dir() => Ok(()),
        Err(e) => Err(e),
        Ok(()) => fs::set_permissions(path, fs::Permissions::from_mode(mode)),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn only_files_are_read_and_no_more_than_wanted() {
        let folder = tempfile::tempdir().unwrap();
        let pipe = folder.path().join("pipe");
        nix::unistd::mkfifo(&pipe, nix::sys::stat::Mode::S_IRWXU).unwrap();
        let why = |path: &Path| text(path, 1 << 20).unwrap_err().to_string();
        assert_eq!(why(&pipe), "it is a named pipe, not a file");
        assert_eq!(why(Path::new("/dev/zero")), "it is a device, not a file");
        assert_eq!(why(folder.path()), "it is a directory, not a file");
        let long = folder.path().join("long");
        File::create(&long).unwrap().set_len(1 << 40).unwrap();
        assert_eq!(why(&long), "it is longer than 1 MiB, the most read");
        fs::write(&long, b"Larkfield\n\xff").unwrap();
        assert_eq!(why(&long), "line 2 is not valid UTF-8");
    }

    #[test]
    fn what_others_can_change_is_told() {
        let root = tempfile::tempdir().unwrap();
        let (deep, elsewhere) = (root.path().join("a/b"), root.path().join("link"));
        make_folder(&deep, 0o755).unwrap();
        let path = deep.join("orders.toml");
        create(&path, b"version = 1\n", 0o644).unwrap();
        std::os::unix::fs::symlink(&path, &elsewhere).unwrap();
        let distrust = || open(&elsewhere).unwrap().distrust();
        assert_eq!(distrust(), None);
        let mode = |path: &Path, mode| {
            fs::set_permissions(path, fs::Permissions::from_mode(mode)).unwrap();
        };
        for (place, bad, good) in
            [(&path, 0o664, 0o644), (&deep, 0o777, 0o755), (&root.path().join("a"), 0o775, 0o755)]
        {
            mode(place, bad);
            let found = distrust().unwrap();
            assert_eq!((&found.place, found.foreign), (place, false));
            mode(place, good);
        }
        // Where it was opened counts, not where a link points later.
        let opened = open(&elsewhere).unwrap();
        fs::remove_file(&elsewhere).unwrap();
        std::os::unix::fs::symlink("/etc/hostname", &elsewhere).unwrap();
        assert_eq!(opened.real(), path);
        if nix::unistd::geteuid().is_root() {
            std::os::unix::fs::chown(&path, Some(1_000), None).unwrap();
            let found = open(&path).unwrap().distrust().unwrap();
            assert!(found.foreign);
            assert!(found.help().starts_with("chown 0 /"), "{}", found.help());
        }
    }
}
