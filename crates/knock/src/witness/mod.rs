//! The witness: an outside source, played on the same machine.
//!
//! Frames with a foreign source address enter an interface's receive path by a
//! test run with live frames, as if they had come over the wire. They bear a
//! number that no packet of a wire can bear: a small program in front of the
//! gate gives them the gate's own number of a knock, so that it neither counts
//! them nor takes from rates, and one behind it says which came past. A third
//! one at the egress catches what the host answers to them, by what it
//! acknowledges or quotes, and drops it: no answer leaves the host, and what
//! the host sends to the same address besides goes its way. No
//! device, address, route or setting is touched, and everything is a file
//! descriptor, so nothing is left after kill -9.

mod answers;
mod approach;
mod programs;
mod through;

use std::collections::HashMap;
use std::hash::{BuildHasher, RandomState};
use std::io;
use std::net::{IpAddr, SocketAddr, UdpSocket};
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::time::{Duration, Instant};

use answers::{Answered, Caught, What};
use nix::poll::{PollFd, PollFlags, PollTimeout, poll};
use nix::sys::socket::{setsockopt, sockopt};
use programs::{PLAYED_BYTES, PLAYED_TAG, catch_program, mark_program, record_program};
use tipstaff_bpf::asm::{AssembleError, Assembler, R0};
use tipstaff_bpf::sys::{self, Attach, Cell, MapKind, Order, ProgramKind, Ring};
use tipstaff_core::analysis::reach::Subject;
use tipstaff_core::decision::Speaker;
use tipstaff_core::host::interface::Interface;
use tipstaff_core::names::address::Family;
use tipstaff_core::names::traffic::Transport;
use tipstaff_gate::kernel::Marks;

use crate::Reply;
use crate::frames::{self, FIRST_PORT, Knock};
pub use approach::{Approach, WitnessFault, approach};
use approach::{attaching, system};
pub use through::{CameOut, Through, WentThrough};

/// The programs that stand around the gate while a witness knocks, by what they are called.
pub const PROGRAMS: [&str; 4] = [MARK, CATCH, CAME_IN, CAME_OUT];
const MARK: &str = "ts_mark";
const CATCH: &str = "ts_catch";
const CAME_IN: &str = "ts_came_in";
const CAME_OUT: &str = "ts_came_out";

/// Knocks share this many source ports, all of them caught on their way out.
const PORTS: u16 = u16::MAX - FIRST_PORT;
/// Bytes of the ring; a caught answer takes at most 104 of them.
const RING: u32 = 1 << 22;
/// How long the way back may take to show that it works; covers one round of
/// neighbour resolution.
const WAY_BACK: Duration = Duration::from_millis(1200);
/// The rest of the way, once a knock is at the interface.
const GRACE: Duration = Duration::from_millis(6);
/// How long the receive path takes at most until a knock has come past the gate, or never will.
const SETTLING: Duration = Duration::from_millis(40);

/// What a knock gave.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Knocked {
    /// What came back.
    pub reply: Reply,
    /// Whether it came past the gate, and everything else at the interface.
    pub let_in: Option<LetIn>,
    /// To whom it was forwarded, where somebody looked ([`Through::forwarded_to`]).
    pub forwarded_to: Option<SocketAddr>,
}

/// It came past the gate.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct LetIn {
    /// Who let it in; `None` where no gate decided.
    pub speaker: Option<Speaker>,
}

/// The witness, ready to knock.
pub struct Witness {
    approach: Approach,
    hardware: [u8; 6],
    pass: OwnedFd,
    ring: Ring,
    /// What its knocks bear before the frame, so that they are told from real packets.
    own: u64,
    /// The mark of what it sends by a socket of its own, so that the gate does not count it.
    quiet: Option<u32>,
    /// What its knocks bear so that their answers are known; another one for each source.
    tag: u32,
    /// How many frames were marked.
    marked: Cell,
    /// How many were sent.
    injected: u64,
    /// Where the programs read the source.
    played: OwnedFd,
    /// Whether an answer was seen to find its way out.
    proven: bool,
    /// The programs at the interfaces, while these are open.
    _links: Vec<OwnedFd>,
}

/// A knock on its way.
struct Waiting {
    at: usize,
    sent: Instant,
    passed: bool,
}

impl Witness {
    /// Sets everything up and makes sure that an answer would find its way out.
    /// `marks`: the numbers by which the gate that is up knows knocks.
    ///
    /// # Errors
    /// [`WitnessFault`].
    pub fn open(approach: Approach, marks: Option<Marks>) -> Result<Self, WitnessFault> {
        Self::open_for(approach, marks, false)
    }

