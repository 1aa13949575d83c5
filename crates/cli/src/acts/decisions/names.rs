//! What the numbers of the gate's records are called.

use std::collections::HashMap;
use std::net::{IpAddr, SocketAddr};
use std::time::{Duration, Instant};

use jiff::Timestamp;
use tipstaff_core::analysis::reach::speaker_words;
use tipstaff_core::decision::Speaker;
use tipstaff_core::host::interface::Interface;
use tipstaff_core::host::listener::{Listener, taker};
use tipstaff_core::names::traffic::{TCP, TrafficKey, Transport, UDP};
use tipstaff_core::orders::Log;
use tipstaff_core::packet::Direction;
use tipstaff_gate::kernel::KernelGate;
use tipstaff_gate::kernel::executables::{path_among, path_of_another, path_of_process};
use tipstaff_gate::{Event, GateError, Maker};
use tipstaff_host::{interfaces, listeners};

use super::line::{Line, moment};
use crate::arguments::Common;
use crate::chosen::{self, LoadedPolicy, Visible};
use crate::failure::{Failure, system};

/// Who listens is read anew so often: it means a walk over all processes.
const LISTENERS_AGE: Duration = Duration::from_secs(5);
/// What is not known is looked up so often: of an interface that is gone nobody knows ever.
const LOOK_AGAIN: Duration = Duration::from_secs(1);

/// Orders and interfaces, as they were read last.
pub struct Names {
    gate: KernelGate,
    /// What is in force, and what is rehearsed: one of them at least.
    in_force: Option<LoadedPolicy>,
    rehearsed: Option<LoadedPolicy>,
    log: Log,
    interfaces: Vec<Interface>,
    programs: HashMap<Maker, String>,
    /// What listens, and when that was read.
    listeners: Option<(Instant, Vec<Listener>)>,
    read: Instant,
    /// Orders that decided, and were not there any more when they were looked for.
    unknown: Option<([u8; 8], bool)>,
}

impl Names {
    /// Reads them.
    ///
    /// # Errors
    /// [`GateError::NothingInForce`] among others.
    pub fn read(common: &Common) -> Result<Self, Failure> {
        let in_force = match chosen::in_force(common)? {
            (Some(in_force), _) => Some(chosen::from_force(&in_force)?),
            (None, Visible::OnlyToRoot) => return Err(GateError::NotRoot.into()),
            (None, Visible::Yes) => None,
        };
        let gate = KernelGate::new(&common.run_dir)?;
        let rehearsed = gate.rehearsal()?;
        let rehearsed = rehearsed.map(|r| chosen::of_record(&r.record)).transpose()?;
        let of = in_force.as_ref().or(rehearsed.as_ref());
        let log = of.ok_or(GateError::NothingInForce)?.orders.log.clone();
        let interfaces = interfaces::list().map_err(system("reading the interfaces"))?;
        let (programs, read) = (HashMap::new(), Instant::now());
        Ok(Self {
            gate,
            in_force,
            rehearsed,
            log,
            interfaces,
            programs,
            listeners: None,
            read,
            unknown: None,
        })
    }

    /// What the orders in force say of the log.
    pub fn log(&self) -> &Log {
        &self.log
    }

    /// The orders that decided, where these are still the ones that are known.
    fn judge(&self, event: &Event) -> Option<&LoadedPolicy> {
        let judge = if event.rehearsed { &self.rehearsed } else { &self.in_force };
        judge.as_ref().filter(|judge| judge.origin.hash().first() == event.orders)
    }

    /// Other orders, or an interface that nobody knows: then names are read anew.
    fn keep_up(&mut self, common: &Common, event: &Event) -> Result<(), Failure> {
        let known =
            event.interface.0 == 0 || self.interfaces.iter().any(|i| i.index == event.interface.0);
        let by = (event.orders, event.rehearsed);
        let is_new = self.judge(event).is_none() && self.unknown != Some(by);
        let is_current = self.judge(event).is_some() && known;
        if is_new || !is_current && self.read.elapsed() >= LOOK_AGAIN {
            self.read = Instant::now();
            match Self::read(common) {
                Err(Failure::Gate(GateError::NothingInForce)) => {}
                read => *self = read?,
            }
            self.unknown = self.judge(event).is_none().then_some(by);
        }
        Ok(())
    }

