//! A gate without a kernel: the same tables, packets and time passed in. The
//! demo's host stands behind one, and tests hold the kernel's against it.

use std::time::Duration;

use tipstaff_core::decision::flows::{Flows, Stamps};
use tipstaff_core::decision::rates::{Rates, SourceState};
use tipstaff_core::decision::{Decision, Speaker};
use tipstaff_core::host::interface::Interface;
use tipstaff_core::moment::Moment;
use tipstaff_core::orders::{Action, Limit};
use tipstaff_core::packet::{
    Direction, InterfaceIndex, Packet, PacketContext, Payload, ProgramIndex, parse_ethernet,
};
use tipstaff_core::tables::Tables;

use crate::contract::{Gate, GateError, InForce, Posted, Posting, Record, Tally};

struct Revision {
    record: Record,
    tables: Tables<'static>,
    stamps: Stamps,
    guarded: Vec<InterfaceIndex>,
    tallies: Vec<(Speaker, Tally)>,
}

/// The simulated gate.
#[derive(Default)]
pub struct SimulatedGate {
    revision: Option<Revision>,
    /// When a trial ends, and what was in force before it.
    trial: Option<(Duration, Option<Revision>)>,
    /// Whether one ended by itself.
    fell_back: bool,
    flows: Flows,
    rates: Rates,
    now: Duration,
    wall: Moment,
}

impl SimulatedGate {
    /// Moves the clock; it counts from any fixed moment.
    pub fn set_time(&mut self, now: Duration) {
        self.now = now;
        if self.trial.as_ref().is_some_and(|(until, _)| *until <= now) {
            self.revision = self.trial.take().and_then(|(_, before)| before);
            self.fell_back = true;
        }
    }

    /// Says which moment it is, for rules that expire.
    pub fn set_moment(&mut self, now: Moment) {
        self.wall = now;
    }

    /// A frame leaves the host. Nothing is dropped on its way out.
    pub fn leaves(&mut self, frame: &[u8]) {
        if let (Packet::Ip(ip), Some(revision)) = (parse_ethernet(frame), &self.revision) {
            let stamps = revision.stamps;
            let known = self.flows.look_up(Direction::Outbound, &ip, stamps, self.now);
            self.flows.sent(&ip, known, stamps, self.now);
        }
    }

    /// A frame arrives for this host and is decided and counted. There are no
    /// sockets to ask: `connected` says whether a TCP packet belongs to one.
    pub fn arrives(
        &mut self,
        interface: InterfaceIndex,
        frame: &[u8],
        connected: bool,
    ) -> Decision {
        let decision = self.decide(interface, frame, connected);
        let decision = self.within_rate(frame, decision);
        let begins = self.take_note(frame, decision);
        if let Some(revision) = &mut self.revision
            && decision.speaker != Speaker::Nobody
        {
            let known = revision.tallies.iter_mut().find(|(s, _)| *s == decision.speaker);
            let tally = match known {
                Some((_, tally)) => tally,
                None => {
                    revision.tallies.push((decision.speaker, Tally::default()));
                    let last = revision.tallies.len() - 1;
                    &mut revision.tallies[last].1
                }
            };
            tally.packets += 1;
            tally.bytes += frame.len() as u64;
            tally.connections += u64::from(begins);
        }
        decision
    }

    /// What comes in is remembered, so that its answers are told from questions. Whether it
    /// begins a connection or an exchange.
    fn take_note(&mut self, frame: &[u8], decision: Decision) -> bool {
        let (Packet::Ip(ip), Some(revision)) = (parse_ethernet(frame), &self.revision) else {
            return false;
        };
        let stamps = revision.stamps;
        self.flows.look_up(Direction::Inbound, &ip, stamps, self.now);
        if decision.verdict == Action::Allow {
            self.flows.note_fragment(&ip, self.now);
            if !matches!(decision.speaker, Speaker::Foundation(_)) {
                let begins = self.flows.let_in(&ip, stamps, self.now);
                return begins || matches!(ip.payload, Payload::Tcp { .. });
            }
        }
        false
    }

    /// Takes from the rate of the rule that decided.
    fn within_rate(&mut self, frame: &[u8], decision: Decision) -> Decision {
        let (Some(revision), packet) = (&self.revision, parse_ethernet(frame)) else {
            return decision;
        };
        self.rates.ask(
            decision,
            |index| revision.tables.brief().rule(index)?.limit(),
            &packet,
            self.now,
        )
    }

