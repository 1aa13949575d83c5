//! One revision in the kernel: a program and the three maps that it holds,
//! tables, counters and the record of its orders. When the program goes, they go.

use std::net::IpAddr;
use std::os::fd::{AsFd, AsRawFd, BorrowedFd, OwnedFd};
use std::time::Duration;

use nix::time::{ClockId, clock_gettime};
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use tipstaff_bpf::abi::skb;
use tipstaff_bpf::sys::{self, MapKind, SKB_CONTEXT, TestRun};
use tipstaff_core::brief::Brief;
use tipstaff_core::bytes::ReadAt;
use tipstaff_core::decision::{Decision, Speaker};
use tipstaff_core::moment::Moment;
use tipstaff_core::orders::{Action, LogLevel, Over, Standing};
use tipstaff_core::packet::{Direction, InterfaceIndex, ProgramIndex};
use tipstaff_core::tables::layout::Verdict;
use tipstaff_core::tables::{Tables, fingerprint};

use crate::contract::{GateError, Posting, Record, Tally, Unrecorded};
use crate::enforceable;
use crate::kernel::emit::context::{FlowMaps, FlowTable, Hook, Parts, cb, told};
use crate::kernel::emit::counters::{CONNECTIONS, COUNTER_BYTES, CounterSlot};
use crate::kernel::emit::marks::Marks;
use crate::kernel::emit::owner::ASKED_PROGRAMS;
use crate::kernel::emit::owner_tag::Secret;
use crate::kernel::emit::shares::Shares;
use crate::kernel::emit::slot::Rehearsed;
use crate::kernel::emit::{connect, filter};
use crate::kernel::error::{bpf, load, misfit, system};
use crate::kernel::kept::counted::Counted;
use crate::kernel::kept::switch::Place;
use crate::kernel::kept::{described, executables};

const TABLES: &str = "ts_tables";
const COUNTERS: &str = "ts_counters";
const RECORD: &str = "ts_record";
const PROGRAMS: &str = "ts_programs";
const OWN: &str = "ts_own";
const MAKE_MAP: &str = "to make a map with bpf(2)";
const FIRST: [u8; 4] = [0; 4];

/// What outlives revisions.
#[derive(Clone, Copy)]
pub(crate) struct SharedMaps<'m> {
    pub(crate) flows: FlowMaps<'m>,
    pub(crate) shares: BorrowedFd<'m>,
    pub(crate) rates: BorrowedFd<'m>,
    pub(crate) events: BorrowedFd<'m>,
    pub(crate) guarded: BorrowedFd<'m>,
    pub(crate) clock: BorrowedFd<'m>,
    /// The owner tags of the sockets.
    pub(crate) owner_tags: Option<BorrowedFd<'m>>,
    /// The secret of their hashes.
    pub(crate) secret: Secret,
    /// The gate's own numbers.
    pub(crate) marks: Marks,
    /// Where what passes is shown to what is rehearsed; `None`: this is that itself.
    pub(crate) rehearsed: Option<Rehearsed<'m>>,
}

pub(crate) struct Revision {
    /// The outer gate's.
    program: OwnedFd,
    /// Those of the other hooks.
    others: Vec<(Hook, OwnedFd)>,
    counters: OwnedFd,
    record: OwnedFd,
    tables: OwnedFd,
    /// The numbers of programs.
    programs: OwnedFd,
}

/// What stands in the map of the record.
#[derive(Serialize)]
struct Written<'r> {
    #[serde(flatten)]
    record: &'r Record,
    tables: String,
    /// What is counted, by which counters are taken over.
    #[serde(flatten)]
    counted: Counted,
}

/// One part of it. Each part is read by itself, and the others are passed over.
#[derive(Deserialize)]
struct PostedTables {
    #[serde(default)]
    tables: Option<String>,
}

/// Seconds since 1970-01-01 UTC.
fn now() -> Result<Moment, GateError> {
    let clock = clock_gettime(ClockId::CLOCK_REALTIME);
    let time = clock.map_err(|e| system("reading the clock")(e.into()))?;
    Ok(Moment(u32::try_from(time.tv_sec()).unwrap_or(u32::MAX)))
}

fn reading() -> impl FnOnce(std::io::Error) -> GateError {
    bpf("to read what is in force")
}

