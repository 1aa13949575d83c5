//! What can be written on the command line.

use std::net::IpAddr;
use std::path::{Path, PathBuf};

use clap::{Args, Parser, Subcommand};

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
    /// The rules in order, with what each has counted, and the standing answers
    Rules(RulesOptions),
    /// What would happen to a packet, and why
    Ask(AskOptions),
    /// Check the orders, show what they mean, and put them in force at once
    Post(PostOptions),
    /// Whether the gate is up, with which orders, and whether they drifted
    State,
    /// Which ports are truly reachable, from where, and why that differs from the orders
    Reach(ReachOptions),
    /// Take the gate down; everything passes then
    Withdraw,
    /// Play the whole line of work on a made-up observatory, without touching this machine
    Demo(DemoOptions),
    /// A part of the demo
    #[command(hide = true)]
    Play(PlayOptions),
}

#[derive(Args, Debug)]
pub struct RulesOptions {
    /// Show the foundations too, which hold before any rule
    #[arg(long)]
    pub all: bool,
    /// The orders in force instead of the file
    #[arg(long)]
    pub in_force: bool,
}

#[derive(Args, Debug)]
pub struct AskOptions {
    /// What the packet is about: tcp/22, ssh, udp/7420, icmp/echo, protocol/47
    pub traffic: String,
    /// Who sends it
    #[arg(long, value_name = "ADDRESS")]
    pub source: IpAddr,
    /// Ask the gate in the kernel instead of the file
    #[arg(long)]
    pub in_force: bool,
}

#[derive(Args, Debug)]
pub struct PostOptions {
    /// Only check and show; put nothing in force (needs no root)
    #[arg(long)]
    pub check: bool,
}

#[derive(Args, Debug)]
pub struct ReachOptions {
    /// Look from this address too, played by the witness; repeatable (needs root)
    #[arg(long = "as", value_name = "ADDRESS")]
    pub vantages: Vec<IpAddr>,
    /// How long to wait for an answer before a second and last knock
    #[arg(long, value_name = "MILLISECONDS", default_value_t = 150, value_parser = clap::value_parser!(u64).range(10..=10_000))]
    pub patience: u64,
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
