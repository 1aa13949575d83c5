//! Which orders a command judges by: those in the file, or those in force.

use std::collections::BTreeSet;
use std::path::Path;

use tipstaff_core::analysis::remarks::is_named_here;
use tipstaff_core::brief::{Brief, Setting};
use tipstaff_core::host::programs::ProgramNote;
use tipstaff_core::moment::Moment;
use tipstaff_core::orders::{
    Attachments, Documents, Lists, NO_POSTURE, Orders, OrdersHash, Posture, SEALED, read_all,
};
use tipstaff_gate::kernel::{KernelGate, executables};
use tipstaff_gate::{Gate, GateError, InForce, Record};
use tipstaff_host::files::{self, Distrust, MOST_TEXT};
use tipstaff_host::interfaces;
use tipstaff_reach::Basis;

use crate::arguments::Common;
use crate::attachments::{self, Written};
use crate::failure::{Failure, system};
use crate::history::Revision;
use tipstaff_core::orders::Origin;

/// Orders, and where they come from.
pub struct LoadedPolicy {
    pub orders: Orders,
    pub brief: Brief,
    pub text: String,
    pub origin: Origin,
    /// The host that this machine is in them, where they know hosts.
    pub host: Option<String>,
    /// The posture that it takes up.
    pub posture: Option<String>,
    /// The files that they name.
    pub attachments: Attachments,
    /// The first of all these files that others could change.
    pub distrust: Option<Distrust>,
}

impl LoadedPolicy {
    /// The order of the files that the rules stand in, where there are several.
    pub fn files(&self) -> Option<String> {
        let sheets = Documents { text: &self.text, attachments: &self.attachments };
        let parts: Vec<&str> = sheets.parts().into_iter().map(|part| part.name.as_str()).collect();
        let words = format!("rules in this order: {}, then the orders' own", parts.join(", "));
        (!parts.is_empty()).then_some(words)
    }

    /// What a reach check is judged by.
    pub fn basis(&self) -> Basis<'_> {
        Basis { brief: &self.brief, host: self.host.clone(), orders: self.origin.clone() }
    }

    /// The programs that rules here name by a link, which is followed.
    pub fn links(&self) -> Vec<ProgramNote> {
        let mut notes = executables::notes(&self.brief);
        notes.retain(|note| !note.is_doubtful() && is_named_here(&self.brief, note));
        notes
    }
}

/// Where orders in force come from.
pub fn origin_of(record: &Record) -> Origin {
    Origin::InForce {
        path: record.path.clone(),
        hash: record.hash(),
        since: Moment::from_seconds(record.posted_at),
    }
}

/// Reads a file of orders without asking which host this is.
pub fn orders_of_file(path: &Path) -> Result<(Orders, Origin), Failure> {
    let (Written { text, attachments, .. }, origin) = written(path)?;
    match read_all(Documents { text: &text, attachments: &attachments }) {
        Ok(orders) => Ok((orders, origin)),
        Err(faults) => Err(Failure::wrong(path, text, attachments, faults)),
    }
}

/// Whether a file of orders, and what it names, is still what a record has; `None`: it cannot
/// be read. It may have faults.
pub fn is_unchanged(path: &Path, record: &Record) -> Option<bool> {
    if files::text(path, MOST_TEXT).ok()? != record.orders {
        return Some(false);
    }
    let names_nothing =
        |of: &Attachments| of.included.is_empty() && of.lists.as_ref().is_none_or(Lists::is_empty);
    // To know what it names, it must be parsed.
    Some(
        names_nothing(&record.attachments)
            || attachments::read(path).ok()?.attachments == record.attachments,
    )
}

/// Reads a file of orders as this machine is to obey them.
pub fn from_file(common: &Common) -> Result<LoadedPolicy, Failure> {
    of_file_at(common, common.orders_path())
}