    fn decide(&self, interface: InterfaceIndex, frame: &[u8], connected: bool) -> Decision {
        let open = Decision { verdict: Action::Allow, speaker: Speaker::Nobody };
        let Some(revision) = &self.revision else { return open };
        let packet = parse_ethernet(frame);
        let is_reply = match packet {
            Packet::Ip(ip) if matches!(ip.payload, Payload::Tcp { .. }) => connected,
            Packet::Ip(ip) => {
                let stamps = revision.stamps;
                self.flows.knows(Direction::Inbound, &ip, stamps, self.now).is_reply
            }
            _ => false,
        };
        let facts = PacketContext {
            interface,
            direction: Direction::Inbound,
            program: ProgramIndex::OTHER,
            is_reply,
            now: self.wall,
            packet,
        };
        revision.tables.decide(&facts)
    }
}

impl Gate for SimulatedGate {
    fn post(
        &mut self,
        posting: &Posting<'_>,
        interfaces: &[Interface],
    ) -> Result<Posted, GateError> {
        if let Some((until, _)) = &self.trial {
            return Err(GateError::TrialRunning(until.saturating_sub(self.now)));
        }
        self.fell_back = false;
        let tables = Tables::build(posting.brief)?.into_owned();
        let replaced = self.revision.is_some();
        self.revision = Some(Revision {
            record: posting.record.clone(),
            stamps: posting.brief.stamps(),
            tables,
            guarded: interfaces.iter().map(|i| InterfaceIndex(i.index)).collect(),
            tallies: Vec::new(),
        });
        let guarded = interfaces.iter().map(|i| i.name.clone()).collect();
        Ok(Posted { guarded, vanished: Vec::new(), replaced })
    }

    fn seal(
        &mut self,
        posting: &Posting<'_>,
        interfaces: &[Interface],
    ) -> Result<Posted, GateError> {
        self.trial = None;
        self.post(posting, interfaces)
    }

    fn try_out(
        &mut self,
        posting: &Posting<'_>,
        interfaces: &[Interface],
        time: Duration,
    ) -> Result<Posted, GateError> {
        let before = self.revision.take();
        let replaced = before.is_some();
        match self.post(posting, interfaces) {
            Ok(posted) => {
                self.trial = Some((self.now + time, before));
                Ok(Posted { replaced, ..posted })
            }
            Err(e) => {
                self.revision = before;
                Err(e)
            }
        }
    }

    fn confirm(&mut self) -> Result<Record, GateError> {
        match (self.trial.take(), &self.revision) {
            (Some(_), Some(revision)) => Ok(revision.record.clone()),
            _ if self.fell_back => Err(GateError::TrialOver),
            _ => Err(GateError::NoTrial),
        }
    }

    fn withdraw(&mut self) -> Result<bool, GateError> {
        self.trial = None;
        Ok(self.revision.take().is_some())
    }

    fn in_force(&self) -> Result<Option<InForce>, GateError> {
        Ok(self.revision.as_ref().map(|revision| InForce {
            record: revision.record.clone(),
            guarded: revision.guarded.clone(),
            guarded_outwards: revision.guarded.clone(),
            second_line: true,
            by_filters: false,
        }))
    }

    fn tallies(&self) -> Result<Vec<(Speaker, Tally)>, GateError> {
        Ok(self.revision.as_ref().map(|r| r.tallies.clone()).unwrap_or_default())
    }

    fn sources(&self, limit: &Limit) -> Result<Vec<SourceState>, GateError> {
        Ok(self.rates.sources(limit, self.now))
    }

