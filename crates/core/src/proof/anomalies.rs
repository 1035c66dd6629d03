//! Rules without effect: shadowed rules that can never match, redundant rules that change nothing, and pairs of rules
//! whose order matters.
//!
//! The terms are those of the literature on packet filters (E. Al-Shaer and H. Hamed, 2003 and later). Comparing
//! rules in pairs misses a rule that several others cover together; here every case is decided exactly.

use super::cell::{Cell, Line, Stack};
use super::fate::Fate;
use super::partition::Index;
use super::table::{Side, Table};
use crate::plan::Action;
use crate::space::{AddressBits, BoundingBox, Packet, Search};
use std::collections::HashSet;

/// What was found out about one rule, by its owner in the table.
#[derive(Clone, Debug, Default)]
pub(crate) struct Life {
    /// A packet that this rule is the first to match; `None` if there is none.
    pub(crate) witness: Option<Packet>,
    /// A packet to which something else would happen without this rule.
    pub(crate) flips: Option<Packet>,
    /// If it has no witness: the lines above that take its packets away.
    pub(crate) covered_by: Vec<u32>,
    /// If nothing flips: the lines below that its packets would come to.
    pub(crate) repeated_by: Vec<u32>,
    /// Whether some of this could not be decided.
    pub(crate) undecided: bool,
}

/// Two rules of which the first has to stay above the second.
#[derive(Clone, Copy, Debug)]
pub(crate) struct OrderedPair {
    /// The upper one.
    pub(crate) above: u32,
    /// The lower one.
    pub(crate) below: u32,
    /// A packet that both match and that nothing above them does.
    pub(crate) packet: Packet,
}

/// What was found out about all rules of a table.
#[derive(Clone, Debug, Default)]
pub(crate) struct Anomalies {
    /// The life of each rule, by its owner.
    pub(crate) lives: Vec<Life>,
    /// All pairs of rules that do different things with a packet that nothing above the two matches.
    pub(crate) ordered: Vec<OrderedPair>,
}

/// Looks at all rules; `owners` is how many there are. Of pairs only those are looked at that `counts` names.
pub(crate) fn anomalies(
    table: &Table<'_>,
    owners: usize,
    counts: impl Fn(u32) -> bool,
) -> Anomalies {
    let mut found = Anomalies { lives: vec![Life::default(); owners], ..Anomalies::default() };
    let partition = table.partition();
    let mut known = HashSet::new();
    side(&table.v4, &partition.v4, &counts, &mut found, &mut known);
    side(&table.v6, &partition.v6, &counts, &mut found, &mut known);
    found.ordered.sort_by_key(|pair| (pair.above, pair.below));
    // Only of those that do nothing is it worth saying who does their work.
    substitutes(&table.v4, &partition.v4, &mut found.lives);
    substitutes(&table.v6, &partition.v6, &mut found.lives);
    found
}

fn side<A: AddressBits>(
    side: &Side<A>,
    index: &Index<A>,
    counts: &impl Fn(u32) -> bool,
    found: &mut Anomalies,
    known: &mut HashSet<(u32, u32)>,
) {
    for row in 0..side.rows() {
        for cell in &side.row(index, row) {
            lives(cell, &mut found.lives);
            pairs(cell, counts, &mut found.ordered, known);
        }
    }
}

/// Finds the lines that do the work of those that do nothing: each takes a packet that no other takes first.
fn substitutes<A: AddressBits>(side: &Side<A>, index: &Index<A>, lives: &mut [Life]) {
    let idle: Vec<bool> =
        lives.iter().map(|life| life.witness.is_none() || life.flips.is_none()).collect();
    let is_idle = |owner: u32| idle.get(owner as usize).is_some_and(|idle| *idle);
    let rows = (0..side.rows()).filter(|row| side.is_in_row(*row, is_idle));
    for cell in rows.flat_map(|row| side.row(index, row)) {
        let stack = cell.stack();
        for (place, line) in stack.lines.iter().enumerate() {
            let Some(life) = lives.get_mut(line.owner as usize) else { continue };
            let above = stack.above(place);
            if life.witness.is_none() {
                takers(&mut life.covered_by, Stack::none(), above, line);
            } else if life.flips.is_none() {
                let below = stack.between(place + 1, stack.lines.len());
                takers(&mut life.repeated_by, above, below, line);
            }
        }
    }
}

