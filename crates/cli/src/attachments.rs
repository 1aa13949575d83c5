//! Reads orders and what they name beside their own file: included files of
//! orders, lists of addresses. Relative names are looked for in the folder of
//! the orders. Each file is opened once; whether somebody else could change it
//! is seen where it was opened.

use std::collections::BTreeSet;
use std::path::Path;
use std::{fs, io};

use tipstaff_core::orders::{Attachments, Documents, Lists, Part, includes_named, lists_named};
use tipstaff_host::files::{self, Distrust, MOST_TEXT};

/// The texts of orders and of all files that they name.
pub struct Written {
    /// The orders' own.
    pub text: String,
    /// What they name.
    pub attachments: Attachments,
    /// The first of the files that others could change.
    pub distrust: Option<Distrust>,
}

/// Reads orders with everything that they name.
pub fn read(path: &Path) -> io::Result<Written> {
    let mut written = read_for_edit(path)?;
    let mut reader = Reader { distrust: written.distrust.take() };
    let sheets = Documents { text: &written.text, attachments: &written.attachments };
    written.attachments.lists = Some(reader.lists(files::folder(path), sheets));
    written.distrust = reader.distrust;
    Ok(written)
}

/// The lists that these texts of the orders at `path` name.
pub fn lists_of(path: &Path, sheets: Documents<'_>) -> Lists {
    Reader { distrust: None }.lists(files::folder(path), sheets)
}

/// The orders and the files that they include, which is enough for an edit.
pub fn read_for_edit(path: &Path) -> io::Result<Written> {
    let mut reader = Reader { distrust: None };
    let (text, _) = reader.text(path)?;
    let included = includes_named(&text).into_iter().map(|pattern| {
        let parts = reader.parts(files::folder(path), &pattern);
        (pattern, parts)
    });
    let attachments = Attachments { included: included.collect(), lists: None };
    Ok(Written { text, attachments, distrust: reader.distrust })
}

/// Reads files and keeps in mind whom they depend on.
struct Reader {
    distrust: Option<Distrust>,
}

impl Reader {
    /// A text, and where its file really is.
    fn text(&mut self, path: &Path) -> io::Result<(String, std::path::PathBuf)> {
        let mut file = files::open(path)?;
        if self.distrust.is_none() {
            self.distrust = file.distrust();
        }
        Ok((file.text(MOST_TEXT)?, file.real().to_owned()))
    }

    fn lists(&mut self, folder: &Path, sheets: Documents<'_>) -> Lists {
        let texts = sheets.parts().into_iter().map(|part| part.text.as_str()).chain([sheets.text]);
        let names: BTreeSet<String> = texts.flat_map(lists_named).collect();
        let lists = names.into_iter().map(|name| {
            let text = self.list(folder, &name);
            (name, text)
        });
        lists.collect()
    }

    fn list(&mut self, folder: &Path, name: &str) -> Result<String, String> {
        let (text, real) = self.text(&folder.join(name)).map_err(|e| e.to_string())?;
        if !name.starts_with('/') {
            stays_in(folder, &real)?;
        }
        Ok(text)
    }

    /// The files of one pattern, sorted by name. A pattern without a wildcard
    /// means a file that is there; one with a wildcard may mean none yet, but in a
    /// folder that is there.
    fn parts(&mut self, folder: &Path, pattern: &str) -> Result<Vec<Part>, String> {
        fn told(e: &dyn std::fmt::Display) -> String {
            e.to_string()
        }
        let real = fs::canonicalize(folder).map_err(|e| told(&e))?;
        let whole = format!("{}/{pattern}", glob::Pattern::escape(&real.to_string_lossy()));
        let mut parts = Vec::new();
        for found in glob::glob(&whole).map_err(|e| told(&e.msg))? {
            let found = found.map_err(|e| told(&e))?;
            let name = found.strip_prefix(&real).unwrap_or(&found).display().to_string();
            let named = |why: String| format!("{name}: {why}");
            let (text, target) = self.text(&found).map_err(|e| named(e.to_string()))?;
            stays_in(folder, &target).map_err(named)?;
            parts.push(Part { name, text });
        }
        fn wild(text: &str) -> bool {
            text.contains(['*', '?', '['])
        }
        let begin = pattern.rsplit_once('/').map_or("", |(folder, _)| folder);
        if parts.is_empty() && !wild(pattern) {
            return Err("no such file".into());
        }
        if parts.is_empty() && !wild(begin) && !real.join(begin).is_dir() {
            return Err(format!("no directory {begin}"));
        }
        Ok(parts)
    }
}

/// A file that was opened by a relative name lies where the name says.
fn stays_in(folder: &Path, real: &Path) -> Result<(), String> {
    let folder = fs::canonicalize(folder).map_err(|e| e.to_string())?;
    match real.starts_with(folder) {
        true => Ok(()),
        false => Err("it is a symbolic link that points outside the orders' directory".into()),
    }
}
