//! Blocks that take another one in every dimension but one. However many there are, they are taken off at once, and what
//! they leave is a block again: a list of a thousand ports costs about as much as one with a single port.

use super::{Block, Coordinate, IntervalSet};

/// With no more blocks than this, each is taken off by itself.
pub(super) const FEW: usize = 8;

/// What slabs take of a block, by the dimension in which they do not take all of it.
struct Slabs<'b, A> {
    block: &'b Block<A>,
    enters: Spans<'b, super::Interface>,
    source: Spans<'b, A>,
    destination: Spans<'b, A>,
    service: Spans<'b, super::ServicePoint>,
    at: Spans<'b, super::Minute>,
}

type Spans<'b, T> = Vec<&'b [(T, T)]>;

impl<A: Coordinate> Block<A> {
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
    match taken.as_slice() {
        [] => all.clone(),
        taken => all.difference(&IntervalSet::from_spans(taken.iter().copied().flatten().copied())),
    }
}
