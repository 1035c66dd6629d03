//! Checks of both sides of what the plan says: each cell, and each exception with what lies just beside it.

mod offered;

use super::candidate::Candidate;
use super::content::suffix;
use super::places::tcp;
use super::{Probe, write::packet_of};
use crate::addressing::multicast;
use crate::example;
use crate::meaning::Meaning;
use crate::plan::{ExceptionId, Plan, ZoneId};
use crate::rules::RuleSet;
use crate::space::{
    AddressSet, Coordinate, Ends, Family, Interface, IntervalSet, Match, Packet, Protocol,
    ServicePoint,
};
use crate::verdict::Cause;
use std::collections::{HashMap, HashSet};
use std::net::IpAddr;

/// The candidates.
pub(super) fn both_sides(meaning: &Meaning<'_>, rules: &RuleSet) -> Vec<Candidate> {
    let plan = meaning.plan();
    let alone = rules.rules().filter(|rule| rule.also.is_empty());
    let mut sides = BoundaryChecks {
        meaning,
        plan,
        rules,
        zones: plan.zone_ids().map(|zone| (zone, ZoneEnds::of(plan, zone))).collect(),
        alone: alone.map(|rule| rule.cause).collect(),
        found: Vec::new(),
    };
    for from in plan.zone_ids() {
        for to in plan.zone_ids() {
            sides.cell(from, to);
        }
    }
    for &id in meaning.precedence().active() {
        sides.exception(id);
    }
    sides.found
}

struct BoundaryChecks<'m, 'p> {
    meaning: &'m Meaning<'p>,
    plan: &'p Plan,
    rules: &'m RuleSet<'m>,
    zones: HashMap<ZoneId, ZoneEnds>,
    /// The entries that have a rule which is there for nothing else. What has none is left to other rules, and a mistake in
    /// its own rule cannot be what its check is there for.
    alone: HashSet<Cause>,
    found: Vec<Candidate>,
}

/// From where and to where a cell of the matrix is tried, by family, the best first.
struct ZoneEnds {
    sources: [Vec<(Interface, IpAddr)>; 2],
    targets: [Vec<IpAddr>; 2],
}

impl ZoneEnds {
    fn of(plan: &Plan, zone: ZoneId) -> Self {
        let anyone: AddressSet =
            plan.networks_of(zone).map(|id| plan.anonymous_addresses(id).clone()).collect();
        let enters = |source: IpAddr| {
            let network = plan.network_of(source)?;
            Some((plan.network_interface(network), source))
        };
        let sources = |family| {
            example::sources(plan, &anyone, family).into_iter().filter_map(enters).collect()
        };
        let targets = |family| example::candidates(plan, plan.zone_addresses(zone), family);
        Self { sources: Family::ALL.map(sources), targets: Family::ALL.map(targets) }
    }
}

impl BoundaryChecks<'_, '_> {
    fn add(&mut self, id: String, packet: Packet, probe: Probe, needed: bool) {
        self.found.push(Candidate { needed, ..Candidate::new(id, packet, probe) });
    }

    /// One packet of each family that the cell decides and no exception does.
    fn cell(&mut self, from: ZoneId, to: ZoneId) {
        if from == self.plan.internet() || to == self.plan.internet() {
            return;
        }
        let (from_name, to_name) =
            (self.plan.zone(from).name.clone(), self.plan.zone(to).name.clone());
        // In one family at least, though no rule be there for it alone.
        let mut needed = !self.alone.contains(&Cause::Cell(from, to));
        for family in Family::ALL {
            let Some((packet, probe)) = self.packet_of_cell(from, to, family) else { continue };
            let id = format!("cell.{from_name}>{to_name}/{}{}", probe.words(), suffix(family));
            self.add(id, packet, probe, needed);
            needed = false;
        }
    }

