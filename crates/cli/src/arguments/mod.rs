//! What can be written on the command line.

mod editing;
mod fleet;
mod looking;
mod posting;

use std::path::{Path, PathBuf};

use clap::{Args, Parser, Subcommand, ValueEnum};
pub use editing::*;
pub use fleet::*;
pub use looking::*;
pub use posting::*;

const EXIT_CODES: &str = "Exit codes: 0 success, everything as ordered · 1 something differs \
                          from the orders · 2 invalid arguments or orders, nothing was changed · \
                          3 root is required · 4 this kernel or machine cannot run the gate · 5 \
                          system error, nothing was left half done · state: 10 down, 11 drifted, \
                          12 the file was edited and not posted";

/// What `--version` tells; `-V` tells the number alone.
const LONG_VERSION: &str = concat!(
    env!("CARGO_PKG_VERSION"),
    "\ncommit: ",
    env!("TIPSTAFF_COMMIT"),
    "\norders: version 1\nkernel: Linux 6.1 or newer, x86-64"
);

/// Standing answers and ordered rules for this host, put in
/// force by Tipstaff's own filter in the kernel and checked from outside.
#[derive(Parser, Debug)]
#[command(
    name = "tipstaff",
    version,
    long_version = LONG_VERSION,
    after_help = EXIT_CODES,
    max_term_width = 100
)]
pub struct Arguments {
    #[command(flatten, next_help_heading = "Common options")]
    pub common: Common,
    #[command(subcommand)]
    pub command: Command,
}

/// Options of every command.
#[derive(Args, Debug)]
pub struct Common {
    /// Read the orders from FILE [default: /etc/tipstaff/orders.toml]
    #[arg(
        long,
        global = true,
        value_name = "FILE",
        env = "TIPSTAFF_ORDERS",
        hide_env_values = true
    )]
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
    /// Print tables as comma-separated values (RFC 4180), and nothing else
    #[arg(long, global = true, conflicts_with = "json")]
    pub csv: bool,
    /// Colour the output: auto, always or never; NO_COLOR is respected by auto
    #[arg(
        long,
        global = true,
        value_name = "WHEN",
        value_enum,
        default_value_t = ColorOption::Auto,
        hide_default_value = true,
        hide_possible_values = true
    )]
    pub color: ColorOption,
    /// Print only what needs attention: no hints, and nothing of what was done and went well
    #[arg(long, short, global = true)]
    pub quiet: bool,
    /// Say on standard error what is done and how long it takes
    #[arg(long, short, global = true)]
    pub verbose: bool,
    /// Directory for runtime state
    #[arg(
        long,
        global = true,
        value_name = "DIR",
        default_value = Self::RUN,
        env = "TIPSTAFF_RUN",
        hide_env_values = true
    )]
    pub run_dir: PathBuf,
    /// Directory for the history of posts
    #[arg(
        long,
        global = true,
        value_name = "DIR",
        default_value = Self::HISTORY,
        env = "TIPSTAFF_HISTORY",
        hide_env_values = true
    )]
    pub history: PathBuf,
    /// Directory for the log of decisions
    #[arg(
        long,
        global = true,
        value_name = "DIR",
        default_value = Self::LOG,
        env = "TIPSTAFF_LOG",
        hide_env_values = true
    )]
    pub log_dir: PathBuf,
}

/// When the output has colours.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum ColorOption {
    /// On a terminal, unless NO_COLOR is set
    Auto,
    /// Also into a pipe or a file
    Always,
    /// Never
    Never,
}

