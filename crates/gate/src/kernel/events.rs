//! Decisions as they happen: fixed records in a ring that user space reads.
//! Every decision of a rule with `log = true` is written, and a sample of what
//! the standing answers deny.
//!
//! A record, [`RECORD_BYTES`] long, native byte order unless said otherwise:
//! time (ns, TAI) u64 · first 8 bytes of the orders' hash · counter slot u32 ·
//! interface u32 · direction, action, protocol, family u8 · source and
//! destination port u16 each (network order; type and code of ICMP as the
//! second) · source, destination (16 bytes each, IPv4 as `::ffff:a.b.c.d`) ·
//! the program: inode number u64, device u32, process u32; zeros where none is
//! known.

use std::net::{IpAddr, Ipv6Addr};
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};

use tipstaff_core::names::address::Family;
use tipstaff_core::names::traffic::{ICMP, ICMPV6, TCP, UDP};
use tipstaff_core::orders::Action;
use tipstaff_core::packet::{Direction, InterfaceIndex};
use tipstaff_core::tables::layout::Verdict;

use super::assembler::{Assembler, If, Label, Op, R0, R1, R2, R3, R4, R6, R7, R8, STACK, Width};
use super::bpf;
use super::clock::tai_ahead;
use super::frame::{Flag, at, looks, pending};
use super::hooks::Hook;
use super::label::field;
use super::reading::{address_bytes, destination_offset, helper, skb, source_offset};
use super::sys::Ring;
use super::verdict::{CounterSlot, Parts, count_one};
use super::{limits, sockets};
use crate::{Event, GateError, Maker};

/// Bytes of a record.
pub const RECORD_BYTES: usize = 80;
/// Bytes of the ring: some thousand records.
pub const RING_BYTES: u32 = 1 << 20;
/// What the standing answers deny is recorded 100 times a second at most, 100 at once.
const SAMPLES: (i32, i32) = (10_000_000, 100);

/// What is to be recorded of a decision, on the stack at [`at::LOG`].
pub(super) mod wanted {
    /// Nothing.
    pub const NOTHING: u16 = 0;
    /// It.
    pub const ALL: u16 = 1;
    /// A sample of its like.
    pub const SAMPLE: u16 = 2;
}

