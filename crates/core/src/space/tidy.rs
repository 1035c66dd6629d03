//! Rewrites regions with fewer blocks, without changing their packets.

use super::{Block, BoundingBox, Coordinate, Region};

impl<A: Coordinate> Region<A> {
    /// The same region in fewer blocks: none within another, and none that another one completes in a
    /// single dimension. Nothing is lost and nothing added; the fewest possible they need not be.
    #[must_use]
    pub fn tidied(&self) -> Self {
        let mut blocks: Vec<(Block<A>, BoundingBox<A>)> = Vec::with_capacity(self.blocks().len());
        for block in self.blocks() {
            let mut block = block.clone();
            let Some(mut own) = BoundingBox::of(&block) else { continue };
            // What joins may join again with what stood before.
            while let Some(place) = blocks
                .iter()
                .position(|(other, theirs)| may_join(own, *theirs) && block.joins(other))
            {
                let (other, theirs) = blocks.swap_remove(place);
                block = block.joined(&other).unwrap_or(block);
                own = BoundingBox::of(&block).unwrap_or(theirs);
            }
            blocks.push((block, own));
        }
        Self::new(blocks.into_iter().map(|(block, _)| block))
    }
}

/// Whether blocks may join; if not, they do not. Blocks that join have four of five dimensions in common, or one of them
/// holds the other.
fn may_join<A: Coordinate>(one: BoundingBox<A>, other: BoundingBox<A>) -> bool {
    one.same_sides(&other) >= 2 || one.is_within(&other) || other.is_within(&one)
}

#[cfg(test)]
mod tests {
    use super::super::{Interface, IntervalSet, Protocol, ServicePoint};
    use super::*;

    fn block(source: (u8, u8), service: (u16, u16)) -> Block<u8> {
        let point = |number| ServicePoint::new(Protocol(0), number);
        Block {
            enters: IntervalSet::point(Interface(0)),
            source: IntervalSet::range(source.0, source.1),
            destination: IntervalSet::range(0, 9),
            service: IntervalSet::range(point(service.0), point(service.1)),
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
