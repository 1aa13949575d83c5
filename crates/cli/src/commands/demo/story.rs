//! The line of work, told and played.

use std::io;
use std::net::{IpAddr, SocketAddr};
use std::path::Path;
use std::time::Duration;

use tipstaff_core::analysis::reach::{
    Arrival, Said, Subject, Vantage, first_packet, speaker_words,
};
use tipstaff_core::analysis::review::ReviewContext;
use tipstaff_core::decision::{Decision, RuleQuery, decide};
use tipstaff_core::names::traffic::Transport;
use tipstaff_core::packet::{InterfaceIndex, Packet, PacketContext};
use tipstaff_gate::kernel::KernelGate;
use tipstaff_gate::{Gate, GateError, Posted, Posting, Record};
use tipstaff_host::snapshot::Snapshot;
use tipstaff_knock::Reply;
use tipstaff_knock::sockets::{self, Door};
use tipstaff_knock::witness::{self, Approach};
use tipstaff_reach::Check;

use super::archive::{address, archive_address, meant, mistaken, orders, stored};
use super::bridge::{Bridge, LAN};
use super::night;
use super::stage::Stage;
use super::step::Steps;
use super::{Ground, own_folder};
use crate::chosen::LoadedPolicy;
use crate::commands::rules::{self, Counts};
use crate::commands::{ask, post, reach, review, survey};
use crate::ending::Ending;
use crate::failure::{Failure, system};
use crate::terminal::Terminal;

const DESK: &str = "198.51.100.23";
const PARTNER: &str = "203.0.113.9";
const STRANGER: &str = "192.0.2.66";
const PARTNER_SIX: &str = "2001:db8:113::9";
const PATIENCE: Duration = Duration::from_millis(150);

/// Tells the story on the given ground. `why`: why it is only the snapshot.
pub fn tell(
    ground: Ground,
    why: Option<io::Error>,
    terminal: &Terminal,
) -> Result<Ending, Failure> {
    let judge = orders();
    let folder = own_folder()?;
    let stage = match ground {
        Ground::Snapshot => None,
        Ground::Kernel | Ground::Sockets => {
            let bridged = ground == Ground::Sockets;
            Some(
                Stage::set(folder.path(), bridged)
                    .map_err(system("setting up the demo's hosts"))?,
            )
        }
    };
    // The programs run; with their files gone already, nothing can be left behind.
    drop(folder);
    let snapshot = match &stage {
        Some(stage) => stage.snapshot().map_err(system("reading what listens"))?,
        None => stored()?,
    };
    if terminal.json {
        let told = Told { brief: true, steps: Steps::default(), terminal };
        act(ground, stage.as_ref(), &judge, &snapshot, told)?;
        return Ok(Ending::Fine);
    }

    opening(ground, why, terminal);
    let steps = Steps::default();
    steps.next(
        terminal,
        "survey",
        "Where do we start? Four programs listen, and everybody can reach them.",
    );
    survey::show(&snapshot, None, Some(false), terminal);
    steps.next(
        terminal,
        "rules",
        "The orders: standing answers and nine rules. The first matching rule decides.",
    );
    rules::show(&judge, &Counts::default(), false, terminal);
    steps.next(terminal, "review", "Review them for mistakes first.");
    let heard = Some(snapshot.listeners.as_slice());
    let around =
        ReviewContext { listeners: heard, orders: Some(&judge.orders), ..ReviewContext::default() };
    let found = tipstaff_core::analysis::review::review(&judge.brief, &around);
    review::show(&judge.origin, Path::new("orders.toml"), &found, terminal);
    steps.next(
        terminal,
        "ask",
        "Before anything is in force: what would happen to a shell from the partner?",
    );
    let source = address(PARTNER)?;
    let shell = Subject::Port(Transport::Tcp, 22);
    let facts = first_packet(shell, source, archive_address(&snapshot, source)?, LAN);
    let decision = decide(&judge.brief, &facts);
    let asked = question(&facts)?;
    ask::answer(&judge, &asked, decision, "orders", terminal)?;
    let told = Told { brief: false, steps: steps.clone(), terminal };
    act(ground, stage.as_ref(), &judge, &snapshot, told)?;
    night::tell(&judge, &steps, terminal)?;

    terminal.heading("That was the whole job");
    terminal.line(
        "  The orders hold. The review found a rule that never matches and two swapped digits; \
         where",
    );
    terminal.line(
        "  the truth differs, the table says why: mastd listens on loopback only, and \
                   no shell is running.",
    );
    drop(stage);
    terminal.note("  Everything created for this demo has been removed.");
    Ok(Ending::Fine)
}

