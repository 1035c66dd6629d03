//! The list for traffic to the gateway itself: what IPv6 needs, exceptions, management, tunnels, names,
//! services, the rest.

use super::super::order::Line;
use super::super::{Endpoint, Rule, Stage, implicit_traffic};
use super::{Words, Writer};
use crate::plan::{Action, NetworkId};
use crate::rules::RuleId;
use crate::space::{Match, Protocol, ServiceSet};
use crate::verdict::Cause;

impl Writer<'_> {
    pub(super) fn arriving(&self, lines: &[Line]) -> Vec<Rule> {
        let plan = self.plan;
        let mut rules = Vec::new();
        let needs =
            Match { service: implicit_traffic::ipv6_needs(), ..implicit_traffic::arriving(plan) };
        let words = Words { to: Endpoint::Gateway, ..Words::any("needed ICMPv6") };
        let id = RuleId::new("ipv6_needs");
        let mut rule = self.rule(id, Action::Allow, false, Cause::Ipv6Needs, words, needs);
        rule.name = "what IPv6 needs".to_owned();
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
            let interface = plan.uplink_interface(index);
            let service = implicit_traffic::lease_from_provider();
            let destination = uplink.gateway().union(&implicit_traffic::heard_by_all());
            let product = Match { service, destination, ..implicit_traffic::entering(interface) };
            let (from, to) = (Endpoint::named("internet"), Endpoint::Gateway);
            let words = Words { from, to, ..Words::any("lease") };
            let id = RuleId::new("gateway_service").in_list(format!("uplink.{}", uplink.name));
            let cause = Cause::GatewayService(interface);
            let mut rule = self.rule(id, Action::Allow, false, cause, words, product);
            rule.name = format!("uplink {} gets its address", uplink.name);
            rule.reason = "The provider assigns the address by DHCP".to_owned();
            rules.push(rule);
        }
        rules.push(self.closing(Stage::ToGateway, Action::Block, implicit_traffic::arriving(plan)));
        rules
    }

    /// What a rule says that is for the gateway's own address in a network.
    fn to_gateway_in(&self, zone: &str, network: &str, service: &str) -> Words {
        Words {
            from: Endpoint::named(zone),
            source: Endpoint::expression(network),
            to: Endpoint::Gateway,
            destination: Endpoint::expression(format!("gateway in {network}")),
            service: service.to_owned(),
        }
    }

    fn manage(&self) -> Option<Rule> {
        let manage = self.plan.gateway().manage.as_ref()?;
        let product = Match {
            source: manage.from.addresses.clone(),
            destination: self.plan.gateway_inside().clone(),
            service: manage.service.set.clone(),
            ..implicit_traffic::arriving(self.plan)
        };
        let words = Words {
            from: self.zone_words(&manage.from.addresses),
            source: Endpoint::expression(&manage.from.text),
            to: Endpoint::Gateway,
            destination: Endpoint::expression("inside addresses"),
            service: manage.service.text.clone(),
        };
        let log = self.plan.matrix().log().logs(Action::Allow);
        let mut rule =
            self.rule(RuleId::new("manage"), Action::Allow, log, Cause::Manage, words, product);
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
                destination: plan.gateway_outside().clone(),
                service: listens.set.clone(),
                ..implicit_traffic::arriving(plan)
            };
            let words = Words {
                to: Endpoint::Gateway,
                destination: Endpoint::expression("outside addresses"),
                ..Words::any(&listens.text)
            };
            let (rule_id, cause) =
                (RuleId::new(format!("tunnel_port.{}", network.name)), Cause::TunnelPort(id));
            let mut rule = self.rule(rule_id, Action::Allow, false, cause, words, product);
            rule.name = format!("tunnel {} is reachable", network.name);
            rule.reason = "Its clients connect from outside".to_owned();
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
                    destination: implicit_traffic::service_addresses(plan, id),
                    service: ServiceSet::ports(Protocol::UDP, 5353, 5353),
                    ..implicit_traffic::entering(plan.network_interface(id))
                };
                let zone = plan.zone(plan.network(id).zone).name.as_str();
                let words = self.to_gateway_in(zone, name, "mdns");
                let rule_id = RuleId::new(format!("discovery.{}", discovery.name)).in_list(name);
                let cause = Cause::Discovery(index);
                let mut rule = self.rule(rule_id, Action::Allow, false, cause, words, product);
                rule.name = format!("mDNS in {name}");
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
            destination: implicit_traffic::service_addresses(self.plan, id),
            service: uses.set.clone(),
            ..implicit_traffic::entering(self.plan.network_interface(id))
        };
        let name = network.name.as_str();
        let words = self.to_gateway_in(zone.name.as_str(), name, &uses.text);
        let cause = Cause::GatewayService(self.plan.network_interface(id));
        let rule_id = RuleId::new(format!("gateway_service.{name}"));
        let mut rule = self.rule(rule_id, Action::Allow, false, cause, words, product);
        rule.name = format!("gateway's services for {name}");
        rule.reason = match &network.uses {
            Some(_) => format!("Network {name} has a list of its own"),
            None => format!("Zone {} may use them", zone.name),
        };
        Some(rule)
    }
}
