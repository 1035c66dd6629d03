//! Ordered lines, sorted into cells: by where a packet enters, whether its source belongs there, and which
//! interface leads to its destination. Few lines lie in any one cell, and lines of different cells have
//! nothing to do with each other, so that every question is asked within a cell.

use super::frame::{Frame, Index};
use crate::plan::Action;
use crate::space::{Block, Family, IntervalSet, Leg, PacketSet, Point, Search, ServiceSet};
use crate::verdict::{Decision, Verdict};

/// What a line does, as far as proofs care.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Hash)]
pub enum Fate {
    /// No list is asked, so that nothing is compared.
    Unasked,
    /// It is decided so, and logged or not.
    Decided(Action, bool),
    /// It must not get through; how it is stopped, and whether that is logged, is left open.
    Barred,
    /// One of several things other than a verdict, by number: where it is translated to, how fast it may go.
    Value(u32),
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

    /// What is done, if it is decided at all.
    pub(crate) fn action(self) -> Option<Action> {
        match self {
            Self::Decided(action, _) => Some(action),
            Self::Unasked | Self::Barred | Self::Value(_) => None,
        }
    }

    /// Whether it is decided at all, and otherwise than the other one.
    pub(crate) fn differs(self, other: Self) -> bool {
        match (self, other) {
            (Self::Unasked, _) | (_, Self::Unasked) => false,
            (Self::Barred, Self::Decided(action, _)) | (Self::Decided(action, _), Self::Barred) => {
                action == Action::Allow
            }
            (one, other) => one != other,
        }
    }
}

/// One line in one cell.
#[derive(Clone, Debug)]
pub(crate) struct Line<A> {
    /// Its packets, as far as they lie in the cell.
    pub(crate) block: Block<A>,
    /// What it does.
    pub(crate) fate: Fate,
    /// Whose line it is, in the words of whoever made the table.
    pub(crate) owner: u32,
}

/// The least product of intervals that holds a block: the first thing to look at.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Hull<A> {
    service: (u32, u32),
    destination: (A, A),
    source: (A, A),
}

impl<A: Family> Hull<A> {
    /// `None` for a block without a packet.
    pub(crate) fn of(block: &Block<A>) -> Option<Self> {
        fn ends<T: Copy>(spans: &[(T, T)]) -> Option<(T, T)> {
            Some((spans.first()?.0, spans.last()?.1))
        }
        let hull = Self {
            service: ends(block.service.spans())?,
            destination: ends(block.destination.spans())?,
            source: ends(block.source.spans())?,
        };
        (!block.at.is_empty()).then_some(hull)
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

    fn holds(&self, point: Point<A>) -> bool {
        self.service.0 <= point.service
            && point.service <= self.service.1
            && self.destination.0 <= point.destination
            && point.destination <= self.destination.1
            && self.source.0 <= point.source
            && point.source <= self.source.1
    }
}

/// Some of the lines of a cell that follow each other, with their hulls beside them: most questions need
/// the hulls alone, which lie close together.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Stack<'c, A> {
    pub(crate) lines: &'c [Line<A>],
    pub(crate) hulls: &'c [Hull<A>],
}

impl<'c, A: Family> Stack<'c, A> {
    /// The lines above that place.
    pub(crate) fn above(self, place: usize) -> Self {
        Self { lines: &self.lines[..place], hulls: &self.hulls[..place] }
    }

    /// The lines from the one place up to before the other.
    pub(crate) fn between(self, from: usize, to: usize) -> Self {
        Self { lines: &self.lines[from..to], hulls: &self.hulls[from..to] }
    }

    /// The lines that may have a packet of a block, with their places.
    pub(crate) fn near(self, hull: Hull<A>) -> impl Iterator<Item = (usize, &'c Line<A>)> {
        let near = self.hulls.iter().enumerate().filter(move |(_, other)| other.is_near(&hull));
        near.map(move |(place, _)| (place, &self.lines[place]))
    }

    /// Looks for a packet of a block that neither these lines have nor those.
    pub(crate) fn escape(self, also: Self, block: &Block<A>) -> Search<A> {
        let Some(hull) = Hull::of(block) else { return Search::Covered };
        block.escape(self.near(hull).chain(also.near(hull)).map(|(_, line)| &line.block))
    }

    /// No lines.
    pub(crate) fn none() -> Self {
        Self { lines: &[], hulls: &[] }
    }
}

/// The lines of one cell, first match wins.
#[derive(Clone, Debug)]
pub(crate) struct Cell<A> {
    /// The packets that lie in the cell.
    pub(crate) region: Block<A>,
    /// The lines, in order, and their hulls.
    lines: Vec<Line<A>>,
    hulls: Vec<Hull<A>>,
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

    /// Calls `cell` for every cell that a set touches, with the part of the set that lies in it.
    pub(crate) fn visit(
        &self,
        set: &PacketSet,
        v4: impl FnMut(&Cell<u32>, Block<u32>),
        v6: impl FnMut(&Cell<u128>, Block<u128>),
    ) {
        self.v4.visit(&self.frame.v4, set.v4.blocks(), v4);
        self.v6.visit(&self.frame.v6, set.v6.blocks(), v6);
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
        let cell = |region| Cell {
            region,
            lines: lines(),
            hulls: Vec::new(),
            covers: 0,
            room_below,
            cut_short: false,
        };
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

    fn visit(&self, index: &Index<A>, set: &[Block<A>], mut see: impl FnMut(&Cell<A>, Block<A>)) {
        for block in set {
            index.visit(block, |key, source, destination| {
                let cell = &self.cells[key.0];
                let clipped = cell.clip(block, source, destination);
                if !clipped.is_empty() {
                    see(cell, clipped);
                }
            });
            let outer = 0..index.legs() - 1;
            for leg in outer.filter(|leg| block.enters.contains(Leg(*leg as u16))) {
                let cell = &self.cells[index.strange_cell(leg).0];
                let source = block.source.intersection(&cell.region.source);
                let clipped = cell.clip(block, source, block.destination.clone());
                if !clipped.is_empty() {
                    see(cell, clipped);
                }
            }
        }
    }

    fn first_match(&self, index: &Index<A>, point: Point<A>) -> Option<(Fate, u32)> {
        let cell = &self.cells[index.cell_of(point)?.0];
        let held = cell.hulls.iter().zip(&cell.lines).filter(|(hull, _)| hull.holds(point));
        let (_, line) = held.into_iter().find(|(_, line)| line.block.contains(point))?;
        Some((line.fate, line.owner))
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
        let clipped = self.clip(block, source, destination);
        let takes_all = self.region.is_subset(&clipped);
        let Some(hull) = Hull::of(&clipped) else { return };
        let line = Line { block: clipped, fate, owner };
        let repeats = self.lines.last().is_some_and(|line| line.owner == owner);
        self.room_below -= usize::from(self.covers == 1);
        self.covers += u8::from(takes_all && !(self.covers == 1 && repeats));
        self.lines.push(line);
        self.hulls.push(hull);
    }

    /// The part of a block that lies here.
    fn clip(
        &self,
        block: &Block<A>,
        source: IntervalSet<A>,
        destination: IntervalSet<A>,
    ) -> Block<A> {
        Block {
            enters: self.region.enters.clone(),
            source,
            destination,
            service: block.service.intersection(&self.region.service),
            at: block.at.intersection(&self.region.at),
        }
    }

    /// All lines of the cell.
    pub(crate) fn stack(&self) -> Stack<'_, A> {
        Stack { lines: &self.lines, hulls: &self.hulls }
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
