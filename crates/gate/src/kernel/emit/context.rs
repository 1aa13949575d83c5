//! What all emitters share: the hook that a program is for, its parts, where its
//! ways lead, and the words that programs leave each other.

use std::net::IpAddr;
use std::os::fd::BorrowedFd;

use tipstaff_bpf::abi::tcx;
use tipstaff_bpf::asm::Label;
use tipstaff_bpf::parse::Ways;
use tipstaff_bpf::sys::{Attach, ProgramKind};
use tipstaff_core::decision::flows::Stamps;
use tipstaff_core::names::address::Family;
use tipstaff_core::orders::{FoundationSwitches, LogLevel, Standing};
use tipstaff_core::tables::layout::Layout;

use crate::kernel::emit::marks::Marks;
use crate::kernel::emit::shares::Shares;
use crate::kernel::emit::slot::Rehearsed;
use crate::kernel::emit::types::KernelTypes;

/// The kinds of places where decisions are made.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Hook {
    /// On an interface, both ways.
    Outer,
    /// At the sockets of the namespace, both ways: for interfaces that have no
    /// outer gate, and so that a denied datagram fails at once.
    Inner,
    /// Where a TCP socket connects, so that a denied program is told at once.
    Connect(Family),
}

impl Hook {
    pub(crate) const ALL: [Self; 4] =
        [Self::Outer, Self::Inner, Self::Connect(Family::V4), Self::Connect(Family::V6)];

    /// The pin of its slot.
    pub(crate) const fn slot(self) -> &'static str {
        match self {
            Self::Outer => "slot",
            Self::Inner => "slot-inner",
            Self::Connect(Family::V4) => "slot-connect4",
            Self::Connect(Family::V6) => "slot-connect6",
        }
    }

    pub(crate) const fn kind(self) -> ProgramKind {
        match self {
            Self::Outer => ProgramKind::SchedCls,
            Self::Inner => ProgramKind::CgroupSkb,
            Self::Connect(_) => ProgramKind::CgroupAddress,
        }
    }

    /// Where its programs say they will be attached.
    pub(crate) const fn attach(self) -> Option<Attach> {
        match self {
            Self::Outer => None,
            // Both ways carry the program of one; it returns what both understand.
            Self::Inner => Some(Attach::CgroupIngress),
            Self::Connect(Family::V4) => Some(Attach::Connect4),
            Self::Connect(Family::V6) => Some(Attach::Connect6),
        }
    }

    /// What its programs return to let something pass.
    pub(crate) const fn pass(self) -> i32 {
        match self {
            Self::Outer => tcx::NEXT,
            Self::Inner | Self::Connect(_) => 1,
        }
    }

    /// What its programs return to stop something.
    pub(crate) const fn stop(self) -> i32 {
        match self {
            Self::Outer => tcx::DROP,
            Self::Inner | Self::Connect(_) => 0,
        }
    }
}

/// Which dispatcher of an interface.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum OuterSide {
    /// What arrives at an interface.
    In,
    /// What leaves one.
    Out,
    /// What arrives at a port of a bridge or bond: decided where its master
    /// hands it to the stack.
    PortIn,
    /// What arrives at an interface that has its parent's hardware address: over the
    /// wire it came in on the parent, where it was decided.
    UpperIn,
    /// What leaves a port: decided where the stack handed it to the master.
    PortOut,
}

impl OuterSide {
    pub(crate) const ALL: [Self; 5] =
        [Self::In, Self::Out, Self::PortIn, Self::PortOut, Self::UpperIn];

    /// The name of the program, and its pin.
    pub(crate) const fn name(self) -> &'static str {
        match self {
            Self::In => "ts_way_in",
            Self::Out => "ts_way_out",
            Self::PortIn => "ts_port_in",
            Self::PortOut => "ts_port_out",
            Self::UpperIn => "ts_upper_in",
        }
    }

    pub(crate) const fn attach(self) -> Attach {
        match self {
            Self::In | Self::PortIn | Self::UpperIn => Attach::TcxIngress,
            Self::Out | Self::PortOut => Attach::TcxEgress,
        }
    }
}

/// What a dispatcher tells the program in the slot, in [`cb::TOLD`].
pub(crate) mod told {
    /// On its way out.
    pub const OUTWARDS: u16 = 1;
    /// With [`OUTWARDS`]: the outer gate will decide too; only a "no" counts here.
    pub const EARLY: u16 = 2;
    /// A knock of the reach check: decided and answered like any other packet,
    /// but neither counted nor recorded, and no rate is taken from.
    pub const KNOCK: u16 = 4;
    /// A test run that asks: nothing is counted, answered or remembered. No
    /// dispatcher tells it.
    pub const ASKED: u16 = 8;
    /// A test run with a note of its own, in [`super::cb::ASKED_NOTE`].
    pub const NOTED: u16 = 16;
}

/// The words of the control block (`skb::CB`), which programs at one interface share.
pub mod cb {
    use tipstaff_bpf::abi::skb::CB;

