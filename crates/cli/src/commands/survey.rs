//! `survey`: what listens, whose it is, and whom the orders let in to it.

use schemars::JsonSchema;
use serde::Serialize;
use tipstaff_core::analysis::exposure::{Breadth, Exposure};
use tipstaff_core::brief::Brief;
use tipstaff_core::host::interface::Interface;
use tipstaff_core::host::listener::{Listener, Scope};
use tipstaff_core::host::programs::ProgramNote;
use tipstaff_host::snapshot::Snapshot;

use crate::arguments::Common;
use crate::chosen::{self, LoadedPolicy, Visible};
use crate::ending::Ending;
use crate::failure::{Failure, system};
use crate::shape::shape;
use crate::terminal::orders_words;
use crate::terminal::{Columns, Terminal, counted, faint, loud, plain};
use tipstaff_core::orders::Origin;

#[derive(JsonSchema, Serialize)]
pub struct Report<'r> {
    host: &'r str,
    /// Those that say who is let in; null: there are none.
    orders: Option<&'r Origin>,
    /// `up`, `down`, or `unknown` to who may not look.
    gate: &'static str,
    listeners: Vec<Row<'r>>,
    programs_not_visible: usize,
    /// Programs that rules name by a link, and the files that they lead to.
    links: Vec<ProgramNote>,
}

#[derive(JsonSchema, Serialize)]
struct Row<'r> {
    #[serde(flatten)]
    listener: &'r Listener,
    /// The interface that has the one address; null: it listens on all, or none has it.
    interface: Option<&'r str>,
    scope: Scope,
    lets_in: String,
    breadth: Breadth,
}

shape!(Report<'_> => "survey");

pub fn run(common: &Common, terminal: &Terminal) -> Result<Ending, Failure> {
    let snapshot = Snapshot::live().map_err(system("reading what listens"))?;
    let (in_force, visible) = chosen::in_force(common)?;
    let judge = chosen::choose(common, in_force.as_ref())?;
    let gate_up = (visible == Visible::Yes).then_some(in_force.is_some());
    show(&snapshot, judge.as_ref(), gate_up, terminal);
    Ok(Ending::Fine)
}

/// Prints the survey of a machine. `gate_up`: `None` when that is not known.
pub fn show(
    snapshot: &Snapshot,
    judge: Option<&LoadedPolicy>,
    gate_up: Option<bool>,
    terminal: &Terminal,
) {
    let rows: Vec<Row<'_>> =
        snapshot.listeners.iter().map(|l| row(l, snapshot, judge.map(|c| &c.brief))).collect();
    if terminal.json {
        terminal.json(&Report {
            host: &snapshot.host,
            orders: judge.map(|c| &c.origin),
            gate: match gate_up {
                Some(true) => "up",
                Some(false) => "down",
                None => "unknown",
            },
            listeners: rows,
            programs_not_visible: snapshot.unseen_programs,
            links: judge.map(LoadedPolicy::links).unwrap_or_default(),
        });
        return;
    }
    let listeners = counted(rows.len(), "listener", "listeners");
    terminal.heading(&format!("{listeners} on {}", snapshot.host));
    terminal.note(&match judge {
        Some(judge) => format!("who is let in: by the {}", orders_words(&judge.origin)),
        None => "no orders: nothing is denied".to_owned(),
    });
    let mut table =
        Columns::new(["port", "local address", "program", "pid", "account", "who is let in"]);
    for row in &rows {
        let l = row.listener;
        let (program, pid) = match l.owner.programs.as_slice() {
            [] => (faint("not visible"), faint("")),
            [one] => (plain(&one.name), plain(one.pid)),
            [first, rest @ ..] => {
                (plain(format!("{} (+{})", first.name, rest.len())), plain(first.pid))
            }
        };
        let lets_in = match row.breadth {
            Breadth::Nobody => faint(&row.lets_in),
            Breadth::Some => plain(&row.lets_in),
            Breadth::Everyone => loud(&row.lets_in),
        };
        let account = plain(&l.owner.account);
        table.row([
            plain(port(l)),
            plain(local(l, &snapshot.interfaces)),
            program,
            pid,
            account,
            lets_in,
        ]);
    }
    terminal.table(&table);
    if snapshot.unseen_programs > 0 {
        let hidden = counted(snapshot.unseen_programs, "listener", "listeners");
        terminal.note(&format!("programs of {hidden} are not visible without root"));
    }
    for link in judge.map(LoadedPolicy::links).unwrap_or_default() {
        terminal.note(&link.to_string());
    }
    match (gate_up, judge) {
        (Some(false), Some(_)) => {
            terminal.note("no gate is loaded: none of this is in force until `tipstaff post`");
        }
        (None, _) => terminal.note("whether a gate is loaded is not visible without root"),
        _ => {}
    }
}

fn row<'r>(listener: &'r Listener, snapshot: &'r Snapshot, brief: Option<&Brief>) -> Row<'r> {
    let scope = listener.scope();
    let interface = having(&snapshot.interfaces, listener).map(|at| at.name.as_str());
    let (lets_in, breadth) = match (scope, brief) {
        (Scope::Loopback, _) => ("this host only".to_owned(), Breadth::Nobody),
        (_, None) => ("everyone".to_owned(), Breadth::Everyone),
        (_, Some(brief)) => {
            let program = listener.path().map(|path| brief.program_index(path));
            let key = listener.transport.key(listener.port);
            let exposure = Exposure::compute(brief, key, program).heard_by(listener);
            (exposure.describe(brief), exposure.breadth())
        }
    };
    Row { listener, interface, scope, lets_in, breadth }
}

fn port(l: &Listener) -> String {
    format!("{}/{}", l.transport, l.port)
}

/// The interface that has the one address of a listener.
fn having<'i>(interfaces: &'i [Interface], l: &Listener) -> Option<&'i Interface> {
    let has = |at: &&Interface| at.addresses.iter().any(|(address, _)| *address == l.address);
    interfaces.iter().find(has)
}

/// The local address in words. Of a tunnel, a bridge and their like it says so: not everybody
/// reaches it there.
fn local(l: &Listener, interfaces: &[Interface]) -> String {
    let one = having(interfaces, l).map(|at| match &at.kind {
        Some(kind) => format!(", of {} ({kind})", at.name),
        None => format!(", of {}", at.name),
    });
    let address = match l.scope() {
        Scope::Loopback => format!("{} (loopback only)", l.address),
        Scope::One => format!("{} only{}", l.address, one.unwrap_or_default()),
        Scope::All if l.address.is_ipv4() => "all IPv4".to_owned(),
        Scope::All if l.only_v6 => "all IPv6".to_owned(),
        Scope::All => "all".to_owned(),
    };
    match &l.device {
        Some(device) => format!("{address}, on {device}"),
        None => address,
    }
}
