//! Which programs hold which sockets: one pass over /proc/*/fd. An ordinary
//! account sees only its own programs.

use std::cell::RefCell;
use std::collections::{HashMap, HashSet};
use std::fs;
use std::path::Path;

use nix::unistd::{Uid, User};
use tipstaff_core::host::listener::Program;

pub(crate) struct Owners {
    programs: HashMap<u32, Vec<Program>>,
    accounts: RefCell<HashMap<u32, String>>,
}

impl Owners {
    /// Looks for the holders of these socket inodes.
    pub(crate) fn find(inodes: HashSet<u32>) -> Self {
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

/// What runs scripts; behind the name may stand a version.
const INTERPRETERS: [&str; 11] =
    ["python", "perl", "ruby", "node", "nodejs", "php", "lua", "bash", "sh", "dash", "java"];

/// Bytes of a name that the kernel keeps (`TASK_COMM_LEN`, less the zero).
const SHORT_NAME: usize = 15;

fn program(pid: u32, process: &Path) -> Program {
    let path = fs::read_link(process.join("exe")).ok();
    let path = path.and_then(|p| p.to_str().map(|p| p.trim_end_matches(" (deleted)").to_owned()));
    let short = fs::read_to_string(process.join("comm")).unwrap_or_default();
    let line = fs::read(process.join("cmdline")).unwrap_or_default();
    let arguments: Vec<String> =
        line.split(|byte| *byte == 0).map(|word| String::from_utf8_lossy(word).into()).collect();
    Program { pid, name: name(path.as_deref(), short.trim_end_matches('\n'), &arguments), path }
}

/// What people call a program: the name of the command that was run, which need not
/// be that of the file (a link leads there), and of what runs a script the script
/// too. A program may call itself what it likes; its path says what it is.
fn name(path: Option<&str>, short: &str, arguments: &[String]) -> String {
    fn last_part(path: &str) -> String {
        path.rsplit('/').next().unwrap_or_default().to_owned()
    }
    let file = path.map(last_part).unwrap_or_default();
    // Some write what they do behind their name: `nginx: master process …`.
    let first = arguments.first().and_then(|word| word.split([' ', ':']).next());
    let first = first.map(last_part).unwrap_or_default();
    let family = file.trim_end_matches(|c: char| c.is_ascii_digit() || c == '.');
    if INTERPRETERS.contains(&family) {
        let command = if first.is_empty() { file } else { first };
        return match script(arguments) {
            Some(script) => format!("{command} ({})", last_part(&script)),
            None => command,
        };
    }
    [first, file.clone()]
        .into_iter()
        .find(|name| name.starts_with(short) && short.len() == SHORT_NAME)
        .unwrap_or_else(|| match short {
            "" => file,
            short => short.to_owned(),
        })
}

/// The script, module or archive that an interpreter was told to run.
fn script(arguments: &[String]) -> Option<String> {
    let mut words = arguments.iter().skip(1).filter(|word| !word.is_empty());
    while let Some(word) = words.next() {
        match word.as_str() {
            "-m" | "-jar" => return words.next().cloned(),
            // What follows is the program itself.
            "-c" | "-e" => return None,
            option if option.starts_with('-') => {}
            script => return Some(script.to_owned()),
        }
    }
    None
}

#[cfg(test)]
mod tests {
    use std::io::{Read, Write};
    use std::process::Stdio;

    use super::*;

    #[test]
    fn programs_are_called_what_people_call_them() {
        let named = |path: &str, short: &str, line: &str| {
            let arguments: Vec<String> = line.split('|').map(str::to_owned).collect();
            name(Some(path), short, &arguments)
        };
        for (path, short, line, expected) in [
            ("/usr/bin/domed-check", "domed", "/usr/bin/domed|--all", "domed"),
            ("/usr/sbin/plated", "plated", "plated: master process /usr/sbin/plated", "plated"),
            ("/usr/bin/python3.11", "python3", "python3|/srv/serve.py", "python3 (serve.py)"),
            (
                "/usr/bin/python3.11",
                "serve.py",
                "/usr/bin/python3|./serve.py",
                "python3 (serve.py)",
            ),
            (
                "/usr/bin/python3.11",
                "python3",
                "python3|-u|-m|http.server",
                "python3 (http.server)",
            ),
            ("/usr/bin/python3.11", "python3", "python3|-c|import x", "python3"),
            ("/opt/jdk/bin/java", "java", "java|-Xmx1g|-jar|/srv/dome.jar", "java (dome.jar)"),
            (
                "/usr/bin/telescope-control",
                "telescope-contr",
                "telescope-control",
                "telescope-control",
            ),
            ("/usr/bin/plated", "renamed", "plated", "renamed"),
            ("/usr/bin/plated", "", "", "plated"),
        ] {
            assert_eq!(named(path, short, line), expected, "{line}");
        }
        assert_eq!(name(None, "plated", &[]), "plated");
    }

    /// What /proc says of a process that was started by a link.
    #[test]
    fn a_link_has_the_name_of_the_command() {
        let folder = tempfile::tempdir().unwrap();
        let link = folder.path().join("dome-control-of-the-south");
        std::os::unix::fs::symlink("/bin/cat", &link).unwrap();
        let mut command = std::process::Command::new(&link);
        let mut child = command.stdin(Stdio::piped()).stdout(Stdio::piped()).spawn().unwrap();
        // It runs once it has said something.
        child.stdin.as_mut().unwrap().write_all(b"x").unwrap();
        child.stdout.as_mut().unwrap().read_exact(&mut [0]).unwrap();
        let found = program(child.id(), Path::new(&format!("/proc/{}", child.id())));
        child.kill().unwrap();
        child.wait().unwrap();
        assert_eq!(found.name, "dome-control-of-the-south");
    }
}
