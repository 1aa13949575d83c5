//! Programs as the kernel tells them apart: the device and the path in its
//! file system, or the device and the inode number.

use std::fs::{self, File};
use std::io;
use std::os::fd::AsRawFd;
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::{MetadataExt, OpenOptionsExt};
use std::path::{Path, PathBuf};

use tipstaff_core::brief::{Brief, Executables};
use tipstaff_core::host::programs::{ProgramNote, ProgramStatus};

use crate::contract::Maker;
use crate::kernel::emit::frame::OWNER_TAG_BYTES;
use crate::kernel::emit::owner_tag::{MOST_FOLDERS, Secret};

/// A file that a program can be started from.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Identity {
    /// The device of its file system, as the kernel writes it: major << 20 | minor.
    pub device: u32,
    /// Its folders and its name, from the root of that file system on.
    pub path: PathBuf,
    /// Its inode number; `None` when there is no such file now.
    pub inode: Option<u64>,
}

/// A mount, of a line of proc_pid_mountinfo(5).
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Mount {
    pub(super) device: u32,
    pub(super) root: PathBuf,
    pub(super) point: PathBuf,
}

/// Undoes the octal escapes of proc_pid_mountinfo(5).
fn unescaped(text: &str) -> PathBuf {
    let mut bytes = Vec::new();
    let mut left = text.as_bytes();
    while let Some((first, rest)) = left.split_first() {
        let octal = rest.get(..3).filter(|_| *first == b'\\');
        let digits = octal.and_then(|digits| std::str::from_utf8(digits).ok());
        match digits.and_then(|digits| u8::from_str_radix(digits, 8).ok()) {
            Some(byte) => {
                bytes.push(byte);
                left = &rest[3..];
            }
            None => {
                bytes.push(*first);
                left = rest;
            }
        }
    }
    PathBuf::from(std::ffi::OsStr::from_bytes(&bytes))
}

fn mount(mountinfo: &str, id: &str) -> Option<Mount> {
    read_mount(mountinfo.lines().find(|line| line.split(' ').next() == Some(id))?)
}

/// All mounts.
pub(super) fn mounts(mountinfo: &str) -> impl Iterator<Item = Mount> {
    mountinfo.lines().filter_map(read_mount)
}

fn read_mount(line: &str) -> Option<Mount> {
    let mut words = line.split(' ').skip(2);
    let (major, minor) = words.next()?.split_once(':')?;
    let device = major.parse::<u32>().ok()? << 20 | minor.parse::<u32>().ok()?;
    Some(Mount { device, root: unescaped(words.next()?), point: unescaped(words.next()?) })
}

/// Which mount an open file stands in: `mnt_id` of proc_pid_fdinfo(5).
fn mount_of(file: &File, mountinfo: &str) -> Option<Mount> {
    let text = fs::read_to_string(format!("/proc/self/fdinfo/{}", file.as_raw_fd())).ok()?;
    let id = text.lines().find_map(|line| line.strip_prefix("mnt_id:"))?.trim().to_owned();
    mount(mountinfo, &id)
}

fn unreadable(what: &str) -> io::Error {
    io::Error::other(format!("{what} is in no mount that /proc tells of"))
}

/// A path only, not a file that is read.
fn opened(path: &Path) -> io::Result<File> {
    File::options().read(true).custom_flags(libc::O_PATH).open(path)
}

impl Identity {
    /// The program at a path, also one that is not there yet: what cannot be
    /// followed, because a folder is not there, a link leads in a circle or
    /// nowhere, or nobody may look, stands as it is written.
    ///
    /// # Errors
    /// When not even the root of the file system can be looked at.
    pub fn at(path: &Path) -> io::Result<Self> {
        let mountinfo = fs::read_to_string("/proc/thread-self/mountinfo")?;
        let mut behind = Vec::new();
        let mut near = path;
        let (file, whole) = loop {
            match fs::canonicalize(near).and_then(|whole| Ok((opened(&whole)?, whole))) {
                Ok(found) => break found,
                Err(e) => {
                    behind.extend(near.file_name());
                    near = near.parent().ok_or(e)?;
                }
            }
        };
        let mut found = Self::of_file(&file, &whole, &mountinfo)?;
        if !behind.is_empty() {
            found.path.extend(behind.into_iter().rev());
            found.inode = None;
        }
        Ok(found)
    }

    /// The program that a process was started from.
    ///
    /// # Errors
    /// When it is gone, or a thread of the kernel, or not to be looked at.
    pub fn of_process(process: u32) -> io::Result<Self> {
        let link = PathBuf::from(format!("/proc/{process}/exe"));
        let whole = without_deleted(&fs::read_link(&link)?);
        let mountinfo = fs::read_to_string(format!("/proc/{process}/mountinfo"))?;
        Self::of_file(&opened(&link)?, &whole, &mountinfo)
    }

