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
use tipstaff_gate::kernel::executables::{path_among, path_of};
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
    judge: LoadedPolicy,
    interfaces: Vec<Interface>,
    programs: HashMap<Maker, String>,
    /// What listens, and when that was read.
    listeners: Option<(Instant, Vec<Listener>)>,
    read: Instant,
}

impl Names {
    /// Reads them.
    ///
    /// # Errors
    /// [`GateError::NothingInForce`] among others.
    pub fn read(common: &Common) -> Result<Self, Failure> {
        let judge = match chosen::in_force(common)? {
            (Some(in_force), _) => chosen::from_force(&in_force)?,
            (None, Visible::OnlyToRoot) => return Err(GateError::NotRoot.into()),
            (None, Visible::Yes) => return Err(GateError::NothingInForce.into()),
        };
        let interfaces = interfaces::list().map_err(system("reading the interfaces"))?;
        let (programs, read) = (HashMap::new(), Instant::now());
        Ok(Self { judge, interfaces, programs, listeners: None, read })
    }

    /// What the orders in force say of the log.
    pub fn log(&self) -> &Log {
        &self.judge.orders.log
    }

    /// Other orders, or an interface that nobody knows: then names are read anew.
    fn keep_up(&mut self, common: &Common, event: &Event) -> Result<(), Failure> {
        let known =
            event.interface.0 == 0 || self.interfaces.iter().any(|i| i.index == event.interface.0);
        let is_current = self.judge.origin.hash().first() == event.orders && known;
        if !is_current && self.read.elapsed() >= LOOK_AGAIN {
            self.read = Instant::now();
            match Self::read(common) {
                Err(Failure::Gate(GateError::NothingInForce)) => {}
                read => *self = read?,
            }
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
            by: self.by(event),
            rule: rule.map(|(name, _)| name.to_owned()),
            position: rule.map(|(_, position)| position),
            speaker: event.speaker,
            interface,
        })
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
            Speaker::Rule(index) => format!("rule {} of other orders", index.position()),
            Speaker::Beyond(index) => {
                format!("the rate of rule {} of other orders", index.position())
            }
            other => speaker_words(&self.judge.brief, other),
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
