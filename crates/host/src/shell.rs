//! Where the person at the keyboard sits: SSH_CONNECTION in the own
//! environment, else in an ancestor's (sudo drops it from the own).

use std::fs;

use tipstaff_core::analysis::draft::Shell;

/// So many ancestors are asked at most.
const ANCESTORS: usize = 32;

/// The remote shell that this process was started from, where one can be found.
pub fn find() -> Option<Shell> {
    let own = std::env::var("SSH_CONNECTION").ok();
    own.as_deref().and_then(parse).or_else(of_ancestors)
}

/// The processes that this one descends from, the nearest first, without the
/// first of all.
pub fn ancestors() -> Vec<u32> {
    std::iter::successors(Some(nix::unistd::getppid().as_raw()), |pid| {
        parent_of(&fs::read_to_string(format!("/proc/{pid}/stat")).ok()?)
    })
    .take_while(|pid| *pid > 1)
    .take(ANCESTORS)
    .filter_map(|pid| u32::try_from(pid).ok())
    .collect()
}

fn of_ancestors() -> Option<Shell> {
    for pid in ancestors() {
        let environment = fs::read(format!("/proc/{pid}/environ")).unwrap_or_default();
        let found = environment
            .split(|byte| *byte == 0)
            .filter_map(|entry| std::str::from_utf8(entry).ok())
            .find_map(|entry| parse(entry.strip_prefix("SSH_CONNECTION=")?));
        if found.is_some() {
            return found;
        }
    }
    None
}

/// Field 4 of /proc/PID/stat; the name in field 2 may have spaces and brackets in it.
fn parent_of(stat: &str) -> Option<i32> {
    stat.rsplit_once(')')?.1.split_whitespace().nth(1)?.parse().ok()
}

/// `client-address client-port server-address server-port`.
fn parse(text: &str) -> Option<Shell> {
    let mut fields = text.split(' ');
    let from = fields.next()?.parse().ok()?;
    let port = fields.nth(2)?.parse().ok()?;
    Some(Shell { from, port })
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_variable_says_who_and_by_which_port() {
        let shell = parse("203.0.113.9 50022 198.51.100.20 2222").unwrap();
        assert_eq!((shell.from.to_string().as_str(), shell.port), ("203.0.113.9", 2222));
        assert_eq!(parse("2001:db8:113::9 50022 2001:db8:51::20 22").unwrap().port, 22);
        assert!(parse("").is_none() && parse("nonsense 1 2 3").is_none());
    }

    #[test]
    fn a_name_with_brackets_does_not_hide_the_parent() {
        assert_eq!(parent_of("4711 (odd ) name) S 42 4711 0"), Some(42));
        assert_eq!(parent_of("no stat"), None);
    }
}
