//! Which packets to try: what every network needs, each cell, and each exception from both sides.

mod offered;

use super::{Check, Expect, Probe, Standpoint, Target, proves};
use crate::addressing::StandIn;
use crate::meaning::Meaning;
use crate::plan::{ExceptionId, NetworkId, Plan, ZoneId};
use crate::rules::RuleSet;
use crate::sample;
use crate::space::{
    AddressSet, Ends, IntervalSet, Leg, Match, Packet, PacketSet, Protocol, ServicePoint,
    ServiceSet,
};
use crate::verdict::{Cause, Verdict};
use std::net::{IpAddr, Ipv4Addr};

pub(super) fn checks(meaning: &Meaning<'_>, rules: &RuleSet) -> Vec<Check> {
    let plan = meaning.plan();
    let spoken_of = spoken_of(plan);
    let mut chooser = Chooser { meaning, plan, rules, spoken_of, checks: Vec::new() };
    for id in chooser.plan.network_ids() {
        chooser.network(id);
    }
    for from in chooser.plan.zone_ids() {
        for to in chooser.plan.zone_ids() {
            chooser.cell(from, to);
        }
    }
    for &id in meaning.precedence().active() {
        chooser.exception(id);
    }
    chooser.managing();
    chooser.outside();
    chooser.checks
}

struct Chooser<'m, 'p> {
    meaning: &'m Meaning<'p>,
    plan: &'p Plan,
    rules: &'m RuleSet,
    /// The addresses on the internet that exceptions name.
    spoken_of: AddressSet,
    checks: Vec<Check>,
}

fn spoken_of(plan: &Plan) -> AddressSet {
    let named = plan.exceptions().iter().flat_map(|e| [&e.from.addresses, &e.to.addresses]);
    let narrow = named.map(|set| set.intersection(plan.internet_addresses()));
    let narrow = narrow.filter(|set| !plan.internet_addresses().v4.is_subset(&set.v4));
    narrow.fold(AddressSet::empty(), |all, set| all.union(&set))
}

fn ping(v6: bool) -> ServicePoint {
    if v6 {
        ServicePoint::icmp(Protocol::ICMP_V6, 128, 0)
    } else {
        ServicePoint::icmp(Protocol::ICMP, 8, 0)
    }
}

fn tcp(port: u16) -> ServicePoint {
    ServicePoint::port(Protocol::TCP, port)
}

impl Chooser<'_, '_> {
    /// Adds a check of one packet, unless nothing can be expected of it.
    fn add(&mut self, id: String, packet: Packet, to: String, probe: Probe) {
        let decision = self.meaning.decide(&packet);
        let Some(expect) = Expect::of(decision.verdict, packet.service.protocol()) else { return };
        let destination = packet.destination();
        let outside = !self.plan.inside().contains(destination);
        let answered =
            outside || self.is_gateway(destination) || self.plan.host_at(destination).is_some();
        let target = self.target(destination);
        let web = probe == Probe::Tcp(443) && target != Target::Address(destination);
        let probe = if web && self.finds_names(&packet) { Probe::Web } else { probe };
        let proves = proves(self.rules, &packet);
        let standpoint = self.standpoint(&packet);
        self.checks.push(Check {
            id,
            standpoint,
            packet,
            to,
            when: self.hours_matter(&packet).then_some(packet.at),
            target,
            probe,
            expect,
            decision,
            proves,
            answered,
        });
    }

    fn target(&self, destination: IpAddr) -> Target {
        match StandIn::of(destination) {
            Some(StandIn::Domain(number)) => {
                let domain = &self.plan.domains()[usize::from(number)];
                // Any host of a wildcard's will do.
                let first = domain.names.first().map(|name| name.replace("*.", "www."));
                Target::Named(first.unwrap_or_else(|| domain.name.to_string()))
            }
            Some(StandIn::Uplink(number)) => {
                let uplink = &self.plan.uplinks()[usize::from(number)];
                Target::Named(format!("ADDRESS_OF_{}", uplink.name.as_str().to_uppercase()))
            }
            None if self.is_anyone(destination) => Target::Anyone { v6: destination.is_ipv6() },
            None => Target::Address(destination),
        }
    }

    /// Whether an address stands for the whole internet: the plan speaks of nobody there.
    fn is_anyone(&self, address: IpAddr) -> bool {
        let spoken_of = self.spoken_of.contains(address) || self.is_gateway(address);
        self.plan.internet_addresses().contains(address) && !spoken_of
    }

    /// Whether the gateway answers the DNS questions of whoever sends a packet.
    fn finds_names(&self, packet: &Packet) -> bool {
        let Some(id) = self.plan.network_on(packet.enters) else { return true };
        let dns = ServicePoint::port(Protocol::UDP, 53);
        let gateways = self.plan.network(id).subnets.iter().map(|subnet| subnet.gateway());
        let mut questions =
            gateways.filter_map(|g| self.packet(packet.enters, packet.source(), g, dns));
        questions.any(|question| self.meaning.decide(&question).verdict == Verdict::Allow)
    }

