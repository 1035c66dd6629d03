//! The cells that packets are sorted into, and which of them a block touches.

use super::table::whole_cell;
use crate::addressing::{link_local, unspecified};
use crate::meaning::Meaning;
use crate::plan::{NetworkId, Plan};
use crate::space::{AddressSet, Block, Coordinate, Family, IntervalSet, Leg, PacketSet, Point};

/// The cells of a plan's packets, in both families.
#[derive(Clone, Debug)]
pub(crate) struct Frame {
    pub(super) v4: Index<u32>,
    pub(super) v6: Index<u128>,
}

/// A cell, by its place in the list.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) struct CellKey(pub(crate) usize);

/// The cells of one family.
#[derive(Clone, Debug)]
pub(crate) struct Index<A> {
    /// By leg: the sources that lead back there.
    own: Vec<IntervalSet<A>>,
    /// The sources that lead nowhere: what stays on its link, and what is no address yet.
    local: IntervalSet<A>,
    /// By leg: all other sources.
    strange: Vec<IntervalSet<A>>,
    /// Which leg a source belongs to.
    sources: Ranges<A>,
    /// The interfaces by which destinations are reached; the last one is what none leads to.
    ways: Vec<IntervalSet<A>>,
    destinations: Ranges<A>,
    /// What offered services let in, after translation: a cell each.
    translated: Vec<Block<A>>,
}

/// Which of several sets hold which intervals. Sets share all of an interval or nothing.
#[derive(Clone, Debug)]
struct Ranges<A> {
    /// In ascending order.
    spans: Vec<(A, A, u32)>,
}

impl<A: Coordinate> Ranges<A> {
    fn new(sets: &[IntervalSet<A>]) -> Self {
        let of = |(number, set): (usize, &IntervalSet<A>)| {
            let spans = set.spans().iter();
            spans.map(|(low, high)| (*low, *high, number as u32)).collect::<Vec<_>>()
        };
        let mut spans: Vec<_> = sets.iter().enumerate().flat_map(of).collect();
        spans.sort_unstable_by_key(|span| span.0);
        Self { spans }
    }

    /// The sets that have a number of this one, each once.
    fn touched(&self, set: &IntervalSet<A>) -> Vec<u32> {
        let mut found = Vec::new();
        for &(low, high) in set.spans() {
            let start = self.spans.partition_point(|span| span.1 < low);
            let here = self.spans[start..].iter().take_while(|span| span.0 <= high);
            found.extend(here.map(|span| span.2));
        }
        found.sort_unstable();
        found.dedup();
        found
    }

    fn of(&self, number: A) -> Option<u32> {
        let start = self.spans.partition_point(|span| span.1 < number);
        self.spans.get(start).filter(|span| span.0 <= number).map(|span| span.2)
    }
}

impl Frame {
    /// The cells of a plan.
    pub(crate) fn of(meaning: &Meaning<'_>) -> Self {
        let outer = usize::from(meaning.plan().gateway_leg().0);
        let legs: Vec<Leg> = (0..=outer as u16).map(Leg).collect();
        Self::joint(&[(meaning, &legs)], outer, &meaning.translated())
    }

    /// Cells for lists without a plan: one for each leg.
    pub(super) fn plain(legs: usize) -> Self {
        fn index<A: Family>(legs: usize) -> Index<A> {
            let full = IntervalSet::full();
            // The last leg is looked at for every source, as the gateway's own is.
            let own = vec![full.clone(); legs.max(1)];
            Index::new(own, IntervalSet::empty(), vec![full], Vec::new())
        }
        Self { v4: index(legs), v6: index(legs) }
    }

