//! Looks up many single packets quickly: what the plan means for each, and what its rules do with it.

use super::lines::{MeaningLines, Reading, RuleLines};
use super::partition::Partition;
use super::table::Laid;
use crate::meaning::Meaning;
use crate::rules::{Outcome, RuleSet};
use crate::space::{AddressSet, Interface, Match, Packet};
use crate::verdict::Decision;
use std::net::IpAddr;

/// A plan and its rules, laid out for looking packets up.
pub struct Lookup<'a> {
    meaning: &'a Meaning<'a>,
    rules: &'a RuleSet<'a>,
    partition: Partition,
}

/// A lookup that is ready. It borrows what was laid out.
pub struct Ready<'l> {
    meaning: &'l Meaning<'l>,
    rules: &'l RuleSet<'l>,
    sources: Vec<AddressSet>,
    /// What asks for offered services.
    asked: Vec<Match>,
    means: Laid<'l>,
    decisions: Vec<Decision>,
    does: Laid<'l>,
    outcomes: Vec<Outcome<'l>>,
}

impl<'a> Lookup<'a> {
    /// Lays the cells out.
    pub fn new(meaning: &'a Meaning<'a>, rules: &'a RuleSet<'a>) -> Self {
        Self { meaning, rules, partition: Partition::of(meaning) }
    }

    /// Sorts all lines into the cells.
    pub fn ready(&self) -> Ready<'_> {
        let means = MeaningLines::new(self.meaning, &self.partition, &Reading::default());
        let does = RuleLines::new(self.rules, &self.partition, &[], 0);
        Ready {
            meaning: self.meaning,
            rules: self.rules,
            sources: (0..self.meaning.plan().gateway_interface().0)
                .map(|interface| self.meaning.sources_on(Interface(interface)))
                .collect(),
            asked: self.meaning.asked_outside(),
            means: means.table.laid(),
            decisions: means.decisions,
            does: does.table.laid(),
            outcomes: does.outcomes,
        }
    }
}

impl<'l> Ready<'l> {
    /// Whether a source belongs where it enters, and does not stay on its link.
    pub fn belongs(&self, interface: Interface, source: IpAddr) -> bool {
        self.sources.get(usize::from(interface.0)).is_some_and(|sources| sources.contains(source))
    }

    /// What the plan means for a packet.
    pub fn decision(&self, packet: &Packet) -> Decision {
        let asks = self.asked.iter().any(|asked| asked.contains(packet));
        let translated = if asks { self.meaning.translate_if_asked(packet) } else { None };
        let packet = translated.as_ref().unwrap_or(packet);
        match self.means.first_match(packet) {
            Some((_, owner)) if owner != u32::MAX => self.decisions[owner as usize],
            _ => self.meaning.decide(packet),
        }
    }

    /// What the rules do with a packet.
    pub fn outcome(&self, packet: &Packet) -> Outcome<'l> {
        let packet = &self.rules.as_filtered(packet);
        match self.does.first_match(packet) {
            Some((_, owner)) if owner != u32::MAX => self.outcomes[owner as usize],
            _ => self.rules.first_match(packet),
        }
    }
}
