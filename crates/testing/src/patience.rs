//! Waiting for something, and for nobody else.

use std::fs;
use std::time::{Duration, Instant};

/// How long an answer over a cable of one machine may take.
pub const PATIENCE: Duration = Duration::from_millis(250);

/// Waits until something is as it should be. The limit is for what never comes to be: a
/// machine that is busy with other things takes its time.
pub fn in_time(met: impl Fn() -> bool) -> bool {
    let begin = Instant::now();
    waits(met, || begin.elapsed() < LONGEST)
}

/// Whether the processor is emulated, which `lab/run` tells: everything takes ten times as
/// long or more.
pub fn is_emulated() -> bool {
    std::env::var_os("LAB").is_some()
}

/// A duration, twenty times as long where the processor is emulated.
pub fn stretched(duration: Duration) -> Duration {
    duration * if is_emulated() { 20 } else { 1 }
}

/// Waits until something is as it should be; a second of [`OwnTime`] at most, twenty where
/// the processor is emulated.
pub fn within_a_second(met: impl Fn() -> bool) -> bool {
    let second = stretched(Duration::from_secs(1));
    let (begin, own) = (Instant::now(), OwnTime::begin());
    waits(met, || own.elapsed() < second && begin.elapsed() < LONGEST)
}

/// Longer is waited for nothing.
const LONGEST: Duration = Duration::from_secs(60);

fn waits(met: impl Fn() -> bool, go_on: impl Fn() -> bool) -> bool {
    while go_on() {
        if met() {
            return true;
        }
        std::thread::sleep(Duration::from_millis(20));
    }
    false
}

/// A clock that stands still while the machine is not ours: what other virtual
/// machines took of it, waiting for its disk, and the time in which anything waited for a
/// processor, as other tests and programs had them all, is no time of ours.
pub struct OwnTime {
    begin: Instant,
    lost: Duration,
}

impl OwnTime {
    pub fn begin() -> Self {
        Self { begin: Instant::now(), lost: lost() }
    }

    pub fn elapsed(&self) -> Duration {
        self.begin.elapsed().saturating_sub(lost().saturating_sub(self.lost))
    }
}

/// iowait and steal of all processors (proc_stat(5)), in hundredths of a second, and how long
/// anything has waited for a processor (Documentation/accounting/psi.rst), in microseconds,
/// where the kernel tells.
fn lost() -> Duration {
    let text = fs::read_to_string("/proc/stat").unwrap_or_default();
    let fields = text.lines().next().unwrap_or_default().split_whitespace().skip(1);
    let ticks: Vec<u64> = fields.filter_map(|field| field.parse().ok()).collect();
    let of = |at: usize| ticks.get(at).copied().unwrap_or(0);
    let pressure = fs::read_to_string("/proc/pressure/cpu").unwrap_or_default();
    let waited = pressure.split_whitespace().find_map(|word| word.strip_prefix("total="));
    let waited = waited.and_then(|total| total.parse().ok()).unwrap_or(0);
    Duration::from_millis(10 * (of(4) + of(7))) + Duration::from_micros(waited)
}
