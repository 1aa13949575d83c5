//! What a change means, line by line.

use std::path::Path;

use tipstaff_core::analysis::compare::{Comparison, Kind};
use tipstaff_core::orders::edit::NewText;
use tipstaff_core::orders::{Documents, read_all};

use crate::chosen::{self, LoadedPolicy};
use crate::failure::Failure;
use crate::terminal::Terminal;

/// What an edit changes: new texts of some files, against orders as they are.
pub fn of_edit(judge: &LoadedPolicy, texts: &[NewText]) -> Result<Comparison, Failure> {
    let (mut text, mut attachments) = (judge.text.clone(), judge.attachments.clone());
    for NewText { part, text: new } in texts {
        let sheets = Documents { text: &text, attachments: &attachments };
        (text, attachments) = sheets.with(part.as_deref(), new);
    }
    let orders = match read_all(Documents { text: &text, attachments: &attachments }) {
        Ok(orders) => orders,
        // The edit has read it already; what is not there can only be a file that it names.
        Err(faults) => return Err(Failure::wrong(Path::new(""), text, attachments, faults)),
    };
    let (host, posture) = (judge.host.as_deref(), judge.posture.as_deref());
    let after = chosen::brief_for_this_machine(&orders, host, posture)?;
    Ok(Comparison::between(&judge.brief, &after))
}

/// So many lines are shown; JSON has all.
const SHOWN: usize = 24;

/// `+`, `-` or `~`: whether a change lets in, keeps out, or neither.
fn sign(kind: Kind) -> &'static str {
    match kind {
        Kind::LetIn => "+",
        Kind::Denied | Kind::Refused => "-",
        Kind::Rate | Kind::Answered | Kind::Silenced => "~",
    }
}

/// All lines: `+ let in: tcp/7410 from 203.0.113.0/24, by rule 1 (plates)`.
pub fn in_words(comparison: &Comparison) -> Vec<String> {
    let foundation = comparison.address_assignment.map(|now| match now {
        true => "~ address assignment (DHCP, DHCPv6) passes before any rule".to_owned(),
        false => "~ address assignment (DHCP, DHCPv6) is left to the rules".to_owned(),
    });
    let lines = comparison.lines().into_iter().map(|line| {
        let how = line.kind.describe(line.direction);
        format!("{} {how}: {}, by {}", sign(line.kind), line.text, line.by)
    });
    foundation.into_iter().chain(lines).collect()
}

/// The lines, at most so many, each behind `indent`.
pub fn show(comparison: &Comparison, indent: &str, terminal: &Terminal) {
    let lines = comparison.lines();
    if let Some(now) = comparison.address_assignment {
        let what = if now { "passes before any rule" } else { "is left to the rules" };
        terminal.line(format!("{indent}~ address assignment (DHCP, DHCPv6) {what}"));
        terminal.note(&format!("{indent}    by [foundations]"));
    }
    if comparison.is_empty() {
        terminal.line(format!("{indent}every packet gets the same answer"));
    }
    for line in lines.iter().take(SHOWN) {
        let (sign, how) = (sign(line.kind), line.kind.describe(line.direction));
        terminal.line(format!("{indent}{sign} {how}: {}", line.text));
        let before = if line.before == line.by && line.kind != Kind::Rate {
            String::new()
        } else {
            format!("; before it was {}", line.before)
        };
        terminal.note(&format!("{indent}    by {}{before}", line.by));
    }
    if lines.len() > SHOWN {
        terminal.line(format!("{indent}… and {} more; --json has all", lines.len() - SHOWN));
    }
    if comparison.cut_off {
        terminal.line(format!(
            "{indent}at least these: the lists are too complex to compare all traffic"
        ));
    }
}
