//! The gate's records, read out of their ring. Their layout is that of `emit::events`.

use std::net::{IpAddr, Ipv6Addr};
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};

use tipstaff_bpf::sys::Ring;
use tipstaff_core::bytes::ReadAt;
use tipstaff_core::names::traffic::{ICMP, ICMPV6, TCP, UDP};
use tipstaff_core::orders::Action;
use tipstaff_core::packet::{Direction, InterfaceIndex};
use tipstaff_core::tables::layout::Verdict;

use crate::contract::{Event, GateError, Maker};
use crate::kernel::emit::counters::CounterSlot;
use crate::kernel::emit::events::REHEARSAL;
use crate::kernel::emit::frame::RECORD_BYTES;
use crate::kernel::error::bpf;
use crate::kernel::kept::clock::tai_ahead;

/// Bytes of the ring: some thousand records.
pub const RING_BYTES: u32 = 1 << 20;

/// The reading end.
pub struct Events {
    ring: Ring,
    tai_ahead: i64,
}

impl Events {
    pub(crate) fn open(map: OwnedFd) -> Result<Self, GateError> {
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
    let address = |at: usize| {
        let address = Ipv6Addr::from(record.array_at::<16>(at)?);
        Some(if record[27] == 4 { address.to_canonical() } else { IpAddr::V6(address) })
    };
    let (first, second) = (record.u16_be(28), record.u16_be(30));
    let protocol = record[26];
    let (from, to) = match (protocol, record[27]) {
        (TCP | UDP, _) => (first, second),
        // Each in its own family; in the other one it is a number like any other.
        (ICMP, 4) | (ICMPV6, 6) => (None, first),
        _ => (None, None),
    };
    let time = i64::try_from(record.u64_ne(0)?).ok()? - tai_ahead * 1_000_000_000;
    Some(Event {
        time,
        rehearsed: record[24] & REHEARSAL != 0,
        orders: record[8..16].try_into().ok()?,
        speaker: CounterSlot(record.u32_ne(16)?).speaker()?,
        interface: InterfaceIndex(record.u32_ne(20)?),
        direction: Direction::ALL.into_iter().find(|d| *d as u8 == record[24] & !REHEARSAL)?,
        verdict: Action::ALL
            .into_iter()
            .find(|action| Verdict::action_bits(*action) == record[25])?,
        protocol,
        source: address(32)?,
        destination: address(48)?,
        from,
        to,
        program: Some(Maker {
            inode: record.u64_ne(64)?,
            device: record.u32_ne(72)?,
            process: record.u32_ne(76)?,
        })
        .filter(|maker| maker.inode != 0),
    })
}
