//! Where everything stands in the blob.
//!
//! Native byte order, sections aligned to 64 bytes:
//! `[0,64)` header for people and tools · `[64,128)` the de Bruijn bytes ·
//! then for each dimension its rows, levels (root first) and classes · the
//! verdicts, one byte a rule, and the limits.

use serde::{Deserialize, Serialize};

use crate::names::traffic::TrafficKey;
use crate::orders::{Action, Over, Rule, Sharing};
use crate::packet::Direction;

/// First bytes of every blob.
pub const MAGIC: [u8; 8] = *b"TIPTBL02";
/// Where the de Bruijn bytes stand.
pub const DE_BRUIJN_OFFSET: u32 = 64;
/// `t[(DE_BRUIJN << i mod 2^64) >> 58] = i`: the place of a single set bit.
pub const DE_BRUIJN: u64 = 0x03f7_9d71_b4cb_0a89;
/// Sections begin at multiples of this.
pub const ALIGNMENT: usize = 64;
/// A blob above this many bytes is refused; the kernel's direct offsets end at 512 MiB.
pub const MOST_BYTES: usize = 256 << 20;
/// Rules above this number are refused: the kernel's program walks the rows
/// in a loop that its verifier follows turn by turn.
pub const MOST_RULES: usize = 32_768;

/// Bytes of a limit.
pub const LIMIT_BYTES: u32 = 24;

/// The number by which the traffic dimension is searched: the key of a packet
/// (24 bits) below its direction, so that the direction costs no row of its own.
pub const fn traffic_slot(direction: Direction, key: TrafficKey) -> u32 {
    (direction as u32) << 24 | key.bits()
}

/// The byte of a rule: what it says, and what else is to be done.
pub struct Verdict;

impl Verdict {
    /// Bits 0 and 1: what it says.
    pub const ACTION: u8 = 0b11;
    /// Drop.
    pub const DENY: u8 = 0;
    /// Pass.
    pub const ALLOW: u8 = 1;
    /// Drop, and answer.
    pub const REFUSE: u8 = 2;
    /// It has a limit.
    pub const LIMITED: u8 = 1 << 2;
    /// The limit is shared by all sources.
    pub const IN_ALL: u8 = 1 << 3;
    /// Beyond the limit it refuses; it denies when the bit is clear.
    pub const THEN_REFUSE: u8 = 1 << 4;
    /// Its decisions are recorded.
    pub const LOG: u8 = 1 << 5;

    /// It looks at what is only known once a packet has its route: the source
    /// address or the interface it leaves by.
    pub const ROUTED: u8 = 1 << 6;

    /// The byte of a rule.
    pub fn encode(rule: &Rule) -> u8 {
        fn flag(set: bool, bit: u8) -> u8 {
            if set { bit } else { 0 }
        }
        let limit = rule.limit();
        Self::action_bits(rule.action)
            | flag(limit.is_some(), Self::LIMITED)
            | flag(limit.is_some_and(|l| l.sharing == Sharing::InAll), Self::IN_ALL)
            | flag(limit.is_some_and(|l| l.over == Over::Refuse), Self::THEN_REFUSE)
            | flag(rule.log, Self::LOG)
            | flag(rule.source.addresses.is_some() || !rule.interface.is_any(), Self::ROUTED)
    }

    /// The bits of an action.
    pub const fn action_bits(action: Action) -> u8 {
        match action {
            Action::Deny => Self::DENY,
            Action::Allow => Self::ALLOW,
            Action::Refuse => Self::REFUSE,
        }
    }
}

/// How wide the keys of a dimension are.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub enum KeyWidth {
    /// One `u32` a slot.
    Bits32,
    /// Two `u64` a slot, the high half first.
    Bits128,
}

impl KeyWidth {
    /// Bytes of a slot.
    pub const fn bytes(self) -> u32 {
        match self {
            Self::Bits32 => 4,
            Self::Bits128 => 16,
        }
    }
}

/// One level of a search: `nodes` nodes of `fanout` slots.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Level {
    /// Bytes from the blob's begin.
    pub offset: u32,
    /// Number of nodes, at least 1.
    pub nodes: u32,
}

/// One dimension: levels, classes, rows.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Dimension {
    /// Width of its keys.
    pub width: KeyWidth,
    /// Slots of a node, a power of two.
    pub fanout: u32,
    /// Root first. Empty when the dimension has one class: then there is nothing to search.
    pub levels: Vec<Level>,
    /// Where the classes stand: a `u16` for each slot of the leaf level.
    pub classes_offset: u32,
    /// Number of classes, 1 to 65,535.
    pub classes: u32,
    /// Where the rows stand, one a class.
    pub rows_offset: u32,
}

/// The whole blob.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Layout {
    /// Number of rules, paused ones included.
    pub rules: u32,
    /// 64-bit words of a row: 1, or a multiple of 8.
    pub words: u32,
    /// By [`traffic_slot`].
    pub traffic: Dimension,
    /// By IPv4 source address.
    pub source4: Dimension,
    /// By IPv6 source address.
    pub source6: Dimension,
    /// By IPv4 destination address.
    pub destination4: Dimension,
    /// By IPv6 destination address.
    pub destination6: Dimension,
    /// Whether any rule looks at the destination; if not, nobody need search.
    pub destination_used: bool,
    /// By interface index.
    pub interface: Dimension,
    /// Whether any rule looks at the interface.
    pub interface_used: bool,
    /// By [`crate::moment::Moment`]: which rules have not expired.
    pub time: Dimension,
    /// Whether any rule expires.
    pub time_used: bool,
    /// By [`crate::packet::ProgramIndex`].
    pub program: Dimension,
    /// Whether any rule looks at the program.
    pub program_used: bool,
    /// Where the verdicts stand: a byte a rule, see [`Verdict`].
    pub verdicts_offset: u32,
    /// Where it stands which limit a rule has: a `u16` a rule. Only there when
    /// a rule has one.
    pub limit_of_offset: u32,
    /// Where the limits stand, each [`LIMIT_BYTES`] long: id, increment and
    /// tolerance, a `u64` each.
    pub limits_offset: u32,
    /// Number of limits.
    pub limits: u32,
    /// Whether any rule is about what leaves or passes through.
    pub directed: bool,
    /// Whether any rule's decisions are recorded.
    pub logs: bool,
    /// Size of the blob in bytes.
    pub size: u32,
}

impl Layout {
    /// Bytes of a row.
    pub fn row_bytes(&self) -> u32 {
        self.words * 8
    }
}
