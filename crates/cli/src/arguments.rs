//! What can be written on the command line.

use std::net::IpAddr;
use std::path::{Path, PathBuf};
use std::time::Duration;

use clap::{Args, Parser, Subcommand};
use tipstaff_core::packet::Direction;

const EXIT_CODES: &str = "Exit codes: 0 done and as it should be · 1 something differs from the orders · \
2 wrong arguments or wrong orders, nothing was touched · 3 needs root · 4 this kernel or machine cannot carry \
the gate · 5 the system failed, nothing half done · state: 10 down, 11 drift";

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
    /// Be this host of the orders [default: the one that this machine is called]
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
    /// Keep what must outlive the command below DIR
    #[arg(
        long,
        global = true,
        value_name = "DIR",
        default_value = "/run/tipstaff",
        env = "TIPSTAFF_RUN",
        hide_env = true
    )]
    pub run_dir: PathBuf,
    /// Keep the history of posts below DIR
    #[arg(
        long,
        global = true,
        value_name = "DIR",
        default_value = "/var/lib/tipstaff",
        env = "TIPSTAFF_HISTORY",
        hide_env = true
    )]
    pub history: PathBuf,
}

impl Common {
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
    /// The JSON Schema of the orders, for editors and checks
    Schema,
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
    /// Keep the orders that are on trial
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
    /// Give every interface that appears its gate, until it is stopped: a service
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
pub struct DraftOptions {
    /// Write them to FILE, which must not be there yet, instead of printing them
    #[arg(long, value_name = "FILE")]
    pub to: Option<PathBuf>,
    /// Write the orders of a made-up observatory into a new folder DIR: every key once, with comments
    #[arg(long, value_name = "DIR", conflicts_with = "to")]
    pub example: Option<PathBuf>,
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

/// Edits of one rule. RULE is a name or a position.
#[derive(Subcommand, Debug)]
pub enum RuleCommand {
    /// Add a rule; unless told otherwise before the first deny of everything
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
pub struct CompareOptions {
    /// A file, the number of a revision, or in-force
    #[arg(default_value = "in-force")]
    pub before: String,
    /// The same [default: the file of the orders]
    pub after: Option<String>,
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

#[derive(Args, Debug)]
#[command(args_conflicts_with_subcommands = true)]
pub struct ReachOptions {
    #[command(subcommand)]
    pub command: Option<ReachCommand>,
    /// Look from this address too, played by the witness (needs root); a group of the orders
    /// stands for one of each of its ranges, `stranger` for somebody whom no rule names; repeatable
    #[arg(long = "as", value_name = "WHO")]
    pub vantages: Vec<String>,
    /// They come in by this interface, not where the way back leads
    #[arg(long, value_name = "NAME")]
    pub via: Option<String>,
    /// Look from as few sources as show every rule, and say which rules are true
    #[arg(long)]
    pub from_orders: bool,
    /// Check another host of the orders, from this machine's own address
    #[arg(long, value_name = "HOST", conflicts_with_all = ["vantages", "via", "from_orders"])]
    pub target: Option<String>,
    /// Knock on these too: ssh, tcp/7410, udp/7420-7423, 8080; a list, repeatable
    #[arg(long, value_name = "LIST")]
    pub ports: Vec<String>,
    /// Knock on all 65,535 TCP ports
    #[arg(long)]
    pub all_ports: bool,
    /// Only this port, with everything there is to know
    #[arg(long, value_name = "PORT", conflicts_with_all = ["ports", "all_ports", "markdown"])]
    pub why: Option<String>,
    /// What has opened or closed since the last check, or since a report (--changes=FILE)
    #[arg(long, value_name = "FILE", num_args = 0..=1, require_equals = true, default_missing_value = "last", conflicts_with = "why")]
    pub changes: Option<String>,
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

#[cfg(test)]
mod tests {
    #[test]
    fn the_command_line_is_sound() {
        use clap::CommandFactory;
        super::Arguments::command().debug_assert();
    }
}
