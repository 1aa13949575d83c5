//! A check in the making: vantage after vantage adds a column; the cells are
//! judged at the end, when it is known what no longer listens.

use std::collections::{BTreeSet, HashMap};
use std::net::{IpAddr, Ipv4Addr, Ipv6Addr, SocketAddr};
use std::time::Duration;

use tipstaff_core::analysis::reach::{
    Arrival, Cell, CellContext, Checked, How, Observed, Outcome, Report, Row, Said, Subject,
    Vantage, cell, first_packet, let_in, program_at, speaker_words, subjects, tables_of_many,
};
use tipstaff_core::brief::Brief;
use tipstaff_core::decision::{Decision, decide};
use tipstaff_core::host::listener::{Listener, Scope};
use tipstaff_core::moment::Moment;
use tipstaff_core::names::traffic::Transport;
use tipstaff_core::orders::{Action, Origin};
use tipstaff_core::packet::{InterfaceIndex, PacketContext};
use tipstaff_gate::kernel::KernelGate;
use tipstaff_host::snapshot::Snapshot;
use tipstaff_knock::Reply;
use tipstaff_knock::sockets::Door;
use tipstaff_knock::witness::{self, Approach, Knocked, Witness, WitnessFault};

use crate::evidence::{GateInForce, ask, gate_words, of_reply, programs};
use crate::fault::{CheckFault, system};
use crate::place::Place;
use crate::published;
use crate::sockets::Sockets;

/// Of so many ports, those that nothing listens on are not knocked on from here.
const MANY: usize = 2_000;

/// What one vantage saw of one place.
struct Seen {
    observed: Observed,
    at: Arrival,
    gate: Option<Said>,
    came_in: Option<bool>,
}

impl Seen {
    fn unknown(why: &str, at: Arrival) -> Self {
        Self { observed: Observed::unknown(why), at, gate: None, came_in: None }
    }
}

struct Column {
    vantage: Vantage,
    cells: Vec<Option<Seen>>,
    /// Other programs at the interface.
    others: Vec<String>,
    not_the_way_back: bool,
}

/// What a check is judged by.
#[derive(Clone, Debug)]
pub struct Basis<'c> {
    /// The list.
    pub brief: &'c Brief,
    /// The host that this machine is in the orders, where they know hosts.
    pub host: Option<String>,
    /// The orders.
    pub orders: Origin,
}

/// A check in the making.
pub struct Check<'c> {
    basis: Basis<'c>,
    snapshot: &'c Snapshot,
    places: Vec<Place>,
    columns: Vec<Column>,
    /// What is said once, below the table.
    pub notes: Vec<String>,
    /// Whether the gate in force holds other orders than those judged by.
    pub other_orders: bool,
    /// Whether everything was looked at.
    pub complete: bool,
    witness: Option<Witness>,
    /// Sources that look at some places only.
    pub only: HashMap<IpAddr, BTreeSet<Place>>,
}

impl Column {
    /// In the usual circumstances.
    fn new(vantage: Vantage, cells: Vec<Option<Seen>>) -> Self {
        Self { vantage, cells, others: Vec::new(), not_the_way_back: false }
    }
}

impl<'c> Check<'c> {
    /// Nothing looked at yet: what listens, what the orders name, a sample.
    pub fn new(basis: Basis<'c>, snapshot: &'c Snapshot) -> Self {
        let places = subjects(basis.brief, &snapshot.listeners).into_iter().map(Place::from);
        Self::at(basis, snapshot, places.collect())
    }

    /// Nothing looked at yet, of these places.
    pub fn at(basis: Basis<'c>, snapshot: &'c Snapshot, places: BTreeSet<Place>) -> Self {
        Self {
            basis,
            snapshot,
            places: places.into_iter().collect(),
            columns: Vec::new(),
            notes: Vec::new(),
            other_orders: false,
            complete: true,
            witness: None,
            only: HashMap::new(),
        }
    }

