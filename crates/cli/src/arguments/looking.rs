//! Arguments of the commands that look and tell.

use std::net::IpAddr;
use std::path::PathBuf;
use std::time::Duration;

use clap::{Args, Subcommand, ValueEnum};
use tipstaff_core::analysis::questions::Choice;
use tipstaff_core::orders::Action;
use tipstaff_core::packet::Direction;

use super::posting::duration;

#[derive(Args, Debug)]
pub struct RulesOptions {
    /// Show all of this one rule (name or position)
    pub rule: Option<String>,
    /// Only rules that match this traffic: a port such as 22, or tcp/22, ssh, icmp/echo
    #[arg(long)]
    pub traffic: Option<String>,
    /// Only rules that match this source address
    #[arg(long, value_name = "ADDRESS")]
    pub source: Option<IpAddr>,
    /// Only rules of this group
    #[arg(long)]
    pub group: Option<String>,
    /// Only rules of this direction
    #[arg(long = "direction", value_enum)]
    pub way: Option<Way>,
    /// Only rules that say this
    #[arg(long, value_enum)]
    pub action: Option<Verdict>,
    /// Only rules that have this text in their name or note
    #[arg(long, value_name = "TEXT")]
    pub text: Option<String>,
    /// Only paused rules
    #[arg(long)]
    pub paused: bool,
    /// Show their notes
    #[arg(long)]
    pub notes: bool,
    /// Sort the list; rules are still evaluated by position
    #[arg(long, value_enum, default_value_t = RulesOrder::Position)]
    pub sort: RulesOrder,
    /// Also show the foundations, which apply before any rule
    #[arg(long)]
    pub all: bool,
    /// Show the orders in force instead of the file
    #[arg(long)]
    pub in_force: bool,
}

#[derive(Args, Debug)]
pub struct BriefOptions {
    /// The host [default: this machine]
    pub name: Option<String>,
    /// Show only what differs from this other host
    #[arg(long, value_name = "HOST")]
    pub diff: Option<String>,
}

/// How `rules` sorts.
#[derive(clap::ValueEnum, Clone, Copy, Debug, PartialEq, Eq)]
pub enum RulesOrder {
    /// In order of evaluation
    Position,
    /// By name
    Name,
    /// Most packets first
    Tally,
}

/// A direction, as it is asked for.
#[derive(clap::ValueEnum, Clone, Copy, Debug, PartialEq, Eq)]
pub enum Way {
    /// To this host
    Inbound,
    /// From it
    Outbound,
    /// Through it
    Transit,
}

impl From<Way> for Direction {
    fn from(way: Way) -> Self {
        match way {
            Way::Inbound => Self::Inbound,
            Way::Outbound => Self::Outbound,
            Way::Transit => Self::Transit,
        }
    }
}

#[derive(Args, Debug)]
pub struct ReviewOptions {
    /// The file to read [default: the orders]
    pub file: Option<PathBuf>,
    /// Ignore what listens on this machine
    #[arg(long)]
    pub elsewhere: bool,
    /// Remove rules that change nothing: duplicates, redundant and expired ones
    #[arg(long)]
    pub fix: bool,
    /// Print SARIF 2.1.0, for tools that collect findings
    #[arg(long, conflicts_with = "json")]
    pub sarif: bool,
    /// Lowest severity that makes the command fail
    #[arg(long, value_enum, default_value_t = Level::Warning)]
    pub fail_on: Level,
}

/// How much a finding matters.
#[derive(clap::ValueEnum, Clone, Copy, Debug, PartialEq, Eq)]
pub enum Level {
    /// Good to know
    Note,
    /// Probably not meant
    Warning,
    /// The orders do not do what they say
    Error,
}

#[derive(Args, Debug)]
pub struct AskOptions {
    /// Traffic of the packet: tcp/22, ssh, udp/7420, icmp/echo, protocol/47
    pub traffic: String,
    /// Source address [outbound: this host's address on the route to the destination]; a group of
    /// the orders asks for an address of each of its ranges, `stranger` for one that no rule names.
    /// Without it, inbound: everybody, by kinds of source
    #[arg(long, value_name = "WHO", required_if_eq("way", "transit"))]
    pub source: Vec<String>,
    /// Destination address [inbound: the address of this host that the source would use]
    #[arg(long, value_name = "ADDRESS", required_if_eq_any([("way", "outbound"), ("way", "transit")]))]
    pub destination: Option<IpAddr>,
    /// Interface it arrives at or leaves by [default: by the route to the other end]
    #[arg(long, value_name = "NAME")]
    pub interface: Option<String>,
    /// Direction: to this host, from it, or through it
    #[arg(long = "direction", value_enum, default_value_t = Way::Inbound)]
    pub way: Way,
    /// Program that listens or sends [inbound: the one that listens there]
    #[arg(long, value_name = "PATH")]
    pub program: Option<String>,
    /// Ask the gate in the kernel instead of the file
    #[arg(long)]
    pub in_force: bool,
}

