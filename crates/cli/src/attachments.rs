//! Reads what orders name beside their own file: included files of orders,
//! lists of addresses. All of them are looked for in the folder of the orders.

use std::collections::BTreeSet;
use std::fs;
use std::path::Path;

use tipstaff_core::orders::{Attachments, Part, Sheets, includes_named, lists_named};

/// Everything that the orders in `path` name.
pub fn of(path: &Path, text: &str) -> Attachments {
    let mut attachments = included(path, text);
    let folder = folder(path);
    let sheets = Sheets { text, attachments: &attachments };
    let texts = sheets.parts().into_iter().map(|part| part.text.as_str()).chain([text]);
    let names: BTreeSet<String> = texts.flat_map(lists_named).collect();
    let read = |name: &String| fs::read_to_string(folder.join(name)).map_err(|e| e.to_string());
    let lists = names.into_iter().map(|name| (name.clone(), read(&name)));
    attachments.lists = Some(lists.collect());
    attachments
}

/// Included files only, which is enough for an edit.
pub fn included(path: &Path, text: &str) -> Attachments {
    let patterns = includes_named(text);
    let included = patterns.into_iter().map(|pattern| {
        let parts = parts(folder(path), &pattern);
        (pattern, parts)
    });
    Attachments { included: included.collect(), lists: None }
}

fn folder(path: &Path) -> &Path {
    match path.parent() {
        Some(folder) if folder != Path::new("") => folder,
        _ => Path::new("."),
    }
}

/// The files of one pattern, sorted by name. A pattern without a wildcard
/// means a file that is there; one with a wildcard may mean none yet, but in a
/// folder that is there.
fn parts(folder: &Path, pattern: &str) -> Result<Vec<Part>, String> {
    let told = |e: &dyn std::fmt::Display| e.to_string();
    let real = fs::canonicalize(folder).map_err(|e| told(&e))?;
    let whole = format!("{}/{pattern}", glob::Pattern::escape(&real.to_string_lossy()));
    let mut parts = Vec::new();
    for found in glob::glob(&whole).map_err(|e| told(&e.msg))? {
        let found = found.map_err(|e| told(&e))?;
        let target = fs::canonicalize(&found).map_err(|e| told(&e))?;
        let name = found.strip_prefix(&real).unwrap_or(&found).display().to_string();
        if !target.starts_with(&real) {
            return Err(format!("{name} is a link that leads out of the folder of the orders"));
        }
        let text = fs::read_to_string(&target).map_err(|e| format!("{name}: {e}"))?;
        parts.push(Part { name, text });
    }
    let wild = |text: &str| text.contains(['*', '?', '[']);
    let begin = pattern.rsplit_once('/').map_or("", |(folder, _)| folder);
    if parts.is_empty() && !wild(pattern) {
        return Err("there is no such file".into());
    }
    if parts.is_empty() && !wild(begin) && !real.join(begin).is_dir() {
        return Err(format!("there is no folder {begin}"));
    }
    Ok(parts)
}
