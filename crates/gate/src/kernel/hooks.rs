//! Where the gate's programs stand, and the switch that says which revision
//! they jump to.
//!
//! Every place carries a small *dispatcher* that stays. It asks the switch
//! which of three places of its *slot* (a program array) holds, and jumps there.
//! A new revision is put into a place that does not hold, in every slot; then
//! the switch is turned: one write of 64 bits, in force everywhere at once. The
//! switch may have a deadline: behind it the dispatchers themselves go back to
//! the place before. The third place is the panic button's: whoever presses it
//! never writes where somebody else may be writing.

use std::os::fd::BorrowedFd;
use std::time::Duration;

use nix::time::{ClockId, clock_gettime};
use tipstaff_core::names::address::Family;
use tipstaff_core::names::traffic::TCP;

use super::assembler::{
    Assembler, If, Label, Misfit, Op, R0, R1, R2, R3, R4, R5, R6, R7, R8, R9, STACK, Width,
};
use super::marks::{Marks, Note, jump_if_noted, write_note};
use super::reading::{helper, skb};
use super::sys::{Attach, Cell, ProgramKind};
use super::system;
use super::types::KernelTypes;
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

/// A place of the slots.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum Place {
    /// The two that posts use by turns.
    First = 0,
    Second = 1,
    /// The panic button's.
    Sealed = 2,
}

impl Place {
    pub(super) const ALL: [Self; 3] = [Self::First, Self::Second, Self::Sealed];

    /// Where the next post goes while this one holds.
    pub(super) fn next(self) -> Self {
        match self {
            Self::First => Self::Second,
            Self::Second | Self::Sealed => Self::First,
        }
    }

    pub(super) fn key(self) -> [u8; 4] {
        (self as u32).to_ne_bytes()
    }

    fn of(bits: u64) -> Self {
        match bits & 3 {
            0 => Self::First,
            1 => Self::Second,
            _ => Self::Sealed,
        }
    }
}

/// What the switch says at the moment.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct Turn {
    /// Which place holds.
    pub(super) holds: Place,
    /// The other one of a deadline: which one will hold after it, or held
    /// before it.
    pub(super) other: Place,
    /// How long it does; `None`: until somebody turns the switch.
    pub(super) left: Option<Duration>,
    /// Whether the dispatchers went back by themselves, and nobody has turned
    /// the switch since.
    pub(super) fell_back: bool,
    /// The word itself.
    word: u64,
}

/// Bits of the switch below the deadline.
const PLACES: u64 = 15;

impl Turn {
    /// The switch: bits 0 and 1 the place that holds, 2 and 3 the one that does
    /// after the deadline, above them the deadline in nanoseconds of
    /// CLOCK_BOOTTIME, to 16 nanoseconds; 0 is none.
    fn of(word: u64, now: u64) -> Self {
        let (holds, then) = (Place::of(word), Place::of(word >> 2));
        let deadline = word & !PLACES;
        let turn = Self { holds, other: then, left: None, fell_back: false, word };
        if deadline == 0 {
            turn
        } else if now < deadline {
            Self { left: Some(Duration::from_nanos(deadline - now)), ..turn }
        } else {
            Self { holds: then, other: holds, fell_back: true, ..turn }
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

    /// Lets a place hold for good, whatever the switch says now.
    pub(super) fn set(&self, place: Place) {
        self.0.set(place as u64);
    }

    /// Lets a place hold, for good or for a time, after which another one does;
    /// `false` when the switch was turned since it was read.
    pub(super) fn replace(
        &self,
        read: Turn,
        place: Place,
        for_a_time: Option<(Duration, Place)>,
    ) -> Result<bool, GateError> {
        let word = match for_a_time {
            Some((time, then)) => {
                let deadline = (since_boot()? + time.as_nanos() as u64).max(PLACES + 1) & !PLACES;
                deadline | (then as u64) << 2
            }
            None => 0,
        };
        Ok(self.0.replace(read.word, word | place as u64))
    }
}

/// What a dispatcher tells the program in the slot, in [`skb::TOLD`].
pub(super) mod told {
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
    /// A test run with a note of its own, in [`super::skb::ASKED_NOTE`].
    pub const NOTED: u16 = 16;
}

/// Which dispatcher of an interface.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) enum OuterSide {
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
    pub(super) const ALL: [Self; 5] =
        [Self::In, Self::Out, Self::PortIn, Self::PortOut, Self::UpperIn];

    /// The name of the program, and its pin.
    pub(super) const fn name(self) -> &'static str {
        match self {
            Self::In => "ts_way_in",
            Self::Out => "ts_way_out",
            Self::PortIn => "ts_port_in",
            Self::PortOut => "ts_port_out",
            Self::UpperIn => "ts_upper_in",
        }
    }

    pub(super) const fn attach(self) -> Attach {
        match self {
            Self::In | Self::PortIn | Self::UpperIn => Attach::TcxIngress,
            Self::Out | Self::PortOut => Attach::TcxEgress,
        }
    }
}

