//! What the kernel's gate of this version cannot put in force. Nothing of the
//! orders is silently left out: such orders are not posted at all.

use std::path::Path;

use tipstaff_core::brief::{Brief, RuleIndex};
use tipstaff_core::orders::Rule;

/// A key that cannot be put in force.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
#[error("{place}: `{key}` cannot be put in force by the gate of this version{kernel}: {why}")]
pub struct Unenforceable {
    /// `rule 3 (web), line 40`.
    pub place: String,
    /// The key and its value, as orders write it.
    pub key: String,
    /// Why not.
    pub why: String,
    /// ` on Linux 6.18.1`.
    pub kernel: String,
}

fn kernel() -> String {
    let release = nix::sys::utsname::uname()
        .map(|name| format!(" on Linux {}", name.release().to_string_lossy()));
    release.unwrap_or_default()
}

fn place(index: RuleIndex, rule: &Rule) -> String {
    let file = rule.part.as_ref().map(|part| format!(" of {part}")).unwrap_or_default();
    let (position, name, line) = (index.position(), &rule.name, rule.line);
    format!("rule {position} ({name}), line {line}{file}")
}

/// Why this machine cannot tell programs apart; `None`: it can.
fn cannot_tell_programs() -> Option<&'static str> {
    if !Path::new(tipstaff_bpf::btf::VMLINUX).exists() {
        Some(
            "this kernel does not describe its types (CONFIG_DEBUG_INFO_BTF); without that, \
             programs cannot be told apart",
        )
    } else {
        None
    }
}

/// Finds the first key of a list that cannot be put in force. Rules that are
/// not active here do not matter.
///
/// # Errors
/// [`Unenforceable`].
pub fn check(brief: &Brief) -> Result<(), Unenforceable> {
    match cannot_tell_programs() {
        Some(why) => refuse_programs(brief, why),
        None => Ok(()),
    }
}

/// As [`check`], where sockets turned out to have no labels.
///
/// # Errors
/// [`Unenforceable`].
pub(crate) fn without_owner_tags(brief: &Brief) -> Result<(), Unenforceable> {
    let why = "sockets cannot be labelled here: there is no cgroup v2 hierarchy, the kernel \
               does not describe its types (BTF), or it lets no program copy its memory \
               (lockdown=confidentiality)";
    refuse_programs(brief, cannot_tell_programs().unwrap_or(why))
}

fn refuse_programs(brief: &Brief, why: &str) -> Result<(), Unenforceable> {
    match brief.indexed().find(|(_, rule)| rule.is_active() && !rule.program.is_any()) {
        Some((index, rule)) => Err(Unenforceable {
            place: place(index, rule),
            key: format!("program = {}", rule.program.describe()),
            why: why.to_owned(),
            kernel: kernel(),
        }),
        None => Ok(()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use tipstaff_core::orders::read;

    #[test]
    fn each_key_is_named_with_its_rule_and_only_where_it_speaks() {
        let refused = |key: &str| {
            let text = format!(
                "version = 1\n[standing]\ninbound = \"deny\"\noutbound = \"allow\"\ntransit = \"deny\"\n\
                 [[rules]]\nname = \"web\"\naction = \"allow\"\ntraffic = \"http\"\n{key}\n"
            );
            without_owner_tags(&Brief::unplaced(&read(&text).unwrap()))
                .map_err(|e| (e.place, e.key))
        };
        let key = "program = \"/usr/sbin/plated\"";
        let told = ("rule 1 (web), line 6".into(), "program = /usr/sbin/plated".to_owned());
        assert_eq!(refused(key), Err(told));
        assert_eq!(refused(&format!("{key}\nenabled = false")), Ok(()));
        assert_eq!(refused(""), Ok(()));
    }
}
