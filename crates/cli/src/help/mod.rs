//! The command line as clap is told it: the arguments, with the commands in groups, only
//! those common options that a command looks at, examples, and other words for what there is.

mod examples;
mod groups;
pub mod pages;
mod uses;
mod values;
mod words;

use std::ffi::OsString;

use clap::builder::StyledStr;
use clap::error::{ContextKind, ContextValue, Error, ErrorKind};
use clap::{Arg, Command, CommandFactory, FromArgMatches};
use examples::Example;

use crate::arguments::Arguments;

/// The command line with all that its help shows.
pub fn command() -> Command {
    let mut command = Arguments::command();
    let common: Vec<Arg> =
        command.get_arguments().filter(|arg| arg.is_global_set()).cloned().collect();
    let names: Vec<String> = command.get_subcommands().map(|c| c.get_name().to_owned()).collect();
    for name in names {
        let hidden = common.iter().filter(|arg| !uses::looks_at(&name, arg.get_id().as_str()));
        let hidden: Vec<Arg> = hidden.map(|arg| arg.clone().hide(true)).collect();
        command = command.mut_subcommand(&name, |sub| sub.args(hidden));
    }
    command = with_examples(command, &mut Vec::new());
    let style = command.get_styles().get_header().to_owned();
    let template = format!(
        "{{about-with-newline}}\n{{usage-heading}} {{usage}}\n{}\n{style}Options of every command \
         that looks at them:{style:#}\n{{options}}{{after-help}}",
        groups::listed(&command)
    );
    command.help_template(StyledStr::from(template))
}

/// Examples below the help of each command.
fn with_examples(mut command: Command, path: &mut Vec<String>) -> Command {
    let names: Vec<String> = command.get_subcommands().map(|c| c.get_name().to_owned()).collect();
    for name in names {
        path.push(name.clone());
        command = command.mut_subcommand(&name, |sub| with_examples(sub, path));
        path.pop();
    }
    let examples = examples::of(&path.join(" "));
    if examples.len() == 0 {
        return command;
    }
    let header = command.get_styles().get_header().to_owned();
    let mut text = format!("{header}Examples:{header:#}");
    for Example { line, does } in examples {
        let colon = if does.ends_with('?') { "" } else { ":" };
        text.push_str(&format!("\n  {does}{colon}\n    {line}"));
    }
    if let Some(further) = command.get_after_help() {
        text.push_str(&format!("\n\n{further}"));
    }
    command.after_help(StyledStr::from(text))
}

/// Reads the arguments.
///
/// # Errors
/// What clap says, with the words that are meant where others were tried.
pub fn read(arguments: impl IntoIterator<Item = OsString>) -> Result<Arguments, Error> {
    let words: Vec<OsString> = arguments.into_iter().collect();
    // What the help has beside the arguments takes longer than most commands do; it is made
    // where it is shown.
    if let Ok(matches) = Arguments::command().try_get_matches_from(&words) {
        return Arguments::from_arg_matches(&matches);
    }
    let mut command = command();
    let matches =
        command.try_get_matches_from_mut(words).map_err(|error| explained(error, &mut command))?;
    Arguments::from_arg_matches(&matches).map_err(|error| error.format(&mut command))
}

/// By what a word means, rather than by its letters.
fn explained(mut error: Error, command: &mut Command) -> Error {
    let word = |error: &Error, kind| match error.get(kind) {
        Some(ContextValue::String(word)) => Some(word.clone()),
        _ => None,
    };
    let used = usage_words(&error);
    let at = used.iter().try_fold(&*command, |at, name| at.find_subcommand(name));
    let at = at.unwrap_or(&*command);
    let has = |name: &str| has(at, name);
    let told = match error.kind() {
        ErrorKind::InvalidSubcommand => {
            let is_a_slip = error.get(ContextKind::SuggestedSubcommand).is_some();
            word(&error, ContextKind::InvalidSubcommand).and_then(|w| match used.is_empty() {
                true => words::for_command(&w),
                false => meant_within(at, &used.join(" "), &w, is_a_slip),
            })
        }
        ErrorKind::UnknownArgument => word(&error, ContextKind::InvalidArg)
            .and_then(|w| words::for_traffic(&w, has).or_else(|| words::for_option(&w, has))),
        _ => None,
    };
    if let Some(told) = told {
        for kind in [ContextKind::SuggestedSubcommand, ContextKind::SuggestedArg] {
            error.remove(kind);
        }
        let told = vec![StyledStr::from(told)];
        error.insert(ContextKind::Suggested, ContextValue::StyledStrs(told));
    }
    error
}

fn has(command: &Command, option: &str) -> bool {
    command.get_arguments().any(|arg| arg.get_long() == Some(option))
}

