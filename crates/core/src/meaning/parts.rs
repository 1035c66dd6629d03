//! A whole packet set, cut along the same steps.

use super::Meaning;
use super::ground::{LegGround, unspecified};
use crate::plan::Action;
use crate::space::{AddressSet, IntervalSet, Leg, Match, PacketSet, ServiceSet};
use crate::verdict::{Cause, Decision, Forgery, NoWay, Verdict};

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
    /// The legs that the whole set enters at: no others need be looked at.
    enters: IntervalSet<Leg>,
    pub(super) parts: Vec<Part>,
}

impl Cutter {
    pub(super) fn new(rest: PacketSet) -> Self {
        Self { enters: rest.enters(), rest, parts: Vec::new() }
    }

    /// Decides everything of the rest that lies in one of the products.
    fn cut(&mut self, products: impl IntoIterator<Item = Match>, decision: Decision) {
        for product in products {
            if self.rest.is_empty() {
                return;
            }
            self.cut_set(&PacketSet::from(product), decision);
        }
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

fn decision(verdict: Verdict, logged: bool, cause: Cause) -> Decision {
    Decision { verdict, logged, cause }
}

fn entering(leg: Leg) -> Match {
    Match { enters: IntervalSet::point(leg), ..Match::everything() }
}

impl Meaning<'_> {
    /// Cuts a set into parts to which the same happens for the same reason. Together the parts are
    /// the set again, as far as its packets enter at legs that the plan has.
    pub fn parts(&self, set: &PacketSet) -> Vec<Part> {
        let mut cutter = Cutter::new(set.intersection(&self.universe()));
        self.cut_from_gateway(&mut cutter);
        self.cut_same_network(&mut cutter);
        for ground in self.legs_of(&cutter) {
            self.cut_forged(ground, &mut cutter);
        }
        self.cut_offered(&mut cutter);
        self.cut_to_gateway(&mut cutter);
        self.cut_no_way(&mut cutter);
        self.cut_exceptions(&mut cutter);
        self.cut_cells(&mut cutter);
        debug_assert!(cutter.rest.is_empty(), "the cells take all that is left");
        cutter.parts
    }

    fn legs_of(&self, cutter: &Cutter) -> Vec<&LegGround> {
        let legs = self.ground.legs.iter();
        legs.filter(|ground| cutter.enters.contains(ground.leg)).collect()
    }

    fn cut_from_gateway(&self, cutter: &mut Cutter) {
        if !cutter.enters.contains(self.ground.gateway_leg) {
            return;
        }
        let own = PacketSet::from(entering(self.ground.gateway_leg));
        let mut gateway = Cutter::new(cutter.rest.intersection(&own));
        cutter.rest = cutter.rest.difference(&own);
        self.cut_exceptions(&mut gateway);
        gateway.cut_set(&own, decision(Verdict::Allow, false, Cause::FromGateway));
        cutter.parts.append(&mut gateway.parts);
    }

    fn cut_same_network(&self, cutter: &mut Cutter) {
        for ground in self.legs_of(cutter) {
            let Some(id) = self.plan.network_on(ground.leg) else { continue };
            let within = Match {
                source: ground.own.clone(),
                destination: ground.own.clone(),
                ..entering(ground.leg)
            };
            let same = decision(Verdict::DoesNotPass, false, Cause::SameNetwork(id));
            cutter.cut([within], same);
        }
    }

    fn cut_forged(&self, ground: &LegGround, cutter: &mut Cutter) {
        let blocked = |forgery| decision(Verdict::Block, true, Cause::Forged(forgery, ground.leg));
        let strange = ground.belongs.union(&unspecified()).complement();
        let from_strange = Match { source: strange, ..entering(ground.leg) };
        cutter.cut([from_strange], blocked(Forgery::Source));
        let asks_nothing = Match {
            source: unspecified(),
            service: ServiceSet::any().difference(&self.ground.from_unspecified),
            ..entering(ground.leg)
        };
        cutter.cut([asks_nothing], blocked(Forgery::Unspecified));
        let hidden = Match { destination: ground.hidden.clone(), ..entering(ground.leg) };
        cutter.cut([hidden], blocked(Forgery::ToPrivate));
    }

    fn cut_to_gateway(&self, cutter: &mut Cutter) {
        let all: PacketSet = self.legs_of(cutter).into_iter().map(for_gateway).collect();
        if cutter.rest.is_disjoint(&all) {
            return;
        }
        let mut local = Cutter::new(cutter.rest.intersection(&all));
        cutter.rest = cutter.rest.difference(&all);
        let needs = Match { service: self.ground.ipv6_needs.clone(), ..Match::everything() };
        local.cut([needs], decision(Verdict::Allow, false, Cause::Ipv6Needs));
        self.cut_exceptions(&mut local);
        if let Some(manage) = &self.plan.gateway().manage {
            let managing = Match {
                source: manage.from.addresses.clone(),
                destination: self.ground.gateway_inside.clone(),
                service: manage.service.set.clone(),
                ..Match::everything()
            };
            let logged = self.plan.matrix().log().logs(Action::Allow);
            local.cut([managing], decision(Verdict::Allow, logged, Cause::Manage));
        }
        self.cut_tunnel_ports(&mut local);
        self.cut_discovery(&mut local);
        self.cut_gateway_services(&mut local);
        let logged = self.plan.matrix().unmatched().log;
        local.cut([Match::everything()], decision(Verdict::Block, logged, Cause::Unmatched));
        for part in local.parts {
            cutter.parts.push(part);
        }
    }

    fn cut_tunnel_ports(&self, local: &mut Cutter) {
        for id in self.plan.network_ids() {
            let tunnel = self.plan.network(id).tunnel.as_ref();
            let Some(listens) = tunnel.and_then(|tunnel| tunnel.listens.as_ref()) else { continue };
            let arriving = Match {
                destination: self.plan.gateway_outside(),
                service: listens.set.clone(),
                ..Match::everything()
            };
            local.cut([arriving], decision(Verdict::Allow, false, Cause::TunnelPort(id)));
        }
    }

    fn cut_discovery(&self, local: &mut Cutter) {
        for (index, discovery) in self.plan.discoveries().iter().enumerate() {
            for &id in &discovery.between {
                let Some(ground) = self.ground.leg(self.plan.network_leg(id)) else { continue };
                let announced = Match {
                    destination: ground.service_points.clone(),
                    service: self.ground.discovery.clone(),
                    ..entering(ground.leg)
                };
                local.cut([announced], decision(Verdict::Allow, false, Cause::Discovery(index)));
            }
        }
    }

    fn cut_gateway_services(&self, local: &mut Cutter) {
        for ground in self.legs_of(local) {
            let offered = decision(Verdict::Allow, false, Cause::GatewayService(ground.leg));
            if let Some(network) = self.plan.network_on(ground.leg)
                && let Some(uses) = self.uses(network)
            {
                let asking = Match {
                    destination: ground.service_points.clone(),
                    service: uses.clone(),
                    ..entering(ground.leg)
                };
                local.cut([asking], offered);
            }
            if self.plan.uplink_on(ground.leg).is_some_and(|uplink| uplink.dhcp) {
                let service = self.ground.uplink_lease.clone();
                local.cut([Match { service, ..entering(ground.leg) }], offered);
            }
        }
    }

    fn cut_no_way(&self, cutter: &mut Cutter) {
        let ground = &self.ground;
        let none = |reason| decision(Verdict::NoWay, false, Cause::NoRoute(reason));
        let to = |destination: AddressSet| Match { destination, ..Match::everything() };
        let from_link = Match { source: ground.link_only.clone(), ..Match::everything() };
        cutter.cut([from_link], none(NoWay::LinkOnly));
        cutter.cut([to(ground.broadcasts.clone())], none(NoWay::Broadcast));
        let nowhere = ground.inside.union(&ground.internet).complement();
        cutter.cut([to(nowhere)], none(NoWay::Nowhere));
        if !ground.has_uplink {
            cutter.cut([to(ground.internet.clone())], none(NoWay::NoUplink));
        }
        let local_outward =
            Match { source: ground.unique_local.clone(), ..to(ground.internet.clone()) };
        cutter.cut([local_outward], none(NoWay::UniqueLocal));
    }

    /// Each exception, in the file's order, decides what it matches and nothing directly above it
    /// does: a later one cannot say otherwise about the same packet.
    pub(super) fn cut_exceptions(&self, cutter: &mut Cutter) {
        for &id in self.precedence.active() {
            let own = self.precedence.set(id);
            if cutter.rest.is_disjoint(own) {
                continue;
            }
            let top = self
                .precedence
                .above(id)
                .iter()
                .fold(cutter.rest.intersection(own), |top, above| {
                    top.difference(self.precedence.set(*above))
                });
            cutter.cut_set(&top, self.exception(id));
        }
    }

    pub(super) fn cut_cells(&self, cutter: &mut Cutter) {
        for from in self.plan.zone_ids() {
            let entries = self.plan.zone_entries(from).into_iter();
            // What was translated comes from where it entered, too.
            let entries = entries.map(|(legs, source)| (legs.union(&self.moved(&legs)), source));
            let entries = entries.filter(|(legs, _)| !cutter.enters.is_disjoint(legs));
            for (enters, source) in entries.collect::<Vec<_>>() {
                if cutter.rest.is_empty() {
                    return;
                }
                let row = Match { enters, source, ..Match::everything() };
                for to in self.plan.zone_ids() {
                    let destination = self.plan.zone_prefixes(to);
                    cutter.cut([Match { destination, ..row.clone() }], self.cell(from, to));
                }
            }
        }
    }
}

fn for_gateway(ground: &LegGround) -> Match {
    Match { destination: ground.to_gateway.clone(), ..entering(ground.leg) }
}
