//! Arguments of the commands that work on many hosts.

use std::path::PathBuf;
use std::time::Duration;

use clap::{Args, Subcommand};
use tipstaff_core::analysis::fleet::Waves;

use super::looking::{DecisionOptions, Top};
use super::posting::duration;

/// Options of all commands of the fleet.
#[derive(Args, Debug)]
pub struct FleetOptions {
    /// How many hosts to ask, and to have on trial, at a time
    #[arg(long, global = true, value_name = "NUMBER", default_value_t = 16,
          value_parser = clap::value_parser!(u16).range(1..=512))]
    pub parallel: u16,
    /// How long to wait for a host's answer
    #[arg(long, global = true, value_name = "TIME", value_parser = duration, default_value = "2m")]
    pub patience: Duration,
    #[command(subcommand)]
    pub command: FleetCommand,
}

/// What can be done with many hosts. A selector is a name, '#tag' or '*'; without one all
/// hosts of the orders are meant.
#[derive(Subcommand, Debug)]
pub enum FleetCommand {
    /// Show which hosts have which orders, and whether all is well there
    ///
    /// Exit code 0: all well; 1: some are not; 3: some could not be asked.
    State {
        /// Names, '#tags' or '*'
        #[arg(value_name = "SELECTOR")]
        hosts: Vec<String>,
    },
    /// Put these orders in force on many hosts, in waves
    ///
    /// In each wave they are on trial first; each host must answer over a new connection, checks
    /// itself, and is checked by others. Only then they are confirmed. If one fails, its wave is
    /// rolled back and no further wave begins.
    Post(FleetPostOptions),
    /// Have every host check every other
    Reach(FleetReachOptions),
    /// Show what the rules of all hosts have counted, added up and by host
    Tally {
        /// Names, '#tags' or '*'
        #[arg(value_name = "SELECTOR")]
        hosts: Vec<String>,
        /// A row for each host, not only the sums
        #[arg(long)]
        by_host: bool,
        /// Include rules that have not matched
        #[arg(long)]
        all: bool,
    },
    /// Show the decisions that hosts have written down, in the order of time
    Log(FleetLogOptions),
    /// Run a command of tipstaff on many hosts
    ///
    /// Commands that read or write other files, ask questions or run until interrupted are
    /// refused.
    Run {
        /// Names, '#tags' or '*'
        #[arg(value_name = "SELECTOR")]
        hosts: Vec<String>,
        /// The command and its arguments, after --
        #[arg(last = true, required = true, value_name = "COMMAND")]
        command: Vec<String>,
    },
}

impl FleetCommand {
    /// Whether all that it writes is a table and what stands below it.
    pub fn is_a_table(&self) -> bool {
        match self {
            Self::State { .. } | Self::Tally { .. } | Self::Log(_) => true,
            Self::Reach(options) => !options.changes,
            Self::Post(_) | Self::Run { .. } => false,
        }
    }
}

#[derive(Args, Debug)]
pub struct FleetPostOptions {
    /// Names, '#tags' or '*'
    #[arg(value_name = "SELECTOR")]
    pub hosts: Vec<String>,
    /// So many hosts, or so many of a hundred, have them after each wave
    #[arg(long, value_name = "LIST", default_value = "1,10%,100%")]
    pub waves: Waves,
    /// How long they stay on trial on a host; its kernel rolls back unless they are confirmed
    #[arg(long, value_name = "TIME", value_parser = duration, default_value = "3m")]
    pub trial: Duration,
    /// How many other hosts of the orders check each host from outside
    #[arg(long, value_name = "NUMBER", default_value_t = 1)]
    pub checkers: usize,
    /// If one fails, also restore what the hosts of earlier waves had
    #[arg(long)]
    pub all_or_nothing: bool,
    /// Count a service that does not run or does not answer as a failure too
    #[arg(long)]
    pub strict: bool,
    /// Replace a host's own orders file even if it was edited and not posted
    #[arg(long)]
    pub replace_edited: bool,
    /// Post them even where this connection could not be made again; the host rolls back
    /// automatically
    #[arg(long)]
    pub even_if_i_am_cut_off: bool,
    /// Only check and show what would change
    #[arg(long, conflicts_with = "yes")]
    pub check: bool,
    /// Continue the last roll-out: hosts that were away, and those after a failure
    #[arg(long, conflicts_with_all = ["hosts", "check"])]
    pub resume: bool,
    /// Do not ask
    #[arg(long)]
    pub yes: bool,
    /// Reason, for the history of each host
    #[arg(long, value_name = "TEXT")]
    pub reason: Option<String>,
}

#[derive(Args, Debug)]
pub struct FleetReachOptions {
    /// Hosts that check: names, '#tags' or '*' [default: all]; repeatable
    #[arg(long, value_name = "SELECTOR")]
    pub from: Vec<String>,
    /// Hosts that are checked, likewise
    #[arg(long, value_name = "SELECTOR")]
    pub to: Vec<String>,
    /// Show only what has opened or closed since the last such check
    #[arg(long)]
    pub changes: bool,
    /// Write a self-contained page
    #[arg(long, value_name = "FILE")]
    pub html: Option<PathBuf>,
}

#[derive(Args, Debug)]
pub struct FleetLogOptions {
    /// Names, '#tags' or '*'
    #[arg(value_name = "SELECTOR")]
    pub hosts: Vec<String>,
    /// Only from this moment on: 2026-11-29T08:00:00+01:00, or so long ago, such as 1h or 2d
    #[arg(long, value_name = "WHEN")]
    pub since: Option<String>,
    /// Only before this moment, likewise
    #[arg(long, value_name = "WHEN")]
    pub until: Option<String>,
    /// Count instead of listing: who was turned away most over all comes first
    #[arg(long, value_name = "WHAT", value_enum)]
    pub top: Option<Top>,
    /// The last so many of each host; with --top, the first so many [default: 100; with --top 10]
    #[arg(long, value_name = "NUMBER")]
    pub count: Option<usize>,
    #[command(flatten)]
    pub decisions: DecisionOptions,
}