/// What `state` looks at.
#[derive(Args, Debug)]
pub struct StateOptions {
    /// For monitoring: one line, and exit code 0 well, 1 to be looked at, 2 not as ordered, 3
    /// unknown
    #[arg(long)]
    pub check: bool,
}

#[derive(Args, Debug)]
pub struct WatchOptions {
    /// Stop after this many decisions
    #[arg(long, value_name = "NUMBER")]
    pub count: Option<u64>,
    /// On a terminal: plain lines, no full screen
    #[arg(long)]
    pub plain: bool,
    #[command(flatten)]
    pub decisions: DecisionOptions,
}

#[derive(Args, Debug)]
pub struct LogOptions {
    /// Only from this moment on: 2026-11-29T08:00:00+01:00, or so long ago, such as 1h or 2d
    #[arg(long, value_name = "WHEN")]
    pub since: Option<String>,
    /// Only before this moment, likewise
    #[arg(long, value_name = "WHEN")]
    pub until: Option<String>,
    /// Count instead of listing: who was turned away most comes first
    #[arg(long, value_name = "WHAT", value_enum, conflicts_with_all = ["by", "follow"])]
    pub top: Option<Top>,
    /// Count by hour or day
    #[arg(long, value_name = "TIME", value_enum, conflicts_with = "follow")]
    pub by: Option<Piece>,
    /// The last so many; with --top, the first so many [default: all; with --top 10]
    #[arg(long, value_name = "NUMBER")]
    pub count: Option<usize>,
    /// Go on with what is written from now on, until interrupted
    #[arg(long)]
    pub follow: bool,
    #[command(flatten)]
    pub decisions: DecisionOptions,
}

#[derive(Args, Debug)]
pub struct ReplayOptions {
    /// The capture: pcap or pcapng, plain or gzip; - reads standard input
    pub capture: PathBuf,
    /// An address of the captured host; repeatable [default: those that the orders give the
    /// host, else this machine's]
    #[arg(long, value_name = "ADDRESS")]
    pub own: Vec<IpAddr>,
    /// The interface, where the capture names none
    #[arg(long, value_name = "NAME")]
    pub interface: Option<String>,
    /// Also decide by these orders, and list the conversations that get another answer
    #[arg(long, value_name = "OTHER.toml")]
    pub compare: Option<PathBuf>,
    /// Write the packets to FILE (pcapng), each with what was decided as its comment
    #[arg(long, value_name = "FILE")]
    pub write: Option<PathBuf>,
    /// With --write: only what was allowed, denied or refused
    #[arg(long = "verdict", value_name = "VERDICT", value_enum, requires = "write")]
    pub verdicts: Vec<Verdict>,
    /// List so many conversations at most [default: 20]
    #[arg(long, value_name = "NUMBER")]
    pub count: Option<usize>,
}

/// What `log --top` counts.
#[derive(ValueEnum, Clone, Copy, Debug, PartialEq, Eq)]
pub enum Top {
    /// Addresses that sent
    Sources,
    /// Ports and messages that were meant
    Ports,
    /// Rules, standing answers and foundations that decided
    Rules,
    /// Programs that listen or send
    Programs,
}

/// What `log --by` counts by.
#[derive(ValueEnum, Clone, Copy, Debug, PartialEq, Eq)]
pub enum Piece {
    /// An hour, UTC
    Hour,
    /// A day, UTC
    Day,
}

