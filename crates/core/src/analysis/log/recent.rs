//! The last minutes of what is watched: who was turned away, and who decides how much.

use std::collections::{HashMap, VecDeque};

use super::entry::Entry;
use super::summary::{GroupBy, Row, Summary};

/// Seconds that are counted together.
pub const PIECE: u64 = 10;
/// So many such pieces are kept: five minutes.
pub const PIECES: usize = 30;
/// So many sources are told apart; beyond, those that came up least are forgotten.
const MOST_SOURCES: usize = 10_000;

/// Somebody who decides, and how much.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Decider {
    /// Decisions since this began.
    pub total: u64,
    /// Decisions of each piece, the oldest first.
    pub pieces: [u64; PIECES],
}

/// What was seen.
#[derive(Debug)]
pub struct Recent {
    sources: Summary,
    deciders: HashMap<String, Decider>,
    /// The piece that the last number of all deciders is of.
    piece: u64,
    /// When the last decisions were seen, in seconds; of one second at most.
    seen: VecDeque<(u64, u64)>,
    /// Decisions that are missing.
    pub missing: u64,
}

impl Recent {
    /// Nothing yet. `now`: seconds, counted from any fixed moment.
    pub fn new(now: u64) -> Self {
        Self {
            sources: Summary::new(GroupBy::Sources),
            deciders: HashMap::new(),
            piece: now / PIECE,
            seen: VecDeque::new(),
            missing: 0,
        }
    }

    /// Counts a decision that was made at a moment, now or earlier.
    pub fn add(&mut self, entry: &Entry<'_>, at: u64) {
        // Whom a rehearsal would turn away is still let in.
        if !entry.rehearsed {
            self.sources.add(entry);
            self.sources.forget_beyond(MOST_SOURCES);
        }
        let decider = match self.deciders.get_mut(&*entry.by) {
            Some(known) => known,
            None => self.deciders.entry(entry.by.to_string()).or_default(),
        };
        decider.total += 1;
        let ago = usize::try_from(self.piece.saturating_sub(at / PIECE)).unwrap_or(PIECES);
        if let Some(piece) = PIECES.checked_sub(ago + 1) {
            decider.pieces[piece] += 1;
        }
        match self.seen.back_mut() {
            Some((second, count)) if *second >= at => *count += u64::from(*second == at),
            _ => self.seen.push_back((at, 1)),
        }
    }

    /// Time goes on: what is older than all pieces is no longer told.
    pub fn move_on(&mut self, now: u64) {
        let gone = (now / PIECE).saturating_sub(self.piece);
        self.piece += gone;
        if gone > 0 {
            let gone = usize::try_from(gone).unwrap_or(PIECES).min(PIECES);
            for decider in self.deciders.values_mut() {
                decider.pieces.rotate_left(gone);
                decider.pieces[PIECES - gone..].fill(0);
            }
        }
        while self.seen.front().is_some_and(|(second, _)| second + 5 <= now) {
            self.seen.pop_front();
        }
    }

    /// Decisions a second, over the last five.
    pub fn rate(&self) -> f64 {
        self.seen.iter().map(|(_, count)| *count).sum::<u64>() as f64 / 5.0
    }

    /// Sources that were turned away, the most often first.
    pub fn turned_away(&self, most: usize) -> Vec<&Row> {
        let mut rows = self.sources.rows();
        rows.retain(|row| row.turned_away > 0);
        rows.truncate(most);
        rows
    }

    /// Who decided most in the last minutes, and before.
    pub fn deciders(&self, most: usize) -> Vec<(&str, &Decider)> {
        let mut all: Vec<_> = self.deciders.iter().map(|(by, d)| (by.as_str(), d)).collect();
        let weight = |decider: &Decider| (decider.pieces.iter().sum::<u64>(), decider.total);
        all.sort_by(|(a, one), (b, other)| weight(other).cmp(&weight(one)).then(a.cmp(b)));
        all.truncate(most);
        all
    }
}

#[cfg(test)]
mod tests {
    use super::super::entry::example;
    use super::*;
    use crate::orders::Action;

    fn entry<'t>(source: &'t str, by: &'t str, verdict: Action) -> Entry<'t> {
        Entry { source: source.into(), by: by.into(), verdict, ..example() }
    }

    #[test]
    fn pieces_move_on_and_what_is_old_is_no_longer_told() {
        let mut recent = Recent::new(1_000);
        recent.add(&entry("192.0.2.66:1", "the standing answer inbound", Action::Deny), 1_000);
        recent.add(&entry("192.0.2.66:2", "the standing answer inbound", Action::Deny), 1_001);
        recent.move_on(1_012);
        recent.add(&entry("203.0.113.9:1", "rule 1 (plates)", Action::Allow), 1_012);
        // Told late, it belongs where it was decided; long ago, nowhere.
        recent.add(&entry("203.0.113.9:1", "rule 2 (late)", Action::Allow), 1_005);
        recent.add(&entry("203.0.113.9:1", "rule 2 (late)", Action::Allow), 5);
        let pieces = |recent: &Recent, by: &str| {
            let all = recent.deciders(9);
            all.into_iter().find(|(name, _)| *name == by).unwrap().1.pieces
        };
        let standing = pieces(&recent, "the standing answer inbound");
        assert_eq!(standing[PIECES - 2..], [2, 0]);
        assert_eq!(pieces(&recent, "rule 1 (plates)")[PIECES - 2..], [0, 1]);
        assert_eq!(pieces(&recent, "rule 2 (late)")[PIECES - 2..], [1, 0]);
        assert_eq!(recent.deciders(1)[0].0, "the standing answer inbound");
        assert!((recent.rate() - 0.2).abs() < 1e-9);
        let rows = recent.turned_away(9);
        assert_eq!((rows.len(), rows[0].name.as_str(), rows[0].turned_away), (1, "192.0.2.66", 2));
        recent.move_on(1_000 + PIECE * PIECES as u64);
        assert_eq!(pieces(&recent, "the standing answer inbound"), [0; PIECES]);
        assert_eq!(
            recent.deciders(9)[0],
            (
                "rule 1 (plates)",
                &Decider {
                    total: 1,
                    pieces: {
                        let mut pieces = [0; PIECES];
                        pieces[0] = 1;
                        pieces
                    },
                }
            )
        );
        recent.move_on(100_000);
        assert_eq!(recent.rate(), 0.0);
    }

    #[test]
    fn of_too_many_sources_the_rarest_are_forgotten() {
        let mut recent = Recent::new(0);
        for n in 0..3 * MOST_SOURCES as u32 {
            let source = format!("{}:1", std::net::Ipv4Addr::from(0xcb00_7100 + n));
            recent.add(&entry(&source, "the standing answer inbound", Action::Deny), 1);
            recent.add(&entry("192.0.2.66:1", "the standing answer inbound", Action::Deny), 1);
        }
        let rows = recent.turned_away(usize::MAX);
        assert!(rows.len() <= MOST_SOURCES, "{}", rows.len());
        assert_eq!(
            (rows[0].name.as_str(), rows[0].turned_away),
            ("192.0.2.66", 3 * MOST_SOURCES as u64)
        );
    }
}
