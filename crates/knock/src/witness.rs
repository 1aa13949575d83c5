//! The witness: an outside source, played on the same machine.
//!
//! Frames with a foreign source address enter an interface's receive path by a
//! test run with live frames, as if they had come over the wire; a small
//! program at the interface's egress catches what the host answers to that
//! address and a reserved range of ports, and drops it: no answer leaves the
//! host. No device, address, route or setting is touched, and everything is a
//! file descriptor, so nothing is left after kill -9.

use std::collections::HashMap;
use std::io;
use std::net::{IpAddr, SocketAddr, UdpSocket};
use std::os::fd::{AsFd, BorrowedFd, OwnedFd};
use std::time::{Duration, Instant};

use nix::poll::{PollFd, PollFlags, PollTimeout, poll};
use tipstaff_core::interface::Interface;
use tipstaff_core::names::address::Family;
use tipstaff_core::names::traffic::{ICMP, ICMPV6, TCP, Transport, UDP};
use tipstaff_core::reach::Subject;
use tipstaff_gate::kernel::assembler::{
    Assembler, If, Label, Misfit, Op, R0, R1, R2, R3, R4, R5, R6, R7, R9, STACK, Width,
};
use tipstaff_gate::kernel::reading::{
    Ways, at, destination_offset, family_jumps, helper, ip_header,
};
use tipstaff_gate::kernel::sys::{self, Attach, MapKind, ProgramKind, Ring};
use tipstaff_host::routes::{Way, way_to};

use crate::Reply;
use crate::frames::{self, FIRST_PORT, Knock};

/// Knocks share this many source ports, all of them caught on their way out.
const PORTS: u16 = u16::MAX - FIRST_PORT;
/// Bytes of the ring; a caught answer takes at most 104 of them.
const RING: u32 = 1 << 22;
/// How long the way back may take to show that it works; covers one round of
/// neighbour resolution.
const WAY_BACK: Duration = Duration::from_millis(1200);

/// Why an address cannot be played.
#[derive(Debug, thiserror::Error)]
pub enum WitnessFault {
    /// It is an address of this host.
    #[error("{0} is an address of this host itself; the vantage `here` checks from there")]
    Own(IpAddr),
    /// No route.
    #[error(
        "there is no way back to {0}: no route leads there, so nobody with that address can reach this host"
    )]
    NoWayBack(IpAddr),
    /// The next hop is not there.
    #[error("no answer to {address} would leave {interface}: its next hop does not respond")]
    NoNextHop {
        /// The address.
        address: IpAddr,
        /// The interface of the way back.
        interface: String,
    },
    /// The interface cannot take frames.
    #[error("{0} takes no Ethernet frames, so nothing can be played there")]
    NoFrames(String),
    /// The interface has no address of that family.
    #[error("{interface} has no {family} address to knock on")]
    NoTarget {
        /// The interface of the way back.
        interface: String,
        /// The family of the source.
        family: Family,
    },
    /// bpf(2) or something else of the system failed.
    #[error("the witness cannot be played: {0}")]
    System(#[from] io::Error),
}

fn system(error: impl std::error::Error + Send + Sync + 'static) -> WitnessFault {
    WitnessFault::System(io::Error::other(error))
}

/// Where a source would come in, by the way back to it.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Approach {
    /// The source.
    pub source: IpAddr,
    /// Its interface.
    pub interface: Interface,
    /// The own address that it would knock on.
    pub target: IpAddr,
}

