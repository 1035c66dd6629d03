//! Ordered lines, sorted into cells: by where a packet enters, whether its source belongs there, and which
//! interface leads to its destination. Few lines lie in any one cell, and lines of different cells have
//! nothing to do with each other, so that every question is asked within a cell.

use super::frame::{Frame, Index};
use crate::plan::Action;
use crate::space::{Block, Family, IntervalSet, Leg, PacketSet, Point, ServiceSet};
use crate::verdict::{Decision, Verdict};

/// What a line does, as far as proofs care.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub(crate) enum Fate {
    /// No list is asked, so that nothing is compared.
    Unasked,
    /// It is decided so, and logged or not.
    Decided(Action, bool),
}

impl Fate {
    /// The fate of a packet by the meaning.
    pub(crate) fn of(decision: Decision) -> Self {
        match decision.verdict {
            Verdict::Allow => Self::Decided(Action::Allow, decision.logged),
            Verdict::Block => Self::Decided(Action::Block, decision.logged),
            Verdict::Reject => Self::Decided(Action::Reject, decision.logged),
            Verdict::DoesNotPass | Verdict::NoWay => Self::Unasked,
        }
    }

    /// Whether it is decided at all, and otherwise than the other one.
    pub(crate) fn differs(self, other: Self) -> bool {
        self != other && self != Self::Unasked && other != Self::Unasked
    }
}

/// One line in one cell.
#[derive(Clone, Debug)]
pub(crate) struct Line<A> {
    /// Its packets, as far as they lie in the cell.
    pub(crate) block: Block<A>,
    hull: Hull<A>,
    /// What it does.
    pub(crate) fate: Fate,
    /// Whose line it is, in the words of whoever made the table.
    pub(crate) owner: u32,
}

/// The least product of intervals that holds a block: the first thing to look at.
#[derive(Clone, Copy, Debug)]
struct Hull<A> {
    source: (A, A),
    destination: (A, A),
    service: (u32, u32),
}

impl<A: Family> Line<A> {
    fn new(block: Block<A>, fate: Fate, owner: u32) -> Option<Self> {
        fn ends<T: Copy>(spans: &[(T, T)]) -> Option<(T, T)> {
            Some((spans.first()?.0, spans.last()?.1))
        }
        let hull = Hull {
            source: ends(block.source.spans())?,
            destination: ends(block.destination.spans())?,
            service: ends(block.service.spans())?,
        };
        (!block.at.is_empty()).then_some(Self { block, hull, fate, owner })
    }

    /// Whether the two can share a packet, at a glance.
    pub(crate) fn is_near(&self, other: &Self) -> bool {
        fn meet<T: Ord>(a: (T, T), b: (T, T)) -> bool {
            a.0 <= b.1 && b.0 <= a.1
        }
        let (a, b) = (&self.hull, &other.hull);
        meet(a.destination, b.destination) && meet(a.source, b.source) && meet(a.service, b.service)
    }

    /// What both have.
    pub(crate) fn shared(&self, other: &Self) -> Option<Self> {
        let block = self.block.intersection(&other.block)?;
        Self::new(block, self.fate, self.owner)
    }
}

/// The lines of one cell, first match wins.
#[derive(Clone, Debug)]
pub(crate) struct Cell<A> {
    /// The packets that lie in the cell.
    pub(crate) region: Block<A>,
    /// The lines, in order.
    pub(crate) lines: Vec<Line<A>>,
    /// How many lines take all that is left, so that those below decide nothing. Two of them close it.
    covers: u8,
    /// How many lines below the first of these may still be kept.
    room_below: usize,
    /// Whether one was not.
    pub(crate) cut_short: bool,
}

/// The lines of one family, by cell.
#[derive(Clone, Debug)]
pub(crate) struct Side<A> {
    /// The cells.
    pub(crate) cells: Vec<Cell<A>>,
    /// The legs where something may still be said of what belongs elsewhere. It is soon said to be forged.
    open: Vec<usize>,
}

/// Ordered lines of both families, by cell. Two tables of one frame have the same cells.
#[derive(Clone, Debug)]
pub(crate) struct Table<'f> {
    frame: &'f Frame,
    /// The IPv4 lines.
    pub(crate) v4: Side<u32>,
    /// The IPv6 lines.
    pub(crate) v6: Side<u128>,
}

impl<'f> Table<'f> {
    /// A table without lines. In each cell, so many are kept below the first that takes all that is left.
    pub(crate) fn new(frame: &'f Frame, below: usize) -> Self {
        Self { frame, v4: Side::new(&frame.v4, below), v6: Side::new(&frame.v6, below) }
    }

