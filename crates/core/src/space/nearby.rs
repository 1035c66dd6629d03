//! An index of packet sets: which of them may contain a packet, without looking at each.

use super::{AddressBits, AsPoint, Block, Interface, Packet, PacketSet, Point, ServicePoint};
use rstar::{AABB, Envelope, RTree, RTreeObject};

/// A box that holds all of a set: where it enters, source, destination, service. IPv6 addresses are rounded to fit into
/// such numbers, which keeps their order: two spans that overlap do so after rounding, too, and some that do not may
/// seem to.
type Bounds = AABB<[f64; 4]>;

/// Where a set lies, and its number.
#[derive(Clone, Copy, Debug)]
struct Place {
    bounds: Bounds,
    number: usize,
}

impl RTreeObject for Place {
    type Envelope = Bounds;

    fn envelope(&self) -> Bounds {
        self.bounds
    }
}

/// Blocks of one family, by where they lie.
#[derive(Clone, Debug)]
pub(crate) struct BlockIndex(RTree<Place>);

impl BlockIndex {
    /// Lays out blocks, numbered in their order.
    pub(crate) fn new<'b, A: AddressBits>(blocks: impl IntoIterator<Item = &'b Block<A>>) -> Self {
        Self::of(blocks.into_iter().map(bounds))
    }

    fn of(all: impl Iterator<Item = Option<Bounds>>) -> Self {
        let place =
            |(number, bounds): (usize, Option<Bounds>)| Some(Place { bounds: bounds?, number });
        Self(RTree::bulk_load(all.enumerate().filter_map(place).collect()))
    }

    /// The blocks that may have a packet from these sources to these destinations, for these services; in ascending
    /// order.
    pub(crate) fn meeting<A: AddressBits>(
        &self,
        source: (A, A),
        destination: (A, A),
        service: (ServicePoint, ServicePoint),
    ) -> Vec<usize> {
        let enters = (Interface(0), Interface(u16::MAX));
        let mut near = Vec::new();
        self.add_meeting(span(enters, source, destination, service), &mut near);
        near.sort_unstable();
        near
    }

    fn add(&mut self, number: usize, bounds: Option<Bounds>) {
        if let Some(bounds) = bounds {
            self.0.insert(Place { bounds, number });
        }
    }

    fn add_meeting(&self, bounds: Bounds, near: &mut Vec<usize>) {
        near.extend(self.0.locate_in_envelope_intersecting(bounds).map(|place| place.number));
    }
}

/// Many packet sets, by where they lie.
#[derive(Clone, Debug)]
pub struct Nearby {
    v4: BlockIndex,
    v6: BlockIndex,
}

impl Nearby {
    /// Lays out sets, numbered in their order.
    pub fn new<'s>(sets: impl IntoIterator<Item = &'s PacketSet, IntoIter: Clone>) -> Self {
        let sets = sets.into_iter();
        Self {
            v4: BlockIndex::of(sets.clone().map(bounds_of::<u32>)),
            v6: BlockIndex::of(sets.map(bounds_of::<u128>)),
        }
    }

    /// Says that the set of a number lies where this one does, too.
    pub(crate) fn add(&mut self, number: usize, set: &PacketSet) {
        self.v4.add(number, bounds_of::<u32>(set));
        self.v6.add(number, bounds_of::<u128>(set));
    }

    /// The sets that may share a packet with one, in ascending order; whatever is not named shares none.
    pub fn to(&self, set: &PacketSet) -> Vec<usize> {
        let mut near = Vec::new();
        let (v4, v6) = (set.v4.blocks().iter(), set.v6.blocks().iter());
        v4.filter_map(bounds).for_each(|bounds| self.v4.add_meeting(bounds, &mut near));
        v6.filter_map(bounds).for_each(|bounds| self.v6.add_meeting(bounds, &mut near));
        near.sort_unstable();
        near.dedup();
        near
    }

    /// The sets that a packet may be in, in ascending order; it is in no other.
    pub fn around(&self, packet: &Packet) -> Vec<usize> {
        let mut near = Vec::new();
        if let Some(point) = u32::point(packet) {
            self.v4.add_meeting(around(point), &mut near);
        }
        if let Some(point) = u128::point(packet) {
            self.v6.add_meeting(around(point), &mut near);
        }
        near.sort_unstable();
        near.dedup();
        near
    }

    /// For each of the sets that were laid out, in ascending order, the others that it may share a packet with.
    /// Two sets that are not named to each other share none; the other way round nothing is said.
    pub fn neighbours(&self, sets: &[PacketSet]) -> Vec<Vec<usize>> {
        let mut near: Vec<Vec<usize>> = vec![Vec::new(); sets.len()];
        for (number, set) in sets.iter().enumerate() {
            for other in self.to(set).into_iter().filter(|other| *other < number) {
                near[number].push(other);
                near[other].push(number);
            }
        }
        near.iter_mut().for_each(|near| near.sort_unstable());
        near
    }
}