    /// As [`Self::open`]. `through`: its knocks go on to somebody behind this host.
    fn open_for(
        approach: Approach,
        marks: Option<Marks>,
        through: bool,
    ) -> Result<Self, WitnessFault> {
        let name = &approach.interface.name;
        let hardware =
            approach.interface.hardware.ok_or_else(|| WitnessFault::NoFrames(name.clone()))?;
        let own = RandomState::new().hash_one(std::process::id());
        let map = sys::map_create(MapKind::Ring, "ts_answers", 0, 0, RING)?;
        let seen = sys::map_create_shared("ts_knocks")?;
        let played = sys::map_create(MapKind::Array, "ts_source", 4, PLAYED_BYTES, 1)?;
        let knock = marks.map_or(own, |marks| marks.knock);
        let family = Family::of_address(approach.source);
        let load = |name, code: Result<Vec<u8>, AssembleError>| {
            sys::program_load(ProgramKind::SchedCls, name, &code.map_err(system)?).map_err(system)
        };
        let mark = load(MARK, mark_program(own, knock, seen.as_fd()))?;
        let record = load(CAME_IN, record_program(family, knock, through, map.as_fd()))?;
        let catch = load(CATCH, catch_program(family, own, played.as_fd(), map.as_fd()))?;
        let (here, back) = (approach.interface.index, approach.back);
        let attach = |program: BorrowedFd<'_>, interface, side, order| {
            sys::link_interface(program, interface, side, order).map_err(attaching)
        };
        let mut links = vec![
            attach(record.as_fd(), here, Attach::TcxIngress, Order::Last)?,
            attach(mark.as_fd(), here, Attach::TcxIngress, Order::First)?,
            attach(catch.as_fd(), here, Attach::TcxEgress, Order::First)?,
        ];
        if back != here {
            links.push(attach(catch.as_fd(), back, Attach::TcxEgress, Order::First)?);
        }
        let pass = {
            let mut a = Assembler::default();
            a.mov(R0, 2); // XDP_PASS
            a.exit();
            let code = a.finish().map_err(system)?;
            sys::program_load(ProgramKind::Xdp, "ts_enter", &code).map_err(system)?
        };
        let (ring, marked) = (Ring::open(map)?, Cell::open(seen.as_fd())?);
        let mut witness = Self {
            approach,
            hardware,
            pass,
            ring,
            own,
            quiet: marks.map(|marks| marks.quiet),
            tag: own as u32,
            marked,
            injected: 0,
            played,
            proven: false,
            _links: links,
        };
        witness.take_the_part()?;
        Ok(witness)
    }

    /// Plays another source instead, where it comes the same way. `false`: it
    /// does not, and wants a witness of its own.
    ///
    /// # Errors
    /// [`WitnessFault`].
    pub fn turn_into(&mut self, approach: &Approach) -> Result<bool, WitnessFault> {
        fn way(a: &Approach) -> (u32, u32, bool) {
            (a.interface.index, a.back, a.source.is_ipv4())
        }
        if way(&self.approach) != way(approach) {
            return Ok(false);
        }
        self.approach = approach.clone();
        self.take_the_part()?;
        Ok(true)
    }

    fn take_the_part(&mut self) -> Result<(), WitnessFault> {
        self.tag = self.tag.wrapping_add(1);
        let mut value = [0; PLAYED_BYTES as usize];
        match self.approach.source {
            IpAddr::V4(a) => value[..4].copy_from_slice(&a.octets()),
            IpAddr::V6(a) => value[..16].copy_from_slice(&a.octets()),
        }
        let tag = PLAYED_TAG as usize;
        value[tag..tag + 4].copy_from_slice(&self.tag.to_ne_bytes());
        sys::map_update(self.played.as_fd(), &0u32.to_ne_bytes(), &value)?;
        self.proven = false;
        // What is still there of the source before proves nothing for this one.
        self.ring.drain(|_| ());
        if self.way_back_works()? {
            return Ok(());
        }
        let Approach { source, interface, .. } = &self.approach;
        Err(WitnessFault::NoNextHop { address: *source, interface: interface.name.clone() })
    }

    /// Sends a datagram of this host's own to the source: it must show up at
    /// the egress, where it is caught. Otherwise silence would prove nothing.
    fn way_back_works(&mut self) -> io::Result<bool> {
        let socket = UdpSocket::bind(SocketAddr::new(self.approach.target, 0))?;
        if let Some(quiet) = self.quiet {
            setsockopt(&socket, sockopt::Mark, &quiet)?;
        }
        let begin = Instant::now();
        while !self.proven && begin.elapsed() < WAY_BACK {
            match socket
                .send_to(&self.own.to_ne_bytes(), SocketAddr::new(self.approach.source, FIRST_PORT))
            {
                Ok(_) => {}
                // The gate keeps it in, which it would not an answer: the answers will tell.
                Err(e) if e.raw_os_error() == Some(nix::libc::EPERM) => return Ok(true),
                // The route's own no.
                Err(_) => return Ok(false),
            }
            let again = begin.elapsed() + Duration::from_millis(200);
            while !self.proven && begin.elapsed() < again {
                self.wait(Duration::from_millis(2));
                let mut seen = false;
                self.ring.drain(|record| seen |= record.len() != answers::PASSED_BYTES);
                self.proven = seen;
            }
        }
        Ok(self.proven)
    }

    fn wait(&self, longest: Duration) {
        let timeout = PollTimeout::try_from(longest).unwrap_or(PollTimeout::ZERO);
        // Interrupted or not: whoever waits looks at the ring and the clock again.
        let _ = poll(&mut [PollFd::new(self.ring.as_fd(), PollFlags::POLLIN)], timeout);
    }

    /// Knocks on every door: a subject and the own address it is knocked on.
    /// Who was let in and is silent is knocked on a second time after
    /// `patience`; who did not come past the gate needs no patience.
    ///
    /// `go_on` is asked before each knock, with how many there were: it may
    /// wait, for the pace, and `false` ends the check; the doors that were not
    /// knocked on by then have [`Reply::NotAsked`].
    ///
    /// # Errors
    /// When a frame cannot be injected.
    pub fn knock(
        &mut self,
        doors: &[(Subject, IpAddr)],
        patience: Duration,
        go_on: &mut dyn FnMut(usize) -> bool,
    ) -> io::Result<Vec<Knocked>> {
        let nothing = Knocked { reply: Reply::NotAsked, let_in: None, forwarded_to: None };
        let mut known = vec![nothing; doors.len()];
        let all: Vec<usize> = (0..doors.len()).collect();
        self.round(doors, &all, patience, &mut known, go_on)?;
        let again: Vec<usize> = (0..doors.len())
            .filter(|at| {
                matches!(known[*at].reply, Reply::Nothing(_))
                    && known[*at].let_in.is_some()
                    && !is_datagram(doors[*at].0)
            })
            .collect();
        self.round(doors, &again, patience, &mut known, go_on)?;
        if !self.proven {
            for one in &mut known {
                if matches!(one.reply, Reply::Nothing(_)) && one.let_in.is_some() {
                    one.reply = Reply::Unproven;
                }
            }
        }
        for (at, one) in known.iter_mut().enumerate() {
            if is_datagram(doors[at].0) && one.let_in.is_some() {
                one.reply = Reply::CameIn;
            }
        }
        Ok(known)
    }

    fn round(
        &mut self,
        doors: &[(Subject, IpAddr)],
        open: &[usize],
        patience: Duration,
        known: &mut [Knocked],
        go_on: &mut dyn FnMut(usize) -> bool,
    ) -> io::Result<()> {
        let mut waiting: HashMap<Answered, Waiting> = HashMap::with_capacity(open.len());
        let mut collected = Instant::now();
        for (nth, at) in open.iter().enumerate() {
            if !go_on(nth) {
                break;
            }
            let (subject, target) = doors[*at];
            let from = FIRST_PORT + (nth % usize::from(PORTS)) as u16;
            let frame = frames::first(subject, self.knock_from(from, target), self.hardware);
            let key = subject.key(Family::of_address(self.approach.source));
            let answered = Answered { protocol: key.protocol(), from, to: port_of(subject) };
            waiting.insert(answered, Waiting { at: *at, sent: Instant::now(), passed: false });
            self.inject(&frame)?;
            if nth == 0 {
                self.check_the_mark()?;
            }
            // At a slow pace nothing stays half open for long.
            if nth % 256 == 255 || collected.elapsed() > SETTLING {
                self.collect(doors, &mut waiting, known)?;
                collected = Instant::now();
            }
        }
        let last = Instant::now();
        loop {
            self.collect(doors, &mut waiting, known)?;
            let hopeful = waiting.values().any(|one| one.passed && !is_datagram(doors[one.at].0));
            let longest = match hopeful {
                true => patience,
                // All have gone through the programs at the interface, but perhaps the last one.
                false if self.marked.get() >= self.injected => patience.min(GRACE),
                false => patience.min(SETTLING),
            };
            if waiting.is_empty() || last.elapsed() >= longest {
                break;
            }
            self.wait(Duration::from_millis(2));
        }
        for one in waiting.into_values() {
            known[one.at].reply = Reply::Nothing(one.sent.elapsed());
        }
        Ok(())
    }

    fn knock_from(&self, from: u16, target: IpAddr) -> Knock {
        Knock { source: self.approach.source, target, from, tag: self.tag }
    }

    fn inject(&mut self, frame: &[u8]) -> io::Result<()> {
        self.injected += 1;
        let mut data = self.own.to_ne_bytes().to_vec();
        let metadata = data.len() as u32;
        data.extend_from_slice(frame);
        sys::inject_frame(self.pass.as_fd(), &data, metadata, self.approach.interface.index)
    }

    /// Without its mark a knock would be counted, and nothing could be said of
    /// what the gate did with it.
    fn check_the_mark(&self) -> io::Result<()> {
        let begin = Instant::now();
        while self.marked.get() == 0 {
            if begin.elapsed() > WAY_BACK {
                return Err(io::Error::other("this kernel loses the mark of its knocks"));
            }
            std::thread::sleep(Duration::from_millis(1));
        }
        Ok(())
    }

    fn collect(
        &mut self,
        doors: &[(Subject, IpAddr)],
        waiting: &mut HashMap<Answered, Waiting>,
        known: &mut [Knocked],
    ) -> io::Result<()> {
        let (six, tag) = (self.approach.source.is_ipv6(), self.tag);
        let (mut half_open, mut answers) = (Vec::new(), false);
        self.ring.drain(|record| {
            let Some(caught) = Caught::read(six, tag, record) else { return };
            if matches!(caught.what, What::CameOut(_)) {
                return;
            }
            if let What::Passed(speaker) = caught.what {
                if let Some(one) = waiting.get_mut(&caught.answered) {
                    one.passed = true;
                    known[one.at].let_in = Some(LetIn { speaker });
                }
                return;
            }
            answers = true;
            let Some(Waiting { at, sent, .. }) = waiting.remove(&caught.answered) else { return };
            let elapsed = sent.elapsed();
            known[at].reply = match caught.what {
                What::SynAck => {
                    half_open.push((at, caught.answered.from));
                    Reply::Accepted(elapsed)
                }
                What::Reset => Reply::Reset(elapsed),
                What::Error { kind, code } => Reply::Icmp { kind, code },
                What::Data | What::Passed(_) | What::CameOut(_) => Reply::Data(elapsed),
            };
        });
        self.proven |= answers;
        // Half-open connections end here: no program ever accepts them.
        for (at, from) in half_open {
            let (subject, target) = doors[at];
            let knock = self.knock_from(from, target);
            let next = self.tag.wrapping_add(1);
            self.inject(&frames::reset(port_of(subject), knock, next, self.hardware))?;
        }
        Ok(())
    }
}

fn port_of(subject: Subject) -> u16 {
    match subject {
        Subject::Port(_, port) => port,
        Subject::Echo => 0,
    }
}

/// Datagrams are taken away behind the gate: no program is troubled with them.
fn is_datagram(subject: Subject) -> bool {
    matches!(subject, Subject::Port(Transport::Udp, _))
}

/// What the gate's dry run is asked for a door.
pub fn question(approach: &Approach, subject: Subject, target: IpAddr) -> Vec<u8> {
    let knock = Knock { source: approach.source, target, from: FIRST_PORT, tag: 1 };
    frames::first(subject, knock, approach.interface.hardware.unwrap_or_default())
}

/// The programs of others that look at what arrives on an interface, by name.
///
/// # Errors
/// What the kernel says.
pub fn others_at(interface: &Interface) -> io::Result<Vec<String>> {
    let mut names = Vec::new();
    for id in sys::programs_at(interface.index, Attach::TcxIngress)? {
        let name = sys::program_by_id(id).and_then(|program| sys::program_name(program.as_fd()))?;
        // All of Tipstaff's own begin so.
        if !name.starts_with("ts_") {
            names.push(name);
        }
    }
    Ok(names)
}