/// The dispatcher of a side of an interface.
///
/// # Errors
/// [`Misfit`] if the code does not fit together.
pub(super) fn outer(side: OuterSide, here: Here<'_>) -> Result<Vec<u8>, Misfit> {
    let mut a = Assembler::default();
    let (jump, next) = (a.label(), a.label());
    a.copy(R6, R1);
    match side {
        OuterSide::In => arrives(&mut a, here),
        OuterSide::Out => leaves(&mut a, here, jump, next),
        OuterSide::UpperIn => {
            // What its neighbours on the same parent send it comes straight here.
            for note in [Note::Inbound, Note::Own, Note::Through, Note::Reply] {
                jump_if_noted(&mut a, here.marks, note, next);
            }
            arrives(&mut a, here);
        }
        OuterSide::PortIn => {
            let (alone, stays) = (a.label(), a.label());
            if let Some(types) = here.types {
                types.device(&mut a);
                types.jump_unless_taken(&mut a, alone);
                // What a bridge or bond hands to the stack on the port itself: groups of
                // the link (IEEE 802.1Q table 8-1).
                load_link(&mut a, 0, 6, alone);
                a.load(Width::W, R1, STACK, LINK);
                a.jump32_if(If::Ne, R1, u32::from_ne_bytes([0x01, 0x80, 0xc2, 0]), stays);
                a.load(Width::B, R1, STACK, LINK + 4);
                a.jump_if(If::Ne, R1, 0, stays);
                a.load(Width::B, R1, STACK, LINK + 5);
                a.jump_if(If::Gt, R1, 15, stays);
                a.jump(alone);
                a.place(stays);
                write_note(&mut a, here.marks, None);
                a.jump(next);
            }
            a.place(alone);
            arrives(&mut a, here);
        }
        OuterSide::PortOut => {
            let alone = a.label();
            if let Some(types) = here.types {
                types.device(&mut a);
                types.jump_unless_taken(&mut a, alone);
                jump_if_noted(&mut a, here.marks, Note::Out, next);
                // From another port, or forwarded by the stack, which the master decided.
                a.load(Width::W, R1, R6, skb::CAME_FROM);
                a.jump_if(If::Ne, R1, 0, next);
            }
            a.place(alone);
            leaves(&mut a, here, jump, next);
        }
    }
    a.place(jump);
    into_the_slot(&mut a, here);
    a.place(next);
    a.mov(R0, Hook::Outer.pass());
    a.exit();
    a.finish()
}

/// Where the link header is looked at.
const LINK: i16 = -16;

/// Copies bytes of the link header to the stack.
fn load_link(a: &mut Assembler, offset: i32, length: i32, otherwise: Label) {
    a.store_value(Width::D, STACK, LINK, 0);
    a.copy(R1, R6);
    a.mov(R2, offset);
    a.stack(R3, LINK);
    a.mov(R4, length);
    a.mov(R5, 0); // BPF_HDR_START_MAC
    a.call(helper::LOAD_BYTES_RELATIVE);
    a.jump_if(If::Ne, R0, 0, otherwise);
}

/// A packet on its way in: knocks are told by their number.
fn arrives(a: &mut Assembler, here: Here<'_>) {
    let real = a.label();
    write_note(a, here.marks, None);
    a.mov(R2, 0);
    for (word, at) in [(here.marks.knock as u32, 0), ((here.marks.knock >> 32) as u32, 4)] {
        a.load(Width::W, R1, R6, skb::KNOCK + at);
        a.jump32_if(If::Ne, R1, word, real);
    }
    a.mov(R2, told::KNOCK.into());
    a.place(real);
    a.store(Width::W, R6, skb::TOLD, R2);
}

/// A packet on its way out. On an interface that others share, by hardware
/// addresses of their own, it may be theirs.
fn leaves(a: &mut Assembler, here: Here<'_>, jump: Label, next: Label) {
    const OWN: i16 = LINK - 8;
    a.mov(R1, told::OUTWARDS.into());
    a.store(Width::W, R6, skb::TOLD, R1);
    let Some(types) = here.types else { return };
    types.device(a);
    types.jump_unless_taken(a, jump);
    // Of one that stands on this one, and was decided there; or of another namespace,
    // whose interface may have this one's hardware address (ipvlan).
    jump_if_noted(a, here.marks, Note::Out, next);
    types.jump_if_sent_elsewhere(a, here.cookie, next);
    types.device(a);
    a.store_value(Width::D, STACK, OWN, 0);
    types.hardware_address(a, OWN, jump);
    load_link(a, 6, 6, jump);
    a.load(Width::D, R1, STACK, OWN);
    a.load(Width::D, R2, STACK, LINK);
    a.jump_if_reg(If::Eq, R1, R2, jump);
    // Not this interface's own: this host's own packet sockets may send such.
    types.jump_if_sent_in(a, here.cookie, jump);
    a.jump(next);
}

