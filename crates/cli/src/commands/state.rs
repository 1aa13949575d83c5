//! `state`: is the gate up, with which orders, and did anything drift?

use std::path::Path;
use std::sync::Arc;

use schemars::JsonSchema;
use serde::Serialize;
use std::time::Duration;
use tipstaff_core::analysis::remarks::{Remark, program_remarks};
use tipstaff_core::brief::Brief;
use tipstaff_core::host::interface::Interface;
use tipstaff_core::orders::{NO_POSTURE, Orders, OrdersHash, Sheets, read_all};
use tipstaff_gate::kernel::{Ahead, KernelGate, Shortfall, executables, shortfalls};
use tipstaff_gate::{Gate, GateError, InForce, Pending, Record};
use tipstaff_host::interfaces;
use tipstaff_knock::witness;

use crate::acts::boot_trouble;
use crate::acts::units::{self, Restart};
use crate::arguments::Common;
use crate::attachments::{self, Written};
use crate::chosen::{self, setting};
use crate::ending::Ending;
use crate::failure::{Failure, system};
use crate::history::{History, Revision};
use crate::shape::shape;
use crate::terminal::{Terminal, moment, spoken};
use tipstaff_core::orders::Origin;

#[derive(JsonSchema, Serialize)]
pub struct Report {
    state: &'static str,
    /// Those in force.
    orders: Option<Origin>,
    posted_by: Option<String>,
    /// Of a trial, or of a withdrawal for a time.
    seconds_left: Option<u64>,
    guarded: Vec<String>,
    unguarded: Vec<String>,
    drift: Vec<Drift>,
    /// That the file has been changed since it was posted, which is no drift.
    edited: Option<Drift>,
    /// As which host of the orders they were posted.
    host: Option<String>,
    /// Whether they are in force again after a restart.
    restart: Option<Restart>,
    /// What the gate cannot promise on this machine.
    limits: Vec<Shortfall>,
    /// About the programs that rules name.
    remarks: Vec<Remark>,
}

impl Report {
    /// Of a machine where nothing is in force that could be told more of.
    fn empty(state: &'static str, left: Option<Duration>) -> Self {
        Self {
            state,
            orders: None,
            posted_by: None,
            seconds_left: left.map(|left| left.as_secs()),
            guarded: Vec::new(),
            unguarded: Vec::new(),
            drift: Vec::new(),
            edited: None,
            host: None,
            restart: None,
            limits: Vec::new(),
            remarks: Vec::new(),
        }
    }
}

#[derive(JsonSchema, Serialize)]
struct Drift {
    what: String,
    #[serde(rename = "help")]
    mend: String,
}

/// A gate is up, and this version cannot read it.
fn other_version(terminal: &Terminal) -> Ending {
    if terminal.json {
        terminal.json(&Report::empty("other-version", None));
    } else {
        terminal.heading("up, posted by another version of Tipstaff, which this one cannot read");
        terminal.note(
            "it stays in force; `tipstaff post` replaces it with this version, `tipstaff \
             withdraw` removes it",
        );
    }
    Ending::Drift
}

shape!(Report => "state");