    /// A record with everything named.
    ///
    /// # Errors
    /// When what is in force cannot be read.
    pub fn line(&mut self, common: &Common, event: &Event) -> Result<Line, Failure> {
        self.keep_up(common, event)?;
        let interface = self.interface(event);
        let program = match event.program {
            Some(maker) => Some(self.program(maker)),
            None => self.listening(event, &interface),
        };
        let key = TrafficKey::new(event.protocol, event.to.unwrap_or_default());
        let ports = event.from.is_some();
        let rule = self.rule(event);
        Ok(Line {
            time: time(event.time),
            direction: event.direction,
            // A foundation may have dropped it before anybody looked what it is.
            traffic: match event.protocol {
                0 => "unknown".to_owned(),
                _ => key.to_string(),
            },
            source: end(event, event.source, event.from),
            destination: end(event, event.destination, event.to.filter(|_| ports)),
            program,
            verdict: event.verdict,
            rehearsed: event.rehearsed,
            by: self.by(event),
            rule: rule.map(|(name, _)| name.to_owned()),
            position: rule.map(|(_, position)| position),
            speaker: event.speaker,
            interface,
        })
    }

    /// The path of a program.
    fn program(&mut self, maker: Maker) -> String {
        if let Some(known) = self.programs.get(&maker) {
            return known.clone();
        }
        let path = self.path(maker).unwrap_or_else(|| {
            let (major, minor) = (maker.device >> 20, maker.device & 0xf_ffff);
            format!("inode {} of device {major}:{minor}", maker.inode)
        });
        self.programs.insert(maker, path.clone());
        path
    }

    /// As it is called where it runs; where it has ended, as a rule names it; else as it was
    /// called when it made its socket.
    fn path(&self, maker: Maker) -> Option<String> {
        if let Some(path) = path_of_process(maker) {
            return Some(path.display().to_string());
        }
        let judges = [&self.in_force, &self.rehearsed];
        let named = judges.into_iter().flatten().flat_map(|j| j.brief.programs_written());
        if let Some(path) = path_among(maker, named) {
            return Some(path.to_owned());
        }
        let noted = self.gate.noted_program(maker).ok().flatten();
        noted.or_else(|| path_of_another(maker)).map(|path| path.display().to_string())
    }

    /// Who listens to what comes in, where the gate did not look: it does where rules
    /// name programs.
    fn listening(&mut self, event: &Event, interface: &str) -> Option<String> {
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
        let (_, all) = self.listeners.as_ref()?;
        let listener = taker(all, transport, port, event.destination, Some(interface))?;
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
        let rule = self.judge(event)?.brief.rule(index)?;
        Some((rule.name.as_str(), index.position()))
    }

    /// A record may be older than the orders in force.
    fn by(&self, event: &Event) -> String {
        if let Some(judge) = self.judge(event) {
            return speaker_words(&judge.brief, event.speaker);
        }
        match event.speaker {
            Speaker::Rule(index) => format!("rule {} of other orders", index.position()),
            Speaker::Beyond(index) => {
                format!("the rate of rule {} of other orders", index.position())
            }
            // No rule: what it is called hangs on no orders.
            other => {
                let any = self.in_force.as_ref().or(self.rehearsed.as_ref());
                any.map_or_else(String::new, |judge| speaker_words(&judge.brief, other))
            }
        }
    }
}

/// Nanoseconds since 1970 as lines have them.
fn time(nanoseconds: i64) -> String {
    moment(Timestamp::from_nanosecond(i128::from(nanoseconds)).unwrap_or_default())
}

fn end(event: &Event, address: IpAddr, port: Option<u16>) -> String {
    match port {
        // It only connected: which of the own addresses it takes is not known yet.
        _ if address.is_unspecified() && event.interface.0 == 0 => "this host".to_owned(),
        Some(port) => SocketAddr::new(address, port).to_string(),
        None => address.to_string(),
    }
}
