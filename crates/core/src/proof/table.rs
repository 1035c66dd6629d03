//! Ordered lines, sorted into cells: by where a packet enters, whether its source belongs there, and which
//! interface leads to its destination. Few lines lie in any one cell, and lines of different cells have
//! nothing to do with each other, so that every question is asked within a cell.

use super::cell::{Cell, Coverage, place};
use super::fate::Fate;
use super::partition::{Index, Partition, Ways};
use crate::space::{AddressBits, AsPoint, Block, Interface, PacketSet, Point};

/// A line before it is sorted into cells.
#[derive(Clone, Debug)]
struct Entry<A> {
    block: Block<A>,
    ways: Ways<A>,
    fate: Fate,
    owner: u32,
}

/// The lines of one family, by where their packets enter. They are sorted into cells one interface at a time, so that
/// the cells of all interfaces never have to be held at once.
#[derive(Clone, Debug)]
pub(crate) struct Side<A> {
    entries: Vec<Entry<A>>,
    /// By interface, and at the end for what was translated: the lines that touch one of its cells.
    by_interface: Vec<Vec<u32>>,
    /// The interfaces where something may still be said of what belongs elsewhere. It is soon said to be spoofed.
    open: Vec<Open>,
    below: usize,
}

/// An interface where something may still be said of what belongs elsewhere.
#[derive(Clone, Copy, Debug)]
struct Open {
    interface: usize,
    coverage: Coverage,
    /// Who said something last.
    last: u32,
}

/// Ordered lines of both families. Two tables of one partition have the same cells.
#[derive(Clone, Debug)]
pub(crate) struct Table<'f> {
    partition: &'f Partition,
    /// The IPv4 lines.
    pub(crate) v4: Side<u32>,
    /// The IPv6 lines.
    pub(crate) v6: Side<u128>,
}

/// The cells of all interfaces of a table.
#[derive(Clone, Debug)]
pub(crate) struct Laid<'f> {
    partition: &'f Partition,
    v4: Vec<Vec<Cell<u32>>>,
    v6: Vec<Vec<Cell<u128>>>,
}

impl<'f> Table<'f> {
    /// A table without lines. In each cell, so many are kept below the first that takes all that is left.
    pub(crate) fn new(partition: &'f Partition, below: usize) -> Self {
        Self { partition, v4: Side::new(&partition.v4, below), v6: Side::new(&partition.v6, below) }
    }

    /// Adds a line behind those that are there.
    pub(crate) fn push(&mut self, set: &PacketSet, fate: Fate, owner: u32) {
        self.v4.push(&self.partition.v4, set.v4.blocks(), fate, owner);
        self.v6.push(&self.partition.v6, set.v6.blocks(), fate, owner);
    }

    /// The partition that its cells are those of.
    pub(crate) fn partition(&self) -> &'f Partition {
        self.partition
    }

    /// All cells, to be looked things up in.
    pub(crate) fn laid(&self) -> Laid<'f> {
        Laid {
            partition: self.partition,
            v4: (0..self.v4.rows()).map(|row| self.v4.row(&self.partition.v4, row)).collect(),
            v6: (0..self.v6.rows()).map(|row| self.v6.row(&self.partition.v6, row)).collect(),
        }
    }
}

impl Laid<'_> {
    /// Calls `cell` for every cell that a set touches, with the part of the set that lies in it.
    pub(crate) fn visit(
        &self,
        set: &PacketSet,
        v4: impl FnMut(&Cell<u32>, Block<u32>),
        v6: impl FnMut(&Cell<u128>, Block<u128>),
    ) {
        visit(&self.v4, &self.partition.v4, set.v4.blocks(), v4);
        visit(&self.v6, &self.partition.v6, set.v6.blocks(), v6);
    }

    /// The first line that matches a packet.
    pub(crate) fn first_match(&self, packet: &crate::space::Packet) -> Option<(Fate, u32)> {
        match (u32::point(packet), u128::point(packet)) {
            (Some(point), _) => first_match(&self.v4, &self.partition.v4, point),
            (_, Some(point)) => first_match(&self.v6, &self.partition.v6, point),
            (None, None) => None,
        }
    }
}

fn visit<A: AddressBits>(
    rows: &[Vec<Cell<A>>],
    index: &Index<A>,
    set: &[Block<A>],
    mut see: impl FnMut(&Cell<A>, Block<A>),
) {
    for block in set {
        let ways = index.ways_of(&block.destination);
        for row in index.rows_of(block) {
            index.visit(row, block, &ways, |place, source, destination| {
                let cell = &rows[row][place];
                let clipped = cell.clip(block, source, destination);
                if !clipped.is_empty() {
                    see(cell, clipped);
                }
            });
        }
    }
}

fn first_match<A: AddressBits>(
    rows: &[Vec<Cell<A>>],
    index: &Index<A>,
    point: Point<A>,
) -> Option<(Fate, u32)> {
    let (row, place) = index.cell_of(point)?;
    let cell = &rows[row][place];
    let line = cell.first_match(point)?;
    Some((line.fate, line.owner))
}

