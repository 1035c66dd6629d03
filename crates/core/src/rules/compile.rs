//! The form `one-list`.

use super::order::{self, Line};
use super::{Otherwise, Rule, RuleList, RuleSet, Stage, Translation, frame};
use crate::plan::{Action, Exception, Form, Inbound, NetworkId, Plan, Route, ZoneId};
use crate::space::{AddressSet, IntervalSet, Leg, Match, PacketSet, Protocol, ServiceSet};
use crate::verdict::{Cause, Forgery};
use jiff::civil::Date;
use std::collections::HashMap;

/// A rule's words about where packets come from and go to.
struct Words {
    from: String,
    source: String,
    to: String,
    destination: String,
    service: String,
}

impl Words {
    fn new(from: &str, source: &str, to: &str, destination: &str, service: &str) -> Self {
        let [from, source, to, destination, service] =
            [from, source, to, destination, service].map(str::to_owned);
        Self { from, source, to, destination, service }
    }
}

/// The numbers that the lists share.
struct Writer<'p> {
    plan: &'p Plan,
    gateway: PacketSet,
    /// The zones that have addresses, with these.
    zones: Vec<(ZoneId, AddressSet)>,
    next: u32,
    used: HashMap<String, u32>,
}

pub(super) fn one_list(plan: &Plan, day: Date, changes_on: Option<Date>) -> RuleSet {
    let lines = order::lines(plan, day);
    let gateway = frame::for_gateway(plan);
    let zones = plan.zone_ids().map(|zone| (zone, plan.zone_addresses(zone)));
    let zones = zones.filter(|(_, addresses)| !addresses.is_empty()).collect();
    let mut writer =
        Writer { plan, gateway: gateway.clone(), zones, next: 10, used: HashMap::new() };
    let arriving = PacketSet::from(frame::arriving(plan));
    let begun = PacketSet::from(frame::entering(plan.gateway_leg()));
    let lists = vec![
        RuleList {
            stage: Stage::Opening,
            rules: writer.opening(),
            otherwise: Otherwise::GoOn,
            covers: arriving.clone(),
        },
        RuleList {
            stage: Stage::ToGateway,
            rules: writer.arriving(&lines),
            otherwise: Otherwise::Block,
            covers: gateway.clone(),
        },
        RuleList {
            stage: Stage::Through,
            rules: writer.through(&lines),
            otherwise: Otherwise::Block,
            covers: arriving.difference(&gateway).union(&PacketSet::from(translated(plan))),
        },
        RuleList {
            stage: Stage::FromGateway,
            rules: writer.begun(&lines),
            otherwise: Otherwise::Allow,
            covers: begun,
        },
    ];
    let translations = super::translations(plan, day);
    let translations = translations.filter_map(|(_, inbound)| translation(plan, inbound)).collect();
    RuleSet { form: Form::OneList, day, changes_on, translations, lists }
}

/// Everything that has been translated on its way in.
fn translated(plan: &Plan) -> Match {
    let enters =
        IntervalSet::range(plan.translated_leg(Leg(0)), plan.translated_leg(plan.gateway_leg()));
    Match { enters, ..Match::everything() }
}

/// Legs together with those of what is translated after it entered there, in a plan that offers anything.
fn with_translated(plan: &Plan, enters: IntervalSet<Leg>) -> IntervalSet<Leg> {
    if plan.inbounds().is_empty() {
        return enters;
    }
    let spans = enters.spans().iter();
    let inside = spans.map(|(low, high)| (plan.translated_leg(*low), plan.translated_leg(*high)));
    enters.union(&IntervalSet::from_spans(inside))
}

fn translation(plan: &Plan, inbound: &Inbound) -> Option<Translation> {
    let permission = plan.exception(inbound.exception);
    let own = plan.uplinks()[inbound.uplink].gateway();
    Some(Translation {
        id: format!("translate.{}", permission.name),
        takes: Match {
            source: AddressSet { v4: permission.from.addresses.v4.clone(), ..AddressSet::empty() },
            destination: AddressSet { v4: own.v4, ..AddressSet::empty() },
            service: inbound.outside.clone(),
            ..frame::arriving(plan)
        },
        target: inbound.target?,
        shift: inbound.shift,
        leg: plan.translated_leg(Leg(0)).0,
    })
}

