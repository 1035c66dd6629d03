//! Rule lists without a plan: lines of products, first match wins, in a form that can be written to a file and read
//! back.

use super::{Otherwise, Rule, RuleSet};
use crate::plan::Action;
use crate::space::{Interface, IntervalSet, Match, PacketSet};

/// A line of such a list.
#[derive(Clone, Debug)]
#[non_exhaustive]
pub struct PlanlessLine {
    /// The rule's id, or the list's name where its end decides.
    pub id: String,
    /// The rule's number; 0 where the end of a list decides.
    pub number: u32,
    /// What it matches: any of these.
    pub matches: Vec<Match>,
    /// What happens.
    pub action: Action,
    /// Whether it is logged.
    pub log: bool,
}

impl PlanlessLine {
    /// A line.
    pub fn new(id: &str, number: u32, matches: Vec<Match>, action: Action, log: bool) -> Self {
        Self { id: id.to_owned(), number, matches, action, log }
    }
}

impl RuleSet<'_> {
    /// The packets that can come before the lists at all: of what was translated, only what something
    /// translates.
    pub fn possible(&self) -> PacketSet {
        let enters = IntervalSet::range(Interface(0), self.plan.gateway_interface());
        let direct = PacketSet::from(Match { enters, ..Match::everything() });
        let moved = self
            .translations
            .iter()
            .map(|translation| translation.apply_to(&PacketSet::from(&translation.takes)));
        moved.fold(direct, |all, moved| all.union(&moved))
    }

    /// The products of a rule, as far as its list is asked about them and they are possible.
    pub fn products_of(&self, list: usize, rule: &Rule, possible: &PacketSet) -> Vec<Match> {
        let Some(matches) = rule.first_packets() else { return Vec::new() };
        let within = PacketSet::from(matches).intersection(&self.lists[list].covers);
        within.intersection(possible).tidied().products().collect()
    }

    /// What the end of a list decides, if it decides anything.
    pub fn end_of(&self, list: usize, possible: &PacketSet) -> Option<(Vec<Match>, Action)> {
        let list = &self.lists[list];
        let action = match list.otherwise {
            Otherwise::GoOn => return None,
            Otherwise::Allow => Action::Allow,
            Otherwise::Block => Action::Block,
        };
        let rest = list.covers.intersection(possible);
        Some((rest.tidied().products().collect(), action))
    }
}
