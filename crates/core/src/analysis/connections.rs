//! What orders would say of an open connection if it were opened now.

use crate::brief::Brief;
use crate::decision::{Decision, RuleQuery, Speaker, first_mismatch};
use crate::host::connection::Connection;
use crate::moment::Moment;
use crate::names::traffic::Transport;
use crate::orders::Action;
use crate::packet::{Direction, ProgramIndex};

impl Connection {
    /// What its first packet would ask.
    pub fn question(&self, brief: &Brief, now: Moment) -> RuleQuery {
        let (source, destination, port) = match self.direction {
            Direction::Inbound | Direction::Transit => {
                (self.remote.ip(), self.local.ip(), self.local.port())
            }
            Direction::Outbound => (self.local.ip(), self.remote.ip(), self.remote.port()),
        };
        RuleQuery {
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
        let rule =
            brief.indexed().find(|(_, rule)| first_mismatch(brief, rule, &question).is_none());
        match rule {
            Some((index, rule)) => Decision { verdict: rule.action, speaker: Speaker::Rule(index) },
            None => {
                let verdict = brief.standing.of(self.direction);
                Decision { verdict, speaker: Speaker::Standing(self.direction) }
            }
        }
    }

    /// The answer that keeps it from being opened again, if there is one.
    pub fn shut_out_by(&self, brief: &Brief, now: Moment) -> Option<Decision> {
        Some(self.said_of(brief, now)).filter(|said| said.verdict != Action::Allow)
    }
}
