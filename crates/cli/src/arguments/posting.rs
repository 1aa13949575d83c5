//! Arguments of the commands that put orders in force, take them back, and end connections.

use std::net::IpAddr;
use std::path::PathBuf;
use std::time::Duration;

use clap::{Args, Subcommand};
use tipstaff_core::orders::OrdersHash;

#[derive(Args, Debug)]
pub struct PostOptions {
    /// Only check and show; nothing is put in force (needs no root)
    #[arg(long)]
    pub check: bool,
    /// Put them on trial for this long; the kernel rolls back unless `tipstaff confirm` is run
    #[arg(long, value_name = "TIME", value_parser = duration)]
    pub trial: Option<Duration>,
    /// Rehearse them: they decide, count and record what passes, and stop nothing; `tipstaff
    /// rehearse report` tells what they would have denied
    #[arg(long, conflicts_with_all = ["check", "trial", "cut"])]
    pub rehearse: bool,
    /// Rehearse them for this long [default: until `rehearse end`, a post or a restart]
    #[arg(long = "for", value_name = "TIME", value_parser = days, requires = "rehearse")]
    pub time: Option<Duration>,
    /// Reason, for the history
    #[arg(long, value_name = "TEXT")]
    pub reason: Option<String>,
    /// End open connections that the orders no longer let in; for a trial, once it is confirmed
    /// here
    #[arg(long, conflicts_with = "check")]
    pub cut: bool,
    /// Post even if your own shell could not log in again
    #[arg(long)]
    pub even_if_i_am_cut_off: bool,
    /// Post this revision of the history instead of the file
    #[arg(long, value_name = "NUMBER", conflicts_with = "check")]
    pub revision: Option<u32>,
    /// Where these orders belong, when they were sent from elsewhere
    #[arg(long, value_name = "FILE", hide = true)]
    pub recorded_as: Option<PathBuf>,
}

/// What can be done with orders that are rehearsed.
#[derive(Subcommand, Clone, Copy, Debug, PartialEq, Eq)]
pub enum RehearseCommand {
    /// Show what they would have denied: what for, from where, how often; and the rule that would
    /// let it in
    Report {
        /// Show so many rules at most [default: 20]
        #[arg(long, value_name = "N")]
        count: Option<usize>,
    },
    /// End the rehearsal; what is in force stays in force
    End,
}

#[derive(Args, Debug)]
pub struct PostureOptions {
    /// Switch to this posture of the orders in force, to sealed (nothing in, nothing out), or to
    /// none
    pub name: Option<String>,
    /// Switch only for this long; then the kernel switches back automatically
    #[arg(long = "for", value_name = "TIME", value_parser = duration, requires = "name")]
    pub time: Option<Duration>,
    /// Switch only until this command ends, however it ends
    #[arg(long, requires = "name", conflicts_with = "time")]
    pub while_i_wait: bool,
    /// Reason, for the history
    #[arg(long, value_name = "TEXT", requires = "name")]
    pub reason: Option<String>,
}

#[derive(Args, Debug)]
pub struct BootOptions {
    /// Apply `[boot] on_failure` if `boot` was killed, timed out or failed and nothing is in
    /// force (the unit runs this)
    #[arg(long)]
    pub after_failure: bool,
    /// How it ended, in systemd's words
    #[arg(long, value_name = "RESULT", env = "SERVICE_RESULT", hide = true)]
    pub service_result: Option<String>,
    /// Its exit code, or the signal that killed it
    #[arg(long, value_name = "CODE", env = "EXIT_STATUS", hide = true)]
    pub exit_status: Option<String>,
}

#[derive(Args, Debug)]
pub struct InstallBootOptions {
    /// Install below DIR instead of /
    #[arg(long, value_name = "DIR", default_value = "/")]
    pub root: PathBuf,
    /// Only print what would be written
    #[arg(long)]
    pub print: bool,
    /// Remove the units again; what is in force stays so until the next restart
    #[arg(long, conflicts_with = "print")]
    pub remove: bool,
}

#[derive(Args, Debug)]
pub struct CutOptions {
    /// Only those that this rule (name or position) denies
    #[arg(long)]
    pub rule: Option<String>,
    /// Only those with this remote address
    #[arg(long, value_name = "ADDRESS")]
    pub peer: Option<IpAddr>,
    /// Only those of this program (path or name)
    #[arg(long)]
    pub program: Option<String>,
    /// Show them without ending them
    #[arg(long)]
    pub dry_run: bool,
    /// Do not ask
    #[arg(long)]
    pub yes: bool,
}

#[derive(Args, Debug)]
pub struct ConfirmOptions {
    /// End the trial now and return to what was in force before
    #[arg(long)]
    pub revert: bool,
    /// Only if the orders with this hash are on trial, as `post --json` tells it
    #[arg(long, value_name = "HASH")]
    pub expect: Option<OrdersHash>,
}

#[derive(Args, Debug)]
pub struct WithdrawOptions {
    /// Only for this long; then the kernel puts the orders in force again automatically
    #[arg(long, value_name = "TIME", value_parser = duration)]
    pub until: Option<Duration>,
    /// Do not ask
    #[arg(long)]
    pub yes: bool,
}

/// The history, or one of its revisions.
#[derive(Args, Debug)]
pub struct HistoryOptions {
    #[command(subcommand)]
    pub command: Option<HistoryCommand>,
}

/// What can be done with the history.
#[derive(Subcommand, Debug)]
pub enum HistoryCommand {
    /// Print the orders of a revision
    Show {
        /// Its number
        number: u32,
    },
    /// Delete old revisions; the last permanent one is always kept
    Prune {
        /// How many of the newest to keep
        #[arg(long, default_value_t = 50)]
        keep: usize,
    },
}

/// `60s`, `10m`, `1h 30m`: a second at least, a day at most.
pub(super) fn duration(text: &str) -> Result<Duration, String> {
    const MOST: Duration = Duration::from_secs(24 * 3_600);
    let read: jiff::SignedDuration =
        text.parse().map_err(|_| "expected a duration such as 60s, 10m or 1h30m".to_owned())?;
    let time = Duration::try_from(read).map_err(|_| "it is in the past".to_owned())?;
    if (Duration::from_secs(1)..=MOST).contains(&time) {
        Ok(time)
    } else {
        Err("it must be between 1s and 24h".into())
    }
}

/// `2d`, `1d 12h`, `90m`: a second at least, 90 days at most. A day is 24 hours.
fn days(text: &str) -> Result<Duration, String> {
    const MOST: Duration = Duration::from_secs(90 * 24 * 3_600);
    let read: jiff::Span =
        text.parse().map_err(|_| "expected a duration such as 10m, 12h or 2d".to_owned())?;
    let days_are_24_hours = jiff::SpanRelativeTo::days_are_24_hours();
    let read = read.to_duration(days_are_24_hours).map_err(|e| e.to_string())?;
    let time = Duration::try_from(read).map_err(|_| "it is in the past".to_owned())?;
    match (Duration::from_secs(1)..=MOST).contains(&time) {
        true => Ok(time),
        false => Err("it must be between 1s and 90d".into()),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_rehearsal_may_take_days() {
        let hours = |text: &str| days(text).map(|time| time.as_secs() / 3_600);
        assert_eq!((hours("2d"), hours("1d 12h"), hours("90m")), (Ok(48), Ok(36), Ok(1)));
        for wrong in ["91d", "0s", "-1d", "1 month", "soon"] {
            assert!(days(wrong).is_err(), "{wrong}");
        }
    }
}
