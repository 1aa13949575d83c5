//! A capture of what was decided, pcapng (draft-ietf-opsawg-pcapng) with the reason as the
//! comment of each packet: whole or not at all.

use std::io::{self, BufWriter, Write};
use std::path::{Path, PathBuf};
use std::time::Duration;

use tempfile::NamedTempFile;
use tipstaff_host::files;

const SECTION_HEADER: u32 = 0x0a0d_0d0a;
const BYTE_ORDER: u32 = 0x1a2b_3c4d;
const INTERFACE_DESCRIPTION: u32 = 1;
const ENHANCED_PACKET: u32 = 6;

/// Codes of options.
mod option {
    pub const END: u16 = 0;
    pub const COMMENT: u16 = 1;
    pub const NAME: u16 = 2;
    pub const RESOLUTION: u16 = 9;
}

/// The writing end.
pub struct Writing {
    path: PathBuf,
    file: BufWriter<NamedTempFile>,
}

fn padded(out: &mut Vec<u8>, bytes: &[u8]) {
    out.extend(bytes);
    out.resize(out.len().next_multiple_of(4), 0);
}

fn option(out: &mut Vec<u8>, code: u16, value: &[u8]) {
    let value = &value[..value.len().min(usize::from(u16::MAX) - 3)];
    out.extend(code.to_le_bytes());
    out.extend((value.len() as u16).to_le_bytes());
    padded(out, value);
}

impl Writing {
    /// Begins a file beside its place.
    pub fn begin(path: &Path) -> io::Result<Self> {
        let file = BufWriter::new(NamedTempFile::new_in(files::folder(path))?);
        let mut writing = Self { path: path.to_owned(), file };
        let mut body = BYTE_ORDER.to_le_bytes().to_vec();
        body.extend([1, 0, 0, 0]);
        // The length of the section is not told.
        body.extend(u64::MAX.to_le_bytes());
        writing.block(SECTION_HEADER, &body)?;
        Ok(writing)
    }

    /// The next interface.
    pub fn interface(&mut self, name: Option<&str>, kind: i32) -> io::Result<()> {
        let mut body = (kind as u16).to_le_bytes().to_vec();
        body.extend([0; 6]);
        if let Some(name) = name {
            option(&mut body, option::NAME, name.as_bytes());
        }
        // Nanoseconds.
        option(&mut body, option::RESOLUTION, &[9]);
        option(&mut body, option::END, &[]);
        self.block(INTERFACE_DESCRIPTION, &body)
    }

    /// A packet of an interface.
    pub fn packet(
        &mut self,
        interface: usize,
        at: Duration,
        length: u64,
        data: &[u8],
        comment: &str,
    ) -> io::Result<()> {
        let ticks = u64::try_from(at.as_nanos()).unwrap_or(u64::MAX);
        let mut body = Vec::with_capacity(data.len() + comment.len() + 40);
        for word in [
            interface as u32,
            (ticks >> 32) as u32,
            ticks as u32,
            data.len() as u32,
            u32::try_from(length).unwrap_or(u32::MAX),
        ] {
            body.extend(word.to_le_bytes());
        }
        padded(&mut body, data);
        option(&mut body, option::COMMENT, comment.as_bytes());
        option(&mut body, option::END, &[]);
        self.block(ENHANCED_PACKET, &body)
    }

    fn block(&mut self, kind: u32, body: &[u8]) -> io::Result<()> {
        let length = u32::try_from(body.len() + 12).map_err(io::Error::other)?.to_le_bytes();
        for part in [&kind.to_le_bytes()[..], &length, body, &length] {
            self.file.write_all(part)?;
        }
        Ok(())
    }

    /// Gives it its name.
    pub fn finish(self) -> io::Result<()> {
        let file = self.file.into_inner().map_err(|e| io::Error::other(e.to_string()))?;
        file.as_file().sync_all()?;
        file.persist(&self.path).map(drop).map_err(|e| e.error)
    }
}
