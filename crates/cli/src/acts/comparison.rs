//! What a change means, line by line.

use tipstaff_core::analysis::compare::{Comparison, Kind};

use crate::terminal::Terminal;

/// So many lines are shown; JSON has all.
const SHOWN: usize = 24;

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
        let sign = match line.kind {
            Kind::LetIn => "+",
            Kind::Denied | Kind::Refused => "-",
            Kind::Rate | Kind::Answered | Kind::Silenced => "~",
        };
        let how = line.kind.describe(line.direction);
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