impl ColorOption {
    /// From now on; a pipe and NO_COLOR count where nothing else is asked for.
    pub fn apply(self) {
        match self {
            Self::Auto => {}
            Self::Always => anstream::ColorChoice::Always.write_global(),
            Self::Never => anstream::ColorChoice::Never.write_global(),
        }
    }
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
    /// Show what listens on this host, and who can reach it
    Survey,
    /// Write first orders: a paused rule for each listener
    ///
    /// Nothing is let in but the shell that you are logged in by: each listener gets a rule that
    /// is paused, for you to resume.
    Draft(DraftOptions),
    /// Write the rules of a host as access lists of RFC 8519
    ///
    /// One list for each direction and family, in JSON. Rules that the model has no words for are
    /// left out and named; the command ends with 1 then.
    Export(ExportOptions),
    /// Make orders of access lists of RFC 8519
    ///
    /// A list that is attached to an interface is about what comes in there, or leaves; another
    /// one about what its name begins with (outbound, transit), else about what comes in. Entries
    /// that orders have no words for are left out and named; the command ends with 1 then.
    Import(ImportOptions),
    /// Go through what was denied, and add rules for what you want
    Learn(LearnOptions),
    /// Print the JSON Schema of the orders, or of an output
    Schema(SchemaOptions),
    /// List the rules in order, and the standing answers
    Rules(RulesOptions),
    /// List the hosts of the orders, and their rules
    Hosts,
    /// Show the rules of one host, and why it has them
    Brief(BriefOptions),
    /// List services and address groups, or change them
    Names(NamesOptions),
    /// Add, change, move or remove rules; comments are kept
    #[command(subcommand)]
    Rule(RuleCommand),
    /// Show the standing answers, or change one
    Standing(StandingOptions),
    /// Pause, resume, export or import a group of rules
    #[command(subcommand)]
    Group(GroupCommand),
    /// List the postures of the orders, or change them
    Postures(PosturesOptions),
    /// List the areas of the feed, or name another feed
    Areas(AreasOptions),
    /// Take back the last edits of the orders
    Undo(UndoOptions),
    /// Find mistakes in the orders
    ///
    /// Rules that never match, are redundant, contradict each other, are too wide, or name a port
    /// that nothing listens on.
    Review(ReviewOptions),
    /// Tell what would happen to a packet, and why
    Ask(AskOptions),
    /// Check the orders, show what changes, put them in force
    Post(PostOptions),
    /// Show what rehearsed orders would have denied
    #[command(subcommand)]
    Rehearse(RehearseCommand),
    /// Show which posture is active, or switch to another
    Posture(PostureOptions),
    /// Show what two sets of orders answer differently
    Compare(CompareOptions),
    /// End connections that the orders no longer let in
    Cut(CutOptions),
    /// Keep the orders that are on trial
    Confirm(ConfirmOptions),
    /// Show what was put in force here, when and by whom
    History(HistoryOptions),
    /// Show whether the gate is up, and as the orders say
    State(StateOptions),
    /// Show packets, bytes and connections of each rule
    Tally(TallyOptions),
    /// Show decisions as they happen
    ///
    /// Of rules with `log = true`, and of what is denied a sample; more with `[log] level` in the
    /// orders.
    Watch(WatchOptions),
    /// Show decisions of before, or who was turned away most
    Log(LogOptions),
    /// Decide captured packets by the orders (pcap, pcapng)
    Replay(ReplayOptions),
    /// Check which ports are reachable, and why that differs
    Reach(ReachOptions),
    /// Put the last post in force after a restart (service)
    Boot(BootOptions),
    /// Install the systemd units that keep orders in force
    InstallBoot(InstallBootOptions),
    /// Guard new interfaces, and write the log (service)
    Keep,
    /// Remove the gate; everything passes then
    Withdraw(WithdrawOptions),
    /// Work on many hosts over ssh: state, post, reach, tally, log, run
    ///
    /// What runs on each host is `tipstaff serve-fleet`, as root, by an ssh key with that as its
    /// forced command, or by one line of sudoers.
    Fleet(FleetOptions),
    /// Do what `tipstaff fleet` asks for on standard input
    #[command(hide = true)]
    ServeFleet,
    /// Play the whole job at a made-up observatory
    ///
    /// In namespaces of its own: this machine's traffic is not touched.
    Demo(DemoOptions),
    /// Write the manual pages of all commands
    Manual(ManualOptions),
    /// Print completions for bash, zsh or fish
    Completions(CompletionsOptions),
    /// A part of the demo
    #[command(hide = true)]
    Play(PlayOptions),
}

