//! `serve-fleet`: the other end of `fleet`. Reads one request, runs the commands that it
//! may, and ends with one answer. Fit for a forced command of sshd, and for one line of
//! sudoers: no shell, no files but the host's own orders.

use std::io::Read;
use std::os::unix::process::CommandExt;
use std::path::Path;
use std::process::{Command as Process, Stdio};

use crate::acts::fleet::delivery::{self, Staged};
use crate::acts::fleet::message::{Answer, Ran, Request, Sheets};
use crate::arguments::{
    AreasCommand, Arguments, Command, Common, GroupCommand, ReachCommand, RuleCommand,
};
use crate::ending::Ending;
use crate::failure::{Failure, system};
use crate::help;
use crate::history::History;
use crate::terminal::Terminal;

/// Bytes of a request at most: orders, and a million addresses that they name.
const MOST: u64 = 256 << 20;

pub fn run(common: &Common, terminal: &Terminal) -> Result<Ending, Failure> {
    if !nix::unistd::geteuid().is_root() {
        return Err(as_root());
    }
    let mut text = String::new();
    let read = std::io::stdin().take(MOST).read_to_string(&mut text);
    read.map_err(system("reading the request"))?;
    let answer = match Request::read(&text) {
        Err(e) => answer(common, Vec::new(), Some(format!("the request cannot be read: {e}"))),
        Ok(request) => match serve(common, &request) {
            Ok(ran) => answer(common, ran, None),
            Err(failure) => answer(common, Vec::new(), Some(failure.to_string())),
        },
    };
    terminal.json_line(&answer);
    Ok(Ending::Fine)
}

/// Becomes root by sudo, which asks nothing; where that cannot be it says why itself.
fn as_root() -> Failure {
    let own = match std::env::current_exe() {
        Ok(own) => own,
        Err(source) => return Failure::System { doing: "finding this program", source },
    };
    let source = Process::new("sudo").arg("-n").arg(own).arg("serve-fleet").exec();
    Failure::System { doing: "running sudo, as this account is not root", source }
}

fn answer(common: &Common, ran: Vec<Ran>, refused: Option<String>) -> Answer {
    let host = nix::unistd::gethostname().unwrap_or_default().to_string_lossy().into_owned();
    let clock = jiff::Timestamp::now().as_second();
    let file = delivery::own_file(common.orders_path());
    Answer {
        version: env!("CARGO_PKG_VERSION").to_owned(),
        host,
        clock,
        file,
        ran,
        refused,
        clock_off: 0,
    }
}

fn refused(message: String) -> Failure {
    Failure::Argument { message, help: String::new() }
}

fn serve(common: &Common, request: &Request<'_>) -> Result<Vec<Ran>, Failure> {
    for words in &request.commands {
        let all = ["tipstaff".to_owned()].into_iter().chain(words.iter().cloned());
        let arguments = help::read(all.map(Into::into)).map_err(|e| {
            let text = e.render().to_string();
            refused(text.lines().next().unwrap_or("these arguments are wrong").to_owned())
        })?;
        let elsewhere = words.iter().any(|word| leads_elsewhere(word));
        let may = if elsewhere { Err(FILES) } else { may_run(&arguments) };
        may.map_err(|why| refused(format!("not allowed remotely: {why}")))?;
    }
    let staged = match &request.orders {
        Some(sheets) => Some(Staged::new(&common.run_dir, sheets)?),
        None => None,
    };
    let mut ran = Vec::new();
    for words in &request.commands {
        ran.push(run_one(common, staged.as_ref(), words)?);
    }
    if ran.iter().all(|one| one.exit_code == Some(0)) {
        if let Some(sheets) = request.orders.as_deref().filter(|_| request.save) {
            ran.push(saved(common, sheets));
        }
        if let Some(number) = request.save_revision {
            let revision = History::from_options(common).get(number)?;
            ran.push(saved(common, &delivery::of_record(&revision.record)));
        }
    }
    Ok(ran)
}

/// That the orders are the host's own file now, as another command that was run.
fn saved(common: &Common, sheets: &Sheets) -> Ran {
    let (exit_code, errors) = match delivery::save(common.orders_path(), sheets) {
        Ok(()) => (Some(0), String::new()),
        Err(failure) => (Some(failure.exit_code()), failure.to_string()),
    };
    Ran { exit_code, output: String::new(), errors }
}

fn run_one(common: &Common, staged: Option<&Staged>, words: &[String]) -> Result<Ran, Failure> {
    let own = std::env::current_exe().map_err(system("finding this program"))?;
    let mut command = Process::new(own);
    let post = words.iter().find(|word| !word.starts_with('-')).is_some_and(|word| word == "post");
    if let Some(staged) = staged {
        command.arg("--orders").arg(staged.path());
    }
    command.args(words);
    if staged.is_some() && post {
        // Where they belong once they are confirmed.
        command.arg("--recorded-as").arg(common.orders_path());
    }
    let output = command
        .stdin(Stdio::null())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .output()
        .map_err(system("running this program"))?;
    fn text(bytes: &[u8]) -> String {
        String::from_utf8_lossy(bytes).into_owned()
    }
    Ok(Ran {
        exit_code: output.status.code().and_then(|code| u8::try_from(code).ok()),
        output: text(&output.stdout),
        errors: text(&output.stderr),
    })
}

