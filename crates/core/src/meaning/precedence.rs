//! Which exception is asked first where several match, and whether that leaves a contradiction.
//!
//! An exception that lies within another one goes first; `before` settles the rest. Containment is judged on the
//! packets that an exception can still decide, so that spoofed packets, or a broadcast address at the end of a range,
//! do not make an exception wider than it looks.

use super::address_facts::AddressFacts;
use crate::addressing::link_local;
use crate::diagnosis::{Diagnose, Diagnosis, Severity};
use crate::example;
use crate::graph;
use crate::name::Name;
use crate::plan::{Action, Exception, ExceptionId, Plan};
use crate::source::Span;
use crate::space::{AddressSet, IntervalSet, Match, Nearby, Packet, PacketSet, ServiceSet};

/// One side of a contradiction.
#[derive(Clone, Debug, PartialEq, Eq)]
#[non_exhaustive]
pub struct Party {
    /// The exception.
    pub name: Name,
    /// What it says.
    pub action: Action,
    /// Where it stands.
    pub at: Span,
}

impl Party {
    fn of(exception: &Exception) -> Self {
        Self { name: exception.name.clone(), action: exception.action, at: exception.at }
    }
}

/// Why exceptions have no order.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum OrderProblem {
    /// Two of them say different things about one packet, and nothing says which goes first.
    Contradiction {
        /// The one that stands first in the file.
        one: Party,
        /// The other.
        other: Party,
        /// A packet on which they differ.
        packet: Packet,
        /// The packet in words.
        words: String,
    },
    /// Each of them goes above the next, and the last above the first.
    Circle {
        /// The exceptions in turn.
        parties: Vec<Party>,
    },
}

impl OrderProblem {
    /// The other exception of a contradiction.
    pub fn other_than(&self, exception: &Exception) -> Option<Name> {
        let Self::Contradiction { one, other, .. } = self else { return None };
        let found = [one, other].into_iter().find(|party| party.name != exception.name);
        found.map(|party| party.name.clone())
    }

    /// Whether it is one of this exception.
    pub fn concerns(&self, exception: &Exception) -> bool {
        match self {
            Self::Contradiction { one, other, .. } => {
                [one, other].iter().any(|p| p.name == exception.name)
            }
            Self::Circle { parties } => parties.iter().any(|p| p.name == exception.name),
        }
    }
}

impl Diagnose for OrderProblem {
    fn diagnose(&self) -> Diagnosis {
        match self {
            Self::Contradiction { one, other, words, .. } => {
                Diagnosis::new("contradiction", Severity::Error, Some(other.at))
                    .says(format!(
                        "exceptions `{}` ({}) and `{}` ({}) contradict each other on {words}",
                        one.name, one.action.word(), other.name, other.action.word(),
                    ))
                    .why("neither is narrower than the other, so their order is undefined")
                    .help(format!(
                        "add `before = [\"{}\"]` to `{}`, or `before = [\"{}\"]` to `{}`, or make one of them narrower",
                        one.name, other.name, other.name, one.name,
                    ))
                    .also(one.at, format!("says {}", one.action.word()))
            }
            Self::Circle { parties } => {
                let names: Vec<&str> = parties.iter().map(|p| p.name.as_str()).collect();
                let first = parties.first().map_or(Span::default(), |party| party.at);
                Diagnosis::new("order-circle", Severity::Error, Some(first))
                    .says(format!("the order of these exceptions is circular: {}", names.join(" above ")))
                    .why("a narrower exception always goes above a wider one, and `before` cannot reverse that")
                    .help("remove one of the names from `before`")
            }
        }
    }
}

/// The exceptions that take part, what each can decide, and which stand directly above it.
#[derive(Clone, Debug)]
pub struct Precedence {
    active: Vec<ExceptionId>,
    sets: Vec<PacketSet>,
    above: Vec<Vec<ExceptionId>>,
    near: Vec<Vec<usize>>,
    nearby: Nearby,
    order: Vec<ExceptionId>,
}

