//! The walk through both lists.

use std::collections::{BTreeMap, HashMap};
use std::sync::Arc;

use super::conditions::{Widened, conditions};
use super::lanes::whole;
use super::{
    AXES, BOUNDARY, Change, Comparison, DESTINATION, Kind, MOST_PIECES, MOST_RANGES, MOST_WORK,
    SOURCE, Said, Values, programs_of_both,
};
use crate::brief::{Brief, RuleIndex};
use crate::names::address::Family;
use crate::names::boundaries::{Boundaries, Members};
use crate::names::range_set::RangeSet;
use crate::orders::{Action, Over, Rule, Sharing};
use crate::packet::Direction;

/// A rule as the walk sees it.
struct Step {
    index: RuleIndex,
    conditions: [Values; AXES],
    /// From this axis on it has no conditions.
    free_from: usize,
    /// Equal for rules that say the same under the same conditions.
    meaning: usize,
}

/// The rules of one list that can match in a direction and family.
struct Side<'b> {
    brief: &'b Brief,
    steps: Vec<Step>,
}

type Meaning = ([Option<usize>; AXES], Action, Option<(u64, u64, Sharing, Over)>);

/// Numbers for what is equal: sets of values, and what rules say of them.
#[derive(Default)]
struct Meanings {
    widened: Widened,
    /// The same set need not be looked at twice.
    seen: HashMap<*const RangeSet<u128>, usize>,
    sets: HashMap<Arc<RangeSet<u128>>, usize>,
    known: HashMap<Meaning, usize>,
}

impl Meanings {
    fn set(&mut self, values: &Values) -> Option<usize> {
        let set = values.as_ref()?;
        let next = self.sets.len();
        Some(match self.seen.get(&Arc::as_ptr(set)) {
            Some(known) => *known,
            None => {
                let number = *self.sets.entry(set.clone()).or_insert(next);
                // Only those that are kept stay where they are.
                if self.sets.get_key_value(set).is_some_and(|(kept, _)| Arc::ptr_eq(kept, set)) {
                    self.seen.insert(Arc::as_ptr(set), number);
                }
                number
            }
        })
    }

    fn number(&mut self, conditions: &[Values; AXES], rule: &Rule) -> usize {
        let sets = std::array::from_fn(|axis| self.set(&conditions[axis]));
        let next = self.known.len();
        *self
            .known
            .entry((
                sets,
                rule.action,
                rule.limit().map(|l| (l.increment, l.tolerance, l.sharing, l.over)),
            ))
            .or_insert(next)
    }
}

struct Walk<'b> {
    direction: Direction,
    before: Side<'b>,
    after: Side<'b>,
    /// All values of each axis.
    whole: [RangeSet<u128>; AXES],
    pieces: Vec<Piece>,
    /// How many ranges they have in all.
    ranges: usize,
    /// What may still be looked at, in rules: [`MOST_WORK`].
    work: usize,
    cut_off: bool,
}

/// What decides in the one list and in the other.
type Speakers = (Option<RuleIndex>, Option<RuleIndex>);

#[derive(Clone, PartialEq, Eq, Hash)]
struct Piece {
    speakers: Speakers,
    axes: [Values; AXES],
}

