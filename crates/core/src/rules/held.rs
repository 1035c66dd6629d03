//! Rule lists as they stand on a gateway, filled in by a person and read back.

use super::{Otherwise, Rule, RuleList, RuleSet, Stage, number};
use crate::plan::Rows;
use crate::space::PacketSet;

/// What somebody has put into one list of a plan's form.
#[derive(Clone, Debug)]
pub struct HeldList {
    /// The rows.
    pub rules: Vec<Rule>,
    /// What happens to the rest.
    pub otherwise: Otherwise,
}

impl RuleSet<'_> {
    /// The lists of this form with what somebody has put into them: one for each list that has to be entered, in order.
    #[must_use]
    pub fn held(&self, lists: Vec<HeldList>) -> Self {
        let mut other = Self { left_out: Vec::new(), ..self.clone() };
        let entered = other.lists.iter_mut().filter(|list| !list.implied);
        for (list, held) in entered.zip(lists) {
            (list.rules, list.otherwise) = (held.rules, held.otherwise);
        }
        number(&mut other.lists, Rows::EveryCell);
        other
    }

    /// One list in place of several of this form: those for which `among` has a value, by their place among all lists. The
    /// others stay as they are.
    #[must_use]
    pub fn held_as_one(&self, held: HeldList, among: &[usize]) -> Self {
        let is_among = |place: &usize| among.contains(place);
        let covers = among
            .iter()
            .fold(PacketSet::empty(), |all, place| all.union(&self.lists[*place].covers));
        let HeldList { rules, otherwise } = held;
        let whole =
            RuleList { otherwise, ..RuleList::of_stage(Stage::Whole, rules, otherwise, covers) };
        let others = self.lists.iter().enumerate().filter(|(place, _)| !is_among(place));
        let mut lists: Vec<RuleList> = others.map(|(_, list)| list.clone()).collect();
        lists.insert(0, whole);
        number(&mut lists, Rows::EveryCell);
        Self { left_out: Vec::new(), lists, ..self.clone() }
    }

    /// The places of the lists that a single list stands for, by [`Self::held_as_one`]; none where no list does.
    pub fn stood_for_in(&self, held: &Self) -> Vec<usize> {
        if held.list(Stage::Whole).is_none() {
            return Vec::new();
        }
        let gone = |list: &RuleList| {
            !held.lists.iter().any(|own| (own.stage, &own.name) == (list.stage, &list.name))
        };
        (0..self.lists.len()).filter(|place| gone(&self.lists[*place])).collect()
    }
}
