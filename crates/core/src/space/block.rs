//! Products of sets, and unions of such products, within one address family.

use super::{Coordinate, Interface, IntervalSet, Minute, ServicePoint};

/// A product of sets within one address family: every packet that enters at one of these interfaces, from one of
/// these sources, to one of these destinations, for one of these services, in one of these minutes of the week.
///
/// `A` is the address as a number, `u32` for IPv4 and `u128` for IPv6. A block is empty as soon as one of its sets
/// is.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Block<A> {
    /// Where it enters.
    pub enters: IntervalSet<Interface>,
    /// Source addresses.
    pub source: IntervalSet<A>,
    /// Destination addresses.
    pub destination: IntervalSet<A>,
    /// Points of the service line.
    pub service: IntervalSet<ServicePoint>,
    /// Minutes of the week.
    pub at: IntervalSet<Minute>,
}

/// One packet of one address family, as numbers.
#[derive(Clone, Copy, Debug)]
pub struct Point<A> {
    /// Where it enters.
    pub enters: Interface,
    /// Its source address.
    pub source: A,
    /// Its destination address.
    pub destination: A,
    /// What it asks for.
    pub service: ServicePoint,
    /// The minute of the week.
    pub at: Minute,
}

impl<A: Coordinate> Block<A> {
    /// Whether there is no packet in it.
    pub fn is_empty(&self) -> bool {
        self.enters.is_empty()
            || self.source.is_empty()
            || self.destination.is_empty()
            || self.service.is_empty()
            || self.at.is_empty()
    }

    /// Whether that packet is in it.
    pub fn contains(&self, packet: Point<A>) -> bool {
        self.enters.contains(packet.enters)
            && self.source.contains(packet.source)
            && self.destination.contains(packet.destination)
            && self.service.contains(packet.service)
            && self.at.contains(packet.at)
    }

    /// Whether every packet of this block is one of `other` too.
    pub fn is_subset(&self, other: &Self) -> bool {
        self.enters.is_subset(&other.enters)
            && self.source.is_subset(&other.source)
            && self.destination.is_subset(&other.destination)
            && self.service.is_subset(&other.service)
            && self.at.is_subset(&other.at)
    }

    /// Whether the two share no packet.
    pub fn is_disjoint(&self, other: &Self) -> bool {
        self.source.is_disjoint(&other.source)
            || self.destination.is_disjoint(&other.destination)
            || self.enters.is_disjoint(&other.enters)
            || self.service.is_disjoint(&other.service)
            || self.at.is_disjoint(&other.at)
    }

    /// What both blocks have; `None` if nothing.
    pub fn intersection(&self, other: &Self) -> Option<Self> {
        if self.is_disjoint(other) {
            return None;
        }
        Some(Self {
            enters: self.enters.intersection(&other.enters),
            source: self.source.intersection(&other.source),
            destination: self.destination.intersection(&other.destination),
            service: self.service.intersection(&other.service),
            at: self.at.intersection(&other.at),
        })
    }

    /// In which dimensions the two are the same.
    fn same(&self, other: &Self) -> [bool; 5] {
        [
            self.enters == other.enters,
            self.source == other.source,
            self.destination == other.destination,
            self.service == other.service,
            self.at == other.at,
        ]
    }

    /// Whether [`Self::joined`] gives a block, without making it.
    pub(super) fn joins(&self, other: &Self) -> bool {
        let same = self.same(other).into_iter().filter(|same| *same).count();
        same >= 4 || self.is_subset(other) || other.is_subset(self)
    }

    /// Both in one block, where that is just the two: one holds the other, or they differ in one dimension.
    pub(super) fn joined(&self, other: &Self) -> Option<Self> {
        if self.is_subset(other) {
            return Some(other.clone());
        }
        if other.is_subset(self) {
            return Some(self.clone());
        }
        let mut joined = self.clone();
        match self.same(other) {
            [false, true, true, true, true] => joined.enters = self.enters.union(&other.enters),
            [true, false, true, true, true] => joined.source = self.source.union(&other.source),
            [true, true, false, true, true] => {
                joined.destination = self.destination.union(&other.destination);
            }
            [true, true, true, false, true] => joined.service = self.service.union(&other.service),
            [true, true, true, true, false] => joined.at = self.at.union(&other.at),
            _ => return None,
        }
        Some(joined)
    }

    /// Adds what is left of this block without `cut` to `out`: at most one piece for each dimension.
    pub(super) fn subtract_into(self, cut: &Self, out: &mut Vec<Self>) {
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
        let outside = rest.service.difference(&cut.service);
        keep(Self { service: outside, ..rest.clone() });
        rest.service = rest.service.intersection(&cut.service);
        rest.at = rest.at.difference(&cut.at);
        keep(rest);
    }
}

/// How many blocks of a region are looked at for one that has a further block already.
const LOOKED_BACK: usize = 64;