/// Where it is played.
fn opening(ground: Ground, why: Option<io::Error>, terminal: &Terminal) {
    terminal.heading("Larkfield Observatory: the plate archive gets its orders");
    terminal.note(&match (ground, why) {
        (Ground::Kernel, _) => "played in two network namespaces of this kernel, with the real \
                                gate"
            .to_owned(),
        (Ground::Sockets, _) => "played in three network namespaces: real programs, real \
                                 sockets; the tables decide in user space on the wire between \
                                 them"
            .to_owned(),
        (Ground::Snapshot, None) => "played on a stored snapshot of a host: every verdict is \
                                     computed, nothing is sent"
            .to_owned(),
        (Ground::Snapshot, Some(e)) => format!(
            "this machine does not allow unprivileged \
                                                namespaces ({e}); played on a stored snapshot of \
                                                a host: every verdict is computed, nothing is \
                                                sent"
        ),
    });
}

/// Posting and checking: what needs the ground.
fn act(
    ground: Ground,
    stage: Option<&Stage>,
    judge: &LoadedPolicy,
    snapshot: &Snapshot,
    told: Told<'_>,
) -> Result<(), Failure> {
    let sources = [DESK, PARTNER, STRANGER, PARTNER_SIX];
    let sources = sources.into_iter().map(address).collect::<Result<Vec<_>, _>>()?;
    match (ground, stage) {
        (Ground::Kernel, Some(stage)) => in_the_kernel(stage, snapshot, sources, &told),
        (Ground::Sockets, Some(Stage { bridge: Some(bridge), world, archive, .. })) => {
            on_the_wire(&Wired { bridge, world, archive }, judge, snapshot, &sources, &told)
        }
        _ => {
            told.step("post --check", "No kernel to post to here: the orders are only checked.");
            if !told.brief {
                post::show(judge, None, &post::Kept::default(), told.terminal);
            }
            told.step("reach", "Computed: what each port would do for whom.");
            let mut check = Check::new(judge.basis(), snapshot);
            for source in sources {
                let target = archive_address(snapshot, source)?;
                check.worked_out(source, Arrival { target, interface: LAN });
            }
            reach::show(check, "down", told.terminal);
            Ok(())
        }
    }
}

const BEFORE: &str = "First without a gate: the orders are written, but nothing is in force.";
const POST: &str = "Now put them in force, all at once.";
const ASK: &str = "Ask the gate itself, without traffic: does the partner get the plates?";
/// What the partner comes for.
const PLATES: Subject = Subject::Port(Transport::Tcp, 7410);
/// How long the demo's trials are.
const TRIAL: Duration = Duration::from_secs(1);
const MISTAKE: &str = "A mistake, on trial: somebody pauses the partner's rule.";
const CHANGE: &str =
    "The finding is fixed: the desks may turn the dome, on tcp/7440. This trial is confirmed.";
const AFTER: &str = "The same check again. This is what the orders were for.";

struct Told<'t> {
    /// Only the last table.
    brief: bool,
    steps: Steps,
    terminal: &'t Terminal,
}

impl Told<'_> {
    fn step(&self, command: &str, text: &str) {
        if !self.brief {
            self.steps.next(self.terminal, command, text);
        }
    }
}

fn record(judge: &LoadedPolicy) -> Record {
    let posted_at = jiff::Timestamp::now().as_second();
    Record { posted_at, posted_by: "demo".into(), ..Record::from_text(&judge.text) }
}

struct Wired<'w> {
    bridge: &'w Bridge,
    world: &'w tipstaff_host::lab::Space,
    archive: &'w tipstaff_host::lab::Space,
}

/// Ordinary clients in the world knock over the wire with the user-space gate.
fn on_the_wire(
    wired: &Wired<'_>,
    judge: &LoadedPolicy,
    snapshot: &Snapshot,
    sources: &[IpAddr],
    told: &Told<'_>,
) -> Result<(), Failure> {
    if !told.brief {
        told.step("reach", BEFORE);
        reach::show(clients(wired, judge, snapshot, sources)?, "down", told.terminal);
        told.step("post", POST);
    }
    let posting = Posting { brief: &judge.brief, record: record(judge) };
    let posted = wired.bridge.gate().post(&posting, &snapshot.interfaces)?;
    if !told.brief {
        post::show(judge, Some(&posted), &post::Kept::default(), told.terminal);
    }
    if !told.brief {
        told.step("ask --in-force", ASK);
        let approach = approach(snapshot, address(PARTNER)?)?;
        let frame = witness::question(&approach, PLATES, approach.target);
        let decision = wired.bridge.gate().ask(LAN, &frame)?;
        asked(judge, &approach, decision, told.terminal)?;
    }
    told.step("reach", AFTER);
    reach::show(clients(wired, judge, snapshot, sources)?, "up", told.terminal);
    let ground = Trial {
        try_out: &mut |posting, time| {
            wired.bridge.gate().try_out(posting, &snapshot.interfaces, time)
        },
        confirm: &mut || wired.bridge.gate().confirm(),
        look: &|source, subject| {
            let Subject::Port(transport, port) = subject else { return Ok(String::new()) };
            let to = SocketAddr::new(archive_address(snapshot, source)?, port);
            let door = Door { transport, to, from: Some(source), local: false };
            let knocked =
                wired.world.run(move || sockets::knock(&[door], 2 * PATIENCE, &mut |_| true));
            let replies = knocked.map_err(system("knocking in the demo"))?;
            Ok(replies.first().map_or_else(String::new, |reply| reply.outcome().to_string()))
        },
    };
    trials(judge, ground, told)
}

