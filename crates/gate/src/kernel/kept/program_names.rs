//! By which paths the makers of sockets were started: what the program that tags sockets
//! noted, read.

use std::ffi::OsStr;
use std::fs;
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::os::unix::ffi::OsStrExt;
use std::os::unix::fs::MetadataExt;
use std::path::{Path, PathBuf};

use tipstaff_bpf::sys::{self, MapKind};
use tipstaff_core::bytes::ReadAt;

use crate::contract::{GateError, Maker};
use crate::kernel::emit::owner_tag::Secret;
use crate::kernel::emit::program_name::{KEY_BYTES, NAME_BYTES, ROOM, at_name};
use crate::kernel::error::bpf;
use crate::kernel::kept::executables::{Identity, Mount, mounts};
use crate::kernel::kept::pins::{Made, Pins};

/// The maps behind [`crate::kernel::emit::program_name::NameMaps`].
pub(crate) struct ProgramNames {
    pub(crate) names: OwnedFd,
    pub(crate) blank: OwnedFd,
}

fn key(device: u32, inode: u64) -> [u8; KEY_BYTES as usize] {
    let mut key = [0; KEY_BYTES as usize];
    key[..8].copy_from_slice(&inode.to_ne_bytes());
    key[8..].copy_from_slice(&device.to_ne_bytes());
    key
}

impl Pins {
    pub(crate) fn program_names_or_new(
        &self,
        made: &mut Made<'_>,
    ) -> Result<ProgramNames, GateError> {
        let names = self.map_or_new(
            "program-names",
            || sys::map_create(MapKind::LruHash, "ts_names", KEY_BYTES, NAME_BYTES, ROOM),
            made,
        )?;
        let blank = sys::map_create(MapKind::Array, "ts_blank", 4, NAME_BYTES, 1)
            .map_err(bpf("to make a map with bpf(2)"))?;
        Ok(ProgramNames { names, blank })
    }

    /// The path that was noted of the file which made a socket; `None` where none was.
    pub(crate) fn noted_program(&self, maker: Maker) -> Result<Option<PathBuf>, GateError> {
        let (Some(names), Some((secret, _))) = (self.open("program-names")?, self.secrets()?)
        else {
            return Ok(None);
        };
        let mut name = vec![0; NAME_BYTES as usize];
        let is_noted = sys::map_lookup(names.as_fd(), &key(maker.device, maker.inode), &mut name)
            .map_err(bpf("to read what the gate has pinned"))?;
        let path = is_noted.then(|| path_in(&name, secret)).flatten();
        Ok(path.map(|path| where_seen(maker, &path)))
    }
}

/// Notes the name of a program whose socket is older than the one who tags them.
pub(crate) fn note(names: BorrowedFd<'_>, program: &Identity, secret: Secret) {
    let hash = program.hash(secret);
    let Some(inode) = program.inode.filter(|_| hash != 0) else { return };
    let mut name = vec![0; at_name::FOLDERS as usize];
    for folder in program.names().rev() {
        name.extend_from_slice(folder);
        name.push(0);
    }
    if name.len() <= NAME_BYTES as usize {
        let end = name.len() as u32;
        name[..8].copy_from_slice(&hash.to_ne_bytes());
        name[8..12].copy_from_slice(&end.to_ne_bytes());
        name.resize(NAME_BYTES as usize, 0);
        // It is told by its numbers where there is no room for its name.
        let _ = sys::map_update(names, &key(program.device, inode), &name);
    }
}

/// The path of a name in its file system, where it is the one that was hashed.
fn path_in(name: &[u8], secret: Secret) -> Option<PathBuf> {
    let (hash, end) = (name.u64_ne(0)?, name.u32_ne(at_name::END as usize)?);
    let folders = name.get(at_name::FOLDERS as usize..end as usize)?.strip_suffix(&[0])?;
    let mut names: Vec<&[u8]> = folders.split(|byte| *byte == 0).collect();
    names.reverse();
    let path =
        names.iter().fold(PathBuf::from("/"), |path, name| path.join(OsStr::from_bytes(name)));
    (secret.hash(names.into_iter()) == hash).then_some(path)
}

/// Where a path of a file system is seen on this host. A file system that is mounted nowhere
/// here is a container's: its program is called as it is there.
fn where_seen(maker: Maker, path: &Path) -> PathBuf {
    let mountinfo = fs::read_to_string("/proc/thread-self/mountinfo").unwrap_or_default();
    let of_device = mounts(&mountinfo).filter(|mount| mount.device == maker.device);
    let seen: Vec<PathBuf> = of_device.filter_map(|mount| mount.shows(path)).collect();
    let is_there = |path: &&PathBuf| fs::metadata(path).is_ok_and(|m| m.ino() == maker.inode);
    let found = seen.iter().find(is_there).or_else(|| seen.first());
    found.cloned().unwrap_or_else(|| path.to_owned())
}

impl Mount {
    /// Where it shows a path of its file system.
    fn shows(&self, path: &Path) -> Option<PathBuf> {
        path.strip_prefix(&self.root).ok().map(|rest| self.point.join(rest))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_name_is_read_back_and_half_a_name_is_none() {
        let secret = Secret(3, 4);
        let folders = [&b"usr"[..], b"sbin", b"plated"];
        let mut name = vec![0; NAME_BYTES as usize];
        name[..8].copy_from_slice(&secret.hash(folders.into_iter()).to_ne_bytes());
        let text = b"plated\0sbin\0usr\0";
        let end = 16 + text.len();
        name[8..12].copy_from_slice(&(end as u32).to_ne_bytes());
        name[16..end].copy_from_slice(text);
        assert_eq!(path_in(&name, secret).unwrap(), Path::new("/usr/sbin/plated"));
        // As when another processor writes a longer one.
        name[18] = b'u';
        assert_eq!(path_in(&name, secret), None);
        name[8..12].copy_from_slice(&u32::MAX.to_ne_bytes());
        assert_eq!(path_in(&name, secret), None);
        assert_eq!(path_in(&vec![0; NAME_BYTES as usize], secret), None);
    }

    #[test]
    fn a_bind_mount_shows_what_is_below_its_root() {
        let mounts = "30 26 0:31 /plates /srv/plates rw - tmpfs tmpfs rw\n";
        let mount = super::mounts(mounts).next().unwrap();
        assert_eq!(
            mount.shows(Path::new("/plates/plated")).unwrap(),
            Path::new("/srv/plates/plated")
        );
        assert_eq!(mount.shows(Path::new("/other/plated")), None);
    }
}