impl Command {
    /// Whether what it writes is a table, or several.
    pub fn has_tables(&self) -> bool {
        match self {
            Self::Survey
            | Self::Rules(_)
            | Self::Hosts
            | Self::Brief(_)
            | Self::Standing(_)
            | Self::Log(_)
            | Self::Tally(_)
            | Self::Replay(_)
            | Self::Rehearse(RehearseCommand::Report { .. }) => true,
            Self::Names(options) => options.command.is_none(),
            Self::Postures(options) => options.command.is_none(),
            Self::Areas(options) => options.command.is_none(),
            Self::History(options) => options.command.is_none(),
            Self::Undo(options) => options.list,
            Self::Reach(options) => options.why.is_none() && options.changes.is_none(),
            Self::Fleet(options) => options.command.is_a_table(),
            _ => false,
        }
    }

    /// Whether it does something, and what it writes says that it was done. Who has a trial to
    /// confirm must hear of it.
    pub fn acts(&self) -> bool {
        match self {
            Self::Rule(_) | Self::Confirm(_) | Self::Withdraw(_) | Self::Manual(_) => true,
            Self::Standing(options) => options.direction.is_some() && !options.check,
            Self::Group(command) => !matches!(command, GroupCommand::Export { .. }),
            Self::Names(options) => options.command.is_some(),
            Self::Postures(options) => options.command.is_some(),
            Self::Areas(options) => options.command.is_some(),
            Self::Undo(options) => !options.list,
            Self::Rehearse(command) => matches!(command, RehearseCommand::End),
            Self::Post(options) => !options.check && !options.rehearse && options.trial.is_none(),
            Self::Posture(options) => options.name.is_some() && !options.while_i_wait,
            _ => false,
        }
    }

    /// Whether all that it writes is a text to read, which may be longer than a terminal.
    pub fn is_a_list(&self) -> bool {
        match self {
            Self::Survey
            | Self::Rules(_)
            | Self::Hosts
            | Self::Brief(_)
            | Self::Schema(_)
            | Self::Review(_)
            | Self::Ask(_)
            | Self::Compare(_)
            | Self::History(_)
            | Self::Replay(_)
            | Self::State(_) => true,
            Self::Names(options) => options.command.is_none(),
            Self::Areas(options) => options.command.is_none(),
            Self::Postures(options) => options.command.is_none(),
            Self::Log(options) => !options.follow,
            Self::Tally(options) => options.every.is_none(),
            Self::Fleet(options) => options.command.is_a_table(),
            _ => false,
        }
    }
}

#[derive(Args, Debug)]
pub struct ExportOptions {
    /// Write them to FILE [default: standard output]
    #[arg(long, value_name = "FILE")]
    pub to: Option<PathBuf>,
}

#[derive(Args, Debug)]
pub struct ImportOptions {
    /// The access lists, in JSON; - for standard input
    pub file: PathBuf,
    /// Write the orders to FILE, which is not there yet [default: standard output]
    #[arg(long, value_name = "FILE")]
    pub to: Option<PathBuf>,
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

#[derive(Args, Debug)]
pub struct DemoOptions {
    /// Use namespaces and the gate of the real kernel (needs root)
    #[arg(long)]
    pub kernel: bool,
    /// Use a stored snapshot of a host, without sockets and namespaces
    #[arg(long, conflicts_with = "kernel")]
    pub snapshot: bool,
    /// Play a roll-out over six hosts with real sshd (needs root and OpenSSH)
    #[arg(long, conflicts_with_all = ["kernel", "snapshot"])]
    pub fleet: bool,
}

#[derive(Args, Debug)]
pub struct PlayOptions {
    /// tcp or udp, address, port
    pub listeners: Vec<String>,
}

/// Where manual pages go.
#[derive(Args, Debug)]
pub struct ManualOptions {
    /// Write them into this directory, which is made where it is not there
    #[arg(long, value_name = "DIR")]
    pub to: PathBuf,
}

/// For which shell.
#[derive(Args, Clone, Copy, Debug)]
pub struct CompletionsOptions {
    /// The shell
    #[arg(value_enum)]
    pub shell: ShellName,
}

/// A shell that completes.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum ShellName {
    /// GNU Bash
    Bash,
    /// Z shell
    Zsh,
    /// Friendly interactive shell
    Fish,
}

/// What `schema` prints.
#[derive(Debug, Args)]
pub struct SchemaOptions {
    /// Output to describe: reach, rules, ask, state, … [default: the orders]
    pub name: Option<String>,
}