impl Precedence {
    pub(super) fn new(
        plan: &Plan,
        facts: &AddressFacts,
        active: Vec<ExceptionId>,
    ) -> Result<Self, Vec<OrderProblem>> {
        let count = plan.exceptions().len();
        let mut sets = vec![PacketSet::empty(); count];
        let (passing, arriving) = (facts.passing(), facts.arriving());
        for &id in &active {
            sets[id.index()] = decidable(plan.exception(id), facts, &passing, &arriving);
        }
        let nearby = Nearby::new(&sets);
        let near = nearby.neighbours(&sets);
        let above = vec![Vec::new(); count];
        let mut precedence = Self { active, sets, above, near, nearby, order: Vec::new() };
        precedence.find_above(plan);
        if let Some(circle) = precedence.put_in_order() {
            let parties = circle.iter().map(|id| Party::of(plan.exception(*id))).collect();
            return Err(vec![OrderProblem::Circle { parties }]);
        }
        let contradictions = precedence.contradictions(plan);
        if contradictions.is_empty() { Ok(precedence) } else { Err(contradictions) }
    }

    /// The exceptions that take part, in the file's order.
    pub fn active(&self) -> &[ExceptionId] {
        &self.active
    }

    /// The packets that an exception matches and can still decide; empty if it takes no part.
    pub fn set(&self, id: ExceptionId) -> &PacketSet {
        &self.sets[id.index()]
    }

    /// The exceptions directly above one: strictly narrower ones, and those that say `before`.
    pub fn above(&self, id: ExceptionId) -> &[ExceptionId] {
        &self.above[id.index()]
    }

    /// Those that take part, in an order in which each comes before those that it is above; else the file's.
    pub fn order(&self) -> &[ExceptionId] {
        &self.order
    }

    /// Whether one of the two is directly above the other.
    pub fn are_related(&self, one: ExceptionId, other: ExceptionId) -> bool {
        self.above(one).contains(&other) || self.above(other).contains(&one)
    }

    /// The others that one may share a packet with, in the file's order; an exception that is not named shares none.
    pub fn near(&self, id: ExceptionId) -> impl Iterator<Item = ExceptionId> + '_ {
        self.near[id.index()].iter().copied().map(ExceptionId)
    }

    /// Those that may decide a packet of a set, in the file's order; an exception that is not named decides none.
    pub fn near_set(&self, set: &PacketSet) -> impl Iterator<Item = ExceptionId> + '_ {
        self.nearby.to(set).into_iter().map(ExceptionId)
    }

    /// Those that may decide a packet, in the file's order; nobody else does.
    pub fn near_packet(&self, packet: &Packet) -> impl Iterator<Item = ExceptionId> + '_ {
        self.nearby.around(packet).into_iter().map(ExceptionId)
    }

    fn find_above(&mut self, plan: &Plan) {
        // A narrower set holds no packet that the wider one has not: one packet rules most pairs out.
        let samples: Vec<Option<Packet>> = self.sets.iter().map(PacketSet::sample).collect();
        for &wide in &self.active {
            for narrow in self.near[wide.index()].iter().copied().map(ExceptionId) {
                let Some(sample) = samples[narrow.index()] else { continue };
                let (a, b) = (&self.sets[narrow.index()], &self.sets[wide.index()]);
                if b.contains(&sample) && a.is_subset(b) && !b.is_subset(a) {
                    self.above[wide.index()].push(narrow);
                }
            }
        }
        for &first in &self.active {
            for (second, _) in &plan.exception(first).before {
                let above = &mut self.above[second.index()];
                if self.active.contains(second) && !above.contains(&first) {
                    above.push(first);
                }
            }
        }
    }

    /// Puts those that take part in order, or finds a circle in the relation, each above the next.
    fn put_in_order(&mut self) -> Option<Vec<ExceptionId>> {
        let numbers = |ids: &Vec<ExceptionId>| ids.iter().map(|id| id.index()).collect();
        let needs: Vec<Vec<usize>> = self.above.iter().map(numbers).collect();
        let sorted = graph::sort(&needs);
        let mut takes_part = vec![false; needs.len()];
        for id in &self.active {
            takes_part[id.index()] = true;
        }
        let order = sorted.order.into_iter().filter(|index| takes_part[*index]);
        self.order = order.map(ExceptionId).collect();
        Some(sorted.circle?.into_iter().rev().map(ExceptionId).collect())
    }

    /// Every pair that says different things about a packet for which both are at the top.
    fn contradictions(&self, plan: &Plan) -> Vec<OrderProblem> {
        let mut found = Vec::new();
        for &one in &self.active {
            for other in self.near(one).filter(|other| *other > one) {
                let (a, b) = (plan.exception(one), plan.exception(other));
                let related = self.above(one).contains(&other) || self.above(other).contains(&one);
                if a.action == b.action || related || self.set(one).is_disjoint(self.set(other)) {
                    continue;
                }
                if let Some(packet) = example::packet(plan, &self.both_top(one, other)) {
                    let words = plan.packet_words(&packet);
                    let (one, other) = (Party::of(a), Party::of(b));
                    found.push(OrderProblem::Contradiction { one, other, packet, words });
                }
            }
        }
        found
    }

    fn both_top(&self, one: ExceptionId, other: ExceptionId) -> PacketSet {
        let both = self.set(one).intersection(self.set(other));
        let above = self.above(one).iter().chain(self.above(other));
        above.fold(both, |top, id| top.difference(self.set(*id)))
    }
}

