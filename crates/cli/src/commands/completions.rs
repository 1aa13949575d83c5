//! `completions`: what a shell needs to complete command lines.

use crate::arguments::{CompletionsOptions, ShellName};
use crate::ending::Ending;
use crate::failure::{Failure, system};
use crate::help;
use crate::terminal::Terminal;

pub fn run(options: CompletionsOptions, terminal: &Terminal) -> Result<Ending, Failure> {
    let shell = match options.shell {
        ShellName::Bash => "bash",
        ShellName::Zsh => "zsh",
        ShellName::Fish => "fish",
    };
    let script = help::completion_script(shell).map_err(system("writing the completions"))?;
    terminal.document(&script);
    Ok(Ending::Fine)
}
