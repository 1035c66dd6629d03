//! Whether two tables treat every packet alike, and where they do not.
//!
//! Two lines clash if they do different things and a packet exists that both match and that no line above either of
//! them takes. Each pair of lines whose bounding boxes meet is asked that question, cell by cell.

use super::cell::{Line, Stack};
use super::partition::Index;
use super::table::{Side, Table};
use crate::space::{AddressBits, Block, BoundingBox, PacketSet, Region, Search};

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
    /// How many pairs of lines could not be decided in the steps that are allowed, or only to one packet.
    pub(crate) undecided: usize,
}

/// The most blocks that are worked out to say which packets clash. Beyond, one packet stands for all.
const MOST_BLOCKS: usize = 2_000;

/// Compares two tables of one partition, in every cell.
pub(crate) fn compare(one: &Table<'_>, other: &Table<'_>) -> Comparison {
    let mut found = Comparison::default();
    let partition = one.partition();
    compare_family(&partition.v4, &one.v4, &other.v4, &mut found);
    compare_family(&partition.v6, &one.v6, &other.v6, &mut found);
    found
}

fn compare_family<A: AddressBits>(
    index: &Index<A>,
    one: &Side<A>,
    other: &Side<A>,
    found: &mut Comparison,
) {
    for row in 0..one.rows() {
        for (a, b) in one.row(index, row).iter().zip(&other.row(index, row)) {
            let (a, b) = (a.stack(), b.stack());
            if !same_lines(a, b) {
                compare_cells(a, b, found);
            }
        }
    }
}

fn same_lines<A: AddressBits>(a: Stack<'_, A>, b: Stack<'_, A>) -> bool {
    a.lines.len() == b.lines.len()
        && a.lines.iter().zip(b.lines).all(|(a, b)| a.fate == b.fate && a.block == b.block)
}

fn compare_cells<A: AddressBits>(a: Stack<'_, A>, b: Stack<'_, A>, found: &mut Comparison) {
    let (taken_by_b, taken_by_a) = (takers(a, b), takers(b, a));
    for (i, (one, bounding_box)) in a.lines.iter().zip(a.bounding_boxes).enumerate() {
        for (j, other) in b.near(*bounding_box) {
            if !one.fate.differs(other.fate) {
                continue;
            }
            // Where a line higher up in the other list has the whole block, that one decides there.
            if taken_by_b[i] < j {
                break;
            }
            if taken_by_a[j] < i {
                continue;
            }
            let Some(shared) = one.block.intersection(&other.block) else { continue };
            let (before, also) = (a.above(i), b.above(j));
            match before.find_uncovered(also, &shared) {
                Search::Covered => {}
                Search::Undecided => found.undecided += 1,
                Search::Found(point) => {
                    let all = left(shared, before, also);
                    found.undecided += usize::from(all.is_none());
                    let packets = all.unwrap_or_else(|| PacketSet::from(A::packet(point)));
                    found.clashes.push(Clash { one: one.owner, other: other.owner, packets });
                }
            }
        }
    }
}

/// For each line, the place of the first one in the other list that has all its packets; past the end where there is
/// none.
fn takers<A: AddressBits>(lines: Stack<'_, A>, others: Stack<'_, A>) -> Vec<usize> {
    let taker = |(line, bounding_box): (&Line<A>, &BoundingBox<A>)| {
        let mut near = others.near(*bounding_box);
        let found = near.find(|(place, other)| {
            bounding_box.is_within(&others.bounding_boxes[*place])
                && line.block.is_subset(&other.block)
        });
        found.map_or(usize::MAX, |(place, _)| place)
    };
    lines.lines.iter().zip(lines.bounding_boxes).map(taker).collect()
}

/// All the packets of a block that no line of two lists has; `None` where these are too scattered to be worked out.
fn left<A: AddressBits>(
    block: Block<A>,
    before: Stack<'_, A>,
    also: Stack<'_, A>,
) -> Option<PacketSet> {
    let Some(bounding_box) = BoundingBox::of(&block) else { return Some(PacketSet::empty()) };
    let near = before
        .near(bounding_box)
        .chain(also.near(bounding_box))
        .map(|(_, line)| line.block.clone());
    Region::new([block]).difference_within(&Region::new(near), MOST_BLOCKS).map(A::region)
}
