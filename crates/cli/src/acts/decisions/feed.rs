//! What a `watch` looks at: the lines of whoever reads, or its own reading.

use std::collections::VecDeque;
use std::io::{ErrorKind, Read};
use std::os::unix::net::UnixStream;
use std::time::Duration;

use tipstaff_gate::GateError;

use super::line::Told;
use super::reader::Reader;
use super::viewers::socket_path;
use crate::arguments::Common;
use crate::failure::{Failure, system};

/// Where decisions come from.
pub enum Feed<'c> {
    /// This process reads.
    Own(Box<Reader<'c>>),
    /// Another one does.
    Of(Viewing),
}

/// What a look found.
pub enum Next {
    /// These, perhaps none.
    Told(Vec<Told>),
    /// Nothing is in force any more.
    Down,
}

/// Lines of another process.
pub struct Viewing {
    stream: UnixStream,
    begun: Vec<u8>,
    wait: Duration,
}

const SECOND: Duration = Duration::from_secs(1);
/// Whoever reads is just beginning or ending: so often, with a pause.
const TRIES: usize = 50;
const PAUSE: Duration = Duration::from_millis(100);

impl<'c> Feed<'c> {
    /// Begins to read, or joins whoever does.
    ///
    /// # Errors
    /// [`GateError::NotRoot`] where this account may not look.
    pub fn open(common: &'c Common) -> Result<Self, Failure> {
        for _ in 0..TRIES {
            match UnixStream::connect(socket_path(&common.run_dir)) {
                Ok(stream) => {
                    stream.set_read_timeout(Some(SECOND)).map_err(system("watching"))?;
                    return Ok(Self::Of(Viewing { stream, begun: Vec::new(), wait: SECOND }));
                }
                Err(e) if e.kind() == ErrorKind::PermissionDenied => {
                    return Err(GateError::NotRoot.into());
                }
                Err(_) => {}
            }
            if let Some(reader) = Reader::begin(common, Duration::ZERO)? {
                return Ok(Self::Own(Box::new(reader)));
            }
            std::thread::sleep(PAUSE);
        }
        Err(Failure::Argument {
            message: "another process reads the decisions and does not show them".into(),
            help: "Stop it: `fuser` or /proc/locks tell who holds the file `watch`.".into(),
        })
    }

    /// With looks that wait so long at most.
    #[must_use]
    pub fn looking_every(mut self, wait: Duration) -> Self {
        self.set_wait(wait);
        self
    }

    fn set_wait(&mut self, wait: Duration) {
        match self {
            Self::Own(reader) => reader.wait_so_long(wait),
            Self::Of(viewing) => {
                viewing.wait = wait;
                // Without it the first line wakes it all the same.
                let _ = viewing.stream.set_read_timeout(Some(wait));
            }
        }
    }

    fn wait(&self) -> Duration {
        match self {
            Self::Own(reader) => reader.wait(),
            Self::Of(viewing) => viewing.wait,
        }
    }

    /// Waits for decisions, a second at most.
    pub fn next(&mut self, common: &'c Common) -> Result<Next, Failure> {
        let told = match self {
            Self::Of(viewing) => viewing.next()?,
            Self::Own(reader) => {
                let step = reader.step(None)?;
                if step.is_down && step.told.is_empty() {
                    return Ok(Next::Down);
                }
                (!step.hand_over).then_some(step.told)
            }
        };
        match told {
            Some(told) => Ok(Next::Told(told)),
            None => {
                self.reopen(common)?;
                Ok(Next::Told(Vec::new()))
            }
        }
    }

    /// Whoever read ended, or takes over.
    fn reopen(&mut self, common: &'c Common) -> Result<(), Failure> {
        let wait = self.wait();
        if let Self::Own(_) = self {
            // The lock and the socket must be free first.
            let (stream, _) = UnixStream::pair().map_err(system("watching"))?;
            *self = Self::Of(Viewing { stream, begun: Vec::new(), wait });
            std::thread::sleep(PAUSE);
        }
        *self = Self::open(common)?.looking_every(wait);
        Ok(())
    }
}

impl Viewing {
    /// Whole lines; `None`: the other end is closed.
    fn next(&mut self) -> Result<Option<Vec<Told>>, Failure> {
        let mut bytes = vec![0; 1 << 16];
        match self.stream.read(&mut bytes) {
            Ok(0) => return Ok(None),
            Ok(n) => self.begun.extend(&bytes[..n]),
            Err(e) if matches!(e.kind(), ErrorKind::WouldBlock | ErrorKind::TimedOut) => {}
            Err(e) if e.kind() == ErrorKind::Interrupted => {}
            Err(_) => return Ok(None),
        }
        let whole = self.begun.iter().rposition(|byte| *byte == b'\n').map_or(0, |at| at + 1);
        let lines: VecDeque<u8> = self.begun.drain(..whole).collect();
        let text = String::from_utf8(lines.into()).unwrap_or_default();
        Ok(Some(text.lines().filter_map(Told::parse).collect()))
    }
}
