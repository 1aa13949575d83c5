//! What an edit of the orders is, what it makes, and why it is refused.

use std::fmt;
use std::sync::Arc;

use super::fault::Faults;
use super::model::Rule;

/// Which rule: by its name or by its position, from 1.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Which {
    /// By name.
    Name(String),
    /// By position.
    Position(usize),
}

impl Which {
    /// Digits alone are a position, everything else is a name.
    pub fn parse(text: &str) -> Self {
        text.parse().map_or_else(|_| Self::Name(text.to_owned()), Self::Position)
    }
}

impl fmt::Display for Which {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Name(name) => write!(f, "`{name}`"),
            Self::Position(position) => write!(f, "at position {position}"),
        }
    }
}

/// Where a rule goes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Destination {
    /// Before everything.
    First,
    /// Behind everything.
    Last,
    /// Before a rule.
    Before(Which),
    /// Behind a rule.
    After(Which),
    /// So that it has this position, from 1.
    At(usize),
}

/// A rule that is to be added.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NewRule {
    /// Its name; made up from the content when absent.
    pub name: Option<String>,
    /// Why it is there.
    pub note: Option<String>,
    /// `allow` or `deny`, as written.
    pub action: String,
    /// What it is about, as written.
    pub traffic: Vec<String>,
    /// From whom, as written; any when empty.
    pub source: Vec<String>,
    /// Further keys and their values, as for [`Edit::Set`].
    pub further: Vec<(String, String)>,
}

/// One edit.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Edit {
    /// A new rule; without a destination before the first catch-all deny.
    Add(NewRule, Option<Destination>),
    /// Keys of a rule; an empty value takes the key out.
    Set(Which, Vec<(String, String)>),
    /// Another place.
    Move(Which, Destination),
    /// Allow becomes deny, deny becomes allow.
    SwapAction(Which),
    /// It keeps its place but never matches.
    Pause(Which),
    /// It matches again.
    Resume(Which),
    /// Gone.
    Remove(Which),
    /// The same once more under another name, right behind it unless told otherwise.
    Copy(Which, Option<String>, Option<Destination>),
    /// Another text in place of its own, as [`super::edit::block_of`] gives it.
    Replace(Which, String),
}

impl Edit {
    /// The rules that it names.
    pub(super) fn named_mut(&mut self) -> impl Iterator<Item = &mut Which> {
        let (which, destination) = match self {
            Self::Add(_, destination) => (None, destination.as_mut()),
            Self::Move(which, destination) => (Some(which), Some(destination)),
            Self::Copy(which, _, destination) => (Some(which), destination.as_mut()),
            Self::Set(which, _)
            | Self::SwapAction(which)
            | Self::Pause(which)
            | Self::Resume(which)
            | Self::Remove(which)
            | Self::Replace(which, _) => (Some(which), None),
        };
        let beside = destination.and_then(|destination| match destination {
            Destination::Before(other) | Destination::After(other) => Some(other),
            Destination::First | Destination::Last | Destination::At(_) => None,
        });
        which.into_iter().chain(beside)
    }
}

/// What an edit made of a text.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Edited {
    /// The included file that was edited; `None` for the orders' own.
    pub part: Option<String>,
    /// The new text of that file.
    pub text: String,
    /// The rule as it is now; as it was for a removal.
    pub rule: Arc<Rule>,
    /// Its position now; the one it had for a removal.
    pub position: usize,
    /// What happened, and to the positions of others, a sentence each.
    pub told: Vec<String>,
}

/// What several edits made, one after the other.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct EditedRules {
    /// The files that have another text now.
    pub texts: Vec<NewText>,
    /// What each edit made that changed something.
    pub edits: Vec<Edited>,
    /// Why the others changed nothing: it is so already.
    pub already: Vec<String>,
}

/// Why nothing was edited.
#[derive(Clone, Debug, PartialEq, Eq, thiserror::Error)]
pub enum EditFault {
    /// The text has faults before the edit.
    #[error("the orders already have errors; fix them first")]
    WrongOrders(Faults),
    /// The text would have faults after it.
    #[error("the change would make the orders invalid; the file was not modified")]
    WouldBeUnsound {
        /// The included file it is; `None` for the orders' own.
        part: Option<String>,
        /// The text that was not written.
        text: String,
        /// What would be wrong with it.
        faults: Faults,
    },
    /// No such rule; perhaps the other one was meant.
    #[error("no rule {0}")]
    NoSuchRule(Which, Option<String>),
    /// No such group of rules.
    #[error("no rule group `{0}`")]
    NoSuchGroup(String),
    /// `rules = [...]` on one line.
    #[error("the rules are not written as [[rules]] tables; only those can be edited in place")]
    NotTables,
    /// A rule cannot stand before or behind itself.
    #[error("a rule cannot be moved next to itself")]
    NextToItself,
    /// Two files cannot be written as one.
    #[error("the rule is in {from}, and its new position is in {to}")]
    AcrossFiles {
        /// The file it is in.
        from: String,
        /// The file it would go to.
        to: String,
    },
    /// No such name; perhaps the other one was meant.
    #[error("there is no `{name}` under [{table}]")]
    NoSuchName {
        /// The table of the orders that has such names.
        table: &'static str,
        /// The name.
        name: String,
        /// The one that may be meant.
        near: Option<String>,
    },
    /// The last item of a list would go, and without one it is no condition any more.
    #[error("that would leave no {key}, which means any; nothing was changed")]
    LeavesNone {
        /// The key of the list.
        key: String,
    },
    /// A list that is not there means any: with an item it would be narrower.
    #[error("the rule has no {key}, so it is about any; nothing was changed")]
    HasNone {
        /// The key of the list.
        key: String,
    },
    /// It cannot go, because something uses it.
    #[error("{name} is used by {}", users.join(", "))]
    InUse {
        /// The name.
        name: String,
        /// What uses it.
        users: Vec<String>,
    },
    /// It is so already.
    #[error("{0}")]
    NothingToDo(String),
}

/// A new text of one file of the orders.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct NewText {
    /// The included file; `None` for the orders' own.
    pub part: Option<String>,
    /// Its new text.
    pub text: String,
}
