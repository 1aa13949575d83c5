//! Arguments of the commands that change orders.

use std::path::PathBuf;

use clap::{Args, Subcommand, ValueEnum};

use super::looking::{Verdict, Way};

/// Edits of rules. RULE is a name or a position.
#[derive(Subcommand, Debug)]
pub enum RuleCommand {
    /// Add a rule (default position: before the first catch-all deny)
    Add(Box<AddOptions>),
    /// Set keys of a rule: source=observatory, source+=203.0.113.9, note="why"; key= removes it
    ///
    /// `key+=` adds to a list and `key-=` takes from it; with commas, several. A value that has
    /// `=` in it stands as it is.
    Set {
        /// Name or position
        rule: String,
        /// key=value, key+=value, key-=value
        #[arg(required = true, value_name = "KEY=VALUE")]
        keys: Vec<String>,
    },
    /// Change a rule in your editor: $VISUAL, $EDITOR, or vi
    Edit {
        /// Name or position
        rule: String,
    },
    /// Move rules to another position, in the order that they are named in
    Move {
        /// Names or positions
        #[arg(required = true, value_name = "RULE")]
        rules: Vec<String>,
        #[command(flatten)]
        place: PlaceOptions,
    },
    /// Turn an allow into a deny, or a deny into an allow
    SwapAction {
        /// Name or position
        rule: String,
    },
    /// Disable rules; they keep their positions
    Pause {
        /// Names or positions
        #[arg(required = true, value_name = "RULE")]
        rules: Vec<String>,
    },
    /// Enable paused rules again
    Resume {
        /// Names or positions
        #[arg(required = true, value_name = "RULE")]
        rules: Vec<String>,
    },
    /// Remove rules from the file; shows them and asks
    Remove {
        /// Names or positions
        #[arg(required = true, value_name = "RULE")]
        rules: Vec<String>,
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
    /// When the rule expires: so long from now, such as 2h or 3d, or 2026-12-24T18:00:00+01:00
    #[arg(long, value_name = "WHEN")]
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
    /// At this position; what stands there moves down
    #[arg(long, value_name = "NUMBER", value_parser = clap::value_parser!(u32).range(1..))]
    pub position: Option<u32>,
    /// Before all others
    #[arg(long)]
    pub first: bool,
    /// After all others
    #[arg(long)]
    pub last: bool,
}

/// A standing answer.
#[derive(Args, Debug)]
pub struct StandingOptions {
    /// The direction whose answer changes
    #[arg(value_enum, requires = "action")]
    pub direction: Option<Way>,
    /// The new answer
    #[arg(value_enum)]
    pub action: Option<Verdict>,
    /// Only show what it would change
    #[arg(long, requires = "action")]
    pub check: bool,
}

/// Names in the orders, or changes of them.
#[derive(Args, Debug)]
#[command(args_conflicts_with_subcommands = true)]
pub struct NamesOptions {
    #[command(subcommand)]
    pub command: Option<NamesCommand>,
    /// A service, a group, a port (7410, tcp/7410) or an address to look up
    pub wanted: Option<String>,
    /// Include the built-in services
    #[arg(long)]
    pub all: bool,
}

/// Changes of names.
#[derive(Subcommand, Debug)]
pub enum NamesCommand {
    /// Add to what a name stands for; a new name is made
    Add(NamedItems),
    /// Let a name stand for this alone; a new name is made
    Set(NamedItems),
    /// Remove a name that nothing uses, or take something from what it stands for
    Remove {
        /// What it is a name of
        #[arg(value_enum)]
        kind: NameKind,
        /// The name
        name: String,
        /// What is taken from it [default: the whole name]
        items: Vec<String>,
    },
    /// Give a name another name, everywhere
    Rename {
        /// What it is a name of
        #[arg(value_enum)]
        kind: NameKind,
        /// The name
        name: String,
        /// The new name
        new: String,
    },
}

/// A name, and what it stands for.
#[derive(Args, Debug)]
pub struct NamedItems {
    /// What it is a name of
    #[arg(value_enum)]
    pub kind: NameKind,
    /// The name
    pub name: String,
    /// What it stands for: addresses and groups, traffic, or paths of programs
    #[arg(required = true)]
    pub items: Vec<String>,
}

/// What names stand for, as the tables of the orders are called.
#[derive(Clone, Copy, Debug, PartialEq, Eq, ValueEnum)]
pub enum NameKind {
    /// Addresses, prefixes, ranges, other groups
    Addresses,
    /// Traffic
    Services,
    /// Programs, by their paths
    Programs,
}

/// Postures in the orders, or changes of them.
#[derive(Args, Debug)]
pub struct PosturesOptions {
    #[command(subcommand)]
    pub command: Option<PosturesCommand>,
}

/// Changes of postures.
#[derive(Subcommand, Debug)]
pub enum PosturesCommand {
    /// Add a posture: tipstaff postures add night note="Nobody is here" inbound=deny
    Add {
        /// Its name
        name: String,
        /// key=value; inbound, outbound and transit are its standing answers
        #[arg(value_name = "KEY=VALUE")]
        keys: Vec<String>,
    },
    /// Set keys of a posture; key= removes it
    Set {
        /// Its name
        name: String,
        /// key=value; inbound, outbound and transit are its standing answers
        #[arg(required = true, value_name = "KEY=VALUE")]
        keys: Vec<String>,
    },
    /// Remove a posture that nothing uses
    Remove {
        /// Its name
        name: String,
    },
}

/// The areas of the feed.
#[derive(Args, Debug)]
pub struct AreasOptions {
    #[command(subcommand)]
    pub command: Option<AreasCommand>,
    /// Show the prefixes of this area: NL, or NL-NH
    pub area: Option<String>,
}

/// Changes of the feed.
#[derive(Subcommand, Debug)]
pub enum AreasCommand {
    /// Take areas from this file, in the format of RFC 8805
    Feed {
        /// The file, as the orders name it: beside them, or by its whole path
        file: PathBuf,
    },
}

/// The edits that can be taken back.
#[derive(Args, Debug)]
pub struct UndoOptions {
    /// Take back so many
    #[arg(value_name = "NUMBER", default_value_t = 1, value_parser = clap::value_parser!(u32).range(1..))]
    pub edits: u32,
    /// List the edits that can be taken back, the last first
    #[arg(long)]
    pub list: bool,
}
