//! Who asked for what, out of the log; and the rules that would let them in, as text.

use tipstaff_core::analysis::evidence::{Evidence, Proposal};
use tipstaff_core::analysis::log::{Entry, LogFilter};
use tipstaff_core::packet::Direction;

use crate::acts::decisions::{Counts, each, log_file, log_files, scan};
use crate::arguments::Common;
use crate::failure::Failure;
use crate::terminal::{Columns, Terminal, faint, moment, plain};

/// Reads the decisions that are meant; where no log is, there is nothing.
pub fn of_log(
    common: &Common,
    filter: &LogFilter,
    is_meant: impl Fn(&Entry<'_>) -> bool + Sync,
) -> Result<(Evidence, Counts), Failure> {
    let (mut all, mut counts) = (Evidence::default(), Counts::default());
    for file in log_files(&log_file(common)).unwrap_or_default() {
        let part = |text: &str| {
            let mut part = (Evidence::default(), Counts::default());
            each(text, filter, &mut part.1, |_, entry| {
                if is_meant(entry) {
                    part.0.add_entry(entry);
                }
            });
            part
        };
        scan(&file, part, |(part, missing)| {
            all.merge(part);
            counts.add(missing);
            Ok(())
        })?;
    }
    Ok((all, counts))
}

/// The command that adds a rule.
pub fn command(proposal: &Proposal) -> String {
    let quoted = |word: &String| match word.chars().all(is_plain) {
        true => word.clone(),
        false => format!("'{}'", word.replace('\'', "'\\''")),
    };
    let words: Vec<String> = proposal.arguments().iter().map(quoted).collect();
    format!("tipstaff rule add {}", words.join(" "))
}

/// What no shell reads otherwise.
fn is_plain(letter: char) -> bool {
    letter.is_ascii_alphanumeric() || "/-_.,:+@%=".contains(letter)
}

/// A table of what was asked for, and the commands below it.
pub fn show(proposals: &[Proposal], most: usize, terminal: &Terminal) {
    if proposals.is_empty() {
        return;
    }
    let mut table = Columns::new(["times", "traffic", "from", "to", "program", "last"]);
    for proposal in proposals.iter().take(most) {
        let peers = match proposal.peers.as_slice() {
            [] => format!("{} addresses", proposal.addresses),
            peers => peers.join(", "),
        };
        let (from, to) = match proposal.direction {
            Direction::Outbound => ("this host".to_owned(), peers),
            Direction::Inbound => (peers, "this host".to_owned()),
            Direction::Transit => (peers, proposal.destinations.join(", ")),
        };
        let last = proposal.last.parse::<jiff::Timestamp>().map(|time| moment(time.as_second()));
        table.row([
            plain(proposal.times),
            plain(proposal.traffic.join(", ")),
            plain(from),
            plain(to),
            plain(proposal.program.as_deref().unwrap_or_default()),
            faint(last.unwrap_or_else(|_| proposal.last.clone())),
        ]);
    }
    terminal.table(&table);
    terminal.line("these rules would let them in; add those that are wanted:");
    for proposal in proposals.iter().take(most) {
        terminal.line(format!("  {}", command(proposal)));
    }
    if proposals.len() > most {
        terminal.note(&format!("{} more; --count shows them", proposals.len() - most));
    }
}
