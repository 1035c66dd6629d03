//! The two ways to a verdict as ordered lines: what the plan means, and what the rules do. In this form both can be
//! sorted into one [`Partition`] and compared.

use super::cell::place;
use super::fate::Fate;
use super::joint::Side;
use super::partition::Partition;
use super::table::Table;
use crate::meaning::{Meaning, Step};
use crate::plan::Action;
use crate::rules::{Otherwise, Outcome, Rule, RuleList, RuleSet};
use crate::space::{AddressSet, Interface, IntervalSet, Match, PacketSet};
use crate::verdict::{Cause, Decision, Verdict};
use std::borrow::Cow;

/// What the plan expects of the packets of one decision: parts of them, each with its fate. Whatever is in
/// none of the parts is left out.
pub type Expects<'e> = &'e dyn Fn(Decision, &PacketSet) -> Vec<(PacketSet, Fate)>;

/// What a plan means, as lines; a line's owner is a place in the list of decisions.
pub(crate) struct MeaningLines<'f> {
    pub(crate) table: Table<'f>,
    pub(crate) decisions: Vec<Decision>,
}

/// What rules do, as lines; a line's owner is a place in the list of outcomes.
pub(crate) struct RuleLines<'f, 'r> {
    pub(crate) table: Table<'f>,
    pub(crate) outcomes: Vec<Outcome<'r>>,
    /// Where each of them stands: its list, its place there; the end of a list stands behind its rules.
    pub(crate) places: Vec<(usize, usize)>,
}

/// What of each exception's packets enters at an interface, and what then happens.
type Entering<'m> = Vec<(Decision, Cow<'m, PacketSet>)>;

/// How a meaning is read into lines.
pub(super) struct Reading<'r> {
    /// What a decision counts as.
    pub(super) fate: fn(Decision) -> Fate,
    /// What its packets are called in the table, if they are those of several plans.
    pub(super) side: Option<&'r Side>,
    /// Whether what asks for offered services is decided where it asks; else as what it becomes, on interfaces of
    /// its own.
    pub(super) offered_outside: bool,
    /// What is expected of a decision's packets, part by part, where that is more than its fate.
    pub(super) expects: Option<Expects<'r>>,
}

impl Default for Reading<'_> {
    fn default() -> Self {
        Self { fate: Fate::of, side: None, offered_outside: false, expects: None }
    }
}

impl<'f> MeaningLines<'f> {
    /// Goes through the steps of every interface.
    pub(super) fn new(
        meaning: &Meaning<'_>,
        partition: &'f Partition,
        reading: &Reading<'_>,
    ) -> Self {
        let mut lines = Self { table: Table::new(partition, 0), decisions: Vec::new() };
        let plan = meaning.plan();
        let by_interface = exceptions_by_interface(meaning);
        let gateway = plan.gateway_interface();
        let last =
            if reading.offered_outside { gateway } else { plan.translated_interface(gateway) };
        for interface in (0..=last.0).map(Interface) {
            let own =
                by_interface.get(usize::from(interface.0)).map(Vec::as_slice).unwrap_or_default();
            for step in meaning.steps(interface) {
                match step {
                    Step::Decide(packets, decision) => {
                        lines.push(&packets.as_ref().into(), decision, reading);
                    }
                    Step::Offered => lines.offered(meaning, interface, reading),
                    Step::Exceptions(destination) => {
                        let whole = destination == AddressSet::full();
                        let within = PacketSet::from(Match { destination, ..Match::everything() });
                        for (decision, packets) in own {
                            if whole {
                                lines.push(packets, *decision, reading);
                            } else if !packets.is_disjoint(&within) {
                                lines.push(&packets.intersection(&within), *decision, reading);
                            }
                        }
                    }
                }
            }
        }
        if let Some(side) = reading.side {
            // Where this plan has no interface at all, nothing gets in.
            let nothing =
                Decision { verdict: Verdict::Block, logged: false, cause: Cause::Unmatched };
            let owner = place(lines.decisions.len());
            lines.decisions.push(nothing);
            let enters = side.lacking().collect();
            let absent = Match { enters, ..Match::everything() };
            lines.table.push(&absent.into(), (reading.fate)(nothing), owner);
        }
        lines
    }

    /// What asks for offered services on an interface.
    fn offered(&mut self, meaning: &Meaning<'_>, interface: Interface, reading: &Reading<'_>) {
        for asked in meaning.asked_outside() {
            let enters = asked.enters.intersection(&IntervalSet::point(interface));
            let asked = PacketSet::from(Match { enters, ..asked });
            if reading.offered_outside {
                for part in meaning.parts(&asked) {
                    self.push(&part.packets, part.decision, reading);
                }
            } else {
                self.table.push(&asked, Fate::Unasked, u32::MAX);
            }
        }
    }

