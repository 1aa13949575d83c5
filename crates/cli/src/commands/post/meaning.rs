//! What a post would change, and for whom.

use tipstaff_core::analysis::compare::Comparison;
use tipstaff_core::analysis::exposure::{Breadth, Exposure};
use tipstaff_core::brief::Brief;
use tipstaff_core::host::listener::{Listener, Scope};
use tipstaff_gate::InForce;
use tipstaff_host::{interfaces, listeners};

use crate::acts::comparison;
use crate::acts::stranded::{self, Stranded};
use crate::chosen::{self, LoadedPolicy, Visible};
use crate::failure::{Failure, system};
use crate::terminal::{Terminal, counted};

/// What a post changes.
pub struct PolicyDiff {
    /// Against what.
    pub before: Before,
    /// Which traffic gets another answer.
    pub comparison: Comparison,
    /// The connections of this moment that would not be let in again.
    pub stranded: Vec<Stranded>,
    /// What listens where others could come, and nobody may any more.
    pub closed: Vec<String>,
}

/// What holds before a post.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Before {
    /// Other orders, or the same.
    Orders,
    /// Orders that cannot be read any more.
    Unreadable,
    /// Everything passes.
    Nothing,
    /// Only root may know; compared with everything passing.
    NotVisible,
}

impl Before {
    pub fn name(self) -> &'static str {
        match self {
            Self::Orders => "orders",
            Self::Unreadable => "unreadable",
            Self::Nothing => "nothing",
            Self::NotVisible => "not-visible",
        }
    }
}

impl PolicyDiff {
    /// What another list changes, for nobody who is connected.
    pub fn between(before: &Brief, after: &Brief) -> Self {
        Self {
            before: Before::Orders,
            comparison: Comparison::between(before, after),
            stranded: Vec::new(),
            closed: Vec::new(),
        }
    }
}

/// What the orders change: against those in force, and for who is connected.
pub fn meaning(
    in_force: Option<&InForce>,
    visible: Visible,
    judge: &LoadedPolicy,
    terminal: &Terminal,
) -> Result<PolicyDiff, Failure> {
    let stranded = stranded::stranded(&judge.brief)?;
    let open = || judge.brief.nothing_in_force();
    let (before, list) = match (in_force.map(chosen::from_force), visible) {
        (Some(Ok(before)), _) => (Before::Orders, Some(before.brief)),
        // Orders of another version cannot be compared; that stops nobody.
        (Some(Err(e)), _) => {
            terminal.note(&format!("the orders in force cannot be compared: {e}"));
            (Before::Unreadable, None)
        }
        (None, Visible::OnlyToRoot) => (Before::NotVisible, Some(open())),
        (None, Visible::Yes) => (Before::Nothing, Some(open())),
    };
    let comparison = list.map(|list| Comparison::between(&list, &judge.brief)).unwrap_or_default();
    let closed = match before {
        Before::Nothing | Before::NotVisible => closed(&judge.brief)?,
        Before::Orders | Before::Unreadable => Vec::new(),
    };
    Ok(PolicyDiff { before, comparison, stranded, closed })
}

/// What listens where others could come, and nobody may come to by a list.
fn closed(brief: &Brief) -> Result<Vec<String>, Failure> {
    let all = interfaces::list().map_err(system("reading the interfaces"))?;
    let found = listeners::list(&all).map_err(system("reading what listens"))?;
    fn words(listener: &Listener) -> String {
        let who = listener.program().map_or(listener.owner.account.as_str(), |p| p.name.as_str());
        format!("{}/{} ({who})", listener.transport, listener.port)
    }
    let mut words: Vec<String> = found
        .listeners
        .iter()
        .filter(|listener| {
            let program = listener.path().map(|path| brief.program_index(path));
            let key = listener.transport.key(listener.port);
            let exposure = Exposure::compute(brief, key, program).heard_by(listener);
            listener.scope() != Scope::Loopback && exposure.breadth() == Breadth::Nobody
        })
        .map(words)
        .collect();
    words.dedup();
    Ok(words)
}

/// The part of the report about what changes.
pub fn show_meaning(judge: &LoadedPolicy, meaning: &PolicyDiff, terminal: &Terminal) {
    let heading = match meaning.before {
        Before::Orders => Some("what changes:"),
        Before::Nothing => Some("what changes, compared with no gate:"),
        Before::NotVisible => {
            Some("what it means, compared with no gate (only root can see what is in force):")
        }
        Before::Unreadable => None,
    };
    if let Some(heading) = heading {
        terminal.line(format!("  {heading}"));
        comparison::show(&meaning.comparison, "    ", terminal);
    }
    if !meaning.closed.is_empty() {
        let (shown, rest) = meaning.closed.split_at(meaning.closed.len().min(STRANDED_SHOWN));
        let more = match rest.len() {
            0 => String::new(),
            more => format!(" and {more} more"),
        };
        terminal.line(format!("  no longer reachable by anybody: {}{more}", shown.join(", ")));
    }
    let stranded = &meaning.stranded;
    if !stranded.is_empty() {
        let open = counted(stranded.len(), "open connection", "open connections");
        terminal.line(format!("  {open} would no longer be let in (`tipstaff cut` ends them):"));
        for stranded in stranded.iter().take(STRANDED_SHOWN) {
            terminal.line(format!("    {}", stranded.describe(&judge.brief)));
        }
        if stranded.len() > STRANDED_SHOWN {
            terminal.line(format!("    … and {} more", stranded.len() - STRANDED_SHOWN));
        }
    }
}

/// So many connections are named.
const STRANDED_SHOWN: usize = 8;
