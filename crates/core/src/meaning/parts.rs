//! The meaning for a whole packet set: each step takes out what it decides and leaves the rest to the next.

use super::Meaning;
use super::steps::Step;
use crate::plan::ExceptionId;
use crate::space::{Interface, IntervalSet, Match, PacketSet};
use crate::verdict::Decision;

/// A set of packets to which the same thing happens, for the same reason.
#[derive(Clone, Debug)]
pub struct Part {
    /// The packets.
    pub packets: PacketSet,
    /// What happens to them.
    pub decision: Decision,
}

/// What is not yet decided, and the parts so far.
pub(super) struct Cutter {
    pub(super) rest: PacketSet,
    pub(super) parts: Vec<Part>,
}

impl Cutter {
    pub(super) fn new(rest: PacketSet) -> Self {
        Self { rest, parts: Vec::new() }
    }

    fn cut_set(&mut self, set: &PacketSet, decision: Decision) {
        if self.rest.is_disjoint(set) {
            return;
        }
        let packets = self.rest.intersection(set);
        self.rest = self.rest.difference(set);
        self.keep(Part { packets, decision });
    }

    /// Adds a part to those that are decided.
    pub(super) fn keep(&mut self, part: Part) {
        match self.parts.iter_mut().find(|known| known.decision == part.decision) {
            Some(known) => known.packets = known.packets.union(&part.packets),
            None => self.parts.push(part),
        }
    }
}

impl Meaning<'_> {
    /// Cuts a set into parts to which the same happens for the same reason.
    ///
    /// The parts are disjoint, and together they are the set again, except for packets that enter at interfaces that
    /// the plan does not have. For each packet of a part, [`decide`](Self::decide) returns the decision of the part.
    ///
    /// ```
    /// use bastium_core::meaning::Meaning;
    /// use jiff::civil::date;
    ///
    /// # let text = std::fs::read("tests/two-networks.toml").expect("a file");
    /// # let plan = bastium_planfile::read("plan.toml", &text).expect("a plan without errors");
    /// let meaning = Meaning::new(&plan, date(2026, 6, 1)).expect("no contradictions");
    /// let parts = meaning.parts(&meaning.universe());
    /// // Every part has packets, and each of them fares as the part says.
    /// for part in &parts {
    ///     let packet = part.packets.sample().expect("no part is empty");
    ///     assert_eq!(meaning.decide(&packet), part.decision);
    /// }
    /// ```
    pub fn parts(&self, set: &PacketSet) -> Vec<Part> {
        let set = set.intersection(&self.universe());
        let mut all = Cutter::new(PacketSet::empty());
        let destinations = set.destinations();
        for interface in self.interfaces_of(&set) {
            let here = Match { enters: IntervalSet::point(interface), ..Match::everything() };
            let mut cutter = Cutter::new(set.intersection(&here.into()));
            for step in self.steps_to(interface, &destinations) {
                if cutter.rest.is_empty() {
                    break;
                }
                self.take(&step, &mut cutter);
            }
            debug_assert!(cutter.rest.is_empty(), "the cells take all that is left");
            cutter.parts.into_iter().for_each(|part| all.keep(part));
        }
        all.parts
    }

    /// The same, as if the plan had no exceptions; what is offered is not looked at.
    pub(crate) fn parts_without_exceptions(&self, set: &PacketSet) -> Vec<Part> {
        let mut all = Cutter::new(set.intersection(&self.universe()));
        for interface in self.interfaces_of(set) {
            for step in self.steps(interface) {
                if let Step::Decide(packets, decision) = step {
                    all.cut_set(&(*packets).into(), decision);
                }
            }
        }
        all.parts
    }

    /// The interfaces at which the packets of a set enter.
    pub(super) fn interfaces_of(&self, set: &PacketSet) -> Vec<Interface> {
        let enters = set.enters();
        let last = self.plan.translated_interface(self.facts.gateway_interface);
        (0..=last.0).map(Interface).filter(|interface| enters.contains(*interface)).collect()
    }

    pub(super) fn take(&self, step: &Step, cutter: &mut Cutter) {
        match step {
            Step::Decide(packets, decision) => cutter.cut_set(&packets.as_ref().into(), *decision),
            Step::Offered => self.cut_offered(cutter),
            Step::Exceptions(destination) => {
                let destination = destination.clone();
                let within = PacketSet::from(Match { destination, ..Match::everything() });
                let mut inner = Cutter::new(cutter.rest.intersection(&within));
                if inner.rest.is_empty() {
                    return;
                }
                let outer = cutter.rest.difference(&within);
                self.cut_exceptions(&mut inner);
                inner.parts.into_iter().for_each(|part| cutter.keep(part));
                cutter.rest = outer.union(&inner.rest);
            }
        }
    }

    /// Each exception, in the file's order, decides what it matches and nothing directly above it
    /// does: a later one cannot say otherwise about the same packet.
    fn cut_exceptions(&self, cutter: &mut Cutter) {
        let near = self.precedence.near_set(&cutter.rest);
        let near: Vec<ExceptionId> =
            near.filter(|id| !cutter.rest.is_disjoint(self.precedence.set(*id))).collect();
        for &id in &near {
            let mut top = cutter.rest.intersection(self.precedence.set(id));
            for above in self.precedence.above(id) {
                if top.is_empty() {
                    break;
                }
                if near.binary_search(above).is_ok() {
                    top = top.difference(self.precedence.set(*above));
                }
            }
            cutter.cut_set(&top, self.exception(id));
        }
    }
}