    fn push(&mut self, packets: &PacketSet, decision: Decision, reading: &Reading<'_>) {
        let owner = place(self.decisions.len());
        self.decisions.push(decision);
        if let Some(expects) = reading.expects {
            for (part, fate) in expects(decision, packets) {
                self.table.push(&part, fate, owner);
            }
            return;
        }
        let fate = (reading.fate)(decision);
        match reading.side {
            Some(side) => self.table.push(&side.joined(packets), fate, owner),
            None => self.table.push(packets, fate, owner),
        }
    }
}

/// The packets of exceptions by interface, in an order in which whoever is above another comes first. Then the
/// first that matches is at the top, and all at the top agree on the verdict. The first of the file speaks for
/// them: where that is another one, what the two share comes before.
fn exceptions_by_interface<'m>(meaning: &'m Meaning<'_>) -> Vec<Entering<'m>> {
    let plan = meaning.plan();
    let precedence = meaning.precedence();
    let interfaces = usize::from(plan.translated_interface(plan.gateway_interface()).0) + 1;
    let mut by_interface: Vec<Entering<'m>> = vec![Vec::new(); interfaces];
    let mut place = vec![0; plan.exceptions().len()];
    for (number, id) in precedence.order().iter().enumerate() {
        place[id.index()] = number;
    }
    let mut add = |decision, set: Cow<'m, PacketSet>| {
        let enters = set.enters();
        let one = matches!(enters.spans(), [(low, high)] if low == high);
        for interface in enters.spans().iter().flat_map(|(low, high)| low.0..=high.0) {
            let here =
                Match { enters: IntervalSet::point(Interface(interface)), ..Match::everything() };
            let part = if one { set.clone() } else { Cow::Owned(set.intersection(&here.into())) };
            by_interface[usize::from(interface)].push((decision, part));
        }
    };
    for &id in precedence.order() {
        for other in precedence.near(id).take_while(|other| *other < id) {
            let agree = plan.exception(other).action == plan.exception(id).action;
            let later = place[other.index()] > place[id.index()];
            if !agree || !later || precedence.are_related(id, other) {
                continue;
            }
            let both = precedence.set(id).intersection(precedence.set(other));
            let above = precedence.above(other).iter();
            let top = above.fold(both, |top, above| top.difference(precedence.set(*above)));
            if !top.is_empty() {
                add(meaning.exception(other), Cow::Owned(top));
            }
        }
        add(meaning.exception(id), Cow::Borrowed(precedence.set(id)));
    }
    by_interface
}

impl<'f, 'r> RuleLines<'f, 'r> {
    /// Goes through the lists in the order in which they are asked. `unasked` is what no list is asked
    /// about; `below` is how many lines of a cell are kept where nothing gets to them.
    pub(crate) fn new(
        rules: &'r RuleSet<'r>,
        partition: &'f Partition,
        unasked: &[Match],
        below: usize,
    ) -> Self {
        let mut lines =
            Self { table: Table::new(partition, below), outcomes: Vec::new(), places: Vec::new() };
        for set in unasked {
            lines.table.push(&set.into(), Fate::Unasked, u32::MAX);
        }
        lines.table.push(&rules.unseen, Fate::Unasked, u32::MAX);
        if !rules.before_translation {
            for translation in &rules.translations {
                lines.table.push(&(&translation.takes).into(), Fate::Unasked, u32::MAX);
            }
        }
        for (number, list) in rules.lists.iter().enumerate() {
            lines.list(number, list);
        }
        lines
    }

    fn list(&mut self, number: usize, list: &'r RuleList) {
        let whole = |rule: &Match| {
            // Most lists are for whole interfaces, so that nothing has to be cut off.
            let covers =
                list.covers.products().filter(|cover| !cover.enters.is_disjoint(&rule.enters));
            covers.map(|cover| rule.intersection(&cover)).collect::<Vec<_>>()
        };
        for (position, rule) in list.rules.iter().enumerate() {
            let Some(matches) = rule.first_packets() else { continue };
            let owner = place(self.outcomes.len());
            self.outcomes.push(Outcome::of(rule, list));
            self.places.push((number, position));
            for part in whole(matches) {
                self.table.push(&(&part).into(), fate(rule), owner);
            }
        }
        let end = match list.otherwise {
            Otherwise::GoOn => return,
            Otherwise::Allow => Action::Allow,
            Otherwise::Block => Action::Block,
        };
        let owner = place(self.outcomes.len());
        self.outcomes.push(Outcome::end(end));
        self.places.push((number, usize::MAX));
        self.table.push(&list.covers, Fate::Decided(end, false), owner);
    }

    /// The rule behind a line.
    pub(crate) fn rule(&self, owner: u32) -> Option<&'r Rule> {
        self.outcomes.get(owner as usize).and_then(|outcome| outcome.rule)
    }
}

fn fate(rule: &Rule) -> Fate {
    Fate::Decided(rule.action, rule.log)
}