/// Begins a packet of a family: no ports known.
pub(super) fn begin(a: &mut Assembler, family: Family) {
    a.store_value(Width::D, STACK, at::TRANSPORT, 0);
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
pub(super) fn record(a: &mut Assembler, hook: Hook, parts: &Parts<'_>) {
    let (write, skipped, done) = (a.label(), a.label(), a.label());
    at::LOG.load(a, R1);
    a.jump_if(If::Eq, R1, Flag::with(wanted::NOTHING), done);
    a.jump_if(If::Eq, R1, Flag::with(wanted::ALL), write);
    let (increment, burst) = SAMPLES;
    // A bucket beside that of the gate's own answers.
    a.store_value(Width::D, STACK, at::BUCKET, 0);
    a.store_value(Width::D, STACK, at::BUCKET + 8, 0);
    a.store_value(Width::D, STACK, at::BUCKET + 16, 1);
    a.store_value(Width::D, STACK, at::INCREMENT, increment);
    a.store_value(Width::D, STACK, at::TOLERANCE, increment * (burst - 1));
    limits::take(a, parts.rates, None, (write, skipped));

    a.place(write);
    sockets::label(a, hook, parts);
    a.call(helper::WALL_TIME);
    a.store(Width::D, STACK, at::RECORD, R0);
    a.value64(R1, u64::from_ne_bytes(parts.orders));
    a.store(Width::D, STACK, at::RECORD + 8, R1);
    a.store(Width::W, STACK, at::RECORD + 16, R7);
    if matches!(hook, Hook::Connect(_)) {
        a.store_value(Width::W, STACK, at::RECORD + 20, 0);
    } else {
        a.load(Width::W, R1, R6, skb::INTERFACE);
        a.store(Width::W, STACK, at::RECORD + 20, R1);
    }
    for (from, to) in [(field::INODE, 64), (field::DEVICE, 72)] {
        a.load(Width::D, R1, STACK, at::LABEL + from);
        a.store(Width::D, STACK, at::RECORD + to, R1);
    }
    at::WAY.number(a, R1);
    a.store(Width::B, STACK, at::RECORD + 24, R1);
    a.store(Width::B, STACK, at::RECORD + 25, R8);
    a.load(Width::W, R1, STACK, at::KEY);
    a.op(Op::Rsh, R1, 16);
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
    a.call(helper::RING_OUTPUT);
    a.jump_if(If::Eq, R0, 0, done);
    count(a, parts, CounterSlot::LOST, done);
    a.place(skipped);
    count(a, parts, CounterSlot::UNRECORDED, done);
    a.place(done);
}

/// Adds one to a counter that belongs to no speaker.
fn count(a: &mut Assembler, parts: &Parts<'_>, slot: u32, done: Label) {
    a.store_value(Width::W, STACK, at::SLOT, slot as i32);
    count_one(a, parts, done);
    a.jump(done);
}

/// The reading end.
pub struct Events {
    ring: Ring,
    tai_ahead: i64,
}

impl Events {
    pub(super) fn open(map: OwnedFd) -> Result<Self, GateError> {
        let ring = Ring::open(map).map_err(bpf("to read the events"))?;
        Ok(Self { ring, tai_ahead: tai_ahead()? })
    }

    /// Everything that is there, in its order.
    pub fn drain(&mut self) -> Vec<Event> {
        let mut events = Vec::new();
        // The kernel may have learnt it meanwhile.
        self.tai_ahead = tai_ahead().unwrap_or(self.tai_ahead);
        let ahead = self.tai_ahead;
        self.ring.drain(|record| events.extend(event(record, ahead)));
        events
    }
}

impl AsFd for Events {
    fn as_fd(&self) -> BorrowedFd<'_> {
        self.ring.as_fd()
    }
}

fn event(record: &[u8], tai_ahead: i64) -> Option<Event> {
    let record: &[u8; RECORD_BYTES] = record.try_into().ok()?;
    let u64_at = |at: usize| Some(u64::from_ne_bytes(record.get(at..at + 8)?.try_into().ok()?));
    let u32_at = |at: usize| Some(u32::from_ne_bytes(record.get(at..at + 4)?.try_into().ok()?));
    let address = |at: usize| {
        let bytes: [u8; 16] = record.get(at..at + 16)?.try_into().ok()?;
        let address = Ipv6Addr::from(bytes);
        Some(if record[27] == 4 { address.to_canonical() } else { IpAddr::V6(address) })
    };
    let (first, second) = ([record[28], record[29]], [record[30], record[31]]);
    let protocol = record[26];
    let (from, to) = match protocol {
        TCP | UDP => (Some(u16::from_be_bytes(first)), Some(u16::from_be_bytes(second))),
        ICMP | ICMPV6 => (None, Some(u16::from_be_bytes(first))),
        _ => (None, None),
    };
    let said = |action: &Action| Verdict::said(*action) == record[25];
    let time = i64::try_from(u64_at(0)?).ok()? - tai_ahead * 1_000_000_000;
    Some(Event {
        time,
        orders: record[8..16].try_into().ok()?,
        speaker: CounterSlot(u32_at(16)?).speaker()?,
        interface: InterfaceIndex(u32_at(20)?),
        direction: Direction::ALL.into_iter().find(|d| *d as u8 == record[24])?,
        verdict: Action::ALL.into_iter().find(said)?,
        protocol,
        source: address(32)?,
        destination: address(48)?,
        from,
        to,
        program: Some(Maker { inode: u64_at(64)?, device: u32_at(72)?, process: u32_at(76)? })
            .filter(|maker| maker.inode != 0),
    })
}