    fn sockets(&self) -> Sockets<'c> {
        Sockets(&self.snapshot.listeners)
    }

    /// How many places there are.
    pub fn rows(&self) -> usize {
        self.places.len()
    }

    /// What this host knocks on by itself: loopback of both families and the
    /// own addresses that something is bound to. Not where connections already
    /// wait to be accepted: a check never fills a queue.
    pub fn here_doors(&self) -> Vec<(usize, Door)> {
        let mut doors = Vec::new();
        for (nth, place) in self.places.iter().enumerate() {
            let Subject::Port(transport, port) = place.subject else { continue };
            let heard = self.sockets().bound(place.subject).next().is_some();
            if self.sockets().waiting(place.subject).is_some() || (!heard && self.rows() > MANY) {
                continue;
            }
            for target in self.own_targets(*place) {
                let to = SocketAddr::new(target, port);
                doors.push((nth, Door { transport, to, from: None, local: true }));
            }
        }
        doors
    }

    fn own_targets(&self, place: Place) -> BTreeSet<IpAddr> {
        if let Some(at) = place.at {
            return [at].into();
        }
        let mut targets: BTreeSet<IpAddr> =
            [Ipv4Addr::LOCALHOST.into(), Ipv6Addr::LOCALHOST.into()].into();
        targets.extend(
            self.sockets()
                .bound(place.subject)
                .filter(|l| l.scope() == Scope::One)
                .map(|l| l.address),
        );
        targets
    }

    /// Adds the column of this host itself, from the replies to
    /// [`Check::here_doors`].
    pub fn add_own_column(&mut self, doors: &[(usize, Door)], replies: &[Reply]) {
        fn rank(outcome: Outcome) -> u8 {
            match outcome {
                Outcome::Answers => 0,
                Outcome::Refuses => 1,
                Outcome::Silent => 2,
                Outcome::Unknown => 3,
            }
        }
        // The best of all own addresses: a port that answers on one of them answers here.
        let mut best: Vec<Option<(Reply, IpAddr)>> = vec![None; self.rows()];
        for ((nth, door), reply) in doors.iter().zip(replies) {
            let known = &mut best[*nth];
            if known.is_none_or(|(other, _)| rank(reply.outcome()) < rank(other.outcome())) {
                *known = Some((*reply, door.to.ip()));
            }
        }
        let interface = InterfaceIndex::LOOPBACK;
        let at = Arrival { target: IpAddr::V4(Ipv4Addr::LOCALHOST), interface };
        let cells = self.places.iter().zip(best).map(|(of, known)| {
            let (observed, at) = match known {
                Some((reply, target)) => (of_reply(reply, target), Arrival { target, interface }),
                None => (self.sockets().not_knocked_on(of.subject), at),
            };
            Some(Seen { observed, at, gate: None, came_in: None })
        });
        self.columns.push(Column::new(Vantage::Here, cells.collect()));
    }

    /// Adds the column of an outside source that the witness plays. `gate`: the
    /// one in force, with its list.
    pub fn look_as(
        &mut self,
        vantage: Vantage,
        gate: Option<GateInForce<'_>>,
        patience: Duration,
        go_on: &mut dyn FnMut(usize) -> bool,
    ) -> Result<(), CheckFault> {
        let Vantage::Outside { source, via, .. } = &vantage else { return Ok(()) };
        let approach = witness::approach(*source, via.as_deref(), &self.snapshot.interfaces)?;
        let doors = self.doors(&approach);
        let known = match self.witness_of(&approach, gate.map(|(gate, _)| gate)) {
            Ok(mut witness) => {
                let open: Vec<(Subject, IpAddr)> = doors.iter().flatten().copied().collect();
                let mut known = witness
                    .knock(&open, patience, go_on)
                    .map_err(system("knocking as the witness"))?;
                let (Snapshot { interfaces, listeners, .. }, gate) =
                    (self.snapshot, gate.map(|(gate, _)| gate));
                published::look(&approach, gate, interfaces, listeners, &open, &mut known)?;
                self.witness = Some(witness);
                Some(known)
            }
            Err(fault @ (WitnessFault::NoNextHop { .. } | WitnessFault::NoLinks)) => {
                self.notes.push(format!("{fault}; known by the gate, not by the wire"));
                None
            }
            Err(fault) => return Err(fault.into()),
        };
        // Where its word was caught on the wire, the gate need not be asked.
        let asked = match gate {
            Some(gate) => {
                let doors: Vec<(Subject, IpAddr)> = doors.iter().flatten().copied().collect();
                let open: Vec<usize> = (0..doors.len())
                    .filter(|nth| known.as_ref().is_none_or(|known| known[*nth].let_in.is_none()))
                    .collect();
                let mut said = vec![None; doors.len()];
                let wanted: Vec<(Subject, IpAddr)> = open.iter().map(|nth| doors[*nth]).collect();
                for (nth, answer) in open.iter().zip(ask(gate, &approach, &wanted)?) {
                    said[*nth] = Some(answer);
                }
                said
            }
            None => vec![None; doors.iter().flatten().count()],
        };
        let others = witness::others_at(&approach.interface).unwrap_or_default();
        self.outside(vantage, &approach, &doors, known.as_deref(), asked, gate.map(|(_, b)| b));
        if let Some(column) = self.columns.last_mut() {
            column.others = others;
        }
        Ok(())
    }

    /// The witness of the source before, where that can play this one too.
    fn witness_of(
        &mut self,
        approach: &Approach,
        gate: Option<&KernelGate>,
    ) -> Result<Witness, WitnessFault> {
        let new = || {
            let marks = gate.map(KernelGate::marks).transpose();
            let marks = marks.map_err(|e| WitnessFault::System(std::io::Error::other(e)))?;
            Witness::open(approach.clone(), marks.flatten())
        };
        match self.witness.take() {
            Some(mut witness) => match witness.turn_into(approach)? {
                true => Ok(witness),
                false => new(),
            },
            None => new(),
        }
    }

    /// What an outside source knocks on: each subject at the address of the
    /// approach, or at the one that its listener is bound to.
    pub fn doors(&self, approach: &Approach) -> Vec<Option<(Subject, IpAddr)>> {
        let own: Vec<IpAddr> = approach.interface.addresses_of(approach.source.is_ipv6()).collect();
        let arrives = Some(approach.interface.name.as_str());
        let only = self.only.get(&approach.source);
        let target_of = |place: &Place| {
            if only.is_some_and(|only| !only.contains(place)) {
                return None;
            }
            if let Some(at) = place.at {
                return (at.is_ipv4() == approach.source.is_ipv4()).then_some(at);
            }
            if self.sockets().bound(place.subject).any(|l| l.takes_on(approach.target, arrives)) {
                return Some(approach.target);
            }
            let elsewhere =
                self.sockets().bound(place.subject).map(|l| l.address).find(|a| own.contains(a));
            Some(elsewhere.unwrap_or(approach.target))
        };
        self.places.iter().map(|place| Some((place.subject, target_of(place)?))).collect()
    }

    /// Adds the column of an outside source. `known`: what the witness saw of
    /// the doors there are; `None` when it could not be played, and the gate's
    /// word and the socket table are the evidence. `asked`: what the gate in
    /// force said of each. `brief`: the list in force.
    pub fn outside(
        &mut self,
        vantage: Vantage,
        approach: &Approach,
        doors: &[Option<(Subject, IpAddr)>],
        known: Option<&[Knocked]>,
        asked: Vec<Option<Said>>,
        brief: Option<&Brief>,
    ) {
        let interface = InterfaceIndex(approach.interface.index);
        let mut asked = asked.into_iter();
        let mut knocked = known.map(|known| known.iter());
        let mut cells = Vec::with_capacity(doors.len());
        for door in doors {
            let Some((subject, target)) = door else {
                cells.push(None);
                continue;
            };
            let said = asked.next().flatten();
            let one = knocked.as_mut().and_then(Iterator::next);
            let caught = one.and_then(|one| one.let_in);
            let gate = match caught.and_then(|let_in| let_in.speaker) {
                Some(speaker) => {
                    let decision = Decision { verdict: Action::Allow, speaker };
                    brief.map(|brief| Said { decision, by: speaker_words(brief, speaker) })
                }
                None => said,
            };
            let mut observed = match one {
                Some(Knocked { reply: Reply::CameIn, forwarded_to: Some(to), .. }) => Observed {
                    how: How::Wire,
                    target: Some(*target),
                    ..Observed::unknown(published::datagram(*to))
                },
                Some(Knocked { reply: Reply::CameIn, .. }) => {
                    self.sockets().datagram(*subject, *target, approach, gate.as_ref())
                }
                Some(one) => {
                    let seen = of_reply(one.reply, *target);
                    match (subject, one.reply) {
                        // Nothing comes back of a datagram anyway: the record is the evidence.
                        (Subject::Port(Transport::Udp, _), Reply::Nothing(_)) => Observed {
                            how: How::Gate,
                            evidence: Some("the datagram did not pass the gate".into()),
                            ..seen
                        },
                        // Where nothing of this host's own may leave, its silence alone would
                        // prove nothing; what is known of the queue does.
                        (_, Reply::Unproven)
                            if self.sockets().full(*subject, *target, approach).is_some() =>
                        {
                            self.sockets().by_gate(*subject, *target, approach, gate.as_ref())
                        }
                        _ => seen,
                    }
                }
                None => self.sockets().by_gate(*subject, *target, approach, gate.as_ref()),
            };
            observed.gate = gate.as_ref().map(gate_words);
            observed.forwarded_to = one.and_then(|one| one.forwarded_to);
            let came_in = one.map(|one| {
                // An answer of the stack's own came past the gate, too.
                one.let_in.is_some() || matches!(one.reply, Reply::Accepted(_) | Reply::Data(_))
            });
            cells.push(Some(Seen {
                observed,
                at: Arrival { target: *target, interface },
                gate,
                came_in,
            }));
        }
        let not_the_way_back = approach.back != approach.interface.index;
        self.columns.push(Column { not_the_way_back, ..Column::new(vantage, cells) });
    }

    /// Adds the column of an outside source whose replies came by other means,
    /// one a door; where there is none, the gate's word is the evidence.
    pub fn heard(
        &mut self,
        approach: &Approach,
        doors: &[Option<(Subject, IpAddr)>],
        replies: &[Option<Reply>],
        asked: Vec<Option<Said>>,
    ) {
        self.outside(Vantage::outside(approach.source), approach, doors, None, asked, None);
        let Some(column) = self.columns.last_mut() else { return };
        let seen = column.cells.iter_mut().flatten();
        for (cell, reply) in seen.zip(replies) {
            if let Some(reply) = reply {
                let gate = cell.observed.gate.take();
                cell.observed = Observed { gate, ..of_reply(*reply, cell.at.target) };
            }
        }
    }

    /// Adds a column that is only computed from the orders.
    pub fn worked_out(&mut self, source: IpAddr, at: Arrival) {
        let Arrival { target, interface } = at;
        let (brief, listeners) = (self.basis.brief, &self.snapshot.listeners);
        let cells = self
            .places
            .iter()
            .map(|place| {
                let program = program_at(brief, listeners, place.subject, at);
                let facts = first_packet(place.subject, source, target, interface);
                let decision = decide(brief, &PacketContext { program, ..facts });
                let outcome = match decision.verdict {
                    Action::Deny => Outcome::Silent,
                    Action::Refuse => Outcome::Refuses,
                    Action::Allow => let_in(listeners, place.subject, target, None),
                };
                let observed = Observed {
                    outcome,
                    target: Some(target),
                    evidence: None,
                    ..Observed::unknown("")
                };
                Some(Seen { observed, at, gate: None, came_in: None })
            })
            .collect();
        self.columns.push(Column::new(Vantage::outside(source), cells));
    }

    /// Adds a column of which nothing could be found out. `at`: where it
    /// would have knocked.
    pub fn unknown(&mut self, vantage: Vantage, why: &str, at: Arrival) {
        let cells = self.places.iter().map(|_| Some(Seen::unknown(why, at))).collect();
        self.columns.push(Column::new(vantage, cells));
        self.complete = false;
    }

    /// Judges every cell. `after`: what listens now that the check is over; `at`: now.
    pub fn finish(self, gate: &str, after: Option<&[Listener]>, at: Moment) -> Report {
        let mut listeners = self.snapshot.listeners.clone();
        let mut stopped = Vec::new();
        let mut started = Vec::new();
        if let Some(after) = after {
            let subject = |l: &Listener| Subject::Port(l.transport, l.port);
            let before: BTreeSet<Subject> = listeners.iter().map(subject).collect();
            started.extend(after.iter().map(subject).filter(|now| !before.contains(now)));
            for one in &mut listeners {
                match after.iter().find(|l| {
                    (l.transport, l.port, l.address) == (one.transport, one.port, one.address)
                }) {
                    // A queue may have filled meanwhile.
                    Some(now) => one.queue = one.queue.max(now.queue),
                    None => stopped.push(Subject::Port(one.transport, one.port)),
                }
            }
        }
        let seen = self.columns.iter().flat_map(|column| {
            let cells = self.places.iter().zip(&column.cells);
            cells.filter_map(|(place, seen)| Some((place.subject, &column.vantage, seen.as_ref()?)))
        });
        let plain = CellContext {
            stopped: &stopped,
            started: &started,
            ..CellContext::plain(self.basis.brief, Some(&listeners))
        };
        let published =
            published::found(&plain, seen.map(|(s, v, seen)| (s, v, seen.at, &seen.observed)));
        let tables = tables_of_many(self.basis.brief);
        let mut vantages = Vec::new();
        let mut columns = Vec::new();
        for column in self.columns {
            let Column { vantage, cells, others, not_the_way_back } = column;
            let around = CellContext {
                stopped: &stopped,
                started: &started,
                published: &published,
                other_orders: self.other_orders,
                others: &others,
                not_the_way_back,
                tables: tables.as_ref(),
                ..CellContext::plain(self.basis.brief, Some(&listeners))
            };
            let judged: Vec<Option<Cell>> = cells
                .into_iter()
                .zip(&self.places)
                .map(|(seen, place)| {
                    let Seen { observed, at, gate, came_in } = seen?;
                    let around = CellContext { gate: gate.as_ref(), came_in, ..around };
                    Some(cell(place.subject, &vantage, at, observed, &around))
                })
                .collect();
            vantages.push(vantage);
            columns.push(judged.into_iter());
        }
        let rows = self
            .places
            .iter()
            .map(|place| Row {
                subject: place.subject,
                last: None,
                at: place.at,
                programs: programs(&listeners, place.subject),
                heard: listeners
                    .iter()
                    .any(|l| Subject::Port(l.transport, l.port) == place.subject),
                cells: columns.iter_mut().filter_map(Iterator::next).collect(),
            })
            .collect();
        let checked = Checked {
            host: self.basis.host.unwrap_or_else(|| self.snapshot.host.clone()),
            orders: self.basis.orders,
            gate: gate.to_owned(),
            at,
        };
        let report = Report::new(checked, vantages, rows);
        Report { notes: self.notes, complete: self.complete, ..report }
    }
}
