//! What differs between the last post, the machine and what is loaded.

use std::path::Path;
use std::sync::Arc;

use schemars::JsonSchema;
use serde::Serialize;
use tipstaff_core::brief::Brief;
use tipstaff_core::host::interface::Interface;
use tipstaff_core::orders::{Documents, Orders, OrdersHash, read_all};
use tipstaff_core::packet::Direction;
use tipstaff_gate::kernel::{KernelGate, Other, Place, Turn};
use tipstaff_gate::{GateError, InForce, Record};

use crate::acts::boot_trouble;
use crate::arguments::Common;
use crate::attachments::{self, Written};
use crate::chosen::{self, setting};
use crate::commands::state::others;
use crate::history::{History, Revision};

/// One thing that is not as it was posted.
#[derive(JsonSchema, Serialize)]
pub struct Drift {
    pub what: String,
    #[serde(rename = "help")]
    pub help: String,
}

impl Drift {
    fn new(what: impl Into<String>, help: impl Into<String>) -> Self {
        Self { what: what.into(), help: help.into() }
    }
}

/// The orders in force, on the machine that they are in force on.
pub struct Loaded<'l> {
    pub gate: &'l KernelGate,
    pub in_force: &'l InForce,
    pub brief: &'l Brief,
    pub interfaces: &'l [Interface],
    pub others: &'l [Other],
    /// Whether a reach check runs.
    pub checked: bool,
    /// A trial, or a posture for a time.
    pub is_pending: bool,
}

/// Everything that drifted, in the order in which it is told.
pub fn drift(common: &Common, loaded: &Loaded<'_>) -> Result<Vec<Drift>, GateError> {
    let Loaded { gate, in_force, brief, interfaces, others, checked, is_pending } = loaded;
    let mut drift: Vec<Drift> = other_host(common, in_force).into_iter().collect();
    drift.extend(unguarded(in_force, interfaces));
    if !gate.is_intact()? {
        drift.push(Drift::new(
            "the tables in the kernel are not those that were posted: they were overwritten",
            "tipstaff post, and find out who",
        ));
    }
    drift.extend(
        others
            .iter()
            .filter(|other| !others::is_of_reach(other, *checked))
            .filter_map(before_the_gate),
    );
    if !gate.knows_programs(brief)? {
        drift.push(Drift::new(
            "an executable that rules name was replaced after the post",
            "tipstaff post; tipstaff keep does so automatically",
        ));
    }
    let trouble = boot_trouble::trouble(common);
    // A trial or a posture for a time is not expected to be the last permanent post.
    if !is_pending && trouble.is_none() {
        drift.extend(not_the_last_post(common, in_force));
    }
    if let Some(trouble) = trouble {
        drift.push(Drift::new(
            format!("after the restart {trouble}"),
            "tipstaff post, with valid orders",
        ));
    }
    // The end of a posture that was taken up for a time is no surprise.
    let tried = gate.fell_back()?.filter(|record| record.hash() != in_force.record.hash());
    if let Some(abandoned) = tried {
        drift.push(Drift::new(
            format!(
                "the trial of orders {} was not confirmed in time; the previous ones are in force",
                abandoned.hash().short()
            ),
            "tipstaff post --trial 2m, and confirm; or tipstaff post with the orders to keep",
        ));
    }
    Ok(drift)
}

/// Interfaces without a gate, or without one on the way out.
fn unguarded<'l>(
    in_force: &'l InForce,
    interfaces: &'l [Interface],
) -> impl Iterator<Item = Drift> + 'l {
    let without = interfaces.iter().filter(|i| in_force.guarded.iter().all(|g| g.0 != i.index));
    let without = without.map(|interface| match in_force.second_line {
        true => format!(
            "{} appeared after the post; the second line guards it: denied traffic reaches no \
             socket, nothing is forwarded, and the kernel sends no answers of its own except IPv6 \
             resets",
            interface.name
        ),
        false => format!("{} is not guarded: it appeared after the post", interface.name),
    });
    let inwards_only = interfaces.iter().filter(|i| {
        in_force.guarded.iter().any(|g| g.0 == i.index)
            && in_force.guarded_outwards.iter().all(|g| g.0 != i.index)
            && !i.is_loopback()
    });
    let inwards_only = inwards_only.map(|interface| {
        format!("{} is not guarded outbound: answers to UDP and ping are dropped", interface.name)
    });
    without.chain(inwards_only).map(|what| Drift::new(what, "tipstaff post"))
}

