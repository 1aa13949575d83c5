//! Arguments of the commands that look and tell.

use std::net::IpAddr;
use std::path::PathBuf;

use clap::{Args, Subcommand};
use tipstaff_core::packet::Direction;

#[derive(Args, Debug)]
pub struct RulesOptions {
    /// Show this one rule whole (name or position)
    pub rule: Option<String>,
    /// Only rules about this: a port such as 22, or tcp/22, ssh, icmp/echo
    #[arg(long)]
    pub traffic: Option<String>,
    /// Only rules that this address can meet
    #[arg(long, value_name = "ADDRESS")]
    pub source: Option<IpAddr>,
    /// Only rules of this group
    #[arg(long)]
    pub group: Option<String>,
    /// Only rules of this direction
    #[arg(long = "direction", value_enum)]
    pub way: Option<Way>,
    /// Only paused rules
    #[arg(long)]
    pub paused: bool,
    /// Sort the rules; they speak in the order of their positions all the same
    #[arg(long, value_enum, default_value_t = RulesOrder::Position)]
    pub sort: RulesOrder,
    /// Show the foundations too, which hold before any rule
    #[arg(long)]
    pub all: bool,
    /// The orders in force instead of the file
    #[arg(long)]
    pub in_force: bool,
}

#[derive(Args, Debug)]
pub struct BriefOptions {
    /// The host; this machine when it is left out
    pub name: Option<String>,
    /// Only what this other host obeys otherwise
    #[arg(long, value_name = "HOST")]
    pub diff: Option<String>,
}

/// How `rules` sorts.
#[derive(clap::ValueEnum, Clone, Copy, Debug, PartialEq, Eq)]
pub enum RulesOrder {
    /// As they speak
    Position,
    /// By name
    Name,
    /// The busiest first
    Tally,
}

#[derive(Args, Debug)]
pub struct NamesOptions {
    /// A service, a group, a port (7410, tcp/7410) or an address: what is it called, who uses it?
    pub wanted: Option<String>,
    /// The built-in services too
    #[arg(long)]
    pub all: bool,
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
    /// Without looking at what listens on this machine
    #[arg(long)]
    pub elsewhere: bool,
    /// Take out what changes nothing: duplicates, what would not be missed, what is over
    #[arg(long)]
    pub fix: bool,
    /// Print SARIF 2.1.0, for tools that gather findings
    #[arg(long, conflicts_with = "json")]
    pub sarif: bool,
    /// The least that makes the command fail
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
    /// What the packet is about: tcp/22, ssh, udp/7420, icmp/echo, protocol/47
    pub traffic: String,
    /// Who sends it [on the way out: the own address that leads to the destination]
    #[arg(long, value_name = "ADDRESS", required_if_eq_any([("way", "inbound"), ("way", "transit")]))]
    pub source: Option<IpAddr>,
    /// To whom [on the way in: the own address that this source would knock on]
    #[arg(long, value_name = "ADDRESS", required_if_eq_any([("way", "outbound"), ("way", "transit")]))]
    pub destination: Option<IpAddr>,
    /// Where it arrives, or leaves [default: where the way to the other end begins]
    #[arg(long, value_name = "NAME")]
    pub interface: Option<String>,
    /// To this host, from it, or through it
    #[arg(long = "direction", value_enum, default_value_t = Way::Inbound)]
    pub way: Way,
    /// The program that listens, or sends [on the way in: the one that listens there]
    #[arg(long, value_name = "PATH")]
    pub program: Option<String>,
    /// Ask the gate in the kernel instead of the file
    #[arg(long)]
    pub in_force: bool,
}

#[derive(Args, Debug)]
pub struct WatchOptions {
    /// End after so many
    #[arg(long, value_name = "NUMBER")]
    pub count: Option<u64>,
}

#[derive(Args, Debug)]
pub struct TallyOptions {
    /// Only this rule (name or position)
    pub rule: Option<String>,
    /// Who took how much of the rule's rate
    #[arg(long, requires = "rule")]
    pub sources: bool,
    /// Those too that never spoke
    #[arg(long)]
    pub all: bool,
}