pub fn run(common: &Common, terminal: &Terminal) -> Result<Ending, Failure> {
    let gate = KernelGate::new(&common.run_dir)?;
    let pending = match gate.pending() {
        Err(GateError::NotRoot) => None,
        pending => pending?,
    };
    let in_force = match gate.in_force() {
        Err(GateError::OtherVersion) => return Ok(other_version(terminal)),
        in_force => in_force?,
    };
    let Some(in_force) = in_force else {
        if let Some(Pending { left, then: Some(record), .. }) = &pending
            && !terminal.json
        {
            terminal.heading(&format!("down for {}: everything passes", spoken(*left)));
            terminal.line(format!(
                "  then the kernel puts orders {} in force again",
                record.hash().short()
            ));
            terminal.note("  `tipstaff confirm --revert` does so now");
            return Ok(Ending::Down);
        }
        if terminal.json {
            terminal.json(&Report::empty("down", pending.map(|pending| pending.left)));
        } else {
            terminal.heading("down: no gate is loaded, everything passes");
            if let Some(trouble) = boot_trouble::trouble(common) {
                terminal.line(format!("  after the restart {}", trouble));
            }
            terminal.note("put orders in force with `tipstaff post`");
        }
        return Ok(Ending::Down);
    };
    let all = interfaces::list().map_err(system("reading the interfaces"))?;
    let (guarded, unguarded): (Vec<&Interface>, Vec<&Interface>) =
        all.iter().partition(|i| in_force.guarded.iter().any(|g| g.0 == i.index));
    let edited = edited(common, &in_force);
    let mut drift: Vec<Drift> = other_host(common, &in_force).into_iter().collect();
    drift.extend(unguarded.iter().map(|interface| Drift {
        what: match in_force.second_line {
            true => format!(
                "{} appeared after the post; the second line guards it: denied traffic reaches \
                 no socket, nothing is forwarded, and the kernel sends no answers of its own \
                 except IPv6 resets",
                interface.name
            ),
            false => format!("{} is not guarded: it appeared after the post", interface.name),
        },
        mend: "tipstaff post".into(),
    }));
    let outwards = |i: &&&Interface| {
        !i.is_loopback() && in_force.guarded_outwards.iter().all(|g| g.0 != i.index)
    };
    drift.extend(guarded.iter().filter(outwards).map(|interface| Drift {
        what: format!(
            "{} is not guarded outbound: answers to UDP and ping are dropped",
            interface.name
        ),
        mend: "tipstaff post".into(),
    }));
    if !gate.is_intact()? {
        drift.push(Drift {
            what: "the tables in the kernel are not those that were posted: they were overwritten"
                .into(),
            mend: "tipstaff post, and find out who".into(),
        });
    }
    drift.extend(gate.ahead(&all)?.into_iter().map(|Ahead { interface, outwards, program, name }| {
        let way = if outwards { "on the way out of" } else { "on" };
        let what =
            format!("program {program} ({name}) decides {way} {interface} before the gate does");
        if witness::PROGRAMS.contains(&name.as_str()) {
            // The name alone proves nothing.
            return Drift {
                what: format!("{what}; a running reach check attaches one of that name"),
                mend: "Check again when it has finished.".into(),
            };
        }
        Drift {
            what,
            mend: "tipstaff withdraw, then tipstaff post to put the gate first; or remove the other program".into(),
        }
    }));
    let brief = chosen::from_force(&in_force)?.brief;
    if !gate.knows_programs(&brief)? {
        drift.push(Drift {
            what: "an executable that rules name was replaced after the post".into(),
            mend: "tipstaff post; tipstaff keep does so automatically".into(),
        });
    }
    // Of a trial nothing is expected to stay; a posture for a time is pending too.
    if pending.is_none()
        && let Ok(Some(last)) = History::of(common).last_kept()
        && last.record.hash() != in_force.record.hash()
        && boot_trouble::trouble(common).is_none()
    {
        drift.push(Drift {
            what: format!(
                "the last permanent post, revision {}, is not what is in force",
                last.number
            ),
            mend: format!("tipstaff post --revision {}, or post the orders to keep", last.number),
        });
    }
    if let Some(trouble) = boot_trouble::trouble(common) {
        drift.push(Drift {
            what: format!("after the restart {}", trouble),
            mend: "tipstaff post, with valid orders".into(),
        });
    }
    // The end of a posture that was taken up for a time is no surprise.
    let tried = gate.fell_back()?.filter(|record| record.hash() != in_force.record.hash());
    if let Some(abandoned) = tried {
        drift.push(Drift {
            what: format!(
                "the trial of orders {} was not confirmed in time; the previous ones are in force",
                abandoned.hash().short()
            ),
            mend: "tipstaff post --trial 2m, and confirm; or tipstaff post with the orders to keep"
                .into(),
        });
    }
    let mut limits = shortfalls(&in_force, &all);
    let seconds = gate.clock_is_off()?;
    if seconds != 0 && brief.rules().any(|rule| rule.until.is_some()) {
        limits.push(Shortfall::ClockMoved { seconds });
    }
    let remarks = program_remarks(&brief, &executables::notes(&brief));
    let names = |list: &[&Interface]| list.iter().map(|i| i.name.clone()).collect::<Vec<_>>();
    let record = &in_force.record;
    let restart = units::restart(common);
    let (state, ending) = match (drift.is_empty(), &edited) {
        (false, _) => ("drift", Ending::Drift),
        (true, Some(_)) => ("edited", Ending::Edited),
        (true, None) => ("up", Ending::Fine),
    };
    if terminal.json {
        terminal.json(&Report {
            state,
            orders: Some(chosen::origin_of(record)),
            posted_by: Some(record.posted_by.clone()),
            seconds_left: pending.map(|pending| pending.left.as_secs()),
            guarded: names(&guarded),
            unguarded: names(&unguarded),
            drift,
            edited,
            host: record.host.clone(),
            restart: Some(restart),
            limits,
            remarks,
        });
        return Ok(ending);
    }
    let but = match ending {
        Ending::Drift => ", but drifted",
        Ending::Edited => ", and the file differs",
        _ => "",
    };
    terminal.heading(&format!("up since {}{but}", moment(record.posted_at)));
    terminal.line(format!(
        "  orders   {} from {}, posted by {}",
        record.hash().short(),
        record.path,
        record.posted_by
    ));
    if let Some(host) = &record.host {
        terminal.line(format!("  host     {host}"));
    }
    if let Some(posture) = &record.posture {
        terminal.line(format!("  posture  {posture}"));
    }
    if let Some(Pending { left, then, .. }) = pending {
        let same = then.as_ref().filter(|then| then.hash() == record.hash());
        match (same, &then) {
            (Some(then), _) => {
                let posture = then.posture.as_deref().unwrap_or(NO_POSTURE);
                terminal
                    .line(format!("           for {} more; then posture {posture}", spoken(left)));
                terminal.note("           at once: tipstaff confirm --revert");
            }
            (None, then) => {
                let then = match then {
                    Some(record) => format!("orders {} are in force again", record.hash().short()),
                    None => "nothing is in force".into(),
                };
                terminal.line(format!("  on trial for {} more; then {then}", spoken(left)));
                terminal.note("           keep them: tipstaff confirm");
            }
        }
    }
    terminal.line(format!("  guarded  {}", names(&guarded).join(", ")));
    let after = match restart.in_force {
        Some(true) => "in force again",
        Some(false) => "NOT in force again",
        None => "not known",
    };
    terminal.line(format!("  restart  {after}: {}", restart.why));
    if let Some(Drift { what, mend }) = &edited {
        terminal.line(format!("  edited   {what}"));
        terminal.note(&format!("           next: {mend}"));
    }
    for Drift { what, mend } in &drift {
        terminal.line(format!("  drift    {what}"));
        terminal.note(&format!("           mend: {mend}"));
    }
    for limit in &limits {
        terminal.line(format!("  limit    {limit}"));
    }
    for Remark { rule, message } in &remarks {
        terminal.line(format!("  note     on {rule}: {message}"));
    }
    Ok(ending)
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
        mend: format!("tipstaff post --host {own}"),
    })
}

/// How the file differs from what is in force. Comments and notes do not count.
fn edited(common: &Common, in_force: &InForce) -> Option<Drift> {
    let record = &in_force.record;
    let path = common.orders.as_deref().unwrap_or(Path::new(&record.path));
    let mend = "tipstaff compare shows what it would change; tipstaff post puts it in force";
    let told = |what: String| Some(Drift { what, mend: mend.to_owned() });
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
    let sheets = Sheets { text: &text, attachments: &attachments };
    match (read_all(sheets), read_all(record.sheets())) {
        (Ok(file), Ok(kernel)) if meaning(&file, record) == meaning(&kernel, record) => None,
        (Ok(_), _) => {
            let (hash, path) = (OrdersHash::of(sheets), path.display());
            // Who has gone back to an older revision is not told to undo it.
            let posted = |revision: &Revision| revision.record.hash() == hash && revision.kept;
            let known = History::of(common).readable().into_iter().rev().find(posted);
            if let Some(Revision { number, .. }) = known {
                return Some(Drift {
                    what: format!(
                        "{path} still has revision {number}, which another post replaced"
                    ),
                    mend: "tipstaff compare shows what differs; edit the file when you go on"
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