/// The dispatcher of a hook at the sockets; `outwards` matters to those that
/// see packets.
///
/// # Errors
/// [`Misfit`] if the code does not fit together.
pub(super) fn at_sockets(hook: Hook, outwards: bool, here: Here<'_>) -> Result<Vec<u8>, Misfit> {
    let mut a = Assembler::default();
    let pass = a.label();
    a.copy(R6, R1);
    // A control group has the sockets of all namespaces.
    let of_others = |a: &mut Assembler| {
        a.copy(R1, R6);
        a.call(helper::NAMESPACE_COOKIE);
        a.value64(R1, here.cookie);
        a.jump_if_reg(If::Ne, R0, R1, pass);
    };
    if hook != Hook::Inner {
        of_others(&mut a);
    } else {
        let (guarded, open, done) = (a.label(), a.label(), a.label());
        // The gate's own programs stand at no interface of another namespace: most packets
        // are known by that alone.
        jump_if_guarded(&mut a, outwards, here, guarded);
        of_others(&mut a);
        a.jump(open);
        a.place(guarded);
        if outwards {
            // What a TCP socket sends, its connecting decided, or the outer gate will.
            a.load(Width::D, R1, R6, skb::SOCKET);
            a.jump_if(If::Eq, R1, 0, pass);
            a.call(helper::FULL_SOCKET);
            a.jump_if(If::Eq, R0, 0, pass);
            a.load(Width::W, R1, R0, 12); // bpf_sock.protocol
            a.jump_if(If::Eq, R1, TCP.into(), pass);
            of_others(&mut a);
            // The reach check's own are not counted.
            let counted = a.label();
            a.mov(R2, (told::OUTWARDS | told::EARLY).into());
            a.load(Width::W, R1, R6, skb::MARK);
            a.jump32_if(If::Ne, R1, here.marks.quiet, counted);
            a.mov(R2, (told::OUTWARDS | told::EARLY | told::ASKED).into());
            a.place(counted);
            a.store(Width::W, R6, skb::TOLD, R2);
            a.jump(done);
        } else {
            a.jump(pass);
        }
        a.place(open);
        a.mov(R2, if outwards { told::OUTWARDS.into() } else { 0 });
        a.store(Width::W, R6, skb::TOLD, R2);
        a.place(done);
    }
    into_the_slot(&mut a, here);
    a.place(pass);
    a.mov(R0, hook.pass());
    a.exit();
    a.finish()
}

/// Goes to `guarded` when the gate stands at the very device that the packet
/// is at: a number of an interface may come again, its programs do not. Where
/// programs cannot see that, the number must do.
fn jump_if_guarded(a: &mut Assembler, outwards: bool, here: Here<'_>, guarded: Label) {
    if let Some(types) = here.types {
        let side = if outwards { Attach::TcxEgress } else { Attach::TcxIngress };
        let ids: Vec<u32> =
            here.outer.iter().filter(|(of, _)| of.attach() == side).map(|(_, id)| *id).collect();
        types.device(a);
        types.jump_if_at(a, side, &ids, guarded);
        return;
    }
    a.load(Width::W, R1, R6, skb::INTERFACE);
    a.store(Width::W, STACK, -4, R1);
    a.map(R1, here.guarded);
    a.stack(R2, -4);
    a.call(helper::MAP_LOOKUP);
    a.jump_if(If::Ne, R0, 0, guarded);
}

/// Asks the switch, and jumps to the program that holds. Falls through where
/// its place is empty.
fn into_the_slot(a: &mut Assembler, here: Here<'_>) {
    let jump = a.label();
    a.map_value(R1, here.switch, 0);
    a.load(Width::D, R7, R1, 0);
    a.copy(R8, R7);
    a.op(Op::And, R8, 3);
    a.copy(R9, R7);
    a.op(Op::Rsh, R9, 4);
    a.op(Op::Lsh, R9, 4);
    a.jump_if(If::Eq, R9, 0, jump);
    a.call(helper::BOOT_TIME);
    a.jump_if_reg(If::Lt, R0, R9, jump);
    a.copy(R8, R7);
    a.op(Op::Rsh, R8, 2);
    a.op(Op::And, R8, 3);
    a.place(jump);
    a.copy(R1, R6);
    a.map(R2, here.slot);
    a.copy(R3, R8);
    a.call(helper::TAIL_CALL);
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
    /// The gate's own numbers.
    pub(super) marks: Marks,
    /// What can be read at a packet.
    pub(super) types: Option<KernelTypes>,
    /// The dispatchers at interfaces, with the kernel's numbers of them.
    pub(super) outer: &'m [(OuterSide, u32)],
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn after_its_deadline_the_other_place_holds() {
        let told = |word, now| {
            let turn = Turn::of(word, now);
            (turn.holds, turn.other, turn.left, turn.fell_back)
        };
        use Place::{First, Sealed, Second};
        assert_eq!(told(1, 500), (Second, First, None, false));
        let left = Some(Duration::from_nanos(500));
        assert_eq!(
            told(1_008 & !15 | 1, 508),
            (Second, First, Some(Duration::from_nanos(500)), false)
        );
        assert_eq!(told(1_008 | 2 << 2, 508), (First, Sealed, left, false));
        assert_eq!(told(1_008 | 2 << 2, 1_008), (Sealed, First, None, true));
        assert_eq!(Sealed.next(), First);
    }
}
