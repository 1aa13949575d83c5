//! What leaves this host, and what passes through it: whether it may by the
//! orders, and whether it does.

use std::fmt;
use std::net::IpAddr;

use schemars::JsonSchema;
use serde::{Serialize, Serializer};

use super::{How, Said, Subject, first_packet, speaker_words};
use crate::brief::Brief;
use crate::decision::decide;
use crate::orders::Action;
use crate::packet::{Direction, InterfaceIndex, PacketContext, ProgramIndex};

/// What becomes of a packet on its way out of, or through, this host.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Passage {
    /// This host sends it on; what the other end does with it is its own affair.
    Passes,
    /// This host says no to whoever sent it.
    Refused,
    /// It ends here in silence, or its sender is told that it may not.
    Kept,
    /// Nobody could find out.
    Unknown,
}

impl fmt::Display for Passage {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Passes => "passes",
            Self::Refused => "refused",
            Self::Kept => "stopped",
            Self::Unknown => "unknown",
        })
    }
}

impl From<Action> for Passage {
    fn from(action: Action) -> Self {
        match action {
            Action::Allow => Self::Passes,
            Action::Deny => Self::Kept,
            Action::Refuse => Self::Refused,
        }
    }
}

/// What was met on the way, with the evidence in words.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Met {
    /// The other end, whatever it said.
    OtherEnd(String),
    /// It was seen where it leaves.
    CameOut(String),
    /// The system told the sender that it may not.
    Forbidden(String),
    /// A refusal that may be this host's or the other end's.
    Refusal(String),
    /// Nothing.
    Nothing(String),
    /// This host sends nothing on that comes in there, whatever orders say.
    DoesNotForward(String),
    /// It could not be sent, for a reason that is none of the gate's.
    NotSent(String),
    /// Nobody tried: the gate's word is all there is.
    NotTried,
}

/// The gate that is up.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Word {
    /// It was asked, and says so.
    Said(Said),
    /// None is up: nothing is kept in.
    NoGate,
    /// This account may not ask.
    NotVisible,
}

fn unless_unspecified<S: Serializer>(address: &IpAddr, to: S) -> Result<S::Ok, S::Error> {
    (!address.is_unspecified()).then_some(address).serialize(to)
}

/// One way out or through.
#[derive(Clone, Debug, PartialEq, Eq, JsonSchema, Serialize)]
pub struct Crossing {
    /// Outbound, or transit.
    pub direction: Direction,
    /// What it is about.
    pub subject: Subject,
    /// Who sends it; unspecified, and `null` in JSON, where no route says which of this
    /// host's addresses it would be.
    #[serde(serialize_with = "unless_unspecified")]
    #[schemars(with = "Option<IpAddr>")]
    pub source: IpAddr,
    /// To whom.
    pub destination: IpAddr,
    /// Where it comes in, on its way through.
    pub comes_in: Option<String>,
    /// Where it leaves; `None`: there is no route.
    pub leaves: Option<String>,
    /// The program that it was judged for, on its way out; `None`: one that no rule names.
    pub program: Option<String>,
    /// What the orders mean it to do.
    pub expected: Passage,
    /// Who says so, in words.
    pub expected_by: String,
    /// What it does.
    pub observed: Passage,
    /// How that is known.
    pub how: How,
    /// The evidence.
    pub evidence: String,
    /// What the gate in force says.
    pub gate: Option<String>,
    /// Why it differs.
    pub why: Option<String>,
    /// What to do next.
    pub next: Option<String>,
}

/// What to look at where nothing is forwarded.
const FORWARDING: &str =
    "check the routes, net.ipv4.conf.*.forwarding and net.ipv6.conf.all.forwarding";

/// What is asked: a first packet, and where it goes.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Wanted {
    /// Outbound, or transit.
    pub direction: Direction,
    /// What it is about.
    pub subject: Subject,
    /// Who sends it.
    pub source: IpAddr,
    /// To whom.
    pub destination: IpAddr,
    /// Where it comes in, on its way through.
    pub comes_in: Option<(InterfaceIndex, String)>,
    /// Where it leaves; `None`: there is no route.
    pub leaves: Option<(InterfaceIndex, String)>,
    /// Who sends it, as the list counts programs.
    pub program: ProgramIndex,
}

impl Wanted {
    /// The facts by which it is decided.
    pub fn facts(&self) -> PacketContext {
        let interface = self.comes_in.as_ref().or(self.leaves.as_ref());
        let interface = interface.map_or(InterfaceIndex(0), |(index, _)| *index);
        let Self { direction, program, .. } = *self;
        let packet = first_packet(self.subject, self.source, self.destination, interface);
        PacketContext { direction, program, ..packet }
    }
}

impl Crossing {
    /// Whether what was seen is not what the orders say.
    pub fn differs(&self) -> bool {
        self.observed != Passage::Unknown && self.observed != self.expected
    }