    fn of_file(file: &File, whole: &Path, mountinfo: &str) -> io::Result<Self> {
        let told = || unreadable(&whole.display().to_string());
        let mount = mount_of(file, mountinfo).ok_or_else(told)?;
        // Out of sight of the mount's own root, as in a changed root: taken as it is.
        let within = whole.strip_prefix(&mount.point).or_else(|_| whole.strip_prefix("/"));
        let path = mount.root.join(within.map_err(|_| told())?);
        Ok(Self { device: mount.device, path, inode: Some(file.metadata()?.ino()) })
    }

    pub(super) fn names(&self) -> impl DoubleEndedIterator<Item = &[u8]> {
        let normal =
            |part: std::path::Component<'_>| matches!(part, std::path::Component::Normal(_));
        self.path.components().filter(move |part| normal(*part)).map(|part| match part {
            std::path::Component::Normal(name) => name.as_bytes(),
            _ => &[],
        })
    }

    pub(super) fn hash(&self, secret: Secret) -> u64 {
        if self.names().count() > MOST_FOLDERS { 0 } else { secret.hash(self.names()) }
    }

    /// The owner tag of a socket whose maker cannot be told from others.
    pub(super) fn owner_tag_of_nobody(process: u32) -> [u8; OWNER_TAG_BYTES as usize] {
        let mut owner_tag = [0; OWNER_TAG_BYTES as usize];
        owner_tag[20..].copy_from_slice(&process.to_ne_bytes());
        owner_tag
    }

    /// The owner tag of a socket that this program made.
    pub fn owner_tag(&self, secret: Secret, process: u32) -> [u8; OWNER_TAG_BYTES as usize] {
        let mut owner_tag = [0; OWNER_TAG_BYTES as usize];
        owner_tag[..8].copy_from_slice(&self.hash(secret).to_ne_bytes());
        owner_tag[8..16].copy_from_slice(&self.inode.unwrap_or_default().to_ne_bytes());
        owner_tag[16..20].copy_from_slice(&self.device.to_ne_bytes());
        owner_tag[20..].copy_from_slice(&process.to_ne_bytes());
        owner_tag
    }
}

/// Bytes of the key by which a revision knows a program: device, and hash of
/// the path or inode number.
pub const KEY_BYTES: u32 = 16;

/// Which file each path leads to, where it is written otherwise or another one
/// leads there, too: those are one program. `exact`: one file may have two
/// names in its folders.
pub fn executables<'p>(paths: impl IntoIterator<Item = &'p str>, exact: bool) -> Executables {
    let mut known: Vec<(Identity, String)> = Vec::new();
    let mut found = Executables::new();
    for path in paths {
        let Ok(identity) = Identity::at(Path::new(path)) else { continue };
        let same = |other: &Identity| match (exact, identity.inode) {
            (true, Some(inode)) => (other.device, other.inode) == (identity.device, Some(inode)),
            _ => (other.device, &other.path) == (identity.device, &identity.path),
        };
        let file = match known.iter().find(|(other, _)| same(other)) {
            Some((_, file)) => file.clone(),
            None => {
                let whole = fs::canonicalize(path).ok();
                let file = whole.and_then(|whole| whole.into_os_string().into_string().ok());
                let file = file.unwrap_or_else(|| path.to_owned());
                known.push((identity, file.clone()));
                file
            }
        };
        if file != path {
            found.insert(path.to_owned(), file);
        }
    }
    found
}

/// The keys of the programs of a list, with their numbers in it. Programs that
/// are told by a file that is not there have none, and neither have those
/// whose path no kernel program can follow: their sockets are nobody's.
pub fn keys_of(brief: &Brief, secret: Secret) -> Vec<([u8; KEY_BYTES as usize], u32)> {
    let mut keys: Vec<([u8; KEY_BYTES as usize], u32)> = Vec::new();
    for (at, path) in brief.programs.iter().enumerate() {
        let Ok(identity) = Identity::at(Path::new(path)) else { continue };
        let id = match brief.program_exact {
            true => identity.inode,
            false => Some(identity.hash(secret)).filter(|hash| *hash != 0),
        };
        let Some(id) = id else { continue };
        let mut key = [0; KEY_BYTES as usize];
        key[..8].copy_from_slice(&u64::from(identity.device).to_ne_bytes());
        key[8..].copy_from_slice(&id.to_ne_bytes());
        if keys.iter().all(|(known, _)| *known != key) {
            keys.push((key, at as u32 + 1));
        }
    }
    keys
}

