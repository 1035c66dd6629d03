//! Turns a packet into a check: where it is made, where it goes, what to expect, and which rule it tests.

use super::candidate::Candidate;
use super::evaluate::Lists;
use super::places::spoken_of;
use super::sentence::{Said, says};
use super::{Check, Expect, Probe, Standpoint, Target, standpoint};
use crate::addressing::{Placeholder, link_local};
use crate::meaning::Meaning;
use crate::plan::Plan;
use crate::space::{
    AddressSet, Family, Interface, IntervalSet, Match, Packet, PacketSet, Protocol, ServicePoint,
    ServiceSet,
};
use crate::verdict::{Cause, Decision, Verdict};
use std::net::IpAddr;

pub(super) struct Writer<'m, 'p> {
    meaning: &'m Meaning<'p>,
    plan: &'p Plan,
    lists: &'m Lists<'m>,
    spoken_of: AddressSet,
    /// Exceptions that do not count at all hours, by their sources.
    timed: AddressSet,
}

impl<'m, 'p> Writer<'m, 'p> {
    pub(super) fn new(meaning: &'m Meaning<'p>, lists: &'m Lists<'m>) -> Self {
        let plan = meaning.plan();
        let timed = plan.exceptions().iter().filter(|exception| exception.hours.is_some());
        // A device on a link that an exception names belongs to it with a link-local address, too.
        let timed = timed.flat_map(|exception| {
            let on_link = (!exception.from.links.is_empty()).then(link_local);
            [Some(exception.from.addresses.clone()), on_link].into_iter().flatten()
        });
        let timed = timed.collect();
        Self { meaning, plan, lists, spoken_of: spoken_of(plan), timed }
    }

    /// The check of a packet; `None` if nothing can be expected of it.
    pub(super) fn check(&self, candidate: Candidate) -> Option<Check> {
        let packet = candidate.packet;
        let decision = self.meaning.decide(&packet);
        let expect = expected(&packet, candidate.probe, decision)?;
        let destination = packet.destination();
        let target = self.target(destination);
        let web = candidate.probe == Probe::Tcp(443) && target != Target::Address(destination);
        let by_name = web && self.finds_names(&packet);
        let answered = matches!(candidate.probe, Probe::Lease | Probe::Browse)
            || !self.plan.inside().contains(destination)
            || self.plan.is_gateway(destination)
            || self.plan.host_at(destination).is_some();
        let proves = self.lists.decides(&packet);
        let proves = proves.filter(|_| decision.verdict.is_filtered());
        let (standpoint, to) = (self.standpoint(&packet), self.to(&packet, candidate.probe));
        let when = self.hours_matter(&packet).then_some(packet.at);
        let probe = if by_name { Probe::Web } else { candidate.probe };
        let said = Said {
            standpoint: &standpoint,
            to: &to,
            probe,
            port: packet.service.destination_port(),
            expect,
            cause: decision.cause,
            family: packet.family(),
            when,
        };
        let network = self.plan.network_on(packet.enters);
        let leased = network.filter(|_| candidate.probe == Probe::Lease);
        Some(Check {
            says: says(self.meaning, &said),
            leased: leased.map(|id| standpoint::leased(self.meaning, id)),
            is_to_gateway: self.meaning.translate(&packet).is_none()
                && (candidate.probe == Probe::Lease || self.plan.is_gateway(destination)),
            control: None,
            own_end: None,
            standpoint,
            to,
            when,
            target,
            probe,
            expect,
            decision,
            proves: proves.map(|rule| (rule.number, rule.id.to_string(), rule.name.clone())),
            answered,
            needed: candidate.needed,
            guarantee: candidate.guarantee,
            shows: candidate.shows,
            id: candidate.id,
            packet,
        })
    }

    fn target(&self, destination: IpAddr) -> Target {
        match Placeholder::of(destination) {
            Some(Placeholder::Domain(number)) => {
                let domain = &self.plan.domains()[usize::from(number)];
                // Any host of a wildcard's will do.
                let first = domain.names.first().map(|name| name.replace("*.", "www."));
                Target::Named(first.unwrap_or_else(|| domain.name.to_string()))
            }
            Some(Placeholder::Uplink(number)) => {
                let uplink = &self.plan.uplinks()[usize::from(number)];
                Target::Named(format!("ADDRESS_OF_{}", uplink.name.as_str().to_uppercase()))
            }
            None if self.is_anyone(destination) => {
                Target::Anyone { family: Family::of(destination) }
            }
            None => Target::Address(destination),
        }
    }

    /// Where it goes, in the plan's words.
    fn to(&self, packet: &Packet, probe: Probe) -> String {
        let destination = packet.destination();
        if let Some(inside) = self.meaning.translate(packet) {
            return format!("{} from outside", self.place(inside.destination()));
        }
        match probe {
            Probe::Lease => "gateway".to_owned(),
            Probe::Browse => "other networks".to_owned(),
            _ if self.plan.is_gateway(destination) => "gateway".to_owned(),
            _ => self.place(destination),
        }
    }

