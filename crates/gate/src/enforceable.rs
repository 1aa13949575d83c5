//! What the kernel's gate of this version cannot put in force. Nothing of the
//! orders is silently left out: such orders are not posted at all.

use tipstaff_core::brief::Brief;
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
    pub why: &'static str,
    /// ` on Linux 6.18.1`.
    pub kernel: String,
}

/// Finds the first key of a list that cannot be put in force. Rules that do
/// not speak here are no matter.
///
/// # Errors
/// [`Unenforceable`].
pub fn check(brief: &Brief) -> Result<(), Unenforceable> {
    let release = nix::sys::utsname::uname()
        .map(|name| format!(" on Linux {}", name.release().to_string_lossy()));
    let kernel = release.unwrap_or_default();
    for (index, rule) in brief.indexed().filter(|(_, rule)| rule.speaks()) {
        if let Some((key, why)) = missing(rule) {
            let file = rule.part.as_ref().map(|part| format!(" of {part}")).unwrap_or_default();
            let (position, name, line) = (index.position(), &rule.name, rule.line);
            let place = format!("rule {position} ({name}), line {line}{file}");
            return Err(Unenforceable { place, key, why, kernel });
        }
    }
    Ok(())
}

fn missing(rule: &Rule) -> Option<(String, &'static str)> {
    if !rule.program.is_any() {
        let why = "it does not know yet which program listens";
        Some((format!("program = {}", rule.program.words()), why))
    } else {
        None
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
            check(&Brief::of(&read(&text).unwrap())).map_err(|e| (e.place, e.key))
        };
        let key = "program = \"/usr/sbin/plated\"";
        let told = ("rule 1 (web), line 6".into(), "program = /usr/sbin/plated".to_owned());
        assert_eq!(refused(key), Err(told));
        assert_eq!(refused(&format!("{key}\nenabled = false")), Ok(()));
        assert_eq!(refused(""), Ok(()));
    }
}