    fn packet_of_cell(&self, from: ZoneId, to: ZoneId, family: Family) -> Option<(Packet, Probe)> {
        let sources = &self.zones.get(&from)?.sources[family as usize];
        let targets = &self.zones.get(&to)?.targets[family as usize];
        let cell = Cause::Cell(from, to);
        let unsaid = self.plan.matrix().cell(from, to).action.is_none();
        for service in [ServicePoint::echo(family), tcp(443), tcp(22)] {
            for &(interface, source) in sources {
                for &target in targets {
                    let packet = packet_of(interface, source, target, service)?;
                    let cause = self.meaning.decide(&packet).cause;
                    if cause == cell || (unsaid && cause == Cause::Unmatched) {
                        return Some((packet, Probe::for_service(service)?));
                    }
                }
            }
        }
        None
    }

    /// An exception from both sides: what it says; the port next to it; a source and a destination
    /// beside those that it means.
    fn exception(&mut self, id: ExceptionId) {
        let exception = self.plan.exception(id);
        let name = exception.name.clone();
        let families = if exception.translated {
            self.offered(id);
            &[Family::V6][..]
        } else {
            &Family::ALL[..]
        };
        for &family in families {
            let Some((packet, probe)) = self.packet_of_exception(id, family) else { continue };
            let family = suffix(family);
            let timed = exception.hours.is_some();
            // Its rule may be there for others, too, or for no packet at all: then nobody else would try it.
            let needed = timed
                || ![Cause::Exception(id), Cause::Offered(id)]
                    .iter()
                    .any(|cause| self.alone.contains(cause));
            self.add(format!("exception.{name}/itself{family}"), packet, probe, needed);
            if let Some(at) = exception.minutes().complement().first() {
                let late = Packet { at, ..packet };
                self.add(format!("exception.{name}/other-hours{family}"), late, probe, timed);
            }
            let ports =
                self.next_ports(id, &packet).into_iter().enumerate().map(|(index, packet)| {
                    let number = if index == 0 { String::new() } else { format!("-{}", index + 1) };
                    (format!("next-port{number}"), packet)
                });
            let source =
                self.other_source(id, &packet).map(|other| ("other-source".to_owned(), other));
            let target = self.other_destination(id, &packet);
            let target = target.map(|other| ("other-destination".to_owned(), other));
            for (what, other) in ports.chain(source).chain(target).collect::<Vec<_>>() {
                let differs =
                    self.meaning.decide(&other).verdict != self.meaning.decide(&packet).verdict;
                let Some(probe) = Probe::for_service(other.service).filter(|_| differs) else {
                    continue;
                };
                self.add(format!("exception.{name}/{what}{family}"), other, probe, false);
            }
        }
    }

    /// A packet that this exception, and no other, decides.
    fn packet_of_exception(&self, id: ExceptionId, family: Family) -> Option<(Packet, Probe)> {
        let precedence = self.meaning.precedence();
        let above = precedence.above(id).iter();
        let top =
            above.fold(precedence.set(id).clone(), |top, id| top.difference(precedence.set(*id)));
        for product in top.products() {
            let (interface, at) = (product.enters.first()?, product.at.first()?);
            if interface == self.plan.gateway_interface() {
                continue;
            }
            let targets = match self.plan.network_on(interface) {
                // At its own address in the network, not at one that everyone hears.
                Some(network) if self.exception_is_for_gateway(id) => {
                    let own = self.plan.network(network).subnets.iter().map(|s| s.gateway());
                    product.destination.intersection(&own.collect())
                }
                _ => self.where_somebody_answers(&product.destination),
            };
            for source in example::sources(self.plan, &product.source, family) {
                for target in example::candidates(self.plan, &targets, family) {
                    let found = services_to_try(&product, family).into_iter().find_map(|service| {
                        let packet = packet_of(interface, source, target, service)?;
                        let packet = Packet { at, ..packet };
                        let probe = Probe::for_service(service)?;
                        let decided = self.meaning.decide(&packet).cause.exception() == Some(id);
                        let packet = self.as_sent(&packet).filter(|_| decided)?;
                        Some((packet, Probe::for_service(packet.service).unwrap_or(probe)))
                    });
                    if found.is_some() {
                        return found;
                    }
                }
            }
        }
        None
    }

    /// A packet as it is sent, for one that has been translated on its way in.
    fn as_sent(&self, packet: &Packet) -> Option<Packet> {
        if !self.plan.is_translated(packet.enters) {
            return Some(*packet);
        }
        let all = self.rules.translations.iter();
        let mut sent = all.filter_map(|translation| translation.undo(self.plan, packet));
        sent.find(|sent| self.meaning.translate(sent).as_ref() == Some(packet))
    }