pub(super) fn compare(before: &Brief, after: &Brief) -> Comparison {
    let programs = programs_of_both(before, after);
    let mut meanings = Meanings::default();
    let mut comparison = Comparison::default();
    let interfaces: BTreeMap<u32, String> = before
        .interfaces
        .iter()
        .chain(&after.interfaces)
        .filter(|(index, _)| *index != crate::packet::InterfaceIndex::LOOPBACK)
        .map(|(index, name)| (index.0, name.clone()))
        .collect();
    for direction in Direction::ALL {
        let mut of_family: [Vec<Piece>; 2] = Default::default();
        // Each direction and family has its share: none is left out because of another.
        let work = MOST_WORK / (2 * Direction::ALL.len());
        for (nth, family) in Family::BOTH.into_iter().enumerate() {
            let mut side = |brief| Side::new(brief, direction, family, &programs, &mut meanings);
            let (before, after) = (side(before), side(after));
            let indexes: Vec<u32> = interfaces.keys().copied().collect();
            let mut walk = Walk {
                direction,
                whole: whole(family, &indexes, programs.len()),
                before,
                after,
                pieces: Vec::new(),
                ranges: 0,
                work,
                cut_off: false,
            };
            let (before, after) = (walk.before.all(), walk.after.all());
            walk.narrow(0, before, after, &mut Default::default());
            comparison.cut_off |= walk.cut_off;
            of_family[nth] = merged(walk.pieces, &walk.whole);
        }
        // Where both families have the same piece without addresses, it is one.
        let [four, six] = of_family;
        let both = |p: &Piece| {
            p.axes[SOURCE].is_none()
                && p.axes[DESTINATION].is_none()
                && four.contains(p)
                && six.contains(p)
        };
        let pieces = four.iter().map(|p| (p, (!both(p)).then_some(Family::V4)));
        let pieces = pieces.chain(six.iter().filter(|p| !both(p)).map(|p| (p, Some(Family::V6))));
        for (piece, family) in pieces {
            let (one, other) = piece.speakers;
            let said = (Said::new(before, one, direction), Said::new(after, other, direction));
            let Some(kind) = Kind::between(&said.0, &said.1) else { continue };
            comparison.changes.push(Change {
                kind,
                direction,
                family,
                before: said.0,
                after: said.1,
                axes: piece.axes.clone(),
                programs: programs.clone(),
                interfaces: interfaces.iter().map(|(i, name)| (*i, name.clone())).collect(),
            });
        }
    }
    comparison.changes.sort_by_key(|change| {
        (
            Kind::ALL.iter().position(|k| *k == change.kind),
            change.direction,
            change.after.position,
            change.before.position,
        )
    });
    comparison
}

impl<'b> Side<'b> {
    fn new(
        brief: &'b Brief,
        direction: Direction,
        family: Family,
        programs: &[String],
        meanings: &mut Meanings,
    ) -> Self {
        let steps = brief
            .indexed()
            .filter(|(_, rule)| rule.is_active_for(direction, family))
            .map(|(index, rule)| {
                let conditions = conditions(brief, rule, family, programs, &mut meanings.widened);
                let meaning = meanings.number(&conditions, rule);
                let bound = conditions.iter().rposition(Option::is_some);
                Step { index, conditions, free_from: bound.map_or(0, |at| at + 1), meaning }
            })
            .collect();
        Self { brief, steps }
    }

    /// Up to the first rule that matches everything that is left.
    fn shorten(&self, axis: usize, mut steps: Vec<usize>) -> Vec<usize> {
        if let Some(at) = steps.iter().position(|step| self.steps[*step].free_from <= axis) {
            steps.truncate(at + 1);
        }
        steps
    }

    fn all(&self) -> Vec<usize> {
        (0..self.steps.len()).collect()
    }

    /// The rule that decides among these.
    fn first(&self, steps: &[usize]) -> Option<RuleIndex> {
        steps.first().map(|step| self.steps[*step].index)
    }

    fn meanings(&self, steps: &[usize]) -> Vec<usize> {
        steps.iter().map(|step| self.steps[*step].meaning).collect()
    }

    fn conditions(&self, axis: usize, steps: &[usize]) -> Vec<Values> {
        steps.iter().map(|step| self.steps[*step].conditions[axis].clone()).collect()
    }

    /// Whether the standing answer can still decide behind these.
    fn is_open(&self, axis: usize, steps: &[usize]) -> bool {
        steps.last().is_none_or(|last| self.steps[*last].free_from > axis)
    }
}

