//! Two rule lists without their plans, compared: which packets fare otherwise.

use super::anomalies;
use super::comparison::compare;
use super::frame::Frame;
use super::table::{Fate, Table};
use crate::meaning::Meaning;
use crate::rules::BareLine;
use crate::space::{Match, Packet, PacketSet};
use std::collections::BTreeMap;

/// Packets that two lists treat differently.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct BareChange {
    /// The line of the old list, by its place.
    pub before: usize,
    /// The line of the new list, by its place.
    pub after: usize,
    /// The packets.
    pub packets: PacketSet,
}

/// What was found out about the lines of a list without a plan.
#[derive(Clone, Debug, Default)]
#[non_exhaustive]
pub struct BareSingles {
    /// Lines that no packet comes to, with those above that take its packets; by their places.
    pub never_matching: Vec<(usize, Vec<usize>)>,
    /// Lines that change nothing, with those below that do the same; by their places.
    pub superfluous: Vec<(usize, Vec<usize>)>,
    /// Lines that have to stay in their order, upper and lower, with a packet that both match.
    pub ordered: Vec<(usize, usize, Packet)>,
    /// How many questions could not be decided.
    pub undecided: usize,
}

/// In a list with more lines than this, pairs that depend on their order are not looked for.
const MOST_ORDERED: usize = 2_000;

/// Looks at every line of a list over so many legs. Those for which `counts` is false take no part: what
/// they match is not known for sure. Pairs are told apart by what they do, the log left aside.
pub fn bare_singles(
    legs: usize,
    lines: &[BareLine],
    counts: impl Fn(usize) -> bool,
) -> BareSingles {
    let frame = Frame::plain(legs);
    let mut table = Table::new(&frame, 16);
    let mut plain = Table::new(&frame, 0);
    for (owner, line) in (0u32..).zip(lines).filter(|(owner, _)| counts(*owner as usize)) {
        for product in &line.matches {
            table.push(&product.into(), Fate::Decided(line.action, line.log), owner);
            plain.push(&product.into(), Fate::Decided(line.action, false), owner);
        }
    }
    let named = |owners: &[u32]| owners.iter().map(|owner| *owner as usize).collect::<Vec<_>>();
    let mut singles = BareSingles::default();
    let lives = anomalies::anomalies(&table, lines.len(), |_| false).lives;
    for (owner, life) in lives.iter().enumerate() {
        if !counts(owner) || lines[owner].matches.is_empty() {
            continue;
        }
        singles.undecided += usize::from(life.undecided);
        match (life.undecided, life.witness, life.flips) {
            (true, ..) | (_, Some(_), Some(_)) => {}
            (_, None, _) => singles.never_matching.push((owner, named(&life.covered_by))),
            (_, Some(_), None) => singles.superfluous.push((owner, named(&life.repeated_by))),
        }
    }
    // In a list of thousands nobody keeps an order by hand.
    if lines.len() <= MOST_ORDERED {
        let pairs = anomalies::anomalies(&plain, 0, |_| true).ordered.into_iter();
        singles.ordered =
            pairs.map(|pair| (pair.above as usize, pair.below as usize, pair.packet)).collect();
    }
    singles
}

/// Compares two lists over legs that are numbered alike, and says how many questions could not be decided.
/// What no line of one of them matches is left out. Only what is noticed by whoever sends a packet counts, so
/// the log is left aside.
pub fn bare_changes(legs: usize, old: &[BareLine], new: &[BareLine]) -> (Vec<BareChange>, usize) {
    let fate = |line: &BareLine| Fate::Decided(line.action, false);
    between(&Frame::plain(legs), &[], fate, [old, new])
}

/// Compares two lists over the legs of a plan, the log included; `unasked` is what is not compared.
pub fn bare_changes_in(
    meaning: &Meaning<'_>,
    unasked: &[Match],
    old: &[BareLine],
    new: &[BareLine],
) -> (Vec<BareChange>, usize) {
    let fate = |line: &BareLine| Fate::Decided(line.action, line.log);
    between(&Frame::of(meaning), unasked, fate, [old, new])
}

fn between(
    frame: &Frame,
    unasked: &[Match],
    fate: impl Fn(&BareLine) -> Fate,
    lists: [&[BareLine]; 2],
) -> (Vec<BareChange>, usize) {
    let [old, new] = lists.map(|lines| {
        let mut table = Table::new(frame, 0);
        for product in unasked {
            table.push(&product.into(), Fate::Unasked, u32::MAX);
        }
        for (owner, line) in (0u32..).zip(lines) {
            for product in &line.matches {
                table.push(&product.into(), fate(line), owner);
            }
        }
        table
    });
    let compared = compare(&old, &new);
    let mut gathered: BTreeMap<(u32, u32), PacketSet> = BTreeMap::new();
    for clash in compared.clashes {
        gathered.entry((clash.one, clash.other)).or_default().add(clash.packets);
    }
    let changes = gathered.into_iter().map(|((before, after), packets)| BareChange {
        before: before as usize,
        after: after as usize,
        packets,
    });
    (changes.collect(), compared.undecided)
}
