//! What a gate does, and what it tells.

use std::io;
use std::net::IpAddr;
use std::time::Duration;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use tipstaff_core::brief::Brief;
use tipstaff_core::decision::rates::SourceState;
use tipstaff_core::decision::{Decision, Speaker};
use tipstaff_core::host::interface::Interface;
use tipstaff_core::orders::{Action, Attachments, Documents, Limit, OrdersHash, Rule};
use tipstaff_core::packet::{Direction, InterfaceIndex};
use tipstaff_core::tables::TooLarge;

use crate::enforceable::Unenforceable;
use crate::lock::LockError;

/// Orders on their way into force, read without a fault.
#[derive(Clone, Debug)]
pub struct Posting<'o> {
    /// The list and the standing answers.
    pub brief: &'o Brief,
    /// What the orders were read from, kept with the revision.
    pub record: Record,
}

/// What is kept with a revision, so that the kernel itself can say which
/// orders are in force.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Record {
    /// The whole text of the orders.
    pub orders: String,
    /// Where it was read from; `None`: it is built in, no file's.
    pub path: Option<String>,
    /// When it was put in force, seconds since 1970-01-01 UTC.
    pub posted_at: i64,
    /// Account that did it.
    pub posted_by: String,
    /// The host that this machine is in the orders, where they know hosts.
    #[serde(default)]
    pub host: Option<String>,
    /// The posture that was taken up, where the orders know some.
    #[serde(default)]
    pub posture: Option<String>,
    /// The texts of the files that the orders name, as they were then.
    #[serde(default)]
    pub attachments: Attachments,
}

impl Record {
    /// The record of a text that names no other files, posted by nobody in
    /// particular: for tests and demonstrations.
    pub fn from_text(orders: impl Into<String>) -> Self {
        Self {
            orders: orders.into(),
            path: Some("orders.toml".into()),
            posted_at: 0,
            posted_by: "nobody".into(),
            host: None,
            posture: None,
            attachments: Attachments::default(),
        }
    }

    /// Which orders these are.
    pub fn hash(&self) -> OrdersHash {
        OrdersHash::digest(self.sheets())
    }

    /// The text of the orders and of what they name.
    pub fn sheets(&self) -> Documents<'_> {
        Documents { text: &self.orders, attachments: &self.attachments }
    }
}

/// What is in force.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct InForce {
    /// The orders and when they were put in force.
    pub record: Record,
    /// Interfaces with an outer gate.
    pub guarded: Vec<InterfaceIndex>,
    /// Interfaces with an outer gate on the way out, which remembers what this
    /// host sends.
    pub guarded_outwards: Vec<InterfaceIndex>,
    /// Whether interfaces without one are guarded at the sockets.
    pub second_line: bool,
    /// Whether the gate is attached by filters, for want of links at interfaces.
    pub by_filters: bool,
}

/// Something that ends by itself, in the kernel, unless it is confirmed.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Pending {
    /// How long it still holds.
    pub left: Duration,
    /// What is in force until then; `None`: nothing.
    pub now: Option<Record>,
    /// What is in force after it; `None`: nothing.
    pub then: Option<Record>,
}

/// Orders that decide, count and record beside what is in force, and stop nothing.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Rehearsal {
    /// The orders, and when that began.
    pub record: Record,
    /// How much longer.
    pub left: Left,
}

/// How much longer something is rehearsed.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Left {
    /// Until somebody ends it, or the machine restarts.
    UntilEnded,
    /// For so long.
    For(Duration),
    /// Its time is over; what it counted can still be read.
    Over,
}

/// What a post did.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Posted {
    /// Interfaces that have an outer gate now.
    pub guarded: Vec<String>,
    /// Interfaces that vanished while the gate was put up.
    pub vanished: Vec<String>,
    /// Whether other orders were in force before.
    pub replaced: bool,
}

/// Packets and bytes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct Tally {
    /// Packets that were decided.
    pub packets: u64,
    /// Their bytes, link header included.
    pub bytes: u64,
    /// Connections and exchanges that began with them: TCP packets of no known connection that
    /// were let through (a SYN that is sent again counts again), and the first packet of what
    /// else was.
    #[serde(default)]
    pub connections: u64,
}

/// A decision that was recorded.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Event {
    /// Nanoseconds since 1970-01-01 UTC.
    pub time: i64,
    /// Whether the orders that decided were rehearsed: then nothing was stopped.
    pub rehearsed: bool,
    /// First bytes of the hash of the orders that decided.
    pub orders: [u8; 8],
    /// What decided.
    pub speaker: Speaker,
    /// What was said.
    pub verdict: Action,
    /// Which way.
    pub direction: Direction,
    /// Where.
    pub interface: InterfaceIndex,
    /// IANA protocol number.
    pub protocol: u8,
    /// From whom.
    pub source: IpAddr,
    /// To whom.
    pub destination: IpAddr,
    /// Source port, where there is one.
    pub from: Option<u16>,
    /// Destination port, or type × 256 + code of ICMP.
    pub to: Option<u16>,
    /// Who sends, or listens; `None` where nobody is known.
    pub program: Option<Maker>,
}

/// Who made the socket that sends a packet, or listens to it.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, JsonSchema, Serialize)]
pub struct Maker {
    /// The process, which may be gone.
    pub process: u32,
    /// The device of the file that it was started from: major << 20 | minor.
    pub device: u32,
    /// The inode number of that file.
    pub inode: u64,
}

/// A rule that is counted.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct RuleCounted {
    /// Its name.
    pub name: String,
    /// Whether it has a rate.
    pub has_rate: bool,
    /// Whether packets may match it: it is not paused, and for this host.
    pub is_active: bool,
}

