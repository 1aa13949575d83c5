//! Arguments of the commands that put orders in force, take them back, and end connections.

use std::net::IpAddr;
use std::path::PathBuf;
use std::time::Duration;

use clap::{Args, Subcommand};

#[derive(Args, Debug)]
pub struct PostOptions {
    /// Only check and show; put nothing in force (needs no root)
    #[arg(long)]
    pub check: bool,
    /// Put them in force for this long; unless `confirm` comes, the kernel goes back by itself
    #[arg(long, value_name = "TIME", value_parser = duration)]
    pub trial: Option<Duration>,
    /// Why, for the history
    #[arg(long, value_name = "TEXT")]
    pub reason: Option<String>,
    /// End the connections that the orders would not let in again; of a trial, once it is confirmed here
    #[arg(long, conflicts_with = "check")]
    pub cut: bool,
    /// Post even orders that would not let your own shell in again
    #[arg(long)]
    pub even_if_i_am_cut_off: bool,
    /// Not the file, but this revision of the history
    #[arg(long, value_name = "NUMBER", conflicts_with = "check")]
    pub revision: Option<u32>,
}

#[derive(Args, Debug)]
pub struct PostureOptions {
    /// Take up this one: of the orders in force, or sealed (nothing in, nothing out), or none
    pub name: Option<String>,
    /// Only for this long; then the kernel goes back to the one before by itself
    #[arg(long = "for", value_name = "TIME", value_parser = duration, requires = "name")]
    pub time: Option<Duration>,
    /// Only until this command ends, however it ends
    #[arg(long, requires = "name", conflicts_with = "time")]
    pub while_i_wait: bool,
    /// Why, for the history
    #[arg(long, value_name = "TEXT", requires = "name")]
    pub reason: Option<String>,
}

#[derive(Args, Debug)]
pub struct InstallBootOptions {
    /// Write below DIR instead of /
    #[arg(long, value_name = "DIR", default_value = "/")]
    pub root: PathBuf,
    /// Only print what would be written
    #[arg(long)]
    pub print: bool,
}

#[derive(Args, Debug)]
pub struct CutOptions {
    /// Only those that this rule (name or position) would keep out
    #[arg(long)]
    pub rule: Option<String>,
    /// Only those with this address at the other end
    #[arg(long, value_name = "ADDRESS")]
    pub peer: Option<IpAddr>,
    /// Only those of this program, by its path or name
    #[arg(long)]
    pub program: Option<String>,
    /// Only show them
    #[arg(long)]
    pub dry_run: bool,
    /// Do not ask
    #[arg(long)]
    pub yes: bool,
}

#[derive(Args, Debug)]
pub struct ConfirmOptions {
    /// End the trial now instead: what was in force before is so again
    #[arg(long)]
    pub revert: bool,
}

#[derive(Args, Debug)]
pub struct WithdrawOptions {
    /// Only for this long; then the kernel puts the orders in force again by itself
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
    /// Forget old revisions; the last one that was meant to stay is never forgotten
    Prune {
        /// How many of the newest stay
        #[arg(long, default_value_t = 50)]
        keep: usize,
    },
}

/// `60s`, `10m`, `1h 30m`: a second at least, a day at most.
fn duration(text: &str) -> Result<Duration, String> {
    const MOST: Duration = Duration::from_secs(24 * 3_600);
    let read: jiff::SignedDuration =
        text.parse().map_err(|_| "write it like 60s, 10m or 1h30m".to_owned())?;
    let time = Duration::try_from(read).map_err(|_| "it lies in the past".to_owned())?;
    if (Duration::from_secs(1)..=MOST).contains(&time) {
        Ok(time)
    } else {
        Err("between 1s and 24h".into())
    }
}
