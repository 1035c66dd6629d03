//! The topics of a carried list: each guarantee, exception and offered service of the plan, and what every network
//! needs. Each comes with the packets by which it can be tried.

use super::candidate::{Candidate, Everyday};
use super::content;
use super::places::tcp;
use super::{Generator, NotTried, Probe};
use crate::asking::{End, question};
use crate::example;
use crate::plan::{Exception, ExceptionId, Guarantee, Plan};
use crate::space::{
    AddressSet, Ends, Family, Interface, IntervalSet, Match, Packet, PacketSet, Protocol,
    ServicePoint, ServiceSet,
};
use crate::verdict::{Cause, Decision};
use std::collections::HashSet;
use std::net::IpAddr;

/// Something to try, and how it can be tried: one of these will do.
pub(super) struct Topic {
    /// What it is: `exception tills-pay`.
    pub(super) what: String,
    pub(super) candidates: Vec<Candidate>,
}

/// Ports that people use, best ones first, where a service leaves the choice.
const PORTS: [u16; 12] = [443, 80, 631, 9100, 554, 5060, 22, 445, 3389, 104, 11112, 53];
/// So many ways to try one thing are looked at.
const MOST_WAYS: usize = 200;
/// So many products of a set of packets are looked at, and so many addresses at each end.
const MOST_PRODUCTS: usize = 40;
const MOST_ENDS: usize = 2;

/// All topics, those of guarantees first; and what is left out on purpose.
pub(super) fn topics(generator: &Generator<'_>) -> (Vec<Topic>, Vec<NotTried>) {
    let plan = generator.meaning.plan();
    let ways = Ways { generator, plan };
    let mut topics: Vec<Topic> =
        plan.guarantees().iter().flat_map(|guarantee| ways.guarantee(guarantee)).collect();
    topics.extend(ways.everyday());
    let active: HashSet<ExceptionId> =
        generator.meaning.precedence().active().iter().copied().collect();
    let mut not_tried = Vec::new();
    for (index, exception) in plan.exceptions().iter().enumerate() {
        let id = ExceptionId(index);
        let what = format!("{} {}", exception.table(), exception.name);
        if active.contains(&id) {
            topics.push(Topic { candidates: ways.exception(id, exception), what });
        } else {
            let why = if exception.off { "it is switched off" } else { "its last day is over" };
            not_tried.push(NotTried { what, why: why.to_owned() });
        }
    }
    let apart = plan.networks().iter().filter(|network| network.isolate);
    not_tried.extend(apart.map(|network| NotTried {
        what: format!("isolation in {}", network.name),
        why: "it takes two devices in one network".to_owned(),
    }));
    (topics, not_tried)
}

struct Ways<'w, 'm> {
    generator: &'w Generator<'m>,
    plan: &'m Plan,
}

impl Ways<'_, '_> {
    /// A topic for each network that a guarantee speaks of.
    fn guarantee(&self, guarantee: &Guarantee) -> Vec<Topic> {
        let (from, to) = (End::of(guarantee.from.clone()), End::of(guarantee.to.clone()));
        let always = IntervalSet::full();
        let asked = question(self.generator.meaning, &from, &to, &guarantee.service, &always).ok();
        let asked = asked.unwrap_or_else(PacketSet::empty);
        let what = format!("{} {}", guarantee.word(), guarantee.name);
        let mut by_interface: Vec<(Interface, Topic)> = Vec::new();
        for packet in self.packets(&asked, |decision| decision.verdict.is_filtered()) {
            let Some(probe) = Probe::of(&packet) else { continue };
            let zone = &self.plan.zone(self.plan.zone_to(packet.destination())).name;
            let interface = self.plan.interface_name(packet.enters);
            let family = content::suffix(packet.family());
            let id = format!("{}.{}/{interface}>{zone}{family}", guarantee.word(), guarantee.name);
            let candidate = Candidate::new(id, packet, probe).needed();
            let candidate = Candidate { guarantee: true, ..candidate };
            match by_interface.iter_mut().find(|(own, _)| *own == packet.enters) {
                Some((_, topic)) => topic.candidates.push(candidate),
                None => by_interface.push((
                    packet.enters,
                    Topic { what: what.clone(), candidates: vec![candidate] },
                )),
            }
        }
        if by_interface.is_empty() {
            return vec![Topic { what, candidates: Vec::new() }];
        }
        by_interface.into_iter().map(|(_, topic)| topic).collect()
    }

