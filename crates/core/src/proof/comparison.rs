//! Whether two tables do the same with every packet, and where they do not.

use super::table::{Cell, Line, Side, Table};
use crate::space::{Block, Family, PacketSet, Region, Search};
use std::collections::HashMap;

/// Packets with which two tables do different things: a line of the one, a line of the other.
#[derive(Clone, Debug)]
pub(crate) struct Clash {
    /// The line of the first table, by its owner.
    pub(crate) one: u32,
    /// The line of the second.
    pub(crate) other: u32,
    /// The packets.
    pub(crate) packets: PacketSet,
}

/// What a comparison came to.
#[derive(Clone, Debug, Default)]
pub(crate) struct Comparison {
    /// Where the two differ.
    pub(crate) clashes: Vec<Clash>,
    /// How many pairs of lines could not be decided in the steps that are allowed.
    pub(crate) undecided: usize,
}

/// Compares two tables of one frame, in every cell.
pub(crate) fn compare(one: &Table<'_>, other: &Table<'_>) -> Comparison {
    let mut found = Comparison::default();
    sides(&one.v4, &other.v4, &mut found);
    sides(&one.v6, &other.v6, &mut found);
    found
}

fn sides<A: Family>(one: &Side<A>, other: &Side<A>, found: &mut Comparison) {
    for (a, b) in one.cells.iter().zip(&other.cells) {
        if !same_lines(a, b) {
            cells(a, b, found);
        }
    }
}

fn same_lines<A: Family>(a: &Cell<A>, b: &Cell<A>) -> bool {
    a.lines.len() == b.lines.len()
        && a.lines.iter().zip(&b.lines).all(|(a, b)| a.fate == b.fate && a.block == b.block)
}

fn cells<A: Family>(a: &Cell<A>, b: &Cell<A>, found: &mut Comparison) {
    let (twin_in_b, twin_in_a) = (twins(&a.lines, &b.lines), twins(&b.lines, &a.lines));
    for (i, one) in a.lines.iter().enumerate() {
        for (j, other) in b.lines.iter().enumerate() {
            if !one.fate.differs(other.fate) || !one.is_near(other) {
                continue;
            }
            // Where the same block stands higher up in the other list, it decides there first.
            if twin_in_b[i].is_some_and(|twin| twin < j)
                || twin_in_a[j].is_some_and(|twin| twin < i)
            {
                continue;
            }
            let Some(shared) = one.shared(other) else { continue };
            let (before, also) = (&a.lines[..i], &b.lines[..j]);
            match escape(&shared, before, also) {
                Search::Covered => {}
                Search::Undecided => found.undecided += 1,
                Search::Found(_) => found.clashes.push(Clash {
                    one: one.owner,
                    other: other.owner,
                    packets: left(&shared, before, also),
                }),
            }
        }
    }
}

/// For each line, the place of the first one in the other list that has the same block.
fn twins<A: Family>(lines: &[Line<A>], others: &[Line<A>]) -> Vec<Option<usize>> {
    let key = |block: &Block<A>| {
        let spans =
            (block.source.spans().first().copied(), block.destination.spans().first().copied());
        (spans, block.service.spans().first().copied(), block.source.spans().len())
    };
    let mut places: HashMap<_, Vec<usize>> = HashMap::with_capacity(others.len());
    for (place, line) in others.iter().enumerate() {
        places.entry(key(&line.block)).or_default().push(place);
    }
    let twin = |line: &Line<A>| {
        let mut candidates = places.get(&key(&line.block))?.iter().copied();
        candidates.find(|place| others[*place].block == line.block)
    };
    lines.iter().map(twin).collect()
}

/// Looks for a packet of a line that no line of two lists has.
pub(super) fn escape<A: Family>(line: &Line<A>, before: &[Line<A>], also: &[Line<A>]) -> Search<A> {
    line.block.escape(Cell::near(before, line).chain(Cell::near(also, line)))
}

/// All the packets of a line that no line of two lists has.
pub(super) fn left<A: Family>(line: &Line<A>, before: &[Line<A>], also: &[Line<A>]) -> PacketSet {
    let region = Region::new([line.block.clone()]);
    let near = Cell::near(before, line).chain(Cell::near(also, line)).cloned();
    A::region(region.difference(&Region::new(near)))
}
