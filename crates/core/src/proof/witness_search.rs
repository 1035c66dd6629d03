//! Searches for packets by which a mistake in a rule list can be detected: packets that one line decides, and that
//! another would decide differently.

use super::cell::{Cell, Line, Stack};
use super::lines::RuleLines;
use super::partition::Partition;
use super::prove::never_asked;
use super::table::Laid;
use crate::meaning::Meaning;
use crate::plan::Action;
use crate::rules::RuleSet;
use crate::space::{AddressBits, Block, BoundingBox, Packet, PacketSet, Search};

/// Where a rule stands: its list, its place there.
type Place = (usize, usize);

/// What is looked for in a region: packets that no line before a place takes, and that one of the lines
/// from there on decides otherwise than as an action says.
#[derive(Clone, Copy, Debug)]
pub(crate) struct Wanted {
    /// The lines before this place are asked first.
    pub(crate) before: Place,
    /// The lines that may decide: from this place on,
    pub(crate) from: Place,
    /// and before that one.
    pub(crate) until: Place,
    /// They do not do this; `None` if it does not matter who decides.
    pub(crate) unlike: Option<Action>,
}

/// What was found.
#[derive(Clone, Debug, Default)]
pub(crate) struct Sightings {
    /// Packets, one a cell at most, as the lists see them.
    pub(crate) packets: Vec<Packet>,
    /// Whether some cell could not be decided.
    pub(crate) undecided: bool,
}

/// The lines of a rule list, ready to be searched.
pub(crate) struct WitnessSearch<'f, 'r> {
    lines: RuleLines<'f, 'r>,
    laid: Laid<'f>,
}

/// The end of all lines.
pub(crate) const END: Place = (usize::MAX, usize::MAX);

impl<'f, 'r> WitnessSearch<'f, 'r> {
    /// Sorts the lines into the cells.
    pub(crate) fn new(
        meaning: &Meaning<'_>,
        rules: &'r RuleSet<'r>,
        partition: &'f Partition,
    ) -> Self {
        let lines = RuleLines::new(rules, partition, &never_asked(meaning), usize::MAX);
        let laid = lines.table.laid();
        Self { lines, laid }
    }

    /// Looks for packets of a region, for `most` of them.
    pub(crate) fn find(&self, region: &PacketSet, wanted: &Wanted, most: usize) -> Sightings {
        let (mut v4, mut v6) = (Sightings::default(), Sightings::default());
        self.laid.visit(
            region,
            |cell, block| self.look(cell, &block, wanted, most, &mut v4),
            |cell, block| self.look(cell, &block, wanted, most, &mut v6),
        );
        v4.packets.append(&mut v6.packets);
        v4.undecided |= v6.undecided;
        v4
    }

    fn look<A: AddressBits>(
        &self,
        cell: &Cell<A>,
        block: &Block<A>,
        wanted: &Wanted,
        most: usize,
        found: &mut Sightings,
    ) {
        if found.packets.len() >= most {
            return;
        }
        match self.search(cell.stack(), block, wanted) {
            Search::Found(point) => found.packets.push(A::packet(point)),
            Search::Undecided => found.undecided = true,
            Search::Covered => {}
        }
    }

    fn search<A: AddressBits>(
        &self,
        stack: Stack<'_, A>,
        block: &Block<A>,
        wanted: &Wanted,
    ) -> Search<A> {
        let place_of = |line: &Line<A>| self.lines.places.get(line.owner as usize);
        // What no list is asked about stands above everything.
        let start = |place: Place| {
            stack.lines.partition_point(|line| place_of(line).is_none_or(|own| *own < place))
        };
        let above = stack.above(start(wanted.before));
        let Some(action) = wanted.unlike else { return above.find_uncovered(Stack::none(), block) };
        let from = start(wanted.from);
        let all = stack.between(from, start(wanted.until).max(from));
        let Some(bounding_box) = BoundingBox::of(block) else { return Search::Covered };
        let mut answer = Search::Covered;
        for (place, line) in all.near(bounding_box) {
            if line.fate.action() == Some(action) {
                continue;
            }
            let Some(shared) = block.intersection(&line.block) else { continue };
            match above.find_uncovered(all.above(place), &shared) {
                Search::Covered => {}
                Search::Undecided => answer = Search::Undecided,
                found @ Search::Found(_) => return found,
            }
        }
        if wanted.until == END && action != Action::Block {
            // What no line takes is blocked.
            match above.find_uncovered(all, block) {
                Search::Covered => {}
                other => return other,
            }
        }
        answer
    }
}