/// As [`from_file`], another file than the one that all commands read.
pub fn of_file_at(common: &Common, path: &Path) -> Result<LoadedPolicy, Failure> {
    let _doing = tracing::info_span!("reading the orders", path = %path.display()).entered();
    let (Written { text, attachments, distrust }, origin) = written(path)?;
    let chosen = chosen(path, text, origin, attachments, |orders| {
        Ok((
            which_host(orders, common.host.as_deref())?,
            which_posture(orders, common.posture.as_deref())?,
        ))
    })?;
    Ok(LoadedPolicy { distrust, ..chosen })
}

/// Reads a file, and tells where it comes from.
fn written(path: &Path) -> Result<(Written, Origin), Failure> {
    let written = attachments::read(path).map_err(Failure::unreadable(path))?;
    let sheets = Documents { text: &written.text, attachments: &written.attachments };
    let hash = OrdersHash::digest(sheets);
    let origin = Origin::File { path: path.display().to_string(), hash };
    Ok((written, origin))
}

fn chosen(
    path: &Path,
    text: String,
    origin: Origin,
    attachments: Attachments,
    setting: impl FnOnce(&Orders) -> Result<(Option<String>, Option<String>), Failure>,
) -> Result<LoadedPolicy, Failure> {
    match read_all(Documents { text: &text, attachments: &attachments }) {
        Ok(orders) => {
            let (host, posture) = setting(&orders)?;
            let brief = brief_for_this_machine(&orders, host.as_deref(), posture.as_deref())?;
            Ok(LoadedPolicy {
                brief,
                orders,
                text,
                origin,
                host,
                posture,
                attachments,
                distrust: None,
            })
        }
        Err(faults) => Err(Failure::wrong(path, text, attachments, faults)),
    }
}

/// The host that this machine is: as it was told, else as it calls itself.
/// Orders that know no hosts are for any machine.
pub fn which_host(orders: &Orders, told: Option<&str>) -> Result<Option<String>, Failure> {
    if orders.hosts.is_empty() && told.is_none() {
        return Ok(None);
    }
    let own = nix::unistd::gethostname().unwrap_or_default();
    let own = own.to_string_lossy();
    let name = told.unwrap_or(&own);
    // A machine may call itself by its full name.
    let short = name.split('.').next().unwrap_or(name);
    let known = |wanted: &str| orders.hosts.iter().find(|host| host.name == wanted);
    match known(name).or_else(|| known(short)) {
        Some(host) => Ok(Some(host.name.clone())),
        None => {
            let names: Vec<&str> = orders.hosts.iter().map(|h| h.name.as_str()).collect();
            let message = match told {
                Some(name) => format!("no host `{name}` in the orders"),
                None => format!(
                    "this machine is named `{name}`, which is not a host in the \
                                 orders"
                ),
            };
            let help = match names.as_slice() {
                [] => "They define no [[hosts]]; omit --host.".to_owned(),
                names => format!("Specify --host with one of {}.", names.join(", ")),
            };
            Err(Failure::Argument { message, help })
        }
    }
}

/// What orders mean on this machine, with its interfaces and addresses.
pub fn brief_for_this_machine(
    orders: &Orders,
    host: Option<&str>,
    posture: Option<&str>,
) -> Result<Brief, Failure> {
    let all = interfaces::list().map_err(system("reading the interfaces"))?;
    let named = orders.rules().map(|rule| &rule.program);
    let named = named.flat_map(|c| c.paths()).map(String::as_str);
    let files = executables::executables(named.collect::<BTreeSet<_>>(), orders.program_exact);
    let mut brief = Brief::on(
        orders,
        &Setting { interfaces: &all, executables: Some(&files), ..setting(orders, host, posture) },
    );
    brief.expire(now());
    Ok(brief)
}

/// Host and posture by their names.
pub fn setting<'o>(orders: &'o Orders, host: Option<&str>, posture: Option<&str>) -> Setting<'o> {
    Setting {
        host: orders.hosts.iter().find(|h| Some(h.name.as_str()) == host),
        posture: posture_called(orders, posture),
        interfaces: &[],
        executables: None,
    }
}

