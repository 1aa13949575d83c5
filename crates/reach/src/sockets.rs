//! The socket table as evidence: what is known of a port without, or beside, a knock.

use std::net::IpAddr;

use tipstaff_core::analysis::reach::{How, Observed, Outcome, Said, Subject, let_in};
use tipstaff_core::host::listener::{Listener, taker};
use tipstaff_core::orders::Action;
use tipstaff_knock::witness::Approach;

use crate::evidence::programs;

/// The sockets that are bound on this host.
#[derive(Clone, Copy)]
pub(crate) struct Sockets<'l>(pub(crate) &'l [Listener]);

impl<'l> Sockets<'l> {
    pub(crate) fn bound(self, subject: Subject) -> impl Iterator<Item = &'l Listener> {
        self.0.iter().filter(move |l: &&Listener| Subject::Port(l.transport, l.port) == subject)
    }

    /// Connections that wait to be accepted, and room for them.
    pub(crate) fn waiting(self, subject: Subject) -> Option<(u32, u32)> {
        self.bound(subject).filter_map(|l| l.queue).find(|(waiting, _)| *waiting > 0)
    }

    pub(crate) fn not_knocked_on(self, subject: Subject) -> Observed {
        let (outcome, evidence) = match (subject, self.waiting(subject)) {
            (Subject::Echo, _) => {
                (Outcome::Answers, "the kernel answers itself over loopback".to_owned())
            }
            (_, Some((waiting, room))) => {
                let outcome = if waiting > room { Outcome::Silent } else { Outcome::Answers };
                let words = format!(
                    "{waiting} connections wait to be accepted, with room for {room}; not \
                     probed, so as to add none"
                );
                (outcome, words)
            }
            (_, None) => (Outcome::Refuses, "no socket is bound to it".to_owned()),
        };
        Observed { outcome, how: How::Orders, ..Observed::unknown(evidence) }
    }

    /// A datagram that came past the gate: the socket table says who takes it.
    pub(crate) fn datagram(
        self,
        subject: Subject,
        target: IpAddr,
        approach: &Approach,
        gate: Option<&Said>,
    ) -> Observed {
        let name = approach.interface.name.as_str();
        let outcome = let_in(self.0, subject, target, Some(name));
        let who = match outcome {
            Outcome::Answers => match programs(self.0, subject).as_slice() {
                [] => "a program listens".to_owned(),
                names => format!("{} listens", names.join(", ")),
            },
            _ => "no socket takes it".to_owned(),
        };
        let evidence = match gate {
            Some(_) => format!("the datagram passed the gate; {who}"),
            None => format!("the datagram came in without passing a gate; {who}"),
        };
        Observed { outcome, how: How::Gate, target: Some(target), ..Observed::unknown(evidence) }
    }

    /// How many connections wait, and the room for them, where the socket that takes
    /// a knock has none left.
    pub(crate) fn full(
        self,
        subject: Subject,
        target: IpAddr,
        approach: &Approach,
    ) -> Option<(u32, u32)> {
        let Subject::Port(transport, port) = subject else { return None };
        let arrives = Some(approach.interface.name.as_str());
        let taker = taker(self.0, transport, port, target, arrives)?;
        taker.queue.filter(|(waiting, room)| waiting > room)
    }

    pub(crate) fn by_gate(
        self,
        subject: Subject,
        target: IpAddr,
        approach: &Approach,
        gate: Option<&Said>,
    ) -> Observed {
        let name = approach.interface.name.as_str();
        let taken = |let_in_by: String| match self.full(subject, target, approach) {
            Some((waiting, room)) => {
                let words = format!("{let_in_by}; {waiting} of {room} wait to be accepted");
                (Outcome::Silent, words)
            }
            None => (let_in(self.0, subject, target, Some(name)), let_in_by),
        };
        let (outcome, evidence) = match gate {
            Some(said) => match said.decision.verdict {
                Action::Deny => (Outcome::Silent, format!("denied by {}", said.by)),
                Action::Refuse => (Outcome::Refuses, format!("refused by {}", said.by)),
                Action::Allow => taken(format!("let in by {}", said.by)),
            },
            None => taken("no gate is loaded".into()),
        };
        Observed { outcome, how: How::Gate, target: Some(target), ..Observed::unknown(evidence) }
    }
}
