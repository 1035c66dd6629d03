//! Turns an exact match into lines of tests, given which packets can reach the chain at all.

use super::WriteContext;
use super::addresses::Known;
use super::test::{End, Test};
use super::{hours, service};
use bastium_core::plan::Plan;
use bastium_core::space::{AddressSet, Family, Interface, IntervalSet, Match, ServiceSet};

const FAMILIES: [Family; 2] = [Family::V4, Family::V6];

/// What can come to a chain.
pub(super) struct ListContext {
    /// The interfaces, those of translated packets by themselves.
    pub(super) enters: IntervalSet<Interface>,
    /// By interface from outside: the sources that can come by it.
    pub(super) sources: Vec<AddressSet>,
    /// The destinations.
    pub(super) destinations: AddressSet,
}

/// The interfaces of a set: plain ones, and those by which translated packets came.
fn interfaces(plan: &Plan, enters: &IntervalSet<Interface>) -> (Vec<Interface>, Vec<Interface>) {
    let last = plan.translated_interface(plan.gateway_interface());
    let spans = enters.spans().iter();
    let all = spans.flat_map(|(low, high)| (low.0..=high.0.min(last.0)).map(Interface));
    let (translated, plain): (Vec<Interface>, Vec<Interface>) =
        all.partition(|interface| plan.is_translated(*interface));
    (plain, translated.into_iter().map(|interface| plan.came_by(interface)).collect())
}

impl WriteContext<'_> {
    fn names(&self, interfaces: &[Interface]) -> Vec<String> {
        let known =
            interfaces.iter().filter_map(|interface| self.interfaces.get(usize::from(interface.0)));
        known.cloned().collect()
    }

    /// Where a packet may enter: one list of tests for each way to pass, with the interfaces of that way.
    fn entries(
        &self,
        enters: &IntervalSet<Interface>,
        context: &ListContext,
        family: Family,
    ) -> Vec<(Vec<Test>, Vec<Interface>)> {
        let (mut all, mut all_translated) = interfaces(self.plan, &context.enters);
        let (mut plain, mut translated) =
            interfaces(self.plan, &enters.intersection(&context.enters));
        for interfaces in [&mut all, &mut all_translated, &mut plain, &mut translated] {
            interfaces.retain(|interface| *interface < self.plan.gateway_interface());
        }
        if all.is_empty() {
            // Nothing but what the gateway itself begins.
            return if enters.is_disjoint(&context.enters) {
                vec![]
            } else {
                vec![(vec![], vec![])]
            };
        }
        if family == Family::V6 {
            // Nothing is translated there.
            (all_translated, translated) = (Vec::new(), Vec::new());
        }
        let by = |interfaces: &[Interface], all: &[Interface]| {
            if interfaces == all { Vec::new() } else { vec![Test::In(self.names(interfaces))] }
        };
        let mut ways = Vec::new();
        if plain == translated || all_translated.is_empty() {
            if !plain.is_empty() {
                ways.push((by(&plain, &all), plain));
            }
            return ways;
        }
        for (interfaces, all, yes) in [(plain, &all, false), (translated, &all_translated, true)] {
            if !interfaces.is_empty() {
                let mut tests = by(&interfaces, all);
                tests.push(Test::Translated(yes));
                ways.push((tests, interfaces));
            }
        }
        ways
    }

    /// The tests for a match, in a chain to which only what is in the context comes: one list for each
    /// way to pass.
    pub(super) fn lines(
        &self,
        known: &Known,
        product: &Match,
        context: &ListContext,
    ) -> Vec<Vec<Test>> {
        let [v4, v6] = FAMILIES.map(|family| self.of_family(known, product, context, family));
        let (plain, translated) = interfaces(self.plan, &context.enters);
        let here = plain.into_iter().chain(translated);
        // What the gateway itself begins may have any source.
        let here: Vec<Interface> =
            here.filter(|interface| *interface < self.plan.gateway_interface()).collect();
        let possible =
            |family| context.has_sources(&here, family) && has_any(&context.destinations, family);
        let both = possible(Family::V4) && possible(Family::V6);
        let tells = |tests: &[Test]| !both || tests.iter().any(|test| test.family().is_some());
        // What holds for both families alike is said once.
        let mut lines: Vec<Vec<Test>> = Vec::new();
        for tests in &v4 {
            if tells(tests) || v6.contains(tests) {
                lines.push(tests.clone());
            } else {
                lines.push(with_family(tests, Family::V4));
            }
        }
        for tests in v6 {
            if v4.contains(&tests) && !tests.iter().any(|test| test.family().is_some()) {
                continue;
            }
            lines.push(if tells(&tests) { tests } else { with_family(&tests, Family::V6) });
        }
        lines
    }

    fn of_family(
        &self,
        known: &Known,
        product: &Match,
        context: &ListContext,
        family: Family,
    ) -> Vec<Vec<Test>> {
        let line = match family {
            Family::V4 => &product.service.v4,
            Family::V6 => &product.service.v6,
        };
        let services = service::ways(line, family);
        let times = match self.options.at {
            Some(now) if product.at.contains(now) => vec![Vec::new()],
            Some(_) => return Vec::new(),
            None => hours::ways(&product.at),
        };
        let to = known.ways(End::Destination, family, &product.destination, &context.destinations);
        let mut lines = Vec::new();
        for (enter, interfaces) in self.entries(&product.enters, context, family) {
            let sources = context.sources_of(&interfaces);
            for from in known.ways(End::Source, family, &product.source, &sources) {
                for to in &to {
                    for service in &services {
                        for time in &times {
                            let parts = [&enter, &from, to, service, time];
                            lines.push(parts.into_iter().flatten().cloned().collect());
                        }
                    }
                }
            }
        }
        lines
    }
}

impl ListContext {
    /// The sources that can come by these interfaces; any, for connections that the gateway opens itself.
    fn sources_of(&self, interfaces: &[Interface]) -> AddressSet {
        if interfaces.is_empty() {
            return AddressSet::full();
        }
        self.sources_by(interfaces).cloned().collect()
    }

    /// Whether some of them are in a family.
    fn has_sources(&self, interfaces: &[Interface], family: Family) -> bool {
        interfaces.is_empty() || self.sources_by(interfaces).any(|part| has_any(part, family))
    }

    fn sources_by(&self, interfaces: &[Interface]) -> impl Iterator<Item = &AddressSet> {
        interfaces.iter().filter_map(|interface| self.sources.get(usize::from(interface.0)))
    }
}

/// Whether a set has an address of a family.
fn has_any(set: &AddressSet, family: Family) -> bool {
    match family {
        Family::V4 => !set.v4.is_empty(),
        Family::V6 => !set.v6.is_empty(),
    }
}

fn with_family(tests: &[Test], family: Family) -> Vec<Test> {
    let mut tests = tests.to_vec();
    // `meta nfproto ipv4 meta l4proto icmp` is printed without its first half by nft 1.0.6.
    let alone = |test: &Test| matches!(test, Test::Protocols { numbers, not: false } if matches!(numbers[..], [1] | [58]));
    let place = if tests.iter().any(alone) { tests.len() } else { 0 };
    tests.insert(place, Test::Family(family));
    tests
}

/// The part of a match that asks for TCP, and the rest.
pub(super) fn tcp_apart(product: &Match) -> [Match; 2] {
    use bastium_core::space::Protocol;
    let tcp = ServiceSet::protocol(Protocol::TCP);
    let service = &product.service;
    [service.intersection(&tcp), service.difference(&tcp)]
        .map(|service| Match { service, ..product.clone() })
}