/// A posture by its name, the built-in one too.
fn posture_called<'o>(orders: &'o Orders, name: Option<&str>) -> Option<&'o Posture> {
    match name {
        Some(SEALED) => Some(Posture::sealed()),
        name => orders.postures.iter().find(|p| Some(p.name.as_str()) == name),
    }
}

/// The posture that was asked for; none when none was.
pub fn which_posture(orders: &Orders, told: Option<&str>) -> Result<Option<String>, Failure> {
    let Some(name) = told else { return Ok(None) };
    if name == NO_POSTURE {
        return Ok(None);
    }
    if name == SEALED || orders.postures.iter().any(|posture| posture.name == name) {
        return Ok(Some(name.to_owned()));
    }
    let names: Vec<&str> = orders.postures.iter().map(|p| p.name.as_str()).collect();
    let help = match names.as_slice() {
        [] => format!("They define no [[postures]]; `{SEALED}` is built in."),
        names => format!("They define {}; `{SEALED}` is built in.", names.join(", ")),
    };
    Err(Failure::Argument { message: format!("no posture `{name}` in the orders"), help })
}

/// This moment.
pub fn now() -> Moment {
    Moment::from_seconds(jiff::Timestamp::now().as_second())
}

/// The orders in force.
pub fn from_force(in_force: &InForce) -> Result<LoadedPolicy, Failure> {
    of_record(&in_force.record)
}

/// The orders of a record.
pub fn of_record(record: &Record) -> Result<LoadedPolicy, Failure> {
    let origin = origin_of(record);
    let setting = (record.host.clone(), record.posture.clone());
    let attachments = record.attachments.clone();
    let (path, text) = (record.path.as_deref().unwrap_or("built in"), record.orders.clone());
    chosen(Path::new(path), text, origin, attachments, |_| Ok(setting))
}

/// Tells the list that orders mean for a host from others, whatever machine it is.
pub fn list_on(orders: &Orders, host: Option<&str>, posture: Option<&str>) -> OrdersHash {
    Brief::on(orders, &setting(orders, host, posture)).digest()
}

/// The orders of a revision, as this machine is to obey them now.
pub fn of_revision(common: &Common, revision: &Revision) -> Result<LoadedPolicy, Failure> {
    let record = &revision.record;
    let number = revision.number;
    let path = match &record.path {
        Some(path) => format!("revision {number} of {path}"),
        None => format!("revision {number}, built in"),
    };
    let origin = Origin::File { path: path.clone(), hash: record.hash() };
    let posture = common.posture.clone().or_else(|| record.posture.clone());
    let host = common.host.clone().or_else(|| record.host.clone());
    let (text, attachments) = (record.orders.clone(), record.attachments.clone());
    chosen(Path::new(&path), text, origin, attachments, |orders| {
        Ok((which_host(orders, host.as_deref())?, which_posture(orders, posture.as_deref())?))
    })
}

/// What the kernel says is in force; `None` when nothing is, or when this
/// account may not look.
pub fn in_force(common: &Common) -> Result<(Option<InForce>, Visible), Failure> {
    let gate = KernelGate::new(&common.run_dir)?;
    match gate.in_force() {
        Ok(in_force) => Ok((in_force, Visible::Yes)),
        Err(GateError::NotRoot) => Ok((None, Visible::OnlyToRoot)),
        Err(e) => Err(e.into()),
    }
}

/// Whether the gate can be looked at.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Visible {
    /// It can.
    Yes,
    /// Something may be in force; only root may look.
    OnlyToRoot,
}

/// The orders that a command judges by: the file that was asked for; else
/// those in force; else the file at the usual place. `None`: there are none.
pub fn choose(
    common: &Common,
    in_force: Option<&InForce>,
) -> Result<Option<LoadedPolicy>, Failure> {
    if common.orders.is_none() {
        if let Some(in_force) = in_force {
            return from_force(in_force).map(Some);
        }
        if !common.orders_path().exists() {
            return Ok(None);
        }
    }
    from_file(common).map(Some)
}
