//! Rules that do nothing: those that can never match, those that change nothing, and pairs that depend on
//! their order.
//!
//! The names of such anomalies (shadowing, redundancy, correlation, generalisation) come from the
//! literature on packet filters (Al-Shaer and Hamed, 2003 and later); here each is decided exactly, also
//! where several rules together cover another.

use super::comparison::escape;
use super::table::{Cell, Fate, Line, Side, Table};
use crate::plan::Action;
use crate::space::{Family, Packet, Search};

/// What was found out about one rule, by its owner in the table.
#[derive(Clone, Debug, Default)]
pub(crate) struct Life {
    /// A packet that this rule is the first to match; `None` if there is none.
    pub(crate) witness: Option<Packet>,
    /// A packet to which something else would happen without this rule.
    pub(crate) flips: Option<Packet>,
    /// Lines above that take its packets away, where none are left.
    pub(crate) covered_by: Vec<u32>,
    /// Lines below that would do the same with its packets.
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

/// Looks at the life of all rules; `owners` is how many there are.
pub(crate) fn lives(table: &Table<'_>, owners: usize) -> Vec<Life> {
    let mut lives = vec![Life::default(); owners];
    side(&table.v4, &mut lives);
    side(&table.v6, &mut lives);
    lives
}

fn side<A: Family>(side: &Side<A>, lives: &mut [Life]) {
    for cell in &side.cells {
        for (place, line) in cell.lines.iter().enumerate() {
            if let Some(life) = lives.get_mut(line.owner as usize) {
                look(&cell.lines, place, line, life);
                // What is below may be more than is kept.
                let last = life.witness.is_some() && life.flips.is_none() && cell.cut_short;
                life.undecided |= last && cell.region.is_subset(&line.block);
            }
        }
    }
}

fn look<A: Family>(lines: &[Line<A>], place: usize, line: &Line<A>, life: &mut Life) {
    let before = &lines[..place];
    if life.witness.is_none() {
        match escape(line, before, &[]) {
            Search::Found(point) => life.witness = A::packet(point),
            Search::Undecided => life.undecided = true,
            Search::Covered => {
                note(&mut life.covered_by, before, line);
                return;
            }
        }
    }
    if life.flips.is_none() {
        life.flips = flips(lines, place, line, life);
    }
}

/// Remembers whose lines lie over a line, as far as they decide anything.
fn note<A: Family>(owners: &mut Vec<u32>, lines: &[Line<A>], line: &Line<A>) {
    for other in lines.iter().filter(|other| other.is_near(line)) {
        let decides = other.fate != Fate::Unasked && !other.block.is_disjoint(&line.block);
        if decides && !owners.contains(&other.owner) {
            owners.push(other.owner);
        }
    }
}

/// A packet that the line decides and to which something else would happen without it.
fn flips<A: Family>(
    lines: &[Line<A>],
    place: usize,
    line: &Line<A>,
    life: &mut Life,
) -> Option<Packet> {
    for (below, other) in lines.iter().enumerate().skip(place + 1) {
        if other.owner == line.owner || !other.is_near(line) {
            continue;
        }
        let Some(shared) = line.shared(other) else { continue };
        if !line.fate.differs(other.fate) {
            if life.repeated_by.len() < 8 && !life.repeated_by.contains(&other.owner) {
                life.repeated_by.push(other.owner);
            }
            continue;
        }
        match escape(&shared, &lines[..place], &lines[place + 1..below]) {
            Search::Found(point) => return A::packet(point),
            Search::Undecided => life.undecided = true,
            Search::Covered => {}
        }
    }
    None
}

/// Whether a rule that changes nothing is there as a defence: it denies what would be denied in any case.
pub(crate) fn is_defence(fate: Fate) -> bool {
    matches!(fate, Fate::Decided(Action::Block | Action::Reject, _))
}

/// All pairs of rules that do different things with a packet that nothing above the two matches. Only
/// those are looked at that `counts` names.
pub(crate) fn ordered_pairs(table: &Table<'_>, counts: impl Fn(u32) -> bool) -> Vec<OrderedPair> {
    let mut pairs = Vec::new();
    pairs_of(&table.v4, &counts, &mut pairs);
    pairs_of(&table.v6, &counts, &mut pairs);
    pairs.sort_by_key(|pair: &OrderedPair| (pair.above, pair.below));
    pairs.dedup_by_key(|pair| (pair.above, pair.below));
    pairs
}

fn pairs_of<A: Family>(
    side: &Side<A>,
    counts: &impl Fn(u32) -> bool,
    pairs: &mut Vec<OrderedPair>,
) {
    for Cell { lines, .. } in &side.cells {
        let counted = |place: &usize| counts(lines[*place].owner);
        let places: Vec<usize> = (0..lines.len()).filter(counted).collect();
        for (number, &upper) in places.iter().enumerate() {
            for &lower in &places[number + 1..] {
                let (a, b) = (&lines[upper], &lines[lower]);
                if !a.fate.differs(b.fate) || !a.is_near(b) {
                    continue;
                }
                let Some(shared) = a.shared(b) else { continue };
                if let Search::Found(point) = escape(&shared, &lines[..upper], &[])
                    && let Some(packet) = A::packet(point)
                {
                    pairs.push(OrderedPair { above: a.owner, below: b.owner, packet });
                }
            }
        }
    }
}
