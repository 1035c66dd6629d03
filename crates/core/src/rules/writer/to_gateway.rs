//! The list for traffic to the gateway itself: what IPv6 needs, exceptions, management, tunnels, names,
//! services, the rest.

use super::super::order::Line;
use super::super::{Rule, Stage, frame};
use super::{Words, Writer};
use crate::plan::{Action, NetworkId};
use crate::space::{Match, Protocol, ServiceSet};
use crate::verdict::Cause;

impl Writer<'_> {
    pub(super) fn arriving(&self, lines: &[Line]) -> Vec<Rule> {
        let plan = self.plan;
        let mut rules = Vec::new();
        let needs = Match { service: frame::ipv6_needs(), ..frame::arriving(plan) };
        let words = Words::new("any", "any", "gateway", "any", "needed ICMPv6");
        let id = "ipv6_needs".to_owned();
        let mut rule = self.rule(id, Action::Allow, false, Cause::Ipv6Needs, words, Some(needs));
        rule.name = "what IPv6 cannot do without".to_owned();
        rule.reason =
            "Without neighbour discovery no IPv6 reaches or leaves the gateway (RFC 4890)"
                .to_owned();
        rules.push(rule);
        for line in lines.iter().filter(|line| plan.exception(line.exception).to.gateway) {
            rules.extend(self.exception_rules_to_gateway(line));
        }
        rules.extend(self.manage());
        rules.extend(self.tunnel_ports());
        rules.extend(self.discoveries());
        rules.extend(plan.network_ids().filter_map(|id| self.services(id)).collect::<Vec<_>>());
        for (index, uplink) in plan.uplinks().iter().enumerate().filter(|entry| entry.1.dhcp) {
            let leg = plan.uplink_leg(index);
            let service = frame::lease_from_provider();
            let destination = uplink.gateway().union(&frame::heard_by_all());
            let product = Match { service, destination, ..frame::entering(leg) };
            let words = Words::new("internet", "any", "gateway", "any", "lease");
            let id = format!("gateway_service@uplink.{}", uplink.name);
            let cause = Cause::GatewayService(leg);
            let mut rule = self.rule(id, Action::Allow, false, cause, words, Some(product));
            rule.name = format!("uplink {} gets its address", uplink.name);
            rule.reason = "The provider hands the address out by DHCP".to_owned();
            rules.push(rule);
        }
        rules.push(self.closing(Stage::ToGateway, Action::Block, frame::arriving(plan)));
        rules
    }

    fn manage(&self) -> Option<Rule> {
        let manage = self.plan.gateway().manage.as_ref()?;
        let product = Match {
            source: manage.from.addresses.clone(),
            destination: self.plan.gateway_inside(),
            service: manage.service.set.clone(),
            ..frame::arriving(self.plan)
        };
        let from = self.zone_words(&manage.from.addresses);
        let words = Words::new(
            &from,
            &manage.from.text,
            "gateway",
            "inside addresses",
            &manage.service.text,
        );
        let log = self.plan.matrix().log().logs(Action::Allow);
        let mut rule =
            self.rule("manage".to_owned(), Action::Allow, log, Cause::Manage, words, Some(product));
        rule.name = format!("manage the gateway from {}", manage.from.text);
        rule.reason = if manage.second_factor {
            "Only these may manage the gateway, with a second factor".to_owned()
        } else {
            "Only these may manage the gateway".to_owned()
        };
        Some(rule)
    }

    fn tunnel_ports(&self) -> Vec<Rule> {
        let plan = self.plan;
        let mut rules = Vec::new();
        for id in plan.network_ids() {
            let network = plan.network(id);
            let tunnel = network.tunnel.as_ref();
            let Some(listens) = tunnel.and_then(|tunnel| tunnel.listens.as_ref()) else { continue };
            let product = Match {
                destination: plan.gateway_outside(),
                service: listens.set.clone(),
                ..frame::arriving(plan)
            };
            let words = Words::new("any", "any", "gateway", "outside addresses", &listens.text);
            let (rule_id, cause) = (format!("tunnel_port.{}", network.name), Cause::TunnelPort(id));
            let mut rule = self.rule(rule_id, Action::Allow, false, cause, words, Some(product));
            rule.name = format!("tunnel {} can be reached", network.name);
            rule.reason = "Its clients arrive there from outside".to_owned();
            rules.push(rule);
        }
        rules
    }

    fn discoveries(&self) -> Vec<Rule> {
        let plan = self.plan;
        let mut rules = Vec::new();
        for (index, discovery) in plan.discoveries().iter().enumerate() {
            for &id in &discovery.between {
                let name = plan.network(id).name.as_str();
                let product = Match {
                    destination: frame::service_addresses(plan, id),
                    service: ServiceSet::ports(Protocol::UDP, 5353, 5353),
                    ..frame::entering(plan.network_leg(id))
                };
                let zone = plan.zone(plan.network(id).zone).name.as_str();
                let words =
                    Words::new(zone, name, "gateway", &format!("gateway in {name}"), "mdns");
                let rule_id = format!("discovery.{}@{name}", discovery.name);
                let cause = Cause::Discovery(index);
                let mut rule =
                    self.rule(rule_id, Action::Allow, false, cause, words, Some(product));
                rule.name = format!("names announced in {name}");
                rule.reason = format!("Discovery {} repeats them", discovery.name);
                rules.push(rule);
            }
        }
        rules
    }

    fn services(&self, id: NetworkId) -> Option<Rule> {
        let network = self.plan.network(id);
        let zone = self.plan.zone(network.zone);
        let uses = network.uses.as_ref().or(zone.uses.as_ref()).filter(|u| !u.set.is_empty())?;
        let product = Match {
            destination: frame::service_addresses(self.plan, id),
            service: uses.set.clone(),
            ..frame::entering(self.plan.network_leg(id))
        };
        let name = network.name.as_str();
        let words = Words::new(
            zone.name.as_str(),
            name,
            "gateway",
            &format!("gateway in {name}"),
            &uses.text,
        );
        let cause = Cause::GatewayService(self.plan.network_leg(id));
        let rule_id = format!("gateway_service.{name}");
        let mut rule = self.rule(rule_id, Action::Allow, false, cause, words, Some(product));
        rule.name = format!("gateway's services for {name}");
        rule.reason = match &network.uses {
            Some(_) => format!("Network {name} has a list of its own"),
            None => format!("Zone {} may use them", zone.name),
        };
        Some(rule)
    }
}