    /// The counter slot of the decision.
    pub const SLOT: i16 = CB;
    /// Its action.
    pub const ACTION: i16 = CB + 4;
    /// What the dispatcher says, for the program in the slot: `told`.
    pub const TOLD: i16 = CB + 8;
    /// A knock's number, in two words.
    pub const KNOCK: i16 = CB + 12;
    /// Test runs: the number of the program that is asked about, and
    /// `owner::ASKED_PROGRAMS`; 0 for the one that there is.
    pub const ASKED_PROGRAM: i16 = CB + 12;
    /// Test runs: the note that the packet would bear.
    pub const ASKED_NOTE: i16 = CB + 16;
}

/// What the map of guarded interfaces says of one, besides that it is there.
pub(crate) mod guarded {
    /// Another program takes off the gate's notes there.
    pub const NOTES_ARE_LOST: u16 = 2;
}

/// What is to be recorded of a decision, on the stack at [`at::LOG`].
pub(crate) mod wanted {
    /// What the level of the log says.
    pub const NOTHING: u16 = 0;
    /// It, because its rule asks for that.
    pub const ALL: u16 = 1;
}

/// The maps of the memory.
#[derive(Clone, Copy)]
pub(crate) struct FlowMaps<'m> {
    /// Opened from here, and answered.
    pub(crate) answered: BorrowedFd<'m>,
    /// Opened from here, and not answered yet.
    pub(crate) unanswered: BorrowedFd<'m>,
    /// Opened from elsewhere, and let in.
    pub(crate) let_in: BorrowedFd<'m>,
    /// First fragments.
    pub(crate) fragments: BorrowedFd<'m>,
}

/// The memory, and the stamps of the list whose program this is.
#[derive(Clone, Copy)]
pub(crate) struct FlowTable<'m> {
    pub(crate) maps: FlowMaps<'m>,
    pub(crate) stamps: Stamps,
    pub(crate) shares: Shares<'m>,
}

/// What the program is made of.
pub struct Parts<'m> {
    /// The map whose one value is the blob.
    pub tables: BorrowedFd<'m>,
    /// Where everything stands in it.
    pub layout: &'m Layout,
    /// The counters, by [`CounterSlot`].
    pub counters: BorrowedFd<'m>,
    /// What this host opened, and let in.
    pub(crate) flows: FlowTable<'m>,
    /// The gate's own numbers.
    pub(crate) marks: Marks,
    /// What can be read at a packet; `None`: this kernel does not let programs.
    pub(crate) types: Option<KernelTypes>,
    /// The labels of the sockets; `None` on kernels that do not describe
    /// themselves.
    pub owner_tags: Option<BorrowedFd<'m>>,
    /// The numbers of the programs that rules name.
    pub programs: BorrowedFd<'m>,
    /// This host's own addresses, by their 16 bytes.
    pub own: BorrowedFd<'m>,
    /// The same, sorted.
    pub own_addresses: &'m [IpAddr],
    /// Whether programs are told by their files.
    pub program_exact: bool,
    /// The interfaces that have an outer gate.
    pub guarded: BorrowedFd<'m>,
    /// Whether anything may be kept from coming in.
    pub restricts_inbound: bool,
    /// Whether anything may be kept from passing through.
    pub restricts_transit: bool,
    /// What sources took of rates.
    pub rates: BorrowedFd<'m>,
    /// So many sources have room there.
    pub sources: u32,
    /// Whether anything is recorded.
    pub records: bool,
    /// Of what no rule asks for: which.
    pub log_level: LogLevel,
    /// The ring of the records.
    pub events: BorrowedFd<'m>,
    /// First bytes of the orders' hash, for the records.
    pub orders: [u8; 8],
    /// The standing answers.
    pub standing: Standing,
    /// Whether orders have anything to say of the way out.
    pub restricts_outbound: bool,
    /// Whether anybody refuses.
    pub refuses: bool,
    /// The map that says by how many seconds TAI is ahead of UTC.
    pub clock: BorrowedFd<'m>,
    /// Foundations that can be off.
    pub foundations: FoundationSwitches,
    /// Where what passes is shown to what is rehearsed; `None`: this is that itself, and
    /// stops nothing.
    pub(crate) rehearsed: Option<Rehearsed<'m>>,
}

impl Parts<'_> {
    /// Whether this is rehearsed, and stops nothing.
    pub(crate) fn is_rehearsal(&self) -> bool {
        self.rehearsed.is_none()
    }
}

/// Where the packet goes from here.
pub(crate) struct Labels {
    pub(crate) hook: Hook,
    pub(crate) ways: Ways,
    pub(crate) neighbours: Label,
    pub(crate) errors: Label,
    pub(crate) elsewhere: Label,
    /// What is not IP: known by its name, or not readable.
    pub(crate) named: Label,
    pub(crate) unreadable: Label,
    pub(crate) assignment: Label,
    pub(crate) replies: Label,
    pub(crate) transit: Label,
    pub(crate) outbound: Label,
    pub(crate) rules: Label,
    pub(crate) corrupt: Label,
    pub(crate) stray: Label,
    /// An answer of the kernel's own that nobody has decided.
    pub(crate) unanswered: Label,
}
