//! The order of exceptions: narrow above wide, `before` where the plan says so, else the plan's own.

use super::implicit_traffic;
use crate::addressing::link_local;
use crate::graph;
use crate::plan::{Exception, ExceptionId, Plan};
use crate::space::{AddressSet, IntervalSet, Match, Minute, Nearby, Packet, PacketSet, ServiceSet};
use jiff::civil::Date;
use std::collections::HashMap;

/// One line that an exception becomes: the exception whole, or a part of one that has to stand
/// higher than the rest of it.
pub(super) struct Line {
    pub(super) exception: ExceptionId,
    /// The packets, where they are not all of the exception's.
    pub(super) part: Option<Match>,
}

/// The exceptions of a day in the order in which their rules go; and which packets each exception can
/// meet, by its place in the plan's list.
pub(super) fn lines(plan: &Plan, day: Date) -> (Vec<Line>, Vec<PacketSet>) {
    let order = Order::new(plan, day);
    let mut lines = Vec::new();
    let sorted = graph::sort(&order.above).order;
    let mut places = vec![0; sorted.len()];
    for (place, &index) in sorted.iter().enumerate() {
        places[index] = place;
    }
    for (place, &index) in sorted.iter().enumerate() {
        // An exception that stands earlier in the file gives the log line where the two agree on the
        // verdict, even if its own place in the list is further down.
        let mut below: Vec<usize> =
            order.near[index].iter().copied().filter(|other| places[*other] > place).collect();
        below.sort_by_key(|other| places[*other]);
        for later in below {
            lines.extend(order.logged_by(plan, later, index));
        }
        lines.push(Line { exception: order.ids[index], part: None });
    }
    let mut meets = vec![PacketSet::empty(); plan.exceptions().len()];
    for (id, set) in order.ids.iter().zip(order.sets) {
        meets[id.index()] = set;
    }
    (lines, meets)
}

/// The exceptions that count, and the relation between them. Indices are places in `ids`.
struct Order {
    ids: Vec<ExceptionId>,
    sets: Vec<PacketSet>,
    above: Vec<Vec<usize>>,
    near: Vec<Vec<usize>>,
}

impl Order {
    fn new(plan: &Plan, day: Date) -> Self {
        let counts = |id: &ExceptionId| plan.exception(*id).counts_on(day);
        let ids: Vec<ExceptionId> =
            (0..plan.exceptions().len()).map(ExceptionId).filter(counts).collect();
        let reach = Reach::new(plan, day);
        let sets: Vec<PacketSet> = ids.iter().map(|id| reach.of(plan.exception(*id))).collect();
        let samples: Vec<Option<Packet>> = sets.iter().map(PacketSet::sample).collect();
        let near = Nearby::new(&sets).neighbours(&sets);
        let mut above = vec![Vec::new(); ids.len()];
        for (wide, above) in above.iter_mut().enumerate() {
            for &narrow in &near[wide] {
                let inside = samples[narrow].is_some_and(|packet| sets[wide].contains(&packet));
                let is_narrower =
                    || sets[narrow].is_subset(&sets[wide]) && !sets[wide].is_subset(&sets[narrow]);
                if inside && is_narrower() {
                    above.push(narrow);
                }
            }
        }
        let places: HashMap<ExceptionId, usize> =
            ids.iter().enumerate().map(|(place, id)| (*id, place)).collect();
        for (first, id) in ids.iter().enumerate() {
            let before = plan.exception(*id).before.iter().filter_map(|(id, _)| places.get(id));
            for &second in before.filter(|second| **second != first) {
                if !above[second].contains(&first) {
                    above[second].push(first);
                }
            }
        }
        Self { ids, sets, above, near }
    }

    /// The packets that `later` must log, though `earlier` matches them first: both are at the top,
    /// they differ in logging only, and `later` stands first in the file.
    fn logged_by(&self, plan: &Plan, later: usize, earlier: usize) -> Vec<Line> {
        let (a, b) = (plan.exception(self.ids[later]), plan.exception(self.ids[earlier]));
        let differ = later < earlier && a.log != b.log && a.action == b.action;
        let related = self.above[later].contains(&earlier) || self.above[earlier].contains(&later);
        if !differ || related || self.sets[later].is_disjoint(&self.sets[earlier]) {
            return Vec::new();
        }
        let both = self.sets[later].intersection(&self.sets[earlier]);
        let above = self.above[later].iter().chain(&self.above[earlier]);
        let top = above.fold(both, |top, index| top.difference(&self.sets[*index]));
        let lines =
            top.products().map(|part| Line { exception: self.ids[later], part: Some(part) });
        lines.collect()
    }
}

