//! A file of orders that begins: where none is yet.

use std::io;
use std::path::Path;

use tipstaff_host::files;

use crate::failure::Failure;

/// Writes it, with its folder; one that is there stays as it is.
pub fn write_new(path: &Path, text: &str) -> Result<(), Failure> {
    let written = files::make_folder(files::folder(path), 0o755)
        .and_then(|()| files::create(path, text.as_bytes(), 0o644));
    written.map_err(|source| match source.kind() {
        io::ErrorKind::AlreadyExists => Failure::Argument {
            message: format!("{} already exists and was not modified", path.display()),
            help: "Name a file that does not exist yet.".into(),
        },
        _ => Failure::Unwritable { path: path.to_owned(), source },
    })
}
