//! Manual pages (man-pages(7)), one for each command.

use std::io;

use clap::Command;
use clap_mangen::Man;
use clap_mangen::roff::{Roff, bold, italic, roman};

use super::examples;

/// Exit codes, and what they say.
const EXIT: [(&str, &str); 6] = [
    ("0", "Done, and everything is as ordered; also where it was so already."),
    ("1", "Something differs from the orders."),
    ("2", "The arguments or the orders are not valid; nothing was changed."),
    ("3", "Only root may do that."),
    ("4", "This kernel or machine cannot run the gate."),
    ("5", "The system refused something; nothing was left half done."),
];

/// Those of `state`.
const EXIT_OF_STATE: [(&str, &str); 4] = [
    ("10", "Down: nothing is in force."),
    ("11", "Drifted: what is in force is not what it should be."),
    ("12", "The file was edited and not posted."),
    (
        "0, 1, 2, 3",
        "With --check, as monitoring plugins say it: well, to be looked at, not as ordered, unknown.",
    ),
];

/// Files, and what they are.
const FILES: [(&str, &str); 5] = [
    ("/etc/tipstaff/orders.toml", "The orders, and beside them the edits that can be taken back."),
    ("/var/lib/tipstaff", "The history of posts, and the last reach check."),
    ("/var/log/tipstaff", "The log of decisions, where keep writes one."),
    ("/run/tipstaff", "Locks, and the socket of those who watch."),
    ("/sys/fs/bpf/tipstaff", "What is in force, pinned in the kernel."),
];

/// Variables, and what they are.
const ENVIRONMENT: [(&str, &str); 6] = [
    ("TIPSTAFF_ORDERS", "The file of orders, as --orders."),
    ("TIPSTAFF_RUN", "The directory for runtime state, as --run-dir."),
    ("TIPSTAFF_HISTORY", "The directory for the history, as --history."),
    ("TIPSTAFF_LOG", "The directory for the log, as --log-dir."),
    ("NO_COLOR", "Without colour, whatever its value (no-color.org)."),
    ("PAGER", "What shows a text that is longer than the terminal; less where it is not set."),
];

/// The pages by their file names.
///
/// # Errors
/// What clap_mangen says.
pub fn all() -> io::Result<Vec<(String, Vec<u8>)>> {
    let mut command = super::command().disable_help_subcommand(true);
    command.build();
    let mut pages = Vec::new();
    walk(&command, &mut Vec::new(), &mut pages)?;
    Ok(pages)
}

fn walk(
    command: &Command,
    path: &mut Vec<String>,
    pages: &mut Vec<(String, Vec<u8>)>,
) -> io::Result<()> {
    let visible = command.get_subcommands().filter(|c| !c.is_hide_set());
    let subcommands: Vec<&Command> = visible.collect();
    let mut title = vec!["tipstaff".to_owned()];
    title.extend(path.iter().cloned());
    let title = title.join("-");
    let text = page(command, &title, &path.join(" "), &subcommands)?;
    pages.push((format!("{title}.8"), text));
    for sub in subcommands {
        path.push(sub.get_name().to_owned());
        walk(sub, path, pages)?;
        path.pop();
    }
    Ok(())
}

fn page(
    command: &Command,
    title: &str,
    path: &str,
    subcommands: &[&Command],
) -> io::Result<Vec<u8>> {
    // No date: the same program gives the same pages.
    let man = Man::new(command.clone())
        .title(title.to_ascii_uppercase())
        .source(concat!("tipstaff ", env!("CARGO_PKG_VERSION")))
        .section("8")
        .manual("Tipstaff");
    let mut text = Vec::new();
    man.render_title(&mut text)?;
    man.render_name_section(&mut text)?;
    man.render_synopsis_section(&mut text)?;
    man.render_description_section(&mut text)?;
    man.render_options_section(&mut text)?;
    let mut roff = Roff::default();
    if !subcommands.is_empty() {
        roff.control("SH", ["COMMANDS"]);
        for sub in subcommands {
            let about = sub.get_about().map(ToString::to_string).unwrap_or_default();
            entry(&mut roff, &format!("{title}-{}(8)", sub.get_name()), &about);
        }
    }
    let examples = examples::of(path);
    if examples.len() > 0 {
        roff.control("SH", ["EXAMPLES"]);
        for example in examples {
            roff.control("PP", []);
            let colon = if example.does.ends_with('?') { "" } else { ":" };
            roff.text([roman(format!("{}{colon}", example.does))]);
            roff.control("RS", ["4"]);
            roff.control("nf", []);
            roff.text([bold(example.line)]);
            roff.control("fi", []);
            roff.control("RE", []);
        }
    }
    list(&mut roff, "EXIT STATUS", &EXIT);
    if path == "state" {
        EXIT_OF_STATE.iter().for_each(|(code, says)| entry(&mut roff, code, says));
    }
    list(&mut roff, "FILES", &FILES);
    list(&mut roff, "ENVIRONMENT", &ENVIRONMENT);
    roff.control("SH", ["SEE ALSO"]);
    let above = match path.rsplit_once(' ') {
        Some((above, _)) => format!("tipstaff-{}", above.replace(' ', "-")),
        None => "tipstaff".to_owned(),
    };
    match path.is_empty() {
        true => roff.text([roman("Guide and reference: docs/ of the project.")]),
        false => roff.text([bold(above), roman("(8)")]),
    };
    roff.to_writer(&mut text)?;
    Ok(text)
}

fn list(roff: &mut Roff, heading: &str, entries: &[(&str, &str)]) {
    roff.control("SH", [heading]);
    entries.iter().for_each(|(name, says)| entry(roff, name, says));
}

fn entry(roff: &mut Roff, name: &str, says: &str) {
    roff.control("TP", []);
    match name.ends_with("(8)") {
        true => roff.text([italic(name)]),
        false => roff.text([bold(name)]),
    };
    roff.text([roman(says)]);
}