/// Which decisions are shown.
#[derive(Args, Debug, Default)]
pub struct DecisionOptions {
    /// Only those of this rule (name or position); repeatable, as all of these
    #[arg(long = "rule", value_name = "RULE")]
    pub rules: Vec<String>,
    /// Only what was allowed, denied or refused
    #[arg(long = "verdict", value_name = "VERDICT", value_enum)]
    pub verdicts: Vec<Verdict>,
    /// Only from this address or network, or a group of the orders
    #[arg(long = "source", value_name = "WHO")]
    pub sources: Vec<String>,
    /// Only to this address or network, or a group of the orders
    #[arg(long = "destination", value_name = "WHO")]
    pub destinations: Vec<String>,
    /// Only this traffic: a port such as 22, or tcp/22, ssh, icmp/echo
    #[arg(long)]
    pub traffic: Vec<String>,
    /// Only this program, by its path or the name of its file
    #[arg(long = "program", value_name = "PROGRAM")]
    pub programs: Vec<String>,
    /// Only this direction
    #[arg(long = "direction", value_enum)]
    pub ways: Vec<Way>,
    /// Only this interface; lan* stands for all whose names begin so
    #[arg(long = "interface", value_name = "NAME")]
    pub interfaces: Vec<String>,
    /// Only what orders said that were rehearsed
    #[arg(long)]
    pub rehearsed: bool,
}

/// What was said, as it is asked for.
#[derive(ValueEnum, Clone, Copy, Debug, PartialEq, Eq)]
pub enum Verdict {
    /// Let pass
    Allow,
    /// Dropped
    Deny,
    /// Answered with a refusal
    Refuse,
}

impl From<Verdict> for Action {
    fn from(verdict: Verdict) -> Self {
        match verdict {
            Verdict::Allow => Self::Allow,
            Verdict::Deny => Self::Deny,
            Verdict::Refuse => Self::Refuse,
        }
    }
}

#[derive(Args, Debug)]
pub struct LearnOptions {
    /// Only what was turned away from this moment on, as for `log` [default: 7d]
    #[arg(long, value_name = "WHEN")]
    pub since: Option<String>,
    /// Only before this moment, as for `log`
    #[arg(long, value_name = "WHEN")]
    pub until: Option<String>,
    /// Ask about what orders that were rehearsed would have denied
    #[arg(long)]
    pub from_rehearsal: bool,
    /// Ask about what no program here takes, too
    #[arg(long)]
    pub every_source: bool,
    /// Answer without a terminal: NAME=here, network, everyone, program, deny or leave; repeatable
    #[arg(long = "answer", value_name = "NAME=CHOICE", value_parser = answer)]
    pub answers: Vec<Answer>,
    /// Only show what the answers would change
    #[arg(long)]
    pub check: bool,
}

/// An answer of the command line.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Answer {
    /// What the question is called.
    pub name: String,
    /// `None`: it is left.
    pub choice: Option<Choice>,
}

fn answer(text: &str) -> Result<Answer, String> {
    let (name, choice) = text.rsplit_once('=').ok_or("write NAME=CHOICE")?;
    let found = Choice::ALL.into_iter().find(|known| known.name() == choice);
    match (found, choice) {
        (None, "leave") => Ok(Answer { name: name.to_owned(), choice: None }),
        (None, _) => {
            let names: Vec<&str> = Choice::ALL.iter().map(|known| known.name()).collect();
            Err(format!("`{choice}` is none of {}, leave", names.join(", ")))
        }
        (found, _) => Ok(Answer { name: name.to_owned(), choice: found }),
    }
}

#[derive(Args, Debug)]
pub struct TallyOptions {
    /// Only this rule (name or position)
    pub rule: Option<String>,
    /// Show the rate limit's state for each source
    #[arg(long, requires = "rule", conflicts_with = "csv")]
    pub sources: bool,
    /// Include rules that have not matched
    #[arg(long)]
    pub all: bool,
    /// Note the counts of this moment, for --since-mark; nothing is reset
    #[arg(long, conflicts_with_all = ["since_mark", "rule", "every", "csv", "openmetrics"])]
    pub mark: bool,
    /// Count from the last --mark on
    #[arg(long, conflicts_with = "openmetrics")]
    pub since_mark: bool,
    /// Order of the rows
    #[arg(long, value_name = "BY", value_enum, default_value = "position")]
    pub sort: TallySort,
    /// Look again and again, and show what was counted a second in between
    #[arg(long, value_name = "TIME", value_parser = duration,
          conflicts_with_all = ["sources", "since_mark", "csv", "openmetrics"])]
    pub every: Option<Duration>,
    /// With --every: so many times [default: until interrupted]
    #[arg(long, value_name = "COUNT", requires = "every")]
    pub times: Option<u32>,
    /// Print metrics for a collector in the OpenMetrics text format, or write them to FILE,
    /// whole or not at all
    #[arg(long, value_name = "FILE", num_args = 0..=1, require_equals = true,
          default_missing_value = "-", conflicts_with_all = ["rule", "sources", "json", "csv"])]
    pub openmetrics: Option<PathBuf>,
}