/// Finds the interface and the own address that `source` would knock on.
///
/// # Errors
/// [`WitnessFault`].
pub fn approach(source: IpAddr, interfaces: &[Interface]) -> Result<Approach, WitnessFault> {
    let Way::Out { interface, source: preferred, .. } = (match way_to(source)? {
        Way::Own => return Err(WitnessFault::Own(source)),
        Way::None => return Err(WitnessFault::NoWayBack(source)),
        out => out,
    }) else {
        return Err(WitnessFault::NoWayBack(source));
    };
    let Some(interface) = interfaces.iter().find(|i| i.index == interface) else {
        return Err(WitnessFault::NoWayBack(source));
    };
    let own = interface.addresses_of(source.is_ipv6()).next().or(preferred);
    let target = own.ok_or_else(|| WitnessFault::NoTarget {
        interface: interface.name.clone(),
        family: Family::of(source),
    })?;
    Ok(Approach { source, interface: interface.clone(), target })
}

/// The witness, ready to knock.
pub struct Witness {
    approach: Approach,
    hardware: [u8; 6],
    pass: OwnedFd,
    ring: Ring,
    /// Catches the answers while it is open.
    _catch: OwnedFd,
}

impl Witness {
    /// Sets everything up and makes sure that an answer would find its way out.
    ///
    /// # Errors
    /// [`WitnessFault`].
    pub fn open(approach: Approach) -> Result<Self, WitnessFault> {
        let name = &approach.interface.name;
        let hardware =
            approach.interface.hardware.ok_or_else(|| WitnessFault::NoFrames(name.clone()))?;
        let map = sys::map_create(MapKind::Ring, "ts_answers", 0, 0, RING)?;
        let code = catch_program(approach.source, map.as_fd()).map_err(system)?;
        let catch = sys::program_load(ProgramKind::SchedCls, "ts_catch", &code).map_err(system)?;
        let link = sys::link_interface(catch.as_fd(), approach.interface.index, Attach::TcxEgress)?;
        let pass = {
            let mut a = Assembler::default();
            a.mov(R0, 2); // XDP_PASS
            a.exit();
            let code = a.finish().map_err(system)?;
            sys::program_load(ProgramKind::Xdp, "ts_enter", &code).map_err(system)?
        };
        let mut witness = Self { approach, hardware, pass, ring: Ring::open(map)?, _catch: link };
        if witness.way_back_works()? {
            Ok(witness)
        } else {
            let Approach { source, interface, .. } = witness.approach;
            Err(WitnessFault::NoNextHop { address: source, interface: interface.name })
        }
    }

    /// Sends a datagram of this host's own to the source: it must show up at
    /// the egress, where it is caught. Otherwise silence would prove nothing.
    fn way_back_works(&mut self) -> io::Result<bool> {
        let socket = UdpSocket::bind(SocketAddr::new(self.approach.target, 0))?;
        let begin = Instant::now();
        let mut seen = false;
        while !seen && begin.elapsed() < WAY_BACK {
            // An error here is the route's own no.
            if socket.send_to(&[], SocketAddr::new(self.approach.source, FIRST_PORT)).is_err() {
                return Ok(false);
            }
            let again = begin.elapsed() + Duration::from_millis(200);
            while !seen && begin.elapsed() < again {
                self.wait(Duration::from_millis(2));
                self.ring.drain(|_| seen = true);
            }
        }
        Ok(seen)
    }

    fn wait(&self, longest: Duration) {
        let timeout = PollTimeout::try_from(longest).unwrap_or(PollTimeout::ZERO);
        // Interrupted or not: whoever waits looks at the ring and the clock again.
        let _ = poll(&mut [PollFd::new(self.ring.as_fd(), PollFlags::POLLIN)], timeout);
    }

    /// Knocks on every door: a subject and the own address it is knocked on.
    /// Whoever is silent is knocked on a second time.
    ///
    /// # Errors
    /// When a frame cannot be injected.
    pub fn knock(
        &mut self,
        doors: &[(Subject, IpAddr)],
        patience: Duration,
    ) -> io::Result<Vec<Reply>> {
        let mut replies: Vec<Option<Reply>> = vec![None; doors.len()];
        for _ in 0..2 {
            let open: Vec<usize> = (0..doors.len()).filter(|at| replies[*at].is_none()).collect();
            self.round(doors, &open, patience, &mut replies)?;
        }
        Ok(replies.into_iter().map(|r| r.unwrap_or(Reply::Nothing(2 * patience))).collect())
    }

