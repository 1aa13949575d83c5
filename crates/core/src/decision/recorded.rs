//! Which decisions are recorded.

use super::Speaker;
use super::foundations::Foundation;
use crate::orders::{Action, LogLevel};

/// Whether a decision is recorded.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Recorded {
    /// Never.
    No,
    /// A sample of its like.
    Sample,
    /// Each time.
    Each,
}

/// Who decides what belongs to something that was decided before, stays on this host, or is
/// not IP and has no ends to tell of. The kernel's program reads the same list.
pub const UNRECORDED: [Speaker; 6] = [
    Speaker::Nobody,
    Speaker::Foundation(Foundation::Loopback),
    Speaker::Foundation(Foundation::LaterFragments),
    Speaker::Foundation(Foundation::Replies),
    Speaker::Foundation(Foundation::LinkProtocols),
    Speaker::Foundation(Foundation::Unreadable),
];

impl LogLevel {
    /// Whether a decision is recorded that no `log = true` asks for.
    pub fn records(self, speaker: Speaker, verdict: Action) -> Recorded {
        let by_rule = matches!(speaker, Speaker::Rule(_) | Speaker::Beyond(_));
        match (verdict, self) {
            _ if UNRECORDED.contains(&speaker) => Recorded::No,
            (Action::Deny | Action::Refuse, _) => Recorded::Sample,
            (Action::Allow, Self::Off | Self::Denied) => Recorded::No,
            (Action::Allow, Self::Rules) if !by_rule => Recorded::No,
            (Action::Allow, Self::Rules | Self::All) => Recorded::Each,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::brief::RuleIndex;
    use crate::packet::Direction;

    #[test]
    fn each_level_has_what_the_one_before_it_has() {
        let rank = |recorded| {
            [Recorded::No, Recorded::Sample, Recorded::Each].iter().position(|r| *r == recorded)
        };
        let mut speakers: Vec<Speaker> = Foundation::ALL.map(Speaker::Foundation).to_vec();
        speakers.extend([Speaker::Rule(RuleIndex(0)), Speaker::Beyond(RuleIndex(0))]);
        speakers.extend(Direction::ALL.map(Speaker::Standing));
        for speaker in speakers {
            for verdict in Action::ALL {
                let ranks = LogLevel::ALL.map(|(level, _)| rank(level.records(speaker, verdict)));
                assert!(ranks.is_sorted(), "{speaker:?} {verdict}: {ranks:?}");
            }
        }
        for (level, name) in LogLevel::ALL {
            assert_eq!(level.name(), name);
        }
    }
}