impl<A: AddressBits> Side<A> {
    fn new(index: &Index<A>, below: usize) -> Self {
        // What the gateway begins belongs there, wherever it says it comes from.
        let coverage = Coverage::Open { below };
        let open = (0..index.interfaces() - 1).map(|interface| Open {
            interface,
            coverage,
            last: u32::MAX,
        });
        let by_interface = vec![Vec::new(); index.rows()];
        Self { entries: Vec::new(), by_interface, open: open.collect(), below }
    }

    /// How many rows of cells there are: one for each interface, and one for what was translated.
    pub(crate) fn rows(&self) -> usize {
        self.by_interface.len()
    }

    fn push(&mut self, index: &Index<A>, blocks: &[Block<A>], fate: Fate, owner: u32) {
        for block in blocks {
            let number = place(self.entries.len());
            let mut rows = index.rows_touched(block);
            self.open.retain_mut(|open| {
                let strange = index.strange(open.interface);
                if !block.enters.contains(Interface::of_index(open.interface))
                    || block.source.is_disjoint(strange)
                {
                    return true;
                }
                rows.push(open.interface);
                let was_open = open.coverage.is_open();
                let takes_all = strange.is_subset(&block.source) && takes_every_service(block);
                open.coverage = open.coverage.after(takes_all, open.last == owner);
                open.last = owner;
                // The first line for which there is no room is noted still.
                was_open && !matches!(open.coverage, Coverage::Closed)
            });
            for &row in &rows {
                if self.by_interface[row].last() != Some(&number) {
                    self.by_interface[row].push(number);
                }
            }
            if !rows.is_empty() {
                let ways = index.ways_of(&block.destination);
                self.entries.push(Entry { block: block.clone(), ways, fate, owner });
            }
        }
    }

    /// The cells of a row, with their lines.
    pub(crate) fn row(&self, index: &Index<A>, row: usize) -> Vec<Cell<A>> {
        let mut cells: Vec<Cell<A>> =
            index.regions(row).into_iter().map(|region| Cell::new(region, self.below)).collect();
        for number in &self.by_interface[row] {
            let entry = &self.entries[*number as usize];
            index.visit(row, &entry.block, &entry.ways, |place, source, destination| {
                cells[place].add((&entry.block, entry.fate, entry.owner), source, destination);
            });
        }
        cells.into_iter().map(Cell::complete).collect()
    }

    /// Whether a line in a row belongs to an owner that is asked for.
    pub(crate) fn is_in_row(&self, row: usize, asked_for: impl Fn(u32) -> bool) -> bool {
        self.by_interface[row].iter().any(|number| asked_for(self.entries[*number as usize].owner))
    }
}

/// Whether a block leaves nothing in the dimensions beside where a packet enters and comes from.
fn takes_every_service<A: AddressBits>(block: &Block<A>) -> bool {
    block.destination.is_full() && block.service.is_full() && block.at.is_full()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::plan::Action;
    use crate::space::{IntervalSet, ServicePoint};

    /// Two interfaces with sources of their own; what belongs elsewhere is distinguished, and all destinations are alike.
    fn two_interfaces() -> Index<u32> {
        let own = [IntervalSet::range(1, 10), IntervalSet::range(11, 20), IntervalSet::full()];
        Index::new(own.to_vec(), IntervalSet::empty(), vec![IntervalSet::full()], Vec::new())
    }

    fn from(source: IntervalSet<u32>, service: IntervalSet<ServicePoint>) -> Block<u32> {
        let (enters, at) = (IntervalSet::range(Interface(0), Interface(1)), IntervalSet::full());
        Block { enters, source, destination: IntervalSet::full(), service, at }
    }

    /// In each cell, also in that of what belongs elsewhere, it is known when there was no room for a line below the
    /// one that takes everything: of what would happen without that one nothing can be said then.
    #[test]
    fn a_line_that_finds_no_room_is_noted() {
        let index = two_interfaces();
        for further in 0..4 {
            let mut side = Side::new(&index, 2);
            let all = from(IntervalSet::full(), IntervalSet::full());
            side.push(&index, &[all], Fate::Decided(Action::Block, true), 0);
            for owner in 1..=further {
                let one = from(
                    IntervalSet::range(11, 20),
                    IntervalSet::point(ServicePoint::from_number(owner).expect("a low one")),
                );
                side.push(&index, &[one], Fate::Decided(Action::Allow, false), owner);
            }
            for (interface, place) in [(0, "elsewhere"), (1, "here")] {
                let cells = side.row(&index, interface);
                let cell = if place == "here" { cells.first() } else { cells.last() };
                let cell = cell.expect("a cell");
                assert_eq!(cell.cut_short, further > 2, "{place}, {further}");
                assert_eq!(cell.stack().lines.len(), 1 + further.min(2) as usize, "{place}");
            }
        }
    }
}