    fn is_gateway(&self, address: IpAddr) -> bool {
        self.plan.gateway_inside().contains(address)
            || self.plan.gateway_outside().contains(address)
    }

    /// Where a packet is sent from. Any device of the network will do if the same happens to all of
    /// them; else it has to be that very address.
    fn standpoint(&self, packet: &Packet) -> Standpoint {
        let Some(id) = self.plan.network_on(packet.enters) else { return Standpoint::Outside };
        let unspecified = packet.source().is_unspecified();
        let anyone = sample::anonymous(self.plan, id);
        if unspecified
            || (anyone.contains(packet.source()) && self.is_same_for_all(packet, &anyone))
        {
            return Standpoint::Network(id);
        }
        Standpoint::Address(id, packet.source())
    }

    fn is_same_for_all(&self, packet: &Packet, sources: &AddressSet) -> bool {
        let all = Match { source: sources.clone(), ..only(packet) };
        self.meaning.parts(&PacketSet::from(all)).len() <= 1
    }

    fn packet(
        &self,
        leg: Leg,
        source: IpAddr,
        destination: IpAddr,
        service: ServicePoint,
    ) -> Option<Packet> {
        Some(Packet::new(leg, Ends::new(source, destination)?, service))
    }

    /// What every network needs: its address, the gateway, names, the internet; and that not everyone
    /// in it manages the gateway.
    fn network(&mut self, id: NetworkId) {
        let network = self.plan.network(id);
        let (name, leg) = (network.name.clone(), self.plan.network_leg(id));
        if network.pool.is_some() {
            let ends = Ends::V4 { source: Ipv4Addr::UNSPECIFIED, destination: Ipv4Addr::BROADCAST };
            let service = ServicePoint::port(Protocol::UDP, 67);
            let packet = Packet::new(leg, ends, service);
            self.add(format!("network.{name}/lease"), packet, "gateway".to_owned(), Probe::Lease);
        }
        let anyone = sample::anonymous(self.plan, id);
        for subnet in &network.subnets {
            let gateway = subnet.gateway();
            let v6 = gateway.is_ipv6();
            let family = if v6 { "6" } else { "" };
            let Some(source) = sample::first(&anyone, v6) else { continue };
            let dns = ServicePoint::port(Protocol::UDP, 53);
            for (what, service, probe) in
                [("gateway", ping(v6), Probe::Ping), ("dns", dns, Probe::Dns)]
            {
                let Some(packet) = self.packet(leg, source, gateway, service) else { continue };
                self.add(
                    format!("network.{name}/{what}{family}"),
                    packet,
                    "gateway".to_owned(),
                    probe,
                );
            }
            if let Some(port) = self.managed_by() {
                let Some(packet) = self.packet(leg, source, gateway, tcp(port)) else { continue };
                let id = format!("network.{name}/manage{family}");
                self.add(id, packet, "gateway".to_owned(), Probe::Tcp(port));
            }
            self.internet(name.as_str(), leg, source);
        }
    }

    /// A TCP port by which the gateway is managed.
    fn managed_by(&self) -> Option<u16> {
        let manage = self.plan.gateway().manage.as_ref()?;
        let ports = IntervalSet::range(tcp(1).coordinate(), tcp(u16::MAX).coordinate());
        let first = manage.service.set.v4.intersection(&ports).first()?;
        ServicePoint::from_coordinate(first)?.destination_port()
    }

    /// Whoever manages the gateway can.
    fn managing(&mut self) {
        let (Some(manage), Some(port)) = (&self.plan.gateway().manage, self.managed_by()) else {
            return;
        };
        for v6 in [false, true] {
            let Some(source) =
                sample::candidates(self.plan, &manage.from.addresses, v6).first().copied()
            else {
                continue;
            };
            let Some(id) = self.plan.network_of(source) else { continue };
            let network = self.plan.network(id);
            let gateway = network.subnets.iter().map(|s| s.gateway()).find(|g| g.is_ipv6() == v6);
            let leg = self.plan.network_leg(id);
            let packet = gateway.and_then(|gateway| self.packet(leg, source, gateway, tcp(port)));
            let Some(packet) = packet else { continue };
            let family = if v6 { "6" } else { "" };
            self.add(
                format!("manage/itself{family}"),
                packet,
                "gateway".to_owned(),
                Probe::Tcp(port),
            );
        }
    }