    /// Judges what was met. `other_orders`: the gate in force holds others than these.
    pub fn judge(
        brief: &Brief,
        wanted: &Wanted,
        met: Met,
        word: &Word,
        other_orders: bool,
    ) -> Self {
        let decision = decide(brief, &wanted.facts());
        let forwards = !matches!(met, Met::DoesNotForward(_));
        let (observed, how, evidence) = observed(met, word);
        let gate = match word {
            Word::Said(said) => {
                let verb = match said.decision.verdict {
                    Action::Allow => "lets it pass",
                    Action::Deny => "denies it",
                    Action::Refuse => "refuses it",
                };
                Some(format!("{verb}, by {}", said.by))
            }
            Word::NoGate | Word::NotVisible => None,
        };
        let mut crossing = Self {
            direction: wanted.direction,
            subject: wanted.subject,
            source: wanted.source,
            destination: wanted.destination,
            comes_in: wanted.comes_in.as_ref().map(|(_, name)| name.clone()),
            leaves: wanted.leaves.as_ref().map(|(_, name)| name.clone()),
            program: brief.program(wanted.program).map(str::to_owned),
            expected: decision.verdict.into(),
            expected_by: speaker_words(brief, decision.speaker),
            observed,
            how,
            evidence,
            gate,
            why: None,
            next: None,
        };
        if crossing.differs() {
            let (why, next) = match forwards {
                true => crossing.reason(word, other_orders),
                false => (crossing.evidence.clone(), FORWARDING),
            };
            (crossing.why, crossing.next) = (Some(why), Some(next.to_owned()));
        }
        crossing
    }

    fn reason(&self, word: &Word, other_orders: bool) -> (String, &'static str) {
        const POST: &str = "tipstaff post puts the orders in force";
        const STATE: &str = "tipstaff state names the programs at each interface";
        let passes = self.observed == Passage::Passes;
        match word {
            // It does what the gate says, or is stopped as the orders do not mean it to be.
            Word::Said(said)
                if Passage::from(said.decision.verdict) == self.observed
                    || !passes
                        && said.decision.verdict != Action::Allow
                        && Passage::from(said.decision.verdict) != self.expected =>
            {
                let why = match other_orders {
                    true => format!("the gate has other orders, in which {} decides", said.by),
                    // The same orders, and still another answer: what the gate knows of the
                    // packet is more than the list does.
                    false => format!("the gate decides otherwise: {}", said.by),
                };
                let next = match other_orders {
                    true => {
                        "tipstaff compare in-force shows what differs, tipstaff post puts these \
                         in force"
                    }
                    false => {
                        "tipstaff ask --in-force, with this direction, shows the rules one by one"
                    }
                };
                (why, next)
            }
            Word::Said(said) if said.decision.verdict == Action::Allow => {
                let why = "the gate lets it pass, but it does not leave this host: routing, \
                           forwarding or another filter stops it";
                let next = match self.direction {
                    Direction::Transit => FORWARDING,
                    Direction::Inbound | Direction::Outbound => STATE,
                };
                (why.to_owned(), next)
            }
            Word::Said(said) if passes => {
                let verb = match said.decision.verdict {
                    Action::Refuse => "refuse",
                    Action::Allow | Action::Deny => "deny",
                };
                (format!("it bypasses the gate, which would {verb} it"), STATE)
            }
            Word::Said(_) => ("something other than the gate stops it first".to_owned(), STATE),
            Word::NoGate if passes => ("nothing is in force".to_owned(), POST),
            Word::NoGate => {
                ("something other than the gate stops it: no gate is loaded".to_owned(), STATE)
            }
            Word::NotVisible => {
                let why = match passes {
                    true => "this account cannot see what the gate says of it",
                    false => {
                        "this account cannot see whether the gate or another filter stopped it"
                    }
                };
                (why.to_owned(), "run it as root")
            }
        }
    }
}

/// What was met, and the gate's word, together.
fn observed(met: Met, word: &Word) -> (Passage, How, String) {
    let said = match word {
        Word::Said(said) => Some(said),
        Word::NoGate | Word::NotVisible => None,
    };
    let by_gate = |evidence: Option<String>| {
        let beside = evidence.map(|words| format!("; {words}")).unwrap_or_default();
        match word {
            Word::Said(said) => {
                let verb = match said.decision.verdict {
                    Action::Allow => "let pass",
                    Action::Deny => "denied",
                    Action::Refuse => "refused",
                };
                let evidence = format!("{verb} by {}{beside}", said.by);
                (said.decision.verdict.into(), How::Gate, evidence)
            }
            Word::NoGate => (Passage::Passes, How::Gate, format!("no gate is loaded{beside}")),
            Word::NotVisible => {
                let evidence = format!("only root can ask the gate{beside}");
                (Passage::Unknown, How::Gate, evidence)
            }
        }
    };
    match met {
        Met::OtherEnd(words) | Met::CameOut(words) => (Passage::Passes, How::Wire, words),
        Met::Forbidden(words) => {
            let by = said.filter(|said| said.decision.verdict == Action::Deny);
            let by = by.map(|said| format!("; denied by {}", said.by)).unwrap_or_default();
            (Passage::Kept, How::Wire, format!("{words}{by}"))
        }
        Met::DoesNotForward(words) => (Passage::Kept, How::Wire, words),
        Met::Refusal(words) => match said.map(|said| said.decision.verdict) {
            // Whom the gate denies what leaves hears of it as of a refusal.
            Some(Action::Deny | Action::Refuse) => by_gate(Some(words)),
            Some(Action::Allow) => {
                (Passage::Passes, How::Wire, format!("{words} from the other end"))
            }
            None if *word == Word::NoGate => {
                (Passage::Passes, How::Wire, format!("{words} from the other end"))
            }
            None => {
                let words =
                    format!("{words}; whether from this host or the other end, only root can tell");
                (Passage::Unknown, How::Wire, words)
            }
        },
        Met::Nothing(words) => by_gate(Some(format!("{words} came back"))),
        Met::NotSent(words) => (Passage::Unknown, How::Wire, words),
        Met::NotTried => by_gate(None),
    }
}

#[cfg(test)]
mod tests;
