//! Which programs hold which sockets: one pass over /proc/*/fd. An ordinary
//! account sees only its own programs.

use std::cell::RefCell;
use std::collections::{HashMap, HashSet};
use std::fs;
use std::path::Path;

use nix::unistd::{Uid, User};
use tipstaff_core::listener::Program;

pub(crate) struct Owners {
    programs: HashMap<u32, Vec<Program>>,
    accounts: RefCell<HashMap<u32, String>>,
}

impl Owners {
    /// Looks for the holders of these socket inodes.
    pub(crate) fn of(inodes: HashSet<u32>) -> Self {
        let mut programs: HashMap<u32, Vec<Program>> = HashMap::new();
        let processes = fs::read_dir("/proc").into_iter().flatten().flatten();
        for process in processes {
            let pid = process.file_name().to_str().and_then(|name| name.parse::<u32>().ok());
            let Some(pid) = pid else { continue };
            let mut held: HashSet<u32> = HashSet::new();
            // Gone or not ours: nothing to see.
            for entry in fs::read_dir(process.path().join("fd")).into_iter().flatten().flatten() {
                let inode = fs::read_link(entry.path()).ok().and_then(|to| socket_inode(&to));
                held.extend(inode.filter(|inode| inodes.contains(inode)));
            }
            if let Some(program) = (!held.is_empty()).then(|| program(pid, &process.path())) {
                for inode in held {
                    programs.entry(inode).or_default().push(program.clone());
                }
            }
        }
        programs.values_mut().for_each(|list| list.sort());
        Self { programs, accounts: RefCell::default() }
    }

    pub(crate) fn programs(&self, inode: u32) -> Vec<Program> {
        self.programs.get(&inode).cloned().unwrap_or_default()
    }

    /// The account's name, or its number.
    pub(crate) fn account(&self, uid: u32) -> String {
        let mut known = self.accounts.borrow_mut();
        known
            .entry(uid)
            .or_insert_with(|| match User::from_uid(Uid::from_raw(uid)) {
                Ok(Some(user)) => user.name,
                _ => uid.to_string(),
            })
            .clone()
    }
}

fn socket_inode(link: &Path) -> Option<u32> {
    link.to_str()?.strip_prefix("socket:[")?.strip_suffix(']')?.parse().ok()
}

fn program(pid: u32, process: &Path) -> Program {
    let path = fs::read_link(process.join("exe")).ok();
    let path = path.and_then(|p| p.to_str().map(|p| p.trim_end_matches(" (deleted)").to_owned()));
    let from_path = path.as_deref().and_then(|p| Path::new(p).file_name()?.to_str());
    let name = match from_path {
        Some(name) => name.to_owned(),
        None => fs::read_to_string(process.join("comm")).unwrap_or_default().trim().to_owned(),
    };
    Program { pid, name, path }
}
