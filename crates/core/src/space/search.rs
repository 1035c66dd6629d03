//! The question that nearly every proof comes down to: is there a packet in a block that no other block covers?
//!
//! It is answered lazily. Most blocks are covered by a single other one, or have a corner that is free. Only
//! otherwise are pieces cut off, and only where there are too many pieces is the block swept, one dimension after the
//! other. Every answer is exact; where both ways exceed their limits, the answer is [`Search::Undecided`].

use super::difference::FEW;
use super::{Block, Coordinate, IntervalSet, Point};
use std::collections::HashMap;

/// The answer to a search for a packet that nothing covers.
#[derive(Clone, Copy, Debug)]
pub enum Search<A> {
    /// This packet is covered by none.
    Found(Point<A>),
    /// All packets are covered.
    Covered,
    /// There were more steps to take than are allowed.
    Undecided,
}

/// Pieces that may be cut off before the block is swept instead.
const MOST_PIECES: u32 = 4_000;
/// Groups that a sweep may look at.
const MOST_GROUPS: u32 = 400_000;

impl<A: Coordinate> Block<A> {
    /// Looks for a packet of this block that is in none of `blockers`.
    ///
    /// Answers at once where one blocker has the whole block or a corner of it is free. Otherwise pieces are cut off,
    /// at most `MOST_PIECES`; where they do not suffice, the block is swept one dimension at a time over at most
    /// `MOST_GROUPS` sets of blockers. An answer is exact, and [`Search::Undecided`] is not an answer.
    pub fn find_uncovered<'b>(&self, blockers: impl IntoIterator<Item = &'b Self>) -> Search<A> {
        match self.cut_up(blockers, MOST_PIECES) {
            (Search::Undecided, near) => Sweep::new(&near).of(self),
            (answer, _) => answer,
        }
    }

    /// The same in a few steps: so many pieces are cut off at most, and where that is not enough it is undecided.
    pub fn find_uncovered_within<'b>(
        &self,
        blockers: impl IntoIterator<Item = &'b Self>,
        pieces: u32,
    ) -> Search<A> {
        self.cut_up(blockers, pieces).0
    }

    /// The answer as far as it takes so many pieces, and the blockers that matter.
    fn cut_up<'b>(
        &self,
        blockers: impl IntoIterator<Item = &'b Self>,
        mut pieces: u32,
    ) -> (Search<A>, Vec<&'b Self>) {
        let mut near: Vec<&Self> = Vec::new();
        let Some(first) = self.corner(false) else { return (Search::Covered, near) };
        for blocker in blockers {
            if self.is_disjoint(blocker) {
                continue;
            }
            if self.is_subset(blocker) {
                return (Search::Covered, near);
            }
            near.push(blocker);
        }
        let free = |point: &Point<A>| !near.iter().any(|blocker| blocker.contains(*point));
        let last = self.corner(true);
        if let Some(point) = [Some(first), last].into_iter().flatten().find(free) {
            return (Search::Found(point), near);
        }
        (cut(self, &near, &mut pieces), near)
    }

    /// The packet at the low or at the high end of every dimension; none if the block is empty.
    pub fn corner(&self, high: bool) -> Option<Point<A>> {
        fn end<T: Coordinate>(set: &IntervalSet<T>, high: bool) -> Option<T> {
            if high { set.last() } else { set.first() }
        }
        Some(Point {
            enters: end(&self.enters, high)?,
            source: end(&self.source, high)?,
            destination: end(&self.destination, high)?,
            service: end(&self.service, high)?,
            at: end(&self.at, high)?,
        })
    }
}

/// Cuts off what slabs take, then what the first blocker leaves, and goes on with each piece.
fn cut<A: Coordinate>(block: &Block<A>, near: &[&Block<A>], pieces: &mut u32) -> Search<A> {
    if near.len() > FEW {
        let Some((left, further)) = block.without_slabs(near) else { return Search::Covered };
        if further.len() < near.len() {
            return cut(&left, &further, pieces);
        }
    }
    let Some((first, rest)) = near.split_first() else {
        return block.corner(false).map_or(Search::Covered, Search::Found);
    };
    let mut left = Vec::new();
    block.clone().subtract_into(first, &mut left);
    for piece in left {
        if *pieces == 0 {
            return Search::Undecided;
        }
        *pieces -= 1;
        let near: Vec<&Block<A>> =
            rest.iter().copied().filter(|other| !piece.is_disjoint(other)).collect();
        if near.iter().any(|other| piece.is_subset(other)) {
            continue;
        }
        match cut(&piece, &near, pieces) {
            Search::Covered => {}
            answer => return answer,
        }
    }
    Search::Covered
}

