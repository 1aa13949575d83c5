//! `--follow`: what is written from now on, over the ends of files.

use std::fs::File;
use std::io::{self, Read, Seek, SeekFrom};
use std::os::unix::fs::MetadataExt;
use std::path::Path;
use std::time::Duration;

use super::Lines;
use crate::ending::Ending;
use crate::failure::Failure;

/// How often it looks: it waits for a disk, not for a socket.
const LOOK: Duration = Duration::from_millis(200);

/// A file that grows.
struct Growing {
    file: File,
    inode: u64,
    /// The begin of a line that is not whole yet.
    begun: Vec<u8>,
}

/// `read`: how much of the file was shown already.
pub fn run(path: &Path, read: u64, lines: &mut Lines<'_>) -> Result<Ending, Failure> {
    let failed = |source| Failure::Unreadable { path: path.to_owned(), source };
    let mut growing = Growing::open(path, read).map_err(failed)?;
    while !lines.terminal.is_closed() {
        if let Some(growing) = &mut growing {
            growing.read(lines).map_err(failed)?;
        }
        let now = std::fs::metadata(path).ok().map(|found| found.ino());
        if now.is_some() && now != growing.as_ref().map(|growing| growing.inode) {
            // What came in between.
            if let Some(growing) = &mut growing {
                growing.read(lines).map_err(failed)?;
            }
            growing = Growing::open(path, 0).map_err(failed)?;
            continue;
        }
        std::thread::sleep(LOOK);
    }
    Ok(Ending::Fine)
}

impl Growing {
    fn open(path: &Path, read: u64) -> io::Result<Option<Self>> {
        let mut file = match File::open(path) {
            Err(e) if e.kind() == io::ErrorKind::NotFound => return Ok(None),
            file => file?,
        };
        let found = file.metadata()?;
        // A shorter one was begun meanwhile.
        let from = if found.len() < read { 0 } else { read };
        file.seek(SeekFrom::Start(from))?;
        Ok(Some(Self { file, inode: found.ino(), begun: Vec::new() }))
    }

    fn read(&mut self, lines: &mut Lines<'_>) -> io::Result<()> {
        self.file.read_to_end(&mut self.begun)?;
        let whole = self.begun.iter().rposition(|byte| *byte == b'\n').map_or(0, |at| at + 1);
        let text: Vec<u8> = self.begun.drain(..whole).collect();
        lines.text(&String::from_utf8_lossy(&text));
        Ok(())
    }
}
