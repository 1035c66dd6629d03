//! Bounding boxes of blocks: two blocks whose boxes do not meet have no packet in common, which settles most
//! questions without looking at the blocks themselves.

use super::{Block, Coordinate, Point, ServicePoint};

/// The least product of intervals that holds a block: the first thing to look at.
#[derive(Clone, Copy, Debug)]
pub(crate) struct BoundingBox<A> {
    pub(crate) service: (ServicePoint, ServicePoint),
    pub(crate) destination: (A, A),
    pub(crate) source: (A, A),
}

impl<A: Coordinate> BoundingBox<A> {
    /// `None` for a block without a packet.
    pub(crate) fn of(block: &Block<A>) -> Option<Self> {
        let bounding_box = Self {
            service: block.service.ends()?,
            destination: block.destination.ends()?,
            source: block.source.ends()?,
        };
        (!block.at.is_empty()).then_some(bounding_box)
    }

    /// Whether two blocks of one cell can share a packet, at a glance.
    pub(crate) fn is_near(&self, other: &Self) -> bool {
        fn meet<T: Ord>(a: (T, T), b: (T, T)) -> bool {
            a.0 <= b.1 && b.0 <= a.1
        }
        meet(self.service, other.service)
            && meet(self.destination, other.destination)
            && meet(self.source, other.source)
    }

    /// Whether all of it lies in another one.
    pub(crate) fn is_within(&self, other: &Self) -> bool {
        fn within<T: Ord>(a: (T, T), b: (T, T)) -> bool {
            b.0 <= a.0 && a.1 <= b.1
        }
        within(self.service, other.service)
            && within(self.destination, other.destination)
            && within(self.source, other.source)
    }

    /// In how many of its three dimensions two of them have the same ends.
    pub(super) fn same_sides(&self, other: &Self) -> usize {
        usize::from(self.service == other.service)
            + usize::from(self.destination == other.destination)
            + usize::from(self.source == other.source)
    }

    /// Whether a packet lies in it.
    pub(crate) fn holds(&self, point: Point<A>) -> bool {
        self.service.0 <= point.service
            && point.service <= self.service.1
            && self.destination.0 <= point.destination
            && point.destination <= self.destination.1
            && self.source.0 <= point.source
            && point.source <= self.source.1
    }
}
