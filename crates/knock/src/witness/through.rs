//! A witness of what passes through this host: a knock on somebody behind it is
//! caught where it leaves, so that nobody there hears of it.

use std::io;
use std::net::IpAddr;
use std::os::fd::{AsFd, OwnedFd};
use std::time::{Duration, Instant};

use tipstaff_bpf::sys::{self, Attach, Order, ProgramKind};
use tipstaff_core::analysis::reach::Subject;
use tipstaff_core::names::address::Family;
use tipstaff_gate::kernel::Marks;

use super::answers::{Answered, Caught, What};
use super::approach::{Approach, WitnessFault, system};
use super::programs::came_out_program;
use super::{LetIn, SETTLING, Witness, port_of};
use crate::Reply;
use crate::frames::{self, FIRST_PORT};

/// A frame for somebody on the link waits until its hardware address is known.
const NEIGHBOUR: Duration = Duration::from_millis(1200);

/// What a knock through this host gave.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct WentThrough {
    /// Whether it came past everything where it comes in, and who let it.
    pub let_in: Option<LetIn>,
    /// How long it took to where it leaves; `None`: it was not seen there.
    pub came_out: Option<Duration>,
    /// What came back to the source meanwhile.
    pub reply: Reply,
}

/// The witness at two interfaces of this host.
pub struct Through {
    witness: Witness,
    _link: OwnedFd,
}

impl Through {
    /// Plays a source that comes in as `approach` says, and catches what leaves
    /// by the interface with the index `leaves`.
    ///
    /// # Errors
    /// [`WitnessFault`].
    pub fn open(
        approach: Approach,
        leaves: u32,
        marks: Option<Marks>,
    ) -> Result<Self, WitnessFault> {
        let family = Family::of_address(approach.source);
        let witness = Witness::open_for(approach, marks, true)?;
        let (ring, played) = (witness.ring.as_fd(), witness.played.as_fd());
        let code = came_out_program(family, played, ring).map_err(system)?;
        let program =
            sys::program_load(ProgramKind::SchedCls, "ts_came_out", &code).map_err(system)?;
        let link = sys::link_interface(program.as_fd(), leaves, Attach::TcxEgress, Order::First)?;
        Ok(Self { witness, _link: link })
    }

    /// Knocks on somebody behind this host, once more where nothing came of it.
    ///
    /// # Errors
    /// When a frame cannot be injected.
    pub fn knock(
        &mut self,
        subject: Subject,
        destination: IpAddr,
        patience: Duration,
    ) -> io::Result<WentThrough> {
        let first = self.once(subject, destination, FIRST_PORT, patience)?;
        match (first.came_out, first.reply) {
            (None, Reply::Nothing(_)) if first.let_in.is_some() => {
                self.once(subject, destination, FIRST_PORT + 1, NEIGHBOUR.max(patience))
            }
            _ => Ok(first),
        }
    }

    fn once(
        &mut self,
        subject: Subject,
        destination: IpAddr,
        from: u16,
        patience: Duration,
    ) -> io::Result<WentThrough> {
        let witness = &mut self.witness;
        let knock = witness.knock_from(from, destination);
        let frame = frames::first(subject, knock, witness.hardware);
        let protocol = subject.key(Family::of_address(witness.approach.source)).protocol();
        let mine = Answered { protocol, from, to: port_of(subject) };
        let (six, tag) = (witness.approach.source.is_ipv6(), witness.tag);
        let begin = Instant::now();
        witness.inject(&frame)?;
        witness.check_the_mark()?;
        let mut seen =
            WentThrough { let_in: None, came_out: None, reply: Reply::Nothing(Duration::ZERO) };
        loop {
            let looked = begin.elapsed();
            let mut answered = false;
            witness.ring.drain(|record| {
                let Some(caught) = Caught::read(six, tag, record) else { return };
                if caught.answered != mine {
                    return;
                }
                match caught.what {
                    What::Passed(speaker) => seen.let_in = Some(LetIn { speaker }),
                    What::CameOut => seen.came_out = Some(begin.elapsed()),
                    What::SynAck | What::Data => {
                        (seen.reply, answered) = (Reply::Data(begin.elapsed()), true);
                    }
                    What::Reset => {
                        (seen.reply, answered) = (Reply::Reset(begin.elapsed()), true);
                    }
                    What::Error { kind, code } => {
                        (seen.reply, answered) = (Reply::Icmp { kind, code }, true);
                    }
                }
            });
            let longest = if seen.let_in.is_some() { patience } else { patience.min(SETTLING) };
            if answered || seen.came_out.is_some() {
                return Ok(seen);
            }
            if looked > longest {
                seen.reply = Reply::Nothing(looked);
                return Ok(seen);
            }
            witness.wait(Duration::from_millis(2));
        }
    }
}
