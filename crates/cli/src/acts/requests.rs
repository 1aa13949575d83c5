//! Who asked for what, out of the log; and the rules that would let them in, as text.

use std::net::IpAddr;
use std::path::Path;

use tipstaff_core::analysis::evidence::{Evidence, Request};
use tipstaff_core::analysis::learned::Seen;
use tipstaff_core::analysis::log::{Entry, LogFilter};
use tipstaff_core::analysis::proposal::Proposal;
use tipstaff_core::analysis::replay::Replay;
use tipstaff_core::brief::Brief;
use tipstaff_core::packet::Direction;

use crate::acts::capture::{self, End, News, NoCapture};
use crate::acts::decisions::{Counts, gather, logged};
use crate::arguments::Common;
use crate::failure::Failure;
use crate::terminal::{Columns, Terminal, faint, moment, plain};

/// Reads the decisions that are meant; where no log is, there is nothing.
pub fn of_log(
    common: &Common,
    filter: &LogFilter,
    is_meant: impl Fn(&Entry<'_>) -> bool + Sync,
) -> Result<(Evidence, Counts), Failure> {
    let files = logged(common)?;
    let add = |evidence: &mut Evidence, entry: &Entry<'_>| {
        if is_meant(entry) {
            evidence.add_entry(entry);
        }
    };
    gather(&files, filter, Evidence::default, add, Evidence::merge)
}

/// What the log has, as orders could be drafted from it.
pub fn seen_in_log(common: &Common, filter: &LogFilter) -> Result<(Seen, Counts), Failure> {
    let files = logged(common)?;
    gather(&files, filter, Seen::default, Seen::add, Seen::merge)
}

/// What a capture has, likewise: whoever was answered is let in. How it ends is told, too.
pub fn seen_in_capture(path: &Path, own: &[IpAddr]) -> Result<(Seen, End), Failure> {
    let input = capture::opened(path).map_err(Failure::unreadable(path))?;
    let open = Brief { own: capture::own(own, &[])?, ..Brief::everything_passes() };
    let mut replay = Replay::new(&open).map_err(tipstaff_gate::GateError::from)?;
    let end = capture::read(input, |news| {
        if let News::Packet(captured, _) = news {
            replay.packet(captured.arrived());
        }
        Ok(())
    })
    .map_err(|why: NoCapture| why.of(path))?;
    let mut seen = Seen::default();
    for (ends, conversation) in replay.conversations().in_order() {
        let (peer, destination) = match conversation.direction {
            Direction::Inbound => (ends.source, None),
            Direction::Outbound => (ends.destination, None),
            Direction::Transit => (ends.source, Some(ends.destination)),
        };
        let request = Request {
            direction: conversation.direction,
            traffic: ends.key.to_string(),
            peer,
            destination,
            program: None,
            denied_by: None,
        };
        let at = capture::moment_of(conversation.begun);
        seen.add_request(request, conversation.answered, 1, &at);
    }
    Ok((seen, end))
}

/// The command that adds a rule.
pub fn command(proposal: &Proposal) -> String {
    format!("tipstaff rule add {}", shell_words::join(proposal.arguments()))
}

/// A table of what was asked for, and the commands below it.
pub fn show(proposals: &[Proposal], most: usize, terminal: &Terminal) {
    if proposals.is_empty() {
        return;
    }
    let shown = &proposals[..most.min(proposals.len())];
    let programs = shown.iter().any(|proposal| proposal.program.is_some());
    let mut headings = vec!["times", "traffic", "from", "to", "last"];
    headings.extend(programs.then_some("program"));
    let mut table = Columns::new(headings);
    for proposal in shown {
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
        let program = proposal.program.as_deref().unwrap_or_default();
        let mut cells = vec![
            plain(proposal.times).set_alignment(comfy_table::CellAlignment::Right),
            plain(proposal.traffic.join(", ")),
            plain(from),
            plain(to),
            faint(last.unwrap_or_else(|_| proposal.last.clone())),
        ];
        cells.extend(programs.then(|| plain(program)));
        table.row(cells);
    }
    terminal.table(&table);
    terminal.line("these rules would let them in; add those that are wanted:");
    for proposal in shown {
        terminal.line(format!("  {}", command(proposal)));
    }
    if proposals.len() > most {
        terminal.note(&format!("{} more; --count shows them", proposals.len() - most));
    }
}