    /// Cells that serve several plans. Each comes with what its legs are called in all; there are so many
    /// of them before the gateway's own.
    pub(super) fn joint(
        plans: &[(&Meaning<'_>, &[Leg])],
        outer: usize,
        translated: &PacketSet,
    ) -> Self {
        let mut own = vec![AddressSet::empty(); outer];
        let mut outside = AddressSet::empty();
        let mut is_uplink = vec![false; outer];
        for (meaning, legs) in plans {
            let plan = meaning.plan();
            for id in plan.network_ids() {
                let own = &mut own[usize::from(legs[id.index()].0)];
                *own = own.union(&led_to(plan, id));
            }
            for index in 0..plan.uplinks().len() {
                let leg = plan.uplink_leg(index);
                // Uplinks share their sources, so that a source leads to all of them or to none.
                outside = outside.union(&meaning.sources_on(leg));
                is_uplink[usize::from(legs[usize::from(leg.0)].0)] = true;
            }
            outside = outside.union(plan.internet_addresses());
        }
        let local = link_local().union(&unspecified());
        let mut taken = local.clone();
        for own in &mut own {
            *own = own.difference(&taken);
            taken = taken.union(own);
        }
        outside = outside.difference(&taken);
        let mut ways: Vec<AddressSet> = own.iter().filter(|own| !own.is_empty()).cloned().collect();
        ways.push(outside.clone());
        ways.push(ways.iter().fold(AddressSet::empty(), |all, way| all.union(way)).complement());
        for (own, _) in own.iter_mut().zip(is_uplink).filter(|(_, is_uplink)| *is_uplink) {
            *own = outside.clone();
        }
        // What the gateway begins has whichever source it likes.
        own.push(AddressSet::full());
        Self {
            v4: Index::new(
                own.iter().map(|set| set.v4.clone()).collect(),
                local.v4,
                ways.iter().map(|set| set.v4.clone()).collect(),
                translated.v4.blocks().to_vec(),
            ),
            v6: Index::new(
                own.iter().map(|set| set.v6.clone()).collect(),
                local.v6,
                ways.iter().map(|set| set.v6.clone()).collect(),
                translated.v6.blocks().to_vec(),
            ),
        }
    }
}

/// The addresses that lead to a network.
fn led_to(plan: &Plan, id: NetworkId) -> AddressSet {
    let behind = plan.routes().iter().filter(|route| route.network == id);
    behind.fold(plan.network(id).prefixes(), |all, route| all.union(&route.reach))
}

impl<A: Family> Index<A> {
    fn new(
        own: Vec<IntervalSet<A>>,
        local: IntervalSet<A>,
        ways: Vec<IntervalSet<A>>,
        translated: Vec<Block<A>>,
    ) -> Self {
        let strange = own.iter().map(|own| own.union(&local).complement()).collect();
        // The gateway's own leg is looked at for every source.
        let outer = own.len().saturating_sub(1);
        let (sources, destinations) = (Ranges::new(&own[..outer]), Ranges::new(&ways));
        Self { own, local, strange, sources, ways, destinations, translated }
    }

    /// How many legs there are.
    pub(super) fn legs(&self) -> usize {
        self.own.len()
    }

    /// The packets of each cell: for each leg, first what belongs there, by way; then what stays on its
    /// link, and what belongs elsewhere; at the end what was translated.
    pub(super) fn regions(&self) -> impl Iterator<Item = Block<A>> + '_ {
        let legs = (0..self.own.len()).flat_map(move |leg| {
            let number = Leg(leg as u16);
            let by_way = self
                .ways
                .iter()
                .map(move |way| whole_cell(number, self.own[leg].clone(), way.clone()));
            let others = [&self.local, &self.strange[leg]];
            let others =
                others.map(|source| whole_cell(number, source.clone(), IntervalSet::full()));
            by_way.chain(others)
        });
        legs.chain(self.translated.iter().cloned())
    }

    fn key(&self, leg: usize, place: usize) -> CellKey {
        CellKey(leg * (self.ways.len() + 2) + place)
    }

    /// The cell of what stays on its link.
    fn local_cell(&self, leg: usize) -> CellKey {
        self.key(leg, self.ways.len())
    }

    /// The cell of what belongs elsewhere.
    pub(super) fn strange_cell(&self, leg: usize) -> CellKey {
        self.key(leg, self.ways.len() + 1)
    }

    fn translated_cell(&self, number: usize) -> CellKey {
        CellKey(self.own.len() * (self.ways.len() + 2) + number)
    }

    /// Calls `cell` for every cell that a block touches, with its sources and destinations there; those
    /// apart of what belongs elsewhere.
    pub(super) fn visit(
        &self,
        block: &Block<A>,
        mut cell: impl FnMut(CellKey, IntervalSet<A>, IntervalSet<A>),
    ) {
        let last = self.own.len() - 1;
        let touched = self.sources.touched(&block.source);
        let mut legs: Vec<usize> = touched.into_iter().map(|leg| leg as usize).collect();
        legs.push(last);
        legs.retain(|leg| block.enters.contains(Leg(*leg as u16)));
        if !legs.is_empty() {
            let ways = self.destinations.touched(&block.destination);
            let ways = ways.into_iter().map(|way| way as usize);
            let ways: Vec<(usize, IntervalSet<A>)> =
                ways.map(|way| (way, block.destination.intersection(&self.ways[way]))).collect();
            for &leg in &legs {
                let source = block.source.intersection(&self.own[leg]);
                for (way, destination) in ways.iter().filter(|_| !source.is_empty()) {
                    cell(self.key(leg, *way), source.clone(), destination.clone());
                }
            }
        }
        let local = block.source.intersection(&self.local);
        if !local.is_empty() {
            for leg in (0..last).filter(|leg| block.enters.contains(Leg(*leg as u16))) {
                cell(self.local_cell(leg), local.clone(), block.destination.clone());
            }
        }
        for (number, region) in self.translated.iter().enumerate() {
            if let Some(shared) = region.intersection(block) {
                cell(self.translated_cell(number), shared.source, shared.destination);
            }
        }
    }

    /// The cell in which a packet lies; `None` for one that cannot be.
    pub(super) fn cell_of(&self, point: Point<A>) -> Option<CellKey> {
        let leg = usize::from(point.enters.0);
        if leg >= self.own.len() {
            let number = self.translated.iter().position(|block| block.contains(point))?;
            return Some(self.translated_cell(number));
        }
        if self.own[leg].contains(point.source) {
            return Some(self.key(leg, self.destinations.of(point.destination)? as usize));
        }
        let stays = self.local.contains(point.source);
        Some(if stays { self.local_cell(leg) } else { self.strange_cell(leg) })
    }
}