    fn round(
        &mut self,
        doors: &[(Subject, IpAddr)],
        open: &[usize],
        patience: Duration,
        replies: &mut [Option<Reply>],
    ) -> io::Result<()> {
        let mut waiting: HashMap<Answered, (usize, Instant)> = HashMap::with_capacity(open.len());
        let mut resets = Vec::new();
        let six = self.approach.source.is_ipv6();
        for (nth, at) in open.iter().enumerate() {
            let (subject, target) = doors[*at];
            let from = FIRST_PORT + (nth % usize::from(PORTS)) as u16;
            let knock = Knock { source: self.approach.source, target, from };
            let frame = frames::first(subject, knock, self.hardware);
            waiting.insert(Answered { from, to: port_of(subject) }, (*at, Instant::now()));
            self.inject(&frame)?;
            if nth % 256 == 255 {
                self.collect(six, &mut waiting, replies, &mut resets);
            }
        }
        let last = Instant::now();
        while !waiting.is_empty() && last.elapsed() < patience {
            self.wait(Duration::from_millis(2));
            self.collect(six, &mut waiting, replies, &mut resets);
        }
        // Half-open connections end here: no program ever accepts them.
        for (at, from, acknowledged) in resets {
            let (subject, target) = doors[at];
            let knock = Knock { source: self.approach.source, target, from };
            self.inject(&frames::reset(port_of(subject), knock, acknowledged, self.hardware))?;
        }
        Ok(())
    }

    fn inject(&self, frame: &[u8]) -> io::Result<()> {
        sys::inject_frame(self.pass.as_fd(), frame, self.approach.interface.index)
    }

    fn collect(
        &mut self,
        six: bool,
        waiting: &mut HashMap<Answered, (usize, Instant)>,
        replies: &mut [Option<Reply>],
        resets: &mut Vec<(usize, u16, u32)>,
    ) {
        self.ring.drain(|packet| {
            let Some(caught) = Caught::read(six, packet) else { return };
            let Some((at, sent)) = waiting.remove(&caught.answered) else { return };
            let elapsed = sent.elapsed();
            replies[at] = Some(match caught.what {
                What::SynAck { acknowledged } => {
                    resets.push((at, caught.answered.from, acknowledged));
                    Reply::Accepted(elapsed)
                }
                What::Reset => Reply::Reset(elapsed),
                What::Data => Reply::Data(elapsed),
                What::Error { kind, code } => Reply::Icmp { kind, code },
            });
        });
    }
}

fn port_of(subject: Subject) -> u16 {
    match subject {
        Subject::Port(_, port) => port,
        Subject::Echo => 0,
    }
}