    /// Of addresses, those at which one machine answers, if there is one: a connection to the address of all routers
    /// of a subnet (RFC 4291 2.6.1), to a broadcast or a multicast address has nobody at its other end.
    fn where_somebody_answers(&self, addresses: &AddressSet) -> AddressSet {
        let networks = || self.plan.networks().iter().flat_map(|network| network.subnets.clone());
        let uplinks = || self.plan.uplinks().iter().flat_map(|uplink| uplink.subnets());
        let subnets = || networks().chain(uplinks());
        let anycast: AddressSet = subnets().filter_map(|subnet| subnet.anycast()).collect();
        let broadcast: AddressSet = subnets().filter_map(|subnet| subnet.broadcast()).collect();
        let everyone = anycast.union(&broadcast).union(&multicast());
        let single = addresses.difference(&everyone);
        if single.is_empty() { addresses.clone() } else { single }
    }

    fn exception_is_for_gateway(&self, id: ExceptionId) -> bool {
        let to = &self.plan.exception(id).to;
        to.gateway && to.addresses.is_empty()
    }

    /// The ports just above each stretch that the exception means, three at most.
    fn next_ports(&self, id: ExceptionId, packet: &Packet) -> Vec<Packet> {
        let set = &self.plan.exception(id).service.set;
        let line = if matches!(packet.ends, Ends::V6 { .. }) { &set.v6 } else { &set.v4 };
        let above = line.spans().iter().filter_map(|span| span.1.next());
        let tried = |point: &ServicePoint| {
            matches!(Probe::for_service(*point), Some(Probe::Tcp(_) | Probe::Udp(_)))
        };
        above.filter(tried).take(3).map(|service| Packet { service, ..*packet }).collect()
    }

    /// Somebody in the same network, or else in the same zone, who is not meant.
    fn other_source(&self, id: ExceptionId, packet: &Packet) -> Option<Packet> {
        let from = &self.plan.exception(id).from.addresses;
        let network = self.plan.network_on(packet.enters)?;
        let zone = self.plan.network(network).zone;
        let neighbours = [network].into_iter().chain(self.plan.networks_of(zone));
        neighbours.into_iter().find_map(|id| {
            let anyone = self.plan.anonymous_addresses(id).difference(from);
            let anyone = example::candidates(self.plan, &anyone, packet.family());
            let source = *anyone.first()?;
            let interface = self.plan.network_interface(id);
            let other = packet_of(interface, source, packet.destination(), packet.service)?;
            Some(Packet { at: packet.at, ..other })
        })
    }

    /// Somebody beside the target, in its network, who is not meant.
    fn other_destination(&self, id: ExceptionId, packet: &Packet) -> Option<Packet> {
        let to = &self.plan.exception(id).to.addresses;
        let network = self.plan.network_of(packet.destination())?;
        if self.plan.is_gateway(packet.destination()) {
            return None;
        }
        let others = self.plan.network_addresses(network).difference(to);
        let others = example::candidates(self.plan, &others, packet.family());
        let ends = Ends::new(packet.source(), *others.first()?)?;
        Some(Packet { ends, ..*packet })
    }
}

/// Services of a product that a person can ask for: well-known ones that are likely to answer, then
/// the first port of each stretch, TCP before UDP.
fn services_to_try(product: &Match, family: Family) -> Vec<ServicePoint> {
    let line = product.service.line(family);
    let likely = [
        tcp(443),
        tcp(80),
        tcp(22),
        ServicePoint::echo(family),
        ServicePoint::port(Protocol::UDP, 53),
    ];
    let mut points: Vec<ServicePoint> =
        likely.into_iter().filter(|point| line.contains(*point)).collect();
    for protocol in [Protocol::TCP, Protocol::UDP] {
        let start = ServicePoint::port(protocol, 1);
        let ports = line.intersection(&IntervalSet::range(start, protocol.stretch().1));
        points.extend(ports.spans().iter().map(|span| span.0));
    }
    points
}
