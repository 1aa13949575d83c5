//! Where the gate's programs stand, and the switch that says which revision
//! they jump to.
//!
//! Every place carries a small *dispatcher* that stays. It asks the switch
//! which of three places of its *slot* (a program array) holds, and jumps there.
//! A new revision is put into a place that does not hold, in every slot; then
//! the switch is turned: one write of 64 bits, in force everywhere at once. The
//! switch may have a deadline: behind it the dispatchers themselves go back to
//! the place before. The third place is the panic button's: whoever presses it
//! never writes where somebody else may be writing. A fourth one, which never
//! holds, is for what is rehearsed: it sees what has passed, and stops nothing.

use std::os::fd::BorrowedFd;

use tipstaff_bpf::abi::{bpf_sock, hdr_start, helper, skb};
use tipstaff_bpf::asm::{
    AssembleError, Assembler, If, Label, R0, R1, R2, R3, R4, R5, R6, STACK, Width,
};
use tipstaff_bpf::sys::Attach;
use tipstaff_core::names::traffic::TCP;

use crate::kernel::emit::context::{Hook, OuterSide, cb, told};
use crate::kernel::emit::marks::{Marks, Note, jump_if_noted, write_note};
use crate::kernel::emit::namespace::NamespaceOf;
use crate::kernel::emit::slot::{Rehearsed, into_rehearsal, into_what_holds};
use crate::kernel::emit::types::KernelTypes;

/// The dispatcher of a side of an interface.
///
/// # Errors
/// [`AssembleError`] if the code does not fit together.
pub(crate) fn outer(side: OuterSide, here: DispatcherEnv<'_>) -> Result<Vec<u8>, AssembleError> {
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
                types.jump_unless_taken(&mut a, SCRATCH, alone);
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
                types.jump_unless_taken(&mut a, SCRATCH, alone);
                jump_if_noted(&mut a, here.marks, Note::Out, next);
                // From another port, or forwarded by the stack, which the master decided.
                a.load(Width::W, R1, R6, skb::INGRESS_IFINDEX);
                a.jump_if(If::Ne, R1, 0, next);
            }
            a.place(alone);
            leaves(&mut a, here, jump, next);
        }
    }
    a.place(jump);
    into_what_holds(&mut a, here.switch, here.slot);
    // Nothing is in force.
    into_rehearsal(&mut a, Rehearsed { until: here.rehearsal, slot: here.slot });
    a.place(next);
    a.mov(R0, Hook::Outer.pass());
    a.exit();
    a.finish()
}

/// Where the link header is looked at.
const LINK: i16 = -16;
/// 8 bytes for whatever is read on the way to something else.
const SCRATCH: i16 = LINK - 16;

/// Copies bytes of the link header to the stack.
fn load_link(a: &mut Assembler, offset: i32, length: i32, otherwise: Label) {
    a.store_imm(Width::D, STACK, LINK, 0);
    a.copy(R1, R6);
    a.mov(R2, offset);
    a.stack(R3, LINK);
    a.mov(R4, length);
    a.mov(R5, hdr_start::MAC);
    a.call(helper::SKB_LOAD_BYTES_RELATIVE);
    a.jump_if(If::Ne, R0, 0, otherwise);
}

/// A packet on its way in: knocks are told by their number.
fn arrives(a: &mut Assembler, here: DispatcherEnv<'_>) {
    let real = a.label();
    write_note(a, here.marks, None);
    a.mov(R2, 0);
    for (word, at) in [(here.marks.knock as u32, 0), ((here.marks.knock >> 32) as u32, 4)] {
        a.load(Width::W, R1, R6, cb::KNOCK + at);
        a.jump32_if(If::Ne, R1, word, real);
    }
    a.mov(R2, told::KNOCK.into());
    a.place(real);
    a.store(Width::W, R6, cb::TOLD, R2);
}

/// A packet on its way out. On an interface that others share, by hardware
/// addresses of their own, it may be theirs.
fn leaves(a: &mut Assembler, here: DispatcherEnv<'_>, jump: Label, next: Label) {
    const OWN: i16 = LINK - 8;
    a.mov(R1, told::OUTWARDS.into());
    a.store(Width::W, R6, cb::TOLD, R1);
    let Some(types) = here.types else { return };
    types.jump_unless_taken(a, SCRATCH, jump);
    // Of one that stands on this one, and was decided there; or of another namespace,
    // whose interface may have this one's hardware address (ipvlan).
    jump_if_noted(a, here.marks, Note::Out, next);
    types.jump_if_sent_elsewhere(a, here.cookie, SCRATCH, next);
    types.hardware_address(a, OWN, jump);
    load_link(a, 6, 6, jump);
    a.load(Width::D, R1, STACK, OWN);
    a.load(Width::D, R2, STACK, LINK);
    a.jump_if_reg(If::Eq, R1, R2, jump);
    // Not this interface's own: this host's own packet sockets may send such.
    types.jump_if_sent_in(a, here.cookie, SCRATCH, jump);
    a.jump(next);
}

