//! An index of the rules of long lists by where their packets lie, for many questions about a few packets each.

use super::{Outcome, RuleSet};
use crate::space::{Nearby, PacketSet};

/// Shorter lists are looked through sooner.
const LONG: usize = 64;

/// The rules of a set, laid out by where they lie.
#[derive(Clone, Debug)]
pub struct RuleIndex<'r> {
    rules: &'r RuleSet<'r>,
    /// By list: its rules, if they are many.
    lists: Vec<Option<Nearby>>,
}

impl<'r> RuleIndex<'r> {
    /// Lays out the rules of all long lists.
    pub fn new(rules: &'r RuleSet<'r>) -> Self {
        let lists = rules.lists.iter().map(|list| {
            let first_packets = list
                .rules
                .iter()
                .map(|rule| rule.first_packets().map_or_else(PacketSet::empty, PacketSet::from));
            let sets: Vec<PacketSet> = match list.rules.len() {
                0..LONG => return None,
                _ => first_packets.collect(),
            };
            Some(Nearby::new(&sets))
        });
        Self { rules, lists: lists.collect() }
    }

    /// The rules.
    pub fn rules(&self) -> &'r RuleSet<'r> {
        self.rules
    }

    /// Cuts a set of packets by what the lists do with them, as [`RuleSet::parts`] does.
    pub fn parts(&self, set: &PacketSet) -> Vec<(PacketSet, Outcome<'r>)> {
        let near = |list: usize, set: &PacketSet| Some(self.lists[list].as_ref()?.to(set));
        self.rules.parts_among(set, near)
    }
}
