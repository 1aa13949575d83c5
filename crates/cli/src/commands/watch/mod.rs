//! `watch`: decisions as they happen.

mod filter;

use std::collections::HashMap;
use std::net::{IpAddr, SocketAddr};
use std::os::fd::AsFd;
use std::time::{Duration, Instant};

use jiff::Timestamp;
use jiff::civil::Date;
use jiff::tz::TimeZone;
use nix::poll::{PollFd, PollFlags, PollTimeout, poll};
use schemars::JsonSchema;
use serde::Serialize;
use tipstaff_core::analysis::reach::speaker_words;
use tipstaff_core::decision::Speaker;
use tipstaff_core::host::interface::Interface;
use tipstaff_core::host::listener::{Listener, taker};
use tipstaff_core::names::traffic::{TCP, TrafficKey, Transport, UDP};
use tipstaff_core::orders::Action;
use tipstaff_core::packet::Direction;
use tipstaff_gate::kernel::executables::{path_among, path_of};
use tipstaff_gate::kernel::{Events, KernelGate};
use tipstaff_gate::lock::{Lock, LockError};
use tipstaff_gate::{Event, Gate, GateError, Maker, Unrecorded};
use tipstaff_host::{interfaces, listeners};

use filter::{Decided, Filter};

use crate::arguments::{Common, WatchOptions};
use crate::chosen::{self, LoadedPolicy, Visible};
use crate::ending::Ending;
use crate::failure::{Failure, system};
use crate::shape::shape;
use crate::terminal::Terminal;

/// One decision, for scripts: a line of JSON each.
#[derive(JsonSchema, Serialize)]
pub struct Line<'e> {
    time: String,
    /// It was decided before this watch began.
    earlier: bool,
    direction: Direction,
    interface: &'e str,
    traffic: String,
    source: String,
    destination: String,
    program: Option<&'e str>,
    verdict: Action,
    by: &'e str,
    #[serde(flatten)]
    speaker: Speaker,
}