/// What a ground does for the story of the trials.
struct Trial<'t> {
    try_out: &'t mut dyn FnMut(&Posting<'_>, Duration) -> Result<Posted, GateError>,
    confirm: &'t mut dyn FnMut() -> Result<Record, GateError>,
    /// What a source meets at a port, in a word.
    look: &'t dyn Fn(IpAddr, Subject) -> Result<String, Failure>,
}

/// A mistake that ends by itself, and a change that is confirmed.
fn trials(judge: &LoadedPolicy, ground: Trial<'_>, told: &Told<'_>) -> Result<(), Failure> {
    if told.brief {
        return Ok(());
    }
    let Trial { try_out, confirm, look } = ground;
    let terminal = told.terminal;
    let (partner, desk) = (address(PARTNER)?, address(DESK)?);
    let dome = Subject::Port(Transport::Tcp, 7440);
    let post = |next: &LoadedPolicy, try_out: &mut dyn FnMut(&Posting<'_>, Duration) -> _| {
        let posting = Posting { brief: &next.brief, record: record(next) };
        let posted: Posted = try_out(&posting, TRIAL)?;
        let meaning = Some(post::PolicyDiff::between(&judge.brief, &next.brief));
        let kept = post::Kept { how: post::Put::OnTrial(TRIAL), meaning, ..post::Kept::default() };
        post::show(next, Some(&posted), &kept, terminal);
        Ok::<_, Failure>(())
    };
    told.step("post --trial 1s", MISTAKE);
    post(&mistaken(), try_out)?;
    let met = |source: IpAddr, subject: Subject| {
        let met = look(source, subject)?;
        terminal.line(format!("  as {source}, {subject}: {met}"));
        Ok::<_, Failure>(())
    };
    met(partner, PLATES)?;
    terminal.line("Nobody confirms it. A second later:");
    std::thread::sleep(TRIAL + TRIAL / 10);
    met(partner, PLATES)?;
    told.step("post --trial 1s, then tipstaff confirm", CHANGE);
    post(&meant(), try_out)?;
    met(desk, dome)?;
    let kept = confirm()?;
    terminal.line(format!("confirmed: orders {} stay in force", kept.hash().short()));
    std::thread::sleep(TRIAL + TRIAL / 10);
    met(desk, dome)
}

/// How a source comes to the archive.
fn approach(snapshot: &Snapshot, source: IpAddr) -> Result<Approach, Failure> {
    let interface = snapshot.interfaces.iter().find(|i| i.name == "lan0").cloned();
    let target = archive_address(snapshot, source)?;
    let interface = interface.ok_or_else(|| {
        system("finding the archive's interface")(io::Error::other("it has none"))
    })?;
    Ok(Approach { source, target, back: interface.index, interface })
}

/// The gate's answer about the partner's plates.
fn asked(
    judge: &LoadedPolicy,
    approach: &Approach,
    decision: Decision,
    terminal: &Terminal,
) -> Result<(), Failure> {
    let arrives = InterfaceIndex(approach.interface.index);
    let facts = first_packet(PLATES, approach.source, approach.target, arrives);
    ask::answer(judge, &question(&facts)?, decision, "gate", terminal).map(drop)
}

/// What a first packet asks of the rules.
fn question(facts: &PacketContext) -> Result<RuleQuery, Failure> {
    let asked = match facts.packet {
        Packet::Ip(ip) => RuleQuery::from_packet(facts, &ip),
        _ => None,
    };
    asked.ok_or_else(|| system("asking about a packet")(io::Error::other("it has no header")))
}