/// What somebody means who goes on so within the command `name`; what else it has where that is
/// not known, and no slip either.
fn meant_within(command: &Command, name: &str, word: &str, is_a_slip: bool) -> Option<String> {
    let parts: Vec<&str> =
        command.get_subcommands().map(Command::get_name).filter(|name| *name != "help").collect();
    words::for_traffic(word, |option| has(command, option))
        .or_else(|| words::for_part(name, word, &parts))
        .or_else(|| {
            (command.is_subcommand_required_set() && !is_a_slip)
                .then(|| format!("tipstaff {name} has: {}", parts.join(", ")))
        })
}

/// The commands that an error is about, as its usage names them.
fn usage_words(error: &Error) -> Vec<String> {
    let usage = match error.get(ContextKind::Usage) {
        Some(ContextValue::StyledStr(usage)) => usage.to_string(),
        _ => String::new(),
    };
    let words = usage.split_whitespace().skip_while(|word| *word != "tipstaff").skip(1);
    words.take_while(|w| !w.starts_with(['<', '[', '-'])).map(str::to_owned).collect()
}

/// The variable by which a shell asks.
const ASKS: &str = "TIPSTAFF_COMPLETE";

/// Answers a shell that asks how a command line could go on, and ends then.
pub fn complete() {
    let factory = || values::completed(command());
    clap_complete::CompleteEnv::with_factory(factory).var(ASKS).complete();
}

/// What a shell reads to ask for completions.
///
/// # Errors
/// `NotFound` for a shell that is not known.
pub fn completion_script(shell: &str) -> std::io::Result<String> {
    let shells = clap_complete::env::Shells::builtins();
    let shell = shells.completer(shell).ok_or(std::io::ErrorKind::NotFound)?;
    let mut text = Vec::new();
    shell.write_registration(ASKS, "tipstaff", "tipstaff", "tipstaff", &mut text)?;
    String::from_utf8(text).map_err(std::io::Error::other)
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn every_command_is_in_one_group_and_says_what_it_does_in_a_line() {
        let mut command = command();
        command.build();
        let mut grouped: Vec<&str> =
            groups::GROUPS.iter().flat_map(|(_, names)| names.iter().copied()).collect();
        grouped.sort_unstable();
        let visible = command.get_subcommands().filter(|c| !c.is_hide_set());
        let mut names: Vec<&str> = visible.map(Command::get_name).collect();
        names.retain(|name| *name != "help");
        names.sort_unstable();
        assert_eq!(grouped, names);
        for sub in command.get_subcommands() {
            let about = sub.get_about().map(ToString::to_string).unwrap_or_default();
            assert!(about.len() <= 64, "{}: {about}", sub.get_name());
        }
        command.debug_assert();
    }

    #[test]
    fn what_somebody_means_is_told_and_what_is_a_slip_too() {
        let told = |line: &str| {
            let words = shell_words::split(line).unwrap();
            read(words.into_iter().map(OsString::from)).unwrap_err().to_string()
        };
        for (line, meant) in [
            ("tipstaff status", "tipstaff state"),
            ("tipstaff rollback", "tipstaff post --revision NUMBER"),
            ("tipstaff ask ssh --from 203.0.113.9", "--source"),
            ("tipstaff ask ssh --port 22", "The port is the traffic"),
            ("tipstaff reach 7410", "--ports 7410"),
            ("tipstaff reach tcp/7410 --as 203.0.113.9", "--ports tcp/7410"),
            ("tipstaff reach ssh", "--ports ssh"),
            ("tipstaff watch udp/7420", "--traffic udp/7420"),
            ("tipstaff log 22", "--traffic 22"),
            // A word within a command means something of that command.
            ("tipstaff fleet apply", "tipstaff fleet post"),
            ("tipstaff fleet status", "tipstaff fleet state"),
            ("tipstaff fleet rollback", "tipstaff fleet has: state, post"),
            ("tipstaff rule delete x", "tipstaff rule remove"),
            ("tipstaff rule disable x", "tipstaff rule pause"),
            ("tipstaff group disable x", "tipstaff group pause"),
            ("tipstaff group delete x", "tipstaff group has: pause, resume, export, import"),
            ("tipstaff rule show x", "tipstaff rules"),
            ("tipstaff history rollback 2", "tipstaff post --revision NUMBER"),
            ("tipstaff history list", "tipstaff history"),
            ("tipstaff survye", "'survey'"),
            ("tipstaff ask ssh --sorce 203.0.113.9", "'--source'"),
        ] {
            assert!(told(line).contains(meant), "{line}: {}", told(line));
        }
        assert!(!told("tipstaff rule disable x").contains("withdraw"));
        // Only where the command has it.
        assert!(!told("tipstaff hosts --from 203.0.113.9").contains("--source"));
        assert!(!told("tipstaff state 22").contains("--traffic"));
    }
}
