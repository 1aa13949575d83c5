//! Modes of what is written. In a file of its own: the umask is the process'.

#![allow(clippy::unwrap_used)]

use std::os::unix::fs::{MetadataExt, PermissionsExt};
use std::path::Path;
use std::{fs, io};

use tipstaff_host::files::{Access, create, make_folder, nobody_else_writes, replace};

#[test]
fn modes_are_set_and_not_inherited() {
    let root = tempfile::tempdir().unwrap();
    let none = nix::sys::stat::Mode::empty();
    let before = nix::sys::stat::umask(none);
    let folder = root.path().join("above/history");
    make_folder(&folder, 0o700).unwrap();
    let path = folder.join("file");
    create(&path, b"1", 0o600).unwrap();
    nobody_else_writes();
    let page = folder.join("page.html");
    replace(&page, b"", Access::Usual).unwrap();
    nix::sys::stat::umask(before);
    let mode = |path: &Path| fs::metadata(path).unwrap().mode() & 0o777;
    assert_eq!(mode(&folder.join("..")), 0o755);
    assert_eq!((mode(&folder), mode(&path), mode(&page)), (0o700, 0o600, 0o644));
    assert_eq!(create(&path, b"2", 0o600).unwrap_err().kind(), io::ErrorKind::AlreadyExists);
    fs::set_permissions(&path, fs::Permissions::from_mode(0o640)).unwrap();
    replace(&path, b"3", Access::AsBefore).unwrap();
    assert_eq!((mode(&path), fs::read(&path).unwrap()), (0o640, b"3".to_vec()));
    assert_eq!(fs::read_dir(&folder).unwrap().count(), 2);
}
