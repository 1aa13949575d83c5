//! What can be written on the command line.

mod looking;
mod posting;

use std::path::{Path, PathBuf};

use clap::{Args, Parser, Subcommand};
pub use looking::*;
pub use posting::*;

const EXIT_CODES: &str = "Exit codes: 0 success, everything as ordered · 1 something differs \
                          from the orders · 2 invalid arguments or orders, nothing was changed · \
                          3 root is required · 4 this kernel or machine cannot run the gate · 5 \
                          system error, nothing was left half done · state: 10 down, 11 drifted, \
                          12 the file was edited and not posted";

/// Standing answers and ordered rules for this host, put in
/// force by Tipstaff's own filter in the kernel and checked from outside.
#[derive(Parser, Debug)]
#[command(name = "tipstaff", version, after_help = EXIT_CODES, max_term_width = 100)]
pub struct Arguments {
    #[command(flatten)]
    pub common: Common,
    #[command(subcommand)]
    pub command: Command,
}

/// Options of every command.
#[derive(Args, Debug)]
pub struct Common {
    /// Read the orders from FILE [default: /etc/tipstaff/orders.toml]
    #[arg(long, global = true, value_name = "FILE", env = "TIPSTAFF_ORDERS", hide_env = true)]
    pub orders: Option<PathBuf>,
    /// Act as this host [default: this machine's host name]
    #[arg(long, global = true, value_name = "NAME")]
    pub host: Option<String>,
    /// Use this posture of the orders [default: none]
    #[arg(long, global = true, value_name = "NAME")]
    pub posture: Option<String>,
    /// Work in another network namespace: a name below /run/netns, or a path
    #[arg(long, global = true, value_name = "NAME|PATH")]
    pub namespace: Option<String>,
    /// Print JSON, for scripts
    #[arg(long, global = true)]
    pub json: bool,
    /// Directory for runtime state
    #[arg(
        long,
        global = true,
        value_name = "DIR",
        default_value = Self::RUN,
        env = "TIPSTAFF_RUN",
        hide_env = true
    )]
    pub run_dir: PathBuf,
    /// Directory for the history of posts
    #[arg(
        long,
        global = true,
        value_name = "DIR",
        default_value = Self::HISTORY,
        env = "TIPSTAFF_HISTORY",
        hide_env = true
    )]
    pub history: PathBuf,
    /// Directory for the log of decisions
    #[arg(
        long,
        global = true,
        value_name = "DIR",
        default_value = Self::LOG,
        env = "TIPSTAFF_LOG",
        hide_env = true
    )]
    pub log_dir: PathBuf,
}

impl Common {
    /// What the names of files have behind them that are of one network namespace: nothing
    /// for the machine's own.
    pub fn of_namespace(&self) -> String {
        let name = self.namespace.as_ref();
        name.map(|name| format!("-{}", name.replace('/', "-"))).unwrap_or_default()
    }

    /// Where what must outlive a command is kept, unless told otherwise.
    pub const RUN: &str = "/run/tipstaff";
    /// Where the history is.
    pub const HISTORY: &str = "/var/lib/tipstaff";
    /// Where the log is.
    pub const LOG: &str = "/var/log/tipstaff";

    /// Where the orders are, asked for or not.
    pub fn orders_path(&self) -> &Path {
        self.orders.as_deref().unwrap_or(Path::new("/etc/tipstaff/orders.toml"))
    }
}