/// Whether anything may be kept from going that way.
pub(crate) fn restricts(brief: &Brief, direction: Direction) -> bool {
    brief.standing.of(direction) != Action::Allow
        || brief.rules().any(|rule| rule.is_active_in(direction))
}

/// A map of keys that the revision looks up, filled.
fn filled<const N: usize>(name: &str, entries: &[([u8; N], u32)]) -> Result<OwnedFd, GateError> {
    let room = entries.len().max(1) as u32;
    let map = sys::map_create(MapKind::Hash, name, N as u32, 4, room).map_err(bpf(MAKE_MAP))?;
    for (key, value) in entries {
        sys::map_update(map.as_fd(), key, &value.to_ne_bytes()).map_err(bpf("to fill a map"))?;
    }
    Ok(map)
}

/// This host's own addresses, IPv4 as `::ffff:a.b.c.d`.
fn keys_of_addresses(own: &[IpAddr]) -> Vec<([u8; 16], u32)> {
    own.iter()
        .map(|address| match address {
            IpAddr::V4(four) => (four.to_ipv6_mapped().octets(), 1),
            IpAddr::V6(six) => (six.octets(), 1),
        })
        .collect()
}

/// Whether any decision of the list is recorded.
fn records(brief: &Brief) -> bool {
    let Standing { inbound, outbound, transit } = brief.standing;
    let mut standing = [inbound, outbound, transit].into_iter();
    brief.log_level > LogLevel::Denied
        || standing.any(|said| said != Action::Allow)
        || brief.rules().any(|r| r.log || r.action != Action::Allow || r.at_most.is_some())
}

/// A counter of all processors.
fn sum(copies: &[u8]) -> Tally {
    let mut tally = Tally::default();
    for copy in copies.chunks_exact(COUNTER_BYTES as usize) {
        tally.packets += copy.u64_ne(0).unwrap_or_default();
        tally.bytes += copy.u64_ne(8).unwrap_or_default();
        tally.connections += copy.u64_ne(CONNECTIONS as usize).unwrap_or_default();
    }
    tally
}

/// Whether a rule or a standing answer of the list says "refuse".
fn refuses(brief: &Brief) -> bool {
    let Standing { inbound, outbound, transit } = brief.standing;
    [inbound, outbound, transit].contains(&Action::Refuse)
        || brief.rules().any(|rule| {
            rule.action == Action::Refuse || rule.at_most.is_some() && rule.over == Over::Refuse
        })
}

