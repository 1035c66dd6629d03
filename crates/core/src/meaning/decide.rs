//! The meaning for one packet: one question after the other, until one of them decides.

use super::Meaning;
use super::address_facts::{InterfaceFacts, UNSPECIFIED_V4, UNSPECIFIED_V6};
use crate::plan::{ExceptionId, NetworkId};
use crate::space::{Ends, Packet, ServiceSet};
use crate::verdict::{Cause, Decision, NoRoute, Spoofing, Verdict};

impl Meaning<'_> {
    /// What happens to a packet, and the entry of the plan that says so.
    ///
    /// Asks one question after the other, the first that applies decides: does it stay within a network, is its
    /// source spoofed, is it for a service that is offered, is it for the gateway or from it, does a route lead
    /// there, does an exception match, what does the cell of the matrix say? A packet that enters at an interface
    /// that the plan does not have counts as spoofed.
    pub fn decide(&self, packet: &Packet) -> Decision {
        if packet.enters == self.facts.gateway_interface {
            return self.begun_by_gateway(packet);
        }
        if self.plan.is_translated(packet.enters) && self.facts.lets_in(packet) {
            return self.on_its_way(packet);
        }
        let Some(facts) = self.facts.interface(packet.enters) else {
            return denied(Verdict::Block, true, Cause::Spoofed(Spoofing::Source, packet.enters));
        };
        if facts.own.contains(packet.source())
            && facts.own.contains(packet.destination())
            && let Some(network) = self.plan.network_on(packet.enters)
        {
            return denied(Verdict::NotRouted, false, Cause::SameNetwork(network));
        }
        if let Some(spoofing) = self.spoofing(packet, facts) {
            return denied(Verdict::Block, true, Cause::Spoofed(spoofing, packet.enters));
        }
        if let Some(inside) = self.translate(packet) {
            return self.on_its_way(&inside);
        }
        if facts.to_gateway.contains(packet.destination()) {
            return self.at_gateway(packet, facts);
        }
        if let Some(reason) = self.no_route(packet) {
            return denied(Verdict::NoRoute, false, Cause::NoRoute(reason));
        }
        self.on_its_way(packet)
    }

    fn on_its_way(&self, packet: &Packet) -> Decision {
        match self.top_exception(packet) {
            Some(id) => self.exception(id),
            None => self.by_cell(packet),
        }
    }

    fn begun_by_gateway(&self, packet: &Packet) -> Decision {
        if has(&self.facts.lives_by, packet) {
            return allowed(false, Cause::FromGateway);
        }
        match self.top_exception(packet) {
            Some(id) => self.exception(id),
            None => allowed(false, Cause::FromGateway),
        }
    }

    fn spoofing(&self, packet: &Packet, facts: &InterfaceFacts) -> Option<Spoofing> {
        let source = packet.source();
        if source == UNSPECIFIED_V4 || source == UNSPECIFIED_V6 {
            if !has(&self.facts.from_unspecified, packet) {
                return Some(Spoofing::Unspecified);
            }
        } else if !facts.belongs.contains(source) {
            return Some(Spoofing::Source);
        }
        facts.hidden.contains(packet.destination()).then_some(Spoofing::ToPrivate)
    }

    fn at_gateway(&self, packet: &Packet, facts: &InterfaceFacts) -> Decision {
        let (plan, destination) = (self.plan, packet.destination());
        if has(&self.facts.ipv6_needs, packet) {
            return allowed(false, Cause::Ipv6Needs);
        }
        if let Some(id) = self.top_exception(packet) {
            return self.exception(id);
        }
        if let Some(manage) = &plan.gateway().manage
            && manage.from.addresses.contains(packet.source())
            && self.facts.gateway_inside.contains(destination)
            && has(&manage.service.set, packet)
        {
            let logged = plan.matrix().log().logs(crate::plan::Action::Allow);
            return allowed(logged, Cause::Manage);
        }
        if plan.gateway_outside().contains(destination)
            && let Some(tunnel) = self.listens(packet)
        {
            return allowed(false, Cause::TunnelPort(tunnel));
        }
        if facts.service_points.contains(destination)
            && has(&self.facts.discovery, packet)
            && let Some(index) = self.repeats_names_of(packet)
        {
            return allowed(false, Cause::Discovery(index));
        }
        if let Some(network) = plan.network_on(packet.enters) {
            let offered = self.uses(network).is_some_and(|uses| has(uses, packet));
            if offered && facts.service_points.contains(destination) {
                return allowed(false, Cause::GatewayService(packet.enters));
            }
        }
        let leased = plan.uplink_on(packet.enters).is_some_and(|uplink| uplink.dhcp);
        let reported = facts.lease_points.contains(destination);
        if leased && reported && has(&self.facts.uplink_lease, packet) {
            return allowed(false, Cause::GatewayService(packet.enters));
        }
        denied(Verdict::Block, plan.matrix().unmatched().log, Cause::Unmatched)
    }

    /// The first tunnel for which the gateway listens where a packet goes.
    fn listens(&self, packet: &Packet) -> Option<NetworkId> {
        self.plan.network_ids().find(|id| {
            let tunnel = self.plan.network(*id).tunnel.as_ref();
            let listens = tunnel.and_then(|tunnel| tunnel.listens.as_ref());
            listens.is_some_and(|listens| has(&listens.set, packet))
        })
    }

    /// The first entry that repeats names out of the network where a packet enters.
    fn repeats_names_of(&self, packet: &Packet) -> Option<usize> {
        let network = self.plan.network_on(packet.enters)?;
        self.plan.discoveries().iter().position(|d| d.between.contains(&network))
    }

    /// What a network may use the gateway for: its own list, or its zone's.
    pub(super) fn uses(&self, network: NetworkId) -> Option<&ServiceSet> {
        let network = self.plan.network(network);
        let uses = network.uses.as_ref().or(self.plan.zone(network.zone).uses.as_ref());
        uses.map(|uses| &uses.set)
    }

    fn no_route(&self, packet: &Packet) -> Option<NoRoute> {
        let (source, destination) = (packet.source(), packet.destination());
        let facts = &self.facts;
        if facts.link_only.contains(source) {
            return Some(NoRoute::LinkOnly);
        }
        if facts.inside.contains(destination) {
            return facts.broadcasts.contains(destination).then_some(NoRoute::Broadcast);
        }
        if self.beside(destination).is_some() {
            return None;
        }
        if !facts.internet.contains(destination) {
            return Some(NoRoute::Nowhere);
        }
        if !facts.outward.contains(destination) {
            return Some(NoRoute::NoUplink);
        }
        facts.unique_local.contains(source).then_some(NoRoute::UniqueLocal)
    }

    /// Of the exceptions that match and have no matching one directly above them, the first of the
    /// file. They all agree, or the plan would have been refused.
    fn top_exception(&self, packet: &Packet) -> Option<ExceptionId> {
        let precedence = &self.precedence;
        let near = precedence.near_packet(packet);
        let matching: Vec<ExceptionId> =
            near.filter(|id| precedence.set(*id).contains(packet)).collect();
        let is_top = |id: &ExceptionId| {
            !precedence.above(*id).iter().any(|a| matching.binary_search(a).is_ok())
        };
        matching.iter().copied().find(is_top)
    }

    /// The uplink in whose own subnet an address lies, if that is not the internet's.
    fn beside(&self, destination: std::net::IpAddr) -> Option<usize> {
        self.facts.beside.iter().position(|own| own.contains(destination))
    }

    fn by_cell(&self, packet: &Packet) -> Decision {
        if let Some(uplink) = self.beside(packet.destination()) {
            return Decision { cause: Cause::BesideUplink(uplink), ..self.unmatched() };
        }
        let to = self.plan.zone_to(packet.destination());
        match self.plan.zone_from(packet.enters, packet.source()) {
            Some(from) => self.cell(from, to),
            None => allowed(false, Cause::FromGateway),
        }
    }
}

fn has(services: &ServiceSet, packet: &Packet) -> bool {
    let line = match packet.ends {
        Ends::V4 { .. } => &services.v4,
        Ends::V6 { .. } => &services.v6,
    };
    line.contains(packet.service)
}

fn allowed(logged: bool, cause: Cause) -> Decision {
    Decision { verdict: Verdict::Allow, logged, cause }
}

fn denied(verdict: Verdict, logged: bool, cause: Cause) -> Decision {
    Decision { verdict, logged, cause }
}
