//! The switch, which says what part of the slots is in force.

use std::os::fd::BorrowedFd;
use std::time::Duration;

use nix::time::{ClockId, clock_gettime};
use tipstaff_bpf::sys::Cell;

use crate::contract::{GateError, Left};
use crate::kernel::emit::slot::REHEARSED;
use crate::kernel::error::system;

/// A place of the slots.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Place {
    /// The two that posts use by turns.
    First = 0,
    Second = 1,
    /// The panic button's.
    Sealed = 2,
    /// What is rehearsed; the switch never names it.
    Rehearsed = REHEARSED as isize,
}

impl Place {
    pub(crate) const ALL: [Self; 4] = [Self::First, Self::Second, Self::Sealed, Self::Rehearsed];

    /// Where the next post goes while this one holds.
    pub(crate) fn next(self) -> Self {
        match self {
            Self::First => Self::Second,
            Self::Second | Self::Sealed | Self::Rehearsed => Self::First,
        }
    }

    pub(crate) fn key(self) -> [u8; 4] {
        (self as u32).to_ne_bytes()
    }

    fn from_bits(bits: u64) -> Self {
        match bits & 3 {
            0 => Self::First,
            1 => Self::Second,
            _ => Self::Sealed,
        }
    }
}

/// What the switch says at the moment.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct SwitchState {
    /// Which place holds.
    pub(crate) holds: Place,
    /// The other one of a deadline: which one will hold after it, or held
    /// before it.
    pub(crate) other: Place,
    /// How long it does; `None`: until somebody turns the switch.
    pub(crate) left: Option<Duration>,
    /// Whether the dispatchers went back by themselves, and nobody has turned
    /// the switch since.
    pub(crate) fell_back: bool,
    /// The word itself.
    word: u64,
}

/// Bits of the switch below the deadline.
const PLACES: u64 = 15;

impl SwitchState {
    /// The switch: bits 0 and 1 the place that holds, 2 and 3 the one that does
    /// after the deadline, above them the deadline in nanoseconds of
    /// CLOCK_BOOTTIME, to 16 nanoseconds; 0 is none.
    fn from_word(word: u64, now: u64) -> Self {
        let (holds, then) = (Place::from_bits(word), Place::from_bits(word >> 2));
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
pub(crate) struct Switch(Cell);

impl Switch {
    pub(crate) fn open(map: BorrowedFd<'_>) -> Result<Self, GateError> {
        Cell::open(map).map(Self).map_err(system("mapping the gate's switch"))
    }

    pub(crate) fn turn(&self) -> Result<SwitchState, GateError> {
        Ok(SwitchState::from_word(self.0.get(), since_boot()?))
    }

    /// Lets a place hold for good, whatever the switch says now.
    pub(crate) fn set(&self, place: Place) {
        self.0.set(place as u64);
    }

    /// Lets a place hold, for good or for a time, after which another one does;
    /// `false` when the switch was turned since it was read.
    pub(crate) fn replace(
        &self,
        read: SwitchState,
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

/// Until when something is rehearsed.
pub(crate) struct RehearsalTime(Cell);

impl RehearsalTime {
    pub(crate) fn open(map: BorrowedFd<'_>) -> Result<Self, GateError> {
        Cell::open(map).map(Self).map_err(system("mapping the time of a rehearsal"))
    }

    /// From now on, for so long; `None`: until it is ended.
    pub(crate) fn begin(&self, time: Option<Duration>) -> Result<(), GateError> {
        let until = match time {
            Some(time) => since_boot()?.saturating_add(time.as_nanos() as u64).max(1),
            None => u64::MAX,
        };
        self.0.set(until);
        Ok(())
    }

    pub(crate) fn end(&self) {
        self.0.set(0);
    }

    pub(crate) fn left(&self) -> Result<Left, GateError> {
        Ok(match self.0.get() {
            u64::MAX => Left::UntilEnded,
            until => match until.checked_sub(since_boot()?) {
                None | Some(0) => Left::Over,
                Some(left) => Left::For(Duration::from_nanos(left)),
            },
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn after_its_deadline_the_other_place_holds() {
        let told = |word, now| {
            let turn = SwitchState::from_word(word, now);
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