impl Revision {
    /// Loads everything; nothing is in force yet.
    pub(crate) fn load(
        posting: &Posting<'_>,
        memories: SharedMaps<'_>,
        hooks: &[Hook],
        before: Option<&Self>,
    ) -> Result<Self, GateError> {
        enforceable::check(posting.brief)?;
        // Which files programs are is seen now, in one go with their keys.
        let executables =
            executables::executables(posting.brief.programs_written(), posting.brief.program_exact);
        let brief = &posting.brief.clone().with_executables(executables);
        let keys = match memories.owner_tags {
            Some(_) => executables::keys_of(brief, memories.secret),
            None => Vec::new(),
        };
        let programs = filled(PROGRAMS, &keys)?;
        let own = filled(OWN, &keys_of_addresses(&brief.own))?;
        let building = tracing::info_span!("building the tables").entered();
        let built = Tables::build(brief)?;
        drop(building);
        let layout = built.layout();
        let single = |name, value: &[u8]| {
            let map = sys::map_create(MapKind::Array, name, 4, value.len() as u32, 1)
                .map_err(bpf(MAKE_MAP))?;
            sys::map_update(map.as_fd(), &FIRST, value).map_err(bpf("to fill a map"))?;
            Ok::<_, GateError>(map)
        };
        let tables = single(TABLES, built.bytes())?;
        let slots = CounterSlot::count(layout.rules);
        let counters = sys::map_create(MapKind::PerCpuArray, COUNTERS, 4, COUNTER_BYTES, slots)
            .map_err(bpf(MAKE_MAP))?;
        // A record of another version cannot be read; then counting begins anew.
        let old = before.and_then(|before| before.counted().ok());
        let written = Written {
            record: &posting.record,
            tables: fingerprint(built.bytes()),
            counted: Counted::of(brief, old.as_ref(), now()?),
        };
        let text =
            serde_json::to_vec(&written).map_err(|e| GateError::UnreadableRecord(e.to_string()))?;
        let record = single(RECORD, &text)?;
        let parts = Parts {
            tables: tables.as_fd(),
            layout,
            counters: counters.as_fd(),
            flows: FlowTable {
                maps: memories.flows,
                stamps: brief.stamps(),
                shares: Shares { map: memories.shares, room: brief.memory.flows },
            },
            sources: brief.memory.sources,
            marks: memories.marks,
            types: described::at_packets(),
            rates: memories.rates,
            events: memories.events,
            owner_tags: memories.owner_tags,
            programs: programs.as_fd(),
            own: own.as_fd(),
            own_addresses: &brief.own,
            guarded: memories.guarded,
            program_exact: brief.program_exact,
            restricts_inbound: restricts(brief, Direction::Inbound),
            restricts_transit: restricts(brief, Direction::Transit),
            records: records(brief),
            log_level: brief.log_level,
            orders: posting.record.hash().first(),
            standing: brief.standing,
            refuses: refuses(brief),
            restricts_outbound: restricts(brief, Direction::Outbound),
            foundations: brief.foundations,
            clock: memories.clock,
            rehearsed: memories.rehearsed,
        };
        let made = |hook: Hook| {
            let _doing = tracing::info_span!("the kernel checks a program").entered();
            let code = match hook {
                Hook::Outer | Hook::Inner => filter::program(hook, &parts),
                Hook::Connect(family) => connect::program(family, &parts),
            };
            load(hook.kind(), hook.attach(), "ts_verdict", &code.map_err(misfit)?)
        };
        // The verifier's work is most of a post: both sides at once.
        let (program, others) = std::thread::scope(|scope| {
            let others = hooks.iter().filter(|hook| **hook != Hook::Outer);
            let others = scope.spawn(|| {
                others.map(|hook| Ok((*hook, made(*hook)?))).collect::<Result<Vec<_>, GateError>>()
            });
            let program = made(Hook::Outer);
            (program, others.join().unwrap_or_else(|panic| std::panic::resume_unwind(panic)))
        });
        let (program, others) = (program?, others?);
        // Whether the code names them or not.
        for map in [&record, &tables, &programs] {
            sys::program_bind_map(program.as_fd(), map.as_fd())
                .map_err(bpf("to keep the record with the program"))?;
        }
        Ok(Self { program, others, counters, record, tables, programs })
    }

    /// The revision in a place of the outer gate's slot; `None` when it is empty.
    pub(crate) fn in_slot(slot: BorrowedFd<'_>, place: Place) -> Result<Option<Self>, GateError> {
        let mut id = [0; 4];
        if !sys::map_lookup(slot, &place.key(), &mut id).map_err(reading())? {
            return Ok(None);
        }
        let program = sys::program_by_id(u32::from_ne_bytes(id)).map_err(reading())?;
        let (mut counters, mut record, mut tables, mut programs) = (None, None, None, None);
        for id in sys::program_maps(program.as_fd()).map_err(reading())? {
            let map = sys::map_by_id(id).map_err(reading())?;
            match sys::map_info(map.as_fd()).map_err(reading())?.name.as_str() {
                COUNTERS => counters = Some(map),
                RECORD => record = Some(map),
                TABLES => tables = Some(map),
                PROGRAMS => programs = Some(map),
                _ => {}
            }
        }
        match (counters, record, tables, programs) {
            (Some(counters), Some(record), Some(tables), Some(programs)) => {
                let others = Vec::new();
                Ok(Some(Self { program, others, counters, record, tables, programs }))
            }
            _ => Err(GateError::UnreadableRecord("its program holds other maps".into())),
        }
    }

    /// Puts this revision into a place of the slots. It is in force once the
    /// switch is turned to that place. A hook that it has no program for passes.
    pub(crate) fn enter(&self, slots: &[(Hook, OwnedFd)], place: Place) -> Result<(), GateError> {
        for (hook, slot) in slots {
            let program = match hook {
                Hook::Outer => Some(&self.program),
                other => self.others.iter().find(|(hook, _)| hook == other).map(|(_, p)| p),
            };
            let Some(program) = program else {
                Self::leave(slot.as_fd(), place)?;
                continue;
            };
            let fd = program.as_raw_fd().to_ne_bytes();
            sys::map_update(slot.as_fd(), &place.key(), &fd)
                .map_err(bpf("to put the orders in force"))?;
        }
        Ok(())
    }