    fn internet(&mut self, name: &str, leg: Leg, source: IpAddr) {
        let unspoken = self.plan.internet_addresses().difference(&self.spoken_of);
        let outside = sample::candidates(self.plan, &unspoken, source.is_ipv6());
        let Some(outside) = outside.first().copied() else { return };
        let Some(packet) = self.packet(leg, source, outside, tcp(443)) else { return };
        let family = if source.is_ipv6() { "6" } else { "" };
        let id = format!("network.{name}/internet{family}");
        self.add(id, packet, "internet".to_owned(), Probe::Tcp(443));
    }

    /// One packet of each family that the cell decides and no exception does.
    fn cell(&mut self, from: ZoneId, to: ZoneId) {
        if from == self.plan.internet() || to == self.plan.internet() {
            return;
        }
        let (from_name, to_name) =
            (self.plan.zone(from).name.clone(), self.plan.zone(to).name.clone());
        for v6 in [false, true] {
            let Some((packet, probe)) = self.packet_of_cell(from, to, v6) else { continue };
            let family = if v6 { "6" } else { "" };
            let id = format!("cell.{from_name}>{to_name}/{}{family}", probe.words());
            let words = self.place_words(packet.destination());
            self.add(id, packet, words, probe);
        }
    }

    fn packet_of_cell(&self, from: ZoneId, to: ZoneId, v6: bool) -> Option<(Packet, Probe)> {
        let sources: AddressSet =
            self.plan.networks_of(from).map(|id| sample::anonymous(self.plan, id)).collect();
        let sources: Vec<IpAddr> = sample::sources(self.plan, &sources, v6);
        let targets = sample::candidates(self.plan, &self.plan.zone_addresses(to), v6);
        let cell = Cause::Cell(from, to);
        let unsaid = self.plan.matrix().cell(from, to).action.is_none();
        for service in [ping(v6), tcp(443), tcp(22)] {
            for &source in &sources {
                let leg = self.plan.network_leg(self.plan.network_of(source)?);
                for &target in &targets {
                    let packet = self.packet(leg, source, target, service)?;
                    let cause = self.meaning.decide(&packet).cause;
                    if cause == cell || (unsaid && cause == Cause::Unmatched) {
                        return Some((packet, Probe::for_service(service)?));
                    }
                }
            }
        }
        None
    }

    fn place_words(&self, address: IpAddr) -> String {
        if let Some(host) = self.plan.host_at(address) {
            return host.name.to_string();
        }
        match self.plan.network_of(address) {
            Some(id) => self.plan.network(id).name.to_string(),
            None => match self.plan.stand_in_words(address) {
                Some(words) => words,
                None if self.plan.inside().contains(address) => address.to_string(),
                None => "internet".to_owned(),
            },
        }
    }

    /// Whether the same happens to a packet at every hour.
    fn hours_matter(&self, packet: &Packet) -> bool {
        let timed = self.plan.exceptions().iter().any(|exception| {
            exception.hours.is_some() && exception.from.addresses.contains(packet.source())
        });
        if !timed {
            return false;
        }
        let all = Match { at: IntervalSet::full(), ..only(packet) };
        self.meaning.parts(&PacketSet::from(all)).len() > 1
    }

    /// An exception from both sides: what it says; the port next to it; a source and a destination
    /// beside those that it means.
    fn exception(&mut self, id: ExceptionId) {
        let exception = self.plan.exception(id);
        let name = exception.name.clone();
        let families = if exception.translated {
            self.offered(id);
            &[true][..]
        } else {
            &[false, true][..]
        };
        for &v6 in families {
            let Some((packet, probe)) = self.packet_of_exception(id, v6) else { continue };
            let family = if v6 { "6" } else { "" };
            let to = self.target_words(&packet);
            self.add(format!("exception.{name}/itself{family}"), packet, to, probe);
            if let Some(at) = exception.minutes().complement().first() {
                let (to, late) = (self.target_words(&packet), Packet { at, ..packet });
                self.add(format!("exception.{name}/other-hours{family}"), late, to, probe);
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
                let to = self.target_words(&other);
                self.add(format!("exception.{name}/{what}{family}"), other, to, probe);
            }
        }
    }

    fn target_words(&self, packet: &Packet) -> String {
        if self.is_gateway(packet.destination()) {
            return "gateway".to_owned();
        }
        self.place_words(packet.destination())
    }

