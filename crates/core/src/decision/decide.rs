//! The reference: walk the list, the first rule that holds in all its
//! conditions decides. It is the definition of truth, and slow on purpose; the
//! tables and the kernel's program must agree with it.

use std::net::IpAddr;
use std::time::Duration;

use schemars::JsonSchema;
use serde::Serialize;

use crate::brief::{Brief, RuleIndex};
use crate::decision::foundations::{Before, Foundation, before_rules, claims_to_be_here};
use crate::decision::rates::Rates;
use crate::decision::verdict::{Decision, Speaker};
use crate::moment::Moment;
use crate::names::address::Family;
use crate::names::traffic::TrafficKey;
use crate::orders::{Action, AddressCondition, Inactive, Rule};
use crate::packet::{Direction, InterfaceIndex, IpPacket, PacketContext, ProgramIndex};

/// The one condition of a rule that did not hold.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, JsonSchema, Serialize)]
#[serde(rename_all = "lowercase")]
pub enum Mismatch {
    /// The rule is paused.
    Paused,
    /// Its group is paused.
    Group,
    /// It is for other hosts.
    Host,
    /// It holds in other postures.
    Posture,
    /// Its time is over.
    Expired,
    /// Another direction.
    Direction,
    /// Another family.
    Family,
    /// Another traffic.
    Traffic,
    /// Another source.
    Source,
    /// Another destination.
    Destination,
    /// Another interface.
    Interface,
    /// Another program.
    Program,
}

/// What the conditions of rules look at.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub struct RuleQuery {
    /// Which way the packet goes.
    pub direction: Direction,
    /// What the packet is about.
    pub key: TrafficKey,
    /// Who sends it.
    pub source: IpAddr,
    /// To whom; same family as the source.
    pub destination: IpAddr,
    /// Where it arrives; where it leaves, on its way out.
    pub interface: InterfaceIndex,
    /// Who listens, or who sends.
    pub program: ProgramIndex,
    /// When it arrives.
    pub now: Moment,
}

impl RuleQuery {
    /// The question that a packet puts to the rules; `None` when it has no
    /// transport header to look at.
    pub fn from_packet(facts: &PacketContext, packet: &IpPacket) -> Option<Self> {
        let PacketContext { direction, interface, program, now, .. } = *facts;
        let IpPacket { source, destination, .. } = *packet;
        Some(Self { direction, key: packet.key()?, source, destination, interface, program, now })
    }
}

/// The first condition of `rule` that fails, in the order of [`Mismatch`];
/// `None` when the rule decides.
pub fn first_mismatch(brief: &Brief, rule: &Rule, question: &RuleQuery) -> Option<Mismatch> {
    let RuleQuery { direction, key, source, destination, interface, program, now } = *question;
    fn lacks(condition: &AddressCondition, address: IpAddr) -> bool {
        condition.addresses.as_ref().is_some_and(|set| !set.contains(address))
    }
    let elsewhere = || {
        let name = brief.interface_name(interface);
        !rule.interface.is_any() && !name.is_some_and(|name| rule.interface.holds(name))
    };
    if let Some(inactive) = rule.inactive {
        Some(match inactive {
            Inactive::Paused => Mismatch::Paused,
            Inactive::GroupPaused => Mismatch::Group,
            Inactive::OtherHost => Mismatch::Host,
            Inactive::OtherPosture => Mismatch::Posture,
            Inactive::Expired => Mismatch::Expired,
        })
    } else if rule.until.is_some_and(|until| until <= now) {
        Some(Mismatch::Expired)
    } else if rule.direction != direction {
        Some(Mismatch::Direction)
    } else if rule.family.is_some_and(|family| family != Family::of_address(source)) {
        Some(Mismatch::Family)
    } else if rule.traffic.keys.as_ref().is_some_and(|keys| !keys.contains(key)) {
        Some(Mismatch::Traffic)
    } else if lacks(&rule.source, source) {
        Some(Mismatch::Source)
    } else if lacks(&rule.destination, destination) {
        Some(Mismatch::Destination)
    } else if elsewhere() {
        Some(Mismatch::Interface)
    } else {
        (!brief.program_holds(rule, program)).then_some(Mismatch::Program)
    }
}

/// Decides one packet by walking the list, as if every rate had room.
pub fn decide(brief: &Brief, facts: &PacketContext) -> Decision {
    decide_with(brief, facts, |question| {
        let matches =
            |(_, rule): &(RuleIndex, &Rule)| first_mismatch(brief, rule, question).is_none();
        brief.indexed().find(matches).map(|(index, _)| index)
    })
}

/// The same, with rates: a packet that an allow lets in takes from its rate.
/// `at` is the time, counted from any fixed moment.
pub fn decide_within(
    brief: &Brief,
    facts: &PacketContext,
    rates: &mut Rates,
    at: Duration,
) -> Decision {
    rates.ask(decide(brief, facts), |index| brief.rule(index)?.limit(), &facts.packet, at)
}

/// The frame of a decision around any way to find the first rule.
#[inline]
pub(crate) fn decide_with(
    brief: &Brief,
    facts: &PacketContext,
    first_rule: impl FnOnce(&RuleQuery) -> Option<RuleIndex>,
) -> Decision {
    let ip = match before_rules(brief.foundations, facts) {
        Before::NotOurs => return Decision { verdict: Action::Allow, speaker: Speaker::Nobody },
        Before::Speaks(foundation) => {
            return Decision {
                verdict: foundation.action(),
                speaker: Speaker::Foundation(foundation),
            };
        }
        Before::Open(ip) => ip,
    };
    if claims_to_be_here(&brief.own, facts.direction, ip) {
        let foundation = Foundation::Martian;
        return Decision { verdict: foundation.action(), speaker: Speaker::Foundation(foundation) };
    }
    let index = RuleQuery::from_packet(facts, ip).and_then(|question| first_rule(&question));
    match index.and_then(|index| Some((index, brief.rule(index)?))) {
        Some((index, rule)) => Decision { verdict: rule.action, speaker: Speaker::Rule(index) },
        None => standing(brief, facts.direction),
    }
}

fn standing(brief: &Brief, direction: Direction) -> Decision {
    Decision { verdict: brief.standing.of(direction), speaker: Speaker::Standing(direction) }
}