/// Where a set lies in a family: one box for all of its blocks, which are alike but for where they enter.
fn bounds_of<A: AddressBits>(set: &PacketSet) -> Option<Bounds> {
    A::blocks(set).iter().filter_map(bounds).reduce(|one, other| one.merged(&other))
}

/// Where a block lies; `None` if it is empty.
fn bounds<A: AddressBits>(block: &Block<A>) -> Option<Bounds> {
    Some(span(
        block.enters.ends()?,
        block.source.ends()?,
        block.destination.ends()?,
        block.service.ends()?,
    ))
}

fn around<A: AddressBits>(point: Point<A>) -> Bounds {
    let Point { enters, source, destination, service, .. } = point;
    span((enters, enters), (source, source), (destination, destination), (service, service))
}

fn span<A: AddressBits>(
    enters: (Interface, Interface),
    source: (A, A),
    destination: (A, A),
    service: (ServicePoint, ServicePoint),
) -> Bounds {
    let number = |address: A| address.bits() as f64;
    AABB::from_corners(
        [enters.0.0.into(), number(source.0), number(destination.0), service.0.number().into()],
        [enters.1.0.into(), number(source.1), number(destination.1), service.1.number().into()],
    )
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::space::{AddressSet, Match, ServiceSet};
    use ipnet::IpNet;
    use proptest::prelude::*;

    fn prefix(text: &str) -> AddressSet {
        text.parse::<IpNet>().expect(text).into()
    }

    fn any_set() -> impl Strategy<Value = PacketSet> {
        let address = (0u32..40, 0u32..20).prop_map(|(low, more)| AddressSet {
            v4: crate::space::IntervalSet::range(low, low + more),
            ..AddressSet::empty()
        });
        (address.clone(), address, 0u16..9, any::<bool>()).prop_map(
            |(source, mut destination, port, v6)| {
                let source = if v6 { prefix("fd6b::/64") } else { source };
                if v6 {
                    destination = prefix("fd6b::/60");
                }
                let service = ServiceSet::ports(crate::space::Protocol::TCP, port, port + 3);
                Match { source, destination, service, ..Match::everything() }.into()
            },
        )
    }

    proptest! {
        #[test]
        fn sets_that_share_a_packet_are_neighbours(sets in prop::collection::vec(any_set(), 0..12)) {
            let near = Nearby::new(&sets).neighbours(&sets);
            for (one, a) in sets.iter().enumerate() {
                prop_assert!(!near[one].contains(&one));
                for (other, b) in sets.iter().enumerate().filter(|(other, _)| *other != one) {
                    prop_assert!(a.is_disjoint(b) || near[one].contains(&other));
                    prop_assert_eq!(near[one].contains(&other), near[other].contains(&one));
                }
                let around = a.sample().map(|packet| Nearby::new(&sets).around(&packet));
                prop_assert!(around.is_none_or(|around| around.contains(&one)));
            }
        }

        /// A set that gets more is found by all that it has.
        #[test]
        fn what_is_added_is_found(sets in prop::collection::vec(any_set(), 1..8), more in any_set(), asked in any_set()) {
            let mut near = Nearby::new(&sets);
            near.add(0, &more);
            let found = near.to(&asked);
            for (number, set) in sets.iter().enumerate() {
                let meets = !asked.is_disjoint(set) || (number == 0 && !asked.is_disjoint(&more));
                prop_assert!(!meets || found.contains(&number));
            }
            if let Some(packet) = more.sample() {
                prop_assert!(near.around(&packet).contains(&0));
            }
            prop_assert!(found.is_sorted_by(|a, b| a < b));
        }
    }
}