impl Writer<'_> {
    fn opening(&mut self) -> Vec<Rule> {
        let plan = self.plan;
        let mut rules = Vec::new();
        let any = Words::new("any", "any", "any", "any", "replies");
        let mut reply =
            self.rule("reply".to_owned(), Action::Allow, false, Cause::Reply, any, None);
        reply.name = "replies to permitted conversations".to_owned();
        reply.reason = "Without it nothing that is allowed would get an answer".to_owned();
        rules.push(reply);
        for id in plan.network_ids() {
            let name = plan.network(id).name.as_str();
            let source = format!("not in {name}");
            let words = Words::new(name, &source, "any", "any", "any");
            let product = frame::forged_at_network(plan, id);
            let cause = Cause::Forged(Forgery::Source, plan.network_leg(id));
            rules.push(self.forged(format!("forged.{name}"), cause, words, product));
        }
        for (index, uplink) in plan.uplinks().iter().enumerate() {
            let words = Words::new("internet", "inside or special-purpose", "any", "any", "any");
            let product = frame::forged_at_uplink(plan, index);
            let cause = Cause::Forged(Forgery::Source, plan.uplink_leg(index));
            rules.push(self.forged(
                format!("forged@uplink.{}", uplink.name),
                cause,
                words,
                product,
            ));
        }
        let words = Words::new("any", "0.0.0.0, ::", "any", "any", "not address requests");
        let cause = Cause::Forged(Forgery::Unspecified, Leg(0));
        let id = "forged@unspecified".to_owned();
        rules.push(self.forged(id, cause, words, frame::forged_unspecified(plan)));
        let product = frame::forged_to_private(plan);
        if !product.enters.is_empty() && !product.destination.is_empty() {
            let words = Words::new("internet", "any", "inside", "private addresses", "any");
            let cause = Cause::Forged(Forgery::ToPrivate, plan.uplink_leg(0));
            rules.push(self.forged("forged@to-private".to_owned(), cause, words, product));
        }
        rules
    }

    fn forged(&mut self, id: String, cause: Cause, words: Words, product: Match) -> Rule {
        let mut rule = self.rule(id, Action::Block, true, cause, words, Some(product));
        (rule.name, rule.reason) = match cause {
            Cause::Forged(Forgery::Source, leg) => (
                format!("forged sources at {}", self.plan.leg_name(leg)),
                "A source that does not belong there is forged (RFC 2827)".to_owned(),
            ),
            Cause::Forged(Forgery::ToPrivate, _) => (
                "outside packets for private addresses".to_owned(),
                "From outside nothing is addressed to a private address (RFC 3704)".to_owned(),
            ),
            _ => (
                "no source address".to_owned(),
                "Only a request for an address comes without one (RFC 2131, RFC 4861)".to_owned(),
            ),
        };
        rule
    }

    fn arriving(&mut self, lines: &[Line]) -> Vec<Rule> {
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
            let enters = frame::arriving(plan).enters;
            rules.extend(self.exception_rule(line, Stage::ToGateway, enters));
        }
        rules.extend(self.manage());
        rules.extend(self.tunnel_ports());
        rules.extend(self.discoveries());
        rules.extend(plan.network_ids().filter_map(|id| self.services(id)).collect::<Vec<_>>());
        for (index, uplink) in plan.uplinks().iter().enumerate().filter(|entry| entry.1.dhcp) {
            let leg = plan.uplink_leg(index);
            let service = frame::lease_from_provider();
            let product = Match { service, ..frame::entering(leg) };
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

    fn manage(&mut self) -> Option<Rule> {
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

    fn tunnel_ports(&mut self) -> Vec<Rule> {
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

    fn discoveries(&mut self) -> Vec<Rule> {
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

    fn services(&mut self, id: NetworkId) -> Option<Rule> {
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

    fn through(&mut self, lines: &[Line]) -> Vec<Rule> {
        let plan = self.plan;
        let mut rules = Vec::new();
        for line in lines {
            let enters = frame::arriving(plan).enters;
            let inside = translated(plan).enters;
            if plan.exception(line.exception).translated {
                // Translated it is seen in IPv4; in IPv6, as it came.
                rules.extend(self.exception_rule(line, Stage::Through, inside));
                rules.extend(self.exception_rule(line, Stage::Through, enters));
                continue;
            }
            rules.extend(self.exception_rule(line, Stage::Through, with_translated(plan, enters)));
        }
        for from in plan.zone_ids() {
            for to in plan.zone_ids() {
                rules.extend(self.cell(from, to));
            }
        }
        let unmatched = plan.matrix().unmatched();
        let arriving = frame::arriving(plan);
        let enters = with_translated(plan, arriving.enters.clone());
        let rest = Match { enters, ..arriving };
        rules.push(self.closing(Stage::Through, unmatched.denial.into(), rest));
        rules
    }

    fn cell(&mut self, from: ZoneId, to: ZoneId) -> Vec<Rule> {
        let plan = self.plan;
        let cell = plan.matrix().cell(from, to);
        let Some(action) = cell.action.filter(|_| something_passes(plan, from, to)) else {
            return Vec::new();
        };
        let mut rules = Vec::new();
        for (enters, source) in entries(plan, from) {
            let enters = with_translated(plan, enters);
            let destination = plan.zone_prefixes(to);
            let product = Match { enters, source, destination, ..Match::everything() };
            let (from_name, to_name) = (plan.zone(from).name.as_str(), plan.zone(to).name.as_str());
            let words = Words::new(from_name, "any", to_name, "any", "any");
            let id = format!("cell.{from_name}>{to_name}");
            let cause = Cause::Cell(from, to);
            let mut rule = self.rule(id, action, cell.log, cause, words, Some(product));
            rule.name = format!("{} {from_name} to {to_name}", action.word());
            rule.reason = if from == to {
                format!("The matrix, between the networks of {from_name}")
            } else {
                "The matrix".to_owned()
            };
            rules.push(rule);
        }
        rules
    }

    fn begun(&mut self, lines: &[Line]) -> Vec<Rule> {
        let plan = self.plan;
        let own = IntervalSet::point(plan.gateway_leg());
        lines
            .iter()
            .filter(|line| plan.exception(line.exception).from.gateway)
            .filter_map(|line| self.exception_rule(line, Stage::FromGateway, own.clone()))
            .collect()
    }

    /// The rule of an exception in one list; `None` where it has nothing to say there.
    fn exception_rule(
        &mut self,
        line: &Line,
        stage: Stage,
        enters: IntervalSet<Leg>,
    ) -> Option<Rule> {
        let plan = self.plan;
        let exception = plan.exception(line.exception);
        let full = AddressSet::full();
        let (source, destination) = match stage {
            Stage::ToGateway => (&exception.from.addresses, &full),
            Stage::FromGateway => (&full, &exception.to.addresses),
            Stage::Opening | Stage::Through => (&exception.from.addresses, &exception.to.addresses),
        };
        let mut service = families(&exception.service.set, source, destination);
        if exception.translated {
            let inside = enters.first().is_some_and(|leg| plan.is_translated(leg));
            let other = if inside { &mut service.v6 } else { &mut service.v4 };
            *other = IntervalSet::empty();
        }
        let minutes = exception.minutes();
        let product = order::product(line, enters, source, destination, &service, minutes);
        let packets = PacketSet::from(&product);
        let elsewhere = line.part.is_some()
            && match stage {
                Stage::ToGateway => packets.is_disjoint(&self.gateway),
                _ => packets.is_subset(&self.gateway),
            };
        if packets.is_empty() || elsewhere {
            return None;
        }
        let mut id = exception_id(exception, stage);
        if line.part.is_some() {
            id.push_str("@log");
        }
        let words = self.exception_words(exception, stage);
        let (action, log) = (exception.action, exception.log);
        let cause = match exception.inbound {
            Some(_) => Cause::Offered(line.exception),
            None => Cause::Exception(line.exception),
        };
        let mut rule = self.rule(id, action, log, cause, words, Some(product));
        rule.name = format!(
            "{} {} from {} to {}",
            action.word(),
            exception.service.text,
            exception.from.text,
            exception.to.text
        );
        rule.reason.clone_from(&exception.why);
        rule.hours = exception.hours.as_ref().map(|hours| hours.name.to_string());
        rule.limit_mbps = exception.limit_mbps;
        Some(rule)
    }

    fn exception_words(&self, exception: &Exception, stage: Stage) -> Words {
        let (from, to) = (&exception.from, &exception.to);
        let from_zone = match stage {
            Stage::FromGateway => "gateway".to_owned(),
            _ => self.zone_words(&from.addresses),
        };
        let to_zone = match stage {
            Stage::ToGateway => "gateway".to_owned(),
            _ => self.zone_words(&to.addresses),
        };
        Words::new(&from_zone, &from.text, &to_zone, &to.text, &exception.service.text)
    }

    /// The zones in which some of these addresses lie.
    fn zone_words(&self, addresses: &AddressSet) -> String {
        let touched = self.zones.iter().filter(|(_, zone)| !zone.is_disjoint(addresses));
        let touched: Vec<&str> =
            touched.map(|(zone, _)| self.plan.zone(*zone).name.as_str()).collect();
        if touched.len() == self.zones.len() && self.zones.len() > 1 {
            return "any".to_owned();
        }
        touched.join(" + ")
    }

    fn closing(&mut self, stage: Stage, action: Action, product: Match) -> Rule {
        let log = self.plan.matrix().unmatched().log;
        let to = if stage == Stage::ToGateway { "gateway" } else { "any" };
        let words = Words::new("any", "any", to, "any", "any");
        let id = format!("unmatched@{}", stage.word());
        let mut rule = self.rule(id, action, log, Cause::Unmatched, words, Some(product));
        rule.name = format!("{} the rest", action.word());
        rule.reason = "What nobody spoke of does not pass".to_owned();
        rule
    }

    fn rule(
        &mut self,
        id: String,
        action: Action,
        log: bool,
        cause: Cause,
        words: Words,
        matches: Option<Match>,
    ) -> Rule {
        let number = self.next;
        self.next += 10;
        // Several parts of one exception are told apart by a number.
        let count = self.used.entry(id.clone()).or_default();
        *count += 1;
        let id = if *count > 1 { format!("{id}@{count}") } else { id };
        let ports = matches.as_ref().map(|m| m.service.words()).unwrap_or_default();
        let Words { from, source, to, destination, service } = words;
        let (name, reason) = (id.clone(), String::new());
        Rule {
            number,
            id,
            name,
            reason,
            from,
            source,
            to,
            destination,
            service,
            ports,
            action,
            log,
            hours: None,
            limit_mbps: None,
            cause,
            matches,
        }
    }
}

/// The services of a rule, in the families that its addresses have.
fn families(service: &ServiceSet, source: &AddressSet, destination: &AddressSet) -> ServiceSet {
    service.for_families_of(source).for_families_of(destination)
}

fn exception_id(exception: &Exception, stage: Stage) -> String {
    let name = &exception.name;
    if exception.inbound.is_some() {
        return format!("offered.{name}");
    }
    let several = !exception.from.addresses.is_empty() && !exception.to.addresses.is_empty();
    match stage {
        Stage::ToGateway if several => format!("exception.{name}@{}>gateway", exception.from.text),
        Stage::FromGateway if several || exception.to.gateway => {
            format!("exception.{name}@gateway>{}", exception.to.text)
        }
        _ => format!("exception.{name}"),
    }
}

/// By which legs a zone's packets come, and from which sources where a router on the leg leads to
/// several zones: first what lies in the networks, then what is behind routers.
fn entries(plan: &Plan, zone: ZoneId) -> Vec<(IntervalSet<Leg>, AddressSet)> {
    if zone == plan.internet() {
        return vec![(plan.uplink_legs(), AddressSet::full())];
    }
    let mut whole = IntervalSet::empty();
    let mut parts = Vec::new();
    for id in plan.network_ids() {
        let leg = IntervalSet::point(plan.network_leg(id));
        let own = plan.network(id).zone == zone;
        let behind: Vec<_> = plan.routes().iter().filter(|route| route.network == id).collect();
        let (alike, others): (Vec<_>, Vec<_>) =
            behind.into_iter().partition(|route| route.zone == zone);
        let reach = |routes: Vec<&Route>| routes.iter().map(|r| r.reach.clone()).collect();
        match (own, others.is_empty()) {
            (true, true) => whole = whole.union(&leg),
            (true, false) => {
                let others: AddressSet = reach(others);
                parts.push((leg, others.complement()));
            }
            (false, _) if !alike.is_empty() => parts.push((leg, reach(alike))),
            (false, _) => {}
        }
    }
    let whole = Some((whole, AddressSet::full())).filter(|(legs, _)| !legs.is_empty());
    whole.into_iter().chain(parts).collect()
}

/// Whether any packet can go from one zone to the other at all.
fn something_passes(plan: &Plan, from: ZoneId, to: ZoneId) -> bool {
    let internet = plan.internet();
    let to_private = |zone| {
        let private = frame::forged_to_private(plan).destination;
        plan.zone_addresses(zone).is_subset(&private)
    };
    let anyone = |zone| !plan.zone_prefixes(zone).is_empty();
    // Within a zone: from one network to another, between clients of a tunnel, or round a router.
    let several = |zone| {
        let tunnels = plan.networks_of(zone).filter(|id| plan.network(*id).tunnel.is_some());
        let routes = plan.routes().iter().filter(|route| route.zone == zone);
        plan.networks_of(zone).count() + tunnels.count() + routes.count() > 1
    };
    // What is offered can come any way, and at hours when nothing lets it in the cell decides.
    let offered = plan.inbounds().iter().any(|inbound| {
        let permission = plan.exception(inbound.exception);
        let target = inbound.target.is_some_and(|target| plan.zone_addresses(to).contains(target));
        let at_times = permission.hours.is_some() && target;
        at_times && !permission.from.addresses.is_disjoint(&plan.zone_addresses(from))
    });
    if offered {
        return true;
    }
    match (from == internet, to == internet) {
        (true, true) => !plan.uplinks().is_empty(),
        (true, false) => !plan.uplinks().is_empty() && !to_private(to),
        (false, true) => !plan.uplinks().is_empty() && anyone(from),
        (false, false) if from == to => several(from),
        (false, false) => anyone(from) && anyone(to),
    }
}
