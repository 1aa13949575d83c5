//! What a `watch` looks at: the lines of whoever reads, or its own reading.

use std::io::{ErrorKind, Read};
use std::os::unix::net::UnixStream;
use std::thread;
use std::time::{Duration, Instant};

use tipstaff_gate::GateError;
use tipstaff_gate::kernel::KernelGate;

use super::line::Told;
use super::reader::{Reader, missing};
use super::viewers::socket_path;
use crate::arguments::Common;
use crate::failure::{Failure, system};

/// Where decisions come from.
pub struct Feed<'c> {
    common: &'c Common,
    gate: KernelGate,
    from: From<'c>,
    wait: Duration,
    /// When it was last looked whether anything is in force.
    looked: Instant,
}

enum From<'c> {
    /// This process reads.
    Own(Box<Reader<'c>>),
    /// Another one does.
    Other(Viewing),
    /// Nobody at the moment.
    Nobody,
}

/// What a look found.
pub enum Next {
    /// These, perhaps none.
    Told(Vec<Told>),
    /// Nothing is in force any more.
    Down,
}

/// Lines of another process.
struct Viewing {
    stream: UnixStream,
    begun: Vec<u8>,
}

const SECOND: Duration = Duration::from_secs(1);
/// Whoever reads is just beginning or ending: so often, with a pause.
const TRIES: usize = 50;
const PAUSE: Duration = Duration::from_millis(100);

impl<'c> Feed<'c> {
    /// Begins to read, or joins whoever does. A look waits so long at most, and a second.
    ///
    /// # Errors
    /// [`GateError::NotRoot`] where this account may not look.
    pub fn open(common: &'c Common, wait: Duration) -> Result<Self, Failure> {
        let gate = KernelGate::new(&common.run_dir)?;
        let (wait, looked) = (wait.min(SECOND), Instant::now());
        let mut feed = Self { common, gate, from: From::Nobody, wait, looked };
        feed.join()?;
        Ok(feed)
    }

    fn join(&mut self) -> Result<(), Failure> {
        for _ in 0..TRIES {
            match UnixStream::connect(socket_path(&self.common.run_dir)) {
                Ok(stream) => {
                    stream.set_read_timeout(Some(self.wait)).map_err(system("watching"))?;
                    self.from = From::Other(Viewing { stream, begun: Vec::new() });
                    return Ok(());
                }
                Err(e) if e.kind() == ErrorKind::PermissionDenied => {
                    return Err(GateError::NotRoot.into());
                }
                Err(_) => {}
            }
            if let Some(mut reader) = Reader::begin(self.common, Duration::ZERO)? {
                reader.wait_so_long(self.wait);
                self.from = From::Own(Box::new(reader));
                return Ok(());
            }
            thread::sleep(PAUSE);
        }
        Err(Failure::Argument {
            message: "another process reads the decisions and does not show them".into(),
            help: "Stop it: /proc/locks tells who holds the file `watch` in the run directory."
                .into(),
        })
    }

    /// Waits for decisions.
    pub fn next(&mut self) -> Result<Next, Failure> {
        let (told, goes_on) = match &mut self.from {
            From::Other(viewing) => viewing.next(),
            From::Own(reader) => {
                let step = reader.step(None)?;
                (step.told, !step.hand_over)
            }
            From::Nobody => (Vec::new(), false),
        };
        if !goes_on {
            // The lock and the socket are free now, for whoever asked for them.
            self.from = From::Nobody;
            thread::sleep(PAUSE);
            self.join()?;
        }
        if told.is_empty() && self.looked.elapsed() >= SECOND {
            self.looked = Instant::now();
            if self.is_down()? {
                return Ok(Next::Down);
            }
        }
        Ok(Next::Told(told))
    }

    /// Whether nothing is in force; whoever is not root cannot tell, and the gate's pins are
    /// not there to be opened.
    fn is_down(&self) -> Result<bool, Failure> {
        if !nix::unistd::geteuid().is_root() {
            return Ok(false);
        }
        match missing(&self.gate) {
            Err(GateError::NothingInForce) => Ok(true),
            Ok(_) => Ok(false),
            Err(e) => Err(e.into()),
        }
    }
}

impl Viewing {
    /// Whole lines, and whether there may be more: the other end may be closed.
    fn next(&mut self) -> (Vec<Told>, bool) {
        let mut bytes = vec![0; 1 << 16];
        match self.stream.read(&mut bytes) {
            Ok(0) => return (Vec::new(), false),
            Ok(n) => self.begun.extend(&bytes[..n]),
            Err(e) => {
                let waits = [ErrorKind::WouldBlock, ErrorKind::TimedOut, ErrorKind::Interrupted];
                return (Vec::new(), waits.contains(&e.kind()));
            }
        }
        let whole = self.begun.iter().rposition(|byte| *byte == b'\n').map_or(0, |at| at + 1);
        let lines: Vec<u8> = self.begun.drain(..whole).collect();
        let text = String::from_utf8_lossy(&lines);
        (text.lines().filter_map(Told::parse).collect(), true)
    }
}