    /// Empties a place of a slot: while it holds, everything passes there.
    pub(crate) fn leave(slot: BorrowedFd<'_>, place: Place) -> Result<(), GateError> {
        sys::map_delete(slot, &place.key())
            .map(drop)
            .map_err(bpf("to take the orders out of force"))
    }

    /// The one value of a map.
    fn value(map: &OwnedFd) -> Result<Vec<u8>, GateError> {
        let size = sys::map_info(map.as_fd()).map_err(reading())?.value as usize;
        let mut value = vec![0; size];
        sys::map_lookup(map.as_fd(), &FIRST, &mut value).map_err(reading())?;
        Ok(value)
    }

    pub(crate) fn record(&self) -> Result<Record, GateError> {
        self.written()
    }

    /// A part of what stands in the map of the record.
    fn written<T: DeserializeOwned>(&self) -> Result<T, GateError> {
        serde_json::from_slice(&Self::value(&self.record)?)
            .map_err(|e| GateError::UnreadableRecord(e.to_string()))
    }

    /// Whether the tables in the kernel are still those that were posted.
    pub(crate) fn is_intact(&self) -> Result<bool, GateError> {
        let written: PostedTables = self.written()?;
        let now = fingerprint(&Self::value(&self.tables)?);
        Ok(written.tables.is_some_and(|posted| posted == now))
    }

    /// Whether the programs that a list names are still the files that they
    /// were when it was posted.
    pub(crate) fn knows_programs(&self, brief: &Brief, secret: Secret) -> Result<bool, GateError> {
        let files = executables::executables(brief.programs_written(), brief.program_exact);
        let now = executables::keys_of(&brief.clone().with_executables(files), secret);
        let posted = sys::map_keys(self.programs.as_fd()).map_err(reading())?;
        Ok(now.len() == posted.len() && now.iter().all(|(key, _)| posted.iter().any(|p| p == key)))
    }

    fn each_counter(&self) -> Result<Vec<(CounterSlot, Tally)>, GateError> {
        let mut counters = Vec::new();
        let read = sys::array_values(self.counters.as_fd(), |slot, copies| {
            counters.push((CounterSlot(slot), sum(copies)));
        });
        read.map_err(bpf("to read the counters"))?;
        Ok(counters)
    }

    pub(crate) fn unrecorded(&self) -> Result<Unrecorded, GateError> {
        let processors = sys::possible_processors().map_err(bpf("to read the counters"))?;
        let of = |slot: u32| {
            let mut copies = vec![0; COUNTER_BYTES as usize * processors];
            let found = sys::map_lookup(self.counters.as_fd(), &slot.to_ne_bytes(), &mut copies);
            found.map_err(bpf("to read the counters"))?;
            Ok::<_, GateError>(sum(&copies).packets)
        };
        Ok(Unrecorded { left_out: of(CounterSlot::UNRECORDED)?, lost: of(CounterSlot::LOST)? })
    }

    pub(crate) fn tallies(&self) -> Result<Vec<(Speaker, Tally)>, GateError> {
        let counters = self.each_counter()?;
        Ok(counters.into_iter().filter_map(|(slot, t)| Some((slot.speaker()?, t))).collect())
    }

    /// What is counted here, and since when.
    pub(crate) fn counted(&self) -> Result<Counted, GateError> {
        self.written()
    }

    /// Goes on counting where the revision before stands: foundations, standing
    /// answers that say the same, and rules of the same name and meaning.
    pub(crate) fn take_over_tallies(&self, before: &Self) -> Result<(), GateError> {
        let Ok(old) = before.counted() else { return Ok(()) };
        let new = self.counted()?;
        let places = new.places();
        let processors = sys::possible_processors().map_err(bpf("to read the counters"))?;
        for (slot, tally) in before.each_counter()? {
            let slot = match slot.speaker() {
                Some(speaker) => new.place(&places, &old, speaker).map(CounterSlot::for_speaker),
                // Whoever reads the records knows by them what it has not seen.
                None => CounterSlot::OF_RECORDS.contains(&slot.0).then_some(slot),
            };
            let Some(slot) = slot.filter(|_| tally != Tally::default()) else { continue };
            let mut copies = vec![0u8; COUNTER_BYTES as usize * processors];
            let first = [tally.packets, tally.bytes, tally.connections].map(u64::to_ne_bytes);
            copies[..COUNTER_BYTES as usize].copy_from_slice(first.as_flattened());
            sys::map_update(self.counters.as_fd(), &slot.0.to_ne_bytes(), &copies)
                .map_err(bpf("to take the counters over"))?;
        }
        Ok(())
    }

