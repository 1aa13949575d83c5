//! The memories: maps that forget what was not used for longest. They outlive posts,
//! and change their size when the orders say so.

use std::os::fd::{AsFd, OwnedFd};
use std::{fs, io};

use tipstaff_bpf::sys::{self, MapKind};
use tipstaff_core::decision::{flows, shares};
use tipstaff_core::orders::Memory;

use crate::contract::GateError;
use crate::kernel::emit::frame::{BUCKET_BYTES, FLOW_BYTES, FLOW_VALUE_BYTES};
use crate::kernel::emit::shares::SHARE_BYTES;
use crate::kernel::error::bpf;
use crate::kernel::kept::pins::{Made, Pins};

/// What stands before the name of a memory that is to take another one's place.
const RESIZED: &str = "new-";

/// What stands before the names of a rehearsal's memories.
const REHEARSAL: &str = "rehearsal-";

/// Whose memories.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum Whose {
    /// Of what is in force, and of what may replace it.
    Posted {
        /// Whether they may change their size.
        may_resize: bool,
    },
    /// Of what is rehearsed.
    Rehearsed {
        /// They begin as copies, so that it knows what goes on.
        anew: bool,
    },
}

/// The maps that forget what was not used for longest.
pub(crate) struct MemoryMaps {
    /// In the order of [`super::flows::FlowMaps`].
    pub(crate) answered: OwnedFd,
    pub(crate) unanswered: OwnedFd,
    pub(crate) let_in: OwnedFd,
    pub(crate) fragments: OwnedFd,
    /// What sources took of rates.
    pub(crate) rates: OwnedFd,
    /// What networks added of late.
    pub(crate) shares: OwnedFd,
}

/// A memory as it should be: bytes of a key and of a value, and room for entries.
#[derive(Clone, Copy)]
struct Wanted {
    pin: &'static str,
    name: &'static str,
    key: u32,
    value: u32,
    room: u32,
}

fn copying() -> impl FnOnce(io::Error) -> GateError {
    bpf("to copy what the gate remembers")
}

/// Copies what is remembered, as far as there is room.
fn copy(old: &OwnedFd, new: &OwnedFd, wanted: Wanted) -> Result<(), GateError> {
    let mut held = vec![0; wanted.value as usize];
    for key in sys::map_keys(old.as_fd()).map_err(copying())?.iter().take(wanted.room as usize) {
        if sys::map_lookup(old.as_fd(), key, &mut held).map_err(copying())? {
            sys::map_update(new.as_fd(), key, &held).map_err(copying())?;
        }
    }
    Ok(())
}

impl Pins {
    /// The memories, each with the room that the orders give it. One that has
    /// other room is copied into a new one, whose pin takes the place of the old
    /// one's by [`Self::resize`].
    pub(crate) fn memories_or_new(
        &self,
        memory: Memory,
        whose: Whose,
        made: &mut Made<'_>,
    ) -> Result<MemoryMaps, GateError> {
        let Memory { flows, sources } = memory;
        let flow = Wanted {
            pin: "flows",
            name: "ts_flows",
            key: FLOW_BYTES,
            value: FLOW_VALUE_BYTES,
            room: flows,
        };
        let unanswered = Wanted { pin: "flows-unanswered", name: "ts_flows_half", ..flow };
        let let_in = Wanted { pin: "flows-let-in", name: "ts_flows_in", ..flow };
        let room = flows::FRAGMENTS as u32;
        let fragments = Wanted { pin: "fragments", name: "ts_fragments", room, ..flow };
        let room = sources;
        let rates = Wanted { pin: "rates", name: "ts_rates", key: BUCKET_BYTES, value: 8, room };
        let room = shares::CAPACITY as u32;
        let shares = Wanted { pin: "shares", name: "ts_shares", key: SHARE_BYTES, value: 8, room };
        let mut one = |wanted| match whose {
            Whose::Posted { may_resize } => self.memory(wanted, may_resize, made),
            Whose::Rehearsed { anew } => self.rehearsed_memory(wanted, anew, made),
        };
        Ok(MemoryMaps {
            answered: one(flow)?,
            unanswered: one(unanswered)?,
            let_in: one(let_in)?,
            fragments: one(fragments)?,
            rates: one(rates)?,
            shares: one(shares)?,
        })
    }

    fn memory(
        &self,
        wanted: Wanted,
        may_resize: bool,
        made: &mut Made<'_>,
    ) -> Result<OwnedFd, GateError> {
        let Wanted { pin, name, key, value, room } = wanted;
        let new = || sys::map_create(MapKind::LruHash, name, key, value, room);
        let Some(old) = self.open(pin)? else { return self.map_or_new(pin, new, made) };
        let info = sys::map_info(old.as_fd()).map_err(bpf("to look at a map"))?;
        if info.entries == room || !may_resize {
            return Ok(old);
        }
        let new = new().map_err(bpf("to make a map with bpf(2)"))?;
        copy(&old, &new, wanted)?;
        let beside = self.folder.join(format!("{RESIZED}{pin}"));
        // A post that was cut off may have left one.
        let _ = fs::remove_file(&beside);
        sys::pin(new.as_fd(), &beside).map_err(bpf("to pin the gate"))?;
        made.paths.push(beside);
        Ok(new)
    }

    fn rehearsed_memory(
        &self,
        wanted: Wanted,
        anew: bool,
        made: &mut Made<'_>,
    ) -> Result<OwnedFd, GateError> {
        let Wanted { pin, name, key, value, room } = wanted;
        let own = format!("{REHEARSAL}{pin}");
        if anew {
            // What is rehearsed until then has its own whether it is pinned or not.
            self.forget(&own);
        } else if let Some(known) = self.open(&own)? {
            return Ok(known);
        }
        let new = || sys::map_create(MapKind::LruHash, name, key, value, room);
        let new = self.map_or_new(&own, new, made)?;
        if let Some(old) = self.open(pin)? {
            copy(&old, &new, wanted)?;
        }
        Ok(new)
    }

    /// Forgets what a rehearsal remembered.
    pub(crate) fn forget_rehearsal(&self) {
        for path in self.all().unwrap_or_default() {
            let name = path.file_name().and_then(|name| name.to_str());
            if name.is_some_and(|name| name.starts_with(REHEARSAL)) {
                let _ = fs::remove_file(path);
            }
        }
    }

    /// The memories that were made anew take the places of those before.
    pub(crate) fn resize(&self, made: &Made<'_>) {
        for path in &made.paths {
            let name = path.file_name().and_then(|name| name.to_str());
            if let Some(pin) = name.and_then(|name| name.strip_prefix(RESIZED)) {
                // What is in force has them whether they are pinned or not.
                let _ = fs::rename(path, self.folder.join(pin));
            }
        }
    }
}
