//! A witness of what passes through this host: a knock on somebody behind it is
//! caught where it leaves, so that nobody there hears of it.

use std::io;
use std::net::{IpAddr, SocketAddr};
use std::os::fd::{AsFd, OwnedFd};
use std::time::{Duration, Instant};

use tipstaff_bpf::sys::{self, Attach, Order, ProgramKind};
use tipstaff_core::analysis::reach::Subject;
use tipstaff_core::names::address::Family;
use tipstaff_gate::kernel::Marks;

use super::answers::{Answered, Caught, What};
use super::approach::{Approach, WitnessFault, system};
use super::programs::came_out_program;
use super::{CAME_OUT, LetIn, SETTLING, Witness, port_of};
use crate::Reply;
use crate::frames::{self, FIRST_PORT};

/// A frame for somebody on the link waits until its hardware address is known.
const NEIGHBOUR: Duration = Duration::from_millis(1200);

/// What a knock through this host gave.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct WentThrough {
    /// Whether it came past everything where it comes in, and who let it.
    pub let_in: Option<LetIn>,
    /// Where it was seen leaving; `None`: it was not.
    pub came_out: Option<CameOut>,
    /// What came back to the source meanwhile.
    pub reply: Reply,
}

/// A knock that was seen where it leaves this host again.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct CameOut {
    /// How long it took.
    pub after: Duration,
    /// For whom it was there: another address or port than it was sent to, where it was
    /// translated on its way. The port is 0 for an echo request.
    pub to: SocketAddr,
}

/// The witness where packets come in, and where they leave again.
pub struct Through {
    witness: Witness,
    _links: Vec<OwnedFd>,
}

impl Through {
    /// Plays a source that comes in as `approach` says, and catches what leaves
    /// by the interfaces with the indexes `leaves`.
    ///
    /// # Errors
    /// [`WitnessFault`].
    pub fn open(
        approach: Approach,
        leaves: &[u32],
        marks: Option<Marks>,
    ) -> Result<Self, WitnessFault> {
        let family = Family::of_address(approach.source);
        let witness = Witness::open_for(approach, marks, true)?;
        let (ring, played) = (witness.ring.as_fd(), witness.played.as_fd());
        let code = came_out_program(family, played, ring).map_err(system)?;
        let program = sys::program_load(ProgramKind::SchedCls, CAME_OUT, &code).map_err(system)?;
        let mut links = Vec::with_capacity(leaves.len());
        for leaves in leaves {
            let (program, order) = (program.as_fd(), Order::First);
            links.push(sys::link_interface(program, *leaves, Attach::TcxEgress, order)?);
        }
        Ok(Self { witness, _links: links })
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

    /// To whom this host passes on what comes to a port at an address of its own;
    /// `None`: it was not seen leaving again. Nobody hears of it.
    ///
    /// # Errors
    /// When a frame cannot be injected.
    pub fn forwarded_to(
        &mut self,
        subject: Subject,
        own: IpAddr,
    ) -> io::Result<Option<SocketAddr>> {
        let seen = self.once(subject, own, FIRST_PORT, SETTLING)?;
        Ok(seen.came_out.map(|out| out.to))
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
                let to = caught.answered.to;
                let port = match caught.what {
                    // Its port may be another one by now.
                    What::CameOut(_) => mine.to,
                    _ => to,
                };
                if (Answered { to: port, ..caught.answered }) != mine {
                    return;
                }
                match caught.what {
                    What::Passed(speaker) => seen.let_in = Some(LetIn { speaker }),
                    What::CameOut(address) => {
                        let to = SocketAddr::new(address, to);
                        seen.came_out = Some(CameOut { after: begin.elapsed(), to });
                    }
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
