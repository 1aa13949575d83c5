//! What completes the values of arguments: names of the orders, of the machine, of the history.

use std::ffi::OsString;
use std::path::PathBuf;

use clap::Command;
use clap::builder::StyledStr;
use clap_complete::engine::{ArgValueCandidates, CompletionCandidate};
use tipstaff_core::names::services::CATALOGUE;
use tipstaff_core::orders::Orders;
use tipstaff_host::interfaces;

use crate::acts::sources::STRANGER;
use crate::arguments::Common;
use crate::chosen;
use crate::history::History;

/// What a value is a name of.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum Kind {
    Rule,
    Group,
    Host,
    Traffic,
    Addresses,
    Posture,
    Interface,
    Revision,
}

/// The argument of a command, by the path of the command and its id.
fn kind_of(path: &str, id: &str) -> Option<Kind> {
    Some(match (path, id) {
        ("compare", "before" | "after") => Kind::Revision,
        ("post", "revision") | ("history show", "number") => Kind::Revision,
        ("rule add", "group") | ("rules", "group") => Kind::Group,
        (path, "group") if path.starts_with("group ") => Kind::Group,
        (_, "rule" | "rules" | "before" | "after") => Kind::Rule,
        ("fleet reach", "from" | "to") => Kind::Host,
        ("brief", "name" | "diff") | ("reach", "target") | (_, "host" | "hosts") => Kind::Host,
        ("posture", "name") | (_, "posture" | "postures") => Kind::Posture,
        ("postures set" | "postures remove", "name") => Kind::Posture,
        ("names", "wanted") | (_, "traffic" | "ports" | "why") => Kind::Traffic,
        ("rules", "source") => return None,
        (_, "source" | "sources" | "destination" | "destinations" | "vantages") => Kind::Addresses,
        (_, "interface" | "interfaces" | "via") => Kind::Interface,
        _ => return None,
    })
}

/// The command line with what completes its values.
pub fn completed(command: Command) -> Command {
    with_values(command, &mut Vec::new())
}

fn with_values(mut command: Command, path: &mut Vec<String>) -> Command {
    let joined = path.join(" ");
    command = command.mut_args(|arg| match kind_of(&joined, arg.get_id().as_str()) {
        Some(kind) => arg.add(ArgValueCandidates::new(move || candidates(kind))),
        None => arg,
    });
    let names: Vec<String> = command.get_subcommands().map(|c| c.get_name().to_owned()).collect();
    for name in names {
        path.push(name.clone());
        command = command.mut_subcommand(&name, |sub| with_values(sub, path));
        path.pop();
    }
    command
}

/// A value and what is said of it.
fn candidate(value: impl Into<OsString>, note: Option<&str>) -> CompletionCandidate {
    CompletionCandidate::new(value).help(note.map(|note| StyledStr::from(note.to_owned())))
}

fn candidates(kind: Kind) -> Vec<CompletionCandidate> {
    match kind {
        Kind::Interface => {
            let all = interfaces::list().unwrap_or_default();
            all.iter().map(|i| candidate(i.name.clone(), None)).collect()
        }
        Kind::Revision => revisions(),
        Kind::Traffic => {
            let own = orders().map(|orders| orders.services).unwrap_or_default();
            let built_in = CATALOGUE.iter().filter(|service| !own.contains_key(service.name));
            let built_in =
                built_in.map(|service| (service.name.to_owned(), service.terms.to_vec()));
            let all = own.clone().into_iter().chain(built_in);
            all.map(|(name, terms)| {
                let holds: Vec<String> = terms.iter().map(ToString::to_string).collect();
                candidate(name, Some(&holds.join(", ")))
            })
            .collect()
        }
        kind => orders().map(|orders| of_orders(kind, &orders)).unwrap_or_default(),
    }
}

fn of_orders(kind: Kind, orders: &Orders) -> Vec<CompletionCandidate> {
    match kind {
        Kind::Rule => {
            let all = orders.rules();
            all.map(|rule| candidate(rule.name.as_str(), rule.note.as_deref())).collect()
        }
        Kind::Group => {
            let all = orders.rule_groups.iter();
            all.map(|group| candidate(&group.name, group.note.as_deref())).collect()
        }
        Kind::Host => {
            let all = orders.hosts.iter();
            all.map(|host| candidate(&host.name, Some(&host.tags.join(", ")))).collect()
        }
        Kind::Addresses => {
            let any = candidate(STRANGER, Some("an address that no rule names"));
            orders.groups.keys().map(|name| candidate(name, None)).chain([any]).collect()
        }
        Kind::Posture => {
            let sealed = tipstaff_core::orders::Posture::sealed();
            let all = orders.postures.iter().chain([sealed]);
            all.map(|posture| candidate(&posture.name, posture.note.as_deref())).collect()
        }
        Kind::Traffic | Kind::Interface | Kind::Revision => Vec::new(),
    }
}

fn revisions() -> Vec<CompletionCandidate> {
    let all =
        History::below(&folder("--history", "TIPSTAFF_HISTORY", Common::HISTORY), "").readable();
    let words = |reason: Option<&str>, by: &str| match reason {
        Some(reason) => format!("by {by}: {reason}"),
        None => format!("by {by}"),
    };
    all.iter()
        .rev()
        .map(|revision| {
            let record = &revision.record;
            let note = words(revision.reason.as_deref(), &record.posted_by);
            candidate(revision.number.to_string(), Some(&note))
        })
        .collect()
}

/// The orders that the line which is completed is about; silent where they cannot be read.
fn orders() -> Option<Orders> {
    let path = folder("--orders", "TIPSTAFF_ORDERS", "/etc/tipstaff/orders.toml");
    chosen::orders_of_file(&path).ok().map(|(orders, _)| orders)
}

/// A path by its option on the line that is completed, or by its variable.
fn folder(option: &str, variable: &str, usual: &str) -> PathBuf {
    let words: Vec<String> = std::env::args().collect();
    let given = words.iter().zip(words.iter().skip(1)).find_map(|(word, next)| {
        match word.strip_prefix(option) {
            Some("") => Some(next.clone()),
            Some(rest) => rest.strip_prefix('=').map(str::to_owned),
            None => None,
        }
    });
    let given = given.or_else(|| std::env::var(variable).ok());
    given.unwrap_or_else(|| usual.to_owned()).into()
}
