//! Out of this host, and through it.

use std::fs;
use std::net::{IpAddr, SocketAddr};
use std::time::Duration;

use tipstaff_core::analysis::reach::{
    Crossing, Met, Passage, Said, Subject, Wanted, Word, speaker_words,
};
use tipstaff_core::brief::Brief;
use tipstaff_core::host::interface::Interface;
use tipstaff_core::names::address::Family;
use tipstaff_core::names::traffic::Transport;
use tipstaff_core::packet::{Direction, InterfaceIndex, ProgramIndex};
use tipstaff_gate::GateError;
use tipstaff_gate::kernel::Asked;
use tipstaff_host::neighbours;
use tipstaff_host::routes::{Way, way_to};
use tipstaff_host::snapshot::Snapshot;
use tipstaff_knock::Reply;
use tipstaff_knock::frames::{self, FIRST_PORT, Knock};
use tipstaff_knock::sockets::{self, Door};
use tipstaff_knock::witness::{self, CameOut, Through, WentThrough, WitnessFault};

use crate::evidence::GateInForce;
use crate::fault::{CheckFault, system};

/// Somebody to reach, and how.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Destination {
    /// A port, or echo.
    pub subject: Subject,
    /// Whose.
    pub address: IpAddr,
}

/// A check of what crosses this host's edge, and what it is judged by.
pub struct Across<'c> {
    /// The list.
    pub brief: &'c Brief,
    /// The machine.
    pub snapshot: &'c Snapshot,
    /// The gate in force.
    pub gate: Option<GateInForce<'c>>,
    /// Whether this account can see if a gate is up.
    pub visible: bool,
    /// Whether the gate in force holds other orders than those judged by.
    pub other_orders: bool,
    /// How long an answer is waited for.
    pub patience: Duration,
}