#[derive(Args, Debug)]
pub struct CompareOptions {
    /// A file, the number of a revision, or in-force
    #[arg(default_value = "in-force")]
    pub before: String,
    /// The same [default: the file of the orders]
    pub after: Option<String>,
}

#[derive(Args, Debug)]
#[command(args_conflicts_with_subcommands = true)]
pub struct ReachOptions {
    #[command(subcommand)]
    pub command: Option<ReachCommand>,
    /// Look from this address too, played by the witness (needs root); a group of the orders
    /// stands for one of each of its ranges, `stranger` for somebody whom no rule names; repeatable
    #[arg(long = "as", value_name = "WHO")]
    pub vantages: Vec<String>,
    /// Probe through this interface instead of the one on the return route
    #[arg(long, value_name = "NAME")]
    pub via: Option<String>,
    /// Look from as few sources as show every rule, and say which rules are true
    #[arg(long)]
    pub from_orders: bool,
    /// Check another host of the orders, from this machine's own address
    #[arg(long, value_name = "HOST", conflicts_with_all = ["vantages", "via", "from_orders"])]
    pub target: Option<String>,
    /// Whether this host can reach somebody, by a connection that ends at once: 192.0.2.80:443,
    /// udp/192.0.2.53:53, icmp/192.0.2.80, or a group of the orders for the address; repeatable
    #[arg(long, value_name = "DESTINATION:PORT", conflicts_with_all = ["from_orders", "target", "ports", "all_ports", "why", "changes", "markdown", "html", "pace"])]
    pub outbound: Vec<String>,
    /// With --outbound: whether this program can; the gate is asked
    #[arg(long, value_name = "PATH", requires = "outbound")]
    pub program: Option<String>,
    /// Whether those of --as can reach somebody through this host; caught where it would leave
    #[arg(long, value_name = "DESTINATION:PORT", requires = "vantages", conflicts_with_all = ["from_orders", "target", "ports", "all_ports", "why", "changes", "markdown", "html", "pace"])]
    pub through: Vec<String>,
    /// Knock on these too: ssh, tcp/7410, udp/7420-7423, 8080; a list, repeatable
    #[arg(long, value_name = "LIST")]
    pub ports: Vec<String>,
    /// Knock on all 65,535 TCP ports
    #[arg(long)]
    pub all_ports: bool,
    /// Only this port, with everything there is to know
    #[arg(long, value_name = "PORT", conflicts_with_all = ["ports", "all_ports", "markdown"])]
    pub why: Option<String>,
    /// Only what has opened or closed since the last check, or since a report (--changes=FILE)
    #[arg(long, value_name = "FILE", num_args = 0..=1, require_equals = true, default_missing_value = "last", conflicts_with = "why")]
    pub changes: Option<String>,
    /// Say nothing where nothing differs; with --changes, where nothing has changed
    #[arg(long, conflicts_with = "why")]
    pub quiet: bool,
    /// Print Markdown
    #[arg(long)]
    pub markdown: bool,
    /// Write a page that needs nothing else, with the evidence behind each cell
    #[arg(long, value_name = "FILE")]
    pub html: Option<PathBuf>,
    /// So many knocks a second at most
    #[arg(long, value_name = "NUMBER", value_parser = clap::value_parser!(u32).range(1..=1_000_000))]
    pub pace: Option<u32>,
    /// How long to wait for an answer before a second and last knock
    #[arg(long, value_name = "MILLISECONDS", default_value_t = 150, value_parser = clap::value_parser!(u64).range(10..=10_000))]
    pub patience: u64,
}

/// What else can be done with reach checks.
#[derive(Subcommand, Debug)]
pub enum ReachCommand {
    /// Make one table of what several machines saw of the same host
    Merge {
        /// Reports, as --json writes them
        #[arg(required = true)]
        files: Vec<PathBuf>,
    },
}