impl Walk<'_> {
    fn narrow(
        &mut self,
        axis: usize,
        before: Vec<usize>,
        after: Vec<usize>,
        piece: &mut [Values; AXES],
    ) {
        if self.cut_off {
            return;
        }
        let before = self.before.shorten(axis, before);
        let after = self.after.shorten(axis, after);
        let same = self.before.meanings(&before) == self.after.meanings(&after);
        let open = self.before.is_open(axis, &before);
        let standing = [self.before.brief, self.after.brief].map(|b| b.standing.of(self.direction));
        if same && (!open || standing[0] == standing[1]) {
            return;
        }
        if axis == AXES {
            let speakers = (self.before.first(&before), self.after.first(&after));
            let one = Said::new(self.before.brief, speakers.0, self.direction);
            let other = Said::new(self.after.brief, speakers.1, self.direction);
            if Kind::between(&one, &other).is_some() {
                self.ranges += ranges_of(piece);
                self.pieces.push(Piece { speakers, axes: piece.clone() });
                self.cut_off = self.pieces.len() >= MOST_PIECES || self.ranges >= MOST_RANGES;
            }
            return;
        }
        let classes = self.classes(axis, &before, &after);
        for (values, before, after) in classes {
            piece[axis] = values;
            self.narrow(axis + 1, before, after, piece);
        }
        piece[axis] = None;
    }

    /// The values of an axis, taken together where the same rules mean them.
    fn classes(
        &mut self,
        axis: usize,
        before: &[usize],
        after: &[usize],
    ) -> Vec<(Values, Vec<usize>, Vec<usize>)> {
        let all: Vec<Values> =
            [self.before.conditions(axis, before), self.after.conditions(axis, after)].concat();
        let mut boundaries = Boundaries::new();
        let mut everywhere: Vec<usize> = Vec::new();
        for (at, condition) in all.iter().enumerate() {
            match condition {
                None => everywhere.push(at),
                Some(spans) => boundaries.add(at as u32, spans.ranges().iter().copied()),
            }
            self.costs(1 + condition.as_ref().map_or(0, |spans| BOUNDARY * spans.ranges().len()));
            if self.cut_off {
                return Vec::new();
            }
        }
        if everywhere.len() == all.len() {
            return vec![(None, before.to_vec(), after.to_vec())];
        }
        // The rules that hold beside those, and where.
        let mut row = Members::default();
        let mut groups: HashMap<Members, Vec<(u128, u128)>> = HashMap::new();
        for piece in boundaries.pieces() {
            piece.toggled().for_each(|rule| row.toggle(rule as usize));
            let range = (piece.first, piece.last);
            match groups.get_mut(&row) {
                Some(ranges) => ranges.push(range),
                None => {
                    groups.insert(row.clone(), vec![range]);
                    self.costs(everywhere.len() + row.0.len());
                }
            }
            self.costs(1 + row.0.len());
            if self.cut_off {
                return Vec::new();
            }
        }
        let mut classes: Vec<_> = groups
            .into_iter()
            .filter_map(|(Members(mut held), ranges)| {
                let values = RangeSet::from_ranges(ranges).intersection(&self.whole[axis]);
                if values.is_empty() {
                    return None;
                }
                held.extend(&everywhere);
                held.sort_unstable();
                let behind = held.split_off(held.partition_point(|at| *at < before.len()));
                let kept = held.into_iter().map(|at| before[at]).collect::<Vec<_>>();
                let other = behind.into_iter().map(|at| after[at - before.len()]);
                let whole = values == self.whole[axis];
                let values = (!whole).then(|| Arc::new(values));
                Some((values, kept, other.collect::<Vec<_>>()))
            })
            .collect();
        classes.sort_by_key(|(values, ..)| first_of(values));
        classes
    }

    /// What was looked at, and whether it was too much.
    fn costs(&mut self, looked_at: usize) {
        self.work = self.work.saturating_sub(looked_at);
        self.cut_off |= self.work == 0;
    }
}

fn ranges_of(axes: &[Values; AXES]) -> usize {
    axes.iter().flatten().map(|spans| spans.ranges().len()).sum()
}

fn first_of(values: &Values) -> Option<u128> {
    values.as_ref().and_then(|spans| spans.ranges().first()).map(|(first, _)| *first)
}

/// Takes pieces together that differ in one axis only.
fn merged(mut pieces: Vec<Piece>, whole: &[RangeSet<u128>; AXES]) -> Vec<Piece> {
    for axis in (0..AXES).rev() {
        let mut found: HashMap<Piece, usize> = HashMap::new();
        let mut kept: Vec<Piece> = Vec::new();
        for mut piece in pieces {
            let values = piece.axes[axis].take();
            match found.get(&piece) {
                Some(at) => {
                    let known = &mut kept[*at].axes[axis];
                    *known = match (known.take(), values) {
                        (Some(a), Some(b)) => {
                            Some(a.union(&b)).filter(|all| *all != whole[axis]).map(Arc::new)
                        }
                        _ => None,
                    };
                }
                None => {
                    found.insert(piece.clone(), kept.len());
                    piece.axes[axis] = values;
                    kept.push(piece);
                }
            }
        }
        pieces = kept;
    }
    pieces
}