#[derive(Subcommand, Debug)]
pub enum Command {
    /// Show what listens on this host, and who can reach it under the orders
    Survey,
    /// Write first orders for this machine: its listeners as paused rules, your shell allowed
    Draft(DraftOptions),
    /// Go through what was denied and no rule covers, and add rules for it
    Learn(LearnOptions),
    /// Print the JSON Schema of the orders or of a command's JSON output
    Schema(SchemaOptions),
    /// List the rules in order, with their counters, and the standing answers
    Rules(RulesOptions),
    /// List the hosts of the orders, and how many rules apply to each
    Hosts,
    /// Show the rules of one host, each with the selector that assigned it
    Brief(BriefOptions),
    /// List services and address groups: their contents, and the rules that use them
    Names(NamesOptions),
    /// Edit one rule of the file in place; comments and order are kept
    #[command(subcommand)]
    Rule(RuleCommand),
    /// Pause, resume, export or import the rules of a group together
    #[command(subcommand)]
    Group(GroupCommand),
    /// Review the orders for mistakes: rules that never match, are too wide, or have no listener
    Review(ReviewOptions),
    /// Tell what would happen to a packet, and why
    Ask(AskOptions),
    /// Check the orders, show what changes, and put them in force atomically
    Post(PostOptions),
    /// Show what orders that are rehearsed (`post --rehearse`) would have denied, or end that
    #[command(subcommand)]
    Rehearse(RehearseCommand),
    /// Show the postures and which one is active, or switch to one
    Posture(PostureOptions),
    /// Show exactly which traffic two sets of orders answer differently
    Compare(CompareOptions),
    /// End open connections that the orders in force no longer let in
    Cut(CutOptions),
    /// Confirm the orders on trial
    Confirm(ConfirmOptions),
    /// Show what was put in force here, when, by whom and why
    History(HistoryOptions),
    /// Show whether the gate is loaded, with which orders, and whether it has drifted
    State,
    /// Show packets and bytes by rule, and the sources of a rate limit
    Tally(TallyOptions),
    /// Show decisions as they happen: of rules with `log = true`, and a sample of what is denied
    Watch(WatchOptions),
    /// Show the log of decisions: which, or who was turned away how often
    Log(LogOptions),
    /// Show what the orders would have decided of a capture (pcap, pcapng)
    Replay(ReplayOptions),
    /// Check which ports are actually reachable, from where, and why that differs from the orders
    Reach(ReachOptions),
    /// Put the orders of the last post in force after a restart
    Boot,
    /// Install the systemd units that put the orders in force at each boot and keep them so
    InstallBoot(InstallBootOptions),
    /// Guard new interfaces as they appear (service)
    Keep,
    /// Remove the gate; everything passes then
    Withdraw(WithdrawOptions),
    /// Run through the whole job at a made-up observatory, without touching this machine
    Demo(DemoOptions),
    /// A part of the demo
    #[command(hide = true)]
    Play(PlayOptions),
}

#[derive(Args, Debug)]
pub struct DraftOptions {
    /// Draft them from the log of decisions: rules for what was allowed, paused rules for what was
    /// denied and a program takes; what nobody takes is left out
    #[arg(long, conflicts_with = "example")]
    pub from_log: bool,
    /// Draft them from what was rehearsed: rules for what would have been denied, and a program
    /// takes
    #[arg(long, conflicts_with_all = ["example", "from_log"])]
    pub from_rehearsal: bool,
    /// Draft them from a capture (pcap, pcapng, - for standard input): rules for what was answered
    #[arg(long, value_name = "FILE", conflicts_with_all = ["example", "from_log", "from_rehearsal"])]
    pub from_capture: Option<PathBuf>,
    /// With --from-log or --from-rehearsal: only from this moment on, as for `log`
    #[arg(long, value_name = "WHEN", conflicts_with_all = ["example", "from_capture"])]
    pub since: Option<String>,
    /// The addresses of the host that was captured [default: those of this machine]; repeatable
    #[arg(long, value_name = "ADDRESS", requires = "from_capture")]
    pub own: Vec<std::net::IpAddr>,
    /// Write to FILE, which must not exist yet, instead of printing
    #[arg(long, value_name = "FILE")]
    pub to: Option<PathBuf>,
    /// Write the orders of a made-up observatory into a new directory DIR: every key once, with
    /// comments
    #[arg(long, value_name = "DIR", conflicts_with = "to")]
    pub example: Option<PathBuf>,
}

/// Edits of one rule. RULE is a name or a position.
#[derive(Subcommand, Debug)]
pub enum RuleCommand {
    /// Add a rule (default position: before the first catch-all deny)
    Add(Box<AddOptions>),
    /// Set keys of a rule: source=observatory,203.0.113.9 note="why"; key= removes it
    Set {
        /// Name or position
        rule: String,
        /// key=value; lists with commas
        #[arg(required = true, value_name = "KEY=VALUE")]
        keys: Vec<String>,
    },
    /// Move a rule to another position
    Move {
        /// Name or position
        rule: String,
        #[command(flatten)]
        place: PlaceOptions,
    },
    /// Turn an allow into a deny, or a deny into an allow
    SwapAction {
        /// Name or position
        rule: String,
    },
    /// Disable a rule; it keeps its position
    Pause {
        /// Name or position
        rule: String,
    },
    /// Enable a paused rule again
    Resume {
        /// Name or position
        rule: String,
    },
    /// Remove a rule from the file; shows it and asks
    Remove {
        /// Name or position
        rule: String,
        /// Do not ask
        #[arg(long)]
        yes: bool,
    },
    /// Copy a rule under another name (default position: directly after it)
    Copy {
        /// Name or position
        rule: String,
        /// Name of the copy
        #[arg(long)]
        name: Option<String>,
        #[command(flatten)]
        place: PlaceOptions,
    },
}