    /// Adds a line behind those that are there.
    pub(crate) fn push(&mut self, set: &PacketSet, fate: Fate, owner: u32) {
        self.v4.push(&self.frame.v4, set.v4.blocks(), fate, owner);
        self.v6.push(&self.frame.v6, set.v6.blocks(), fate, owner);
    }

    /// The first line that matches a packet.
    pub(crate) fn first_match(&self, packet: &crate::space::Packet) -> Option<(Fate, u32)> {
        match (u32::point(packet), u128::point(packet)) {
            (Some(point), _) => self.v4.first_match(&self.frame.v4, point),
            (_, Some(point)) => self.v6.first_match(&self.frame.v6, point),
            (None, None) => None,
        }
    }
}

impl<A: Family> Side<A> {
    fn new(index: &Index<A>, room_below: usize) -> Self {
        let lines = Vec::new;
        let cell =
            |region| Cell { region, lines: lines(), covers: 0, room_below, cut_short: false };
        // What the gateway begins belongs there, wherever it says it comes from.
        let open = (0..index.legs() - 1).collect();
        Self { cells: index.regions().map(cell).collect(), open }
    }

    fn push(&mut self, index: &Index<A>, blocks: &[Block<A>], fate: Fate, owner: u32) {
        for block in blocks {
            let line = (block, fate, owner);
            index.visit(block, |key, source, destination| {
                self.cells[key.0].add(line, source, destination);
            });
            for &leg in self.open.iter().filter(|leg| block.enters.contains(Leg(**leg as u16))) {
                let cell = &mut self.cells[index.strange_cell(leg).0];
                let source = block.source.intersection(&cell.region.source);
                cell.add(line, source, block.destination.clone());
            }
            self.open.retain(|leg| self.cells[index.strange_cell(*leg).0].is_open());
        }
    }

    fn first_match(&self, index: &Index<A>, point: Point<A>) -> Option<(Fate, u32)> {
        let cell = &self.cells[index.cell_of(point)?.0];
        let line = cell.lines.iter().find(|line| line.holds(point))?;
        Some((line.fate, line.owner))
    }
}

impl<A: Family> Line<A> {
    /// Whether that packet of the same cell is one of its packets.
    fn holds(&self, point: Point<A>) -> bool {
        let hull = &self.hull;
        let near = hull.service.0 <= point.service
            && point.service <= hull.service.1
            && hull.destination.0 <= point.destination
            && point.destination <= hull.destination.1
            && hull.source.0 <= point.source
            && point.source <= hull.source.1;
        near && self.block.contains(point)
    }
}

impl<A: Family> Cell<A> {
    /// Whether a further line can be of any use.
    fn is_open(&self) -> bool {
        self.covers == 0 || self.covers == 1 && self.room_below > 0
    }

    /// Adds the part of a line that lies here.
    fn add(
        &mut self,
        (block, fate, owner): (&Block<A>, Fate, u32),
        source: IntervalSet<A>,
        destination: IntervalSet<A>,
    ) {
        if !self.is_open() {
            self.cut_short |= self.covers < 2;
            return;
        }
        let clipped = Block {
            enters: self.region.enters.clone(),
            source,
            destination,
            service: block.service.intersection(&self.region.service),
            at: block.at.intersection(&self.region.at),
        };
        let takes_all = self.region.is_subset(&clipped);
        let Some(line) = Line::new(clipped, fate, owner) else { return };
        let repeats = self.lines.last().is_some_and(|line| line.owner == owner);
        self.room_below -= usize::from(self.covers == 1);
        self.covers += u8::from(takes_all && !(self.covers == 1 && repeats));
        self.lines.push(line);
    }

    /// Of some of the cell's lines, those that may have a packet of `line`.
    pub(crate) fn near<'c>(
        lines: &'c [Line<A>],
        line: &'c Line<A>,
    ) -> impl Iterator<Item = &'c Block<A>> + 'c {
        lines.iter().filter(|other| other.is_near(line)).map(|other| &other.block)
    }
}

/// The whole service line, and the whole week.
pub(super) fn whole_cell<A: Family>(
    leg: Leg,
    source: IntervalSet<A>,
    destination: IntervalSet<A>,
) -> Block<A> {
    Block {
        enters: IntervalSet::point(leg),
        source,
        destination,
        service: ServiceSet::any().v4,
        at: IntervalSet::full(),
    }
}
