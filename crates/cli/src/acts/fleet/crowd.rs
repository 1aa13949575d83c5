//! Many hosts asked at once, so many at a time.

use std::io::IsTerminal;
use std::sync::atomic::{AtomicUsize, Ordering};
use std::sync::mpsc;
use std::thread;
use std::time::{Duration, Instant};

use tipstaff_core::analysis::fleet::select;
use tipstaff_core::orders::{Host, Orders, Selector};

use super::message::{Answer, Request};
use super::ssh::{Fault, SshLine};
use crate::failure::Failure;
use crate::terminal::{Terminal, counted};

/// How many hosts at a time, and how long each may take.
#[derive(Clone, Copy, Debug)]
pub struct Crowd {
    /// So many at a time.
    pub parallel: usize,
    /// How long an answer may take.
    pub answer: Duration,
}

/// A host, and what it was asked for.
#[derive(Clone, Debug)]
pub struct Asked<'o> {
    /// The host.
    pub host: &'o Host,
    /// What it is asked for.
    pub request: Request<'o>,
    /// Over a connection of its own, whatever is shared.
    pub is_new: bool,
}

impl<'o> Asked<'o> {
    /// Asks a host for these commands.
    pub fn new(host: &'o Host, request: Request<'o>) -> Self {
        Self { host, request, is_new: false }
    }
}

/// How often it is said how far a wait has come.
const TOLD: Duration = Duration::from_millis(250);

impl Crowd {
    /// Asks all of them; the answers stand in the order of the questions. `doing`: what is
    /// said meanwhile on a terminal.
    pub fn ask(
        self,
        asked: &[Asked<'_>],
        doing: &str,
        terminal: &Terminal,
    ) -> Vec<Result<Answer, Fault>> {
        self.each(asked.len(), doing, terminal, |nth| {
            let Asked { host, request, is_new } = &asked[nth];
            let line = SshLine { answer: self.answer, is_new: *is_new };
            line.ask(host.ssh_name(), request)
        })
    }

    /// Does something for each number below `all`, so many at a time.
    pub fn each<T: Send>(
        self,
        all: usize,
        doing: &str,
        terminal: &Terminal,
        what: impl Fn(usize) -> T + Sync,
    ) -> Vec<T> {
        let next = AtomicUsize::new(0);
        let (done, ends) = mpsc::channel();
        let mut found: Vec<Option<T>> = (0..all).map(|_| None).collect();
        let is_told = !terminal.json && !terminal.is_quiet() && std::io::stderr().is_terminal();
        thread::scope(|scope| {
            for _ in 0..self.parallel.clamp(1, all.max(1)) {
                let (done, next, what) = (done.clone(), &next, &what);
                scope.spawn(move || {
                    loop {
                        let nth = next.fetch_add(1, Ordering::Relaxed);
                        if nth >= all || done.send((nth, what(nth))).is_err() {
                            return;
                        }
                    }
                });
            }
            drop(done);
            let mut told = Instant::now();
            for (count, (nth, end)) in ends.iter().enumerate() {
                found[nth] = Some(end);
                if is_told && told.elapsed() > TOLD {
                    let hosts = counted(all, "host", "hosts");
                    terminal.waiting(&format!("{doing}: {} of {hosts} ", count + 1));
                    told = Instant::now();
                }
            }
            if is_told {
                terminal.end_of_wait();
            }
        });
        found.into_iter().flatten().collect()
    }
}

/// The hosts of the orders that are meant.
///
/// # Errors
/// Where the orders know no hosts, or a selector selects none.
pub fn hosts_of<'o>(orders: &'o Orders, selectors: &[String]) -> Result<Vec<&'o Host>, Failure> {
    if orders.hosts.is_empty() {
        return Err(Failure::Argument {
            message: "these orders define no hosts".into(),
            help: "They are for one machine; define those to work on under [[hosts]].".into(),
        });
    }
    let selectors: Vec<Selector> = selectors.iter().cloned().map(Selector::from).collect();
    select(orders, &selectors).map_err(|fault| Failure::Argument {
        message: fault.to_string(),
        help: format!("There are {} (and * for all).", fault.known.join(", ")),
    })
}