    fn place(&self, address: IpAddr) -> String {
        if let Some(host) = self.plan.host_at(address) {
            return host.name.to_string();
        }
        if let Some(id) = self.plan.network_of(address) {
            return self.plan.network(id).name.to_string();
        }
        let behind = self.plan.routes().iter().find(|route| route.reach.contains(address));
        let alone = AddressSet::from(address);
        let mut groups = self.plan.groups().iter();
        let group = groups.find(|group| group.place.addresses == alone);
        match (behind, self.plan.stand_in_words(address)) {
            (None, None) if group.is_some() => group.map_or(String::new(), |g| g.name.to_string()),
            (Some(route), _) => route.name.to_string(),
            (None, Some(words)) => words,
            (None, None) if self.plan.inside().contains(address) => address.to_string(),
            (None, None) => {
                let uplinks = 0..self.plan.uplinks().len();
                let beside = |at: &usize| self.plan.beside_uplink(*at).contains(address);
                let beside = uplinks.into_iter().find(beside);
                let name = beside.map(|at| self.plan.uplinks()[at].name.to_string());
                name.unwrap_or_else(|| "internet".to_owned())
            }
        }
    }

    /// Whether an address stands for the whole internet: the plan speaks of nobody there.
    fn is_anyone(&self, address: IpAddr) -> bool {
        let spoken_of = self.spoken_of.contains(address) || self.plan.is_gateway(address);
        self.plan.internet_addresses().contains(address) && !spoken_of
    }

    /// Whether the gateway answers DNS questions from the sender of a packet.
    fn finds_names(&self, packet: &Packet) -> bool {
        let Some(id) = self.plan.network_on(packet.enters) else { return true };
        let dns = ServicePoint::port(Protocol::UDP, 53);
        let gateways = self.plan.network(id).subnets.iter().map(|subnet| subnet.gateway());
        let mut questions =
            gateways.filter_map(|g| packet_of(packet.enters, packet.source(), g, dns));
        questions.any(|question| self.meaning.decide(&question).verdict == Verdict::Allow)
    }

    /// Where a packet is sent from. Any device of the network will do if the same happens to all of
    /// them; else it has to be that very address.
    fn standpoint(&self, packet: &Packet) -> Standpoint {
        let source = packet.source();
        let Some(id) = self.plan.network_on(packet.enters) else {
            let named = self.spoken_of.contains(source);
            return if named { Standpoint::OutsideAt(source) } else { Standpoint::Outside };
        };
        let mut behind = self.plan.routes().iter().filter(|route| route.network == id);
        if let Some(route) = behind.position(|route| route.devices.contains(source)) {
            return Standpoint::Behind(id, route, source);
        }
        let anyone = self.plan.anonymous_addresses(id);
        if source.is_unspecified()
            || (anyone.contains(source) && self.is_same_for_all(packet, anyone))
        {
            return Standpoint::Network(id);
        }
        Standpoint::Address(id, source)
    }

    fn is_same_for_all(&self, packet: &Packet, sources: &AddressSet) -> bool {
        let all = Match { source: sources.clone(), ..only(packet) };
        self.meaning.parts(&PacketSet::from(all)).len() <= 1
    }

    /// Whether the same does not happen to a packet at every hour.
    fn hours_matter(&self, packet: &Packet) -> bool {
        if !self.timed.contains(packet.source()) {
            return false;
        }
        let all = Match { at: IntervalSet::full(), ..only(packet) };
        self.meaning.parts(&PacketSet::from(all)).len() > 1
    }
}

/// What comes back when all is as planned; `None` where nothing can be said.
fn expected(packet: &Packet, probe: Probe, decision: Decision) -> Option<Expect> {
    match decision.cause {
        // Two devices of one network are kept apart before the gateway.
        Cause::SameNetwork(_) => Some(Expect::Silence),
        _ if probe == Probe::Browse && decision.verdict != Verdict::Allow => Some(Expect::Silence),
        _ => Expect::of(decision.verdict, packet.service.protocol()),
    }
}

/// A packet at the beginning of the week.
pub(super) fn packet_of(
    interface: Interface,
    source: IpAddr,
    destination: IpAddr,
    service: ServicePoint,
) -> Option<Packet> {
    Some(Packet::new(interface, crate::space::Ends::new(source, destination)?, service))
}

/// The set of one packet.
fn only(packet: &Packet) -> Match {
    Match {
        enters: IntervalSet::point(packet.enters),
        source: packet.source().into(),
        destination: packet.destination().into(),
        service: ServiceSet::both(IntervalSet::point(packet.service)),
        at: IntervalSet::point(packet.at),
    }
}
