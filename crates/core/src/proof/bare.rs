//! Two rule lists without their plans, compared: which packets fare otherwise.

use super::comparison::compare;
use super::frame::Frame;
use super::table::{Fate, Table};
use crate::rules::BareLine;
use crate::space::PacketSet;
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

/// Compares two lists over legs that are numbered alike, and says how many questions could not be decided.
/// What no line of one of them matches is left out.
pub fn bare_changes(legs: usize, old: &[BareLine], new: &[BareLine]) -> (Vec<BareChange>, usize) {
    let frame = Frame::plain(legs);
    let table = |lines: &[BareLine]| {
        let mut table = Table::new(&frame, 0);
        for (owner, line) in (0u32..).zip(lines) {
            // Only what is noticed by whoever sends a packet counts as traffic.
            let fate = Fate::Decided(line.action, false);
            for product in &line.matches {
                table.push(&product.into(), fate, owner);
            }
        }
        table
    };
    let compared = compare(&table(old), &table(new));
    let mut gathered: BTreeMap<(u32, u32), PacketSet> = BTreeMap::new();
    for clash in compared.clashes {
        let known = gathered.entry((clash.one, clash.other)).or_default();
        *known = known.union(&clash.packets);
    }
    let changes = gathered.into_iter().map(|((before, after), packets)| BareChange {
        before: before as usize,
        after: after as usize,
        packets,
    });
    (changes.collect(), compared.undecided)
}
