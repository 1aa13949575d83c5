//! What the gate cannot do on the machine at hand, told by `state`.
//! docs/security.md says what it means.

use std::fmt;

use schemars::JsonSchema;
use serde::Serialize;
use tipstaff_core::host::interface::Interface;

use crate::contract::InForce;
use crate::kernel::kept::described;

/// Something that the gate promises elsewhere and cannot promise here.
#[derive(Clone, Debug, PartialEq, Eq, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case", tag = "kind")]
pub enum Shortfall {
    /// No programs at the sockets.
    NoSecondLine,
    /// No links at interfaces: the gate is attached by filters.
    ByFilters,
    /// Programs cannot read the kernel's types.
    NoTypes,
    /// A filter of the kernel's older kind stands at the ingress of an interface
    /// and may take off the notes by which a packet's way is known.
    NotesLost {
        /// The interface.
        interface: String,
    },
    /// The clock has changed since the gate was told how to read it.
    ClockMoved {
        /// So many seconds `until` ends too early; below zero: too late.
        seconds: i64,
    },
}

impl fmt::Display for Shortfall {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::NoSecondLine => f.write_str(
                "this kernel does not support the second line: a new interface is open until \
                 `tipstaff keep` or a post guards it",
            ),
            Self::ByFilters => f.write_str(
                "this kernel has no links at interfaces (they came with 6.6): the gate is attached \
                 by clsact filters, and whoever removes one opens that interface; `reach` knows \
                 other sources by the gate, not by the wire",
            ),
            Self::NoTypes => f.write_str(
                "this kernel does not let programs read its types: whether an interface is a \
                 port of another one, reuses the number of a removed one, or forwards IPv6 is \
                 known only as of the last post, and MPTCP sockets belong to no program",
            ),
            Self::NotesLost { interface } => write!(
                f,
                "another filter at the ingress of {interface} may clear the gate's marks on \
                 packets: whether traffic that comes in there is forwarded is told by its \
                 interface alone",
            ),
            Self::ClockMoved { seconds } => write!(
                f,
                "the kernel's offset of TAI from UTC changed after the post: `until` is {} s {}; \
                 `tipstaff keep` or a post corrects it",
                seconds.unsigned_abs(),
                if *seconds > 0 { "early" } else { "late" },
            ),
        }
    }
}

/// What cannot be promised here, with what is in force.
pub fn shortfalls(in_force: &InForce, interfaces: &[Interface]) -> Vec<Shortfall> {
    let no_second_line = (!in_force.second_line).then_some(Shortfall::NoSecondLine);
    let no_types = described::at_packets().is_none().then_some(Shortfall::NoTypes);
    let lost = interfaces.iter().filter(|interface| interface.ingress_filter);
    let lost = lost.map(|i| Shortfall::NotesLost { interface: i.name.clone() });
    let by_filters = in_force.by_filters.then_some(Shortfall::ByFilters);
    no_second_line.into_iter().chain(by_filters).chain(no_types).chain(lost).collect()
}
