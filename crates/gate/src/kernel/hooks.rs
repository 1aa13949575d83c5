//! Where the gate's programs stand, and the switch that says which revision
//! they jump to.
//!
//! Every place carries a small *dispatcher* that stays. It asks the switch
//! which of two places of its *slot* (a program array) holds, and jumps there.
//! A new revision is put into the place that does not hold, in every slot; then
//! the switch is turned: one write of 64 bits, in force everywhere at once. The
//! switch may have a deadline: behind it the dispatchers themselves go back to
//! the place before.

use std::os::fd::BorrowedFd;
use std::time::Duration;

use nix::time::{ClockId, clock_gettime};
use tipstaff_core::names::address::Family;

use super::assembler::{Assembler, If, Misfit, Op, R0, R1, R2, R3, R6, R7, R8, STACK, Width};
use super::reading::{helper, skb};
use super::sys::{Attach, Cell, ProgramKind};
use super::system;
use super::verdict::NEXT;
use crate::GateError;

/// The kinds of places where decisions are made.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Hook {
    /// On an interface, both ways.
    Outer,
    /// At the sockets of the namespace, both ways: for interfaces that have no
    /// outer gate, and so that a denied datagram fails at once.
    Inner,
    /// Where a TCP socket connects, so that a denied program is told at once.
    Connect(Family),
}

impl Hook {
    pub(super) const ALL: [Self; 4] =
        [Self::Outer, Self::Inner, Self::Connect(Family::V4), Self::Connect(Family::V6)];

    /// The pin of its slot.
    pub(super) const fn slot(self) -> &'static str {
        match self {
            Self::Outer => "slot",
            Self::Inner => "slot-inner",
            Self::Connect(Family::V4) => "slot-connect4",
            Self::Connect(Family::V6) => "slot-connect6",
        }
    }

    pub(super) const fn kind(self) -> ProgramKind {
        match self {
            Self::Outer => ProgramKind::SchedCls,
            Self::Inner => ProgramKind::CgroupSkb,
            Self::Connect(_) => ProgramKind::CgroupAddress,
        }
    }

    /// Where its programs say they will be attached.
    pub(super) const fn attach(self) -> Option<Attach> {
        match self {
            Self::Outer => None,
            // Both ways carry the program of one; it returns what both understand.
            Self::Inner => Some(Attach::CgroupIngress),
            Self::Connect(Family::V4) => Some(Attach::Connect4),
            Self::Connect(Family::V6) => Some(Attach::Connect6),
        }
    }

    /// What its programs return to let something pass.
    pub(super) const fn pass(self) -> i32 {
        match self {
            Self::Outer => NEXT,
            Self::Inner | Self::Connect(_) => 1,
        }
    }

    /// What its programs return to stop something.
    pub(super) const fn stop(self) -> i32 {
        match self {
            Self::Outer => super::verdict::DROP,
            Self::Inner | Self::Connect(_) => 0,
        }
    }
}

/// A place of the slots, 0 or 1.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Place(bool);

impl Place {
    pub(super) const BOTH: [Self; 2] = [Self(false), Self(true)];

    pub(super) fn other(self) -> Self {
        Self(!self.0)
    }

    pub(super) fn key(self) -> [u8; 4] {
        u32::from(self.0).to_ne_bytes()
    }
}

/// What the switch says at the moment.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Turn {
    /// Which place holds.
    pub(super) holds: Place,
    /// How long it does; `None`: until somebody turns the switch.
    pub(super) left: Option<Duration>,
    /// Whether the dispatchers went back by themselves, and nobody has turned
    /// the switch since.
    pub(super) fell_back: bool,
}

impl Turn {
    /// The switch: bit 0 the place, above it the deadline in nanoseconds of
    /// CLOCK_BOOTTIME, to two nanoseconds; 0 is none.
    fn of(word: u64, now: u64) -> Self {
        let (place, deadline) = (Place(word & 1 == 1), word & !1);
        if deadline == 0 {
            Self { holds: place, left: None, fell_back: false }
        } else if now < deadline {
            let left = Some(Duration::from_nanos(deadline - now));
            Self { holds: place, left, fell_back: false }
        } else {
            Self { holds: place.other(), left: None, fell_back: true }
        }
    }
}

/// Nanoseconds since the boot, sleep included.
fn since_boot() -> Result<u64, GateError> {
    let now = clock_gettime(ClockId::CLOCK_BOOTTIME)
        .map_err(|e| system("reading the clock")(e.into()))?;
    Ok(now.tv_sec() as u64 * 1_000_000_000 + now.tv_nsec() as u64)
}

/// The switch of a gate.
pub(super) struct Switch(Cell);

