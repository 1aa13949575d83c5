//! Where everything stands in the blob.
//!
//! Native byte order, sections aligned to 64 bytes:
//! `[0,64)` header for people and tools · `[64,128)` the de Bruijn bytes ·
//! then for each dimension its rows, levels (root first) and classes · the
//! verdicts, one byte a rule.

use serde::{Deserialize, Serialize};

/// First bytes of every blob.
pub const MAGIC: [u8; 8] = *b"TIPTBL01";
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
    /// By [`crate::names::traffic::TrafficKey`].
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
    /// Where the verdicts stand: a byte a rule, 1 allow, 0 deny.
    pub verdicts_offset: u32,
    /// Size of the blob in bytes.
    pub size: u32,
}

impl Layout {
    /// Bytes of a row.
    pub fn row_bytes(&self) -> u32 {
        self.words * 8
    }
}
