//! One cell of a table: its lines in order, of which the first match decides, and a quick way to those that may have
//! packets of a given block.

use super::fate::Fate;
use crate::space::{
    AddressBits, Block, BlockIndex, BoundingBox, Interface, IntervalSet, Point, Search,
};

/// With more lines than this they are laid out by where they lie; fewer are looked through sooner.
const MANY: usize = 1_024;

/// A place in a list, as lines carry it.
///
/// # Panics
/// Beyond four thousand million lines, which no memory holds.
pub(super) fn place(index: usize) -> u32 {
    u32::try_from(index).expect("fewer lines than that")
}

/// One line in one cell.
#[derive(Clone, Debug)]
pub(crate) struct Line<A> {
    /// Its packets, as far as they lie in the cell.
    pub(crate) block: Block<A>,
    /// What it does.
    pub(crate) fate: Fate,
    /// Whose line it is: a number that the maker of the table understands.
    pub(crate) owner: u32,
}

/// Some of the lines of a cell that follow each other, with their bounding boxes beside them: most questions need
/// the bounding boxes alone, which lie close together.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Stack<'c, A> {
    pub(crate) lines: &'c [Line<A>],
    pub(crate) bounding_boxes: &'c [BoundingBox<A>],
    /// Where the lines of the cell lie, and the place of the first of these among them.
    index: Option<&'c BlockIndex>,
    first: usize,
}

impl<'c, A: AddressBits> Stack<'c, A> {
    /// The lines above that place.
    pub(crate) fn above(self, place: usize) -> Self {
        self.between(0, place)
    }

    /// The lines from the one place up to before the other.
    pub(crate) fn between(self, from: usize, to: usize) -> Self {
        let (lines, bounding_boxes) = (&self.lines[from..to], &self.bounding_boxes[from..to]);
        Self { lines, bounding_boxes, first: self.first + from, ..self }
    }

    /// The lines that may have a packet of a block, with their places.
    pub(crate) fn near(
        self,
        bounding_box: BoundingBox<A>,
    ) -> impl Iterator<Item = (usize, &'c Line<A>)> {
        let index = self.index.filter(|_| self.lines.len() > MANY);
        let listed = index.map(|index| {
            let (service, destination, source) =
                (bounding_box.service, bounding_box.destination, bounding_box.source);
            let mut places = index.meeting(source, destination, service);
            places.retain(|place| (self.first..self.first + self.lines.len()).contains(place));
            places.into_iter().map(|place| place - self.first).collect::<Vec<_>>()
        });
        let all = if listed.is_some() { 0..0 } else { 0..self.lines.len() };
        let places = listed.into_iter().flatten().chain(all);
        let near = places.filter(move |place| self.bounding_boxes[*place].is_near(&bounding_box));
        near.map(move |place| (place, &self.lines[place]))
    }

    /// Looks for a packet of a block that neither these lines have nor those.
    pub(crate) fn find_uncovered(self, also: Self, block: &Block<A>) -> Search<A> {
        let Some(bounding_box) = BoundingBox::of(block) else { return Search::Covered };
        block.find_uncovered(
            self.near(bounding_box).chain(also.near(bounding_box)).map(|(_, line)| &line.block),
        )
    }

    /// The same, as if those had no line of this owner.
    pub(crate) fn find_uncovered_without(
        self,
        also: Self,
        owner: u32,
        block: &Block<A>,
    ) -> Search<A> {
        let Some(bounding_box) = BoundingBox::of(block) else { return Search::Covered };
        let others = also.near(bounding_box).filter(|(_, line)| line.owner != owner);
        block.find_uncovered(self.near(bounding_box).chain(others).map(|(_, line)| &line.block))
    }

    /// No lines.
    pub(crate) fn none() -> Self {
        Self { lines: &[], bounding_boxes: &[], index: None, first: 0 }
    }
}

/// The lines of one cell, first match wins.
#[derive(Clone, Debug)]
pub(crate) struct Cell<A> {
    /// The packets that lie in the cell.
    pub(crate) region: Block<A>,
    /// The lines, in order, and their bounding boxes.
    lines: Vec<Line<A>>,
    bounding_boxes: Vec<BoundingBox<A>>,
    index: Option<BlockIndex>,
    coverage: Coverage,
    /// Whether a line was not kept below one that takes all that is left.
    pub(crate) cut_short: bool,
}

/// How far the lines of a cell cover it, and so whether a further one is of any use.
#[derive(Clone, Copy, Debug)]
pub(super) enum Coverage {
    /// No line takes all that is left; below the first that does, so many may still be kept.
    Open { below: usize },
    /// A line does; so many more are kept, to see what would happen without it.
    Covered { room: usize },
    /// Two lines do.
    Closed,
}

impl Coverage {
    pub(super) fn is_open(self) -> bool {
        !matches!(self, Self::Covered { room: 0 } | Self::Closed)
    }

    /// What it is after one more line, that takes all that is left or not, and belongs to the same owner as the
    /// line before or not.
    pub(super) fn after(self, takes_all: bool, repeats: bool) -> Self {
        match self {
            Self::Open { below } if takes_all => Self::Covered { room: below },
            Self::Covered { .. } if takes_all && !repeats => Self::Closed,
            Self::Covered { room } => Self::Covered { room: room.saturating_sub(1) },
            other => other,
        }
    }
}

impl<A: AddressBits> Cell<A> {
    pub(super) fn new(region: Block<A>, below: usize) -> Self {
        Self {
            region,
            lines: Vec::new(),
            bounding_boxes: Vec::new(),
            index: None,
            coverage: Coverage::Open { below },
            cut_short: false,
        }
    }

    /// The cell when all its lines are there.
    pub(super) fn complete(mut self) -> Self {
        if self.lines.len() > MANY {
            self.index = Some(BlockIndex::new(self.lines.iter().map(|line| &line.block)));
        }
        self
    }

    /// The first line that has a packet.
    pub(super) fn first_match(&self, point: Point<A>) -> Option<&Line<A>> {
        let held = self
            .bounding_boxes
            .iter()
            .zip(&self.lines)
            .filter(|(bounding_box, _)| bounding_box.holds(point));
        held.map(|(_, line)| line).find(|line| line.block.contains(point))
    }

    /// Adds the part of a line that lies here.
    pub(super) fn add(
        &mut self,
        (block, fate, owner): (&Block<A>, Fate, u32),
        source: IntervalSet<A>,
        destination: IntervalSet<A>,
    ) {
        if !self.coverage.is_open() {
            self.cut_short |= !matches!(self.coverage, Coverage::Closed);
            return;
        }
        let clipped = self.clip(block, source, destination);
        let takes_all = self.region.is_subset(&clipped);
        let Some(bounding_box) = BoundingBox::of(&clipped) else { return };
        let line = Line { block: clipped, fate, owner };
        let repeats = self.lines.last().is_some_and(|line| line.owner == owner);
        self.coverage = self.coverage.after(takes_all, repeats);
        self.lines.push(line);
        self.bounding_boxes.push(bounding_box);
    }

    /// The part of a block that lies here.
    pub(super) fn clip(
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
        Stack {
            lines: &self.lines,
            bounding_boxes: &self.bounding_boxes,
            index: self.index.as_ref(),
            first: 0,
        }
    }
}

/// The whole service line, and the whole week.
pub(super) fn whole_cell<A: AddressBits>(
    interface: Interface,
    source: IntervalSet<A>,
    destination: IntervalSet<A>,
) -> Block<A> {
    Block {
        enters: IntervalSet::point(interface),
        source,
        destination,
        service: IntervalSet::full(),
        at: IntervalSet::full(),
    }
}
