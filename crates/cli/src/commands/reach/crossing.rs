//! `reach --outbound` and `--through`: what this host can reach, and what can
//! be reached through it.

use std::fs;
use std::net::{IpAddr, SocketAddr};
use std::time::Duration;

use serde::Serialize;
use tipstaff_core::analysis::reach::{
    Crossing, Met, Passage, Said, Subject, Vantage, Wanted, Word, speaker_words, typical,
};
use tipstaff_core::brief::Brief;
use tipstaff_core::host::interface::Interface;
use tipstaff_core::names::address::Family;
use tipstaff_core::names::traffic::Transport;
use tipstaff_core::orders::Orders;
use tipstaff_core::packet::{Direction, InterfaceIndex, ProgramIndex};
use tipstaff_gate::kernel::{Asked, KernelGate};
use tipstaff_host::neighbours;
use tipstaff_host::routes::{Way, way_to};
use tipstaff_host::snapshot::Snapshot;
use tipstaff_knock::Reply;
use tipstaff_knock::frames::{self, FIRST_PORT, Knock};
use tipstaff_knock::sockets::{self, Door};
use tipstaff_knock::witness::{self, Through, WentThrough, WitnessFault};

use super::wanted;
use crate::Ending;
use crate::arguments::{Common, ReachOptions};
use crate::chosen::{self, Chosen, Visible};
use crate::failure::{Failure, system};
use crate::terminal::{Columns, Terminal, counted, faint, loud, plain};

#[derive(Serialize)]
struct Report<'r> {
    host: String,
    orders: String,
    hash: String,
    gate: &'static str,
    at: i64,
    crossings: &'r [Crossing],
    differences: usize,
    unknown: usize,
    notes: &'r [String],
}

/// Somebody to reach, and how.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
struct Destination {
    subject: Subject,
    address: IpAddr,
}

/// What everything is judged by.
struct Check<'c> {
    judge: &'c Chosen,
    snapshot: &'c Snapshot,
    gate: Option<(&'c KernelGate, &'c Brief)>,
    visible: Visible,
    other_orders: bool,
    patience: Duration,
}

pub fn run(
    common: &Common,
    options: &ReachOptions,
    terminal: &Terminal,
) -> Result<Ending, Failure> {
    let snapshot = Snapshot::live().map_err(system("reading what listens"))?;
    let (in_force, visible) = chosen::in_force(common)?;
    let Some(judge) = chosen::choose(common, in_force.as_ref())? else {
        return Err(Failure::NoOrders(common.orders_path().to_owned()));
    };
    let kernel = KernelGate::new(&common.run_dir)?;
    let in_force_brief = match &in_force {
        Some(in_force) => Some(chosen::from_force(in_force)?.brief),
        None => None,
    };
    let check = Check {
        judge: &judge,
        snapshot: &snapshot,
        gate: in_force_brief.as_ref().map(|brief| (&kernel, brief)),
        visible,
        other_orders: in_force.is_some_and(|f| f.record.hash() != judge.origin.hash()),
        patience: Duration::from_millis(options.patience),
    };
    let mut notes: Vec<String> = judge.links().iter().map(ToString::to_string).collect();
    let mut crossings = Vec::new();
    for destination in destinations(&judge.orders, &options.outbound, &snapshot)? {
        crossings.push(check.outbound(destination, options.program.as_deref())?);
    }
    let through = destinations(&judge.orders, &options.through, &snapshot)?;
    if !through.is_empty() {
        for vantage in wanted::vantages(options, &judge, &snapshot, &mut notes)? {
            let Vantage::Outside { source, via, .. } = &vantage else { continue };
            let same = |d: &&Destination| d.address.is_ipv4() == source.is_ipv4();
            for destination in through.iter().filter(same) {
                crossings.push(check.through(*source, via.as_deref(), *destination)?);
            }
        }
    }
    if crossings.is_empty() {
        return Err(Failure::Argument {
            message: "no source and no destination are of one family".into(),
            mend: "Name sources with --as and destinations with --through of the same family."
                .into(),
        });
    }
    let differences = crossings.iter().filter(|one| one.differs()).count();
    let unknown = crossings.iter().filter(|one| one.observed == Passage::Unknown).count();
    let gate = match (visible, check.gate) {
        (Visible::OnlyToRoot, _) => "unknown",
        (_, Some(_)) => "up",
        (_, None) => "down",
    };
    let host = judge.host.clone().unwrap_or_else(|| snapshot.host.clone());
    let report = Report {
        host,
        orders: judge.origin.words(),
        hash: judge.origin.hash().to_string(),
        gate,
        at: jiff::Timestamp::now().as_second(),
        crossings: &crossings,
        differences,
        unknown,
        notes: &notes,
    };
    if terminal.json {
        terminal.json(&report);
    } else if !options.quiet || differences + unknown > 0 {
        show(&report, terminal);
    }
    Ok(if differences + unknown == 0 { Ending::Fine } else { Ending::Differs })
}