/// Which knock an answer belongs to.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
struct Answered {
    /// The knock's source port or echo identifier.
    from: u16,
    /// The port that was knocked on, 0 for an echo.
    to: u16,
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
enum What {
    SynAck { acknowledged: u32 },
    Reset,
    Data,
    Error { kind: u8, code: u8 },
}

#[derive(Clone, Copy, Debug, PartialEq, Eq)]
struct Caught {
    answered: Answered,
    what: What,
}

impl Caught {
    /// Reads an answer from its IP header on, as the program copied it.
    fn read(six: bool, packet: &[u8]) -> Option<Self> {
        let (ip, protocol, error) =
            if six { (40, *packet.get(6)?, 1) } else { (20, *packet.get(9)?, 3) };
        let u16_at = |at: usize| packet.get(at..at + 2)?.try_into().ok().map(u16::from_be_bytes);
        let ports = |at: usize| Some(Answered { from: u16_at(at + 2)?, to: u16_at(at)? });
        let (answered, what) = match protocol {
            TCP => {
                let acknowledged: [u8; 4] = packet.get(ip + 8..ip + 12)?.try_into().ok()?;
                let flags = *packet.get(ip + 13)?;
                let what = match flags & 0x16 {
                    0x12 => What::SynAck { acknowledged: u32::from_be_bytes(acknowledged) },
                    f if f & 0x04 != 0 => What::Reset,
                    _ => return None,
                };
                (ports(ip)?, what)
            }
            UDP => (ports(ip)?, What::Data),
            ICMP | ICMPV6 => {
                let (kind, code) = (*packet.get(ip)?, *packet.get(ip + 1)?);
                if kind == error {
                    // Inside stands the knock: its ports are the other way round.
                    let inner = ip + 8 + ip;
                    let echo = *packet.get(ip + 8 + if six { 6 } else { 9 })? == protocol;
                    let answered = match echo {
                        true => Answered { from: u16_at(inner + 4)?, to: 0 },
                        false => Answered { from: u16_at(inner)?, to: u16_at(inner + 2)? },
                    };
                    (answered, What::Error { kind, code })
                } else {
                    (Answered { from: u16_at(ip + 4)?, to: 0 }, What::Data)
                }
            }
            _ => return None,
        };
        Some(Self { answered, what })
    }
}

/// Where the copied packet begins on the stack; 96 bytes.
const COPY: i16 = -200;

/// At egress: what goes to `source` and belongs to a knock is copied to the
/// ring and dropped.
fn catch_program(source: IpAddr, ring: BorrowedFd<'_>) -> Result<Vec<u8>, Misfit> {
    let mut a = Assembler::default();
    let (next, four, six) = (a.label(), a.label(), a.label());
    a.copy(R6, R1);
    family_jumps(&mut a, four, six);
    a.jump(next);
    let (mine, other) = match source {
        IpAddr::V4(_) => (four, six),
        IpAddr::V6(_) => (six, four),
    };
    a.place(mine);
    catch(&mut a, source, ring, next);
    a.place(other);
    a.place(next);
    a.mov(R0, -1); // TCX_NEXT
    a.exit();
    a.finish()
}

fn catch(a: &mut Assembler, source: IpAddr, ring: BorrowedFd<'_>, next: Label) {
    let family = Family::of(source);
    let ways = Ways { malformed: next, later_fragment: next, loopback: None };
    ip_header(a, family, ways);
    let to = at::HEADER + destination_offset(family);
    let (ip, icmp, error) = match source {
        IpAddr::V4(v4) => {
            a.load(Width::W, R1, STACK, to);
            a.mov(R2, i32::from_ne_bytes(v4.octets()));
            a.op(Op::Lsh, R2, 32); // as the load: no sign in the upper half
            a.op(Op::Rsh, R2, 32);
            a.jump_if_reg(If::Ne, R1, R2, next);
            (20, ICMP, 3)
        }
        IpAddr::V6(v6) => {
            for (half, bytes) in v6.octets().chunks_exact(8).enumerate() {
                let mut word = [0; 8];
                word.copy_from_slice(bytes);
                a.load(Width::D, R1, STACK, to + 8 * half as i16);
                a.value64(R2, u64::from_ne_bytes(word));
                a.jump_if_reg(If::Ne, R1, R2, next);
            }
            (40, ICMPV6, 1)
        }
    };
    let (tcp, udp, message, unreachable, output) =
        (a.label(), a.label(), a.label(), a.label(), a.label());
    a.jump_if(If::Eq, R9, i32::from(TCP), tcp);
    a.jump_if(If::Eq, R9, i32::from(UDP), udp);
    a.jump_if(If::Eq, R9, i32::from(icmp), message);
    a.jump(next);

    a.place(tcp);
    copied(a, ip + 20, ip + 2, next, output);
    a.place(udp);
    copied(a, ip + 8, ip + 2, next, output);
    a.place(message);
    load(a, ip + 8, next);
    a.load(Width::B, R1, STACK, COPY + ip);
    a.jump_if(If::Eq, R1, error, unreachable);
    copied(a, ip + 8, ip + 4, next, output);
    a.place(unreachable);
    let (inner, about_echo) = (ip + 8 + ip, a.label());
    load(a, inner + 8, next);
    let protocol = if family == Family::V4 { 9 } else { 6 };
    a.load(Width::B, R1, STACK, COPY + ip + 8 + protocol);
    a.jump_if(If::Eq, R1, i32::from(icmp), about_echo);
    copied(a, inner + 8, inner, next, output);
    a.place(about_echo);
    copied(a, inner + 8, inner + 4, next, output);

    a.place(output);
    a.map(R1, ring);
    a.stack(R2, COPY);
    a.copy(R3, R7);
    a.mov(R4, 0);
    a.call(helper::RING_OUTPUT);
    a.mov(R0, 2); // TCX_DROP
    a.exit();
}

fn load(a: &mut Assembler, length: i16, next: Label) {
    a.copy(R1, R6);
    a.mov(R2, 0);
    a.stack(R3, COPY);
    a.mov(R4, i32::from(length));
    a.mov(R5, 1); // BPF_HDR_START_NET
    a.call(helper::LOAD_BYTES_RELATIVE);
    a.jump_if(If::Ne, R0, 0, next);
}

/// Copies `length` bytes; goes on to the output when the port at `port` is one
/// of the knocks'.
fn copied(a: &mut Assembler, length: i16, port: i16, next: Label, output: Label) {
    load(a, length, next);
    a.load(Width::H, R1, STACK, COPY + port);
    a.from_network(R1, 16);
    a.jump_if(If::Lt, R1, i32::from(FIRST_PORT), next);
    a.mov(R7, i32::from(length));
    a.jump(output);
}

/// What the gate's dry run is asked for a door.
pub fn question(approach: &Approach, subject: Subject, target: IpAddr) -> Vec<u8> {
    let knock = Knock { source: approach.source, target, from: FIRST_PORT };
    frames::first(subject, knock, approach.interface.hardware.unwrap_or_default())
}

/// Whether a subject can be knocked on by the witness and its silence means
/// something: datagrams cannot, their ports are asked of the gate.
pub fn knockable(subject: Subject) -> bool {
    !matches!(subject, Subject::Port(Transport::Udp, _))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn caught_answers_find_their_knock() {
        let mut syn_ack = vec![0; 40];
        (syn_ack[0], syn_ack[9]) = (0x45, 6);
        syn_ack[20..24].copy_from_slice(&[0, 22, 0xee, 0x48]);
        syn_ack[28..32].copy_from_slice(&[0, 0, 1, 0]);
        syn_ack[33] = 0x12;
        let answered = Answered { from: 61_000, to: 22 };
        let what = What::SynAck { acknowledged: 256 };
        assert_eq!(Caught::read(false, &syn_ack), Some(Caught { answered, what }));
        syn_ack[33] = 0x14;
        assert_eq!(Caught::read(false, &syn_ack).unwrap().what, What::Reset);
        for length in 0..34 {
            assert_eq!(Caught::read(false, &syn_ack[..length]), None);
        }
        let mut error = vec![0; 96];
        (error[6], error[40], error[41]) = (58, 1, 4);
        error[88..92].copy_from_slice(&[0xee, 0x48, 0x1c, 0xfc]);
        let caught = Caught::read(true, &error).unwrap();
        assert_eq!(caught.answered, Answered { from: 61_000, to: 7420 });
        assert_eq!(caught.what, What::Error { kind: 1, code: 4 });
        // About an echo request: its identifier stands where a checksum is followed by it.
        error[54] = 58;
        error[92..94].copy_from_slice(&[0xee, 0x49]);
        let caught = Caught::read(true, &error).unwrap();
        assert_eq!(caught.answered, Answered { from: 61_001, to: 0 });
    }
}
