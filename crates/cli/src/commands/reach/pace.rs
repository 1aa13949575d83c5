//! How a long check goes on: its pace, its progress, and its end by Ctrl-C.

use std::io::IsTerminal;
use std::time::{Duration, Instant};

use indicatif::{ProgressBar, ProgressDrawTarget, ProgressStyle};
use nix::sys::signal::{SigSet, Signal};
use nix::sys::signalfd::{SfdFlags, SignalFd};

use crate::failure::{Failure, system};

/// From so many knocks on, their progress is shown.
const LONG: usize = 2_000;
/// Every so many knocks it is looked whether the check is to end.
const LOOK: usize = 16;

/// Asked before each knock whether the check goes on.
pub struct Pace {
    bar: ProgressBar,
    between: Option<Duration>,
    begin: Instant,
    knocks: usize,
    signals: SigSet,
    ends: SignalFd,
    ended: bool,
}

impl Pace {
    /// `knocks` in all, at most `a_second`; silent where JSON is wanted or
    /// nobody is there to see it.
    pub fn new(knocks: usize, a_second: Option<u32>, quiet: bool) -> Result<Self, Failure> {
        fn waiting() -> impl FnOnce(std::io::Error) -> Failure {
            system("waiting for signals")
        }
        let mut signals = SigSet::empty();
        signals.add(Signal::SIGINT);
        signals.thread_block().map_err(|e| waiting()(e.into()))?;
        let flags = SfdFlags::SFD_CLOEXEC | SfdFlags::SFD_NONBLOCK;
        let ends = SignalFd::with_flags(&signals, flags).map_err(|e| waiting()(e.into()))?;
        let slow = a_second.is_some_and(|pace| knocks > 2 * pace as usize);
        let seen = std::io::stderr().is_terminal() && !quiet && (knocks >= LONG || slow);
        let target = match seen {
            true => ProgressDrawTarget::stderr(),
            false => ProgressDrawTarget::hidden(),
        };
        let bar = ProgressBar::with_draw_target(Some(knocks as u64), target);
        if let Ok(style) = ProgressStyle::with_template(
            "  {pos} of {len} knocks  {wide_bar}  {eta} left; Ctrl-C shows what is known",
        ) {
            bar.set_style(style.progress_chars("=> "));
        }
        let between = a_second.map(|pace| Duration::from_secs(1) / pace.max(1));
        let begin = Instant::now();
        Ok(Self { bar, between, begin, knocks: 0, signals, ends, ended: false })
    }

    /// Before a knock: waits as the pace says; `false` ends the check.
    pub fn go_on(&mut self) -> bool {
        if let Some(between) = self.between {
            let due = between * u32::try_from(self.knocks).unwrap_or(u32::MAX);
            while !self.is_over() && self.begin.elapsed() < due {
                let left = due.saturating_sub(self.begin.elapsed());
                std::thread::sleep(left.min(Duration::from_millis(50)));
            }
        }
        if self.knocks.is_multiple_of(LOOK) {
            self.bar.set_position(self.knocks as u64);
            self.is_over();
        }
        self.knocks += 1;
        !self.ended
    }

    /// Whether somebody pressed Ctrl-C.
    pub fn is_over(&mut self) -> bool {
        self.ended = self.ended || matches!(self.ends.read_signal(), Ok(Some(_)));
        self.ended
    }
}

impl Drop for Pace {
    fn drop(&mut self) {
        self.bar.finish_and_clear();
        // From here on Ctrl-C ends the program again.
        let _ = self.signals.thread_unblock();
    }
}
