//! Restricts a rule to a list that covers only part of the traffic, such as one pair of zones or one interface.

use super::writer::Base;
use super::{Endpoint, Rule, RuleId};
use crate::plan::Plan;
use crate::space::{AddressSet, Interface, IntervalSet, Match, PacketSet};
use crate::verdict::Cause;

/// In a list longer than this, pieces are not looked at closely.
const MOST_ABOVE: usize = 200;

/// The part of the traffic that a list is for.
#[derive(Clone)]
pub(super) struct Part {
    /// Where its packets enter.
    pub(super) enters: IntervalSet<Interface>,
    /// The sources that its packets truly have.
    pub(super) sources: AddressSet,
    /// Where they go.
    pub(super) destination: AddressSet,
    /// The sources and destinations that an entry has to speak of all of, to be said of anyone: addresses of
    /// devices. A network address, say, is none, and yet packets can be for it.
    pub(super) anyone: [AddressSet; 2],
    /// All its packets.
    pub(super) packets: PacketSet,
    /// What ids of rules in the list end with.
    pub(super) mark: String,
    /// Where its packets come from, in words.
    pub(super) from: Endpoint,
    /// Where they go; `None` where that is not the same for all.
    pub(super) to: Option<Endpoint>,
}

impl Part {
    /// What a rule is in this part's list; `None` where it has nothing to say there.
    pub(super) fn restrict(&self, plan: &Plan, base: &Base, rule: &Rule) -> Option<Rule> {
        let matches = rule.packets()?;
        let enters = matches.enters.intersection(&self.enters);
        if enters.is_empty()
            || matches.source.is_disjoint(&self.sources)
            || matches.destination.is_disjoint(&self.destination)
            || !base.meets(rule, &self.packets)
        {
            return None;
        }
        let mut restricted = rule.clone();
        restricted.id = self.id(&rule.id);
        restricted.from.clone_from(&self.from);
        restricted.source = words(plan, &rule.source, &matches.source, &self.anyone[0]);
        if let Some(to) = &self.to {
            restricted.to.clone_from(to);
            if *to != Endpoint::Gateway {
                restricted.destination =
                    words(plan, &rule.destination, &matches.destination, &self.anyone[1]);
            }
        }
        if let Some(matches) = restricted.packets_mut() {
            matches.enters = enters;
        }
        Some(restricted)
    }

    /// Leaves out pieces that nothing comes to here, because others stand above them: what an entry says
    /// elsewhere need not be entered where it says nothing.
    pub(super) fn alive(&self, base: &Base, rules: Vec<Rule>) -> Vec<Rule> {
        let mut kept: Vec<Rule> = Vec::with_capacity(rules.len());
        let mut taken: Vec<PacketSet> = Vec::new();
        for rule in rules {
            if let Some(mut rest) = self.meets(base, &rule).filter(|_| taken.len() < MOST_ABOVE) {
                for above in &taken {
                    if !rest.is_disjoint(above) {
                        rest = rest.difference(above);
                    }
                }
                if rest.is_empty() {
                    continue;
                }
            }
            taken.extend(rule.first_packets().map(PacketSet::from));
            kept.push(rule);
        }
        kept
    }

    /// The packets of this part that an exception or a cell can meet; `None` for a rule of another kind.
    fn meets(&self, base: &Base, rule: &Rule) -> Option<PacketSet> {
        if let Some(id) = rule.cause.exception() {
            return Some(base.meets[id.index()].intersection(&self.packets));
        }
        let cell = rule.first_packets().filter(|_| matches!(rule.cause, Cause::Cell(..)))?;
        let source = cell.source.intersection(&self.sources);
        Some(PacketSet::from(Match { source, ..cell.clone() }).intersection(&self.packets))
    }

    /// The id of a rule here: what it is, then the list, then which part of the entry it is.
    pub(super) fn id(&self, id: &RuleId) -> RuleId {
        id.in_list(self.mark.clone())
    }
}

/// What a rule says of one end, in a list that is only for what lies `here`.
fn words(plan: &Plan, says: &Endpoint, set: &AddressSet, here: &AddressSet) -> Endpoint {
    if here.is_subset(set) {
        return Endpoint::Any;
    }
    let own = set.intersection(here);
    // What nobody has lies in no zone, though packets to it lead there.
    if own == *set || own.is_empty() {
        return says.clone();
    }
    named(plan, &own)
}

/// A set of addresses by the name of the place that has just these, or as it is.
pub(super) fn named(plan: &Plan, addresses: &AddressSet) -> Endpoint {
    let name = plan.name_in_family(addresses);
    Endpoint::expression(name.unwrap_or_else(|| plan.set_words(addresses).join(", ")))
}
