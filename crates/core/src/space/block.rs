//! Products of sets, and unions of such products, within one address family.

use super::{Coordinate, IntervalSet, Leg};

/// A product: every packet that enters at one of these legs, from one of these sources, to one of
/// these destinations, for one of these services. `A` is the address as a number.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Block<A> {
    /// Where it enters.
    pub enters: IntervalSet<Leg>,
    /// Source addresses.
    pub source: IntervalSet<A>,
    /// Destination addresses.
    pub destination: IntervalSet<A>,
    /// Points of the service line.
    pub service: IntervalSet<u32>,
}

impl<A: Coordinate> Block<A> {
    /// Whether there is no packet in it.
    pub fn is_empty(&self) -> bool {
        self.enters.is_empty()
            || self.source.is_empty()
            || self.destination.is_empty()
            || self.service.is_empty()
    }

    /// Whether that packet is in it.
    pub fn contains(&self, enters: Leg, source: A, destination: A, service: u32) -> bool {
        self.enters.contains(enters)
            && self.source.contains(source)
            && self.destination.contains(destination)
            && self.service.contains(service)
    }

    fn is_subset(&self, other: &Self) -> bool {
        self.enters.is_subset(&other.enters)
            && self.source.is_subset(&other.source)
            && self.destination.is_subset(&other.destination)
            && self.service.is_subset(&other.service)
    }

    fn is_disjoint(&self, other: &Self) -> bool {
        self.source.is_disjoint(&other.source)
            || self.destination.is_disjoint(&other.destination)
            || self.enters.is_disjoint(&other.enters)
            || self.service.is_disjoint(&other.service)
    }

    fn intersection(&self, other: &Self) -> Option<Self> {
        if self.is_disjoint(other) {
            return None;
        }
        Some(Self {
            enters: self.enters.intersection(&other.enters),
            source: self.source.intersection(&other.source),
            destination: self.destination.intersection(&other.destination),
            service: self.service.intersection(&other.service),
        })
    }

    /// Adds what is left of this block without `cut` to `out`: at most one piece for each dimension.
    fn subtract_into(self, cut: &Self, out: &mut Vec<Self>) {
        if self.is_disjoint(cut) {
            out.push(self);
            return;
        }
        let mut rest = self;
        let mut keep = |piece: Self| {
            if !piece.is_empty() {
                out.push(piece);
            }
        };
        let outside = rest.enters.difference(&cut.enters);
        keep(Self { enters: outside, ..rest.clone() });
        rest.enters = rest.enters.intersection(&cut.enters);
        let outside = rest.source.difference(&cut.source);
        keep(Self { source: outside, ..rest.clone() });
        rest.source = rest.source.intersection(&cut.source);
        let outside = rest.destination.difference(&cut.destination);
        keep(Self { destination: outside, ..rest.clone() });
        rest.destination = rest.destination.intersection(&cut.destination);
        rest.service = rest.service.difference(&cut.service);
        keep(rest);
    }
}

/// A union of blocks of one address family. Blocks may overlap; none is empty.
#[derive(Clone, Debug)]
pub struct Region<A> {
    blocks: Vec<Block<A>>,
}

impl<A> Default for Region<A> {
    fn default() -> Self {
        Self { blocks: Vec::new() }
    }
}

impl<A: Coordinate> Region<A> {
    /// The region of these blocks; empty ones are dropped.
    pub fn new(blocks: impl IntoIterator<Item = Block<A>>) -> Self {
        Self { blocks: blocks.into_iter().filter(|b| !b.is_empty()).collect() }
    }

    /// The blocks it is made of.
    pub fn blocks(&self) -> &[Block<A>] {
        &self.blocks
    }

    /// Whether there is no packet in it.
    pub fn is_empty(&self) -> bool {
        self.blocks.is_empty()
    }

    /// Whether that packet is in it.
    pub fn contains(&self, enters: Leg, source: A, destination: A, service: u32) -> bool {
        self.blocks.iter().any(|b| b.contains(enters, source, destination, service))
    }

