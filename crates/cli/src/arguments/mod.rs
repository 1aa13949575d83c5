//! What can be written on the command line.

mod looking;
mod posting;

use std::path::{Path, PathBuf};

use clap::{Args, Parser, Subcommand};
pub use looking::*;
pub use posting::*;

const EXIT_CODES: &str = "Exit codes: 0 done and as it should be · 1 something differs from the orders · \
2 wrong arguments or wrong orders, nothing was touched · 3 needs root · 4 this kernel or machine cannot carry \
the gate · 5 the system failed, nothing half done · state: 10 down, 11 drifted, 12 the file was edited and is not posted";

/// Standing answers and ordered rules for this host: written down, put in
/// force by a filter of Tipstaff's own in the kernel, and checked from outside.
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
    /// Act as this host [default: the one that this machine is called]
    #[arg(long, global = true, value_name = "NAME")]
    pub host: Option<String>,
    /// Take up this posture of the orders [default: none]
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
    /// Keep the history of posts below DIR
    #[arg(
        long,
        global = true,
        value_name = "DIR",
        default_value = Self::HISTORY,
        env = "TIPSTAFF_HISTORY",
        hide_env = true
    )]
    pub history: PathBuf,
}

impl Common {
    /// Where what must outlive a command is kept, unless told otherwise.
    pub const RUN: &str = "/run/tipstaff";
    /// Where the history is.
    pub const HISTORY: &str = "/var/lib/tipstaff";

    /// Where the orders are, asked for or not.
    pub fn orders_path(&self) -> &Path {
        self.orders.as_deref().unwrap_or(Path::new("/etc/tipstaff/orders.toml"))
    }
}

#[derive(Subcommand, Debug)]
pub enum Command {
    /// What listens on this host, whose it is, and whom the orders let in to it
    Survey,
    /// Write first orders for this machine: its listeners as paused rules, your shell allowed
    Draft(DraftOptions),
    /// The JSON Schema of the orders, or of what a command writes as JSON
    Schema(SchemaOptions),
    /// The rules in order, with what each has counted, and the standing answers
    Rules(RulesOptions),
    /// The hosts of the orders, and how many rules each obeys
    Hosts,
    /// The list of one host, each rule with the selector that brought it
    Brief(BriefOptions),
    /// Services and groups: what they hold, and which rules use them
    Names(NamesOptions),
    /// Change one rule in the file, in place; comments and order stay
    #[command(subcommand)]
    Rule(RuleCommand),
    /// Pause, resume, export or import the rules of a group together
    #[command(subcommand)]
    Group(GroupCommand),
    /// Read the orders for mistakes: what never speaks, what is too wide, what nobody listens to
    Review(ReviewOptions),
    /// What would happen to a packet, and why
    Ask(AskOptions),
    /// Check the orders, show what they mean, and put them in force at once
    Post(PostOptions),
    /// Which posture holds, which others there are; or take one up
    Posture(PostureOptions),
    /// Which traffic gets another answer, between two orders, exactly
    Compare(CompareOptions),
    /// End connections that the orders in force would not let in again
    Cut(CutOptions),
    /// Confirm the orders on trial
    Confirm(ConfirmOptions),
    /// What was put in force here, when, by whom and why
    History(HistoryOptions),
    /// Whether the gate is up, with which orders, and whether they drifted
    State,
    /// Packets and bytes by rule, and how sources stand with a rate
    Tally(TallyOptions),
    /// Decisions as they happen: of rules with `log = true`, and a sample of what is denied
    Watch(WatchOptions),
    /// Which ports are truly reachable, from where, and why that differs from the orders
    Reach(ReachOptions),
    /// After a restart: put the orders of the last post in force
    Boot,
    /// Write the service units that put the orders in force after each restart, and keep them
    InstallBoot(InstallBootOptions),
    /// Guard new interfaces as they appear (service)
    Keep,
    /// Take the gate down; everything passes then
    Withdraw(WithdrawOptions),
    /// Play the whole line of work on a made-up observatory, without touching this machine
    Demo(DemoOptions),
    /// A part of the demo
    #[command(hide = true)]
    Play(PlayOptions),
}

#[derive(Args, Debug)]
pub struct DraftOptions {
    /// Write them to FILE, which must not be there yet, instead of printing them
    #[arg(long, value_name = "FILE")]
    pub to: Option<PathBuf>,
    /// Write the orders of a made-up observatory into a new folder DIR: every key once, with comments
    #[arg(long, value_name = "DIR", conflicts_with = "to")]
    pub example: Option<PathBuf>,
}

