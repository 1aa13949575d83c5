//! Connections that are open, as data: what orders would say if they were
//! opened now.

use std::net::SocketAddr;

use serde::Serialize;

use crate::brief::Brief;
use crate::decide::{Decision, Question, Speaker, mismatch};
use crate::listener::Owner;
use crate::moment::Moment;
use crate::names::traffic::Transport;
use crate::orders::Action;
use crate::packet::{Direction, InterfaceIndex, ProgramIndex};

/// A TCP connection.
#[derive(Clone, Debug, PartialEq, Eq, Serialize)]
pub struct Connection {
    /// Who opened it: inbound, the other end did.
    pub direction: Direction,
    /// This end.
    pub local: SocketAddr,
    /// The other end.
    pub remote: SocketAddr,
    /// Where the way to the other end begins.
    pub interface: InterfaceIndex,
    /// Whose it is.
    pub owner: Owner,
}

impl Connection {
    /// The path of the program that has it.
    pub fn program(&self) -> Option<&str> {
        self.owner.programs.iter().find_map(|program| program.path.as_deref())
    }

    /// What its first packet would ask.
    pub fn question(&self, brief: &Brief, now: Moment) -> Question {
        let (source, destination, port) = match self.direction {
            Direction::Inbound | Direction::Transit => {
                (self.remote.ip(), self.local.ip(), self.local.port())
            }
            Direction::Outbound => (self.local.ip(), self.remote.ip(), self.remote.port()),
        };
        Question {
            direction: self.direction,
            key: Transport::Tcp.key(port),
            source,
            destination,
            interface: self.interface,
            program: self.program().map_or(ProgramIndex::OTHER, |path| brief.program_index(path)),
            now,
        }
    }

    /// What a list would say if it were opened now, however often that may be.
    pub fn said_of(&self, brief: &Brief, now: Moment) -> Decision {
        let question = self.question(brief, now);
        let rule = brief.indexed().find(|(_, rule)| mismatch(brief, rule, &question).is_none());
        match rule {
            Some((index, rule)) => Decision { verdict: rule.action, speaker: Speaker::Rule(index) },
            None => {
                let verdict = match self.direction {
                    Direction::Inbound => brief.standing.inbound,
                    Direction::Outbound => brief.standing.outbound,
                    Direction::Transit => brief.standing.transit,
                };
                Decision { verdict, speaker: Speaker::Standing(self.direction) }
            }
        }
    }

    /// The answer that keeps it from being opened again, if there is one.
    pub fn shut_out_by(&self, brief: &Brief, now: Moment) -> Option<Decision> {
        Some(self.said_of(brief, now)).filter(|said| said.verdict != Action::Allow)
    }
}