/// Goes through a block one dimension after the other. Between two borders of a dimension the same
/// blockers lie over it; what matters of a stretch is only which. A stretch with more blockers than one
/// that is covered is covered too.
struct Sweep<'b, A> {
    blockers: &'b [&'b Block<A>],
    /// For each dimension, what is known of the blockers that were left when it was reached.
    covered: [HashMap<Vec<u32>, bool>; 5],
    groups: u32,
}

/// The blockers that lie over a stretch, and one number of it.
type Stretch<T> = (Vec<u32>, T);

impl<'b, A: Coordinate> Sweep<'b, A> {
    fn new(blockers: &'b [&'b Block<A>]) -> Self {
        Self { blockers, covered: Default::default(), groups: MOST_GROUPS }
    }

    fn of(mut self, block: &Block<A>) -> Search<A> {
        let all: Vec<u32> = (0..).zip(self.blockers).map(|(place, _)| place).collect();
        let Some(mut point) = block.corner(false) else { return Search::Covered };
        match self.go(block, 0, all, &mut point) {
            Some(true) => Search::Found(point),
            Some(false) => Search::Covered,
            None => Search::Undecided,
        }
    }

    /// Whether a packet is left, from this dimension on; `None` if there are too many groups. `point` is
    /// then that packet.
    fn go(
        &mut self,
        block: &Block<A>,
        dimension: usize,
        active: Vec<u32>,
        point: &mut Point<A>,
    ) -> Option<bool> {
        if active.is_empty() {
            return Some(true);
        }
        if dimension == 5 {
            return Some(false);
        }
        if self.covered[dimension].contains_key(&active) {
            return Some(false);
        }
        self.groups = self.groups.checked_sub(1)?;
        let blockers = self.blockers;
        macro_rules! each {
            ($field:ident) => {
                for (left, number) in stretches(&block.$field, &active, |b| &blockers[b].$field) {
                    point.$field = number;
                    if self.go(block, dimension + 1, left, point)? {
                        return Some(true);
                    }
                }
            };
        }
        match dimension {
            0 => each!(enters),
            1 => each!(source),
            2 => each!(destination),
            3 => each!(service),
            _ => each!(at),
        }
        self.covered[dimension].insert(active, true);
        Some(false)
    }
}

/// The stretches of a set between the borders of the active blockers: those with the fewest blockers
/// first, and none that has all the blockers of another.
fn stretches<'b, T: Coordinate>(
    set: &IntervalSet<T>,
    active: &[u32],
    of: impl Fn(usize) -> &'b IntervalSet<T>,
) -> Vec<Stretch<T>> {
    let mut borders: Vec<T> = set.spans().iter().map(|span| span.0).collect();
    for &blocker in active {
        for &(low, high) in of(blocker as usize).spans() {
            borders.extend(Some(low).into_iter().chain(high.next()).filter(|b| set.contains(*b)));
        }
    }
    borders.sort_unstable();
    borders.dedup();
    let mut found: Vec<Stretch<T>> = borders
        .into_iter()
        .map(|number| {
            let over = |b: &&u32| of(**b as usize).contains(number);
            (active.iter().filter(over).copied().collect(), number)
        })
        .collect();
    found.sort_by(|a, b| (a.0.len(), &a.0).cmp(&(b.0.len(), &b.0)));
    found.dedup_by(|a, b| a.0 == b.0);
    let mut least: Vec<Stretch<T>> = Vec::new();
    for stretch in found {
        let has_all_of = |other: &Stretch<T>| {
            let mut wide = stretch.0.iter();
            other.0.iter().all(|blocker| wide.any(|b| b == blocker))
        };
        if !least.iter().any(has_all_of) {
            least.push(stretch);
        }
    }
    least
}

/// The sweep alone, for the tests that compare it with a list of all packets.
#[cfg(test)]
pub(super) fn swept<A: Coordinate>(block: &Block<A>, blockers: &[&Block<A>]) -> Search<A> {
    if block.is_empty() { Search::Covered } else { Sweep::new(blockers).of(block) }
}
