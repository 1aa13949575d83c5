//! `-v`: what is done and how long it took, a line each on standard error as it ends.

use std::collections::HashMap;
use std::fmt::{Debug, Write};
use std::sync::Mutex;
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::{Duration, Instant};

use tipstaff_core::visible::visible;
use tracing::field::{Field, Visit};
use tracing::span::{Attributes, Id, Record};
use tracing::{Event, Metadata, Subscriber};

/// What is being done.
struct Open {
    begun: Instant,
    what: String,
}

/// Takes the time of everything that is done.
#[derive(Default)]
struct Timing {
    last: AtomicU64,
    open: Mutex<HashMap<u64, Open>>,
}

/// What a step says beside its name.
struct Words(String);

impl Visit for Words {
    fn record_debug(&mut self, _: &Field, value: &dyn Debug) {
        // A String takes all that is written to it.
        let _ = write!(self.0, " {value:?}");
    }

    fn record_str(&mut self, _: &Field, value: &str) {
        self.0 += " ";
        self.0 += value;
    }
}

fn line(took: Duration, what: &str) -> String {
    format!("{:>9.1} ms  {}", took.as_secs_f64() * 1e3, visible(what))
}

impl Subscriber for Timing {
    fn enabled(&self, metadata: &Metadata<'_>) -> bool {
        metadata.target().starts_with("tipstaff")
    }

    fn new_span(&self, begun: &Attributes<'_>) -> Id {
        let mut words = Words(begun.metadata().name().to_owned());
        begun.record(&mut words);
        let number = self.last.fetch_add(1, Ordering::Relaxed) + 1;
        if let Ok(mut open) = self.open.lock() {
            open.insert(number, Open { begun: Instant::now(), what: words.0 });
        }
        Id::from_u64(number)
    }

    fn try_close(&self, id: Id) -> bool {
        let ended = self.open.lock().ok().and_then(|mut open| open.remove(&id.into_u64()));
        if let Some(Open { begun, what }) = ended {
            anstream::eprintln!("{}", line(begun.elapsed(), &what));
        }
        true
    }

    fn record(&self, _: &Id, _: &Record<'_>) {}

    fn record_follows_from(&self, _: &Id, _: &Id) {}

    fn event(&self, _: &Event<'_>) {}

    fn enter(&self, _: &Id) {}

    fn exit(&self, _: &Id) {}
}

/// From now on it is said what takes how long.
pub fn tell() {
    // Nobody else of this process listens.
    let _ = tracing::subscriber::set_global_default(Timing::default());
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_line_says_how_long_what_took() {
        let what = "reading /etc/tipstaff/\u{1b}[2Jorders.toml";
        let line = line(Duration::from_micros(12_340), what);
        assert_eq!(line, "     12.3 ms  reading /etc/tipstaff/\\u{1b}[2Jorders.toml");
    }

    #[test]
    fn what_has_ended_is_not_remembered() {
        let timing = std::sync::Arc::new(Timing::default());
        tracing::subscriber::with_default(std::sync::Arc::clone(&timing), || {
            let _outer = tracing::info_span!(target: "tipstaff", "posting").entered();
            tracing::info_span!(target: "tipstaff", "reading", path = "orders.toml").in_scope(
                || {
                    let open = timing.open.lock().unwrap();
                    let mut all: Vec<_> = open.values().map(|open| open.what.clone()).collect();
                    all.sort_unstable();
                    assert_eq!(all, ["posting", "reading orders.toml"]);
                },
            );
            assert_eq!(timing.open.lock().unwrap().len(), 1);
            tracing::info_span!(target: "elsewhere", "not ours").in_scope(|| ());
        });
        assert!(timing.open.lock().unwrap().is_empty());
    }
}