/// What can be done with the rules of a group together.
#[derive(Subcommand, Debug)]
pub enum GroupCommand {
    /// Disable its rules; they keep their positions
    Pause {
        /// Name of the group
        group: String,
    },
    /// Enable its rules again
    Resume {
        /// Name of the group
        group: String,
    },
    /// Print the group as a TOML fragment, with the names that it uses
    Export {
        /// Name of the group
        group: String,
    },
    /// Add an exported group to the orders; nothing is overwritten
    Import {
        /// The fragment
        file: PathBuf,
    },
}

#[derive(Args, Debug)]
pub struct AddOptions {
    /// allow, deny or refuse
    pub action: String,
    /// Traffic that it matches: ssh, tcp/7410 or 7410, udp/7420-7423, icmp/echo, any
    #[arg(required = true)]
    pub traffic: Vec<String>,
    /// Sources: an address, a prefix, a range, a group; repeatable, or with commas
    #[arg(long, value_delimiter = ',')]
    pub source: Vec<String>,
    /// inbound, outbound or transit [default: inbound]
    #[arg(long)]
    pub direction: Option<String>,
    /// Destinations: an address, a prefix, a range, a group; repeatable, or with commas
    #[arg(long, value_name = "ADDRESS")]
    pub destination: Option<String>,
    /// Interface it arrives at or leaves by: lan0, or tun* for all that begin with tun
    #[arg(long, value_name = "NAME")]
    pub interface: Option<String>,
    /// Program that listens or sends, by its absolute path
    #[arg(long, value_name = "PATH")]
    pub program: Option<String>,
    /// Only ipv4 or ipv6
    #[arg(long)]
    pub family: Option<String>,
    /// When the rule expires: 2026-12-24T18:00:00+01:00
    #[arg(long, value_name = "MOMENT")]
    pub until: Option<String>,
    /// Rate limit of an allow: "6 per minute per source, burst 3"
    #[arg(long, value_name = "RATE")]
    pub at_most: Option<String>,
    /// What happens above the rate limit: deny or refuse [default: deny]
    #[arg(long)]
    pub over: Option<String>,
    /// Log each of its decisions
    #[arg(long)]
    pub log: bool,
    /// Rule group that it belongs to
    #[arg(long)]
    pub group: Option<String>,
    /// Hosts it applies to: a name, #tag, with commas
    #[arg(long)]
    pub hosts: Option<String>,
    /// Postures it applies in, with commas
    #[arg(long)]
    pub postures: Option<String>,
    /// Name [default: made from the content]
    #[arg(long)]
    pub name: Option<String>,
    /// Why the rule exists
    #[arg(long)]
    pub note: Option<String>,
    #[command(flatten)]
    pub place: PlaceOptions,
}

/// Where a rule goes.
#[derive(Args, Debug)]
#[group(multiple = false)]
pub struct PlaceOptions {
    /// Before this rule (name or position)
    #[arg(long, value_name = "RULE")]
    pub before: Option<String>,
    /// After this rule (name or position)
    #[arg(long, value_name = "RULE")]
    pub after: Option<String>,
    /// Before all others
    #[arg(long)]
    pub first: bool,
    /// After all others
    #[arg(long)]
    pub last: bool,
}

#[derive(Args, Debug)]
pub struct DemoOptions {
    /// Use namespaces and the gate of the real kernel (needs root)
    #[arg(long)]
    pub kernel: bool,
    /// Use a stored snapshot of a host, without sockets and namespaces
    #[arg(long, conflicts_with = "kernel")]
    pub snapshot: bool,
}

#[derive(Args, Debug)]
pub struct PlayOptions {
    /// tcp or udp, address, port
    pub listeners: Vec<String>,
}

/// What `schema` prints.
#[derive(Debug, Args)]
pub struct SchemaOptions {
    /// Output to describe: reach, rules, ask, state, … [default: the orders]
    pub name: Option<String>,
}

#[cfg(test)]
mod tests {
    #[test]
    fn the_command_line_is_sound() {
        use clap::CommandFactory;
        super::Arguments::command().debug_assert();
    }
}
