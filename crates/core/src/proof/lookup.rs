//! Many single questions, quickly: what a plan means and what its rules do with one packet after the other.

use super::frame::Frame;
use super::lines::{MeaningLines, Reading, RuleLines};
use crate::meaning::Meaning;
use crate::rules::{Outcome, RuleSet};
use crate::space::Packet;
use crate::verdict::Decision;

/// A plan and its rules, laid out for looking packets up.
pub struct Lookup<'a> {
    meaning: &'a Meaning<'a>,
    rules: &'a RuleSet,
    frame: Frame,
}

/// A lookup that is ready. It borrows what was laid out.
pub struct Ready<'l> {
    meaning: &'l Meaning<'l>,
    rules: &'l RuleSet,
    means: MeaningLines<'l>,
    does: RuleLines<'l, 'l>,
}

impl<'a> Lookup<'a> {
    /// Lays the cells out.
    pub fn new(meaning: &'a Meaning<'a>, rules: &'a RuleSet) -> Self {
        Self { meaning, rules, frame: Frame::of(meaning) }
    }

    /// Sorts all lines into the cells.
    pub fn ready(&self) -> Ready<'_> {
        Ready {
            meaning: self.meaning,
            rules: self.rules,
            means: MeaningLines::new(self.meaning, &self.frame, &Reading::default()),
            does: RuleLines::new(self.rules, &self.frame, &[], 0),
        }
    }
}

impl<'l> Ready<'l> {
    /// What the plan means for a packet.
    pub fn decision(&self, packet: &Packet) -> Decision {
        let translated = self.meaning.translate_if_asked(packet);
        let packet = translated.as_ref().unwrap_or(packet);
        match self.means.table.first_match(packet) {
            Some((_, owner)) if owner != u32::MAX => self.means.decisions[owner as usize],
            _ => self.meaning.decide(packet),
        }
    }

    /// What the rules do with a packet.
    pub fn outcome(&self, packet: &Packet) -> Outcome<'l> {
        let packet = &self.rules.as_filtered(packet);
        match self.does.table.first_match(packet) {
            Some((_, owner)) if owner != u32::MAX => self.does.outcomes[owner as usize],
            _ => self.rules.first_match(packet),
        }
    }
}
