//! A TCP connection of this host, as its socket would know it.

use std::time::Duration;

use crate::packet::TcpFlags;

/// A connection that nobody closes is forgotten after so long (RFC 5382 section 5).
const AGE: Duration = Duration::from_secs(2 * 3_600 + 4 * 60);

/// What is known of one; nothing, before any packet of it was seen.
#[derive(Clone, Copy, Debug, Default)]
pub(super) struct Connection(Option<State>);

#[derive(Clone, Copy, Debug)]
struct State {
    /// When something was last seen of it.
    at: Duration,
    /// Whether it is over, or never was: it was reset, or not let in.
    over: bool,
}

impl Connection {
    /// Whether a packet belongs to it. A connection of which nothing was seen before was
    /// open when the capture began, unless this packet asks for one or refuses it.
    #[inline]
    pub(super) fn knows(&self, flags: TcpFlags, now: Duration) -> bool {
        match self.0 {
            Some(known) => !known.over && now.saturating_sub(known.at) <= AGE,
            None => flags.0 & TcpFlags::SYN == 0 && !flags.resets(),
        }
    }

    /// Takes note of a packet that was stopped: what it asks for does not come to be.
    #[inline]
    pub(super) fn stopped(&mut self, flags: TcpFlags, now: Duration) {
        if flags.is_pure_syn() {
            self.0 = Some(State { at: now, over: true });
        }
    }

    /// Takes note of a packet that passed.
    #[inline]
    pub(super) fn passed(&mut self, flags: TcpFlags, now: Duration) {
        // What was not let in is not open because the host answered it in the capture.
        let stays_over = self.0.is_some_and(|known| known.over) && !flags.is_pure_syn();
        self.0 = Some(State { at: now, over: flags.resets() || stays_over });
    }
}