    /// Runs the program on a frame without traffic and without counting.
    pub(crate) fn ask(
        &self,
        interface: InterfaceIndex,
        way: Direction,
        program: Option<ProgramIndex>,
        frame: &[u8],
        repeat: u32,
    ) -> Result<(Decision, Duration), GateError> {
        let asked = program.map_or(0, |program| program.0.wrapping_add(ASKED_PROGRAMS));
        let (decision, run, _) = self.run(interface, way, frame, repeat, Some(asked))?;
        Ok((decision, run.duration))
    }

    /// Runs the program on a frame as if it had arrived, or left. What it would
    /// answer comes back beside the decision.
    pub(crate) fn play(
        &self,
        interface: InterfaceIndex,
        way: Direction,
        frame: &[u8],
    ) -> Result<(Decision, Vec<u8>), GateError> {
        let (decision, run, out) = self.run(interface, way, frame, 1, None)?;
        // TCX_REDIRECT: what stands in the buffer now is the answer.
        Ok((decision, if run.returned == 7 { out } else { Vec::new() }))
    }

    /// Runs the program on a frame that this host forwards, as it leaves;
    /// whether it passes. `noted`: how it was decided where it came in.
    pub(crate) fn forward(
        &self,
        from: InterfaceIndex,
        to: InterfaceIndex,
        frame: &[u8],
        noted: Option<u16>,
    ) -> Result<bool, GateError> {
        let mut context = Context::new(told::OUTWARDS | told::NOTED);
        context.set(skb::IFINDEX, to.0);
        context.set(skb::INGRESS_IFINDEX, from.0);
        context.set(cb::ASKED_NOTE, noted.unwrap_or_default().into());
        let (run, _) = sys::test_run_skb(self.program.as_fd(), frame, &mut context.0, 1)
            .map_err(bpf("to ask the gate by a test run"))?;
        Ok(run.returned == Hook::Outer.pass() as u32)
    }

    fn run(
        &self,
        interface: InterfaceIndex,
        way: Direction,
        frame: &[u8],
        repeat: u32,
        asked: Option<u32>,
    ) -> Result<(Decision, TestRun, Vec<u8>), GateError> {
        let mut flags = if asked.is_some() { told::ASKED } else { 0 };
        if way == Direction::Outbound {
            flags |= told::OUTWARDS;
        }
        let mut context = Context::new(flags);
        context.set(skb::IFINDEX, interface.0);
        context.set(cb::ASKED_PROGRAM, asked.unwrap_or_default());
        if way != Direction::Outbound {
            context.set(skb::INGRESS_IFINDEX, interface.0);
        }
        let (run, out) = sys::test_run_skb(self.program.as_fd(), frame, &mut context.0, repeat)
            .map_err(bpf("to ask the gate by a test run"))?;
        let speaker =
            CounterSlot(context.get(cb::SLOT)).speaker().unwrap_or(Speaker::CorruptTables);
        let said = context.get(cb::ACTION);
        let verdict = Action::ALL.into_iter().find(|a| u32::from(Verdict::action_bits(*a)) == said);
        let verdict = verdict.unwrap_or(Action::Deny);
        Ok((Decision { verdict, speaker }, run, out))
    }
}

/// The `__sk_buff` of a test run.
struct Context([u8; SKB_CONTEXT]);

impl Context {
    /// What a dispatcher would have told.
    fn new(flags: u16) -> Self {
        let mut context = Self([0; SKB_CONTEXT]);
        context.set(cb::TOLD, flags.into());
        context
    }

    fn set(&mut self, at: i16, value: u32) {
        let at = at as usize;
        self.0[at..at + 4].copy_from_slice(&value.to_ne_bytes());
    }

    fn get(&self, at: i16) -> u32 {
        let at = at as usize;
        u32::from_ne_bytes([self.0[at], self.0[at + 1], self.0[at + 2], self.0[at + 3]])
    }
}