shape!(Line<'_> => "watch");

pub fn run(
    common: &Common,
    options: &WatchOptions,
    terminal: &Terminal,
) -> Result<Ending, Failure> {
    let gate = KernelGate::new(&common.run_dir)?;
    let mut names = Names::read(common)?;
    let mut shown = Shown::nothing();
    let filter = Filter::new(options, &names.judge)?;
    let _alone = alone(common)?;
    let mut events = gate.events()?;
    let before = gate.unrecorded()?;
    let mut seen = 0;
    if !terminal.json {
        terminal.note(
            "decisions of rules with `log = true`, and a sample of what the standing \
                       answers deny; Ctrl-C ends",
        );
    }
    loop {
        for event in events.drain() {
            names.keep_up(common, &event)?;
            if !filter.may_show(decided(&event))
                || !print(&mut names, &mut shown, &event, &filter, terminal)
            {
                continue;
            }
            seen += 1;
            if options.count == Some(seen) || terminal.is_closed() {
                return Ok(end(&gate, before, terminal));
            }
        }
        if !wait(&events)? && gate.in_force()?.is_none() {
            if !terminal.json {
                terminal.line("The gate was withdrawn.");
            }
            return Ok(Ending::Fine);
        }
    }
}

/// Two readers would each see half.
fn alone(common: &Common) -> Result<Lock, Failure> {
    match Lock::wait_for(&common.run_dir.join("watch"), Duration::ZERO) {
        Err(LockError::Held { .. }) => Err(Failure::Argument {
            message: "another `tipstaff watch` is reading already".into(),
            help: "Only one reader is supported; stop the other `tipstaff watch` first.".into(),
        }),
        lock => Ok(lock?.passing()),
    }
}

/// Waits for a record; `false` after a second without one.
fn wait(events: &Events) -> Result<bool, Failure> {
    let mut waiting = [PollFd::new(events.as_fd(), PollFlags::POLLIN)];
    let timeout = PollTimeout::from(1_000u16);
    match poll(&mut waiting, timeout) {
        Ok(ready) => Ok(ready > 0),
        Err(nix::errno::Errno::EINTR) => Ok(true),
        Err(e) => Err(system("waiting for a decision")(e.into())),
    }
}

/// What the numbers of the records are called.
struct Names {
    judge: LoadedPolicy,
    interfaces: Vec<Interface>,
    programs: HashMap<Maker, String>,
    /// What listens, and when that was read.
    listeners: Option<(Instant, Vec<Listener>)>,
}

/// What was shown so far.
struct Shown {
    /// The day that lines on a terminal are of: they have the time alone.
    day: Option<Date>,
    /// When this watch began, as decisions have it.
    begun: i64,
    /// Whether the last one was decided before.
    earlier: bool,
}

impl Shown {
    fn nothing() -> Self {
        let now = Timestamp::now().as_nanosecond();
        Self { day: None, begun: i64::try_from(now).unwrap_or(i64::MAX), earlier: false }
    }

    /// The time of a decision: on a terminal that of the administrator's clock, below a line
    /// for its day; else RFC 3339.
    fn time(&mut self, event: &Event, terminal: &Terminal) -> String {
        let Ok(time) = Timestamp::from_nanosecond(i128::from(event.time)) else {
            return "an unknown moment".into();
        };
        if !terminal.is_seen() {
            return format!("{time:.6}");
        }
        let time = time.to_zoned(TimeZone::system());
        if self.day != Some(time.date()) {
            self.day = Some(time.date());
            terminal.note(&time.strftime("%Y-%m-%d, offset %:z").to_string());
        }
        time.strftime("%H:%M:%S%.3f").to_string()
    }
}

/// Who listens is read anew so often: it means a walk over all processes.
const LISTENERS_AGE: Duration = Duration::from_secs(5);

impl Names {
    fn read(common: &Common) -> Result<Self, Failure> {
        let judge = match chosen::in_force(common)? {
            (Some(in_force), _) => chosen::from_force(&in_force)?,
            (None, Visible::OnlyToRoot) => return Err(GateError::NotRoot.into()),
            (None, Visible::Yes) => return Err(GateError::NothingInForce.into()),
        };
        let interfaces = interfaces::list().map_err(system("reading the interfaces"))?;
        Ok(Self { judge, interfaces, programs: HashMap::new(), listeners: None })
    }

    /// Other orders, or an interface that nobody knows: then names are read anew.
    fn keep_up(&mut self, common: &Common, event: &Event) -> Result<(), Failure> {
        let known =
            event.interface.0 == 0 || self.interfaces.iter().any(|i| i.index == event.interface.0);
        if self.judge.origin.hash().first() != event.orders || !known {
            match Self::read(common) {
                Err(Failure::Gate(GateError::NothingInForce)) => {}
                read => *self = read?,
            }
        }
        Ok(())
    }

    /// The path of a program, as long as one of its processes runs, or a rule names it.
    fn program(&mut self, maker: Maker) -> String {
        let named = &self.judge.brief;
        let known = self.programs.entry(maker).or_insert_with(|| {
            let named = || path_among(maker, named.programs_written()).map(str::to_owned);
            path_of(maker).map(|path| path.display().to_string()).or_else(named).unwrap_or_else(
                || {
                    let (major, minor) = (maker.device >> 20, maker.device & 0xf_ffff);
                    format!("inode {} of device {major}:{minor}", maker.inode)
                },
            )
        });
        known.clone()
    }

    /// Who listens to what comes in, where the gate did not look: it does where rules
    /// name programs.
    fn listening(&mut self, event: &Event) -> Option<String> {
        let (Direction::Inbound, Some(port)) = (event.direction, event.to) else { return None };
        let transport = match event.protocol {
            TCP => Transport::Tcp,
            UDP => Transport::Udp,
            _ => return None,
        };
        if self.listeners.as_ref().is_none_or(|(read, _)| read.elapsed() > LISTENERS_AGE) {
            let found = listeners::list(&self.interfaces).ok()?;
            self.listeners = Some((Instant::now(), found.listeners));
        }
        let arrives = self.interface(event);
        let (_, all) = self.listeners.as_ref()?;
        let listener = taker(all, transport, port, event.destination, Some(&arrives))?;
        listener.path().map(str::to_owned)
    }

    fn interface(&self, event: &Event) -> String {
        if event.interface.0 == 0 {
            // It only connected: no route was looked for yet.
            return "any".into();
        }
        let known = self.interfaces.iter().find(|i| i.index == event.interface.0);
        known.map_or_else(|| format!("#{}", event.interface.0), |i| i.name.clone())
    }

    /// The name and the position of the rule that decided; of earlier orders nobody knows.
    fn rule(&self, event: &Event) -> Option<(&str, usize)> {
        let (Speaker::Rule(index) | Speaker::Beyond(index)) = event.speaker else { return None };
        let known = self.judge.origin.hash().first() == event.orders;
        let rule = self.judge.brief.rule(index).filter(|_| known)?;
        Some((rule.name.as_str(), index.position()))
    }

    /// A record may be older than the orders in force.
    fn by(&self, event: &Event) -> String {
        if self.judge.origin.hash().first() == event.orders {
            return speaker_words(&self.judge.brief, event.speaker);
        }
        match event.speaker {
            Speaker::Rule(index) => format!("rule {} of earlier orders", index.position()),
            Speaker::Beyond(index) => {
                format!("the rate of rule {} of earlier orders", index.position())
            }
            other => speaker_words(&self.judge.brief, other),
        }
    }
}

fn decided(event: &Event) -> Decided {
    Decided {
        verdict: event.verdict,
        direction: event.direction,
        source: event.source,
        destination: event.destination,
        key: TrafficKey::new(event.protocol, event.to.unwrap_or_default()),
    }
}

/// Shows a decision where the filter means it.
fn print(
    names: &mut Names,
    shown: &mut Shown,
    event: &Event,
    filter: &Filter,
    terminal: &Terminal,
) -> bool {
    let key = TrafficKey::new(event.protocol, event.to.unwrap_or_default());
    let end = |address: IpAddr, port: Option<u16>| match port {
        // It only connected: which of the own addresses it takes is not known yet.
        _ if address.is_unspecified() && event.interface.0 == 0 => "this host".to_owned(),
        Some(port) => SocketAddr::new(address, port).to_string(),
        None => address.to_string(),
    };
    let (interface, by) = (names.interface(event), names.by(event));
    let program = match event.program {
        Some(maker) => Some(names.program(maker)),
        None => names.listening(event),
    };
    if !filter.shows(names.rule(event), program.as_deref(), &interface) {
        return false;
    }
    let time = shown.time(event, terminal);
    let ports = event.from.is_some();
    let destination = end(event.destination, event.to.filter(|_| ports));
    let line = Line {
        time,
        earlier: event.time < shown.begun,
        direction: event.direction,
        interface: &interface,
        traffic: key.to_string(),
        source: end(event.source, event.from),
        destination,
        program: program.as_deref(),
        verdict: event.verdict,
        by: &by,
        speaker: event.speaker,
    };
    if terminal.json {
        terminal.json_line(&line);
        return true;
    }
    if shown.earlier && !line.earlier {
        terminal.note("the above was decided before this watch began");
    }
    shown.earlier = line.earlier;
    let Line { time, direction, interface, source, destination, verdict, by, traffic, .. } = line;
    let program = line.program.map(|program| format!("  {program}")).unwrap_or_default();
    terminal.line(format!(
        "{time}  {verdict:<6}  {direction} on {interface}  {traffic}  {source} → \
         {destination}{program}  by {by}"
    ));
    true
}

fn end(gate: &KernelGate, before: Unrecorded, terminal: &Terminal) -> Ending {
    let now = gate.unrecorded().unwrap_or(before);
    let lost = now.lost.saturating_sub(before.lost);
    let left_out = now.left_out.saturating_sub(before.left_out);
    if !terminal.json && lost + left_out > 0 {
        terminal.note(&format!("meanwhile: {left_out} not sampled, {lost} lost"));
    }
    Ending::Fine
}