/// How many lines are looked at to say who does the work of one: where more than a thousand lie over each other, as a
/// foreign file can have it, to look at all for each would take minutes. Who is not looked at is not named.
const MOST_LOOKED_AT: usize = 256;

/// Adds the owners of those of `lines` that are the first of them to have a packet of a line which `above`
/// leaves.
fn takers<A: AddressBits>(
    owners: &mut Vec<u32>,
    above: Stack<'_, A>,
    lines: Stack<'_, A>,
    line: &Line<A>,
) {
    let Some(bounding_box) = BoundingBox::of(&line.block) else { return };
    for (place, other) in lines.near(bounding_box).take(MOST_LOOKED_AT) {
        let counts = other.fate != Fate::Unasked && other.owner != line.owner;
        if counts
            && !owners.contains(&other.owner)
            && let Some(shared) = line.block.intersection(&other.block)
            && let Search::Found(_) = above.find_uncovered(lines.above(place), &shared)
        {
            owners.push(other.owner);
        }
        // Nobody below takes anything from one that takes all of it.
        if line.block.is_subset(&other.block) {
            break;
        }
    }
}

/// Looks at the lines of a cell, one after the other.
fn lives<A: AddressBits>(cell: &Cell<A>, lives: &mut [Life]) {
    let stack = cell.stack();
    for (place, line) in stack.lines.iter().enumerate() {
        if let Some(life) = lives.get_mut(line.owner as usize) {
            look(stack, place, line, life);
            // What is below may be more than is kept.
            let last = life.witness.is_some() && life.flips.is_none() && cell.cut_short;
            life.undecided |= last && cell.region.is_subset(&line.block);
        }
    }
}

fn look<A: AddressBits>(stack: Stack<'_, A>, place: usize, line: &Line<A>, life: &mut Life) {
    let before = stack.above(place);
    if life.witness.is_none() {
        match before.find_uncovered(Stack::none(), &line.block) {
            Search::Found(point) => life.witness = Some(A::packet(point)),
            Search::Undecided => life.undecided = true,
            Search::Covered => return,
        }
    }
    if life.flips.is_none() {
        life.flips = flips(stack, place, line, life);
    }
}

/// A packet that the line decides and to which something else would happen without it.
fn flips<A: AddressBits>(
    stack: Stack<'_, A>,
    place: usize,
    line: &Line<A>,
    life: &mut Life,
) -> Option<Packet> {
    let first = place + 1;
    let below = stack.between(first, stack.lines.len());
    for (further, other) in below.near(stack.bounding_boxes[place]) {
        if other.owner == line.owner {
            continue;
        }
        if line.fate.differs(other.fate)
            && let Some(shared) = line.block.intersection(&other.block)
        {
            // Without the rule, none of its lines is there.
            let between = stack.between(first, first + further);
            match stack.above(place).find_uncovered_without(between, line.owner, &shared) {
                Search::Found(point) => return Some(A::packet(point)),
                Search::Undecided => life.undecided = true,
                Search::Covered => {}
            }
        }
        // What is below a line that takes everything gets nothing.
        if line.block.is_subset(&other.block) {
            break;
        }
    }
    None
}

/// Whether a rule that changes nothing is there as a defence: it denies what would be denied in any case.
pub(crate) fn is_defence(fate: Fate) -> bool {
    matches!(fate, Fate::Decided(Action::Block | Action::Reject, _))
}

/// The pairs of lines of a cell that have to stay in their order, but for those that are known from another cell.
fn pairs<A: AddressBits>(
    cell: &Cell<A>,
    counts: &impl Fn(u32) -> bool,
    pairs: &mut Vec<OrderedPair>,
    known: &mut HashSet<(u32, u32)>,
) {
    let stack = cell.stack();
    for (upper, a) in stack.lines.iter().enumerate().filter(|(_, line)| counts(line.owner)) {
        let below = stack.between(upper + 1, stack.lines.len());
        for (_, b) in below.near(stack.bounding_boxes[upper]) {
            let pair = (a.owner, b.owner);
            if !a.fate.differs(b.fate) || !counts(b.owner) || known.contains(&pair) {
                continue;
            }
            let Some(shared) = a.block.intersection(&b.block) else { continue };
            let above = stack.above(upper);
            if let Search::Found(point) = above.find_uncovered(Stack::none(), &shared) {
                let packet = A::packet(point);
                pairs.push(OrderedPair { above: a.owner, below: b.owner, packet });
                known.insert(pair);
            }
        }
    }
}