impl Across<'_> {
    /// Whether this host can reach somebody: by a connection that ends at once, or
    /// where another program is meant, or no connection can be made, by the gate.
    ///
    /// # Errors
    /// [`CheckFault`].
    pub fn outbound(
        &self,
        Destination { subject, address }: Destination,
        program: Option<&str>,
    ) -> Result<Crossing, CheckFault> {
        let own = std::env::current_exe().ok();
        let path = program.or_else(|| own.as_ref()?.to_str());
        let index = |brief: &Brief| path.map_or(ProgramIndex::OTHER, |p| brief.program_index(p));
        let way = way_to(address).map_err(system("asking the routing table"))?;
        let (leaves, source) = match way {
            Way::Own => return Err(CheckFault::OwnAddress(address)),
            Way::Out { interface, source, .. } => {
                let interface = self.interface(interface);
                let usual = source
                    .or_else(|| interface.and_then(|i| i.addresses_of(address.is_ipv6()).next()));
                (interface, usual)
            }
            Way::None => (None, None),
        };
        let unspecified: IpAddr = match Family::of_address(address) {
            Family::V4 => [0; 4].into(),
            Family::V6 => [0u8; 16].into(),
        };
        let wanted = Wanted {
            direction: Direction::Outbound,
            subject,
            source: source.unwrap_or(unspecified),
            destination: address,
            comes_in: None,
            leaves: leaves.map(place),
            program: index(self.brief),
        };
        let Some(leaves) = leaves else {
            let met = Met::NotSent("there is no route".into());
            return Ok(self.judged(&wanted, met, &Word::NoGate));
        };
        let asked_program = self.gate.map(|(_, brief)| index(brief));
        let word = self.word(&wanted, leaves, asked_program)?;
        let met = match subject {
            Subject::Port(Transport::Tcp, port) if program.is_none() => {
                let to = SocketAddr::new(address, port);
                let door = Door { transport: Transport::Tcp, to, from: None, local: false };
                let replies = sockets::knock(&[door], self.patience, &mut |_| true);
                met(replies.first().copied().unwrap_or(Reply::NotAsked))
            }
            _ => Met::NotTried,
        };
        Ok(self.judged(&wanted, met, &word))
    }

    /// Whether a source can reach somebody through this host: played by the witness,
    /// and caught where it leaves.
    ///
    /// # Errors
    /// [`CheckFault`].
    pub fn through(
        &self,
        source: IpAddr,
        via: Option<&str>,
        Destination { subject, address }: Destination,
    ) -> Result<Crossing, CheckFault> {
        let approach = witness::approach(source, via, &self.snapshot.interfaces)?;
        let (leaves, next) = match way_to(address).map_err(system("asking the routing table"))? {
            Way::Own => return Err(CheckFault::OwnAddress(address)),
            Way::Out { interface, gateway, .. } => {
                (self.interface(interface), gateway.unwrap_or(address))
            }
            Way::None => (None, address),
        };
        let wanted = Wanted {
            direction: Direction::Transit,
            subject,
            source,
            destination: address,
            comes_in: Some(place(&approach.interface)),
            leaves: leaves.map(place),
            program: ProgramIndex::OTHER,
        };
        let Some(leaves) = leaves else {
            let met = Met::NotSent("there is no route".into());
            return Ok(self.judged(&wanted, met, &Word::NoGate));
        };
        let word = self.word(&wanted, &approach.interface, None)?;
        if !self.visible || !nix::unistd::geteuid().is_root() {
            return Ok(self.judged(&wanted, Met::NotTried, &Word::NotVisible));
        }
        let marks = self.gate.map(|(gate, _)| gate.marks()).transpose()?.flatten();
        let comes_in = approach.interface.name.clone();
        let mut through = match Through::open(approach, &[leaves.index], marks) {
            Ok(through) => through,
            // Nobody can come in like that now; what the gate would say is known all the same.
            Err(WitnessFault::NoNextHop { .. }) => {
                return Ok(self.judged(&wanted, Met::NotTried, &word));
            }
            Err(fault) => return Err(fault.into()),
        };
        let seen = through
            .knock(subject, address, self.patience)
            .map_err(system("knocking as the witness"))?;
        let met = match seen {
            WentThrough { came_out: Some(CameOut { after, .. }), .. } => {
                let ms = after.as_secs_f64() * 1e3;
                let out = &leaves.name;
                Met::CameOut(format!("it left by {out} after {ms:.1} ms, and was caught there"))
            }
            _ if !forwards(&comes_in, source) => {
                let family = Family::of_address(source);
                Met::DoesNotForward(format!("this host does not forward {family} from {comes_in}"))
            }
            WentThrough { let_in: None, reply: Reply::Nothing(_), .. } => {
                Met::Forbidden("stopped where it came in".into())
            }
            WentThrough { let_in: Some(_), reply: Reply::Nothing(_), .. } => {
                let known = neighbours::list().unwrap_or_default();
                let out = &leaves.name;
                Met::NotSent(match known.contains(&next) {
                    true => format!("it passed the gate, but was not seen leaving {out}"),
                    false => format!("it passed the gate; {next} does not respond on {out}"),
                })
            }
            WentThrough { reply, .. } => match &word {
                Word::Said(said) if Passage::from(said.decision.verdict) == Passage::Refused => {
                    Met::Refusal(reply.to_string())
                }
                _ => Met::Forbidden(format!("this host answers with {reply}")),
            },
        };
        Ok(self.judged(&wanted, met, &word))
    }

    fn judged(&self, wanted: &Wanted, met: Met, word: &Word) -> Crossing {
        Crossing::judge(self.brief, wanted, met, word, self.other_orders)
    }

    fn interface(&self, index: u32) -> Option<&Interface> {
        self.snapshot.interfaces.iter().find(|i| i.index == index)
    }

    /// Asks the gate that is up. `at`: where the packet is then.
    fn word(
        &self,
        wanted: &Wanted,
        at: &Interface,
        program: Option<ProgramIndex>,
    ) -> Result<Word, CheckFault> {
        let Some((gate, brief)) = self.gate else {
            return Ok(if self.visible { Word::NoGate } else { Word::NotVisible });
        };
        let way = match wanted.direction {
            Direction::Outbound => Direction::Outbound,
            Direction::Inbound | Direction::Transit => Direction::Inbound,
        };
        let (source, target) = (wanted.source, wanted.destination);
        let knock = Knock { source, target, from: FIRST_PORT, tag: 1 };
        let frame = frames::first(wanted.subject, knock, at.hardware.unwrap_or_default());
        let asked = [Asked { interface: InterfaceIndex(at.index), program, frame }];
        let decision = gate.ask_all(way, &asked)?.first().copied();
        let decision = decision.ok_or(GateError::NothingInForce)?;
        Ok(Word::Said(Said { by: speaker_words(brief, decision.speaker), decision }))
    }
}

/// What a reply to an ordinary connection means.
fn met(reply: Reply) -> Met {
    let words = reply.to_string();
    match reply {
        Reply::Accepted(_) | Reply::Closed(_) | Reply::Data(_) => Met::OtherEnd(words),
        Reply::Reset(_) | Reply::Icmp { .. } => Met::Refusal(words),
        Reply::NotSent(errno) if errno == nix::libc::EPERM || errno == nix::libc::EACCES => {
            Met::Forbidden("not permitted to send it".into())
        }
        Reply::NotSent(_) => Met::NotSent(words),
        Reply::Nothing(_) | Reply::Taken | Reply::Mute | Reply::Unproven | Reply::CameIn => {
            Met::Nothing(words)
        }
        Reply::NotAsked => Met::NotTried,
    }
}

fn place(interface: &Interface) -> (InterfaceIndex, String) {
    (InterfaceIndex(interface.index), interface.name.clone())
}

/// Whether the kernel forwards what comes in there (Documentation/networking/ip-sysctl.rst).
pub(crate) fn forwards(interface: &str, source: IpAddr) -> bool {
    fn is_set(path: String) -> bool {
        fs::read_to_string(path).is_ok_and(|text| text.trim() != "0")
    }
    match Family::of_address(source) {
        Family::V4 => is_set(format!("/proc/sys/net/ipv4/conf/{interface}/forwarding")),
        Family::V6 => {
            is_set("/proc/sys/net/ipv6/conf/all/forwarding".into())
                || is_set(format!("/proc/sys/net/ipv6/conf/{interface}/force_forwarding"))
        }
    }
}