/// The dispatcher of a hook at the sockets; `outwards` matters to those that
/// see packets.
///
/// # Errors
/// [`AssembleError`] if the code does not fit together.
pub(crate) fn at_sockets(
    hook: Hook,
    outwards: bool,
    here: DispatcherEnv<'_>,
) -> Result<Vec<u8>, AssembleError> {
    let mut a = Assembler::default();
    let pass = a.label();
    a.copy(R6, R1);
    if hook != Hook::Inner {
        NamespaceOf::Helper.jump_if_other(&mut a, here.cookie, LINK, pass);
    } else {
        let (guarded, open, done) = (a.label(), a.label(), a.label());
        // The gate's own programs stand at no interface of another namespace: most packets
        // are known by that alone.
        jump_if_guarded(&mut a, outwards, here, guarded);
        here.namespace.jump_if_other(&mut a, here.cookie, LINK, pass);
        a.jump(open);
        a.place(guarded);
        if outwards {
            // What a TCP socket sends, its connecting decided, or the outer gate will.
            a.load(Width::D, R1, R6, skb::SK);
            a.jump_if(If::Eq, R1, 0, pass);
            a.call(helper::SK_FULLSOCK);
            a.jump_if(If::Eq, R0, 0, pass);
            a.load(Width::W, R1, R0, bpf_sock::PROTOCOL);
            a.jump_if(If::Eq, R1, TCP.into(), pass);
            here.namespace.jump_if_other(&mut a, here.cookie, LINK, pass);
            // The reach check's own are not counted.
            let counted = a.label();
            a.mov(R2, (told::OUTWARDS | told::EARLY).into());
            a.load(Width::W, R1, R6, skb::MARK);
            a.jump32_if(If::Ne, R1, here.marks.quiet, counted);
            a.mov(R2, (told::OUTWARDS | told::EARLY | told::ASKED).into());
            a.place(counted);
            a.store(Width::W, R6, cb::TOLD, R2);
            a.jump(done);
        } else {
            a.jump(pass);
        }
        a.place(open);
        a.mov(R2, if outwards { told::OUTWARDS.into() } else { 0 });
        a.store(Width::W, R6, cb::TOLD, R2);
        a.place(done);
    }
    into_what_holds(&mut a, here.switch, here.slot);
    a.place(pass);
    a.mov(R0, hook.pass());
    a.exit();
    a.finish()
}

/// Goes to `guarded` when the gate stands at the very device that the packet
/// is at: a number of an interface may come again, its programs do not. Where
/// programs cannot see that, the number must do.
fn jump_if_guarded(a: &mut Assembler, outwards: bool, here: DispatcherEnv<'_>, guarded: Label) {
    if let Some(types) = here.types.filter(KernelTypes::sees_programs) {
        let side = if outwards { Attach::TcxEgress } else { Attach::TcxIngress };
        let ids: Vec<u32> =
            here.outer.iter().filter(|(of, _)| of.attach() == side).map(|(_, id)| *id).collect();
        types.jump_if_at(a, side, &ids, SCRATCH, guarded);
        return;
    }
    a.load(Width::W, R1, R6, skb::IFINDEX);
    a.store(Width::W, STACK, -4, R1);
    a.map(R1, here.guarded);
    a.stack(R2, -4);
    a.call(helper::MAP_LOOKUP_ELEM);
    a.jump_if(If::Ne, R0, 0, guarded);
}

/// What dispatchers refer to.
#[derive(Clone, Copy)]
pub(crate) struct DispatcherEnv<'m> {
    /// The network namespace.
    pub(crate) cookie: u64,
    /// How the namespace of a packet at the control groups is known.
    pub(crate) namespace: NamespaceOf,
    /// The switch.
    pub(crate) switch: BorrowedFd<'m>,
    /// The slot of the hook.
    pub(crate) slot: BorrowedFd<'m>,
    /// Until when something is rehearsed.
    pub(crate) rehearsal: BorrowedFd<'m>,
    /// The interfaces that have an outer gate.
    pub(crate) guarded: BorrowedFd<'m>,
    /// The gate's own numbers.
    pub(crate) marks: Marks,
    /// What can be read at a packet.
    pub(crate) types: Option<KernelTypes>,
    /// The dispatchers at interfaces, with the kernel's numbers of them.
    pub(crate) outer: &'m [(OuterSide, u32)],
}
