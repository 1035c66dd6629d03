//! Which of many packet sets can meet at all, without looking at every pair closely.

use super::{Block, Coordinate, PacketSet, Region};

/// The least product of intervals that holds a region: source, destination, service.
#[derive(Clone, Copy)]
struct Hull<A> {
    source: (A, A),
    destination: (A, A),
    service: (u32, u32),
}

impl<A: Coordinate> Hull<A> {
    fn of(region: &Region<A>) -> Option<Self> {
        fn ends<T: Coordinate>(spans: &[(T, T)]) -> Option<(T, T)> {
            Some((spans.first()?.0, spans.last()?.1))
        }
        let one = |block: &Block<A>| {
            Some(Self {
                source: ends(block.source.spans())?,
                destination: ends(block.destination.spans())?,
                service: ends(block.service.spans())?,
            })
        };
        region.blocks().iter().filter_map(one).reduce(|a, b| Self {
            source: (a.source.0.min(b.source.0), a.source.1.max(b.source.1)),
            destination: (
                a.destination.0.min(b.destination.0),
                a.destination.1.max(b.destination.1),
            ),
            service: (a.service.0.min(b.service.0), a.service.1.max(b.service.1)),
        })
    }

    fn meets(&self, other: &Self) -> bool {
        fn overlap<T: Ord>(a: (T, T), b: (T, T)) -> bool {
            a.0 <= b.1 && b.0 <= a.1
        }
        overlap(self.source, other.source)
            && overlap(self.destination, other.destination)
            && overlap(self.service, other.service)
    }
}

/// For each set, in ascending order, the others that it may share a packet with. Two sets that are not
/// named to each other share none; the other way round nothing is said.
pub fn neighbours(sets: &[PacketSet]) -> Vec<Vec<usize>> {
    let mut near = vec![Vec::new(); sets.len()];
    meet(sets.iter().map(|set| Hull::of(&set.v4)), &mut near);
    meet(sets.iter().map(|set| Hull::of(&set.v6)), &mut near);
    for near in &mut near {
        near.sort_unstable();
        near.dedup();
    }
    near
}

/// Compares those that overlap in the one dimension in which the fewest do.
fn meet<A: Coordinate>(hulls: impl Iterator<Item = Option<Hull<A>>>, near: &mut [Vec<usize>]) {
    let there = hulls.enumerate().filter_map(|(index, hull)| Some((index, hull?)));
    let all: Vec<(usize, Hull<A>)> = there.collect();
    let by_source = overlaps(all.iter().map(|(_, hull)| hull.source));
    let by_destination = overlaps(all.iter().map(|(_, hull)| hull.destination));
    let by_service = overlaps(all.iter().map(|(_, hull)| hull.service));
    if by_service <= by_source.min(by_destination) {
        sweep(all, |hull| hull.service, near);
    } else if by_source <= by_destination {
        sweep(all, |hull| hull.source, near);
    } else {
        sweep(all, |hull| hull.destination, near);
    }
}

/// How many pairs of these intervals overlap.
fn overlaps<T: Ord + Copy>(intervals: impl Iterator<Item = (T, T)>) -> usize {
    let (mut starts, ends): (Vec<T>, Vec<T>) = intervals.unzip();
    starts.sort_unstable();
    let begun = ends.iter().map(|end| starts.partition_point(|start| start <= end));
    // Each interval counts itself, and each pair by the one that begins first.
    begun.sum::<usize>().saturating_sub(ends.len() * (ends.len() + 1) / 2)
}

/// Goes through the hulls by where they begin in a dimension: each one is compared with those that are
/// still open there.
fn sweep<A: Coordinate, T: Ord + Copy>(
    mut all: Vec<(usize, Hull<A>)>,
    of: impl Fn(&Hull<A>) -> (T, T),
    near: &mut [Vec<usize>],
) {
    all.sort_by_key(|(index, hull)| (of(hull).0, *index));
    let mut open: Vec<(usize, Hull<A>)> = Vec::new();
    for (index, hull) in all {
        open.retain(|(_, before)| of(before).1 >= of(&hull).0);
        for (other, _) in open.iter().filter(|(_, before)| before.meets(&hull)) {
            near[index].push(*other);
            near[*other].push(index);
        }
        open.push((index, hull));
    }
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
        fn overlaps_are_counted(intervals in prop::collection::vec((0u8..30, 0u8..9), 0..12)) {
            let intervals: Vec<(u8, u8)> = intervals.iter().map(|(low, more)| (*low, low + more)).collect();
            let pairs = intervals.iter().enumerate().flat_map(|(place, a)| {
                intervals[place + 1..].iter().filter(move |b| a.0 <= b.1 && b.0 <= a.1)
            });
            prop_assert_eq!(overlaps(intervals.iter().copied()), pairs.count());
        }

        #[test]
        fn sets_that_share_a_packet_are_neighbours(sets in prop::collection::vec(any_set(), 0..12)) {
            let near = neighbours(&sets);
            for (one, a) in sets.iter().enumerate() {
                prop_assert!(!near[one].contains(&one));
                for (other, b) in sets.iter().enumerate().filter(|(other, _)| *other != one) {
                    prop_assert!(a.is_disjoint(b) || near[one].contains(&other));
                    prop_assert_eq!(near[one].contains(&other), near[other].contains(&one));
                }
            }
        }
    }
}