    /// What either region has.
    pub fn union(&self, other: &Self) -> Self {
        let mut blocks = self.blocks.clone();
        for block in &other.blocks {
            if !blocks.iter().any(|wide| block.is_subset(wide)) {
                blocks.push(block.clone());
            }
        }
        Self { blocks }
    }

    /// What both regions have.
    pub fn intersection(&self, other: &Self) -> Self {
        let pairs = self
            .blocks
            .iter()
            .flat_map(|a| other.blocks.iter().filter_map(move |b| a.intersection(b)));
        Self { blocks: pairs.collect() }
    }

    /// What this region has and `other` has not.
    pub fn difference(&self, other: &Self) -> Self {
        let mut rest = self.blocks.clone();
        for cut in &other.blocks {
            if rest.iter().all(|block| block.is_disjoint(cut)) {
                continue;
            }
            let mut left = Vec::with_capacity(rest.len());
            for block in rest {
                block.subtract_into(cut, &mut left);
            }
            rest = left;
        }
        Self { blocks: rest }
    }

    /// Whether the two share no packet.
    pub fn is_disjoint(&self, other: &Self) -> bool {
        self.blocks.iter().all(|a| other.blocks.iter().all(|b| a.is_disjoint(b)))
    }

    /// Whether every packet of this region is one of `other` too.
    pub fn is_subset(&self, other: &Self) -> bool {
        self.blocks.iter().all(|block| {
            if other.blocks.iter().any(|wide| block.is_subset(wide)) {
                return true;
            }
            // Each block of the other region can take away something of its own only.
            other.blocks.len() > 1 && Self::new([block.clone()]).difference(other).is_empty()
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    /// The whole of a small universe: 3 legs, 8 sources, 8 destinations, 6 services.
    fn universe() -> impl Iterator<Item = (Leg, u8, u8, u32)> {
        (0..3).flat_map(|leg| {
            (0..8).flat_map(move |source| {
                (0..8).flat_map(move |destination| {
                    (0..6).map(move |service| (Leg(leg), source, destination, service))
                })
            })
        })
    }

    fn members(region: &Region<u8>) -> Vec<bool> {
        universe()
            .map(|(leg, source, destination, service)| {
                region.contains(leg, source, destination, service)
            })
            .collect()
    }

    fn any_line<T: Coordinate>(
        end: u8,
        number: impl Fn(u8) -> T + Copy + 'static,
    ) -> impl Strategy<Value = IntervalSet<T>> {
        prop::collection::vec((0..end, 0..end), 1..3).prop_map(move |spans| {
            IntervalSet::from_spans(
                spans.iter().map(|&(a, b)| (number(a.min(b)), number(a.max(b)))),
            )
        })
    }

    fn any_region() -> impl Strategy<Value = Region<u8>> {
        let block = (
            any_line(3, |n| Leg(n.into())),
            any_line(8, |n| n),
            any_line(8, |n| n),
            any_line(6, u32::from),
        )
            .prop_map(|(enters, source, destination, service)| Block {
                enters,
                source,
                destination,
                service,
            });
        prop::collection::vec(block, 0..4).prop_map(Region::new)
    }

    proptest! {
        #[test]
        fn algebra_agrees_with_a_list_of_all_packets(a in any_region(), b in any_region()) {
            let (x, y) = (members(&a), members(&b));
            let both = |f: fn(bool, bool) -> bool| -> Vec<bool> {
                x.iter().zip(&y).map(|(p, q)| f(*p, *q)).collect()
            };
            prop_assert_eq!(members(&a.union(&b)), both(|p, q| p || q));
            prop_assert_eq!(members(&a.intersection(&b)), both(|p, q| p && q));
            prop_assert_eq!(members(&a.difference(&b)), both(|p, q| p && !q));
            prop_assert_eq!(a.is_subset(&b), both(|p, q| p && !q).iter().all(|p| !p));
            prop_assert_eq!(a.is_disjoint(&b), both(|p, q| p && q).iter().all(|p| !p));
            prop_assert_eq!(a.is_empty(), x.iter().all(|p| !p));
            prop_assert_eq!(a.difference(&b).is_empty(), a.is_subset(&b));
        }
    }
}
