//! The steps of the meaning at one interface, in order. Each takes out of a packet set what it decides and leaves the
//! rest to the steps below it.

use super::Meaning;
use super::address_facts::{InterfaceFacts, unspecified};
use crate::plan::{Action, ZoneId};
use crate::space::{AddressSet, Interface, IntervalSet, Match, ServiceSet};
use crate::verdict::{Cause, Decision, NoRoute, Spoofing, Verdict};

/// One step.
#[derive(Clone, Debug)]
pub(crate) enum Step {
    /// These packets fare like that.
    Decide(Box<Match>, Decision),
    /// What asks for an offered service is decided as what it becomes.
    Offered,
    /// The exceptions decide, of what goes to these destinations.
    Exceptions(AddressSet),
}

fn decision(verdict: Verdict, logged: bool, cause: Cause) -> Decision {
    Decision { verdict, logged, cause }
}

fn entering(interface: Interface) -> Match {
    Match { enters: IntervalSet::point(interface), ..Match::everything() }
}

impl Meaning<'_> {
    /// The steps for what enters at an interface. Those for translated packets are only right for such that an
    /// offered service lets in.
    pub(crate) fn steps(&self, interface: Interface) -> Vec<Step> {
        self.steps_to(interface, &AddressSet::full())
    }

    /// The same, for packets to some destinations alone: steps that decide nothing about these may be missing.
    pub(super) fn steps_to(&self, interface: Interface, destinations: &AddressSet) -> Vec<Step> {
        let mut steps = Vec::new();
        if interface == self.facts.gateway_interface {
            let lives = Match { service: self.facts.lives_by.clone(), ..entering(interface) };
            let goes_out = decision(Verdict::Allow, false, Cause::FromGateway);
            steps.push(Step::Decide(Box::new(lives), goes_out));
            steps.push(Step::Exceptions(AddressSet::full()));
            let begun = decision(Verdict::Allow, false, Cause::FromGateway);
            steps.push(Step::Decide(Box::new(entering(interface)), begun));
            return steps;
        }
        if let Some(facts) = self.facts.interface(interface) {
            self.same_network(facts, &mut steps);
            self.spoofed(facts, &mut steps);
            steps.push(Step::Offered);
            self.to_gateway(facts, &mut steps);
            self.without_way(interface, &mut steps);
        }
        steps.push(Step::Exceptions(AddressSet::full()));
        self.cells(interface, destinations, &mut steps);
        steps
    }

    fn same_network(&self, facts: &InterfaceFacts, steps: &mut Vec<Step>) {
        let Some(id) = self.plan.network_on(facts.interface) else { return };
        let within = Match {
            source: facts.own.clone(),
            destination: facts.own.clone(),
            ..entering(facts.interface)
        };
        let same = decision(Verdict::NotRouted, false, Cause::SameNetwork(id));
        steps.push(Step::Decide(Box::new(within), same));
    }

    fn spoofed(&self, facts: &InterfaceFacts, steps: &mut Vec<Step>) {
        let mut blocked = |spoofing, packets| {
            let cause = Cause::Spoofed(spoofing, facts.interface);
            steps.push(Step::Decide(Box::new(packets), decision(Verdict::Block, true, cause)));
        };
        let strange = facts.belongs.union(&unspecified()).complement();
        blocked(Spoofing::Source, Match { source: strange, ..entering(facts.interface) });
        let asks_nothing = Match {
            source: unspecified(),
            service: ServiceSet::any().difference(&self.facts.from_unspecified),
            ..entering(facts.interface)
        };
        blocked(Spoofing::Unspecified, asks_nothing);
        let hidden = Match { destination: facts.hidden.clone(), ..entering(facts.interface) };
        blocked(Spoofing::ToPrivate, hidden);
    }

    fn to_gateway(&self, facts: &InterfaceFacts, steps: &mut Vec<Step>) {
        let plan = self.plan;
        let here = Match { destination: facts.to_gateway.clone(), ..entering(facts.interface) };
        let needs = Match { service: self.facts.ipv6_needs.clone(), ..here.clone() };
        steps
            .push(Step::Decide(Box::new(needs), decision(Verdict::Allow, false, Cause::Ipv6Needs)));
        steps.push(Step::Exceptions(facts.to_gateway.clone()));
        let mut allow = |packets: Match, logged, cause| {
            let destination = packets.destination.intersection(&facts.to_gateway);
            let packets = Match { destination, ..packets };
            steps.push(Step::Decide(Box::new(packets), decision(Verdict::Allow, logged, cause)));
        };
        if let Some(manage) = &plan.gateway().manage {
            let managing = Match {
                source: manage.from.addresses.clone(),
                destination: self.facts.gateway_inside.clone(),
                service: manage.service.set.clone(),
                ..here.clone()
            };
            allow(managing, plan.matrix().log().logs(Action::Allow), Cause::Manage);
        }
        for id in plan.network_ids() {
            let tunnel = plan.network(id).tunnel.as_ref();
            let Some(listens) = tunnel.and_then(|tunnel| tunnel.listens.as_ref()) else { continue };
            let (destination, service) = (plan.gateway_outside().clone(), listens.set.clone());
            allow(Match { destination, service, ..here.clone() }, false, Cause::TunnelPort(id));
        }
        let at_service = |service: &ServiceSet| Match {
            destination: facts.service_points.clone(),
            service: service.clone(),
            ..here.clone()
        };
        if let Some(network) = plan.network_on(facts.interface) {
            for (index, discovery) in plan.discoveries().iter().enumerate() {
                if discovery.between.contains(&network) {
                    allow(at_service(&self.facts.discovery), false, Cause::Discovery(index));
                }
            }
            if let Some(uses) = self.uses(network) {
                allow(at_service(uses), false, Cause::GatewayService(facts.interface));
            }
        }
        if plan.uplink_on(facts.interface).is_some_and(|uplink| uplink.dhcp) {
            let (service, destination) =
                (self.facts.uplink_lease.clone(), facts.lease_points.clone());
            let lease = Match { service, destination, ..here.clone() };
            allow(lease, false, Cause::GatewayService(facts.interface));
        }
        let logged = plan.matrix().unmatched().log;
        let rest = decision(Verdict::Block, logged, Cause::Unmatched);
        steps.push(Step::Decide(Box::new(here), rest));
    }

    fn without_way(&self, interface: Interface, steps: &mut Vec<Step>) {
        let facts = &self.facts;
        let mut none = |reason, packets| {
            let none = decision(Verdict::NoRoute, false, Cause::NoRoute(reason));
            steps.push(Step::Decide(Box::new(packets), none));
        };
        let to = |destination: AddressSet| Match { destination, ..entering(interface) };
        none(NoRoute::LinkOnly, Match { source: facts.link_only.clone(), ..entering(interface) });
        none(NoRoute::Broadcast, to(facts.broadcasts.clone()));
        let inside = facts.beside.iter().fold(facts.inside.clone(), |all, own| all.union(own));
        none(NoRoute::Nowhere, to(inside.union(&facts.internet).complement()));
        none(NoRoute::NoUplink, to(facts.internet.difference(&facts.outward)));
        let source = facts.unique_local.clone();
        none(NoRoute::UniqueLocal, Match { source, ..to(facts.internet.clone()) });
    }

    fn cells(&self, interface: Interface, destinations: &AddressSet, steps: &mut Vec<Step>) {
        for (uplink, destination) in self.facts.beside.iter().enumerate() {
            let packets = Match { destination: destination.clone(), ..entering(interface) };
            let beside = Decision { cause: Cause::BesideUplink(uplink), ..self.unmatched() };
            steps.push(Step::Decide(Box::new(packets), beside));
        }
        let came_by = self.plan.came_by(interface);
        let touched = |to: &ZoneId| !self.plan.zone_prefixes(*to).is_disjoint(destinations);
        let zones: Vec<ZoneId> = self.plan.zone_ids().filter(touched).collect();
        for from in self.plan.zone_ids() {
            for (interfaces, source) in self.plan.zone_entries(from) {
                if !interfaces.contains(came_by) {
                    continue;
                }
                for &to in &zones {
                    let (source, destination) =
                        (source.clone(), self.plan.zone_prefixes(to).clone());
                    let packets = Match { source, destination, ..entering(interface) };
                    steps.push(Step::Decide(Box::new(packets), self.cell(from, to)));
                }
            }
        }
    }
}
