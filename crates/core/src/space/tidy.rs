//! Regions in fewer blocks.

use super::{Block, Coordinate, Region};
use std::hash::{BuildHasher, BuildHasherDefault, DefaultHasher, Hash};

impl<A: Coordinate + Hash> Region<A> {
    /// The same region in fewer blocks: none within another, and none that another one completes in a
    /// single dimension. Nothing is lost and nothing added; the fewest possible they need not be.
    #[must_use]
    pub fn tidied(&self) -> Self {
        let mut blocks: Vec<(Block<A>, Outline<A>)> = Vec::with_capacity(self.blocks().len());
        for block in self.blocks() {
            let mut block = block.clone();
            let mut outline = Outline::of(&block);
            // What joins may join again with what stood before.
            while let Some(place) = blocks
                .iter()
                .position(|(other, theirs)| outline.may_join(theirs) && block.joins(other))
            {
                let (other, _) = blocks.swap_remove(place);
                block = block.joined(&other).unwrap_or(block);
                outline = Outline::of(&block);
            }
            blocks.push((block, outline));
        }
        Self::new(blocks.into_iter().map(|(block, _)| block))
    }
}

/// What of a block is compared first, since most blocks have nothing to do with each other: a number for what it has in
/// each dimension, and between which ends it lies there.
struct Outline<A> {
    numbers: [u64; 5],
    source: Option<(A, A)>,
    destination: Option<(A, A)>,
    service: Option<(u32, u32)>,
}

impl<A: Coordinate + Hash> Outline<A> {
    fn of(block: &Block<A>) -> Self {
        let hasher = BuildHasherDefault::<DefaultHasher>::default();
        Self {
            numbers: [
                hasher.hash_one(&block.enters),
                hasher.hash_one(&block.source),
                hasher.hash_one(&block.destination),
                hasher.hash_one(&block.service),
                hasher.hash_one(&block.at),
            ],
            source: block.source.ends(),
            destination: block.destination.ends(),
            service: block.service.ends(),
        }
    }

    /// Whether blocks may join; if not, they do not.
    fn may_join(&self, other: &Self) -> bool {
        let same = self.numbers.iter().zip(&other.numbers).filter(|(a, b)| a == b).count();
        same >= 4 || self.may_be_within(other) || other.may_be_within(self)
    }

    fn may_be_within(&self, other: &Self) -> bool {
        fn within<T: Ord>(own: &Option<(T, T)>, other: &Option<(T, T)>) -> bool {
            match (own, other) {
                (Some(own), Some(other)) => other.0 <= own.0 && own.1 <= other.1,
                (own, _) => own.is_none(),
            }
        }
        within(&self.source, &other.source)
            && within(&self.destination, &other.destination)
            && within(&self.service, &other.service)
    }
}

#[cfg(test)]
mod tests {
    use super::super::{Interface, IntervalSet};
    use super::*;

    fn block(source: (u8, u8), service: (u32, u32)) -> Block<u8> {
        Block {
            enters: IntervalSet::point(Interface(0)),
            source: IntervalSet::range(source.0, source.1),
            destination: IntervalSet::range(0, 9),
            service: IntervalSet::range(service.0, service.1),
            at: IntervalSet::full(),
        }
    }

    /// What completes another block is one with it, in whatever order they come; so is what lies within one.
    #[test]
    fn blocks_that_complete_each_other_are_one() {
        let quarters = [
            block((0, 4), (0, 4)),
            block((5, 9), (5, 9)),
            block((5, 9), (0, 4)),
            block((0, 4), (5, 9)),
        ];
        let one = Region::new(quarters.clone()).tidied();
        assert_eq!(one.blocks(), [block((0, 9), (0, 9))]);
        let within = Region::new([block((2, 3), (1, 2)), block((0, 4), (0, 4))]).tidied();
        assert_eq!(within.blocks(), [block((0, 4), (0, 4))]);
        let apart = Region::new(quarters.into_iter().take(2)).tidied();
        assert_eq!(apart.blocks().len(), 2);
    }
}
