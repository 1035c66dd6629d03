//! What remains of a block when others are taken away.
//!
//! Blockers that have the whole block in every dimension except one (*slabs*) are taken off all at once, whatever
//! their number, and what remains is a single block: a list of a thousand ports costs about as much as one port. The
//! other blockers are cut off one after the other.

use super::{Block, Coordinate, Interface, IntervalSet, Minute, Region, ServicePoint};

/// With no more blocks than this, each is taken off by itself.
pub(super) const FEW: usize = 8;

/// What slabs take of a block, by the dimension in which they do not take all of it.
struct Slabs<'b, A> {
    block: &'b Block<A>,
    enters: Spans<'b, Interface>,
    source: Spans<'b, A>,
    destination: Spans<'b, A>,
    service: Spans<'b, ServicePoint>,
    at: Spans<'b, Minute>,
}

type Spans<'b, T> = Vec<&'b [(T, T)]>;

impl<A: Coordinate> Region<A> {
    /// What this region has and `other` has not.
    pub fn difference(&self, other: &Self) -> Self {
        // No number of blocks is too large.
        self.difference_within(other, usize::MAX).unwrap_or_default()
    }

    /// The same, as long as it takes no more than so many blocks on the way; `None` where it would.
    pub(crate) fn difference_within(&self, other: &Self, most: usize) -> Option<Self> {
        let mut blocks = Vec::new();
        for block in self.blocks() {
            let cuts = other.blocks().iter().filter(|cut| !block.is_disjoint(cut)).collect();
            let most = most.saturating_sub(blocks.len());
            blocks.extend(block.cut_by(cuts, most)?);
        }
        Some(Self::new(blocks))
    }

    /// Whether every packet of this region is one of `other` too.
    pub fn is_subset(&self, other: &Self) -> bool {
        self.blocks().iter().all(|block| {
            if other.blocks().iter().any(|wide| block.is_subset(wide)) {
                return true;
            }
            // Each block of the other region can take away something of its own only.
            other.blocks().len() > 1 && Self::new([block.clone()]).difference(other).is_empty()
        })
    }
}

impl<A: Coordinate> Block<A> {
    /// What is left of this block without any of the others, in no more pieces than `most` on the way; `None` where it
    /// would take more.
    fn cut_by<'b>(&'b self, mut cuts: Vec<&'b Self>, most: usize) -> Option<Vec<Self>> {
        let mut rest = vec![self.clone()];
        if cuts.len() > FEW {
            let Some((left, further)) = self.without_slabs(&cuts) else { return Some(Vec::new()) };
            (rest, cuts) = (vec![left], further);
        }
        for cut in cuts {
            if rest.iter().all(|block| block.is_disjoint(cut)) {
                continue;
            }
            let mut left = Vec::with_capacity(rest.len());
            rest.into_iter().for_each(|block| block.subtract_into(cut, &mut left));
            rest = left;
            if rest.len() > most {
                return None;
            }
        }
        Some(rest)
    }

    /// What those of the others leave that take all but one dimension of it, and the others that are left to be taken off.
    /// `None` where nothing is left.
    pub(super) fn without_slabs<'b>(
        &'b self,
        others: &[&'b Self],
    ) -> Option<(Self, Vec<&'b Self>)> {
        let mut slabs = Slabs::of(self);
        let mut further = Vec::new();
        for other in others {
            match slabs.take(other)? {
                true => {}
                false => further.push(*other),
            }
        }
        let left = slabs.left();
        if left.is_empty() {
            return None;
        }
        further.retain(|other| !left.is_disjoint(other));
        Some((left, further))
    }
}

impl<'b, A: Coordinate> Slabs<'b, A> {
    fn of(block: &'b Block<A>) -> Self {
        Self {
            block,
            enters: Vec::new(),
            source: Vec::new(),
            destination: Vec::new(),
            service: Vec::new(),
            at: Vec::new(),
        }
    }

    /// Takes a block in, and says whether it is a slab; `None` where it takes everything.
    fn take(&mut self, other: &'b Block<A>) -> Option<bool> {
        let block = self.block;
        let whole = [
            block.enters.is_subset(&other.enters),
            block.source.is_subset(&other.source),
            block.destination.is_subset(&other.destination),
            block.service.is_subset(&other.service),
            block.at.is_subset(&other.at),
        ];
        match whole {
            [true, true, true, true, true] => return None,
            [false, true, true, true, true] => self.enters.push(other.enters.spans()),
            [true, false, true, true, true] => self.source.push(other.source.spans()),
            [true, true, false, true, true] => self.destination.push(other.destination.spans()),
            [true, true, true, false, true] => self.service.push(other.service.spans()),
            [true, true, true, true, false] => self.at.push(other.at.spans()),
            _ => return Some(false),
        }
        Some(true)
    }

    /// The block without them.
    fn left(self) -> Block<A> {
        let block = self.block;
        Block {
            enters: without(&block.enters, &self.enters),
            source: without(&block.source, &self.source),
            destination: without(&block.destination, &self.destination),
            service: without(&block.service, &self.service),
            at: without(&block.at, &self.at),
        }
    }
}

fn without<T: Coordinate>(all: &IntervalSet<T>, taken: &Spans<'_, T>) -> IntervalSet<T> {
    let Some((first, last)) = all.ends().filter(|_| !taken.is_empty()) else { return all.clone() };
    // What is taken may be the whole site, of which all is one network.
    let near = taken.iter().flat_map(|spans| {
        let begin = spans.partition_point(|(_, high)| *high < first);
        let end = spans.partition_point(|(low, _)| *low <= last);
        &spans[begin..end]
    });
    all.difference(&IntervalSet::from_spans(near.copied()))
}