    /// A packet that this exception, and no other, decides.
    fn packet_of_exception(&self, id: ExceptionId, v6: bool) -> Option<(Packet, Probe)> {
        let precedence = self.meaning.precedence();
        let above = precedence.above(id).iter();
        let top =
            above.fold(precedence.set(id).clone(), |top, id| top.difference(precedence.set(*id)));
        for product in top.products() {
            let (leg, at) = (product.enters.first()?, product.at.first()?);
            if leg == self.plan.gateway_leg() {
                continue;
            }
            let targets = match self.plan.network_on(leg) {
                // At its own address in the network, not at one that everyone hears.
                Some(network) if self.exception_is_for_gateway(id) => {
                    let own = self.plan.network(network).subnets.iter().map(|s| s.gateway());
                    product.destination.intersection(&own.collect())
                }
                _ => product.destination.clone(),
            };
            for source in sample::sources(self.plan, &product.source, v6) {
                for target in sample::candidates(self.plan, &targets, v6) {
                    let found = services_to_try(&product, v6).into_iter().find_map(|service| {
                        let packet = self.packet(leg, source, target, service)?;
                        let packet = Packet { at, ..packet };
                        let probe = Probe::for_service(service)?;
                        let decided = self.meaning.decide(&packet).cause.exception() == Some(id);
                        decided.then_some((packet, probe))
                    });
                    if found.is_some() {
                        return found;
                    }
                }
            }
        }
        None
    }

    fn exception_is_for_gateway(&self, id: ExceptionId) -> bool {
        let to = &self.plan.exception(id).to;
        to.gateway && to.addresses.is_empty()
    }

    /// The ports just above each stretch that the exception means, three at most.
    fn next_ports(&self, id: ExceptionId, packet: &Packet) -> Vec<Packet> {
        let set = &self.plan.exception(id).service.set;
        let line = if matches!(packet.ends, Ends::V6 { .. }) { &set.v6 } else { &set.v4 };
        let above =
            line.spans().iter().filter_map(|span| ServicePoint::from_coordinate(span.1 + 1));
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
            let anyone = sample::anonymous(self.plan, id).difference(from);
            let anyone = sample::candidates(self.plan, &anyone, packet.source().is_ipv6());
            let source = *anyone.first()?;
            let leg = self.plan.network_leg(id);
            let other = self.packet(leg, source, packet.destination(), packet.service)?;
            Some(Packet { at: packet.at, ..other })
        })
    }

    /// Somebody beside the target, in its network, who is not meant.
    fn other_destination(&self, id: ExceptionId, packet: &Packet) -> Option<Packet> {
        let to = &self.plan.exception(id).to.addresses;
        let network = self.plan.network_of(packet.destination())?;
        if self.is_gateway(packet.destination()) {
            return None;
        }
        let others = self.plan.network_addresses(network).difference(to);
        let others = sample::candidates(self.plan, &others, packet.destination().is_ipv6());
        let ends = Ends::new(packet.source(), *others.first()?)?;
        Some(Packet { ends, ..*packet })
    }

    /// From anywhere on the internet: the gateway must not be managed, nor answer.
    fn outside(&mut self) {
        for (index, uplink) in self.plan.uplinks().iter().enumerate() {
            for own in &uplink.addresses {
                let v6 = own.addr().is_ipv6();
                let strangers = self.plan.internet_addresses().difference(&uplink.own());
                let Some(source) = sample::candidates(self.plan, &strangers, v6).first().copied()
                else {
                    continue;
                };
                let port = self.managed_by().unwrap_or(22);
                for (what, service, probe) in
                    [("manage", tcp(port), Probe::Tcp(port)), ("ping", ping(v6), Probe::Ping)]
                {
                    let leg = self.plan.uplink_leg(index);
                    let Some(packet) = self.packet(leg, source, own.addr(), service) else {
                        continue;
                    };
                    let family = if v6 { "6" } else { "" };
                    let id = format!("outside.{}/{what}{family}", uplink.name);
                    self.add(id, packet, "gateway".to_owned(), probe);
                }
            }
        }
    }
}

/// The set of one packet.
fn only(packet: &Packet) -> Match {
    Match {
        enters: IntervalSet::point(packet.enters),
        source: packet.source().into(),
        destination: packet.destination().into(),
        service: ServiceSet::both(IntervalSet::point(packet.service.coordinate())),
        at: IntervalSet::point(packet.at),
    }
}

/// Services of a product that a person can ask for: well-known ones that are likely to answer, then
/// the first port of each stretch, TCP before UDP.
fn services_to_try(product: &Match, v6: bool) -> Vec<ServicePoint> {
    let line = if v6 { &product.service.v6 } else { &product.service.v4 };
    let likely = [tcp(443), tcp(80), tcp(22), ping(v6), ServicePoint::port(Protocol::UDP, 53)];
    let mut points: Vec<ServicePoint> =
        likely.into_iter().filter(|point| line.contains(point.coordinate())).collect();
    for protocol in [Protocol::TCP, Protocol::UDP] {
        let start = ServicePoint::port(protocol, 1).coordinate();
        let ports = line.intersection(&IntervalSet::range(start, protocol.stretch().1));
        points
            .extend(ports.spans().iter().filter_map(|span| ServicePoint::from_coordinate(span.0)));
    }
    points
}