impl From<&Rule> for RuleCounted {
    fn from(rule: &Rule) -> Self {
        let (name, has_rate) = (rule.name.to_string(), rule.at_most.is_some());
        Self { name, has_rate, is_active: rule.is_active() }
    }
}

/// What the records do not have.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, JsonSchema, Serialize)]
pub struct Unrecorded {
    /// Denied by a standing answer and left out of the sample.
    pub left_out: u64,
    /// Lost: nobody read in time.
    pub lost: u64,
}

/// What went wrong. Whatever it is, the orders that were in force before still are.
#[derive(Debug, thiserror::Error)]
pub enum GateError {
    /// Not root.
    #[error("only root can access the gate")]
    NotRoot,
    /// Linux before 6.1.
    #[error("this kernel is {release}; the gate needs Linux 6.1 or newer")]
    KernelTooOld {
        /// What uname says.
        release: String,
    },
    /// bpf(2) is refused, even to root.
    #[error("the kernel refused {doing}: {source}")]
    Refused {
        /// What was tried.
        doing: &'static str,
        /// What the kernel said.
        source: io::Error,
    },
    /// The verifier did not accept a program.
    #[error("the kernel's verifier rejected the filter: {source}")]
    Verifier {
        /// What the kernel said.
        source: io::Error,
        /// The end of its log.
        log: String,
    },
    /// Too many rules or ranges.
    #[error(transparent)]
    TooLarge(#[from] TooLarge),
    /// Anything else of the system.
    #[error("{doing}: {source}")]
    System {
        /// What was tried.
        doing: String,
        /// What the system said.
        source: io::Error,
    },
    /// A key that this version does not enforce.
    #[error(transparent)]
    CannotEnforce(#[from] Unenforceable),
    /// Nothing to ask.
    #[error("no orders are in force")]
    NothingInForce,
    /// Pins of another layout: a gate that another version put up.
    #[error("the loaded gate was posted by another version of Tipstaff")]
    OtherVersion,
    /// The orders in force were written by another version.
    #[error("the orders in force cannot be read: {0}")]
    UnreadableRecord(String),
    /// Another command works on the gate, and does not end.
    #[error(transparent)]
    Locked(#[from] LockError),
    /// The panic button was pressed while a post was under way.
    #[error(
        "this machine was sealed while the orders were being put in force; they are not in \
         force, and it is still sealed"
    )]
    Overtaken,
    /// What lies in the run folder belongs to somebody else.
    #[error("{path} cannot be trusted: {why}")]
    Untrusted {
        /// Which file or folder.
        path: String,
        /// Why not.
        why: &'static str,
    },
    /// Orders that may still fall back are in force.
    #[error("a trial is running, for {} more seconds", .0.as_secs())]
    TrialRunning(Duration),
    /// There is nothing to ask, or to end.
    #[error("nothing is being rehearsed")]
    NoRehearsal,
    /// There is nothing to confirm.
    #[error("nothing is on trial")]
    NoTrial,
    /// Too late.
    #[error("the trial ended before it was confirmed; what was in force before is in force again")]
    TrialOver,
    /// A test stopped the work here, as kill -9 would.
    #[error("stopped at {0}")]
    Stopped(&'static str),
}

/// Something that holds orders in force.
pub trait Gate {
    /// Puts orders in force, all at once: before it returns without error the
    /// old ones hold, afterwards the new ones, never a mixture.
    ///
    /// # Errors
    /// [`GateError`]; then nothing has changed.
    fn post(
        &mut self,
        posting: &Posting<'_>,
        interfaces: &[Interface],
    ) -> Result<Posted, GateError>;

    /// Puts orders in force whatever else is going on: a trial ends, and who is
    /// about to post something else is told. Waits for nobody.
    ///
    /// # Errors
    /// [`GateError`]; then nothing has changed.
    fn seal(
        &mut self,
        posting: &Posting<'_>,
        interfaces: &[Interface],
    ) -> Result<Posted, GateError>;

    /// Puts orders in force for a time. Unless they are confirmed, the gate
    /// itself then goes back to what was in force before, whatever has become
    /// of this process.
    ///
    /// # Errors
    /// As [`Gate::post`]; [`GateError::TrialRunning`].
    fn try_out(
        &mut self,
        posting: &Posting<'_>,
        interfaces: &[Interface],
        time: Duration,
    ) -> Result<Posted, GateError>;

    /// Keeps what is on trial.
    ///
    /// # Errors
    /// [`GateError::NoTrial`]; [`GateError::TrialOver`] when it ended by itself.
    fn confirm(&mut self) -> Result<Record, GateError>;

    /// Takes the gate down and leaves nothing behind. `false`: there was nothing.
    ///
    /// # Errors
    /// [`GateError`]; a second try goes on where this one stopped.
    fn withdraw(&mut self) -> Result<bool, GateError>;

    /// What is in force; `None` when nothing is.
    ///
    /// # Errors
    /// [`GateError`].
    fn in_force(&self) -> Result<Option<InForce>, GateError>;

    /// Packets and bytes by speaker. Empty when nothing is in force.
    ///
    /// # Errors
    /// [`GateError`].
    fn tallies(&self) -> Result<Vec<(Speaker, Tally)>, GateError>;

    /// Everybody who is not level with a rate.
    ///
    /// # Errors
    /// [`GateError`].
    fn sources(&self, limit: &Limit) -> Result<Vec<SourceState>, GateError>;

    /// What the orders in force say of an Ethernet frame that arrives on an
    /// interface, without traffic and without a trace in the tallies.
    ///
    /// # Errors
    /// [`GateError::NothingInForce`] among others.
    fn ask(&self, interface: InterfaceIndex, frame: &[u8]) -> Result<Decision, GateError>;
}