impl Check<'_> {
    /// Whether this host can reach somebody: by a connection that ends at once, or
    /// where another program is meant, or no connection can be made, by the gate.
    fn outbound(
        &self,
        Destination { subject, address }: Destination,
        program: Option<&str>,
    ) -> Result<Crossing, Failure> {
        let own = std::env::current_exe().ok();
        let path = program.or_else(|| own.as_ref()?.to_str());
        let index = |brief: &Brief| path.map_or(ProgramIndex::OTHER, |p| brief.program_index(p));
        let way = way_to(address).map_err(system("asking the routing table"))?;
        let (leaves, source) = match way {
            Way::Own => return Err(own_address(address)),
            Way::Out { interface, source, .. } => {
                let interface = self.interface(interface);
                let usual = source
                    .or_else(|| interface.and_then(|i| i.addresses_of(address.is_ipv6()).next()));
                (interface, usual)
            }
            Way::None => (None, None),
        };
        let unspecified: IpAddr = match Family::of(address) {
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
            program: index(&self.judge.brief),
        };
        let Some(leaves) = leaves else {
            let met = Met::NotSent("no route leads there".into());
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
    fn through(
        &self,
        source: IpAddr,
        via: Option<&str>,
        Destination { subject, address }: Destination,
    ) -> Result<Crossing, Failure> {
        let approach = witness::approach(source, via, &self.snapshot.interfaces)?;
        let (leaves, next) = match way_to(address).map_err(system("asking the routing table"))? {
            Way::Own => return Err(own_address(address)),
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
            let met = Met::NotSent("no route leads there".into());
            return Ok(self.judged(&wanted, met, &Word::NoGate));
        };
        let word = self.word(&wanted, &approach.interface, None)?;
        if self.visible == Visible::OnlyToRoot || !nix::unistd::geteuid().is_root() {
            return Ok(self.judged(&wanted, Met::NotTried, &Word::NotVisible));
        }
        let marks = self.gate.map(|(gate, _)| gate.marks()).transpose()?.flatten();
        let comes_in = approach.interface.name.clone();
        let mut through = match Through::open(approach, leaves.index, marks) {
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
            WentThrough { came_out: Some(after), .. } => {
                let ms = after.as_secs_f64() * 1e3;
                let out = &leaves.name;
                Met::CameOut(format!("it left by {out} after {ms:.1} ms, and was caught there"))
            }
            _ if !forwards(&comes_in, source) => {
                let family = Family::of(source);
                Met::DoesNotForward(format!("this host does not forward {family} from {comes_in}"))
            }
            WentThrough { let_in: None, reply: Reply::Nothing(_), .. } => {
                Met::Forbidden("stopped where it came in".into())
            }
            WentThrough { let_in: Some(_), reply: Reply::Nothing(_), .. } => {
                let known = neighbours::list().unwrap_or_default();
                let out = &leaves.name;
                Met::NotSent(match known.contains(&next) {
                    true => format!("it came past the gate, and was not seen leaving {out}"),
                    false => format!("it came past the gate; {next} does not respond on {out}"),
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
        Crossing::judge(&self.judge.brief, wanted, met, word, self.other_orders)
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
    ) -> Result<Word, Failure> {
        let Some((gate, brief)) = self.gate else {
            return Ok(match self.visible {
                Visible::OnlyToRoot => Word::NotVisible,
                Visible::Yes => Word::NoGate,
            });
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
        let decision = decision.ok_or(tipstaff_gate::GateError::NothingInForce)?;
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

fn own_address(address: IpAddr) -> Failure {
    Failure::Argument {
        message: format!("{address} is an address of this host itself"),
        mend: "reach without --outbound and --through checks its own ports.".into(),
    }
}

fn place(interface: &Interface) -> (InterfaceIndex, String) {
    (InterfaceIndex(interface.index), interface.name.clone())
}

/// Whether the kernel forwards what comes in there (Documentation/networking/ip-sysctl.rst).
fn forwards(interface: &str, source: IpAddr) -> bool {
    let is_set = |path: String| fs::read_to_string(path).is_ok_and(|text| text.trim() != "0");
    match Family::of(source) {
        Family::V4 => is_set(format!("/proc/sys/net/ipv4/conf/{interface}/forwarding")),
        Family::V6 => {
            is_set("/proc/sys/net/ipv6/conf/all/forwarding".into())
                || is_set(format!("/proc/sys/net/ipv6/conf/{interface}/force_forwarding"))
        }
    }
}

/// Whom the texts mean: `192.0.2.80:443`, `udp/[2001:db8::53]:53`, `icmp/192.0.2.80`,
/// `partner:https`.
fn destinations(
    orders: &Orders,
    texts: &[String],
    snapshot: &Snapshot,
) -> Result<Vec<Destination>, Failure> {
    let mut all = Vec::new();
    for text in texts {
        let wrong = |message: String| Failure::Argument {
            message: format!("`{text}`: {message}"),
            mend: "Write it as 192.0.2.80:443, [2001:db8::80]:443, udp/192.0.2.53:53, \
                   icmp/192.0.2.80, or with a group of the orders for the address."
                .into(),
        };
        let (kind, rest) = match text.split_once('/') {
            Some((kind @ ("tcp" | "udp" | "icmp"), rest)) => (kind, rest),
            _ => ("tcp", text.as_str()),
        };
        let (name, subject) = match kind {
            "icmp" => (rest, Subject::Echo),
            kind => {
                let (name, port) = rest
                    .rsplit_once(':')
                    .filter(|(name, _)| !name.contains(':') || name.ends_with(']'))
                    .ok_or_else(|| wrong("no port is named".into()))?;
                let number = port.bytes().all(|b| b.is_ascii_digit());
                let traffic = if number { format!("{kind}/{port}") } else { port.to_owned() };
                let subject = match wanted::subjects(orders, &traffic)?.as_slice() {
                    [one] => *one,
                    several => {
                        return Err(wrong(format!(
                            "{port} is {}; one is asked for at a time",
                            counted(several.len(), "port", "ports")
                        )));
                    }
                };
                (name, subject)
            }
        };
        let bare = name.strip_prefix('[').and_then(|n| n.strip_suffix(']')).unwrap_or(name);
        let addresses = match (bare.parse::<IpAddr>(), orders.groups.get(bare)) {
            (Ok(address), _) => vec![address],
            (Err(_), Some(set)) => {
                typical(set, &wanted::own_addresses(&snapshot.interfaces), &wanted::there(snapshot))
            }
            (Err(_), None) => {
                return Err(wrong(format!("`{bare}` is no address, and no group of the orders")));
            }
        };
        let one = |address| Destination { subject, address };
        all.extend(addresses.into_iter().take(wanted::MOST_MEMBERS).map(one));
    }
    Ok(all)
}

fn show(report: &Report<'_>, terminal: &Terminal) {
    let of = |direction| {
        let all = report.crossings.iter().filter(move |one| one.direction == direction);
        all.collect::<Vec<_>>()
    };
    let (out, through) = (of(Direction::Outbound), of(Direction::Transit));
    let heading = match (out.is_empty(), through.is_empty()) {
        (_, true) => format!("reach out of {}", report.host),
        (true, _) => format!("reach through {}", report.host),
        _ => format!("reach out of and through {}", report.host),
    };
    terminal.heading(&heading);
    let gate = if report.gate == "unknown" { "not visible from here" } else { report.gate };
    terminal.note(&format!("expected: by the {}; the gate is {gate}", report.orders));
    let mut table = Columns::new(["to", "from", "way", "seen", "evidence"]);
    for one in out.into_iter().chain(through) {
        let way = match (&one.comes_in, &one.leaves) {
            (_, None) => "no route".to_owned(),
            (Some(comes_in), Some(leaves)) => format!("{comes_in} to {leaves}"),
            (None, Some(leaves)) => format!("out of {leaves}"),
        };
        let from = match one.source.is_unspecified() {
            true => "this host".to_owned(),
            false => one.source.to_string(),
        };
        let seen = format!("{} ({})", one.observed, one.how);
        let seen = match (one.differs(), one.observed) {
            (true, _) => loud(format!("≠ {seen}")),
            (false, Passage::Passes) => plain(seen),
            (false, _) => faint(seen),
        };
        let program = one.program.as_ref().map(|p| format!(" ({p})")).unwrap_or_default();
        table.row([
            plain(words(one)),
            plain(format!("{from}{program}")),
            plain(way),
            seen,
            faint(&one.evidence),
        ]);
    }
    terminal.table(&table);
    for note in report.notes {
        terminal.note(note);
    }
    terminal.heading(&match (report.differences, report.unknown) {
        (0, 0) => "all of it does what the orders mean it to do".to_owned(),
        (0, unknown) => format!("{} unknown, nothing seen differs from the orders", unknown),
        (differences, _) => counted(differences, "difference", "differences"),
    });
    for one in report.crossings.iter().filter(|one| one.differs()) {
        let why = one.why.as_deref().unwrap_or_default();
        terminal.line(format!("  {} from {}: {why}", words(one), one.source));
        let meant = match one.expected {
            Passage::Passes => "should pass",
            Passage::Refused => "should be refused",
            Passage::Kept | Passage::Unknown => "should be kept in",
        };
        let by = &one.expected_by;
        let verb = if one.observed == Passage::Passes { "" } else { "is " };
        terminal.note(&format!("    {meant} by {by}, but {verb}{}", one.observed));
        if let Some(next) = &one.next {
            terminal.line(format!("    next: {next}"));
        }
    }
}

fn words(one: &Crossing) -> String {
    format!("{} at {}", one.subject, one.destination)
}
