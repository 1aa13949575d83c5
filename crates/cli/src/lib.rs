//! The command line: arguments → a command → what it found → an exit code.
#![forbid(unsafe_code)]
#![deny(clippy::print_stdout, clippy::print_stderr)]

mod acts;
mod arguments;
mod attachments;
mod chosen;
mod commands;
mod edits;
mod ending;
mod failure;
#[cfg(any(test, feature = "fuzzing"))]
pub mod fuzzing;
mod help;
mod history;
mod journal;
mod sarif;
mod schemas;
mod shape;
mod store;
mod terminal;

use std::process::ExitCode;

use arguments::{Arguments, Command};
use ending::Ending;
use failure::Failure;
use terminal::Terminal;

/// What the program does with its arguments; its exit code.
pub fn main() -> ExitCode {
    tipstaff_bpf::sys::give_back_large_pieces();
    tipstaff_host::files::nobody_else_writes();
    // A shell asks how a line could go on: then that is all.
    help::complete();
    let arguments = match help::read(std::env::args_os()) {
        Ok(arguments) => arguments,
        Err(told) => told.exit(),
    };
    arguments.common.color.apply();
    // What answers another tipstaff is JSON, whoever asks.
    let json = arguments.common.json || matches!(arguments.command, Command::ServeFleet);
    let mut terminal = Terminal::new(json);
    if arguments.common.quiet {
        terminal.quieten(arguments.command.acts());
    }
    if arguments.common.csv {
        terminal.only_tables();
    }
    if arguments.common.verbose {
        terminal.tell_time();
    }
    if arguments.command.is_a_list() {
        terminal.page();
    }
    let ended = run(&arguments, &mut terminal);
    terminal.show_kept();
    if let Err(failure) = &ended {
        failure.print(&terminal);
    }
    // The work is done, whoever reads of it; but nobody is told that all is well by half a text.
    if let Some(source) = terminal.failed() {
        let failure = Failure::NotPrinted(source);
        failure.print(&terminal);
        return ExitCode::from(failure.exit_code());
    }
    match ended {
        Ok(ending) => ExitCode::from(ending as u8),
        Err(failure) => ExitCode::from(failure.exit_code()),
    }
}

fn run(arguments: &Arguments, terminal: &mut Terminal) -> Result<Ending, Failure> {
    let common = &arguments.common;
    if common.csv && !arguments.command.has_tables() {
        return Err(Failure::Argument {
            message: "--csv: this command writes no table".into(),
            help: "With --json it writes what it found for a script.".into(),
        });
    }
    let _doing = tracing::info_span!("in all").entered();
    if let Some(name) = &common.namespace {
        tipstaff_host::namespace::enter(name)?;
    }
    match &arguments.command {
        Command::Survey => commands::survey::run(common, terminal),
        Command::Draft(options) => commands::draft::run(common, options, terminal),
        Command::Export(options) => commands::export::run(common, options, terminal),
        Command::Import(options) => commands::import::run(options, terminal),
        Command::Learn(options) => commands::learn::run(common, options, terminal),
        Command::Schema(options) => schemas::run(options, terminal),
        Command::Rules(options) => commands::rules::run(common, options, terminal),
        Command::Hosts => commands::hosts::run(common, terminal),
        Command::Brief(options) => commands::brief::run(common, options, terminal),
        Command::Names(options) => commands::names::run(common, options, terminal),
        Command::Rule(edit) => commands::rule::run(common, edit, terminal),
        Command::Standing(options) => commands::standing::run(common, options, terminal),
        Command::Postures(options) => commands::postures::run(common, options, terminal),
        Command::Areas(options) => commands::areas::run(common, options, terminal),
        Command::Undo(options) => commands::undo::run(common, options, terminal),
        Command::Manual(options) => commands::manual::run(options, terminal),
        Command::Completions(options) => commands::completions::run(*options, terminal),
        Command::Group(command) => commands::group::run(common, command, terminal),
        Command::Review(options) => commands::review::run(common, options, terminal),
        Command::Ask(options) => commands::ask::run(common, options, terminal),
        Command::Post(options) => commands::post::run(common, options, terminal),
        Command::Rehearse(command) => commands::rehearse::run(common, *command, terminal),
        Command::Posture(options) => commands::posture::run(common, options, terminal),
        Command::Boot(options) => commands::boot::run(common, options, terminal),
        Command::InstallBoot(options) => commands::install_boot::run(common, options, terminal),
        Command::Compare(options) => commands::compare::run(common, options, terminal),
        Command::Cut(options) => commands::cut::run(common, options, terminal),
        Command::Confirm(options) => commands::confirm::run(common, options, terminal),
        Command::History(options) => commands::history::run(common, options, terminal),
        Command::State(options) => commands::state::run(common, options, terminal),
        Command::Tally(options) => commands::tally::run(common, options, terminal),
        Command::Watch(options) => commands::watch::run(common, options, terminal),
        Command::Log(options) => commands::log::run(common, options, terminal),
        Command::Replay(options) => commands::replay::run(common, options, terminal),
        Command::Reach(options) => commands::reach::run(common, options, terminal),
        Command::Keep => commands::keep::run(common, terminal),
        Command::Withdraw(options) => commands::withdraw::run(common, options, terminal),
        Command::Fleet(options) => commands::fleet::run(common, options, terminal),
        Command::ServeFleet => commands::serve_fleet::run(common, terminal),
        Command::Demo(options) => commands::demo::run(options, terminal),
        Command::Play(part) => commands::demo::play(part),
    }
}