/// Whether a word names other files than the host's own: by a common option, or a list that
/// a new rule would read.
fn leads_elsewhere(word: &str) -> bool {
    let options = ["--orders", "--namespace", "--run-dir", "--history", "--log-dir"];
    word.contains("file:") || options.iter().any(|option| word.starts_with(option))
}

const FILES: &str = "it reads or writes a file";

/// Whether a command may be run by whoever holds the key: one that names no file, asks
/// nobody, ends, and does not install anything.
fn may_run(arguments: &Arguments) -> Result<(), &'static str> {
    const ENDLESS: &str = "it runs until interrupted, or asks questions";
    const HERE: &str = "it only works on the machine itself";
    fn is_file(word: &str) -> bool {
        word != "in-force" && word.parse::<u32>().is_err()
    }
    let wrong = match &arguments.command {
        Command::Survey
        | Command::Rules(_)
        | Command::Hosts
        | Command::Brief(_)
        | Command::Names(_)
        | Command::Standing(_)
        | Command::Postures(_)
        | Command::Ask(_)
        | Command::Rehearse(_)
        | Command::Cut(_)
        | Command::Confirm(_)
        | Command::History(_)
        | Command::State(_)
        | Command::Withdraw(_)
        | Command::Schema(_)
        | Command::Undo(_) => None,
        Command::Areas(options) => {
            matches!(options.command, Some(AreasCommand::Feed { .. })).then_some(FILES)
        }
        Command::Post(options) => options.recorded_as.is_some().then_some(FILES),
        Command::Posture(options) => options.while_i_wait.then_some(ENDLESS),
        Command::Rule(edit) => matches!(edit, RuleCommand::Edit { .. }).then_some(ENDLESS),
        Command::Group(command) => matches!(command, GroupCommand::Import { .. }).then_some(FILES),
        Command::Review(options) => options.file.is_some().then_some(FILES),
        Command::Export(options) => options.to.is_some().then_some(FILES),
        Command::Draft(options) => {
            let files = [&options.to, &options.example, &options.from_capture];
            files.into_iter().any(Option::is_some).then_some(FILES)
        }
        Command::Compare(options) => {
            let named = [Some(options.before.as_str()), options.after.as_deref()];
            named.into_iter().flatten().any(is_file).then_some(FILES)
        }
        Command::Tally(options) => {
            let elsewhere = options.openmetrics.as_ref().is_some_and(|to| to != Path::new("-"));
            match options.every.is_some() && options.times.is_none() {
                true => Some(ENDLESS),
                false => elsewhere.then_some(FILES),
            }
        }
        Command::Log(options) => options.follow.then_some(ENDLESS),
        Command::Reach(options) => {
            let files = options.html.is_some()
                || matches!(options.command, Some(ReachCommand::Merge { .. }))
                || options.changes.as_deref().is_some_and(|changes| changes != "last");
            files.then_some(FILES)
        }
        Command::Import(_) | Command::Replay(_) => Some(FILES),
        Command::Learn(_) | Command::Watch(_) | Command::Keep => Some(ENDLESS),
        Command::Boot(_)
        | Command::InstallBoot(_)
        | Command::Manual(_)
        | Command::Completions(_)
        | Command::Demo(_)
        | Command::Play(_)
        | Command::Fleet(_)
        | Command::ServeFleet => Some(HERE),
    };
    wrong.map_or(Ok(()), Err)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn may(line: &str) -> bool {
        let words = shell_words::split(&format!("tipstaff {line}")).unwrap();
        let elsewhere = words.iter().any(|word| leads_elsewhere(word));
        let arguments = help::read(words.into_iter().map(Into::into)).unwrap();
        !elsewhere && may_run(&arguments).is_ok()
    }

    #[test]
    fn only_what_names_no_file_and_ends_is_run() {
        for line in [
            "state --json",
            "post --trial 2m --host mast --reason 'a rule'",
            "confirm --revert",
            "reach --target dome-1 --json",
            "reach --changes",
            "tally --openmetrics",
            "rule pause plates",
            "compare 3 in-force",
            "history show 3",
        ] {
            assert!(may(line), "{line}");
        }
        for line in [
            "post --orders /tmp/orders.toml",
            "post --orders=/tmp/orders.toml",
            "rule add allow ssh --source file:/etc/shadow",
            "post --recorded-as /etc/shadow",
            "state --run-dir /tmp",
            "state --history /tmp",
            "log --log-dir /tmp",
            "survey --namespace dome",
            "review /etc/shadow",
            "compare /etc/shadow",
            "compare 3 /etc/shadow",
            "draft --to /etc/cron.d/x",
            "draft --example /tmp/x",
            "draft --from-capture /tmp/x",
            "export --to /tmp/x",
            "import /tmp/x",
            "reach --html /tmp/x",
            "reach --changes=/tmp/x",
            "reach merge /tmp/x",
            "tally --openmetrics=/tmp/x",
            "tally --every 1s",
            "log --follow",
            "watch",
            "learn",
            "rule edit plates",
            "group import /tmp/x",
            "posture sealed --while-i-wait",
            "manual --to /tmp/x",
            "install-boot --root /tmp",
            "keep",
            "demo",
            "fleet state",
            "serve-fleet",
            "replay /tmp/x",
        ] {
            assert!(!may(line), "{line}");
        }
    }
}