/// What there is to say of the programs of a list: links that lead elsewhere,
/// files that are not there, paths that cannot be followed.
pub fn notes(brief: &Brief) -> Vec<ProgramNote> {
    let status = |path: &str| {
        let identity = match Identity::at(Path::new(path)) {
            Ok(identity) => identity,
            Err(e) => return Some(ProgramStatus::Unfollowable { why: e.to_string() }),
        };
        if !brief.program_exact && identity.names().count() > MOST_FOLDERS {
            return Some(ProgramStatus::TooDeep { most: MOST_FOLDERS });
        }
        match fs::canonicalize(path) {
            Ok(whole) if whole == Path::new(path) => None,
            Ok(whole) => Some(ProgramStatus::Link { to: whole.display().to_string() }),
            Err(e) if e.kind() == io::ErrorKind::NotFound => Some(ProgramStatus::Missing),
            Err(e) => Some(ProgramStatus::Unfollowable { why: e.to_string() }),
        }
    };
    brief
        .programs_written()
        .into_iter()
        .filter_map(|path| Some(ProgramNote { path: path.to_owned(), status: status(path)? }))
        .collect()
}

/// The first of these paths that leads to the file which made a socket: its programs may
/// all have ended.
pub fn path_among<'p>(maker: Maker, paths: impl IntoIterator<Item = &'p str>) -> Option<&'p str> {
    paths.into_iter().find(|path| {
        let identity = Identity::at(Path::new(path)).ok();
        identity.is_some_and(|i| (i.device, i.inode) == (maker.device, Some(maker.inode)))
    })
}

/// The path by which the process that made a socket was started; `None` when it has ended.
pub fn path_of_process(maker: Maker) -> Option<PathBuf> {
    path_of(maker.process, maker)
}

/// The path by which any running program of that file was started; `None` when
/// none runs any more.
pub fn path_of_another(maker: Maker) -> Option<PathBuf> {
    fs::read_dir("/proc")
        .into_iter()
        .flatten()
        .flatten()
        .filter_map(|entry| entry.file_name().to_str()?.parse().ok())
        .find_map(|process| path_of(process, maker))
}

/// The path by which a process was started, where it is of the file of that maker.
fn path_of(process: u32, maker: Maker) -> Option<PathBuf> {
    let identity = Identity::of_process(process).ok()?;
    if (identity.device, identity.inode) != (maker.device, Some(maker.inode)) {
        return None;
    }
    let path = fs::read_link(format!("/proc/{process}/exe")).ok()?;
    Some(without_deleted(&path))
}

/// Without what the kernel puts behind the path of a file that is gone.
fn without_deleted(path: &Path) -> PathBuf {
    let told = path.as_os_str().as_bytes();
    let told = told.strip_suffix(b" (deleted)").unwrap_or(told);
    PathBuf::from(std::ffi::OsStr::from_bytes(told))
}

#[cfg(test)]
mod tests {
    use super::*;

    const MOUNTS: &str = "21 26 0:20 / /proc rw,nosuid - proc proc rw\n\
        26 1 8:1 /@ / rw - btrfs /dev/sda1 rw\n\
        30 26 0:31 / /mnt/star\\040plates rw - tmpfs tmpfs rw\n";

    #[test]
    fn a_mount_is_found_by_its_number() {
        let root = mount(MOUNTS, "26").unwrap();
        assert_eq!((root.device, root.root.as_path()), (8 << 20 | 1, Path::new("/@")));
        assert_eq!(mount(MOUNTS, "30").unwrap().point, Path::new("/mnt/star plates"));
        assert_eq!(mount(MOUNTS, "2"), None);
    }

    #[test]
    fn a_program_that_is_not_there_has_the_path_it_would_have() {
        let folder = tempfile::tempdir().unwrap();
        let (here, gone) = (folder.path().join("plated"), folder.path().join("new/plated"));
        fs::write(&here, "").unwrap();
        let (here, gone) = (Identity::at(&here).unwrap(), Identity::at(&gone).unwrap());
        assert_eq!(here.device, gone.device);
        assert!(here.inode.is_some() && gone.inode.is_none());
        assert_eq!(gone.path, here.path.parent().unwrap().join("new/plated"));
    }

    #[test]
    fn this_process_is_the_program_at_its_path() {
        let own = std::env::current_exe().unwrap();
        assert_eq!(Identity::of_process(std::process::id()).unwrap(), Identity::at(&own).unwrap());
    }
}