    /// What every network needs, who manages the gateway, and that outside nobody does; in either family.
    fn everyday(&self) -> Vec<Topic> {
        let all = content::needed(self.generator.meaning, &self.generator.places);
        let ways = |what: Everyday| {
            all.iter().filter(|one| one.everyday == Some(what)).cloned().collect::<Vec<_>>()
        };
        let mut topics = Vec::new();
        let mut topic = |what: String, everyday| {
            topics.push(Topic { what, candidates: ways(everyday) });
        };
        let (mut zones, mut kept_out) = (HashSet::new(), HashSet::new());
        for id in self.plan.network_ids() {
            let network = self.plan.network(id);
            if network.pool.is_some() {
                topic(format!("addresses (DHCP) in {}", network.name), Everyday::Lease(id));
            }
            topic(format!("names (DNS) in {}", network.name), Everyday::Names(id));
            // One network of a zone stands for the others.
            if !self.plan.uplinks().is_empty() && zones.insert(network.zone) {
                topic(format!("the way out of {}", network.name), Everyday::WayOut(id));
            }
        }
        // Nor need a list for one person show it of every network of a zone.
        for id in self.plan.network_ids() {
            let (network, what) = (self.plan.network(id), Everyday::ManageInside(id));
            if !ways(what).is_empty() && kept_out.insert(network.zone) {
                topic(format!("managing the gateway from {}", network.name), what);
            }
        }
        if self.plan.gateway().manage.is_some() {
            topic("managing the gateway".to_owned(), Everyday::Manage);
        }
        for (index, uplink) in self.plan.uplinks().iter().enumerate() {
            let what = format!("managing the gateway from outside, by {}", uplink.name);
            topic(what, Everyday::ManageOutside(index));
        }
        topics
    }

    /// The ways to try an exception, or a service that is offered to the outside.
    fn exception(&self, id: ExceptionId, exception: &Exception) -> Vec<Candidate> {
        let meaning = self.generator.meaning;
        let at = exception.minutes();
        let (from, to) = (&exception.from, &exception.to);
        let mut asked = PacketSet::from(Match {
            source: from.addresses.clone(),
            destination: to.addresses.clone(),
            service: exception.service.set.clone(),
            at: at.clone(),
            ..Match::everything()
        });
        if to.gateway {
            asked = asked.union(&meaning.to_gateway_from(from, to, &exception.service.set));
        }
        if let Some(inbound) = exception.inbound.map(|place| &self.plan.inbounds()[place]) {
            let uplink = &self.plan.uplinks()[inbound.uplink];
            let outside = Match {
                enters: IntervalSet::point(self.plan.uplink_interface(inbound.uplink)),
                destination: uplink.gateway(),
                service: inbound.outside.clone(),
                source: from.addresses.clone(),
                at,
            };
            asked = asked.union(&outside.into());
        }
        let own = [Cause::Exception(id), Cause::Offered(id)];
        let packets = self.packets(&asked, |decision| own.contains(&decision.cause));
        let named = packets.into_iter().filter_map(|packet| {
            let probe = Probe::of(&packet)?;
            let family = content::suffix(packet.family());
            let id = format!("{}.{}/{}{family}", exception.table(), exception.name, probe.words());
            Some(Candidate::new(id, packet, probe).needed())
        });
        named.collect()
    }

    /// Packets of a set that can be sent and whose decision is wanted, the most ordinary first.
    fn packets(&self, asked: &PacketSet, wanted: impl Fn(&Decision) -> bool) -> Vec<Packet> {
        let mut found = Vec::new();
        let sendable = asked.products().flat_map(|one| {
            let within = self.generator.places.within(&one);
            within.products().collect::<Vec<Match>>()
        });
        for product in sendable.take(MOST_PRODUCTS) {
            for packet in self.of_product(&product) {
                if wanted(&self.generator.meaning.decide(&packet)) {
                    found.push(packet);
                }
                if found.len() >= MOST_WAYS {
                    return found;
                }
            }
        }
        found
    }

    fn of_product(&self, product: &Match) -> Vec<Packet> {
        let mut packets = Vec::new();
        for family in Family::ALL {
            let sources = example::sources(self.plan, &product.source, family);
            let targets = self.targets(&product.destination, family);
            let services = services(&product.service, family);
            for &source in sources.iter().take(MOST_ENDS) {
                for &target in targets.iter().filter(|target| **target != source).take(MOST_ENDS) {
                    for &service in &services {
                        let ends = Ends::new(source, target);
                        let parts = (ends, product.enters.first(), product.at.first());
                        let (Some(ends), Some(enters), Some(at)) = parts else { continue };
                        packets.push(Packet { at, ..Packet::new(enters, ends, service) });
                    }
                }
            }
        }
        packets
    }

    /// Addresses to go to: hosts first, one of each zone before a second one of any.
    fn targets(&self, set: &AddressSet, family: Family) -> Vec<IpAddr> {
        let all = example::candidates(self.plan, set, family);
        let mut zones = HashSet::new();
        let (firsts, others): (Vec<IpAddr>, Vec<IpAddr>) =
            all.into_iter().partition(|address| zones.insert(self.plan.zone_to(*address)));
        firsts.into_iter().chain(others).collect()
    }
}

/// What to ask for: a ping where that is among it, then ports that people use, then any.
fn services(set: &ServiceSet, family: Family) -> Vec<ServicePoint> {
    let line = set.line(family);
    let known = [ServicePoint::echo(family)].into_iter().chain(PORTS.map(tcp));
    let udp = [53, 123].map(|port| ServicePoint::port(Protocol::UDP, port));
    let mut found: Vec<ServicePoint> =
        known.chain(udp).filter(|point| line.contains(*point)).take(2).collect();
    if found.is_empty() {
        found.extend(line.first());
    }
    found
}