/// Which packets an exception's rules can meet.
struct Reach {
    never_routed: Vec<PacketSet>,
    /// Every interface from outside the gateway, with the sources that are not spoofed there.
    entries: Vec<(Match, AddressSet)>,
    for_gateway: PacketSet,
    never_arriving: Vec<PacketSet>,
    begun: Match,
    /// What offered services let in, by their places in the plan's list.
    offered: Vec<(usize, PacketSet)>,
}

impl Reach {
    fn new(plan: &Plan, day: Date) -> Self {
        let for_gateway = implicit_traffic::for_gateway(plan);
        let mut never_routed: Vec<PacketSet> =
            implicit_traffic::never_routed(plan).into_iter().map(PacketSet::from).collect();
        never_routed.push(for_gateway.clone());
        let spoofed = plan.network_ids().map(|id| implicit_traffic::spoofed_at_network(plan, id));
        let outside =
            (0..plan.uplinks().len()).map(|i| implicit_traffic::spoofed_at_uplink(plan, i));
        let needs = Match { service: implicit_traffic::ipv6_needs(), ..Match::everything() };
        let rest = [
            implicit_traffic::spoofed_unspecified(plan),
            implicit_traffic::spoofed_to_private(plan),
            needs,
        ];
        Self {
            never_routed,
            entries: implicit_traffic::entries(plan),
            for_gateway,
            never_arriving: spoofed.chain(outside).chain(rest).map(PacketSet::from).collect(),
            begun: Match {
                enters: IntervalSet::point(plan.gateway_interface()),
                service: ServiceSet::any().difference(&implicit_traffic::lives_by(plan)),
                ..Match::everything()
            },
            offered: super::translations(plan, day)
                .map(|(index, inbound)| {
                    (index, implicit_traffic::offered(plan, inbound).into_iter().collect())
                })
                .collect(),
        }
    }

    fn of(&self, exception: &Exception) -> PacketSet {
        let (from, to) = (&exception.from, &exception.to);
        let product = |base: &Match, source: AddressSet, destination: AddressSet| {
            PacketSet::from(Match {
                enters: base.enters.clone(),
                source,
                destination,
                service: base.service.intersection(&exception.service.set),
                at: exception.minutes(),
            })
        };
        let without = |set: PacketSet, never: &[PacketSet]| {
            let touched = never.iter().filter(|gone| !set.is_disjoint(gone));
            touched.fold(set.clone(), |rest, gone| rest.difference(gone))
        };
        let mut direct = to.addresses.clone();
        if exception.translated {
            direct.v4 = IntervalSet::empty();
        }
        // Interface by interface, and only where something of it can enter: what is spoofed need not be cut off.
        let entering = |destination: &AddressSet| -> PacketSet {
            let here = self.entries.iter().filter_map(|(interface, true_sources)| {
                let source = true_sources.intersection(&from.addresses);
                (!source.is_empty()).then(|| product(interface, source, destination.clone()))
            });
            here.fold(PacketSet::empty(), |all, part| all.union(&part))
        };
        let mut all = without(entering(&direct), &self.never_routed);
        let translated =
            product(&Match::everything(), from.addresses.clone(), to.addresses.clone());
        for (index, offered) in &self.offered {
            if exception.inbound.is_none_or(|own| own == *index) {
                all = all.union(&offered.intersection(&translated));
            }
        }
        if to.gateway {
            let on_link = Match { enters: from.links.clone(), ..Match::everything() };
            let on_link = product(&on_link, link_local(), AddressSet::full());
            let arriving = entering(&AddressSet::full()).union(&on_link);
            let arriving = arriving.intersection(&self.for_gateway);
            all = all.union(&without(arriving, &self.never_arriving));
        }
        if from.gateway {
            all = all.union(&product(&self.begun, AddressSet::full(), to.addresses.clone()));
        }
        all
    }
}

/// The part of a line that a list can match: the whole exception's product, or the part's.
pub(super) fn product(
    line: &Line,
    enters: IntervalSet<crate::space::Interface>,
    source: &AddressSet,
    destination: &AddressSet,
    service: &ServiceSet,
    at: IntervalSet<Minute>,
) -> Match {
    match &line.part {
        Some(part) => Match { enters: part.enters.intersection(&enters), ..part.clone() },
        None => Match {
            enters,
            source: source.clone(),
            destination: destination.clone(),
            service: service.clone(),
            at,
        },
    }
}
