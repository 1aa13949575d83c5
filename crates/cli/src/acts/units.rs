//! The units of systemd that put orders in force at each start.

use std::io;
use std::path::Path;

use schemars::JsonSchema;
use serde::Serialize;
use tipstaff_host::files;

use crate::arguments::Common;
use crate::history::History;

pub const UNITS: &str = "etc/systemd/system";
/// Where units are looked for: the administrator's own, and those of packages
/// (systemd.unit(5)).
pub const SEARCHED: [&str; 3] =
    ["/etc/systemd/system", "/usr/lib/systemd/system", "/lib/systemd/system"];
/// There while systemd runs (sd_booted(3)).
pub const RUNNING: &str = "run/systemd/system";
/// What the units in crates/cli/contrib/ run.
pub const PACKAGED: &str = "/usr/sbin/tipstaff";
pub const KEEP: &str = "tipstaff-keep.service";
pub const BOOT: (&str, &str) = ("tipstaff-boot.service", "sysinit.target");
/// Name, the target that wants it, the command, text.
pub const FILES: [(&str, &str, &str, &str); 2] = [
    (BOOT.0, BOOT.1, "boot", include_str!("../../contrib/tipstaff-boot.service")),
    (KEEP, "sysinit.target", "keep", include_str!("../../contrib/tipstaff-keep.service")),
];

/// This very program with the options that it was given, as a unit writes it.
pub fn command(common: &Common, verb: &str) -> io::Result<String> {
    let mut words = vec![std::env::current_exe()?.display().to_string(), verb.to_owned()];
    let mut option = |name: &str, value: String| words.extend([name.to_owned(), value]);
    let absolute =
        |path: &Path| Ok::<_, io::Error>(std::path::absolute(path)?.display().to_string());
    if let Some(orders) = &common.orders {
        option("--orders", absolute(orders)?);
    }
    if common.history != Path::new(Common::HISTORY) {
        option("--history", absolute(&common.history)?);
    }
    if verb == "keep" && common.log_dir != Path::new(Common::LOG) {
        option("--log-dir", absolute(&common.log_dir)?);
    }
    if common.run_dir != Path::new(Common::RUN) {
        option("--run-dir", absolute(&common.run_dir)?);
    }
    if let Some(host) = &common.host {
        option("--host", host.clone());
    }
    Ok(words.iter().map(|word| quoted(word)).collect::<Vec<_>>().join(" "))
}

/// A word as ExecStart= has it (systemd.service(5)).
fn quoted(word: &str) -> String {
    if !word.is_empty() && word.chars().all(|c| c.is_alphanumeric() || "/._-+:@=,".contains(c)) {
        return word.to_owned();
    }
    let mut out = String::from("\"");
    for c in word.chars() {
        match c {
            '"' | '\\' => out.extend(['\\', c]),
            '%' | '$' => out.extend([c, c]),
            c => out.push(c),
        }
    }
    out.push('"');
    out
}

/// Whether what is in force will be so again after a restart.
#[derive(Debug, JsonSchema, Serialize)]
pub struct Restart {
    /// `None`: nobody can tell here.
    pub in_force: Option<bool>,
    /// By what, or why not.
    pub why: String,
}

/// Looks at the units, and at what was posted to stay.
pub fn restart(common: &Common) -> Restart {
    fn no(why: String) -> Restart {
        Restart { in_force: Some(false), why }
    }
    let found = SEARCHED.iter().map(|folder| Path::new(folder).join(BOOT.0)).find(|p| p.exists());
    let Some(unit) = found else {
        if !Path::new("/").join(RUNNING).exists() {
            let why = "systemd is not running; your init system must run `tipstaff \
                       boot`"
                .to_owned();
            return Restart { in_force: None, why };
        }
        return no("no systemd unit is installed: run tipstaff install-boot".to_owned());
    };
    let enabled = SEARCHED.iter().any(|folder| {
        Path::new(folder).join(format!("{}.wants", BOOT.1)).join(BOOT.0).symlink_metadata().is_ok()
    });
    if !enabled {
        return no(format!("{} is not enabled: run tipstaff install-boot", BOOT.0));
    }
    let text = files::text(&unit, files::MOST_TEXT).unwrap_or_default();
    let runs = text.lines().find_map(|line| line.strip_prefix("ExecStart=")).unwrap_or_default();
    match command(common, "boot") {
        Ok(own) if own != runs => {
            return no(format!(
                "{} runs `{runs}`, not `{own}`: run tipstaff install-boot",
                unit.display()
            ));
        }
        _ => {}
    }
    let fallback =
        match text.lines().any(|line| line == format!("ExecStopPost={runs} --after-failure")) {
            true => "",
            false => "; if it is killed, everything passes: run tipstaff install-boot",
        };
    let history = History::from_options(common);
    let note = history.last_post().map_or(0, |note| note.revision);
    match history.last_kept() {
        Ok(last) if last.as_ref().map_or(0, |last| last.number) < note => {
            no(format!("revision {note}, the last permanent post, is missing from the history"))
        }
        Ok(Some(last)) => Restart {
            in_force: Some(true),
            why: format!("by {}, revision {}{fallback}", BOOT.0, last.number),
        },
        Ok(None) => no("nothing has been posted permanently".to_owned()),
        Err(e) => no(format!("the history cannot be read: {e}")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn words_of_a_unit_are_quoted_where_they_must_be() {
        assert_eq!(quoted("/usr/sbin/tipstaff"), "/usr/sbin/tipstaff");
        assert_eq!(quoted("/srv/the orders/50%\""), "\"/srv/the orders/50%%\\\"\"");
        assert_eq!(quoted(""), "\"\"");
    }

    #[test]
    fn the_units_run_the_two_commands() {
        for (_, _, verb, text) in FILES {
            assert_eq!(text.matches(&format!("ExecStart={PACKAGED} {verb}\n")).count(), 1);
            // `install-boot` writes the options of each command behind its name.
            let commands = text.matches(PACKAGED).count();
            assert_eq!(text.matches(&format!("={PACKAGED} {verb}")).count(), commands);
        }
    }
}