/// Edits of one rule. RULE is a name or a position.
#[derive(Subcommand, Debug)]
pub enum RuleCommand {
    /// Add a rule (default position: before the first catch-all deny)
    Add(Box<AddOptions>),
    /// Set keys of a rule: source=observatory,203.0.113.9 note="why"; key= takes it out
    Set {
        /// Name or position
        rule: String,
        /// key=value; lists with commas
        #[arg(required = true, value_name = "KEY=VALUE")]
        keys: Vec<String>,
    },
    /// Move a rule to another place
    Move {
        /// Name or position
        rule: String,
        #[command(flatten)]
        place: PlaceOptions,
    },
    /// Make an allow a deny, or a deny an allow
    SwapAction {
        /// Name or position
        rule: String,
    },
    /// Let a rule keep its place but never speak
    Pause {
        /// Name or position
        rule: String,
    },
    /// Let a paused rule speak again
    Resume {
        /// Name or position
        rule: String,
    },
    /// Take a rule out of the file; shows it and asks
    Remove {
        /// Name or position
        rule: String,
        /// Do not ask
        #[arg(long)]
        yes: bool,
    },
    /// Write a rule once more under another name, right behind it unless told otherwise
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
    /// Let its rules keep their places but never speak
    Pause {
        /// Name of the group
        group: String,
    },
    /// Let them speak again
    Resume {
        /// Name of the group
        group: String,
    },
    /// Print it as a TOML fragment, with the names that it uses
    Export {
        /// Name of the group
        group: String,
    },
    /// Put an exported group into the orders; nothing is overwritten
    Import {
        /// The fragment
        file: PathBuf,
    },
}

#[derive(Args, Debug)]
pub struct AddOptions {
    /// allow, deny or refuse
    pub action: String,
    /// What it is about: ssh, tcp/7410, udp/7420-7423, icmp/echo, any
    #[arg(required = true)]
    pub traffic: Vec<String>,
    /// From whom: an address, a prefix, a range, a group; repeatable, or with commas
    #[arg(long, value_delimiter = ',')]
    pub source: Vec<String>,
    /// inbound, outbound or transit [default: inbound]
    #[arg(long)]
    pub direction: Option<String>,
    /// To whom: an address, a prefix, a range, a group; with commas
    #[arg(long, value_name = "ADDRESS")]
    pub destination: Option<String>,
    /// Where it arrives, or leaves: lan0, or tun* for all that begin so
    #[arg(long, value_name = "NAME")]
    pub interface: Option<String>,
    /// The program that listens, or sends, by its absolute path
    #[arg(long, value_name = "PATH")]
    pub program: Option<String>,
    /// Only ipv4 or ipv6
    #[arg(long)]
    pub family: Option<String>,
    /// When it ends to speak: 2026-12-24T18:00:00+01:00
    #[arg(long, value_name = "MOMENT")]
    pub until: Option<String>,
    /// How often an allow may speak: "6 per minute per source, burst 3"
    #[arg(long, value_name = "RATE")]
    pub at_most: Option<String>,
    /// What it says beyond that: deny or refuse [default: deny]
    #[arg(long)]
    pub over: Option<String>,
    /// Record each of its decisions
    #[arg(long)]
    pub log: bool,
    /// The group of rules that it belongs to
    #[arg(long)]
    pub group: Option<String>,
    /// For which hosts: a name, #tag, with commas
    #[arg(long)]
    pub hosts: Option<String>,
    /// In which postures, with commas
    #[arg(long)]
    pub postures: Option<String>,
    /// A name; made up from the content when it is left out
    #[arg(long)]
    pub name: Option<String>,
    /// Why it is there
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
    /// Behind this rule (name or position)
    #[arg(long, value_name = "RULE")]
    pub after: Option<String>,
    /// Before all others
    #[arg(long)]
    pub first: bool,
    /// Behind all others
    #[arg(long)]
    pub last: bool,
}

#[derive(Args, Debug)]
pub struct DemoOptions {
    /// With namespaces and the gate of the real kernel (needs root)
    #[arg(long)]
    pub kernel: bool,
    /// Without sockets and namespaces, on a stored snapshot of a host
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
    /// An output: reach, rules, ask, state, …; the orders where none is named
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