/// A union of blocks of one address family.
///
/// Blocks may overlap, and the same packets can be written in many ways: two regions are compared with
/// [`is_same`](super::PacketSet::is_same), never by their blocks. No block of a region is empty.
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
    pub fn contains(&self, packet: Point<A>) -> bool {
        self.blocks.iter().any(|block| block.contains(packet))
    }

    /// What either region has.
    pub fn union(&self, other: &Self) -> Self {
        let mut all = self.clone();
        all.add(other.clone());
        all
    }

    /// Takes all of another region in. A block that lies in one of the last few is left out: to look at all would
    /// cost more than it saves.
    pub fn add(&mut self, other: Self) {
        for block in other.blocks {
            if !self.blocks.iter().rev().take(LOOKED_BACK).any(|wide| block.is_subset(wide)) {
                self.blocks.push(block);
            }
        }
    }

    /// What both regions have.
    pub fn intersection(&self, other: &Self) -> Self {
        let pairs = self
            .blocks
            .iter()
            .flat_map(|a| other.blocks.iter().filter_map(move |b| a.intersection(b)));
        Self { blocks: pairs.collect() }
    }

    /// Whether the two share no packet.
    pub fn is_disjoint(&self, other: &Self) -> bool {
        self.blocks.iter().all(|a| other.blocks.iter().all(|b| a.is_disjoint(b)))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::space::Search;
    use crate::space::difference::FEW;
    use proptest::prelude::*;

    /// The whole of a small universe: 3 interfaces, 6 sources, 6 destinations, 4 services, 3 minutes.
    fn universe() -> impl Iterator<Item = Point<u8>> {
        (0..3 * 6 * 6 * 4 * 3).map(|n: u16| Point {
            enters: Interface(n % 3),
            source: (n / 3 % 6) as u8,
            destination: (n / 18 % 6) as u8,
            service: service(n / 108 % 4),
            at: Minute::new(n / 432),
        })
    }

    fn service(number: u16) -> ServicePoint {
        ServicePoint::new(crate::space::Protocol(0), number)
    }

    fn members(region: &Region<u8>) -> Vec<bool> {
        universe().map(|packet| region.contains(packet)).collect()
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
            any_line(3, |n| Interface(n.into())),
            any_line(6, |n| n),
            any_line(6, |n| n),
            any_line(4, |n| service(n.into())),
            any_line(3, |n| Minute::new(n.into())),
        )
            .prop_map(|(enters, source, destination, service, at)| Block {
                enters,
                source,
                destination,
                service,
                at,
            });
        prop::collection::vec(block, 0..4).prop_map(Region::new)
    }

    /// Thin blocks, that take everything in all dimensions but one or two, in which they have one number.
    fn slabs() -> impl Strategy<Value = Region<u8>> {
        let slab = (0..5usize, 0..5usize, 0..3u8).prop_map(|(first, second, number)| {
            let thin = |dimension| [first, second].contains(&dimension);
            fn line<T: Coordinate>(is_thin: bool, number: T) -> IntervalSet<T> {
                if is_thin { IntervalSet::point(number) } else { IntervalSet::full() }
            }
            Block {
                enters: line(thin(0), Interface(number.into())),
                source: line(thin(1), number),
                destination: line(thin(2), number),
                service: line(thin(3), service(number.into())),
                at: line(thin(4), Minute::new(number.into())),
            }
        });
        prop::collection::vec(slab, 0..3 * FEW).prop_map(Region::new)
    }

    proptest! {
        #[test]
        fn algebra_agrees_with_a_list_of_all_packets(a in any_region(), b in any_region(), slabs in slabs()) {
            let wide = b.union(&slabs);
            let left: Vec<bool> = members(&a).iter().zip(members(&wide)).map(|(p, q)| *p && !q).collect();
            prop_assert_eq!(members(&a.difference(&wide)), left);
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
            let tidied = a.union(&b).tidied();
            prop_assert_eq!(members(&tidied), both(|p, q| p || q));
            prop_assert!(tidied.blocks().len() <= a.blocks().len() + b.blocks().len());
        }

        /// The search by corners, by pieces and by sweeping: each as a list of all packets has it.
        #[test]
        fn a_search_agrees_with_a_list_of_all_packets(a in any_region(), b in any_region(), c in any_region(), slabs in slabs()) {
            let slabs = slabs.blocks().iter();
            let blockers: Vec<&Block<u8>> = b.blocks().iter().chain(c.blocks()).chain(slabs).collect();
            for block in a.blocks() {
                let left: Vec<Point<u8>> = universe()
                    .filter(|p| block.contains(*p) && !blockers.iter().any(|other| other.contains(*p)))
                    .collect();
                for answer in [block.find_uncovered(blockers.iter().copied()), crate::space::search::swept(block, &blockers)] {
                    match answer {
                        Search::Found(point) => {
                            prop_assert!(block.contains(point));
                            prop_assert!(!blockers.iter().any(|other| other.contains(point)));
                        }
                        Search::Covered => prop_assert!(left.is_empty()),
                        Search::Undecided => prop_assert!(false, "so few blocks are decided"),
                    }
                }
            }
        }
    }
}