/// A program that has put itself where the gate was first.
fn before_the_gate(other: &Other) -> Option<Drift> {
    let (Place::Tc { interface }, Turn::Before) = (&other.place, other.order) else {
        return None;
    };
    let way = if other.direction == Direction::Outbound { "on the way out of" } else { "on" };
    let what = format!("{} decides {way} {interface} before the gate does", others::program(other));
    Some(Drift::new(
        what,
        "tipstaff withdraw, then tipstaff post to put the gate first; or remove the other program",
    ))
}

fn not_the_last_post(common: &Common, in_force: &InForce) -> Option<Drift> {
    let last = History::from_options(common).last_kept().ok()??;
    (last.record.hash() != in_force.record.hash()).then(|| {
        let number = last.number;
        Drift::new(
            format!("the last permanent post, revision {number}, is not what is in force"),
            format!("tipstaff post --revision {number}, or post the orders to keep"),
        )
    })
}

/// That another host's list is in force than the one of the host that this
/// machine is in the orders in force.
fn other_host(common: &Common, in_force: &InForce) -> Option<Drift> {
    let record = &in_force.record;
    let orders = read_all(record.sheets()).ok()?;
    let own = chosen::which_host(&orders, common.host.as_deref()).ok()??;
    let posted = record.host.as_deref()?;
    (own != posted).then(|| Drift {
        what: format!("the rules of host {posted} are in force, but this machine is {own}"),
        help: format!("tipstaff post --host {own}"),
    })
}

/// How the file differs from what is in force. Comments and notes do not count. What is built
/// in is no file's, and differs from all.
pub fn edited(common: &Common, record: &Record) -> Option<Drift> {
    let posted = Path::new(record.path.as_deref()?);
    let path = common.orders.as_deref().unwrap_or(posted);
    let help = "tipstaff compare shows what it would change; tipstaff post puts it in force";
    let told = |what: String| Some(Drift { what, help: help.to_owned() });
    let Written { text, attachments, .. } = match attachments::read(path) {
        Ok(written) => written,
        Err(e) => {
            return told(format!(
                "the orders in force came from {}, which cannot be read: {e}",
                path.display()
            ));
        }
    };
    if text == record.orders && attachments == record.attachments {
        return None;
    }
    let sheets = Documents { text: &text, attachments: &attachments };
    match (read_all(sheets), read_all(record.sheets())) {
        (Ok(file), Ok(kernel)) if meaning(&file, record) == meaning(&kernel, record) => None,
        (Ok(_), _) => {
            let (hash, path) = (OrdersHash::digest(sheets), path.display());
            // Who has gone back to an older revision is not told to undo it.
            let known = History::from_options(common)
                .readable()
                .into_iter()
                .rev()
                .find(|revision| revision.record.hash() == hash && revision.kept);
            if let Some(Revision { number, .. }) = known {
                return Some(Drift {
                    what: format!(
                        "{path} still has revision {number}, which another post replaced"
                    ),
                    help: "tipstaff compare shows what differs; edit the file when you go on"
                        .into(),
                });
            }
            told(format!(
                "{path} ({}) is not what is in force ({})",
                hash.short(),
                record.hash().short()
            ))
        }
        (Err(faults), _) => told(format!(
            "{} has been edited and has errors in {}",
            path.display(),
            if faults.0.len() == 1 { "one place" } else { "several places" }
        )),
    }
}

/// A list without what decides nothing: notes and lines.
fn meaning(orders: &Orders, record: &Record) -> Brief {
    let (host, posture) = (record.host.as_deref(), record.posture.as_deref());
    let mut brief = Brief::on(orders, &setting(orders, host, posture));
    for rule in &mut brief.rules {
        let rule = Arc::make_mut(rule);
        (rule.note, rule.part, rule.line) = (None, None, 0);
    }
    brief
}
