//! Decisions as they happen: fixed records in a ring that user space reads.
//! Every decision of a rule with `log = true` is written, a sample of what else is denied,
//! and what else the level of the log asks for.
//!
//! A record, [`RECORD_BYTES`] long, native byte order unless said otherwise:
//! time (ns, TAI) u64 · first 8 bytes of the orders' hash · counter slot u32 ·
//! interface u32 · direction (with [`REHEARSAL`] where that is one), action, protocol, family u8 · source and
//! destination port u16 each (network order; type and code of ICMP as the
//! second) · source, destination (16 bytes each, IPv4 as `::ffff:a.b.c.d`) ·
//! the program: inode number u64, device u32, process u32; zeros where none is
//! known.

use tipstaff_bpf::abi::{helper, skb};
use tipstaff_bpf::asm::{
    Assembler, Flag, If, Label, Op, R0, R1, R2, R3, R4, R6, R7, R8, STACK, Width,
};
use tipstaff_bpf::parse::{address_bytes, destination_offset, source_offset};
use tipstaff_core::decision::UNRECORDED;
use tipstaff_core::names::address::Family;
use tipstaff_core::orders::LogLevel;
use tipstaff_core::packet::Direction;
use tipstaff_core::tables::layout::Verdict;

use crate::kernel::emit::context::{Hook, Parts, wanted};
use crate::kernel::emit::counters::{CounterSlot, count_one};
use crate::kernel::emit::frame::{RECORD_BYTES, at, looks, pending};
use crate::kernel::emit::owner_tag::field;
use crate::kernel::emit::{owner, rates};

/// What the standing answers deny is recorded 100 times a second at most, 100 at once.
const SAMPLES: (i32, i32) = (10_000_000, 100);

/// On the direction's byte: this was rehearsed.
pub(crate) const REHEARSAL: u8 = 0x80;

/// Begins a packet of a family: no ports known.
pub(crate) fn begin(a: &mut Assembler, family: Family) {
    a.store_imm(Width::D, STACK, at::TRANSPORT, 0);
    let number = match family {
        Family::V4 => 4,
        Family::V6 => 6,
    };
    at::FAMILY.set(a, number);
    at::WAY.set(a, Direction::Inbound as u16);
    at::PENDING.set(a, pending::NOTHING);
    at::ANSWERS.set(a, 0);
    at::LOOKS.set(a, looks::TAKES);
}

/// Writes the record, where one is wanted; r7 the slot, r8 the action. r0 to
/// r5 are lost.
pub(crate) fn record(a: &mut Assembler, hook: Hook, parts: &Parts<'_>) {
    let (write, sample, skipped, done) = (a.label(), a.label(), a.label(), a.label());
    at::LOG.load(a, R1);
    a.jump_if(If::Eq, R1, Flag::with(wanted::ALL), write);
    by_level(a, parts.log_level, Ways { write, sample, done });
    a.place(sample);
    let (increment, burst) = SAMPLES;
    // A bucket beside that of the gate's own answers.
    a.store_imm(Width::D, STACK, at::BUCKET, 0);
    a.store_imm(Width::D, STACK, at::BUCKET + 8, 0);
    a.store_imm(Width::D, STACK, at::BUCKET + 16, 1);
    a.store_imm(Width::D, STACK, at::INCREMENT, increment);
    a.store_imm(Width::D, STACK, at::TOLERANCE, increment * (burst - 1));
    rates::take(a, parts.rates, None, write, skipped);

    a.place(write);
    owner::label(a, hook, parts);
    a.call(helper::KTIME_GET_TAI_NS);
    a.store(Width::D, STACK, at::RECORD, R0);
    a.ld_imm64(R1, u64::from_ne_bytes(parts.orders));
    a.store(Width::D, STACK, at::RECORD + 8, R1);
    a.store(Width::W, STACK, at::RECORD + 16, R7);
    if matches!(hook, Hook::Connect(_)) {
        a.store_imm(Width::W, STACK, at::RECORD + 20, 0);
    } else {
        a.load(Width::W, R1, R6, skb::IFINDEX);
        a.store(Width::W, STACK, at::RECORD + 20, R1);
    }
    for (from, to) in [(field::INODE, 64), (field::DEVICE, 72)] {
        a.load(Width::D, R1, STACK, at::OWNER_TAG + from);
        a.store(Width::D, STACK, at::RECORD + to, R1);
    }
    at::WAY.number(a, R1);
    if parts.is_rehearsal() {
        a.alu64_imm(Op::Or, R1, REHEARSAL.into());
    }
    a.store(Width::B, STACK, at::RECORD + 24, R1);
    a.store(Width::B, STACK, at::RECORD + 25, R8);
    a.load(Width::W, R1, STACK, at::KEY);
    a.alu64_imm(Op::Rsh, R1, 16);
    a.store(Width::B, STACK, at::RECORD + 26, R1);
    at::FAMILY.number(a, R1);
    a.store(Width::B, STACK, at::RECORD + 27, R1);
    // The first four bytes of a transport header: ports, or type and code.
    a.load(Width::W, R2, STACK, at::TRANSPORT);
    a.store(Width::W, STACK, at::RECORD + 28, R2);
    let (four, addresses) = (a.label(), a.label());
    a.jump_if(If::Eq, R1, 4, four);
    let both = |a: &mut Assembler, family: Family| {
        address_bytes(a, family, source_offset(family), at::RECORD + 32);
        address_bytes(a, family, destination_offset(family), at::RECORD + 48);
    };
    both(a, Family::V6);
    a.jump(addresses);
    a.place(four);
    both(a, Family::V4);
    a.place(addresses);
    a.map(R1, parts.events);
    a.stack(R2, at::RECORD);
    a.mov(R3, RECORD_BYTES as i32);
    a.mov(R4, 0);
    a.call(helper::RINGBUF_OUTPUT);
    a.jump_if(If::Eq, R0, 0, done);
    count(a, parts, CounterSlot::LOST, done);
    a.place(skipped);
    count(a, parts, CounterSlot::UNRECORDED, done);
    a.place(done);
}

/// Where a record goes on.
struct Ways {
    write: Label,
    sample: Label,
    done: Label,
}

/// As [`LogLevel::records`] says: what was not let in goes to `sample`.
fn by_level(a: &mut Assembler, level: LogLevel, ways: Ways) {
    let denied = a.label();
    a.jump_if(If::Ne, R8, u16::from(Verdict::ALLOW), denied);
    match level {
        LogLevel::Off | LogLevel::Denied => a.jump(ways.done),
        LogLevel::Rules => {
            a.jump_if(If::Lt, R7, CounterSlot::FIRST_RULE as u16, ways.done);
            a.jump(ways.write);
        }
        LogLevel::All => {
            unrecorded(a, ways.done);
            a.jump(ways.write);
        }
    }
    a.place(denied);
    unrecorded(a, ways.done);
    a.jump(ways.sample);
}

/// Goes on with `done` where the slot in r7 is one of [`UNRECORDED`].
fn unrecorded(a: &mut Assembler, done: Label) {
    for speaker in UNRECORDED {
        a.jump_if(If::Eq, R7, CounterSlot::for_speaker(speaker).0 as u16, done);
    }
}

/// Adds one to a counter that belongs to no speaker.
fn count(a: &mut Assembler, parts: &Parts<'_>, slot: u32, done: Label) {
    a.store_imm(Width::W, STACK, at::SLOT, slot as i32);
    count_one(a, parts, done);
    a.jump(done);
}