fn clients<'c>(
    wired: &Wired<'_>,
    judge: &'c LoadedPolicy,
    snapshot: &'c Snapshot,
    sources: &[IpAddr],
) -> Result<Check<'c>, Failure> {
    let mut check = Check::new(judge.basis(), snapshot);
    let doors = check.here_doors();
    fn failed() -> impl FnOnce(io::Error) -> Failure {
        system("knocking in the demo")
    }
    let knocks: Vec<Door> = doors.iter().map(|(_, door)| *door).collect();
    let replies = wired
        .archive
        .run(move || sockets::knock(&knocks, PATIENCE, &mut |_| true))
        .map_err(failed())?;
    check.add_own_column(&doors, &replies);
    for source in sources {
        let approach = approach(snapshot, *source)?;
        let doors = check.doors(&approach);
        let places: Vec<(Subject, IpAddr)> = doors.iter().flatten().copied().collect();
        let asked: Vec<Option<Said>> = {
            let gate = wired.bridge.gate();
            match gate.in_force()? {
                Some(_) => places
                    .iter()
                    .map(|(subject, target)| {
                        let decision =
                            gate.ask(LAN, &witness::question(&approach, *subject, *target))?;
                        Ok(Some(Said {
                            by: speaker_words(&judge.brief, decision.speaker),
                            decision,
                        }))
                    })
                    .collect::<Result<_, GateError>>()?,
                None => vec![None; places.len()],
            }
        };
        // Connections over the wire; of everything else the gate's word is the evidence.
        let door = |(subject, target): &(Subject, IpAddr)| match subject {
            Subject::Port(transport @ Transport::Tcp, port) => {
                let (to, from) = (SocketAddr::new(*target, *port), Some(*source));
                Some(Door { transport: *transport, to, from, local: false })
            }
            _ => None,
        };
        let knocks: Vec<Door> = places.iter().filter_map(door).collect();
        let knocked = wired.world.run(move || sockets::knock(&knocks, 2 * PATIENCE, &mut |_| true));
        let mut knocked = knocked.map_err(failed())?.into_iter();
        let replies: Vec<Option<Reply>> =
            places.iter().map(|place| door(place).and_then(|_| knocked.next())).collect();
        check.heard(&approach, &doors, &replies, asked);
    }
    Ok(check)
}

/// The real gate and the witness, inside the archive's namespace.
fn in_the_kernel(
    stage: &Stage,
    snapshot: &Snapshot,
    sources: Vec<IpAddr>,
    told: &Told<'_>,
) -> Result<(), Failure> {
    let inside = {
        // The namespace's thread needs orders of its own.
        let (judge, snapshot) = (orders(), snapshot.clone());
        let (brief, steps) = (told.brief, told.steps.clone());
        let terminal = Terminal::new(told.terminal.json);
        move || -> Result<(), Failure> {
            let told = Told { brief, steps, terminal: &terminal };
            let mut gate = KernelGate::new(Path::new("/run/tipstaff"))?;
            if !brief {
                told.step("reach", BEFORE);
                reach::show(look(&judge, &snapshot, None, &sources)?, "down", &terminal);
                told.step("post", POST);
            }
            let posting = Posting { brief: &judge.brief, record: record(&judge) };
            let posted = gate.post(&posting, &snapshot.interfaces)?;
            if !brief {
                post::show(&judge, Some(&posted), &post::Kept::default(), &terminal);
                told.step("ask --in-force", ASK);
                let approach = witness::approach(address(PARTNER)?, None, &snapshot.interfaces)?;
                let frame = witness::question(&approach, PLATES, approach.target);
                let index = InterfaceIndex(approach.interface.index);
                asked(&judge, &approach, gate.ask(index, &frame)?, &terminal)?;
            }
            told.step("reach", AFTER);
            reach::show(look(&judge, &snapshot, Some(&gate), &sources)?, "up", &terminal);
            let gate = std::cell::RefCell::new(gate);
            let ground = Trial {
                try_out: &mut |posting, time| {
                    gate.borrow_mut().try_out(posting, &snapshot.interfaces, time)
                },
                confirm: &mut || gate.borrow_mut().confirm(),
                look: &|source, subject| {
                    let approach = witness::approach(source, None, &snapshot.interfaces)?;
                    let frame = witness::question(&approach, subject, approach.target);
                    let index = InterfaceIndex(approach.interface.index);
                    Ok(format!(
                        "{} (the gate was asked)",
                        gate.borrow().ask(index, &frame)?.verdict
                    ))
                },
            };
            trials(&judge, ground, &told)?;
            gate.borrow_mut().withdraw()?;
            Ok(())
        }
    };
    stage.archive.run(inside).map_err(system("playing in the kernel"))?
}

fn look<'c>(
    judge: &'c LoadedPolicy,
    snapshot: &'c Snapshot,
    gate: Option<&KernelGate>,
    sources: &[IpAddr],
) -> Result<Check<'c>, Failure> {
    let mut check = Check::new(judge.basis(), snapshot);
    let doors = check.here_doors();
    let knocks: Vec<Door> = doors.iter().map(|(_, door)| *door).collect();
    check.add_own_column(&doors, &sockets::knock(&knocks, PATIENCE, &mut |_| true));
    for source in sources {
        let gate = gate.map(|gate| (gate, &judge.brief));
        check.look_as(Vantage::outside(*source), gate, PATIENCE, &mut |_| true)?;
    }
    Ok(check)
}

#[cfg(test)]
mod tests;
