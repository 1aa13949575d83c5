//! Waiting for something, and for nobody else.

use std::fs;
use std::time::Duration;

/// How long an answer over a cable of one machine may take.
pub const PATIENCE: Duration = Duration::from_millis(250);

/// Waits until something is as it should be. The limit is for what never comes to be: a
/// machine that is busy with other things takes its time.
pub fn in_time(met: impl Fn() -> bool) -> bool {
    let begin = std::time::Instant::now();
    while begin.elapsed() < Duration::from_secs(60) {
        if met() {
            return true;
        }
        std::thread::sleep(Duration::from_millis(20));
    }
    false
}

/// A clock that stands still while the machine is not ours: what other virtual
/// machines took of it, and waiting for its disk, is no time of ours.
pub struct OwnTime {
    begin: std::time::Instant,
    lost: Duration,
}

impl OwnTime {
    pub fn begin() -> Self {
        Self { begin: std::time::Instant::now(), lost: lost() }
    }

    pub fn elapsed(&self) -> Duration {
        self.begin.elapsed().saturating_sub(lost().saturating_sub(self.lost))
    }
}

/// iowait and steal of all processors (proc_stat(5)), in hundredths of a second.
fn lost() -> Duration {
    let text = fs::read_to_string("/proc/stat").unwrap_or_default();
    let fields = text.lines().next().unwrap_or_default().split_whitespace().skip(1);
    let ticks: Vec<u64> = fields.filter_map(|field| field.parse().ok()).collect();
    let of = |at: usize| ticks.get(at).copied().unwrap_or(0);
    Duration::from_millis(10 * (of(4) + of(7)))
}