    fn ask(&self, interface: InterfaceIndex, frame: &[u8]) -> Result<Decision, GateError> {
        if self.revision.is_none() {
            return Err(GateError::NothingInForce);
        }
        Ok(self.decide(interface, frame, false))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use tipstaff_core::brief::Brief;
    use tipstaff_core::orders::read;

    const LAN: InterfaceIndex = InterfaceIndex(2);
    const HEAD: &str =
        "version = 1\n[standing]\ninbound = \"ALLOW\"\noutbound = \"allow\"\ntransit = \"deny\"\n";

    fn posted(rules: &str) -> SimulatedGate {
        let orders = format!(
            "version = 1\n[standing]\ninbound = \"deny\"\noutbound = \"allow\"\ntransit = \"deny\"\n{rules}"
        );
        let brief = Brief::unplaced(&read(&orders).unwrap());
        let record = Record::from_text(orders);
        let mut gate = SimulatedGate::default();
        gate.post(&Posting { brief: &brief, record }, &[]).unwrap();
        gate
    }

    /// A UDP datagram between 203.0.113.9:123 and 198.51.100.20:5000.
    fn datagram(inwards: bool) -> Vec<u8> {
        let (remote, own) = ([203, 0, 113, 9], [198, 51, 100, 20]);
        let (source, destination) = if inwards { (remote, own) } else { (own, remote) };
        let ports: [u8; 4] = if inwards { [0, 123, 0x13, 0x88] } else { [0x13, 0x88, 0, 123] };
        let header = [0x45, 0, 0, 28, 0, 1, 0, 0, 64, 17, 0, 0];
        [&[2; 12][..], &[8, 0], &header, &source, &destination, &ports, &[0, 8, 0, 0]].concat()
    }

    #[test]
    fn an_answer_comes_in_until_the_time_that_is_passed_in_says_no() {
        let mut gate = posted("");
        let verdict = |gate: &SimulatedGate| gate.ask(LAN, &datagram(true)).unwrap().verdict;
        assert_eq!(verdict(&gate), Action::Deny);
        gate.leaves(&datagram(false));
        assert_eq!(verdict(&gate), Action::Allow);
        gate.set_time(tipstaff_core::decision::flows::UDP_AGE + Duration::from_secs(1));
        assert_eq!(verdict(&gate), Action::Deny);
    }

    #[test]
    fn a_rate_is_taken_from_by_arrivals_and_not_by_questions() {
        let mut gate = posted(
            "[[rules]]\nname = \"ntp\"\naction = \"allow\"\ntraffic = \"udp/5000\"\nat_most = \"2 per minute per source\"\n",
        );
        let limit = gate.revision.as_ref().unwrap().tables.brief().rules[0].limit().unwrap();
        let frame = datagram(true);
        for _ in 0..5 {
            assert_eq!(gate.ask(LAN, &frame).unwrap().verdict, Action::Allow);
        }
        let said: Vec<Action> = (0..3).map(|_| gate.arrives(LAN, &frame, false).verdict).collect();
        assert_eq!(said, [Action::Allow, Action::Allow, Action::Deny]);
        let states = gate.sources(&limit).unwrap();
        assert_eq!((states.len(), states[0].room), (1, 0));
        gate.set_time(Duration::from_secs(31));
        assert_eq!(gate.arrives(LAN, &frame, false).verdict, Action::Allow);
    }

    #[test]
    fn arrivals_are_counted_and_questions_are_not() {
        let mut gate =
            posted("[[rules]]\nname = \"ntp\"\naction = \"allow\"\ntraffic = \"udp/5000\"\n");
        let frame = datagram(true);
        gate.ask(LAN, &frame).unwrap();
        assert!(gate.tallies().unwrap().is_empty());
        let decision = gate.arrives(LAN, &frame, false);
        gate.arrives(LAN, &frame, false);
        let tally = Tally { packets: 2, bytes: 2 * frame.len() as u64, connections: 1 };
        assert_eq!(gate.tallies().unwrap(), [(decision.speaker, tally)]);
    }

    #[test]
    fn a_trial_ends_when_the_time_that_is_passed_in_says_so() {
        let mut gate = SimulatedGate::default();
        let closed = Brief::unplaced(&read(&HEAD.replace("ALLOW", "deny")).unwrap());
        let open = Brief::unplaced(&read(&HEAD.replace("ALLOW", "allow")).unwrap());
        let posting = |brief| Posting { brief, record: Record::from_text("") };
        let said = |gate: &SimulatedGate| gate.ask(LAN, &datagram(true)).unwrap().verdict;
        gate.post(&posting(&closed), &[]).unwrap();
        assert!(matches!(gate.confirm(), Err(GateError::NoTrial)));
        gate.try_out(&posting(&open), &[], Duration::from_secs(60)).unwrap();
        assert!(matches!(gate.post(&posting(&open), &[]), Err(GateError::TrialRunning(_))));
        assert_eq!(said(&gate), Action::Allow);
        gate.set_time(Duration::from_secs(60));
        assert_eq!(said(&gate), Action::Deny);
        assert!(matches!(gate.confirm(), Err(GateError::TrialOver)));
        gate.try_out(&posting(&open), &[], Duration::from_secs(60)).unwrap();
        gate.confirm().unwrap();
        gate.set_time(Duration::from_secs(600));
        assert_eq!(said(&gate), Action::Allow);
    }

    #[test]
    fn without_orders_everything_passes() {
        let mut gate = posted("");
        assert!(gate.withdraw().unwrap() && !gate.withdraw().unwrap());
        assert_eq!(gate.arrives(LAN, &datagram(true), false).verdict, Action::Allow);
        assert!(matches!(gate.ask(LAN, &[]), Err(GateError::NothingInForce)));
    }
}