impl Switch {
    pub(super) fn open(map: BorrowedFd<'_>) -> Result<Self, GateError> {
        Cell::open(map).map(Self).map_err(system("mapping the gate's switch"))
    }

    pub(super) fn turn(&self) -> Result<Turn, GateError> {
        Ok(Turn::of(self.0.get(), since_boot()?))
    }

    /// Lets a place hold, for good or for a time.
    pub(super) fn set(&self, place: Place, for_a_time: Option<Duration>) -> Result<(), GateError> {
        let deadline = match for_a_time {
            Some(time) => (since_boot()? + time.as_nanos() as u64).max(2) & !1,
            None => 0,
        };
        self.0.set(deadline | u64::from(place.0));
        Ok(())
    }
}

/// The way out, in what a dispatcher leaves for the program in the slot.
pub(super) const OUTWARDS: i32 = 1;
/// With [`OUTWARDS`]: the outer gate will decide too; only a "no" counts here.
pub(super) const EARLY: i32 = 2;

/// The dispatcher of a place; `outwards` matters to those that see packets.
/// `here` tells what it needs of its namespace.
///
/// # Errors
/// [`Misfit`] if the code does not fit together.
pub(super) fn dispatcher(hook: Hook, outwards: bool, here: Here<'_>) -> Result<Vec<u8>, Misfit> {
    let mut a = Assembler::default();
    let (pass, jump) = (a.label(), a.label());
    a.copy(R6, R1);
    if hook != Hook::Outer {
        // A control group has the sockets of all namespaces.
        a.call(helper::NAMESPACE_COOKIE);
        a.value64(R1, here.cookie);
        a.jump_if_reg(If::Ne, R0, R1, pass);
    }
    let note = if outwards { OUTWARDS } else { 0 };
    match hook {
        Hook::Outer => a.store_value(Width::W, R6, skb::OUTWARDS, note),
        Hook::Inner => {
            let open = a.label();
            a.load(Width::W, R1, R6, skb::INTERFACE);
            a.store(Width::W, STACK, -4, R1);
            a.map(R1, here.guarded);
            a.stack(R2, -4);
            a.call(helper::MAP_LOOKUP);
            a.store_value(Width::W, R6, skb::OUTWARDS, note);
            a.jump_if(If::Eq, R0, 0, open);
            if outwards {
                a.store_value(Width::W, R6, skb::OUTWARDS, OUTWARDS | EARLY);
                // What a TCP socket sends, its connecting decided, or the outer gate will.
                a.load(Width::D, R1, R6, skb::SOCKET);
                a.jump_if(If::Eq, R1, 0, pass);
                a.call(helper::FULL_SOCKET);
                a.jump_if(If::Eq, R0, 0, pass);
                a.load(Width::W, R1, R0, 12); // bpf_sock.protocol
                a.jump_if(If::Eq, R1, libc::IPPROTO_TCP, pass);
            } else {
                a.jump(pass);
            }
            a.place(open);
        }
        Hook::Connect(_) => {}
    }
    a.map_value(R1, here.switch, 0);
    a.load(Width::D, R7, R1, 0);
    a.copy(R8, R7);
    a.op(Op::And, R8, 1);
    a.op(Op::Rsh, R7, 1);
    a.op(Op::Lsh, R7, 1);
    a.jump_if(If::Eq, R7, 0, jump);
    a.call(helper::BOOT_TIME);
    a.jump_if_reg(If::Lt, R0, R7, jump);
    a.op(Op::Xor, R8, 1);
    a.place(jump);
    a.copy(R1, R6);
    a.map(R2, here.slot);
    a.copy(R3, R8);
    a.call(helper::TAIL_CALL);
    if a.is_used(pass) {
        a.place(pass);
    }
    a.mov(R0, hook.pass());
    a.exit();
    a.finish()
}

/// What dispatchers refer to.
#[derive(Clone, Copy)]
pub(super) struct Here<'m> {
    /// The network namespace.
    pub(super) cookie: u64,
    /// The switch.
    pub(super) switch: BorrowedFd<'m>,
    /// The slot of the hook.
    pub(super) slot: BorrowedFd<'m>,
    /// The interfaces that have an outer gate.
    pub(super) guarded: BorrowedFd<'m>,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn behind_its_deadline_the_other_place_holds() {
        let [first, second] = Place::BOTH;
        let turn = |word, now| Turn::of(word, now);
        assert_eq!(turn(1, 500), Turn { holds: second, left: None, fell_back: false });
        let left = Some(Duration::from_nanos(500));
        assert_eq!(turn(1_001, 500), Turn { holds: second, left, fell_back: false });
        assert_eq!(turn(1_001, 1_000), Turn { holds: first, left: None, fell_back: true });
        assert_eq!(turn(1_000, 2_000), Turn { holds: second, left: None, fell_back: true });
    }
}