/// The packets that an exception matches among those that get as far as exceptions at all: on their
/// way through, on their way to the gateway, or begun by it.
fn decidable(
    exception: &Exception,
    facts: &AddressFacts,
    passing: &[Match],
    arriving: &[Match],
) -> PacketSet {
    let (from, to) = (&exception.from, &exception.to);
    let (service, minutes) = (&exception.service.set, exception.minutes());
    if let Some(index) = exception.inbound {
        return offered(exception, index, facts, passing);
    }
    let mut products = Vec::new();
    let mut clip = |reach: &Match, source: &AddressSet, destination: &AddressSet| {
        if reach.source.is_disjoint(source) || reach.destination.is_disjoint(destination) {
            return;
        }
        products.push(Match {
            enters: reach.enters.clone(),
            source: reach.source.intersection(source),
            destination: reach.destination.intersection(destination),
            service: reach.service.intersection(service),
            at: minutes.clone(),
        });
    };
    for reach in passing {
        clip(reach, &from.addresses, &to.addresses);
    }
    if to.gateway {
        for reach in arriving {
            clip(reach, &from.addresses, &AddressSet::full());
            let enters = reach.enters.intersection(&from.links);
            if !enters.is_empty() {
                // A device on the link of a network that is named belongs to it.
                clip(&Match { enters, ..reach.clone() }, &link_local(), &AddressSet::full());
            }
        }
    }
    if from.gateway {
        let enters = IntervalSet::point(facts.gateway_interface);
        let service = ServiceSet::any().difference(&facts.lives_by);
        let begun = Match { enters, service, ..Match::everything() };
        clip(&begun, &AddressSet::full(), &to.addresses);
    }
    products.into_iter().collect()
}

/// What an offered service lets in: translated packets, and in IPv6, which nobody translates, those
/// that go to the host itself. Where nothing is translated that holds for both families.
fn offered(
    exception: &Exception,
    index: usize,
    facts: &AddressFacts,
    passing: &[Match],
) -> PacketSet {
    let translated = facts.translated.iter().filter(|entry| entry.0 == index);
    let at = exception.minutes();
    let translated = translated.map(|entry| Match { at: at.clone(), ..entry.1.clone() });
    let untranslated = passing.iter().filter(|reach| {
        reach.enters.first().is_some_and(|interface| interface <= facts.gateway_interface)
    });
    let mut destination = exception.to.addresses.clone();
    if exception.translated {
        destination.v4 = IntervalSet::empty();
    }
    let direct = untranslated.map(|reach| Match {
        enters: reach.enters.clone(),
        source: reach.source.intersection(&exception.from.addresses),
        destination: reach.destination.intersection(&destination),
        service: exception.service.set.clone(),
        at: at.clone(),
    });
    translated.chain(direct).collect()
}
