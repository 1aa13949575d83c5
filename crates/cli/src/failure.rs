//! Why a command could not do its work: a sentence, the help, an exit code.

use std::io;
use std::path::{Path, PathBuf};

use annotate_snippets::{AnnotationKind, Level, Renderer, Snippet};
use schemars::JsonSchema;
use serde::Serialize;
use tipstaff_core::orders::edit::EditFault;
use tipstaff_core::orders::{Attachments, Documents, Fault, Faults};
use tipstaff_core::visible::{same_length, visible, visible_lines};
use tipstaff_gate::GateError;
use tipstaff_gate::lock::LockError;
use tipstaff_host::files::Distrust;
use tipstaff_host::namespace::NamespaceFault;
use tipstaff_knock::witness::WitnessFault;
use tipstaff_reach::CheckFault;

use crate::shape::shape;
use crate::terminal::{Terminal, counted};

/// Everything that ends a command early.
#[derive(Debug, thiserror::Error)]
pub enum Failure {
    /// The orders have faults.
    #[error("{}", count(.faults.0.len(), path))]
    WrongOrders {
        /// Where they were read.
        path: PathBuf,
        /// Their text and what they name.
        sheets: Box<(String, Attachments)>,
        /// What is wrong.
        faults: Faults,
    },
    /// There is no such file.
    #[error("no orders at {}", .0.display())]
    NoOrders(PathBuf),
    /// A file cannot be read.
    #[error("{} cannot be read: {source}", path.display())]
    Unreadable {
        /// The file.
        path: PathBuf,
        /// What the system said.
        source: io::Error,
    },
    /// A file cannot be written.
    #[error("{} cannot be written and was not modified: {source}", path.display())]
    Unwritable {
        /// The file.
        path: PathBuf,
        /// What the system said.
        source: io::Error,
    },
    /// The result is not all there.
    #[error("the output cannot be written: {0}")]
    NotPrinted(io::Error),
    /// An edit that was not made.
    #[error("{}: {source}", path.display())]
    NotEdited {
        /// The file.
        path: PathBuf,
        /// Its text and what it names.
        sheets: Box<(String, Attachments)>,
        /// Why not.
        source: EditFault,
    },
    /// An argument that clap cannot judge.
    #[error("{message}")]
    Argument {
        /// What is wrong.
        message: String,
        /// The help.
        help: String,
    },
    /// A file that somebody else could change would decide what is in force.
    #[error(transparent)]
    Distrusted(#[from] Distrust),
    /// Another command works on the same file.
    #[error(transparent)]
    Locked(#[from] LockError),
    /// The gate.
    #[error(transparent)]
    Gate(#[from] GateError),
    /// The namespace.
    #[error(transparent)]
    Namespace(#[from] NamespaceFault),
    /// The witness.
    #[error(transparent)]
    Witness(#[from] WitnessFault),
    /// Anything else of the system.
    #[error("{doing}: {source}")]
    System {
        /// What was tried.
        doing: &'static str,
        /// What the system said.
        source: io::Error,
    },
}

fn count(faults: usize, path: &std::path::Path) -> String {
    let errors = counted(faults, "error", "errors");
    format!("{errors} in {}; nothing was changed", path.display())
}

/// A failure, for scripts.
#[derive(JsonSchema, Serialize)]
pub struct Told<'f> {
    error: String,
    /// What to do about it.
    help: Option<String>,
    exit_code: u8,
    /// All faults of the orders.
    faults: &'f [Fault],
    /// The end of the kernel verifier's log.
    log: Option<&'f str>,
}

shape!(Told<'_> => "error");

impl From<CheckFault> for Failure {
    fn from(fault: CheckFault) -> Self {
        match fault {
            CheckFault::Gate(error) => Self::Gate(error),
            CheckFault::Witness(fault) => Self::Witness(fault),
            CheckFault::System { doing, source } => Self::System { doing, source },
            // Whatever else is wrong with it was asked for on the command line.
            own => Self::Argument {
                message: own.to_string(),
                help: "reach without --outbound and --through checks its own ports.".into(),
            },
        }
    }
}

/// Turns an I/O error into a failure with a context.
pub fn system(doing: &'static str) -> impl FnOnce(io::Error) -> Failure {
    move |source| Failure::System { doing, source }
}

impl Failure {
    /// Orders with faults, and the texts that they are shown in.
    pub fn wrong(path: &Path, text: String, attachments: Attachments, faults: Faults) -> Self {
        Self::WrongOrders { path: path.to_owned(), sheets: Box::new((text, attachments)), faults }
    }

    /// What it means that orders cannot be read.
    pub fn unreadable(path: &Path) -> impl FnOnce(io::Error) -> Self {
        move |source| match source.kind() {
            io::ErrorKind::NotFound => Self::NoOrders(path.to_owned()),
            _ => Self::Unreadable { path: path.to_owned(), source },
        }
    }

    /// As docs/guide.md documents them.
    pub fn exit_code(&self) -> u8 {
        match self {
            Self::WrongOrders { .. }
            | Self::NoOrders(_)
            | Self::NotEdited { .. }
            | Self::Argument { .. }
            | Self::Distrusted(_)
            | Self::Namespace(NamespaceFault::Unknown { .. })
            | Self::Gate(
                GateError::TooLarge(_)
                | GateError::NothingInForce
                | GateError::CannotEnforce(_)
                | GateError::TrialRunning(_)
                | GateError::NoTrial
                | GateError::NoRehearsal
                | GateError::TrialOver,
            )
            | Self::Witness(
                WitnessFault::Own(_) | WitnessFault::NoWayBack(_) | WitnessFault::NoTarget { .. },
            ) => 2,
            // Orders that are no text are wrong orders.
            Self::Unreadable { source, .. } if source.kind() == io::ErrorKind::InvalidData => 2,
            Self::Gate(GateError::NotRoot) => 3,
            Self::Locked(LockError::System { source, .. })
                if source.kind() == io::ErrorKind::PermissionDenied =>
            {
                3
            }
            Self::Unreadable { source, .. } | Self::Unwritable { source, .. }
                if source.kind() == io::ErrorKind::PermissionDenied =>
            {
                3
            }
            Self::Namespace(NamespaceFault::Closed { source, .. })
                if source.kind() == io::ErrorKind::PermissionDenied =>
            {
                3
            }
            Self::Gate(
                GateError::KernelTooOld { .. }
                | GateError::Refused { .. }
                | GateError::Verifier { .. },
            ) => 4,
            _ => 5,
        }
    }

    /// What to do about it.
    pub fn help(&self) -> Option<String> {
        let help = match self {
            Self::WrongOrders { .. } => return None,
            Self::NotEdited { source, .. } => return edit_help(source),
            Self::Gate(fault) => return gate_help(fault),
            Self::NoOrders(_) => {
                "Write orders there, or name a file with --orders FILE; `tipstaff demo` shows some."
            }
            Self::Argument { help, .. } => help,
            Self::Unreadable { source, .. } | Self::Unwritable { source, .. }
                if source.kind() == io::ErrorKind::PermissionDenied =>
            {
                return as_root("Run it as root, or as the owner of the file");
            }
            Self::Unreadable { source, .. } if source.kind() == io::ErrorKind::InvalidData => {
                "Save it as UTF-8: write that line again, or convert the file."
            }
            Self::Distrusted(distrust) => return Some(distrust.help()),
            Self::Locked(fault) => return lock_help(fault),
            Self::Namespace(NamespaceFault::Closed { .. }) => return as_root("Run it as root"),
            Self::Namespace(NamespaceFault::Unknown { .. }) => {
                "Name one of `ls /run/netns`, or give a path such as /proc/PID/ns/net."
            }
            Self::Witness(WitnessFault::NoWayBack(_)) => {
                "Add the route, or check from another address."
            }
            _ => return None,
        };
        Some(help.to_owned())
    }

    /// Prints it: to stderr for people, to stdout as JSON for scripts.
    pub fn print(&self, terminal: &Terminal) {
        if terminal.json && !matches!(self, Self::NotPrinted(_)) {
            let faults = match self {
                Self::WrongOrders { faults, .. }
                | Self::NotEdited { source: EditFault::WouldBeUnsound { faults, .. }, .. } => {
                    faults.0.as_slice()
                }
                _ => &[],
            };
            let log = match self {
                Self::Gate(GateError::Verifier { log, .. }) => Some(log.as_str()),
                _ => None,
            };
            let (help, exit_code) = (self.help(), self.exit_code());
            terminal.json(&Told { error: self.to_string(), help, exit_code, faults, log });
            return;
        }
        match self {
            Self::WrongOrders { path, sheets, faults } => {
                let (text, attachments) = sheets.as_ref();
                print_faults(path, Documents { text, attachments }, None, faults, terminal);
            }
            Self::NotEdited {
                path,
                sheets,
                source: EditFault::WouldBeUnsound { part, text, faults },
            } => {
                let (own, attachments) = sheets.as_ref();
                let edited = (part.as_deref(), text.as_str());
                print_faults(
                    path,
                    Documents { text: own, attachments },
                    Some(edited),
                    faults,
                    terminal,
                );
            }
            Self::Gate(GateError::Verifier { log, .. }) => terminal.framed(&visible_lines(log)),
            _ => {}
        }
        terminal.error(&self.to_string(), self.help().as_deref());
    }
}

/// The command line as it was given, for the help.
fn command_line() -> String {
    let mut rest: Vec<String> = std::env::args().skip(1).collect();
    // sudo drops the environment.
    for (variable, option) in [
        ("TIPSTAFF_ORDERS", "--orders"),
        ("TIPSTAFF_RUN", "--run-dir"),
        ("TIPSTAFF_HISTORY", "--history"),
    ] {
        if let Ok(value) = std::env::var(variable)
            && !rest.iter().any(|argument| argument.starts_with(option))
        {
            rest.extend([option.to_owned(), value]);
        }
    }
    format!("tipstaff {}", shell_words::join(rest))
}

fn as_root(what: &str) -> Option<String> {
    Some(format!("{what}: sudo {}", command_line()))
}

fn edit_help(fault: &EditFault) -> Option<String> {
    let help = match fault {
        EditFault::NoSuchRule(_, Some(near)) => return Some(format!("Did you mean `{near}`?")),
        EditFault::NoSuchRule(_, None) => "See their names and positions with `tipstaff rules`.",
        EditFault::AcrossFiles { .. } => {
            "Remove it here and add it there; two files cannot be changed atomically."
        }
        EditFault::NoSuchName { near: Some(near), .. } => {
            return Some(format!("Did you mean `{near}`?"));
        }
        EditFault::NoSuchName { near: None, .. } => "See them with `tipstaff names`.",
        EditFault::InUse { .. } => "Change those first, or give it another name.",
        EditFault::LeavesNone { .. } => "Write key= if you mean any, or pause the rule.",
        EditFault::HasNone { .. } => "Write key=value if it is to be about that alone.",
        EditFault::NoSuchGroup(_) => "See the [[groups]] of the orders.",
        EditFault::NotTables => "Write each rule under a [[rules]] line of its own.",
        EditFault::WouldBeUnsound { .. } => "Change the value, or the orders around it.",
        EditFault::WrongOrders(_) | EditFault::NextToItself | EditFault::NothingToDo(_) => {
            return None;
        }
    };
    Some(help.to_owned())
}

fn lock_help(fault: &LockError) -> Option<String> {
    match fault {
        LockError::Held { .. } => {
            Some("See what that process is doing; try again when it has finished.".to_owned())
        }
        LockError::System { .. } => as_root("Run it as the owner of that directory, or as root"),
    }
}

fn gate_help(fault: &GateError) -> Option<String> {
    let help = match fault {
        GateError::NotRoot => return as_root("Run it as root"),
        GateError::Locked(fault) => return lock_help(fault),
        GateError::Overtaken => {
            "See who did it with `tipstaff state` and `tipstaff history`, then post again."
        }
        GateError::Untrusted { path, .. } => {
            return Some(format!("See who created it: ls -ld {path}; remove it and try again."));
        }
        GateError::KernelTooOld { .. } => {
            "Start a newer kernel; until then `post --check`, `ask` and `survey` work without the \
             gate."
        }
        GateError::Refused { .. } => {
            "In a container give it CAP_BPF, CAP_NET_ADMIN and CAP_SYS_ADMIN; else see whether the \
             kernel is locked down: cat /sys/kernel/security/lockdown"
        }
        GateError::CannotEnforce(_) => {
            "Remove it, pause the rule, or assign it to other hosts; nothing in the orders is \
             silently ignored."
        }
        GateError::TrialRunning(_) => {
            "Keep it with `tipstaff confirm` or end it with `tipstaff confirm --revert`, then try \
             again."
        }
        GateError::NoRehearsal => "Begin one with `tipstaff post --rehearse`.",
        GateError::NoTrial => "See what is in force with `tipstaff state`.",
        GateError::TrialOver => "Post them again, and confirm in time: tipstaff post --trial 2m",
        GateError::NothingInForce => "Put orders in force first: tipstaff post",
        GateError::OtherVersion => {
            "It stays in force. Post the orders with this version: tipstaff post"
        }
        GateError::UnreadableRecord(_) => {
            "Post the orders again; the old ones stay in force until then."
        }
        _ => return None,
    };
    Some(help.to_owned())
}

/// So many faults are shown; each takes a walk over the text to its line.
const FAULTS_SHOWN: usize = 50;

/// One fault with the lines around it. `path` and `text` are those of its file.
fn drawn(path: &Path, text: &str, fault: &Fault) -> String {
    let from = char_begin(text, fault.span.start);
    let to = char_begin(text, fault.span.end).max(from);
    // The line before and the line after belong to it.
    let first = line_begin(text, line_begin(text, from).saturating_sub(1));
    let last = line_end(text, (line_end(text, to) + 1).min(text.len()));
    let line = 1 + text[..first].matches('\n').count();
    // What would be hidden is shown by marks as long as it is.
    let shown = same_length(&text[first..last]);
    let title = format!("{}: {}", visible(&fault.key), visible(&fault.message));
    let path = visible(&path.display().to_string()).into_owned();
    let help = visible(&fault.help);
    let snippet = Snippet::source(shown.as_ref())
        .path(path)
        .line_start(line)
        // Of a value of many lines its ends are enough.
        .fold(text[from..to].matches('\n').count() > 4)
        .annotation(AnnotationKind::Primary.span(from - first..to - first));
    let report =
        Level::ERROR.primary_title(title).element(snippet).element(Level::HELP.message(help));
    Renderer::styled().term_width(100).render(&[report])
}

/// Where the character begins that a byte stands in.
fn char_begin(text: &str, at: usize) -> usize {
    (0..=at.min(text.len())).rev().find(|at| text.is_char_boundary(*at)).unwrap_or(0)
}

/// Where the line begins that a byte stands in.
fn line_begin(text: &str, at: usize) -> usize {
    text[..at].rfind('\n').map_or(0, |before| before + 1)
}

/// Where it ends.
fn line_end(text: &str, at: usize) -> usize {
    text[at..].find('\n').map_or(text.len(), |after| at + after)
}

/// Each fault in the text of its file. `edited`: a file (`None` is the orders'
/// own) whose text would have been another one.
fn print_faults(
    path: &std::path::Path,
    sheets: Documents<'_>,
    edited: Option<(Option<&str>, &str)>,
    faults: &Faults,
    terminal: &Terminal,
) {
    let folder = path.parent().unwrap_or(std::path::Path::new(""));
    let parts = sheets.parts();
    let source = |file: Option<&str>| {
        let part = parts.iter().find(|part| Some(part.name.as_str()) == file);
        let text = match edited {
            Some((name, text)) if name == file => text,
            _ => part.map_or(sheets.text, |part| part.text.as_str()),
        };
        (file.map_or_else(|| path.to_owned(), |file| folder.join(file)), text)
    };
    for fault in faults.0.iter().take(FAULTS_SHOWN) {
        let (path, text) = source(fault.file.as_deref());
        terminal.framed(&format!("{}\n", drawn(&path, text, fault)));
    }
    let more = faults.0.len().saturating_sub(FAULTS_SHOWN);
    if more > 0 {
        terminal.framed(&format!("  … and {more} more; --json tells all of them\n"));
    }
}
