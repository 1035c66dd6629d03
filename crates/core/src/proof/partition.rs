//! Sorts packets into cells, so that most lines never have to be compared with each other.
//!
//! A cell holds the packets that enter at one interface with a source that belongs there and a destination to which
//! one way leads. Two further cells of each interface hold the sources that never leave their link, and those that
//! belong elsewhere. Cells are disjoint and have every packet between them. Any partition would give the same
//! answers; this one follows the way in which rules are written, so that few lines fall into each cell.

use super::cell::{place, whole_cell};
use crate::addressing::{link_local, unspecified};
use crate::meaning::Meaning;
use crate::plan::{NetworkId, Plan};
use crate::space::{
    AddressBits, AddressSet, Block, Coordinate, Interface, IntervalSet, PacketSet, Point,
};
use std::collections::BTreeMap;

/// The cells of a plan's packets, in both families.
#[derive(Clone, Debug)]
pub(crate) struct Partition {
    pub(super) v4: Index<u32>,
    pub(super) v6: Index<u128>,
}

/// The cells of one family.
#[derive(Clone, Debug)]
pub(crate) struct Index<A> {
    /// By interface: the sources that lead back there.
    own: Vec<IntervalSet<A>>,
    /// The sources that lead nowhere: what stays on its link, and what is no address yet.
    local: IntervalSet<A>,
    /// By interface: all other sources.
    strange: Vec<IntervalSet<A>>,
    /// Which interface a source belongs to.
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

/// The destinations of a line, by the ways that lead there: the same for every cell of every row.
#[derive(Clone, Debug)]
pub(super) enum Ways<A> {
    /// One way leads to all of them.
    One(u32),
    /// Several do, each to some of them.
    Several(Box<[(u32, IntervalSet<A>)]>),
}

impl<A: Coordinate> Ranges<A> {
    fn new(sets: &[IntervalSet<A>]) -> Self {
        let of = |(number, set): (usize, &IntervalSet<A>)| {
            let spans = set.spans().iter();
            spans.map(|(low, high)| (*low, *high, place(number))).collect::<Vec<_>>()
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

impl Partition {
    /// The cells of a plan.
    pub(crate) fn of(meaning: &Meaning<'_>) -> Self {
        let outer = usize::from(meaning.plan().gateway_interface().0);
        let interfaces: Vec<Interface> = (0..=outer).map(Interface::of_index).collect();
        Self::joint(&[(meaning, &interfaces)], outer, &meaning.translated())
    }

    /// Cells for lists without a plan: one for each interface.
    pub(super) fn plain(interfaces: usize) -> Self {
        fn index<A: AddressBits>(interfaces: usize) -> Index<A> {
            let full = IntervalSet::full();
            // The last interface is looked at for every source, as the gateway's own is.
            let own = vec![full.clone(); interfaces.max(1)];
            Index::new(own, IntervalSet::empty(), vec![full], Vec::new())
        }
        Self { v4: index(interfaces), v6: index(interfaces) }
    }

    /// Cells that serve several plans. Each comes with what its interfaces are called in all; there are so many
    /// of them before the gateway's own.
    pub(super) fn joint(
        plans: &[(&Meaning<'_>, &[Interface])],
        outer: usize,
        translated: &PacketSet,
    ) -> Self {
        let mut own = vec![AddressSet::empty(); outer];
        let mut outside = AddressSet::empty();
        let mut is_uplink = vec![false; outer];
        for (meaning, interfaces) in plans {
            let plan = meaning.plan();
            for id in plan.network_ids() {
                let own = &mut own[usize::from(interfaces[id.index()].0)];
                *own = own.union(&led_to(plan, id));
            }
            for index in 0..plan.uplinks().len() {
                let interface = plan.uplink_interface(index);
                // Uplinks share their sources, so that a source leads to all of them or to none.
                outside = outside.union(&meaning.sources_on(interface));
                is_uplink[usize::from(interfaces[usize::from(interface.0)].0)] = true;
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
        let mut ways = ways(plans, &own);
        ways.push(outside.clone());
        ways.push(ways.iter().cloned().collect::<AddressSet>().complement());
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

/// So many cells cost next to nothing.
const FEW_CELLS: usize = 4_096;
/// Cells that are worth having for each line that lies in one.
const CELLS_FOR_A_LINE: usize = 4;

/// The destinations that are distinguished: those of each network, unless that makes many more cells than there
/// is to say; then those of each zone. Any partition gives the same answers, this one quickly.
fn ways(plans: &[(&Meaning<'_>, &[Interface])], own: &[AddressSet]) -> Vec<AddressSet> {
    let said = |plan: &Plan| plan.exceptions().len() + plan.zones().len() * plan.zones().len();
    let lines = plans.iter().map(|(meaning, _)| said(meaning.plan())).max().unwrap_or(0);
    let few = own.len() * own.len() <= FEW_CELLS + CELLS_FOR_A_LINE * lines;
    let mut ways: BTreeMap<(usize, usize), Vec<&AddressSet>> = BTreeMap::new();
    for (interface, own) in own.iter().enumerate().filter(|(_, own)| !own.is_empty()) {
        let zone = || {
            plans.iter().enumerate().find_map(|(number, (meaning, interfaces))| {
                let index =
                    interfaces.iter().position(|other| usize::from(other.0) == interface)?;
                let network = meaning.plan().networks().get(index)?;
                Some((number, network.zone.index()))
            })
        };
        let key = if few { (0, interface) } else { zone().unwrap_or((plans.len(), interface)) };
        ways.entry(key).or_default().push(own);
    }
    ways.into_values().map(|sets| sets.into_iter().cloned().collect()).collect()
}

/// The addresses that lead to a network.
fn led_to(plan: &Plan, id: NetworkId) -> AddressSet {
    let behind = plan.routes().iter().filter(|route| route.network == id);
    behind.fold(plan.network(id).prefixes(), |all, route| all.union(&route.reach))
}

impl<A: AddressBits> Index<A> {
    pub(super) fn new(
        own: Vec<IntervalSet<A>>,
        local: IntervalSet<A>,
        ways: Vec<IntervalSet<A>>,
        translated: Vec<Block<A>>,
    ) -> Self {
        let strange = own.iter().map(|own| own.union(&local).complement()).collect();
        // The gateway's own interface is looked at for every source.
        let outer = own.len().saturating_sub(1);
        let (sources, destinations) = (Ranges::new(&own[..outer]), Ranges::new(&ways));
        Self { own, local, strange, sources, ways, destinations, translated }
    }

    /// How many interfaces there are.
    pub(super) fn interfaces(&self) -> usize {
        self.own.len()
    }

    /// The rows of cells: one for each interface, and one for what was translated.
    pub(super) fn rows(&self) -> usize {
        self.own.len() + 1
    }

    /// The packets of each cell of a row: first what belongs there, by way; then what stays on its link, and
    /// what belongs elsewhere. In the last row, what was translated.
    pub(super) fn regions(&self, row: usize) -> Vec<Block<A>> {
        let Some(own) = self.own.get(row) else { return self.translated.clone() };
        let number = Interface::of_index(row);
        let by_way = self.ways.iter().map(|way| whole_cell(number, own.clone(), way.clone()));
        let others = [&self.local, &self.strange[row]];
        let others = others.map(|source| whole_cell(number, source.clone(), IntervalSet::full()));
        by_way.chain(others).collect()
    }

    /// The sources that belong elsewhere than on an interface.
    pub(super) fn strange(&self, interface: usize) -> &IntervalSet<A> {
        &self.strange[interface]
    }

    /// The rows that a block touches, those apart where it only belongs elsewhere.
    pub(super) fn rows_touched(&self, block: &Block<A>) -> Vec<usize> {
        let last = self.own.len() - 1;
        let mut rows: Vec<usize> = if block.source.is_disjoint(&self.local) {
            self.sources
                .touched(&block.source)
                .into_iter()
                .map(|interface| interface as usize)
                .collect()
        } else {
            (0..last).collect()
        };
        rows.push(last);
        rows.retain(|interface| block.enters.contains(Interface::of_index(*interface)));
        if self.translated.iter().any(|region| !region.is_disjoint(block)) {
            rows.push(last + 1);
        }
        rows
    }

    /// The rows that a block touches.
    pub(super) fn rows_of(&self, block: &Block<A>) -> impl Iterator<Item = usize> {
        let translated = self.own.len();
        let is_touched = move |row: &usize| match *row == translated {
            true => self.translated.iter().any(|region| !region.is_disjoint(block)),
            false => block.enters.contains(Interface::of_index(*row)),
        };
        (0..self.rows()).filter(is_touched)
    }

    /// Which ways lead to which of a line's destinations.
    pub(super) fn ways_of(&self, destination: &IntervalSet<A>) -> Ways<A> {
        let touched = self.destinations.touched(destination);
        match touched.as_slice() {
            // The ways have every destination between them, so that this one has all of these.
            [way] => Ways::One(*way),
            several => {
                let part = |way: u32| destination.intersection(&self.ways[way as usize]);
                Ways::Several(several.iter().map(|way| (*way, part(*way))).collect())
            }
        }
    }

    /// Calls `cell` for every cell of a row that a block touches, by its place there, with the block's sources
    /// and destinations in it.
    pub(super) fn visit(
        &self,
        row: usize,
        block: &Block<A>,
        ways: &Ways<A>,
        mut cell: impl FnMut(usize, IntervalSet<A>, IntervalSet<A>),
    ) {
        let Some(own) = self.own.get(row) else {
            for (place, region) in self.translated.iter().enumerate() {
                if let Some(shared) = region.intersection(block) {
                    cell(place, shared.source, shared.destination);
                }
            }
            return;
        };
        let source = block.source.intersection(own);
        if !source.is_empty() {
            match ways {
                Ways::One(way) => cell(*way as usize, source, block.destination.clone()),
                Ways::Several(parts) => {
                    for (way, destination) in parts {
                        cell(*way as usize, source.clone(), destination.clone());
                    }
                }
            }
        }
        // What the gateway begins belongs there.
        if row + 1 == self.own.len() {
            return;
        }
        for (place, others) in [&self.local, &self.strange[row]].into_iter().enumerate() {
            let source = block.source.intersection(others);
            if !source.is_empty() {
                cell(self.ways.len() + place, source, block.destination.clone());
            }
        }
    }

    /// The cell in which a packet lies, by its row and its place there; `None` for one that cannot be.
    pub(super) fn cell_of(&self, point: Point<A>) -> Option<(usize, usize)> {
        let interface = usize::from(point.enters.0);
        if interface >= self.own.len() {
            let number = self.translated.iter().position(|block| block.contains(point))?;
            return Some((self.own.len(), number));
        }
        if self.own[interface].contains(point.source) {
            return Some((interface, self.destinations.of(point.destination)? as usize));
        }
        let stays = self.local.contains(point.source);
        Some((interface, self.ways.len() + usize::from(!stays)))
    }
}