/// The order in which `tally` shows rows.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, ValueEnum)]
pub enum TallySort {
    /// As packets meet them: foundations, rules, standing answers
    #[default]
    Position,
    /// The most packets first
    Packets,
    /// The most bytes first
    Bytes,
    /// The most new connections first
    Connections,
    /// The most packets beyond a rate first
    Beyond,
}

#[derive(Args, Debug)]
pub struct CompareOptions {
    /// A file, a revision number, or in-force
    #[arg(default_value = "in-force")]
    pub before: String,
    /// Likewise [default: the orders file]
    pub after: Option<String>,
}

#[derive(Args, Debug)]
#[command(args_conflicts_with_subcommands = true)]
pub struct ReachOptions {
    #[command(subcommand)]
    pub command: Option<ReachCommand>,
    /// Also probe from this address (needs root); a group of the orders
    /// stands for one address of each of its ranges, `stranger` for one that no rule names;
    /// repeatable
    #[arg(long = "as", value_name = "WHO")]
    pub vantages: Vec<String>,
    /// Probe through this interface instead of the one on the return route
    #[arg(long, value_name = "NAME")]
    pub via: Option<String>,
    /// Probe from as few sources as exercise every rule, and report which rules hold
    #[arg(long)]
    pub from_orders: bool,
    /// Check another host of the orders, from this machine's own address
    #[arg(long, value_name = "HOST", conflicts_with_all = ["vantages", "via", "from_orders"])]
    pub target: Option<String>,
    /// Check that this host can reach a destination, by a connection closed at once:
    /// 192.0.2.80:443,
    /// udp/192.0.2.53:53, icmp/192.0.2.80, or a group of the orders for the address; repeatable
    #[arg(long, value_name = "DESTINATION:PORT", conflicts_with_all = ["from_orders", "target", "ports", "all_ports", "why", "changes", "markdown", "html", "pace"])]
    pub outbound: Vec<String>,
    /// With --outbound: check for this program, by asking the gate
    #[arg(long, value_name = "PATH", requires = "outbound")]
    pub program: Option<String>,
    /// Check that the sources of --as can reach a destination through this host; probes are caught
    /// where they would leave
    #[arg(long, value_name = "DESTINATION:PORT", requires = "vantages", conflicts_with_all = ["from_orders", "target", "ports", "all_ports", "why", "changes", "markdown", "html", "pace"])]
    pub through: Vec<String>,
    /// Also probe these: ssh, tcp/7410, udp/7420-7423, 8080; a list, repeatable
    #[arg(long, value_name = "LIST")]
    pub ports: Vec<String>,
    /// Probe all 65,535 TCP ports
    #[arg(long)]
    pub all_ports: bool,
    /// Explain this port, with all the evidence
    #[arg(long, value_name = "PORT", conflicts_with_all = ["ports", "all_ports", "markdown"])]
    pub why: Option<String>,
    /// Show only ports that opened or closed since the last check, or since a report
    /// (--changes=FILE)
    #[arg(long, value_name = "FILE", num_args = 0..=1, require_equals = true, default_missing_value = "last", conflicts_with = "why")]
    pub changes: Option<String>,
    /// Print Markdown
    #[arg(long)]
    pub markdown: bool,
    /// Write a self-contained page, with the evidence for each cell
    #[arg(long, value_name = "FILE")]
    pub html: Option<PathBuf>,
    /// Limit the probes per second
    #[arg(long, value_name = "NUMBER", value_parser = clap::value_parser!(u32).range(1..=1_000_000))]
    pub pace: Option<u32>,
    /// How long to wait for an answer before the second and last probe
    #[arg(long, value_name = "MILLISECONDS", default_value_t = 150, value_parser = clap::value_parser!(u64).range(10..=10_000))]
    pub patience: u64,
}

/// What else can be done with reach checks.
#[derive(Subcommand, Debug)]
pub enum ReachCommand {
    /// Merge reports about the same host from several machines into one table
    Merge {
        /// Reports, as --json writes them
        #[arg(required = true)]
        files: Vec<PathBuf>,
        /// Print Markdown
        #[arg(long)]
        markdown: bool,
        /// Write a self-contained page, with the evidence for each cell
        #[arg(long, value_name = "FILE")]
        html: Option<PathBuf>,
    },
}
