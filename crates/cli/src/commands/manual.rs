//! `manual`: the manual pages of all commands.

use tipstaff_host::files::{self, Access};

use crate::arguments::ManualOptions;
use crate::ending::Ending;
use crate::failure::{Failure, system};
use crate::help::pages;
use crate::terminal::{Terminal, counted};

pub fn run(options: &ManualOptions, terminal: &Terminal) -> Result<Ending, Failure> {
    let folder = &options.to;
    std::fs::create_dir_all(folder)
        .map_err(|source| Failure::Unwritable { path: folder.clone(), source })?;
    let pages = pages::all().map_err(system("writing a manual page"))?;
    for (name, text) in &pages {
        let path = folder.join(name);
        files::replace(&path, text, Access::Mode(0o644))
            .map_err(|source| Failure::Unwritable { path, source })?;
    }
    terminal.line(format!("{} in {}", counted(pages.len(), "page", "pages"), folder.display()));
    Ok(Ending::Fine)
}
