//! `post`: check the orders, show what they mean, put them in force at once.

use nix::unistd::{User, geteuid};
use serde::Serialize;
use tipstaff_core::orders::{OrdersHash, Remark, Silence, remarks};
use tipstaff_core::tables::Tables;
use tipstaff_gate::kernel::{KernelGate, check_ground};
use tipstaff_gate::{Gate, GateError, Posted, Posting, Record, enforceable};
use tipstaff_host::interfaces;

use crate::Ending;
use crate::arguments::{Common, PostOptions};
use crate::chosen::{self, Chosen};
use crate::failure::{Failure, system};
use crate::terminal::{Terminal, counted};

#[derive(Serialize)]
struct Report {
    in_force: bool,
    orders: String,
    hash: OrdersHash,
    rules: usize,
    paused: usize,
    standing: tipstaff_core::orders::Standing,
    guarded: Vec<String>,
    vanished: Vec<String>,
    replaced: bool,
    remarks: Vec<Remark>,
}

pub fn run(common: &Common, options: &PostOptions, terminal: &Terminal) -> Result<Ending, Failure> {
    let judge = chosen::from_file(common)?;
    enforceable::check(&judge.brief).map_err(GateError::from)?;
    Tables::build(&judge.brief).map_err(GateError::from)?;
    if options.check {
        show(&judge, None, terminal);
        return Ok(Ending::Fine);
    }
    check_ground()?;
    let all = interfaces::list().map_err(system("reading the interfaces"))?;
    let posting = Posting { brief: &judge.brief, record: record(&judge, common) };
    let posted = KernelGate::new(&common.run_dir)?.post(&posting, &all)?;
    show(&judge, Some(&posted), terminal);
    Ok(Ending::Fine)
}

/// What is kept with the revision.
fn record(judge: &Chosen, common: &Common) -> Record {
    let path = std::path::absolute(common.orders_path());
    let path = path.as_deref().unwrap_or(common.orders_path());
    let account = User::from_uid(geteuid()).ok().flatten();
    Record {
        orders: judge.text.clone(),
        path: path.display().to_string(),
        posted_at: jiff::Timestamp::now().as_second(),
        posted_by: account.map_or_else(|| geteuid().to_string(), |user| user.name),
        host: judge.host.clone(),
        posture: judge.posture.clone(),
        attachments: judge.attachments.clone(),
    }
}

/// Prints what is in force now, or would be.
pub fn show(judge: &Chosen, posted: Option<&Posted>, terminal: &Terminal) {
    let brief = &judge.brief;
    let paused = brief.rules.iter().filter(|r| r.silence == Some(Silence::Paused)).count();
    let elsewhere = brief.rules.iter().filter(|r| r.silence == Some(Silence::OtherHost)).count();
    if terminal.json {
        let path = match &judge.origin {
            chosen::Origin::File { path, .. } | chosen::Origin::InForce { path, .. } => path,
        };
        terminal.json(&Report {
            in_force: posted.is_some(),
            orders: path.clone(),
            hash: judge.origin.hash(),
            rules: brief.rules.len(),
            paused,
            standing: brief.standing,
            guarded: posted.map(|p| p.guarded.clone()).unwrap_or_default(),
            vanished: posted.map(|p| p.vanished.clone()).unwrap_or_default(),
            replaced: posted.is_some_and(|p| p.replaced),
            remarks: remarks(brief, chosen::now()),
        });
        return;
    }
    terminal.heading(match posted {
        Some(posted) if posted.replaced => "in force, in place of the orders before",
        Some(_) => "in force",
        None => "checked; nothing was put in force",
    });
    let rules = counted(brief.rules.len(), "rule", "rules");
    let mut asides = Vec::new();
    asides.extend((paused > 0).then(|| format!("{paused} paused")));
    asides.extend((elsewhere > 0).then(|| format!("{elsewhere} for other hosts")));
    let paused =
        if asides.is_empty() { String::new() } else { format!(" ({})", asides.join(", ")) };
    if let Some(posture) = &judge.posture {
        terminal.line(format!("  in the posture {posture}"));
    }
    if let Some(host) = &judge.host {
        terminal.line(format!("  this machine is {host}"));
    }
    let standing = brief.standing;
    terminal.line(format!("  {}", judge.origin.words()));
    if let Some(files) = judge.files() {
        terminal.line(format!("  {files}"));
    }
    terminal.line(format!(
        "  {rules}{paused}; then inbound {}, transit {}, outbound {}",
        standing.inbound, standing.transit, standing.outbound
    ));
    for Remark { rule, message } in remarks(brief, chosen::now()) {
        terminal.line(format!("  note on {rule}: {message}"));
    }
    if let Some(posted) = posted {
        terminal.line(format!("  guarded: {}", posted.guarded.join(", ")));
        if !posted.vanished.is_empty() {
            terminal.line(format!("  gone meanwhile: {}", posted.vanished.join(", ")));
        }
        terminal.note("  connections that were open before go on; only new ones are decided");
    }
}
